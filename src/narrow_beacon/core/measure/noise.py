"""How sure an aperture sum is: photons, sky, dark, read noise, quantisation, the masters' own
noise, scintillation.

σ² = F·g + n(1 + n/n_ring)(S·g + D·t + R² + g²/12 + M²) + (F·φ)²/n_eff + σ²_scint in electrons
(Howell, Handbook of CCD Astronomy; Merline & Howell 1995, Exp. Astron. 6, 163), M being the noise
of what was taken off and φ that of the flat, both a pixel, and n_eff = 1 / ΣP² the pixels over
which a star's profile P spreads. Scintillation: Osborn et al. (2015, MNRAS 452, 1707).
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any, NamedTuple

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, flat, middle

POGSON = 2.5 / np.log(10.0)
"""Magnitudes in a small relative change of light."""
SCINTILLATION_C_Y = 1.5
_SCALE_HEIGHT_M = 8000.0
_CLIPPED = 0.9867
"""Scatter of normal values within three of it, over that of all of them."""
_SPREAD_FWHM2 = 2.27
"""1 / ΣP² of a round star over the square of its width: 4π / 2.3548² for a Gaussian profile."""


@dataclass(frozen=True)
class CameraConstants:
    """What the noise model needs of camera, telescope, site and masters. ``aperture_m`` None:
    unknown, then scintillation is left out.
    """

    gain_e_per_adu: float
    read_noise_e: float
    dark_e_per_s: float = 0.0
    aperture_m: float | None = None
    elevation_m: float = 0.0
    masters_e: float = 0.0
    """Noise a pixel of the bias and dark that were taken off."""
    flat_noise: float = 0.0
    """Relative noise a pixel of the flat."""
    step_adu: float = 1.0
    """In which the values come."""

    @property
    def quantisation_e2(self) -> float:
        """Variance in electrons², a pixel, of what rounding to that step does."""
        return (self.gain_e_per_adu * self.step_adu) ** 2 / 12.0


@dataclass(frozen=True)
class MastersNoise:
    """What the masters add to an exposure's noise, a pixel: the shares of one bias frame's and one
    dark's variance, how long that dark was, what stays of a pattern that could not be scaled, and
    the light that the flats have together.
    """

    bias_share: float = 0.0
    dark_share: float = 0.0
    dark_s: float = 0.0
    left_adu: float = 0.0
    flat_adu: float = 0.0

    def offset_e(self, gain_e_per_adu: float, read_noise_e: float, dark_e_per_s: float) -> float:
        """Noise in electrons, a pixel, of what was taken off; ``dark_e_per_s`` is the dark's."""
        read = read_noise_e**2 * (self.bias_share + self.dark_share)
        dark = dark_e_per_s * self.dark_s * self.dark_share
        return float(np.sqrt(read + dark + (self.left_adu * gain_e_per_adu) ** 2))

    def flat(self, gain_e_per_adu: float) -> float:
        """Relative noise, a pixel, of the flat."""
        return (gain_e_per_adu * self.flat_adu) ** -0.5 if self.flat_adu else 0.0


@dataclass(frozen=True)
class Exposed:
    """How long, and through how much air; ``parts`` is how many sets of pixels are measured each
    by itself and added: what the air does to a star it does to all of them alike.
    """

    exposure_s: float
    airmass: float
    parts: int = 1


@dataclass(frozen=True)
class Light:
    """What apertures and rings of some stars held.

    ``counts_adu`` (stars, radii) has the sky off; ``sky_adu_per_px`` and ``ring_pixels`` (stars)
    describe the ring. ``response`` (stars) is the flat's value at each star: where it is above 1 an
    ADU of the corrected exposure stands for more electrons than the gain says, in the corners for
    fewer.
    """

    counts_adu: Floats
    sky_adu_per_px: Floats
    ring_pixels: Floats
    radii_px: Floats
    fwhm_px: float
    response: Floats

    def electrons_per_adu(self, camera: CameraConstants) -> Floats:
        """Of a corrected exposure, at each star (stars, 1)."""
        return (camera.gain_e_per_adu * self.response)[:, None]


@dataclass(frozen=True)
class NoiseTerms:
    """Variances of aperture sums in electrons², by what they come from, (stars, radii)."""

    star: Floats
    sky: Floats
    dark: Floats
    read: Floats
    masters: Floats
    scintillation: Floats


def scintillation(
    aperture_m: float, exposure_s: float, airmass: float | Floats, elevation_m: float
) -> Floats:
    """Relative standard deviation of a star's flux by scintillation, long exposures."""
    squared = (
        1e-5
        * SCINTILLATION_C_Y**2
        * aperture_m ** (-4.0 / 3.0)
        / exposure_s
        * np.asarray(airmass, float) ** 3
        * np.exp(-2.0 * elevation_m / _SCALE_HEIGHT_M)
    )
    return np.sqrt(squared)


def noise_terms(light: Light, exposed: Exposed, camera: CameraConstants) -> NoiseTerms:
    """Where the variance of each aperture sum comes from; quantisation counts as read noise."""
    return NoiseTerms(*_terms(light, exposed, camera))


def aperture_uncertainty(light: Light, exposed: Exposed, camera: CameraConstants) -> Floats:
    """Standard uncertainty of aperture sums in ADU, (stars, radii)."""
    return np.sqrt(_terms(light, exposed, camera).sum(axis=0)) / light.electrons_per_adu(camera)


