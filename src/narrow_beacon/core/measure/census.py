"""The census: every catalogue star on an exposure, measured at a set of radii."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Bools, Flags, Floats, Ints, Plane, middle, values_at
from narrow_beacon.core.correct.apply import SATURATED
from narrow_beacon.core.measure.alignment import CENTRED_SNR, align, off_centre
from narrow_beacon.core.measure.aperture import ApertureSums, mask_stars, measure_apertures
from narrow_beacon.core.measure.doubt import guessed_light, odd_growth
from narrow_beacon.core.measure.flags import StarFlag
from narrow_beacon.core.measure.neighbours import Neighbours, neighbours_of, no_brighter
from narrow_beacon.core.measure.neighbours_light import overlaps, parted_light
from narrow_beacon.core.measure.noise import (
    CameraConstants,
    Exposed,
    Light,
    aperture_uncertainty,
    sky_noise_ratio,
)
from narrow_beacon.core.measure.sampling import sampling_scatter
from narrow_beacon.core.measure.spread import Spread, spread_of
from narrow_beacon.core.stars.background import Background
from narrow_beacon.core.stars.detect import WIDE_PX, Detections
from narrow_beacon.core.stars.nearest import nearest
from narrow_beacon.core.stars.profile import Lights, StarProfile, measure_profile
from narrow_beacon.core.stars.trails import Trail

_CENTRED_FWHM = 0.3
_NEIGHBOUR_SHARE = 0.005
_PARTED_FWHM, _PARTED_SNR = 0.9, 5.0
"""Radius in star widths at which stars are told apart, and from which brightness on."""
_UNSEEN_SNR = 2.0
"""By so much of its noise an aperture may hold less than a star gives it."""
_LEAST_HELD = 0.4
"""Of a star's light, that is within that radius whatever the shape of stars."""
_PROFILE_ERROR = 0.05
"""Of the light that is taken off, by which the measured profile may be wrong."""
_UNSURE_ERROR = 0.1
"""The same where the other star has spoiled pixels, or its light is what the catalogue says."""
_TRAIL_MARGIN_FWHM = 1.5
_CLEAN_SNR = 50.0
_NOISY_SKY = 1.05
UNDERSAMPLED_PX = 2.0
"""Stars narrower than this don't have their light shared out among enough pixels."""
_USUAL_BETA = 3.0
_IN_PIXELS = (StarFlag.SATURATED, StarFlag.BAD_PIXEL, StarFlag.COSMIC_RAY, StarFlag.EDGE)
"""What ``measure_apertures`` says, in its order."""
_NO_MEASURE = (StarFlag.SATURATED, StarFlag.EDGE, StarFlag.TRAIL)
"""What leaves nothing to tell a star's light by; a repaired or struck pixel leaves most of it."""
_LEAST_RING_PIXELS = 40


@dataclass(frozen=True)
class ExposureCensus:
    """All stars on one exposure.

    ``rows`` (stars) are catalogue rows; x_px, y_px are 0-based; counts_adu and uncertainty_adu are
    (stars, radii); near_px (stars, 9) is, for each bit of StarFlag, the radius at which it begins.
    ``doubt_adu`` (stars, radii) is how much of the counts may be wrong because pixels were guessed
    or the light is odd. Of other stars' light, what those of the catalogue bring is taken off, by
    the measured profile; ``neighbour_adu`` is what may be left of it. ``noise`` has
    the electrons of an ADU and how many times noisier the sky is than the camera's constants say.
    Uncertainties and doubts are 32-bit floats: all of a night's wait in memory and go over wires.
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
    doubt_adu: Floats
    neighbour_adu: Floats
    noise: Floats

    def flags_at(self, radius_px: float, own: Ints | None = None) -> Ints:
        """StarFlag bits of each star, or of some (places), for an aperture of that radius."""
        near = self.near_px if own is None else self.near_px[own]
        return ((near < radius_px) * (1 << np.arange(near.shape[1]))).sum(axis=1)

    def bits_by_radius(self, own: Ints) -> Ints:
        """StarFlag bits of some stars (places) for each of the apertures (stars, radii)."""
        bits = np.zeros((own.size, self.radii_px.size), np.uint16)
        near = self.near_px[own]
        star, place = np.nonzero(near < self.radii_px[-1])
        first = np.searchsorted(self.radii_px, near[star, place], "right")
        np.bitwise_or.at(bits, (star, first), np.uint16(1) << place.astype(np.uint16))
        return np.bitwise_or.accumulate(bits, axis=1)

    def added(self, other: ExposureCensus) -> ExposureCensus:
        """The light of the same stars on other pixels of the same exposure added to this."""
        return replace(
            self,
            sky_adu_per_px=(self.sky_adu_per_px + other.sky_adu_per_px) / 2.0,
            peak_adu=np.maximum(self.peak_adu, other.peak_adu),
            counts_adu=self.counts_adu + other.counts_adu,
            uncertainty_adu=np.hypot(self.uncertainty_adu, other.uncertainty_adu),
            near_px=np.minimum(self.near_px, other.near_px),
            doubt_adu=self.doubt_adu + other.doubt_adu,
            neighbour_adu=self.neighbour_adu + other.neighbour_adu,
            noise=np.array([self.noise[0], max(self.noise[1], other.noise[1])]),
        )


@dataclass(frozen=True)
class Image:
    """A corrected exposure and what was found on it; ``flat_gain`` is what it was multiplied with,
    1 / flat.
    """

    pixels: Plane
    flags: Flags
    background: Background
    detections: Detections
    profile: StarProfile | None
    trails: tuple[Trail, ...] = ()
    flat_gain: Plane | None = None
    sets: tuple[tuple[float, float], ...] = ()
    """Where the sets of pixels lie, of which this is one, where each sees only a part of the
    light; the first's at (0, 0)."""
    pixel_px: float = 1.0
    """The side of a pixel that sees light, over the distance from one to the next."""


