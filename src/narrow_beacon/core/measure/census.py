"""The census: every catalogue star on an exposure, measured at a set of radii."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntFlag
from functools import lru_cache

import numpy as np
from scipy.spatial import cKDTree

from narrow_beacon.core.arrays import Bools, Flags, Floats, Ints, Plane
from narrow_beacon.core.measure.aperture import mask_stars, measure_apertures
from narrow_beacon.core.measure.noise import CameraConstants, aperture_uncertainty
from narrow_beacon.core.stars.background import Background
from narrow_beacon.core.stars.detect import Detections
from narrow_beacon.core.stars.trails import Trail

_CENTRED_SNR = 30.0
_OFF_CENTRE_FWHM = 0.35
_NEIGHBOUR_SHARE = 0.005
_TRAIL_MARGIN_FWHM = 1.5


class StarFlag(IntFlag):
    """What is doubtful about a star on an exposure, at the radius that is used."""

    SATURATED = 1
    BAD_PIXEL = 2
    COSMIC_RAY = 4
    EDGE = 8
    NEIGHBOUR = 16
    TRAIL = 32
    OFF_CENTRE = 64
    POOR_SKY = 128


FLAG_WORDS = {
    StarFlag.SATURATED: "saturated",
    StarFlag.BAD_PIXEL: "bad pixel",
    StarFlag.COSMIC_RAY: "cosmic ray",
    StarFlag.EDGE: "edge",
    StarFlag.NEIGHBOUR: "neighbour",
    StarFlag.TRAIL: "trail",
    StarFlag.OFF_CENTRE: "off-centre",
    StarFlag.POOR_SKY: "poor sky",
}
SPOILED = (
    StarFlag.SATURATED | StarFlag.EDGE | StarFlag.TRAIL | StarFlag.OFF_CENTRE
    | StarFlag.COSMIC_RAY | StarFlag.POOR_SKY
)  # fmt: skip
"""Flags with which a measurement says nothing of the star's brightness."""
_LEAST_RING_PIXELS = 40


def flag_words(flags: int) -> list[str]:
    """The words of a set of flags, in the order of their bits."""
    return list(_words_of(int(flags)))


@lru_cache(maxsize=256)
def _words_of(flags: int) -> tuple[str, ...]:
    return tuple(word for flag, word in FLAG_WORDS.items() if flags & int(flag))


@dataclass(frozen=True)
class ExposureCensus:
    """All stars on one exposure.

    ``rows`` (stars) are catalogue rows; x_px, y_px are 0-based; counts_adu and uncertainty_adu are
    (stars, radii); near_px (stars, 8) is, for each bit of StarFlag, the radius at which it begins.
    """

    rows: Ints
    x_px: Floats
    y_px: Floats
    sky_adu_per_px: Floats
    peak_adu: Floats
    radii_px: Floats
    counts_adu: Floats
    uncertainty_adu: Floats
    near_px: Floats

    def flags_at(self, radius_px: float) -> Ints:
        """StarFlag bits of each star for an aperture of that radius."""
        bits = 1 << np.arange(self.near_px.shape[1])
        return ((self.near_px < radius_px) * bits).sum(axis=1)