def _terms(light: Light, exposed: Exposed, camera: CameraConstants) -> Floats:
    """Variances in the order of ``NoiseTerms`` (terms, stars, radii)."""
    terms = np.empty((6, *light.counts_adu.shape))
    _fill_terms(*_known_of(light, exposed, camera), terms)
    return terms


class _Constants(NamedTuple):
    """What is the same for all stars and radii, in electrons."""

    dark_e: float
    read_e2: float
    masters_e2: float
    flat_noise: float
    spread_px: float
    scintillation2: float


def _known_of(
    light: Light, exposed: Exposed, camera: CameraConstants
) -> tuple[Floats, Floats, Floats, Floats, Floats, _Constants]:
    """Counts (stars, radii), sky, ring's pixels, electrons an ADU (stars), areas (radii)."""
    relative = 0.0
    if camera.aperture_m and np.isfinite(exposed.airmass):
        relative = float(
            scintillation(
                camera.aperture_m, exposed.exposure_s, exposed.airmass, camera.elevation_m
            )
        )
    constants = _Constants(
        float(camera.dark_e_per_s * exposed.exposure_s),
        float(camera.read_noise_e**2 + camera.quantisation_e2),
        float(camera.masters_e**2),
        float(camera.flat_noise),
        float(max(_SPREAD_FWHM2 * light.fwhm_px**2, 1.0)),
        float(exposed.parts * relative**2),
    )
    return (
        np.ascontiguousarray(light.counts_adu, float), flat(light.sky_adu_per_px),
        flat(light.ring_pixels), flat(light.electrons_per_adu(camera)),
        np.pi * np.asarray(light.radii_px, float) ** 2, constants,
    )  # fmt: skip


@njit(inline="always")
def _positive(value):  # type: ignore[no-untyped-def]
    """At least 0, NaN as it is."""
    return 0.0 if value < 0.0 else value


@njit(inline="always")
def _terms_of(flux_e, sky_e, area, ring, c):  # type: ignore[no-untyped-def]
    """The variances of one sum, in the order of ``NoiseTerms``."""
    pixels = area * (1.0 + area / ring)
    flats_sky, flats_star = c.flat_noise * sky_e, c.flat_noise * flux_e
    masters = pixels * (c.masters_e2 + flats_sky * flats_sky)
    masters += flats_star * flats_star / c.spread_px
    return (
        flux_e, pixels * sky_e, pixels * c.dark_e, pixels * c.read_e2, masters,
        c.scintillation2 * (flux_e * flux_e),
    )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def _fill_terms(counts, sky, ring, gain, areas, constants, terms):  # type: ignore[no-untyped-def]
    for n in range(counts.shape[0]):
        sky_e, pixels = _positive(sky[n]) * gain[n], max(ring[n], 1.0)
        for k in range(areas.size):
            flux_e = _positive(counts[n, k]) * gain[n]
            every = _terms_of(flux_e, sky_e, areas[k], pixels, constants)
            for m in range(6):
                terms[m, n, k] = every[m]


def expected_noise_adu(sky_adu_per_px: float, exposure_s: float, camera: CameraConstants) -> float:
    """Of a corrected pixel of the sky, where the flat is 1."""
    g = camera.gain_e_per_adu
    return float(np.sqrt(_sky_variance(max(sky_adu_per_px, 0.0) * g, exposure_s, camera))) / g


def _sky_variance(sky_e: Any, exposure_s: float, camera: CameraConstants) -> Any:
    return (
        sky_e + camera.dark_e_per_s * exposure_s + camera.read_noise_e**2
        + camera.quantisation_e2 + camera.masters_e**2 + (camera.flat_noise * sky_e) ** 2
    )  # fmt: skip


def sky_noise_ratio(
    light: Light, sky_scatter_adu: Floats, exposed: Exposed, camera: CameraConstants
) -> float:
    """How many times noisier the rings' pixels are than the model says; the median of all stars."""
    g = light.electrons_per_adu(camera)[:, 0]
    sky_e = np.maximum(light.sky_adu_per_px, 0.0) * g
    variance = _sky_variance(sky_e, exposed.exposure_s, camera)
    ratio = sky_scatter_adu / _CLIPPED * g / np.sqrt(variance)
    known = ratio[np.isfinite(ratio)]
    return middle(known) if known.size else 1.0


@dataclass(frozen=True)
class ErrorBudget:
    """Where the uncertainty of a star comes from: standard deviations in magnitudes."""

    star: float
    sky: float
    dark: float
    read: float
    masters: float
    scintillation: float

    @property
    def total(self) -> float:
        """All of it together."""
        return float(np.sqrt(sum(getattr(self, field.name) ** 2 for field in fields(self))))


def error_budgets(light: Light, exposed: Exposed, camera: CameraConstants) -> list[ErrorBudget]:
    """The terms of ``aperture_uncertainty`` for one star, a budget for each radius."""
    terms = noise_terms(light, exposed, camera)
    flux_e = np.maximum(light.counts_adu * light.electrons_per_adu(camera), 1e-9)
    to_mag = POGSON / flux_e[0]
    parts = {field.name: np.sqrt(getattr(terms, field.name)[0]) * to_mag for field in fields(terms)}
    return [
        ErrorBudget(**{name: float(values[k]) for name, values in parts.items()})
        for k in range(light.radii_px.size)
    ]
