"""Zero points of exposures from an ensemble of comparison stars.

Exposure zero points and star offsets are solved together (Honeycutt 1992, PASP 104, 435), so that
a star which drops out on some exposures does not shift them by its catalogue error. The catalogue
then fixes one common offset, whose uncertainty is kept apart from the scatter.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from narrow_beacon.core.arrays import Bools, Floats
from narrow_beacon.core.compiled import njit
from narrow_beacon.core.measure.noise import POGSON

_CLIP = 4.0
_START_SNR = 3.0
_LINEAR_SNR = 20.0
"""Below it the mean of magnitudes is off the magnitude of the mean light by more than 1.4 mmag."""
_LEAST_VARIANCE = 0.05
_ROUNDS = 8
_SETTLED_MAG = 1e-5
LEAST_TESTED = 3
"""Fewer comparison stars than these can't show which of them varies."""
_MOST_EXTRA_MAG, _SURE_EXTRA_MAG = 1.0, 1e-6


@dataclass(frozen=True)
class Rates:
    """Light of stars on exposures in ADU/s with uncertainties, both (exposures, stars), and the
    variance in (ADU/s)² that one ADU/s of starlight brings with it (exposures): 1 / (gain · time).
    """

    rate: Floats
    uncertainty: Floats
    per_rate: Floats

    @property
    def magnitude(self) -> Floats:
        """−2.5 log₁₀ of the light; NaN where there is none."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return -2.5 * np.log10(np.where(self.rate > 0, self.rate, np.nan))


@dataclass(frozen=True)
class Ensemble:
    """Zero points (exposures), star offsets from the catalogue (stars), and how well they fit.

    ``residual_mag`` (exposures, stars) is each star against the zero point without it, its noise in
    ``noise_mag``; ``used`` (exposures, stars) says where a star took part. ``weight`` (stars) sums
    to 1. ``tested`` is False where too few stars took part to tell whether they are steady.
    """

    zero_point: Floats
    zero_point_uncertainty: Floats
    star_offset_mag: Floats
    extra_mag: float
    common_offset_uncertainty_mag: float
    residual_mag: Floats
    noise_mag: Floats
    used: Bools
    weight: Floats
    tested: bool = True

    def widened(self, extra_mag: float) -> Ensemble:
        """With zero points as unsure as something else than these stars says."""
        wider = np.hypot(self.zero_point_uncertainty, extra_mag)
        return replace(self, zero_point_uncertainty=wider)


def solve_ensemble(
    rates: Rates, usable: Bools, catalogue_mag: Floats, catalogue_uncertainty_mag: Floats
) -> Ensemble:
    """Zero point of every exposure from stars' light (exposures, stars).

    A star's weight comes from the noise that its usual brightness and the exposure's zero point
    lead one to expect, never from the counts of the day: weights that follow the noise would favour
    what came out too bright. For the same reason a faint star counts by its light and not by its
    magnitude, whose mean is not that of the light. σ_extra is found so that the residuals' reduced
    χ² is 1 (never below 0). Exposures without a usable star get NaN.
    """
    used: Bools = np.asarray(usable & np.isfinite(rates.rate) & np.isfinite(rates.uncertainty))
    known: Bools = used & (rates.rate > _START_SNR * rates.uncertainty)
    # Exposures on which nothing is bright start from what light there is.
    known = known | (used & (rates.rate > 0) & ~_any(known))
    with np.errstate(invalid="ignore", divide="ignore"):
        delta = np.where(known, catalogue_mag[None, :] - rates.magnitude, 0.0)
        noise = np.where(known, POGSON * rates.uncertainty / rates.rate, 1.0)
    extra = _extra(delta, noise, known)
    weight = np.where(known, 1.0 / (noise**2 + extra**2), 0.0)
    zero, offset = _solve(delta, weight, catalogue_uncertainty_mag)
    reached = _any(known)
    used = used & reached
    for _ in range(_ROUNDS):
        delta, noise = _expected(rates, used, zero[:, None] + offset[None, :], catalogue_mag)
        extra = _extra(delta, noise, used)
        weight = np.where(used, 1.0 / (noise**2 + extra**2), 0.0)
        last = zero
        zero, offset = _solve(delta, weight, catalogue_uncertainty_mag)
        away = np.abs(delta - zero[:, None] - offset[None, :]) * np.sqrt(weight)
        now = used & ~(away > _CLIP)
        settled = np.abs(zero - last).max(initial=0.0) < _SETTLED_MAG
        if np.array_equal(now, used) and settled:
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
        residual_mag=_left_out_residuals(delta, weight, zero, offset, usable & reached),
        noise_mag=noise,
        used=used,
        weight=mean_weight / max(float(mean_weight.sum()), 1e-300),
        tested=catalogue_mag.size >= LEAST_TESTED,
    )


def _any(mask: Bools) -> Bools:
    """On which exposures there is any star, (exposures, 1)."""
    return np.asarray(mask.any(axis=1, keepdims=True))


def _expected(
    rates: Rates, used: Bools, model: Floats, catalogue_mag: Floats
) -> tuple[Floats, Floats]:
    """Catalogue minus instrumental magnitude of every star, and its noise as the model of zero
    points and offsets (exposures, stars) lets one expect it.
    """
    expected = 10.0 ** (-0.4 * (catalogue_mag[None, :] - model))
    own = np.where(used, rates.uncertainty, 1.0) ** 2
    rate = np.where(used, rates.rate, expected)
    variance = own + (expected - np.maximum(rate, 0.0)) * rates.per_rate[:, None]
    variance = np.maximum(variance, _LEAST_VARIANCE * own)
    noise = POGSON * np.sqrt(variance) / expected
    linear = model + POGSON * (rate / expected - 1.0)
    with np.errstate(invalid="ignore", divide="ignore"):
        exact = catalogue_mag[None, :] + 2.5 * np.log10(np.where(rate > 0, rate, np.nan))
    bright = (noise < POGSON / _LINEAR_SNR) & np.isfinite(exact)
    return np.where(used, np.where(bright, exact, linear), 0.0), np.where(used, noise, 1.0)


def _solve(delta: Floats, weight: Floats, catalogue_uncertainty: Floats) -> tuple[Floats, Floats]:
    """Weighted least squares of delta = zero[exposure] + offset[star], the offsets' catalogue-
    weighted mean being 0.
    """
    zero, offset = _solve_free(delta, weight)
    scatter = _catalogue_scatter(offset, catalogue_uncertainty)
    trust = 1.0 / (catalogue_uncertainty**2 + scatter**2)
    middle = float((trust * offset).sum() / trust.sum())
    return np.where(weight.sum(axis=1) > 0, zero + middle, 0.0), offset - middle


def _solve_free(delta: Floats, weight: Floats) -> tuple[Floats, Floats]:
    """The same but for a constant that zero points and offsets can share as they like. The normal
    equations are reduced to the stars and solved directly.
    """
    matrix, right = _normal(delta, weight)
    stars = delta.shape[1]
    # The system leaves a common constant free; least squares takes the shortest solution.
    offset = np.linalg.lstsq(matrix, right, rcond=1e-12)[0] if stars > 1 else np.zeros(stars)
    return np.asarray(_zeros(delta, weight, offset)), offset


@njit(cache=True, nogil=True)
def _normal(delta, weight):  # type: ignore[no-untyped-def]
    """Matrix (stars, stars) and right side of the normal equations."""
    exposures, stars = delta.shape
    matrix, right = np.zeros((stars, stars)), np.zeros(stars)
    for e in range(exposures):
        total = light = 0.0
        for i in range(stars):
            total += weight[e, i]
            light += weight[e, i] * delta[e, i]
        if total <= 0.0:
            continue
        for i in range(stars):
            w = weight[e, i]
            if w == 0.0:
                continue
            matrix[i, i] += w
            right[i] += w * (delta[e, i] - light / total)
            share = w / total
            for j in range(i + 1):
                matrix[i, j] -= share * weight[e, j]
    for i in range(stars):
        matrix[:i, i] = matrix[i, :i]
    return matrix, right


@njit(cache=True, nogil=True)
def _zeros(delta, weight, offset):  # type: ignore[no-untyped-def]
    """Zero points (exposures) for the stars' offsets."""
    exposures, stars = delta.shape
    zero = np.zeros(exposures)
    for e in range(exposures):
        total = light = 0.0
        for i in range(stars):
            total += weight[e, i]
            light += weight[e, i] * (delta[e, i] - offset[i])
        if total > 0.0:
            zero[e] = light / total
    return zero


