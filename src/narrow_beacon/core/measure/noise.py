"""How sure an aperture sum is: photons, sky, dark, read noise, quantisation, scintillation.

σ² = F·g + n(1 + n/n_ring)(S·g + D·t + R² + g²/12) + σ²_scint in electrons (Howell, Handbook of
CCD Astronomy; Merline & Howell 1995, Exp. Astron. 6, 163). Scintillation: Osborn et al. (2015,
MNRAS 452, 1707).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats

SCINTILLATION_C_Y = 1.5
_SCALE_HEIGHT_M = 8000.0


@dataclass(frozen=True)
class CameraConstants:
    """What the noise model needs of camera, telescope and site. ``aperture_m`` None: unknown,
    then scintillation is left out.
    """

    gain_e_per_adu: float
    read_noise_e: float
    dark_e_per_s: float = 0.0
    aperture_m: float | None = None
    elevation_m: float = 0.0
    dark_frames: int | None = None
    """Frames in the dark that was taken off; its noise adds to the exposure's."""


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


def aperture_uncertainty(
    counts_adu: Floats,
    sky_adu_per_px: Floats,
    ring_pixels: Floats,
    radii_px: Floats,
    exposure_s: float,
    airmass: float,
    camera: CameraConstants,
    response: Floats | float = 1.0,
) -> Floats:
    """Standard uncertainty of aperture sums in ADU, (stars, radii).

    ``counts_adu`` (stars, radii) has the sky off; ``sky_adu_per_px`` and ``ring_pixels`` (stars)
    describe the ring. ``response`` is the flat's value at each star: where it is above 1 an ADU of
    the corrected exposure stands for more electrons than the gain says, in the corners for fewer.
    """
    g = camera.gain_e_per_adu * np.broadcast_to(response, ring_pixels.shape)[:, None]
    n = np.pi * np.asarray(radii_px, float)[None, :] ** 2
    ring = np.maximum(ring_pixels, 1.0)[:, None]
    dark_share = 1.0 + (1.0 / camera.dark_frames if camera.dark_frames else 0.0)
    per_pixel = (
        np.maximum(sky_adu_per_px, 0.0)[:, None] * g
        + (camera.dark_e_per_s * exposure_s + camera.read_noise_e**2) * dark_share
        + camera.gain_e_per_adu**2 / 12.0
    )
    flux_e = np.maximum(counts_adu, 0.0) * g
    variance = flux_e + n * (1.0 + n / ring) * per_pixel
    if camera.aperture_m and np.isfinite(airmass):
        relative = scintillation(camera.aperture_m, exposure_s, airmass, camera.elevation_m)
        variance = variance + (relative * flux_e) ** 2
    return np.sqrt(variance) / g


@dataclass(frozen=True)
class ErrorBudget:
    """Where the uncertainty of a star comes from: standard deviations in magnitudes."""

    star: float
    sky: float
    dark: float
    read: float
    scintillation: float

    @property
    def total(self) -> float:
        """All of it together."""
        parts = (self.star, self.sky, self.dark, self.read, self.scintillation)
        return float(np.sqrt(sum(part**2 for part in parts)))


def error_budget(
    counts_adu: float,
    sky_adu_per_px: float,
    ring_pixels: float,
    radius_px: float,
    exposure_s: float,
    airmass: float,
    camera: CameraConstants,
) -> ErrorBudget:
    """The terms of ``aperture_uncertainty`` for one star at one radius, quantisation with read
    noise.
    """
    g = camera.gain_e_per_adu
    flux_e = max(counts_adu * g, 1e-9)
    n = np.pi * radius_px**2
    pixels = n * (1.0 + n / max(ring_pixels, 1.0))
    dark_share = 1.0 + (1.0 / camera.dark_frames if camera.dark_frames else 0.0)
    terms = {
        "star": flux_e,
        "sky": pixels * max(sky_adu_per_px, 0.0) * g,
        "dark": pixels * camera.dark_e_per_s * exposure_s * dark_share,
        "read": pixels * (camera.read_noise_e**2 * dark_share + g**2 / 12.0),
    }
    to_mag = 2.5 / np.log(10.0) / flux_e
    relative = 0.0
    if camera.aperture_m and np.isfinite(airmass):
        relative = float(scintillation(camera.aperture_m, exposure_s, airmass, camera.elevation_m))
    return ErrorBudget(
        **{name: float(np.sqrt(value)) * to_mag for name, value in terms.items()},
        scintillation=relative * flux_e * to_mag,
    )
