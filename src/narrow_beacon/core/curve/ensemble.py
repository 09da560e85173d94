"""Zero points of exposures from an ensemble of comparison stars.

Exposure zero points and star offsets are solved together (Honeycutt 1992, PASP 104, 435), so that
a star which drops out on some exposures does not shift them by its catalogue error. The catalogue
then fixes one common offset, whose uncertainty is kept apart from the scatter.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache

import numpy as np
import scipy

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Bools, Floats, Ints
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
_AT_ONCE = 256
_MOST_EXTRA_MAG, _SURE_EXTRA_MAG, _ROUGH_EXTRA_MAG = 1.0, 1e-6, 1e-4


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

    def take(self, exposures: Ints) -> Ensemble:
        """On some of the exposures only."""
        return replace(
            self, zero_point=self.zero_point[exposures],
            zero_point_uncertainty=self.zero_point_uncertainty[exposures],
            residual_mag=self.residual_mag[exposures], noise_mag=self.noise_mag[exposures],
            used=self.used[exposures],
        )  # fmt: skip


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
    # In one order in memory, so that sums are the same bit for bit wherever the arrays came from.
    rates = Rates(
        *(
            np.ascontiguousarray(part, float)
            for part in (rates.rate, rates.uncertainty, rates.per_rate)
        )
    )
    usable = np.ascontiguousarray(usable)
    used: Bools = np.asarray(usable & np.isfinite(rates.rate) & np.isfinite(rates.uncertainty))
    used = used & _shining(rates, used)
    known: Bools = used & (rates.rate > _START_SNR * rates.uncertainty)
    # Exposures on which nothing is bright start from what light there is.
    known = known | (used & (rates.rate > 0) & ~_any(known))
    straight = catalogue_mag[None, :] - rates.magnitude
    with np.errstate(invalid="ignore", divide="ignore"):
        delta = np.where(known, straight, 0.0)
        noise = np.where(known, POGSON * rates.uncertainty / rates.rate, 1.0)
    equations = _Normal(delta, noise, known)
    extra = _extra(equations, known, sure_mag=_ROUGH_EXTRA_MAG)
    weight = np.where(known, 1.0 / (noise**2 + extra**2), 0.0)
    zero, offset = _solve(equations, extra, delta, weight, catalogue_uncertainty_mag)
    reached = _any(known)
    used = used & reached
    for _ in range(_ROUNDS):
        delta, noise = _expected(rates, used, zero, offset, catalogue_mag, straight)
        equations = _Normal(delta, noise, used)
        extra = _extra(equations, used, extra)
        weight = np.where(used, 1.0 / (noise**2 + extra**2), 0.0)
        last = zero
        zero, offset = _solve(equations, extra, delta, weight, catalogue_uncertainty_mag)
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


def _shining(rates: Rates, used: Bools) -> Bools:
    """Which stars have any light in all exposures together, (1, stars): what has none, such as a
    star that the catalogue makes up, has no magnitude either.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        light = np.where(used, rates.rate / rates.uncertainty**2, 0.0)
    return np.asarray(light.sum(axis=0, keepdims=True) > 0)


def _any(mask: Bools) -> Bools:
    """On which exposures there is any star, (exposures, 1)."""
    return np.asarray(mask.any(axis=1, keepdims=True))


def _expected(
    rates: Rates, used: Bools, zero: Floats, offset: Floats, catalogue_mag: Floats, straight: Floats
) -> tuple[Floats, Floats]:
    """Catalogue minus instrumental magnitude of every star, and its noise as zero points and
    offsets let one expect it, both (exposures, stars). ``straight`` is the first as it is where
    there is any light.
    """
    delta, noise = np.zeros(rates.rate.shape), np.ones(rates.rate.shape)
    _expect(
        rates.rate, rates.uncertainty, rates.per_rate, used, zero, offset, catalogue_mag, straight,
        delta, noise,
    )  # fmt: skip
    return delta, noise


@njit(cache=True, nogil=True, error_model="numpy")
def _expect(  # type: ignore[no-untyped-def]
    rate, uncertainty, per_rate, used, zero, offset, catalogue, straight, delta, noise
):  # fmt: skip
    for e in range(rate.shape[0]):
        for i in range(rate.shape[1]):
            if not used[e, i]:
                continue
            model = zero[e] + offset[i]
            expected = np.exp((model - catalogue[i]) / POGSON)
            own, light = uncertainty[e, i] * uncertainty[e, i], rate[e, i]
            variance = own + (expected - max(light, 0.0)) * per_rate[e]
            noise[e, i] = POGSON * np.sqrt(max(variance, _LEAST_VARIANCE * own)) / expected
            if noise[e, i] < POGSON / _LINEAR_SNR and light > 0.0:
                delta[e, i] = straight[e, i]
            else:
                delta[e, i] = model + POGSON * (light / expected - 1.0)


def _solve(
    equations: _Normal, extra: float, delta: Floats, weight: Floats, catalogue_uncertainty: Floats
) -> tuple[Floats, Floats]:
    """Weighted least squares of delta = zero[exposure] + offset[star], the offsets' catalogue-
    weighted mean being 0: a constant that both can share as they like.
    """
    offset = _offsets(*equations.at(extra)[:2])
    zero = np.asarray(_zeros(delta, weight, offset))
    scatter = _catalogue_scatter(offset, catalogue_uncertainty)
    trust = 1.0 / (catalogue_uncertainty**2 + scatter**2)
    middle = float((trust * offset).sum() / trust.sum())
    return np.where(weight.sum(axis=1) > 0, zero + middle, 0.0), offset - middle


