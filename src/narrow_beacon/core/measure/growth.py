"""Growth of light with radius, and the radius that serves the target best."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats

RADII_FWHM = (0.6, 0.75, 0.9, 1.05, 1.2, 1.4, 1.6, 1.85, 2.1, 2.4, 2.75, 3.2)
"""Radii of the census in units of the star width."""
_ALIKE = 1.03


@dataclass(frozen=True)
class RadiusChoice:
    """The chosen step of the set of radii, and what each step would give (radii)."""

    step: int
    target_snr: Floats
    night_scatter_mag: Floats
    reason: str


def choose_radius(radii_px: Floats, target_snr: Floats, scatter_mag: Floats) -> RadiusChoice:
    """The radius with the least night scatter of constant stars of the target's brightness.

    Radii whose scatter is within 3% of the least are alike; among them the one with the highest
    signal to noise of the target wins. Arrays are (radii); NaN scatter means it is unknown.
    """
    known = np.isfinite(scatter_mag)
    if not known.any():
        step = int(np.nanargmax(target_snr))
        reason = f"{radii_px[step]:.2f} px: highest signal to noise of the target"
        return RadiusChoice(step, target_snr, scatter_mag, reason)
    smooth = _smooth(np.where(known, scatter_mag, np.nanmax(scatter_mag[known])))
    alike = np.flatnonzero(smooth <= _ALIKE * np.min(smooth))
    step = int(alike[np.argmax(np.nan_to_num(target_snr[alike]))])
    reason = (
        f"{radii_px[step]:.2f} px: constant stars scatter by "
        f"{1000 * scatter_mag[step]:.1f} mmag, signal to noise of the target {target_snr[step]:.0f}"
    )
    return RadiusChoice(step, target_snr, scatter_mag, reason)


def _smooth(values: Floats) -> Floats:
    padded = np.concatenate([values[:1], values, values[-1:]])
    return 0.25 * padded[:-2] + 0.5 * padded[1:-1] + 0.25 * padded[2:]
