"""Which of the frequencies that a light curve may have is its own: the night's gaps let others fit
nearly as well.

Each frequency is asked for as a wave, as a shape of more harmonics, as half of one that is seen,
and beside a second wave; how well a model fits for the numbers that it takes is its weight
(Schwarz 1978, Ann. Stat. 6, 461), and a frequency has the weights of all its models together
(Kass & Raftery 1995, J. Am. Stat. Assoc. 90, 773). Shapes smear the single wave's peaks; two waves
beat: on few nights a wrong fringe is the highest of the periodogram in a fifth of all cases, and
only the fuller model tells.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import ANY_ORDER, njit
from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.series.gls import Periodogram, frequency_grid

_PEAKS, _FIRSTS, _PARTNERS = 24, 12, 4
_MOST_WORK = 12_000
"""Peaks times points that are looked at: with more points fewer peaks come near the first."""
_LEAST_PEAKS = 3
_WAVES, _SHAPES = (1, 2, 3), (3, 4, 6)
_HALVES = (2, 4, 6)
_NEAR = 0.35
"""Widths within which two frequencies are one."""
_STEPS, _FARTHEST = 3, 0.15
_RIDGE, _NOTHING = 1e-9, 1e-24
_LEAD, _LEAD_COST = 0.1, 150.0
_COARSE = 4.0
"""Steps to a peak's width where a partner is only to be seen."""


@dataclass(frozen=True)
class Guess:
    """A frequency in cycles a day, how many harmonics of it fit best, and its share of all
    weights.
    """

    frequency_per_d: float
    harmonics: int
    weight: float


@dataclass(frozen=True)
class _Model:
    """A frequency with harmonics, with or without a second wave, and its cost; ``front`` is the
    stronger of the two.
    """

    cost: float
    front: float
    harmonics: int


@dataclass(frozen=True)
class _Fit:
    """χ² of some frequencies, what they leave (points), and each one's strength."""

    chi2: float
    left: Floats
    frequency: tuple[float, ...]
    strength: tuple[float, ...]


