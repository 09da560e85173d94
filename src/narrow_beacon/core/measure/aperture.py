"""Aperture sums at many radii at once, with the sky from a ring around each star."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Flags, Floats, Plane
from narrow_beacon.core.correct.apply import DEFECT, SATURATED, SPIKE, SPOILED, STARLIGHT
from narrow_beacon.core.measure.circles import circle_sums, circles_of, cut_areas, highest_value
from narrow_beacon.core.prefetch import fetch_ahead

_DENSEST = 0.35
"""Of normally distributed values, those in an interval of their scatter about the median, a little
less than there are: steps by it don't overshoot."""
_LEAST_STEPS = 0.75
"""The least scatter of a ring in steps of its values."""


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
    x_px: Floats,
    y_px: Floats,
    radii_px: Floats,
    annulus_px: tuple[float, float],
    sky_guess_adu: Floats,
    noise_guess_adu: Floats,
    step_adu: float = 0.0,
) -> ApertureSums:
    """Measure stars at 0-based positions on an image (height, width).

    ``radii_px`` ascend; a ring's sky is of pixels without any of the ``flags`` (height, width), of
    which ``mask_stars`` sets ``STARLIGHT``. The sky is the mean of those within three times the
    scatter about their median, the scatter being that of the lower half, and at least three
    quarters of the ``step_adu`` in which the values come: else all that are not equal to the median
    would be left out. ``sky_guess_adu`` and ``noise_guess_adu`` (stars) only speed the search for
    the median.
    """
    n, m = x_px.size, radii_px.size
    # Neighbours on the image one after the other: their pixels are still in the cache.
    order = np.argsort(y_px, kind="stable")
    counts, near = np.empty((n, m)), np.empty((n, 4))
    sky, scatter, ring, peak = (np.empty(n) for _ in range(4))
    circles = circles_of(radii_px)
    _measure(
        pixels, flags, x_px[order], y_px[order], np.asarray(radii_px, float),
        float(annulus_px[0]), float(annulus_px[1]), sky_guess_adu[order], noise_guess_adu[order],
        circles.half_px, circles.held, circles.held_from, circles.cut, circles.cut_from,
        circles.geometry, _LEAST_STEPS * step_adu, counts, sky, scatter, ring, peak, near,
    )  # fmt: skip
    back = np.argsort(order, kind="stable")
    return ApertureSums(*(values[back] for values in (counts, sky, scatter, ring, peak, near)))


def mask_stars(flags: Flags, x_px: Floats, y_px: Floats, radius_px: Floats) -> None:
    """Set ``STARLIGHT`` within a radius of each star."""
    rows = np.argsort(y_px, kind="stable")
    _paint(flags, x_px[rows], y_px[rows], radius_px[rows])