@njit(cache=True, nogil=True)
def _weights(sigma, used, extra):  # type: ignore[no-untyped-def]
    exposures, stars = sigma.shape
    weight = np.zeros((exposures, stars))
    for e in range(exposures):
        for i in range(stars):
            if used[e, i]:
                weight[e, i] = 1.0 / (sigma[e, i] ** 2 + extra * extra)
    return weight


@njit(cache=True, nogil=True)
def _chi2(delta, weight, zero, offset):  # type: ignore[no-untyped-def]
    exposures, stars = delta.shape
    total = 0.0
    for e in range(exposures):
        for i in range(stars):
            total += weight[e, i] * (delta[e, i] - zero[e] - offset[i]) ** 2
    return total


def _catalogue_scatter(offset: Floats, uncertainty: Floats) -> float:
    """Scatter of the offsets beyond the catalogue's own uncertainties, at least 1 mmag."""
    if offset.size < 3:
        return 0.001
    spread = 1.4826 * float(np.median(np.abs(offset - np.median(offset))))
    return float(np.sqrt(max(spread**2 - float(np.median(uncertainty)) ** 2, 1e-6)))


def _extra(delta: Floats, sigma: Floats, used: Bools) -> float:
    freedom = int(used.sum()) - int(used.any(axis=1).sum()) - int(used.any(axis=0).sum()) + 1
    if freedom < 3:
        return 0.0

    def excess(extra: float) -> float:
        weight = _weights(sigma, used, extra)
        zero, offset = _solve_free(delta, weight)
        return float(_chi2(delta, weight, zero, offset)) / freedom - 1.0

    if excess(0.0) <= 0:
        return 0.0
    if excess(_MOST_EXTRA_MAG) > 0:
        return _MOST_EXTRA_MAG
    return float(scipy.optimize.brentq(excess, 0.0, _MOST_EXTRA_MAG, xtol=_SURE_EXTRA_MAG))


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
