"""Calibrated differential magnitudes of target and check star on every exposure of a filter."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.curve.ensemble import Ensemble
from narrow_beacon.core.curve.steadiness import Steadiness, judge_steadiness
from narrow_beacon.core.measure.collection import FilterCensus


@dataclass(frozen=True)
class StarCurve:
    """One star over a filter's exposures: magnitudes, uncertainties, instrumental, flags."""

    magnitude: Floats
    uncertainty: Floats
    instrumental: Floats
    flags: Ints

    @property
    def steadiness(self) -> Steadiness:
        """How steady the star is over all of its exposures."""
        return judge_steadiness(self.magnitude, self.uncertainty)


def star_curve(census: FilterCensus, step: int, ensemble: Ensemble, row: int) -> StarCurve:
    """A star's calibrated magnitudes; NaN where it or the zero point is missing.

    The uncertainty holds the star's own noise, the ensemble's extra scatter and the zero point's;
    the catalogue's common offset is not in it.
    """
    column = census.column(row)
    count = census.exposure_s.size
    if column is None:
        nothing = np.full(count, np.nan)
        return StarCurve(nothing, nothing, nothing, np.zeros(count, int))
    magnitude, uncertainty = census.magnitudes(step)
    own, sigma = magnitude[:, column], uncertainty[:, column]
    total = np.sqrt(sigma**2 + ensemble.extra_mag**2 + ensemble.zero_point_uncertainty**2)
    return StarCurve(own + ensemble.zero_point, total, own, census.flags(step)[:, column])


def scatter_by_radius(
    census: FilterCensus, rows: Sequence[int], ensembles: Sequence[Ensemble]
) -> Floats:
    """Median scatter (radii) of constant stars ``rows`` against zero points without them.

    ``ensembles`` (radii) are those of the same stars at each radius.
    """
    steps = census.radii_px.shape[1]
    result = np.full(steps, np.nan)
    for step in range(steps):
        ensemble = ensembles[step]
        scatters = []
        _, uncertainty = census.magnitudes(step)
        for index, row in enumerate(rows):
            column = census.column(row)
            assert column is not None
            verdict = judge_steadiness(ensemble.residual_mag[:, index], uncertainty[:, column])
            if np.isfinite(verdict.scatter_mag):
                scatters.append(verdict.scatter_mag)
        if scatters:
            result[step] = float(np.median(scatters))
    return result


def transparency(zero_point: Floats, airmass: Floats) -> Floats:
    """Share of light that comes through, against the best of the night at the same airmass.

    Extinction is fitted by the upper envelope of the zero points (exposures) against airmass.
    """
    good = np.isfinite(zero_point)
    result = np.full(zero_point.shape, np.nan)
    if not good.any():
        return result
    z = zero_point[good]
    x = np.where(np.isfinite(airmass[good]), airmass[good], 1.0)
    slope = 0.0
    if z.size >= 8 and np.ptp(x) > 0.15:
        keep = np.ones(z.size, bool)
        for _ in range(10):
            slope, level = np.polyfit(x[keep], z[keep], 1)
            left = z - slope * x - level
            spread = max(1.4826 * float(np.median(np.abs(left[keep]))), 0.003)
            now = (left > -1.5 * spread) & (left < 4.0 * spread)
            if now.sum() < 5 or np.array_equal(now, keep):
                break
            keep = now
        # Extinction dims with airmass, and no clear night dims by more than this.
        slope = float(np.clip(slope, -1.0, 0.0))
    flat = z - slope * x
    best = np.percentile(flat, 85)
    result[good] = 10.0 ** (0.4 * (flat - best))
    return result
