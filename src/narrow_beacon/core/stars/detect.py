"""Find stars: a matched filter with the star width, local maxima, spikes told by sharpness.

Touching stars are told apart by their own maxima in the filtered image. Sharpness follows
Stetson (1987, PASP 99, 191).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.stars.background import Background
from narrow_beacon.core.stars.centroid import centroids
from narrow_beacon.core.stars.peaks import filtered_peaks
from narrow_beacon.core.stars.weigh import weighed_peaks

THRESHOLD = 5.45
"""In units of the filtered noise: about one false star on an exposure of 2048 × 2048 pixels."""
SHARPEST_STAR = 1.3
FLATTEST_STAR = 0.02
FIRST_GUESS_FWHM_PX = 3.5
WIDTHS_PX = (1.2, 1.8, FIRST_GUESS_FWHM_PX, 6.0, 10.0, 16.0, 23.0, 32.0)
WIDE_PX = 8.0
"""Stars wider than this may be rings of light, out of focus."""
RING_WIDTHS = 1.5
"""The filter for a ring of light over the width that has as much light in its half."""
_CANDIDATE = 0.6
"""Share of the threshold from which on a peak of the quick search is weighed."""
_WIDENED = 1.1
"""The filter's width over the stars', whose wings reach farther than a Gaussian's."""
_PIXEL_NOISE = 1.06
"""Of a pixel less the mean of its eight neighbours, in units of a pixel's."""
_LEAST_TO_TELL = 7
_LOOKED_AT = 80
_ALIKE = 0.9
_SPIKE_SIGNIFICANCE = 8.0
_BRIGHT = 500.0
# Fainter stars than these stay at their brightest pixel: nothing hangs on their positions.
_CENTRED, _CENTRED_SNR = 600, 20.0


@dataclass(frozen=True)
class Detections:
    """Stars found on an image, brightest first; positions are 0-based pixels."""

    x_px: Floats
    y_px: Floats
    flux_adu: Floats
    snr: Floats
    peak_adu: Floats
    elongation: Floats
    angle_deg: Floats
    """Of the longer axis, from +x towards +y, 0 to 180."""
    filter_sigma_px: float
    """Of the Gaussian by which ``flux_adu`` was found: what is the whole light hangs on it."""

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
            self.angle_deg[which],
            self.filter_sigma_px,
        )


@dataclass(frozen=True)
class Found:
    """Stars; (column, row) of single bright pixels that are none; means of blocks of 8 × 8 pixels
    (rows, columns), which come for free and serve the search for trails.
    """

    stars: Detections
    spikes: np.ndarray
    block_means: Plane


def detect(
    pixels: Plane, background: Background, fwhm_px: float, threshold: float = THRESHOLD
) -> Found:
    """Stars on an image (height, width) whose filtered signal exceeds ``threshold`` times its
    noise, for stars about ``fwhm_px`` wide.
    """
    sigma = max(fwhm_px, 1.5) / 2.3548
    fine = fwhm_px < WIDE_PX
    found, amplitude, blocks = filtered_peaks(
        pixels, background, fwhm_px, threshold * (_CANDIDATE if fine else 1.0)
    )
    filter_sigma = _WIDENED * sigma if fine else sigma
    filter_gain = float(np.sqrt(np.pi) * filter_sigma)
    if fine:
        found, amplitude = weighed_peaks(pixels, background, found, filter_sigma)
        _, noise = background.at(found[:, 0], found[:, 1])
        sure = amplitude * filter_gain > threshold * noise
        found, amplitude = found[sure], amplitude[sure]
    sky, noise = background.at(found[:, 0], found[:, 1])
    sharp, brightest, peaks = _sharpness(pixels, found, sky)
    sharp = sharp / amplitude
    # Of stars out of focus what is sharp is none, however faint: a piece of a ring.
    sharpest = _sharpest(amplitude, noise, sigma) if fine else SHARPEST_STAR
    flattest = FLATTEST_STAR if fine else -np.inf
    # A star that is bright enough may have a flat top: the camera gives no more.
    star = (sharp < sharpest) & ((sharp > flattest) | (brightest > _BRIGHT * noise))
    spike = (sharp >= sharpest) & (brightest > _SPIKE_SIGNIFICANCE * noise)
    order = np.flatnonzero(star)[np.argsort(-amplitude[star], kind="stable")]
    # From the filter's maximum: the brightest pixel of a faint star is anywhere on it.
    at = (found if fine else peaks)[order].astype(float)
    moments = np.stack([at[:, 0], at[:, 1], np.ones(order.size), np.zeros(order.size)], axis=1)
    sure = amplitude[order] * np.sqrt(np.pi) * sigma > _CENTRED_SNR * noise[order]
    bright = order[: max(_CENTRED, int(sure.sum()))]
    # Neighbours on the image one after the other: their pixels are still in the cache.
    rows = np.argsort(at[: bright.size, 1], kind="stable")
    moments[rows] = centroids(pixels, at[rows, 0], at[rows, 1], sky[bright[rows]], sigma)
    x, y = moments[:, 0], moments[:, 1]
    amplitude = amplitude[order]
    stars = Detections(
        x_px=x,
        y_px=y,
        flux_adu=amplitude * 2 * np.pi * filter_sigma**2,
        snr=amplitude * filter_gain / noise[order],
        peak_adu=brightest[order],
        elongation=moments[:, 2],
        angle_deg=moments[:, 3],
        filter_sigma_px=filter_sigma,
    )
    # A centroid that wandered off is another star's.
    kept = stars.take(_distinct(x, y, found[order], fwhm_px))
    return Found(kept, peaks[spike], blocks)


