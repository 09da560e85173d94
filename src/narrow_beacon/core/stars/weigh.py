"""How high the peaks of stars are: a filter on the pixels themselves about each candidate."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints, Plane
from narrow_beacon.core.prefetch import fetch_ahead
from narrow_beacon.core.stars.background import Background, level_at


def weighed_peaks(
    pixels: Plane, background: Background, found: Ints, sigma: float
) -> tuple[Ints, Floats]:
    """The peaks (column, row) near some candidates, each once, and their heights, by a filter on
    the pixels themselves: between pixels, where the star stands.
    """
    reach = int(np.ceil(2.5 * sigma))
    taps = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2).astype(np.float32)
    peaks = np.empty((len(found), 2), np.int32)
    heights = np.empty(len(found))
    _weigh(pixels, background.sky_adu, background.mesh_px, found, taps, peaks, heights)
    _, once = np.unique(peaks[:, 1].astype(np.int64) * pixels.shape[1] + peaks[:, 0], True)
    once = once[heights[once] > 0.0]
    return peaks[once], heights[once] / float(np.sum(taps.astype(float) ** 2)) ** 2


@njit(cache=True, nogil=True, fastmath=True)
def _weigh(pixels, sky, mesh_px, found, taps, peaks, heights):  # type: ignore[no-untyped-def]
    """Filter the five by five pixels about each candidate, climb to their maximum, and fill in
    where it is and how high it is between the pixels; nothing where it is at the image's edge.
    """
    height, width = pixels.shape
    reach = taps.size // 2
    total = 0.0
    for k in range(taps.size):
        total += taps[k]
    gain = total * total
    up = np.empty((5, 2 * reach + 5), np.float32)
    block = np.empty((5, 5))
    for n in range(found.shape[0]):
        x, y = found[n, 0], found[n, 1]
        if n + 1 < found.shape[0]:
            fetch_ahead(pixels, found[n + 1, 0], found[n + 1, 1], reach + 2)
        heights[n] = 0.0
        peaks[n, 0], peaks[n, 1] = x, y
        for _ in range(4):
            left, low = x - 2 - reach, y - reach - 2
            if left >= 0 and low >= 0 and x + 2 + reach < width and y + 2 + reach < height:
                _filter_up(pixels, left, low, taps, up)
            else:
                _filter_up_at_edge(pixels, left, low, taps, up)
            best = -1e30
            bi = bj = 2
            for j in range(5):
                s0 = s1 = s2 = s3 = s4 = 0.0
                row = up[j]
                for k in range(taps.size):
                    t = taps[k]
                    s0 += t * row[k]
                    s1 += t * row[k + 1]
                    s2 += t * row[k + 2]
                    s3 += t * row[k + 3]
                    s4 += t * row[k + 4]
                block[j, 0], block[j, 1], block[j, 2], block[j, 3], block[j, 4] = s0, s1, s2, s3, s4
                for i in range(5):
                    if block[j, i] > best:
                        best, bi, bj = block[j, i], i, j
            inside = 0 < bi < 4 and 0 < bj < 4
            x, y = x + bi - 2, y + bj - 2
            if inside or x < 1 or y < 1 or x > width - 2 or y > height - 2:
                break
        if not inside or x < 1 or y < 1 or x > width - 2 or y > height - 2:
            continue
        # A parabola through the maximum and its neighbours along either axis.
        value = best
        for before, after in (
            (block[bj, bi - 1], block[bj, bi + 1]), (block[bj - 1, bi], block[bj + 1, bi])
        ):  # fmt: skip
            bend = before + after - 2.0 * best
            if bend < 0.0:
                value -= (after - before) ** 2 / (8.0 * bend)
        peaks[n, 0], peaks[n, 1] = x, y
        heights[n] = value - gain * level_at(sky, x, y, mesh_px)


@njit(cache=True, nogil=True, fastmath=True)
def _filter_up(pixels, left, low, taps, up):  # type: ignore[no-untyped-def]
    """Pixels from column ``left`` on filtered along the columns, in five rows that follow each
    other, all of what they need on the image; rows side by side keep the processor busy.
    """
    # Without views of rows, whose owners would be counted in and out for each, and without a sign,
    # for which the compiler would ask whether a place counts from the end.
    first, bottom, wide = np.uint64(left), np.uint64(low), np.uint64(up.shape[1])
    for j in range(np.uint64(5)):
        for x in range(wide):
            up[j, x] = taps[0] * pixels[bottom + j, first + x]
        for k in range(np.uint64(1), np.uint64(taps.size)):
            for x in range(wide):
                up[j, x] += taps[k] * pixels[bottom + j + k, first + x]


@njit(cache=True, nogil=True)
def _filter_up_at_edge(pixels, left, low, taps, up):  # type: ignore[no-untyped-def]
    """The same where some are beyond the image, whose edge repeats."""
    height, width = pixels.shape
    for j in range(5):
        for i in range(up.shape[1]):
            total = np.float32(0.0)
            for k in range(taps.size):
                row = min(max(low + j + k, 0), height - 1)
                total += taps[k] * pixels[row, min(max(left + i, 0), width - 1)]
            up[j, i] = total