def most_likely(
    t_d: Floats, value: Floats, sigma: Floats, waves: Periodogram, shapes: Periodogram | None,
    count: float,
) -> tuple[Guess, ...]:  # fmt: skip
    """The frequencies of values (points) with uncertainties at times in days, likeliest first, from
    the periodograms of waves and, where there are points enough, of shapes. ``count`` is how many
    independent points these are.
    """
    t, span = t_d - t_d.mean(), float(np.ptp(t_d))
    y = value - np.average(value, weights=sigma**-2.0)
    peaks = int(np.clip(_MOST_WORK // t.size, _LEAST_PEAKS, _PEAKS))
    tops = _tops(waves, peaks, 1.0 / span)
    lowest = float(waves.frequency_per_d[0])
    wanted = [(f, h) for f in tops for h in _WAVES]
    wanted += [(0.5 * f, h) for f in tops if 0.5 * f >= lowest for h in _HALVES]
    if shapes is not None:
        wanted += [(f, h) for f in _tops(shapes, peaks, 1.0 / span) for h in _SHAPES]
    models = _alone(t, y, sigma, wanted, span, count)
    if not _leads(waves, tops, count):
        models += _pairs(t, y, sigma, tops, waves, span, count)
    highest = float(waves.frequency_per_d[-1])
    return _weighed([one for one in models if lowest <= one.front <= highest], span)


def _leads(waves: Periodogram, tops: Sequence[float], count: float) -> bool:
    """Whether the first of these peaks leaves so much less than the others that no second wave
    could make up for it.
    """
    places = np.rint(np.array(tops) / waves.step_per_d).astype(int) - waves.first
    left = np.log(np.maximum(1.0 - waves.power[places], 1e-12))
    lead = float(left[1:].min() - left[0]) if left.size > 1 else np.inf
    return lead > _LEAD and count * lead > _LEAD_COST


def _tops(spectrum: Periodogram, count: int, width: float) -> list[float]:
    """The highest peaks, half a width apart at the least."""
    frequency = spectrum.frequency_per_d
    found: list[float] = []
    for top in spectrum.tops:
        if len(found) == count:
            break
        if all(abs(frequency[top] - other) > 0.5 * width for other in found):
            found.append(float(frequency[top]))
    return found


def _alone(
    t: Floats, y: Floats, sigma: Floats, wanted: Sequence[tuple[float, int]], span: float,
    count: float,
) -> list[_Model]:  # fmt: skip
    """Models of one frequency."""
    whole = max(float(np.sum((y / sigma) ** 2)), _NOTHING)
    found = [_Model(0.0, wanted[0][0], 1)]  # where there are too few points for any
    for start, harmonics in wanted:
        if t.size >= 4 * harmonics + 4:
            one = _fitted(t, y, sigma, (start,), (harmonics,), span, steps=_STEPS)
            cost = _cost(one.chi2 / whole, count, 2 * harmonics + 1)
            found.append(_Model(cost, one.frequency[0], harmonics))
    return found


def _cost(left: float, points: float, terms: int) -> float:
    """Of a model with so many numbers that leaves this share of χ²."""
    return points * float(np.log(max(left, 1e-12))) + terms * float(np.log(points))


def _pairs(
    t: Floats, y: Floats, sigma: Floats, tops: Sequence[float], waves: Periodogram, span: float,
    count: float,
) -> list[_Model]:  # fmt: skip
    """Models of two frequencies: a peak, and what is seen once it is taken off; and the best of
    them once more the other way round.
    """
    band = float(waves.frequency_per_d[0]), float(waves.frequency_per_d[-1])
    grid = frequency_grid(t, sigma, *band, _COARSE)
    whole = max(float(np.sum((y / sigma) ** 2)), _NOTHING)
    found: list[_Model] = []
    pairs: list[tuple[float, float]] = []

    def beside(first: float, harmonics: int) -> None:
        """Every partner of a frequency."""
        left = _fitted(t, y, sigma, (first,), (harmonics,), span, steps=0).left
        for other in _tops(grid.periodogram(left), _PARTNERS, 1.0 / span):
            if abs(other - first) < 1.0 / span:
                continue
            for own, its in ((harmonics, 1), (harmonics, 2)):
                both = _fitted(t, y, sigma, (first, other), (own, its), span, steps=_STEPS)
                cost = _cost(both.chi2 / whole, count, 2 * (own + its) + 2)
                front = 0 if both.strength[0] >= both.strength[1] else 1
                found.append(_Model(cost, both.frequency[front], (own, its)[front]))
                pairs.append((cost, both.frequency[1]))

    for top in tops[:_FIRSTS]:
        for harmonics in (1, 2):
            if t.size >= 4 * (harmonics + 2) + 4:
                beside(top, harmonics)
    for _, other in sorted(pairs)[:2]:
        beside(other, 2)
    return found


def _fitted(
    t: Floats, y: Floats, sigma: Floats, frequency: tuple[float, ...], harmonics: tuple[int, ...],
    span: float, *, steps: int,
) -> _Fit:  # fmt: skip
    """A mean and some frequencies with harmonics, moved to their best by so many steps
    (Gauss–Newton).
    """
    chi2, left, found, strength = _fit(
        t, y, sigma, np.array(frequency), np.array(harmonics), steps, _FARTHEST / span
    )
    return _Fit(float(chi2), left, tuple(found.tolist()), tuple(strength.tolist()))


@njit(cache=True, nogil=True)
def _fit(t, y, sigma, frequency, harmonics, steps, farthest):  # type: ignore[no-untyped-def]
    """By plain loops: what NumPy has for this takes the compiler a third of a minute."""
    count, terms = frequency.size, 1 + 2 * harmonics.sum()
    best, best_f, now = np.inf, frequency.copy(), frequency.copy()
    left, best_left, strength = np.empty(t.size), np.zeros(t.size), np.zeros(count)
    rows, target = np.empty((terms + count, t.size)), np.empty(t.size)
    normal, found = np.empty((terms + count, terms + count)), np.empty(terms + count)
    for n in range(t.size):
        target[n] = y[n] / sigma[n]
    for step in range(steps + 1):
        for n in range(t.size):
            rows[0, n] = 1.0 / sigma[n]
            at = 1
            for k in range(count):
                angle = 2.0 * np.pi * now[k] * t[n]
                c, s = np.cos(angle), np.sin(angle)
                re, im = 1.0 / sigma[n], 0.0
                for _ in range(harmonics[k]):
                    re, im = re * c - im * s, re * s + im * c
                    rows[at, n], rows[at + 1, n] = re, im
                    at += 2
        _solve(rows, target, terms, normal, found)
        chi2 = 0.0
        for n in range(t.size):
            model = 0.0
            for i in range(terms):
                model += found[i] * rows[i, n]
            left[n] = target[n] - model
            chi2 += left[n] * left[n]
        if chi2 < best:
            best = chi2
            for n in range(t.size):
                best_left[n] = left[n] * sigma[n]
            at = 1
            for k in range(count):
                best_f[k], strength[k] = now[k], 0.0
                for i in range(at, at + 2 * harmonics[k]):
                    strength[k] += found[i] * found[i]
                at += 2 * harmonics[k]
        if step == steps:
            break
        for n in range(t.size):
            at = 1
            for k in range(count):
                slope = 0.0
                for h in range(harmonics[k]):
                    # By the frequency: a cosine goes as minus a sine, a sine as a cosine.
                    turned = found[at + 1] * rows[at, n] - found[at] * rows[at + 1, n]
                    slope += (h + 1) * turned
                    at += 2
                rows[terms + k, n] = 2.0 * np.pi * t[n] * slope
        _solve(rows, target, terms + count, normal, found)
        for k in range(count):
            now[k] += min(max(found[terms + k], -farthest), farthest)
    return best, best_left, best_f, strength


@njit(cache=True, nogil=True, fastmath=ANY_ORDER)
def _solve(rows, target, terms, normal, found):  # type: ignore[no-untyped-def]
    """Least squares of the first ``terms`` rows into ``found``, by the normal equations and their
    Cholesky factor; what times leave free is held down.
    """
    for i in range(terms):
        found[i] = 0.0
        for n in range(target.size):
            found[i] += rows[i, n] * target[n]
        for j in range(i + 1):
            total = 0.0
            for n in range(target.size):
                total += rows[i, n] * rows[j, n]
            if i == j:
                total = total * (1.0 + _RIDGE) + 1e-300
            for k in range(j):
                total -= normal[i, k] * normal[j, k]
            # By rounding alone a pivot could be nothing.
            normal[i, j] = np.sqrt(max(total, 1e-300)) if i == j else total / normal[j, j]
    for i in range(terms):
        for k in range(i):
            found[i] -= normal[i, k] * found[k]
        found[i] /= normal[i, i]
    for i in range(terms - 1, -1, -1):
        for k in range(i + 1, terms):
            found[i] -= normal[k, i] * found[k]
        found[i] /= normal[i, i]


def _weighed(models: Sequence[_Model], span: float) -> tuple[Guess, ...]:
    """Frequencies by the weight of all their models, those of their half and double with them: of
    these the best model says which is meant.
    """
    least = min(model.cost for model in models)
    groups: list[tuple[_Model, list[float]]] = []
    for model in sorted(models, key=lambda one: one.cost):
        weight = float(np.exp(-0.5 * (model.cost - least)))
        for first, weights in groups:
            f = first.front
            if any(
                abs(model.front * times - f) < _NEAR / span * max(times, 1.0)
                for times in (1.0, 2.0, 0.5)
            ):
                weights.append(weight)
                break
        else:
            groups.append((model, [weight]))
    total = sum(sum(weights) for _, weights in groups)
    found = [Guess(first.front, first.harmonics, sum(weights) / total) for first, weights in groups]
    return tuple(sorted(found, key=lambda guess: -guess.weight))