def _sharpest(amplitude: Floats, noise: Floats, sigma: float) -> Floats:
    """How sharp a star can be: of a faint one the noise of single pixels says more than its shape,
    but never as much as a spike, all of whose light is in one pixel.
    """
    scatter = _PIXEL_NOISE * noise / amplitude
    of_spike = np.pi * sigma**2
    return np.maximum(
        SHARPEST_STAR, np.minimum(SHARPEST_STAR + 2.0 * scatter, of_spike - 3.0 * scatter)
    )


def _distinct(x: Floats, y: Floats, peaks: np.ndarray, fwhm_px: float) -> np.ndarray:
    """Mask of centroids that stayed at their own peak; one that wandered off is another's."""
    reach = max(2.5, 0.3 * fwhm_px)
    return (np.abs(x - peaks[:, 0]) < reach) & (np.abs(y - peaks[:, 1]) < reach)


def _apart(stars: Detections) -> np.ndarray:
    """The brightest detections of which none is near a brighter one: pieces of one star out of
    focus would count as many.
    """
    chosen: list[int] = []
    for n in range(min(len(stars), _LOOKED_AT)):
        away = np.hypot(stars.x_px[chosen] - stars.x_px[n], stars.y_px[chosen] - stars.y_px[n])
        if not chosen or away.min() > WIDTHS_PX[-1]:
            chosen.append(n)
    return np.array(chosen, np.int64)


def likely_width(pixels: Plane, background: Background) -> float:
    """The width in pixels, of a few from undersampled to far out of focus, whose matched filter
    sees the brightest stars best: with its own width a star's signal to noise is highest. Of widths
    that do about as well the largest, which does not see a ring of light as many stars.
    """
    seen = {FIRST_GUESS_FWHM_PX: 0.0}
    for guess in WIDTHS_PX:
        stars = detect(pixels, background, guess).stars
        apart = _apart(stars)
        if apart.size >= _LEAST_TO_TELL:
            seen[guess] = float(np.median(stars.snr[apart[:_LEAST_TO_TELL]]))
    best = max(seen.values())
    return max(guess for guess, snr in seen.items() if snr >= _ALIKE * best)


@njit(cache=True, nogil=True)
def _sharpness(pixels, peaks, sky):  # type: ignore[no-untyped-def]
    """Brightest pixel near each peak less the mean of its neighbours, and that pixel.

    Also its height above the sky and where it is.
    """
    height, width = pixels.shape
    count = peaks.shape[0]
    sharp = np.empty(count)
    brightest = np.empty(count)
    at = np.empty((count, 2), np.int32)
    for n in range(count):
        best = np.float32(-1e30)
        bx, by = peaks[n, 0], peaks[n, 1]
        for y in range(max(peaks[n, 1] - 2, 1), min(peaks[n, 1] + 2, height - 1)):
            for x in range(max(peaks[n, 0] - 2, 1), min(peaks[n, 0] + 2, width - 1)):
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
