"""Find stars: a matched filter with the star width, local maxima, spikes told by sharpness.

The filter, the threshold and the search for maxima run in one pass over rows that stay in cache.
Touching stars are told apart by their own maxima in the filtered image. Sharpness follows
Stetson (1987, PASP 99, 191).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.stars.background import Background

THRESHOLD = 5.0
SHARPEST_STAR = 1.3
FLATTEST_STAR = 0.02
_MOST_PEAKS = 20000
_SPIKE_SIGNIFICANCE = 8.0


@dataclass(frozen=True)
class Detections:
    """Stars found on an image, brightest first; positions are 0-based pixels."""

    x_px: Floats
    y_px: Floats
    flux_adu: Floats
    snr: Floats
    peak_adu: Floats
    elongation: Floats

    def __len__(self) -> int:
        return self.x_px.size

    def position_error_px(self, fwhm_px: float) -> Floats:
        """Uncertainty of the positions in pixels: width over signal to noise, and a floor for
        what the catalogue, the optics and the air leave.
        """
        return np.hypot(0.7 * fwhm_px / np.maximum(self.snr, 1.0), 0.02)

    def take(self, which: np.ndarray) -> Detections:
        """The detections that an index or mask picks."""
        return Detections(
            self.x_px[which],
            self.y_px[which],
            self.flux_adu[which],
            self.snr[which],
            self.peak_adu[which],
            self.elongation[which],
        )


@dataclass(frozen=True)
class Found:
    """Stars, and single bright pixels that are none: (column, row) of each spike."""

    stars: Detections
    spikes: np.ndarray


def filter_taps(fwhm_px: float) -> Plane:
    """One side of the separable Gaussian filter for a star width, centre first."""
    sigma = max(fwhm_px, 1.5) / 2.3548
    reach = max(2, min(15, int(np.ceil(2.5 * sigma))))
    return np.exp(-0.5 * (np.arange(reach + 1) / sigma) ** 2).astype(np.float32)


def detect(
    pixels: Plane, background: Background, fwhm_px: float, threshold: float = THRESHOLD
) -> Found:
    """Stars on an image (height, width) whose filtered signal exceeds ``threshold`` times its
    noise, for stars about ``fwhm_px`` wide.
    """
    taps = filter_taps(fwhm_px)
    norm_1d = float(taps[0] ** 2 + 2 * np.sum(taps[1:] ** 2))
    peaks = np.empty((_MOST_PEAKS, 2), np.int32)
    height = np.empty(_MOST_PEAKS, np.float32)
    count = _find_peaks(
        pixels, background.sky_adu, background.noise_adu, background.mesh_px, taps,
        np.float32(threshold * norm_1d), peaks, height,
    )  # fmt: skip
    peaks, amplitude = peaks[:count], height[:count] / norm_1d**2
    sky, noise = background.at(peaks[:, 0], peaks[:, 1])
    sharp, brightest, at = _sharpness(pixels, peaks, sky)
    sharp = sharp / amplitude
    star = (sharp < SHARPEST_STAR) & (sharp > FLATTEST_STAR)
    spike = (sharp >= SHARPEST_STAR) & (brightest > _SPIKE_SIGNIFICANCE * noise)
    order = np.flatnonzero(star)[np.argsort(-amplitude[star], kind="stable")]
    sigma = max(fwhm_px, 1.5) / 2.3548
    moments = centroids(
        pixels, peaks[order, 0].astype(float), peaks[order, 1].astype(float), sky[order], sigma
    )
    x, y = moments[:, 0], moments[:, 1]
    amplitude = amplitude[order].astype(float)
    stars = Detections(
        x_px=x,
        y_px=y,
        flux_adu=amplitude * 2 * np.pi * sigma**2,
        snr=amplitude * norm_1d / noise[order],
        peak_adu=brightest[order],
        elongation=moments[:, 2],
    )
    return Found(stars.take(_distinct(x, y, peaks[order])), at[spike])


def _distinct(x: Floats, y: Floats, peaks: np.ndarray) -> np.ndarray:
    """Mask of centroids that stayed at their own peak; one that wandered off is another's."""
    return (np.abs(x - peaks[:, 0]) < 2.5) & (np.abs(y - peaks[:, 1]) < 2.5)