@dataclass(frozen=True)
class Places:
    """Where catalogue stars should be on an image, 0-based, with their magnitudes (NaN where the
    catalogue has none); ``moved_px`` is how far in x and y that is from the catalogue's places,
    ``varies`` which are known to vary.
    """

    rows: Ints
    x_px: Floats
    y_px: Floats
    magnitudes: Floats
    moved_px: tuple[Floats, Floats] | None = None
    varies: Bools | None = None


@dataclass(frozen=True)
class Apertures:
    """Star width, the set of radii (ascending) and the ring of an exposure, in pixels."""

    fwhm_px: float
    radii_px: Floats
    annulus_px: tuple[float, float]


def take_census(
    image: Image, stars: Places, apertures: Apertures, exposed: Exposed, camera: CameraConstants
) -> ExposureCensus:
    """Measure catalogue stars on an image.

    Every star is measured where the solution puts it, once the whole is laid on the bright stars'
    own centres: one rule for all stars on all exposures, so that no star steps when it fades. Sets
    ``STARLIGHT`` in the image's flags.
    """
    fwhm, radii = apertures.fwhm_px, np.asarray(apertures.radii_px, float)
    x, y = align(stars.x_px, stars.y_px, image.detections, fwhm)
    masks = _masks(image, apertures)
    sky, noise = image.background.at(x, y)
    sums = measure_apertures(
        image.pixels, image.flags, x, y, radii, apertures.annulus_px, sky, noise, camera.step_adu
    )  # fmt: skip
    counts = sums.counts_adu
    uncertainty, ratio = _uncertainty(
        Light(counts, sums.sky_adu_per_px, sums.ring_pixels, radii, fwhm, _response(image, x, y)),
        sums, exposed, camera,
    )  # fmt: skip
    near = _near(image, sums, x, y, fwhm)
    beside = _beside(image, stars, sums, x, y, masks, fwhm)
    step = _parted_step(apertures)
    beside = no_brighter(
        beside, np.where(_lost(near, radii[step]), np.inf, _most(counts, uncertainty, step))
    )
    spread = _spread(image, beside, fwhm)
    taken, noise_of_taken, neighbour = _others(
        (x, y), counts, uncertainty, noise, near, beside, spread, apertures
    )
    counts = counts - taken
    uncertainty = np.hypot(uncertainty, noise_of_taken)
    own = np.maximum(counts[:, -1], uncertainty[:, -1])
    near[StarFlag.NEIGHBOUR] = _first_radius(
        neighbour > _NEIGHBOUR_SHARE * np.maximum(counts, 1.0), radii
    )
    guessed = np.zeros_like(counts)
    touched = np.minimum(near[StarFlag.BAD_PIXEL], near[StarFlag.COSMIC_RAY])
    at = np.flatnonzero(touched < radii[-1] + 1.0)
    at = at[np.argsort(y[at], kind="stable")]
    guessed[at] = guessed_light(
        image.pixels, image.flags, x[at], y[at], own[at], sums.sky_adu_per_px[at], spread, radii
    )
    whole = np.min(list(near.values()), axis=0) > radii[-1]
    clean = whole & (counts[:, -1] > _CLEAN_SNR * uncertainty[:, -1])
    odd, scatter = odd_growth(counts - neighbour, uncertainty, clean)
    near[StarFlag.ODD_LIGHT] = _first_radius(odd > np.maximum(2.0 * uncertainty, 1e-6), radii)
    if image.sets:
        # Where among its colour's pixels a star falls decides how much of it is seen. Whatever the
        # number of sets that are added, the sum then has the sum's own scatter.
        scatter = sampling_scatter(spread, radii, image.pixel_px, image.sets)
        scatter = scatter * np.sqrt(len(image.sets))
    if image.sets or fwhm < UNDERSAMPLED_PX:
        # Where in its pixel a star falls decides how its light is shared out among them.
        uncertainty = np.hypot(uncertainty, scatter[None, :] * np.maximum(counts, 0.0))
    near_px, doubt = np.stack([near[flag] for flag in StarFlag], axis=1), np.maximum(guessed, odd)
    uncertainty, near_px, doubt, neighbour = (
        values.astype(np.float32) for values in (uncertainty, near_px, doubt, neighbour)
    )
    return ExposureCensus(
        stars.rows, x, y, sums.sky_adu_per_px, sums.peak_adu, radii, counts, uncertainty,
        near_px, doubt, neighbour, np.array([camera.gain_e_per_adu, ratio]),
    )  # fmt: skip


