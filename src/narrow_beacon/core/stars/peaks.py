"""Local maxima of an image filtered with the star width: the quick search that proposes stars.

The filter, the threshold and the search for maxima run in one pass over rows that stay in cache.
"""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints, Plane
from narrow_beacon.core.frames.pyramid import halve_rows
from narrow_beacon.core.stars.background import Background

_MOST_PEAKS = 20000
_SCAN = 32
_HALVED_FWHM_PX = 2.6
_NOTHING = np.float32(-1e30)


def filtered_peaks(
    pixels: Plane, background: Background, fwhm_px: float, threshold: float
) -> tuple[Ints, Floats, Plane]:
    """Peaks (column, row), the height of a star that would give each, and means of 8 × 8 blocks.

    Stars wider than ``_HALVED_FWHM_PX`` are sought on an image of half the size, which loses
    next to nothing of them and costs a quarter.
    """
    height, width = pixels.shape
    step = 2 if fwhm_px >= _HALVED_FWHM_PX and min(pixels.shape) >= 64 else 1
    # Averaging 2 × 2 pixels widens the stars a little before the pixels double in size.
    taps = _taps(float(np.hypot(fwhm_px, 1.2)) / 2 if step == 2 else fwhm_px)
    norm_1d = float(taps[0] ** 2 + 2 * np.sum(taps[1:] ** 2))
    peaks = np.empty((_MOST_PEAKS, 2), np.int32)
    heights = np.empty(_MOST_PEAKS, np.float32)
    blocks = np.empty((height // 8, width // 8), np.float32)
    count, limit = _MOST_PEAKS, threshold
    while True:
        count = _find_peaks(
            pixels, step, background.sky_adu, background.noise_adu / np.float32(step),
            background.mesh_px // step, taps, np.float32(limit * norm_1d), peaks, heights, blocks,
        )  # fmt: skip
        if count < _MOST_PEAKS:
            break
        limit *= 1.5  # too many to keep: the brighter ones of all of the image
    amplitude = heights[:count].astype(float) / norm_1d**2
    return peaks[:count] * step + (step - 1), amplitude, blocks


def _taps(fwhm_px: float) -> Plane:
    """One side of the separable Gaussian filter for a star width: the centre, then the side taps,
    filled up with a zero to an even number.
    """
    sigma = max(fwhm_px, 1.5) / 2.3548
    reach = max(2, min(15, int(np.ceil(2.5 * sigma))))
    taps = np.zeros(2 * ((reach + 1) // 2) + 1, np.float32)
    taps[: reach + 1] = np.exp(-0.5 * (np.arange(reach + 1) / sigma) ** 2)
    return taps


@njit(cache=True, nogil=True, fastmath=True)
def _find_peaks(pixels, step, sky, noise, mesh_px, taps, threshold, peaks, heights, blocks):  # type: ignore[no-untyped-def]
    """Local maxima of the filtered image, of half the size where ``step`` is 2; also the means of
    blocks of 8 × 8 pixels.

    The sky is not taken off before filtering but after, where something is bright: the filter
    turns a level into the level times the square of the taps' sum.
    """
    height, width = pixels.shape[0] // step, pixels.shape[1] // step
    side = 8 // step
    reach = taps.size - 1
    span = 2 * reach + 1
    total = taps[0]
    for k in range(1, reach + 1):
        total += 2.0 * taps[k]
    gain = total * total
    padded = np.empty(width + 2 * reach, np.float32)
    across = np.empty((span, width), np.float32)
    filtered = np.full((3, width + _SCAN), _NOTHING)
    sums = np.zeros(side * blocks.shape[1], np.float32)
    cells = np.minimum(np.arange(1, width - 1, _SCAN) // mesh_px, noise.shape[1] - 1)
    levels = np.empty(cells.size + 1)
    count = 0
    for y in range(height + reach + 1):
        if y < height:
            row = padded[reach : reach + width]
            if step == 2:
                halve_rows(pixels[2 * y], pixels[2 * y + 1], row)
            else:
                for x in range(width):
                    row[x] = pixels[y, x]
            padded[:reach] = row[0]
            padded[reach + width :] = row[width - 1]
            _convolve_row(padded, taps, across[y % span])
            _gather_blocks(row, y, side, sums, blocks)
        yc = y - reach
        if 0 <= yc < height:
            _convolve_column(across, yc, height, taps, filtered[yc % 3, :width])
        ym = yc - 1
        if ym < 1 or ym >= height - 1:
            continue
        here = filtered[ym % 3]
        above = filtered[(ym + 1) % 3]
        below = filtered[(ym - 1) % 3]
        noise_row = noise[min(ym // mesh_px, noise.shape[0] - 1)]
        _levels_of_row(sky, ym, mesh_px, gain, levels)
        for n in range(cells.size):
            left, right = levels[n], levels[n + 1]
            limit = threshold * noise_row[cells[n]]
            least = np.float32(limit + min(left, right))
            x0 = n * _SCAN + 1
            if not _any_peak(here, above, below, x0, least):
                continue
            slope = (right - left) / _SCAN
            x1 = min(x0 + _SCAN, width - 1)
            count = _note_peaks(
                here, above, below, x0, x1, ym, left, slope, limit, least, peaks, heights, count
            )
    return count


@njit(cache=True, nogil=True, fastmath=True)
def _levels_of_row(nodes, y, mesh_px, gain, levels):  # type: ignore[no-untyped-def]
    """The filtered sky of a row at the ends of its stretches: bilinear between the mesh's nodes."""
    rows, columns = nodes.shape
    v = min(max((y + 0.5) / mesh_px - 0.5, 0.0), rows - 1.0)
    low, high = nodes[int(v)], nodes[min(int(v) + 1, rows - 1)]
    v -= int(v)
    per_px = 1.0 / mesh_px
    for n in range(levels.size):
        u = min(max((n * _SCAN + 1.5) * per_px - 0.5, 0.0), columns - 1.0)
        i = int(u)
        ii = min(i + 1, columns - 1)
        here, there = low[i] + v * (high[i] - low[i]), low[ii] + v * (high[ii] - low[ii])
        levels[n] = gain * (here + (u - i) * (there - here))


@njit(cache=True, nogil=True, fastmath=True)
def _any_peak(here, above, below, x0, least):  # type: ignore[no-untyped-def]
    """Whether a pixel of the ``_SCAN`` from ``x0`` on is bright and none beside it is brighter.

    Without a branch for each, and with a fixed number of them: so the compiler works on several at
    once, and most stretches are passed over in a moment.
    """
    one, first = np.uint64(1), np.uint64(x0)
    peaks = np.int32(0)
    for n in range(np.uint64(_SCAN)):
        x = first + n
        beside = max(max(here[x - one], here[x + one]), max(below[x], above[x]))
        peaks += np.int32(1) if here[x] >= max(beside, least) else np.int32(0)
    return peaks > 0


@njit(cache=True, nogil=True, fastmath=True)
def _note_peaks(here, above, below, x0, x1, y, sky, slope, limit, least, peaks, heights, count):  # type: ignore[no-untyped-def]
    """The maxima of a stretch, as long as there is room for them; how many there are then."""
    for x in range(x0, x1):
        v = here[x]
        if v <= least:
            continue
        over = v - sky - slope * (x - x0)
        if (
            count < heights.size
            and v > here[x - 1] and v >= here[x + 1]
            and v > below[x - 1] and v > below[x] and v > below[x + 1]
            and v >= above[x - 1] and v >= above[x] and v >= above[x + 1]
            and over > limit
        ):  # fmt: skip
            peaks[count, 0] = x
            peaks[count, 1] = y
            heights[count] = over
            count += 1
    return count


@njit(cache=True, nogil=True, fastmath=True)
def _convolve_row(padded, taps, out):  # type: ignore[no-untyped-def]
    """Filter along a row that has a margin of as many pixels as there are side taps.

    Two pairs of taps a pass: more arrays than that and the compiler no longer vectorises.
    """
    reach = taps.size - 1
    width = out.size
    middle = padded[reach : reach + width]
    for x in range(width):
        out[x] = taps[0] * middle[x]
    for k in range(1, reach + 1, 2):
        t1, t2 = taps[k], taps[k + 1]
        l1, r1 = padded[reach - k :], padded[reach + k :]
        l2, r2 = padded[reach - k - 1 :], padded[reach + k + 1 :]
        for x in range(width):
            out[x] += t1 * (l1[x] + r1[x]) + t2 * (l2[x] + r2[x])


@njit(cache=True, nogil=True, fastmath=True)
def _convolve_column(ring, y, height, taps, out):  # type: ignore[no-untyped-def]
    """Filter across rows kept in a ring of rows, about image row ``y``; edge rows repeat."""
    reach = taps.size - 1
    span = ring.shape[0]
    width = out.size
    middle = ring[y % span]
    for x in range(width):
        out[x] = taps[0] * middle[x]
    for k in range(1, reach + 1, 2):
        t1, t2 = taps[k], taps[k + 1]
        u1 = ring[min(y + k, height - 1) % span]
        d1 = ring[max(y - k, 0) % span]
        u2 = ring[min(y + k + 1, height - 1) % span]
        d2 = ring[max(y - k - 1, 0) % span]
        for x in range(width):
            out[x] += t1 * (u1[x] + d1[x]) + t2 * (u2[x] + d2[x])


@njit(cache=True, nogil=True, fastmath=True)
def _gather_blocks(row, y, side, sums, blocks):  # type: ignore[no-untyped-def]
    """Add an image row to the column sums; every ``side`` rows they become block means."""
    if y // side >= blocks.shape[0]:
        return
    for x in range(sums.size):
        sums[x] += row[x]
    if y % side == side - 1:
        out, share = blocks[y // side], np.float32(1.0 / (side * side))
        if side == 4:
            for i in range(out.size):
                x = 4 * i
                out[i] = share * ((sums[x] + sums[x + 1]) + (sums[x + 2] + sums[x + 3]))
        else:
            for i in range(out.size):
                out[i] = share * np.sum(sums[side * i : side * (i + 1)])
        sums[:] = 0.0