@njit(cache=True, nogil=True, fastmath=True)
def _ramp(nodes, row, mesh_px, out):  # type: ignore[no-untyped-def]
    """Bilinear interpolation of mesh nodes along one image row."""
    rows, columns = nodes.shape
    width = out.size
    v = min(max((row + 0.5) / mesh_px - 0.5, 0.0), rows - 1.0)
    j = min(int(v), max(rows - 2, 0))
    below = min(j + 1, rows - 1)
    share = np.float32(v - j)
    start = 0
    for i in range(-1, columns):
        left = max(i, 0)
        right = min(i + 1, columns - 1)
        a = nodes[j, left] * (1 - share) + nodes[below, left] * share
        b = nodes[j, right] * (1 - share) + nodes[below, right] * share
        end = width if i == columns - 1 else min(width, int(mesh_px * (i + 1.5)))
        slope = np.float32((b - a) / mesh_px)
        first = np.float32(a + slope * (0.5 - (i + 0.5) * mesh_px)) if i >= 0 else a
        if i < 0 or i == columns - 1:
            for x in range(start, end):
                out[x] = a if i >= 0 else b
        else:
            for x in range(start, end):
                out[x] = first + slope * np.float32(x)
        start = end


@njit(cache=True, nogil=True, fastmath=True)
def _find_peaks(pixels, sky, noise, mesh_px, taps, threshold, peaks, heights):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    reach = taps.size - 1
    span = 2 * reach + 1
    padded = np.zeros(width + 2 * reach, np.float32)
    level = np.empty(width, np.float32)
    across = np.zeros((span, width), np.float32)
    filtered = np.zeros((3, width), np.float32)
    limit = np.zeros((3, width), np.float32)
    count = 0
    most = heights.size
    for y in range(height + reach + 1):
        slot = across[y % span]
        if y < height:
            _ramp(sky, y, mesh_px, level)
            row = pixels[y]
            for x in range(width):
                padded[reach + x] = row[x] - level[x]
            for x in range(width):
                slot[x] = taps[0] * padded[reach + x]
            for k in range(1, reach + 1):
                t = taps[k]
                left = padded[reach - k : reach - k + width]
                right = padded[reach + k : reach + k + width]
                for x in range(width):
                    slot[x] += t * (left[x] + right[x])
        else:
            slot[:] = 0.0
        yc = y - reach
        if yc < 0:
            continue
        out = filtered[yc % 3]
        if yc < height:
            middle = across[yc % span]
            for x in range(width):
                out[x] = taps[0] * middle[x]
            for k in range(1, reach + 1):
                t = taps[k]
                up = across[(yc + k) % span]
                down = across[(yc - k + span) % span]
                if yc - k < 0:
                    for x in range(width):
                        out[x] += t * up[x]
                else:
                    for x in range(width):
                        out[x] += t * (up[x] + down[x])
            _ramp(noise, yc, mesh_px, limit[yc % 3])
        else:
            out[:] = 0.0
        ym = yc - 1
        if ym < 1 or ym >= height - 1:
            continue
        here = filtered[ym % 3]
        above = filtered[(ym + 1) % 3]
        below = filtered[(ym - 1) % 3]
        lim = limit[ym % 3]
        for x in range(1, width - 1):
            v = here[x]
            if v > threshold * lim[x] and (
                v > here[x - 1] and v >= here[x + 1]
                and v > below[x - 1] and v > below[x] and v > below[x + 1]
                and v >= above[x - 1] and v >= above[x] and v >= above[x + 1]
            ):  # fmt: skip
                if count < most:
                    peaks[count, 0] = x
                    peaks[count, 1] = ym
                    heights[count] = v
                    count += 1
    return count