@njit(cache=True, nogil=True)
def _paint(flags, x_px, y_px, radius_px):  # type: ignore[no-untyped-def]
    height, width = flags.shape
    for n in range(x_px.size):
        r = radius_px[n]
        if n + 1 < x_px.size:
            fetch_ahead(flags, x_px[n + 1], y_px[n + 1], radius_px[n + 1])
        for y in range(max(0, int(np.ceil(y_px[n] - r))), min(height, int(y_px[n] + r) + 1)):
            half = np.sqrt(max(r * r - (y - y_px[n]) ** 2, 0.0))
            first = max(0, int(np.ceil(x_px[n] - half)))
            for x in range(first, min(width, int(np.floor(x_px[n] + half)) + 1)):
                flags[y, x] |= STARLIGHT


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
    """The median to a hundredth of the noise, by steps of as many values as are missing where they
    lie densest, or exactly where the guess is far off. It only centres the clipping, whose mean is
    the sky, so that this is close enough.
    """
    used = values[:count]
    low, high = guess - 4.0 * noise, guess + 4.0 * noise
    half, at = 0.5 * count, float(guess)
    for _ in range(12):
        below = _count_below(used, np.float32(at))
        if below > half:
            high = at
        else:
            low = at
        step = (half - below) / (_DENSEST * count) * noise
        if abs(step) < 0.01 * noise:
            return np.float32(at + step)
        at += step
        if not low < at < high:
            at = 0.5 * (low + high)
    return _select(values, count, count // 2)


@njit(cache=True, nogil=True, fastmath=True)
def _ring_sky(values, count, guess, noise, least):  # type: ignore[no-untyped-def]
    """Mean, scatter and number of the values within 3 σ of the median; σ from the lower half, but
    not less than ``least``.
    """
    centre = np.float32(_median(values, count, guess, noise))
    nothing = np.float32(0.0)
    squares = nothing
    below = np.int32(0)
    for i in range(count):
        d = min(values[i] - centre, nothing)
        squares += d * d
        below += np.int32(1) if d < nothing else np.int32(0)
    sigma = np.sqrt(np.float64(squares) / below) if below else 0.0
    limit = np.float32(3.0 * max(sigma, least, 1e-6))
    total = square = np.float64(0.0)
    kept = np.int32(0)
    for i in range(count):
        d = values[i] - centre
        inside = abs(d) <= limit
        d = d if inside else nothing
        total += d
        square += d * d
        kept += np.int32(1) if inside else np.int32(0)
    if kept == 0:
        return np.float64(_select(values, count, count // 2)), sigma, count
    mean = total / kept
    return centre + mean, np.sqrt(max(square / kept - mean * mean, 0.0)), np.int64(kept)


@njit(cache=True, nogil=True)
def _gather_ring(pixels, flags, xc, yc, inner, outer, values):  # type: ignore[no-untyped-def]
    """Good pixels of the ring into ``values``; returns how many."""
    height, width = pixels.shape
    # Without a sign the compiler needn't ask whether a place counts from the end.
    count, one, none = np.uint64(0), np.uint64(1), np.uint64(0)
    for y in range(max(0, int(np.ceil(yc - outer))), min(height, int(yc + outer) + 1)):
        dy2 = (y - yc) ** 2
        far = np.sqrt(max(outer * outer - dy2, 0.0))
        hole = np.sqrt(inner * inner - dy2) if dy2 < inner * inner else 0.0
        first, last = max(0, int(np.ceil(xc - far))), min(width, int(xc + far) + 1)
        left = min(last, max(first, int(np.ceil(xc - hole))))
        right = max(left, min(last, int(np.ceil(xc + hole))))
        line = np.uint64(y)
        for begin, end in ((first, left), (right, last)):
            for x in range(np.uint64(begin), np.uint64(max(begin, end))):
                values[count] = pixels[line, x]
                count += one if flags[line, x] == 0 else none
    return np.int64(count)


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
def _read_patch(pixels, flags, x0, y0, half, xc, yc, reach, sky, patch, near, n):  # type: ignore[no-untyped-def]
    """Light above the sky about a star into ``patch``, as its mirror image where the star is left
    of or below the middle of its pixel (x0, y0), 0 beyond the image. Notes the flags of what lies
    within ``reach``.
    """
    height, width = pixels.shape
    left, right = max(0, x0 - half), min(width, x0 + half + 1)
    low, high = max(0, y0 - half), min(height, y0 + half + 1)
    side = 2 * half + 1
    if right - left < side or high - low < side:
        patch[:] = 0.0
    if right <= left:
        return
    # Without views of rows, whose owners would be counted in and out for each, and without a sign,
    # for which the compiler would ask whether a place counts from the end.
    begin = np.uint64(left - (x0 - half) if xc >= x0 else x0 + half - (right - 1))
    from_left, size, one = np.uint64(left), np.uint64(right - left), np.uint64(1)
    for y in range(low, high):
        line = np.uint64(y)
        out = np.uint64(y - (y0 - half) if yc >= y0 else y0 + half - y)
        marked = np.uint8(0)
        for i in range(size):
            marked |= flags[line, from_left + i]
        if xc >= x0:
            for i in range(size):
                patch[out, begin + i] = pixels[line, from_left + i] - sky
        else:
            end = from_left + size - one
            for i in range(size):
                patch[out, begin + i] = pixels[line, end - i] - sky
        if marked & SPOILED:
            for x in range(left, right):
                flag = flags[y, x] & SPOILED
                if flag and max(abs(x - xc), abs(y - yc)) <= reach:
                    _note_flag(near, n, flag, x - xc, y - yc)


@njit(cache=True, nogil=True)
def _measure(  # type: ignore[no-untyped-def]
    pixels, flags, xs, ys, radii, inner, outer, guesses, noises,
    half, held, held_from, cut, cut_from, geometry, least,
    counts, skies, scatters, rings, peaks, near,
):  # fmt: skip
    height, width = pixels.shape
    last = radii.size - 1
    values = np.empty(int(np.pi * (outer + 1.5) ** 2) + 16, np.float32)
    patch = np.empty((2 * half + 1, 2 * half + 1), np.float32)
    flat = patch.reshape(-1)
    areas = np.empty(cut.size, np.float32)
    for n in range(xs.size):
        xc, yc = xs[n], ys[n]
        if n + 1 < xs.size:
            fetch_ahead(pixels, xs[n + 1], ys[n + 1], outer)
            fetch_ahead(flags, xs[n + 1], ys[n + 1], outer)
        count = _gather_ring(pixels, flags, xc, yc, inner, outer, values)
        if count >= 8:
            sky, scatter, kept = _ring_sky(values, count, guesses[n], max(noises[n], 1e-3), least)
        else:
            sky, scatter, kept = np.nan, np.nan, count
        skies[n], scatters[n], rings[n] = sky, scatter, kept
        near[n, 0] = near[n, 1] = near[n, 2] = np.inf
        near[n, 3] = min(min(xc + 0.5, width - 0.5 - xc), min(yc + 0.5, height - 0.5 - yc))
        x0, y0 = int(np.rint(xc)), int(np.rint(yc))
        reach = radii[last] + 0.5
        # Without a sky there is no light to tell; the highest pixel is what it is.
        level = np.float32(sky if count >= 8 else 0.0)
        _read_patch(pixels, flags, x0, y0, half, xc, yc, reach, level, patch, near, n)
        fx, fy = abs(xc - x0), abs(yc - y0)
        cut_areas(geometry, np.float32(fx), np.float32(fy), areas)
        circle_sums(flat, half, radii, fx, fy, held, held_from, cut, cut_from, areas, counts[n])
        peaks[n] = level + highest_value(
            flat, half, radii[last], held, cut, geometry, cut_from[last], cut_from[last + 1],
            np.float32(fx), np.float32(fy),
        )  # fmt: skip
        if count < 8:
            counts[n] = np.nan
