"""A star that is pointed at on an image: where it stands, how bright, how wide, how sure; with
nothing known of the image but its pixels.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.measure.aperture import measure_apertures
from narrow_beacon.core.stars.centroid import centroids
from narrow_beacon.core.stars.detect import FIRST_GUESS_FWHM_PX, Detections
from narrow_beacon.core.stars.profile import measure_profile

_NEAR_PX = 6
_HALF_PX = 60
_RADIUS_WIDTHS = 1.5
_RING_WIDTHS = (3.5, 5.5)
_WIDEST_PX = 20.0


@dataclass(frozen=True)
class PointedStar:
    """What the pixels say; positions are 0-based. ``uncertainty_adu`` is that of the sky and, where
    the gain is known, of the star's own light; ``fwhm_px`` None where no profile fits.
    """

    x_px: float
    y_px: float
    counts_adu: float
    uncertainty_adu: float
    sky_adu_per_px: float
    peak_adu: float
    fwhm_px: float | None
    radius_px: float

    @property
    def snr(self) -> float:
        """Signal to noise."""
        return self.counts_adu / self.uncertainty_adu


def point_at(
    pixels: Plane, x_px: float, y_px: float, gain_e_per_adu: float | None
) -> PointedStar | None:
    """The star next to a place on an image (height, width); None beyond its edge."""
    height, width = pixels.shape
    if not (0 <= x_px < width and 0 <= y_px < height):
        return None
    x0, y0 = max(int(x_px) - _HALF_PX, 0), max(int(y_px) - _HALF_PX, 0)
    part = pixels[y0 : int(y_px) + _HALF_PX + 1, x0 : int(x_px) + _HALF_PX + 1]
    patch = np.nan_to_num(np.ascontiguousarray(part), nan=float(np.nanmedian(part)))
    sky = float(np.median(patch))
    noise = max(1.4826 * float(np.median(np.abs(patch - sky))), 1e-6)
    x, y = _brightest_near(patch, x_px - x0, y_px - y0)
    fwhm = FIRST_GUESS_FWHM_PX
    found: float | None = None
    for _ in range(2):
        # Once with a guess of the width, once with its own.
        moments = centroids(
            patch, np.array([x]), np.array([y]), np.array([sky]), max(fwhm, 1.5) / 2.3548
        )
        x, y = float(moments[0, 0]), float(moments[0, 1])
        star = _detection(patch, x, y, sky, noise)
        clear = np.zeros(patch.shape, np.uint8)
        profile = measure_profile(patch, clear, star, np.array([sky]), fwhm)
        if profile is None or not 0.5 < profile.fwhm_px < _WIDEST_PX:
            break
        found = fwhm = profile.fwhm_px
    radius = _RADIUS_WIDTHS * fwhm
    counts, ring, scatter, pixels_in_ring, peak = aperture_at(patch, x, y, radius, fwhm)
    inside = np.pi * radius**2
    variance = inside * scatter**2 * (1.0 + inside / max(pixels_in_ring, 1.0))
    if gain_e_per_adu:
        variance += max(counts, 0.0) / gain_e_per_adu
    return PointedStar(x + x0, y + y0, counts, float(np.sqrt(variance)), ring, peak, found, radius)


def aperture_at(
    pixels: Plane, x_px: float, y_px: float, radius_px: float, fwhm_px: float
) -> tuple[float, float, float, float, float]:
    """Counts less the sky, sky and its scatter a pixel, pixels in the ring, peak of one star."""
    clear = np.zeros(pixels.shape, np.uint8)
    sums = measure_apertures(
        pixels, clear, np.array([x_px]), np.array([y_px]), np.array([radius_px]),
        (_RING_WIDTHS[0] * fwhm_px, _RING_WIDTHS[1] * fwhm_px),
        np.array([float(np.median(pixels))]), np.array([1.0]),
    )  # fmt: skip
    return (
        float(sums.counts_adu[0, 0]), float(sums.sky_adu_per_px[0]),
        float(sums.sky_scatter_adu[0]), float(sums.ring_pixels[0]), float(sums.peak_adu[0]),
    )  # fmt: skip


def _brightest_near(patch: Plane, x: float, y: float) -> tuple[float, float]:
    top, left = max(int(y) - _NEAR_PX, 0), max(int(x) - _NEAR_PX, 0)
    near = patch[top : int(y) + _NEAR_PX + 1, left : int(x) + _NEAR_PX + 1]
    # By its neighbours but for the highest, so that no hot pixel is taken for the star.
    around = [np.roll(near, (j, i), (0, 1)) for j in (-1, 0, 1) for i in (-1, 0, 1)]
    calm = np.sum(around, axis=0) - np.max(around, axis=0)
    row, column = np.unravel_index(int(np.argmax(calm)), near.shape)
    return float(left + column), float(top + row)


def _detection(patch: Plane, x: float, y: float, sky: float, noise: float) -> Detections:
    row, column = (
        min(max(round(y), 0), patch.shape[0] - 1),
        min(max(round(x), 0), patch.shape[1] - 1),
    )
    peak = float(patch[row, column]) - sky

    def one(value: float) -> Floats:
        return np.array([value])

    # Its signal to noise is not known yet: bright enough for a profile to be tried.
    return Detections(one(x), one(y), one(peak), one(1e3 * max(peak, noise) / noise), one(peak),
                      one(1.0), one(0.0), 1.0)  # fmt: skip
