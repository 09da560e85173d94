"""Aperture sums at many radii at once, with the sky from a ring around each star."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from narrow_beacon.core.arrays import Flags, Floats, Plane
from narrow_beacon.core.correct.apply import DEFECT, SATURATED, SPIKE
from narrow_beacon.core.measure.overlap import cut_sum, pixel_overlap


@dataclass(frozen=True)
class ApertureSums:
    """Measurements of stars on one image; sums over the aperture have the sky taken off.

    counts_adu (stars, radii); sky_adu_per_px, sky_scatter_adu, ring_pixels, peak_adu (stars);
    near_px (stars, 4): the radius at which an aperture first meets a saturated pixel, a repaired
    one, a spike, the edge of the image.
    """

    counts_adu: Floats
    sky_adu_per_px: Floats
    sky_scatter_adu: Floats
    ring_pixels: Floats
    peak_adu: Floats
    near_px: Floats


def measure_apertures(
    pixels: Plane,
    flags: Flags,
    masked: Flags,
    x_px: Floats,
    y_px: Floats,
    radii_px: Floats,
    annulus_px: tuple[float, float],
    sky_guess_adu: Floats,
    noise_guess_adu: Floats,
) -> ApertureSums:
    """Measure stars at 0-based positions on an image (height, width).

    ``radii_px`` ascend; ``masked`` marks what is no sky (``mask_stars``). The sky is the
    mean of the ring's pixels within three times the scatter about their median, the scatter being
    that of the lower half. ``sky_guess_adu`` and ``noise_guess_adu`` (stars) only speed the search
    for the median.
    """
    n, m = x_px.size, radii_px.size
    # Neighbours on the image one after the other: their pixels are still in the cache.
    order = np.argsort(y_px, kind="stable")
    counts, near = np.empty((n, m)), np.empty((n, 4))
    sky, scatter, ring, peak = (np.empty(n) for _ in range(4))
    _measure(
        pixels, flags, masked, x_px[order], y_px[order], np.asarray(radii_px, float),
        float(annulus_px[0]), float(annulus_px[1]), sky_guess_adu[order], noise_guess_adu[order],
        counts, sky, scatter, ring, peak, near,
    )  # fmt: skip
    back = np.argsort(order, kind="stable")
    return ApertureSums(*(values[back] for values in (counts, sky, scatter, ring, peak, near)))


def mask_stars(flags: Flags, masked: Flags, x_px: Floats, y_px: Floats, radius_px: Floats) -> None:
    """Mark in ``masked`` what is no sky: flagged pixels, and those within a radius of each star."""
    np.copyto(masked, flags)
    _paint(masked, x_px, y_px, radius_px)


@njit(cache=True, nogil=True)
def _paint(masked, x_px, y_px, radius_px):  # type: ignore[no-untyped-def]
    height, width = masked.shape
    for n in range(x_px.size):
        r = radius_px[n]
        for y in range(max(0, int(y_px[n] - r)), min(height, int(y_px[n] + r) + 2)):
            dy2 = (y - y_px[n]) ** 2
            for x in range(max(0, int(x_px[n] - r)), min(width, int(x_px[n] + r) + 2)):
                if dy2 + (x - x_px[n]) ** 2 <= r * r:
                    masked[y, x] = 1


@njit(cache=True, nogil=True)
def _select(values, count, k):  # type: ignore[no-untyped-def]
    """The k-th smallest of the first ``count`` values, which are reordered."""
    low, high = 0, count - 1
    while low < high:
        pivot = values[(low + high) // 2]
        i, j = low, high
        while i <= j:
            while values[i] < pivot:
                i += 1
            while values[j] > pivot:
                j -= 1
            if i <= j:
                values[i], values[j] = values[j], values[i]
                i += 1
                j -= 1
        if k <= j:
            high = j
        elif k >= i:
            low = i
        else:
            break
    return values[k]


@njit(cache=True, nogil=True, fastmath=True)
def _count_below(values, limit):  # type: ignore[no-untyped-def]
    count = np.int32(0)
    for i in range(values.size):
        count += np.int32(1) if values[i] < limit else np.int32(0)
    return count


@njit(cache=True, nogil=True)
def _median(values, count, guess, noise):  # type: ignore[no-untyped-def]
    """The median to a hundredth of the noise by halving a bracket, or exactly where the guess is
    far off. It only centres the clipping, whose mean is the sky, so that this is close enough.
    """
    used = values[:count]
    low, high = np.float32(guess - 4.0 * noise), np.float32(guess + 4.0 * noise)
    half = count // 2
    if _count_below(used, low) > half or _count_below(used, high) <= half:
        return _select(values, count, half)
    for _ in range(10):
        middle = np.float32(0.5) * (low + high)
        if _count_below(used, middle) > half:
            high = middle
        else:
            low = middle
    return np.float32(0.5) * (low + high)


@njit(cache=True, nogil=True, fastmath=True)
def _ring_sky(values, count, guess, noise):  # type: ignore[no-untyped-def]
    """Mean, scatter and number of the values within 3 σ of the median; σ from the lower half."""
    median = _median(values, count, guess, noise)
    total = 0.0
    below = 0
    centre = np.float32(median)
    for i in range(count):
        d = min(values[i] - centre, np.float32(0.0))
        total += d * d
        below += 1 if d < 0.0 else 0
    sigma = np.sqrt(total / below) if below else 0.0
    limit = np.float32(3.0 * max(sigma, 1e-6))
    total = 0.0
    squares = 0.0
    kept = 0
    for i in range(count):
        d = values[i] - centre
        inside = np.float32(1.0) if abs(d) <= limit else np.float32(0.0)
        total += d * inside
        squares += d * d * inside
        kept += int(inside)
    if kept == 0:
        return np.float64(_select(values, count, count // 2)), sigma, count
    mean = total / kept
    return median + mean, np.sqrt(max(squares / kept - mean * mean, 0.0)), kept


@njit(cache=True, nogil=True)
def _gather_ring(pixels, masked, xc, yc, inner, outer, values):  # type: ignore[no-untyped-def]
    """Good pixels of the ring into ``values``; returns how many."""
    height, width = pixels.shape
    count = 0
    for y in range(max(0, int(np.ceil(yc - outer))), min(height, int(yc + outer) + 1)):
        dy2 = (y - yc) ** 2
        far = np.sqrt(max(outer * outer - dy2, 0.0))
        hole = np.sqrt(inner * inner - dy2) if dy2 < inner * inner else 0.0
        first, last = max(0, int(np.ceil(xc - far))), min(width, int(xc + far) + 1)
        left = min(last, max(first, int(np.ceil(xc - hole))))
        right = max(left, min(last, int(np.ceil(xc + hole))))
        for x in range(first, left):
            values[count] = pixels[y, x]
            count += 1 if masked[y, x] == 0 else 0
        for x in range(right, last):
            values[count] = pixels[y, x]
            count += 1 if masked[y, x] == 0 else 0
    return count


@njit(cache=True, nogil=True)
def _note_flag(near, n, flag, dx, dy):  # type: ignore[no-untyped-def]
    gap = np.hypot(max(abs(dx) - 0.5, 0.0), max(abs(dy) - 0.5, 0.0))
    if flag & SATURATED:
        near[n, 0] = min(near[n, 0], gap)
    if flag & DEFECT:
        near[n, 1] = min(near[n, 1], gap)
    if flag & SPIKE:
        near[n, 2] = min(near[n, 2], gap)


@njit(cache=True, nogil=True)
def _measure(  # type: ignore[no-untyped-def]
    pixels, flags, masked, xs, ys, radii, inner, outer, guesses, noises,
    counts, skies, scatters, rings, peaks, near,
):  # fmt: skip
    height, width = pixels.shape
    largest = radii[radii.size - 1]
    values = np.empty(int(np.pi * (outer + 1.5) ** 2) + 16, np.float32)
    side = int(2 * largest) + 4
    # Sums along the rows give what lies wholly inside a circle by one difference a row.
    along = np.empty((side, side + 1))
    # Pixels that a circle cuts: their corners and values, worked off together.
    cuts = np.empty((5, side * side + 4 * side))
    for n in range(xs.size):
        xc, yc = xs[n], ys[n]
        count = _gather_ring(pixels, masked, xc, yc, inner, outer, values)
        if count >= 8:
            sky, scatter, kept = _ring_sky(values, count, guesses[n], max(noises[n], 1e-3))
        else:
            sky, scatter, kept = np.nan, np.nan, count
        skies[n], scatters[n], rings[n] = sky, scatter, kept
        near[n, 0] = near[n, 1] = near[n, 2] = np.inf
        near[n, 3] = min(min(xc + 0.5, width - 0.5 - xc), min(yc + 0.5, height - 0.5 - yc))
        left = max(0, int(np.ceil(xc - largest - 0.5)))
        right = min(width, int(xc + largest + 0.5) + 1)
        low = max(0, int(np.ceil(yc - largest - 0.5)))
        high = min(height, int(yc + largest + 0.5) + 1)
        peak = np.float32(-np.inf)
        for y in range(low, high):
            line, marks = along[y - low], flags[y]
            row = pixels[y]
            line[0] = 0.0
            total = 0.0
            for x in range(left, right):
                total += row[x] - sky
                line[x - left + 1] = total
            marked = np.uint8(0)
            for x in range(left, right):
                marked |= marks[x]
            if marked:
                for x in range(left, right):
                    if marks[x]:
                        _note_flag(near, n, marks[x], x - xc, y - yc)
            room = largest * largest - (y - yc) ** 2
            if room >= 0.0:
                half = np.sqrt(room)
                for x in range(max(left, int(np.ceil(xc - half))), min(right, int(xc + half) + 1)):
                    peak = max(peak, row[x])
        peaks[n] = peak
        for k in range(radii.size):
            counts[n, k] = _circle_sum(along, left, right, low, high, xc, yc, radii[k], cuts)


@njit(cache=True, nogil=True, inline="always")
def _push(cuts, at, x0, y0, x1, y1, value):  # type: ignore[no-untyped-def]
    cuts[0, at], cuts[1, at], cuts[2, at], cuts[3, at], cuts[4, at] = x0, y0, x1, y1, value
    return at + 1


@njit(cache=True, nogil=True)
def _circle_sum(along, left, right, low, high, xc, yc, radius, cuts):  # type: ignore[no-untyped-def]
    """Sum over a circle of a patch given by its running sums along rows."""
    r2 = radius * radius
    total = 0.0
    cut = 0
    for y in range(
        max(low, int(np.ceil(yc - radius - 0.5))), min(high, int(yc + radius + 0.5) + 1)
    ):
        dy = y - yc
        y0 = abs(dy) - 0.5
        j = y - low
        out = np.sqrt(max(r2 - max(y0, 0.0) ** 2, 0.0)) + 0.5
        a, d = max(left, int(np.ceil(xc - out))), min(right, int(xc + out) + 1)
        room = r2 - (y0 + 1.0) ** 2
        b = c = d
        if room > 0.25:
            within = np.sqrt(room) - 0.5
            b = min(d, max(a, int(np.ceil(xc - within))))
            c = max(b, min(d, int(np.floor(xc + within)) + 1))
            total += along[j, c - left] - along[j, b - left]
        for first, last in ((a, b), (c, d)):
            for x in range(first, last):
                x0 = abs(x - xc) - 0.5
                v = along[j, x - left + 1] - along[j, x - left]
                if radius < 1.5:
                    total += v * pixel_overlap(x - xc, dy, radius)
                    continue
                # A pixel across an axis falls into the quadrants on either side.
                cut = _push(cuts, cut, max(x0, 0.0), max(y0, 0.0), x0 + 1.0, y0 + 1.0, v)
                if x0 < 0.0:
                    cut = _push(cuts, cut, 0.0, max(y0, 0.0), -x0, y0 + 1.0, v)
                if y0 < 0.0:
                    cut = _push(cuts, cut, max(x0, 0.0), 0.0, x0 + 1.0, -y0, v)
                    if x0 < 0.0:
                        cut = _push(cuts, cut, 0.0, 0.0, -x0, -y0, v)
    return total + cut_sum(cuts, cut, radius)