@njit(cache=True, nogil=True)
def _sharpness(pixels, peaks, sky):  # type: ignore[no-untyped-def]
    """Brightest pixel near each peak less the mean of its neighbours, and that pixel."""
    height, width = pixels.shape
    count = peaks.shape[0]
    sharp = np.empty(count)
    brightest = np.empty(count)
    at = np.empty((count, 2), np.int32)
    for n in range(count):
        best = np.float32(-1e30)
        bx, by = peaks[n, 0], peaks[n, 1]
        for y in range(max(peaks[n, 1] - 1, 1), min(peaks[n, 1] + 2, height - 1)):
            for x in range(max(peaks[n, 0] - 1, 1), min(peaks[n, 0] + 2, width - 1)):
                if pixels[y, x] > best:
                    best = pixels[y, x]
                    bx, by = x, y
        total = 0.0
        for y in range(by - 1, by + 2):
            for x in range(bx - 1, bx + 2):
                total += pixels[y, x]
        sharp[n] = best - (total - best) / 8.0
        brightest[n] = best - sky[n]
        at[n, 0] = bx
        at[n, 1] = by
    return sharp, brightest, at


@njit(cache=True, nogil=True)
def centroids(pixels, x_px, y_px, sky, sigma):  # type: ignore[no-untyped-def]
    """Windowed centroids: x, y (0-based) and elongation of each star, (stars, 3).

    A Gaussian window of the star's width is moved until its weighted centre stays put (windowed
    moments: Bertin & Arnouts 1996, A&AS 117, 393). The elongation has the window taken out.
    """
    height, width = pixels.shape
    result = np.empty((x_px.size, 3))
    reach = int(np.ceil(3.0 * sigma)) + 1
    span = 2 * reach + 1
    wx = np.empty(span)
    wy = np.empty(span)
    scale = 0.5 / sigma**2
    for n in range(x_px.size):
        x, y = x_px[n], y_px[n]
        elongation = 1.0
        for turn in range(12):
            x0 = int(np.rint(x)) - reach
            y0 = int(np.rint(y)) - reach
            for i in range(span):
                wx[i] = np.exp(-scale * (x0 + i - x) ** 2)
                wy[i] = np.exp(-scale * (y0 + i - y) ** 2)
            total = sx = sy = sxx = syy = sxy = 0.0
            for j in range(max(0, -y0), min(span, height - y0)):
                dy = y0 + j - y
                for i in range(max(0, -x0), min(span, width - x0)):
                    dx = x0 + i - x
                    v = (pixels[y0 + j, x0 + i] - sky[n]) * wx[i] * wy[j]
                    total += v
                    sx += v * dx
                    sy += v * dy
                    sxx += v * dx * dx
                    syy += v * dy * dy
                    sxy += v * dx * dy
            if total <= 0.0:
                break
            step_x, step_y = 2.0 * sx / total, 2.0 * sy / total
            size = np.hypot(step_x, step_y)
            if size > 1.5:
                step_x, step_y = 1.5 * step_x / size, 1.5 * step_y / size
            x += step_x
            y += step_y
            if size < 0.003 or turn == 11:
                a, b, c = sxx / total, syy / total, sxy / total
                det = a * b - c * c
                if det > 0.0:
                    # C_star⁻¹ = C_measured⁻¹ − C_window⁻¹
                    p, q, r = b / det - 2 * scale, a / det - 2 * scale, -c / det
                    half = 0.5 * (p + q)
                    root = np.sqrt(0.25 * (p - q) ** 2 + r * r)
                    if half - root > 1e-6:
                        elongation = np.sqrt((half + root) / (half - root))
                break
        result[n, 0] = x
        result[n, 1] = y
        result[n, 2] = elongation
    return result