def _others(
    places: tuple[Floats, Floats], counts: Floats, uncertainty: Floats, sky_noise: Floats,
    near: Mapping[StarFlag, Floats], beside: Neighbours, spread: Spread, apertures: Apertures,
) -> tuple[Floats, Floats, Floats]:  # fmt: skip
    """Other stars' light in the sums (stars, radii): what the catalogue's stars add, by the
    measured profile, to be taken off; the noise that this brings; and what is left, the light of
    stars that the catalogue lacks and the part by which the profile may be wrong.
    """
    radii, fwhm = apertures.radii_px, apertures.fwhm_px
    own = np.maximum(counts[:, -1], uncertainty[:, -1])
    over = overlaps(*places, own, sky_noise, beside, spread, radii, apertures.annulus_px, fwhm)
    step = _parted_step(apertures)
    ring = spread.seen_at(0.5 * sum(apertures.annulus_px))
    share = spread.share(radii[step]) - np.pi * radii[step] ** 2 * ring
    lost = _lost(near, radii[step])
    touched = np.minimum(near[StarFlag.BAD_PIXEL], near[StarFlag.COSMIC_RAY]) < radii[step]
    sums, noise = counts[:, step], uncertainty[:, step]
    measured = ~lost & (sums > _PARTED_SNR * noise)
    flux = parted_light(over, beside, sums, share, step, measured, fwhm)
    known = beside.star >= 0
    taken = over.light(np.where(known, flux, 0.0), counts.shape[0])
    each = np.zeros(flux.size)
    each[known] = np.where(measured, noise, 0.0)[beside.star[known]] / share
    variance = replace(over, share=over.share**2).light(each**2, counts.shape[0])
    both_ways = replace(over, share=over.both_ways)
    wrong = np.zeros(flux.size)
    sure = (measured & ~touched)[beside.star[known]]
    wrong[known] = np.where(sure, _PROFILE_ERROR, _UNSURE_ERROR)
    left = over.light(np.where(known, 0.0, flux), counts.shape[0])
    left = left + both_ways.light(wrong * flux + beside.unsure_adu, counts.shape[0])
    return taken, np.sqrt(variance), left


def _parted_step(apertures: Apertures) -> int:
    """The radius at which stars are told apart, by its place."""
    return int(np.argmin(np.abs(apertures.radii_px - _PARTED_FWHM * apertures.fwhm_px)))


def _lost(near: Mapping[StarFlag, Floats], radius_px: float) -> Bools:
    """Which stars have nothing to tell their light by, (stars)."""
    return np.asarray(np.min([near[flag] for flag in _NO_MEASURE], axis=0) < radius_px)


def _most(counts: Floats, uncertainty: Floats, step: int) -> Floats:
    """The most light that stars can have by what an aperture holds of them, (stars)."""
    held = np.maximum(counts[:, step], 0.0) + _UNSEEN_SNR * uncertainty[:, step]
    return np.asarray(np.nan_to_num(held / _LEAST_HELD, nan=np.inf))


