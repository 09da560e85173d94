"""Aperture sums at many radii at once, with the sky from a ring around each star."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from narrow_beacon.core.arrays import Flags, Floats, Plane
from narrow_beacon.core.measure.overlap import pixel_overlap

NEAR_SATURATED, NEAR_DEFECT, NEAR_SPIKE, NEAR_EDGE = range(4)
_HALF_DIAGONAL = 0.70711


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
) -> ApertureSums:
    """Measure stars at 0-based positions on an image (height, width).

    ``radii_px`` ascend; ``masked`` marks pixels near any star, left out of the sky. The sky is the
    mean of the ring's pixels within three times the scatter about their median.
    """
    n, m = x_px.size, radii_px.size
    sums = ApertureSums(
        np.empty((n, m)), np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.empty((n, 4))
    )
    _measure(
        pixels, flags, masked, x_px, y_px, np.asarray(radii_px, float),
        float(annulus_px[0]), float(annulus_px[1]), sums.counts_adu, sums.sky_adu_per_px,
        sums.sky_scatter_adu, sums.ring_pixels, sums.peak_adu, sums.near_px,
    )  # fmt: skip
    return sums


@njit(cache=True, nogil=True)
def mask_stars(masked, x_px, y_px, radius_px):  # type: ignore[no-untyped-def]
    """Mark the pixels within a radius of each star in ``masked``, in place."""
    height, width = masked.shape
    masked[:] = 0
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


@njit(cache=True, nogil=True)
def _ring_sky(values, count):  # type: ignore[no-untyped-def]
    """Mean, scatter and number of the values within 3 σ of the median; σ from the lower half."""
    median = _select(values, count, count // 2)
    total = 0.0
    below = 0
    for i in range(count):
        if values[i] < median:
            total += (values[i] - median) ** 2
            below += 1
    sigma = np.sqrt(total / below) if below else 0.0
    limit = 3.0 * max(sigma, 1e-6)
    total = 0.0
    squares = 0.0
    kept = 0
    for i in range(count):
        d = values[i] - median
        if abs(d) <= limit:
            total += d
            squares += d * d
            kept += 1
    mean = total / kept
    return median + mean, np.sqrt(max(squares / kept - mean * mean, 0.0)), kept


@njit(cache=True, nogil=True)
def _measure(
    pixels, flags, masked, xs, ys, radii, inner, outer,
    counts, skies, scatters, rings, peaks, near,
):  # type: ignore[no-untyped-def]  # fmt: skip
    height, width = pixels.shape
    steps = radii.size
    largest = radii[steps - 1]
    values = np.empty(int(np.pi * (outer + 1.0) ** 2) + 16, np.float32)
    whole = np.empty(steps + 1)
    part = np.empty(steps)
    for n in range(xs.size):
        xc, yc = xs[n], ys[n]
        count = 0
        for y in range(max(0, int(np.ceil(yc - outer))), min(height, int(yc + outer) + 1)):
            dy2 = (y - yc) ** 2
            far = np.sqrt(max(outer * outer - dy2, 0.0))
            for x in range(max(0, int(np.ceil(xc - far))), min(width, int(xc + far) + 1)):
                d2 = dy2 + (x - xc) ** 2
                if d2 >= inner * inner and not masked[y, x] and not flags[y, x]:
                    values[count] = pixels[y, x]
                    count += 1
        if count >= 8:
            sky, scatter, kept = _ring_sky(values, count)
        else:
            sky, scatter, kept = np.nan, np.nan, count
        skies[n], scatters[n], rings[n] = sky, scatter, kept
        near[n, 0] = near[n, 1] = near[n, 2] = np.inf
        near[n, 3] = min(min(xc + 0.5, width - 0.5 - xc), min(yc + 0.5, height - 0.5 - yc))
        whole[:] = 0.0
        part[:] = 0.0
        peak = -np.inf
        reach = largest + _HALF_DIAGONAL
        for y in range(max(0, int(np.ceil(yc - reach))), min(height, int(yc + reach) + 1)):
            dy = y - yc
            far = np.sqrt(max(reach * reach - dy * dy, 0.0))
            for x in range(max(0, int(np.ceil(xc - far))), min(width, int(xc + far) + 1)):
                dx = x - xc
                d = np.sqrt(dx * dx + dy * dy)
                v = pixels[y, x] - sky
                flag = flags[y, x]
                if flag:
                    gap = np.hypot(max(abs(dx) - 0.5, 0.0), max(abs(dy) - 0.5, 0.0))
                    if flag & 2:
                        near[n, 0] = min(near[n, 0], gap)
                    if flag & 1:
                        near[n, 1] = min(near[n, 1], gap)
                    if flag & 4:
                        near[n, 2] = min(near[n, 2], gap)
                if d <= largest and pixels[y, x] > peak:
                    peak = pixels[y, x]
                k = 0
                while k < steps and radii[k] <= d - _HALF_DIAGONAL:
                    k += 1
                while k < steps and radii[k] < d + _HALF_DIAGONAL:
                    part[k] += v * pixel_overlap(dx, dy, radii[k])
                    k += 1
                whole[k] += v
        total = 0.0
        for k in range(steps):
            total += whole[k]
            counts[n, k] = total + part[k]
        peaks[n] = peak
