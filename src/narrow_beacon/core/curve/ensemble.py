"""Zero points of exposures from an ensemble of comparison stars.

Exposure zero points and star offsets are solved together (Honeycutt 1992, PASP 104, 435), so that
a star which drops out on some exposures does not shift them by its catalogue error. The catalogue
then fixes one common offset, whose uncertainty is kept apart from the scatter.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats

_CLIP = 4.0
_MOST_EXTRA_MAG = 1.0


@dataclass(frozen=True)
class Ensemble:
    """Zero points (exposures), star offsets from the catalogue (stars), and how well they fit.

    ``residual_mag`` (exposures, stars) is each star against the zero point without it; ``used``
    (exposures, stars) says where a star took part. ``weight`` (stars) sums to 1.
    """

    zero_point: Floats
    zero_point_uncertainty: Floats
    star_offset_mag: Floats
    extra_mag: float
    common_offset_uncertainty_mag: float
    residual_mag: Floats
    used: Bools
    weight: Floats


def solve_ensemble(
    instrumental_mag: Floats,
    uncertainty_mag: Floats,
    usable: Bools,
    catalogue_mag: Floats,
    catalogue_uncertainty_mag: Floats,
) -> Ensemble:
    """Zero point of every exposure from stars' instrumental magnitudes (exposures, stars).

    σ_extra is found so that the residuals' reduced χ² is 1 (never below 0). Exposures without a
    usable star get NaN.
    """
    used = usable & np.isfinite(instrumental_mag) & np.isfinite(uncertainty_mag)
    delta = np.where(used, catalogue_mag[None, :] - instrumental_mag, 0.0)
    extra = 0.0
    zero: Floats = np.empty(0)
    offset, weight = zero, zero
    for _ in range(6):
        extra = _extra(delta, uncertainty_mag, used, catalogue_uncertainty_mag)
        weight = np.where(used, 1.0 / (np.where(used, uncertainty_mag, 1.0) ** 2 + extra**2), 0.0)
        zero, offset = _solve(delta, weight, catalogue_uncertainty_mag)
        away = np.abs(delta - zero[:, None] - offset[None, :]) * np.sqrt(weight)
        now = used & ~(away > _CLIP)
        if np.array_equal(now, used):
            break
        used = now
    weight = np.where(used, weight, 0.0)
    total = weight.sum(axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        zero_uncertainty = np.where(total > 0, 1.0 / np.sqrt(total), np.nan)
    scatter = _catalogue_scatter(offset, catalogue_uncertainty_mag)
    common = 1.0 / (catalogue_uncertainty_mag**2 + scatter**2)
    mean_weight = weight.mean(axis=0)
    return Ensemble(
        zero_point=np.where(total > 0, zero, np.nan),
        zero_point_uncertainty=zero_uncertainty,
        star_offset_mag=offset,
        extra_mag=extra,
        common_offset_uncertainty_mag=float(1.0 / np.sqrt(common.sum())),
        residual_mag=_left_out_residuals(delta, weight, zero, offset, usable),
        used=used,
        weight=mean_weight / max(float(mean_weight.sum()), 1e-300),
    )


def _solve(delta: Floats, weight: Floats, catalogue_uncertainty: Floats) -> tuple[Floats, Floats]:
    """Weighted least squares of delta = zero[exposure] + offset[star], the offsets' catalogue-
    weighted mean being 0. The normal equations are reduced to the stars and solved directly.
    """
    per_exposure = weight.sum(axis=1)
    good = per_exposure > 0
    w, d = weight[good], delta[good]
    inverse = 1.0 / per_exposure[good]
    stars = delta.shape[1]
    matrix = np.diag(w.sum(axis=0)) - (w * inverse[:, None]).T @ w
    right = (w * d).sum(axis=0) - w.T @ (inverse * (w * d).sum(axis=1))
    # The system leaves a common constant free; least squares takes the shortest solution.
    offset = np.linalg.lstsq(matrix, right, rcond=1e-12)[0] if stars > 1 else np.zeros(stars)
    scatter = _catalogue_scatter(offset, catalogue_uncertainty)
    trust = 1.0 / (catalogue_uncertainty**2 + scatter**2)
    offset = offset - float((trust * offset).sum() / trust.sum())
    zero = np.zeros(delta.shape[0])
    zero[good] = (w * (d - offset[None, :])).sum(axis=1) * inverse
    return zero, offset


def _catalogue_scatter(offset: Floats, uncertainty: Floats) -> float:
    """Scatter of the offsets beyond the catalogue's own uncertainties, at least 1 mmag."""
    if offset.size < 3:
        return 0.001
    spread = 1.4826 * float(np.median(np.abs(offset - np.median(offset))))
    return float(np.sqrt(max(spread**2 - float(np.median(uncertainty)) ** 2, 1e-6)))


def _extra(delta: Floats, sigma: Floats, used: Bools, catalogue_uncertainty: Floats) -> float:
    freedom = int(used.sum()) - int(used.any(axis=1).sum()) - int(used.any(axis=0).sum()) + 1
    if freedom < 3:
        return 0.0

    def excess(extra: float) -> float:
        weight = np.where(used, 1.0 / (np.where(used, sigma, 1.0) ** 2 + extra**2), 0.0)
        zero, offset = _solve(delta, weight, catalogue_uncertainty)
        left = delta - zero[:, None] - offset[None, :]
        return float((weight * left**2).sum()) / freedom - 1.0

    if excess(0.0) <= 0:
        return 0.0
    low, high = 0.0, _MOST_EXTRA_MAG
    for _ in range(24):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if excess(middle) > 0 else (low, middle)
    return 0.5 * (low + high)


def _left_out_residuals(
    delta: Floats, weight: Floats, zero: Floats, offset: Floats, usable: Bools
) -> Floats:
    """Each star against the zero point of the others: never into its own."""
    total = weight.sum(axis=1, keepdims=True)
    own = delta - offset[None, :]
    others = total - weight
    with np.errstate(divide="ignore", invalid="ignore"):
        without = (zero[:, None] * total - weight * own) / others
        residual = own - without
    return np.where(usable & (others > 0), residual, np.nan)