def _uncertainty(
    light: Light, sums: ApertureSums, exposed: Exposed, camera: CameraConstants
) -> tuple[Floats, float]:
    """Uncertainties of the sums (stars, radii), and how many times noisier the sky is than the
    camera's constants say; where it is, they hold what the rings show.
    """
    ratio = sky_noise_ratio(light, sums.sky_scatter_adu, exposed, camera)
    if ratio > _NOISY_SKY:
        scatter_e = float(np.nanmedian(sums.sky_scatter_adu)) * camera.gain_e_per_adu
        more = np.sqrt(camera.masters_e**2 + scatter_e**2 * (1.0 - 1.0 / ratio**2))
        camera = replace(camera, masters_e=float(more))
    return aperture_uncertainty(light, exposed, camera), ratio


def _near(
    image: Image, sums: ApertureSums, x: Floats, y: Floats, fwhm_px: float
) -> dict[StarFlag, Floats]:
    """The radius at which each flag begins (stars), as far as pixels and places tell."""
    near = dict(zip(_IN_PIXELS, sums.near_px.T, strict=True))
    near[StarFlag.TRAIL] = np.full(x.size, np.inf)
    for trail in image.trails:
        gap = np.maximum(trail.distance(x, y) - _TRAIL_MARGIN_FWHM * fwhm_px, 0.0)
        near[StarFlag.TRAIL] = np.minimum(near[StarFlag.TRAIL], gap)
    off = off_centre(x, y, image.detections, fwhm_px)
    near[StarFlag.OFF_CENTRE] = np.where(off, 0.0, np.inf)
    poor = sums.ring_pixels < _LEAST_RING_PIXELS
    near[StarFlag.POOR_SKY] = np.where(poor, 0.0, np.inf)
    return near


def _masks(image: Image, apertures: Apertures) -> Floats:
    """Mask what is no sky; the radius of the mask of each star found."""
    found = image.detections
    radius = apertures.fwhm_px * (1.2 + 0.45 * np.log10(np.maximum(found.snr, 1.0)))
    radius = np.minimum(radius, apertures.annulus_px[0])
    mask_stars(image.flags, found.x_px, found.y_px, radius)
    return radius


def _response(image: Image, x: Floats, y: Floats) -> Floats:
    if image.flat_gain is None:
        return np.ones(x.size)
    return 1.0 / values_at(image.flat_gain, x, y)


def _spread(image: Image, beside: Neighbours, fwhm_px: float) -> Spread:
    """By the profile of stars that stand alone, also beside what only the catalogue knows of."""
    profile = image.profile or StarProfile(fwhm_px, _USUAL_BETA, 1.0, 0)
    found = image.detections
    sky, _ = image.background.at(found.x_px, found.y_px)
    if not profile.hollow and profile.fwhm_px < WIDE_PX and beside.x_px.size:
        others = Lights(beside.x_px, beside.y_px, beside.flux_adu)
        again = measure_profile(
            image.pixels, image.flags, found, sky, profile.fwhm_px, image.pixel_px, others,
            profile.beta,
        )  # fmt: skip
        profile = again or profile
    return spread_of(profile, image.pixels, image.flags, found, sky, image.pixel_px)


def _beside(
    image: Image, stars: Places, sums: ApertureSums, x: Floats, y: Floats, masks: Floats,
    fwhm_px: float,
) -> Neighbours:  # fmt: skip
    """Every other light on the image, in the scale of the aperture sums."""
    found = image.detections
    largest = sums.counts_adu[:, -1]
    known = np.isfinite(stars.magnitudes) & (largest > 0)
    expected = np.full(x.size, np.nan)
    if known.any():
        zero = middle(stars.magnitudes[known] + 2.5 * np.log10(largest[known]))
        expected = 10.0 ** (-0.4 * (stars.magnitudes - zero))
    flux = found.flux_adu.copy()
    if len(found) and x.size:
        # What the matched filter took for a star's light against what its aperture holds.
        at, _ = nearest(x, y, found.x_px, found.y_px, _CENTRED_FWHM * fwhm_px)
        sure = (at >= 0) & (sums.near_px.min(axis=1) > 3.0 * fwhm_px) & (largest > 0)
        sure &= found.snr[at] > CENTRED_SNR
        if sure.any():
            flux *= middle(largest[sure] / found.flux_adu[at[sure]])
    full = values_at(image.flags, found.x_px, found.y_px) & SATURATED
    return neighbours_of(
        x, y, expected, found, flux, full > 0, masks, fwhm_px, stars.moved_px, stars.varies
    )


def _first_radius(matters: Bools, radii: Floats) -> Floats:
    """Just below the first radius at which something matters, (stars); infinite where it never
    does.
    """
    first = np.argmax(matters, axis=1)
    return np.where(matters.any(axis=1), 0.999 * radii[first], np.inf)