def take_census(
    pixels: Plane,
    flags: Flags,
    masked: Flags,
    rows: Ints,
    x_px: Floats,
    y_px: Floats,
    magnitudes: Floats,
    background: Background,
    detections: Detections,
    trails: Sequence[Trail],
    fwhm_px: float,
    radii_px: Floats,
    annulus_px: tuple[float, float],
    exposure_s: float,
    airmass: float,
    camera: CameraConstants,
    flat_gain: Plane | None = None,
) -> ExposureCensus:
    """Measure the catalogue stars ``rows`` predicted at (x_px, y_px), 0-based, on an image.

    A bright star is measured at its own centroid, a faint one where the solution puts it.
    ``masked`` is a scratch plane; ``magnitudes`` of the stars tell which neighbours matter;
    ``flat_gain`` is what the exposure was multiplied with, 1 / flat.
    """
    x, y, off_centre = _centre(x_px, y_px, detections, fwhm_px)
    mask_radius = fwhm_px * (1.2 + 0.45 * np.log10(np.maximum(detections.snr, 1.0)))
    mask_stars(
        flags, masked, detections.x_px, detections.y_px, np.minimum(mask_radius, annulus_px[0])
    )
    sky, noise = background.at(x, y)
    sums = measure_apertures(pixels, flags, masked, x, y, radii_px, annulus_px, sky, noise)
    response = (
        1.0 / flat_gain[np.rint(y).astype(int), np.rint(x).astype(int)]
        if (flat_gain is not None)
        else np.ones(x.size)
    )
    uncertainty = aperture_uncertainty(
        sums.counts_adu, sums.sky_adu_per_px, sums.ring_pixels, radii_px, exposure_s, airmass,
        camera, response,
    )  # fmt: skip
    never = np.inf
    near = np.full((rows.size, len(StarFlag)), never)
    near[:, :4] = sums.near_px
    near[:, 4] = _neighbours(x_px, y_px, magnitudes, fwhm_px)
    for trail in trails:
        gap = trail.distance(x, y) - _TRAIL_MARGIN_FWHM * fwhm_px
        near[:, 5] = np.minimum(near[:, 5], np.maximum(gap, 0.0))
    near[:, 6] = np.where(off_centre, 0.0, never)
    near[:, 7] = np.where(sums.ring_pixels < _LEAST_RING_PIXELS, 0.0, never)
    return ExposureCensus(
        rows, x, y, sums.sky_adu_per_px, sums.peak_adu, np.asarray(radii_px, float),
        sums.counts_adu, uncertainty, near,
    )  # fmt: skip


def _centre(
    x_px: Floats, y_px: Floats, detections: Detections, fwhm_px: float
) -> tuple[Floats, Floats, Bools]:
    """Where to measure each star, and which ones are not where they should be."""
    x, y = x_px.copy(), y_px.copy()
    off = np.zeros(x.size, bool)
    bright = detections.snr > _CENTRED_SNR
    if not bright.any() or x.size == 0:
        return x, y, off
    found = np.stack([detections.x_px[bright], detections.y_px[bright]], axis=1)
    distance, nearest = cKDTree(found).query(
        np.stack([x_px, y_px], axis=1), distance_upper_bound=0.8 * fwhm_px
    )
    # Two stars of the catalogue may lie at one detection; it belongs to the nearer.
    hit = np.flatnonzero(np.isfinite(distance))
    hit = hit[np.argsort(distance[hit], kind="stable")]
    hit = hit[np.unique(nearest[hit], return_index=True)[1]]
    tight = hit[distance[hit] <= _OFF_CENTRE_FWHM * fwhm_px]
    x[tight] = found[nearest[tight], 0]
    y[tight] = found[nearest[tight], 1]
    off[np.setdiff1d(hit, tight)] = True
    return x, y, off


def _neighbours(x: Floats, y: Floats, magnitudes: Floats, fwhm_px: float) -> Floats:
    """Radius at which each star's aperture holds over 0.5% of its light from a neighbour.

    A neighbour's light is taken as spread over a circle one width in radius.
    """
    near = np.full(x.size, np.inf)
    if x.size < 2:
        return near
    pairs = cKDTree(np.stack([x, y], axis=1)).query_pairs(12.0 * fwhm_px, output_type="ndarray")
    for one, other in (pairs.T, pairs.T[::-1]):
        share = 10.0 ** (-0.4 * (magnitudes[other] - magnitudes[one]))
        matters = np.isfinite(share) & (share > _NEIGHBOUR_SHARE)
        gap = np.hypot(x[one] - x[other], y[one] - y[other]) - fwhm_px
        np.minimum.at(near, one[matters], np.maximum(gap[matters], 0.0))
    return near