def _offsets(matrix: Floats, right: Floats) -> Floats:
    """Of the solutions, which differ by a common constant, the shortest."""
    if right.size == 1:
        return np.zeros(1)
    return np.asarray(np.linalg.lstsq(matrix, right, rcond=1e-12)[0])


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


class _Normal:
    """The normal equations of some measures, reduced to the stars, for any extra scatter."""

    def __init__(self, delta: Floats, sigma: Floats, used: Bools) -> None:
        self._delta, self._variance = (
            np.empty_like(delta.T, order="C"),
            np.empty_like(delta.T, order="C"),
        )
        _by_star(delta, sigma, used, self._delta, self._variance)

    def at(self, extra: float) -> tuple[Floats, Floats, float]:
        """Matrix (stars, stars) and right side for weights 1 / (σ² + extra²), and χ² for offsets of
        0: what these take off it is their product with the right side.
        """
        stars = self._delta.shape[0]
        matrix, right = np.zeros((stars, stars)), np.zeros(stars)
        chi2 = float(_normal(self._delta, self._variance, float(extra * extra), matrix, right))
        return matrix, right, chi2


@njit(cache=True, nogil=True)
def _by_star(delta, sigma, used, delta_of, variance_of):  # type: ignore[no-untyped-def]
    """One star after the other: the processor then works on many exposures at once."""
    for e in range(delta.shape[0]):
        for i in range(delta.shape[1]):
            delta_of[i, e] = delta[e, i] if used[e, i] else 0.0
            variance_of[i, e] = sigma[e, i] * sigma[e, i] if used[e, i] else np.inf


@njit(cache=True, nogil=True, error_model="numpy", fastmath={"reassoc", "nsz", "contract"})
def _normal(delta, variance, extra2, matrix, right):  # type: ignore[no-untyped-def]
    """Some exposures at a time, so that they stay in the cache; those without a star have no
    weight at all.
    """
    stars, exposures = delta.shape
    weight, own = np.empty((stars, _AT_ONCE)), np.empty((stars, _AT_ONCE))
    total, mean = np.empty(_AT_ONCE), np.empty(_AT_ONCE)
    chi2 = 0.0
    for begin in range(0, exposures, _AT_ONCE):
        count = min(_AT_ONCE, exposures - begin)
        total[:], mean[:] = 0.0, 0.0
        for i in range(stars):
            w, d, v = weight[i], delta[i, begin : begin + count], variance[i, begin : begin + count]
            for e in range(count):
                w[e] = 1.0 / (v[e] + extra2)
                total[e] += w[e]
                mean[e] += w[e] * d[e]
        for e in range(count):
            there = 1.0 / total[e] if total[e] > 0.0 else 0.0
            mean[e] *= there
            total[e] = there
        for i in range(stars):
            w, o, d = weight[i], own[i], delta[i, begin : begin + count]
            light = square = diagonal = 0.0
            for e in range(count):
                left = w[e] * (d[e] - mean[e])
                light += left
                square += left * (d[e] - mean[e])
                o[e] = w[e] * total[e]
                diagonal += w[e]
            right[i] += light
            chi2 += square
            matrix[i, i] += diagonal
            for j in range(i + 1):
                other, both = weight[j], 0.0
                for e in range(count):
                    both += o[e] * other[e]
                matrix[i, j] -= both
    for i in range(stars):
        for j in range(i):
            matrix[j, i] = matrix[i, j]
    return chi2


def _catalogue_scatter(offset: Floats, uncertainty: Floats) -> float:
    """Scatter of the offsets beyond the catalogue's own uncertainties, at least 1 mmag."""
    if offset.size < 3:
        return 0.001
    spread = 1.4826 * float(np.median(np.abs(offset - np.median(offset))))
    return float(np.sqrt(max(spread**2 - float(np.median(uncertainty)) ** 2, 1e-6)))


def _extra(
    equations: _Normal, used: Bools, guess: float = 0.0, sure_mag: float = _SURE_EXTRA_MAG
) -> float:
    """What stars scatter by beyond their noise, sought about a ``guess`` first, in mag."""
    freedom = int(used.sum()) - int(used.any(axis=1).sum()) - int(used.any(axis=0).sum()) + 1
    if freedom < 3:
        return 0.0

    # The search ties what it calls into a circle, in which nothing large is to stay.
    held = [equations]

    @cache  # it asks for its ends once more
    def excess(extra: float) -> float:
        matrix, right, chi2 = held[0].at(extra)
        return (chi2 - float(right @ _offsets(matrix, right))) / freedom - 1.0

    try:
        return _least_without_excess(excess, guess, sure_mag)
    finally:
        held.clear()


def _least_without_excess(excess: Callable[[float], float], guess: float, sure_mag: float) -> float:
    low, high = 0.0, _MOST_EXTRA_MAG
    if guess > 0.0:
        about = 0.99 * guess, min(1.01 * guess, _MOST_EXTRA_MAG)
        if excess(about[0]) <= 0:
            high = about[0]
        elif excess(about[1]) > 0:
            low = about[1]
        else:
            low, high = about
    if low == 0.0 and excess(0.0) <= 0:
        return 0.0
    if high == _MOST_EXTRA_MAG and excess(_MOST_EXTRA_MAG) > 0:
        return _MOST_EXTRA_MAG
    return float(scipy.optimize.brentq(excess, low, high, xtol=sure_mag))


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
