"""Local maxima of an image filtered with the star width: the quick search that proposes stars.

The filter, the threshold and the search for maxima run in one pass over rows that stay in cache.
"""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints, Plane
from narrow_beacon.core.frames.pyramid import halve
from narrow_beacon.core.stars.background import Background, level_at

_MOST_PEAKS = 20000
_SCAN = 32
_HALVED_FWHM_PX = 2.6


def filtered_peaks(
    pixels: Plane, background: Background, fwhm_px: float, threshold: float
) -> tuple[Ints, Floats, Plane]:
    """Peaks (column, row), the height of a star that would give each, and means of 8 × 8 blocks.

    Stars wider than ``_HALVED_FWHM_PX`` are sought on an image of half the size, which loses
    next to nothing of them and costs a quarter.
    """
    height, width = pixels.shape
    step = 2 if fwhm_px >= _HALVED_FWHM_PX and min(pixels.shape) >= 64 else 1
    image = halve(pixels) if step == 2 else pixels
    # Averaging 2 × 2 pixels widens the stars a little before the pixels double in size.
    taps = _taps(float(np.hypot(fwhm_px, 1.2)) / 2 if step == 2 else fwhm_px)
    norm_1d = float(taps[0] ** 2 + 2 * np.sum(taps[1:] ** 2))
    peaks = np.empty((_MOST_PEAKS, 2), np.int32)
    heights = np.empty(_MOST_PEAKS, np.float32)
    blocks = np.empty((height // 8, width // 8), np.float32)
    count, limit = _MOST_PEAKS, threshold
    while True:
        count = _find_peaks(
            image, background.sky_adu, background.noise_adu / np.float32(step),
            background.mesh_px // step, taps, np.float32(limit * norm_1d), peaks, heights,
            blocks, 8 // step,
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
def _find_peaks(pixels, sky, noise, mesh_px, taps, threshold, peaks, heights, blocks, side):  # type: ignore[no-untyped-def]
    """Local maxima of the filtered image; also the means of blocks of ``side`` × ``side`` pixels.

    The sky is not taken off before filtering but after, where something is bright: the filter
    turns a level into the level times the square of the taps' sum.
    """
    height, width = pixels.shape
    reach = taps.size - 1
    span = 2 * reach + 1
    total = taps[0]
    for k in range(1, reach + 1):
        total += 2.0 * taps[k]
    gain = total * total
    padded = np.empty(width + 2 * reach, np.float32)
    across = np.empty((span, width), np.float32)
    filtered = np.empty((3, width), np.float32)
    sums = np.zeros(side * blocks.shape[1], np.float32)
    count = 0
    most = heights.size
    for y in range(height + reach + 1):
        if y < height:
            row = pixels[y]
            padded[:reach] = row[0]
            padded[reach : reach + width] = row
            padded[reach + width :] = row[width - 1]
            _convolve_row(padded, taps, across[y % span])
            _gather_blocks(padded[reach:], y, side, sums, blocks)
        yc = y - reach
        if 0 <= yc < height:
            _convolve_column(across, yc, height, taps, filtered[yc % 3])
        ym = yc - 1
        if ym < 1 or ym >= height - 1:
            continue
        here = filtered[ym % 3]
        above = filtered[(ym + 1) % 3]
        below = filtered[(ym - 1) % 3]
        noise_row = noise[min(ym // mesh_px, noise.shape[0] - 1)]
        right = level_at(sky, 1, ym, mesh_px) * gain
        for x0 in range(1, width - 1, _SCAN):
            x1 = min(x0 + _SCAN, width - 1)
            left = right
            right = level_at(sky, x1, ym, mesh_px) * gain
            # Most stretches hold nothing bright; one vectorised count passes over them.
            limit = threshold * noise_row[min(x0 // mesh_px, noise.shape[1] - 1)]
            least = np.float32(limit + min(left, right))
            piece = here[x0:x1]
            bright = np.int32(0)
            for x in range(piece.size):
                bright += np.int32(1) if piece[x] > least else np.int32(0)
            if bright == 0:
                continue
            slope = (right - left) / (x1 - x0)
            for x in range(x0, x1):
                v = here[x]
                if v <= least:
                    continue
                if (
                    count < most
                    and v > here[x - 1] and v >= here[x + 1]
                    and v > below[x - 1] and v > below[x] and v > below[x + 1]
                    and v >= above[x - 1] and v >= above[x] and v >= above[x + 1]
                    and v - left - slope * (x - x0) > limit
                ):  # fmt: skip
                    peaks[count, 0] = x
                    peaks[count, 1] = ym
                    heights[count] = v - left - slope * (x - x0)
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
        out = blocks[y // side]
        for i in range(out.size):
            total = np.float32(0.0)
            for x in range(side * i, side * (i + 1)):
                total += sums[x]
            out[i] = total / np.float32(side * side)
        sums[:] = 0.0
