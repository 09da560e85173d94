"""The periods that a light curve may have: peaks of its periodogram with what they are worth, how
unsure they are, and which are only another's shadow.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import brentq, minimize_scalar
from scipy.special import betaincc, gammaln

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.series.choice import most_likely
from narrow_beacon.core.series.gls import Periodogram, periodogram, power_at
from narrow_beacon.core.series.harmonics import harmonic_periodogram, harmonic_power_at
from narrow_beacon.core.words import counted

KINDS = ("waves", "eclipses", "any")
HARMONICS = 6
MOST_PEAKS = 10
_LEAST_POINTS = 8
_RARE = 0.01
_SHAPED = 3
"""So many peaks have their uncertainty by the shape that the curve wants; others by a wave's."""
_APART = 1.0
"""Two peaks nearer than so many widths are one."""
_SAME = 0.35
"""Widths within which a peak is where another's half, double or alias would be."""
_DAYS = (1.0, 1.00273790935)
"""Cycles a day, by the Sun and by the stars."""
_MULTIPLES = ((2.0, "half of"), (0.5, "double of"), (3.0, "a third of"), (1 / 3, "three times"))
_LAGS, _LEAST_PAIRS, _SURE_LAG, _MOST_KEPT = 4, 10, 1.0, 0.96
_NIGHT_GAP_D = 0.2
_STEPS = 4.0
_SHARP = 3
"""Harmonics from which a curve is no wave."""


class TooFewPointsError(ValueError):
    """There is too little to look for a period in."""


@dataclass(frozen=True)
class Period:
    """A period with its uncertainty in days; ``power``, the share of χ² that it takes away;
    ``false_alarm``, the chance that noise has a peak as high anywhere in what was searched;
    ``note`` says whose half, double or alias it is.
    """

    period_d: float
    uncertainty_d: float
    power: float
    false_alarm: float
    note: str = ""

    @property
    def frequency_per_d(self) -> float:
        """In cycles a day."""
        return 1.0 / self.period_d


@dataclass(frozen=True)
class Periods:
    """What was found in ``points`` over ``span_d``, best first, and the periodogram itself, with
    the power that noise reaches once in a hundred times.
    """

    points: int
    span_d: float
    kind: str
    peaks: tuple[Period, ...]
    spectrum: Periodogram
    level: float


@dataclass(frozen=True)
class _Model:
    """A shape of curve: its periodogram over a range, its power at any frequency, and how many
    numbers it fits beside the mean.
    """

    spectrum: Callable[[float, float], Periodogram]
    at: Callable[[Floats], Floats]
    terms: int


def find_periods(
    t_d: Floats, value: Floats, sigma: Floats, kind: str = "any",
    shortest_d: float | None = None, longest_d: float | None = None,
) -> Periods:  # fmt: skip
    """The most likely periods of values (points) with uncertainties at times in days.

    ``kind`` is one of ``KINDS``: sines, sums of six harmonics, or whichever suits the curve.
    Without limits from twice the usual time between points of a night to the whole span. Raises
    TooFewPointsError.
    """
    good = np.isfinite(t_d) & np.isfinite(value) & np.isfinite(sigma) & (sigma > 0)
    t, y, s = t_d[good], value[good], sigma[good]
    span = float(np.ptp(t)) if t.size else 0.0
    if t.size < _LEAST_POINTS or span <= 0:
        raise TooFewPointsError(
            f"{counted(t.size, 'point')} over {span:.3g} d: a period takes {_LEAST_POINTS} at the "
            "least"
        )
    order = np.argsort(t, kind="stable")
    t, y, s = t[order], y[order], s[order]
    low, high = _limits(t, span, shortest_d, longest_d)
    models = {
        "waves": _Model(
            lambda a, b: periodogram(t, y, s, a, b), lambda f: power_at(t, y, s, f), 2
        ),
        "eclipses": _Model(
            # So many harmonics want as many points of a cycle, and as many again.
            lambda a, b: harmonic_periodogram(
                t, y, s, min(a, 0.5 * b / HARMONICS), b / HARMONICS, HARMONICS, _STEPS
            ),
            lambda f: harmonic_power_at(t, y, s, f, HARMONICS), 2 * HARMONICS,
        ),
    }  # fmt: skip
    if t.size < 4 * HARMONICS:
        models.pop("eclipses") if kind == "any" else None
    asked = models if kind == "any" else {kind: models[kind]}
    spectra = {name: model.spectrum(low, high) for name, model in asked.items()}
    best, front = kind, None
    if kind == "any":
        best, front = _likeliest(t, y, s, spectra)
    spectrum = spectra[best]
    peaks = _peaks(t, y, s, models[best], spectrum, (low, high), front)
    # As many shapes as were tried, so many times noise could look like one.
    tried = [replace(p, false_alarm=min(1.0, len(spectra) * p.false_alarm)) for p in peaks]
    noted = tuple(
        replace(peak, note=_note(peak, tried[:place], span)) for place, peak in enumerate(tried)
    )
    level = 1.0
    if peaks:
        model = models[best]
        alike = _alike(t, y, s, peaks[0].frequency_per_d, model.terms)
        count, width = max(t.size / alike, model.terms + 3.0), _band(t, s, low, high)
        level = _power_of(_RARE, count, width, model.terms)
    return Periods(int(t.size), span, best, noted, spectrum, level)


def _band(t: Floats, s: Floats, low: float, high: float) -> float:
    """W of Baluev's bound: the band that is searched times √(4π) of the times' scatter."""
    weight = s**-2.0
    spread = float(np.sqrt(np.average((t - np.average(t, weights=weight)) ** 2, weights=weight)))
    return (high - low) * float(np.sqrt(4.0 * np.pi)) * spread


def _power_of(chance: float, count: float, width: float, terms: int) -> float:
    """The power that noise reaches with this chance."""
    if false_alarm(1.0 - 1e-9, count, width, terms) > chance:
        return 1.0
    return float(
        brentq(lambda p: false_alarm(p, count, width, terms) - chance, 1e-9, 1.0 - 1e-9, xtol=1e-6)
    )


def _limits(
    t: Floats, span: float, shortest: float | None, longest: float | None
) -> tuple[float, float]:
    """Lowest and highest frequency to search."""
    gaps = np.diff(t)
    usual = float(np.median(gaps[gaps > 0])) if (gaps > 0).any() else span
    high = 1.0 / (shortest or max(2.0 * usual, span / 1e6))
    low = 1.0 / (longest or span)
    return (low, high) if low < high else (0.5 * high, high)


def _likeliest(
    t: Floats, y: Floats, s: Floats, spectra: Mapping[str, Periodogram]
) -> tuple[str, float]:
    """Which kind of curve it is, and its frequency."""
    waves, shapes = spectra["waves"], spectra.get("eclipses")
    f = float(waves.frequency_per_d[int(waves.power.argmax())])
    # Points that are alike count as one, else slow noise passes for a shape.
    count = max(t.size / _alike(t, y, s, f, 2 * _shape(t, y, s, f)), 4.0 * HARMONICS)
    first = most_likely(t, y, s, waves, shapes, count)[0]
    found = first.frequency_per_d
    sharp = first.harmonics >= _SHARP and shapes is not None
    if shapes is not None and sharp and found <= shapes.frequency_per_d[-1]:
        return "eclipses", found
    return "waves", found


def _peaks(
    t: Floats, y: Floats, s: Floats, model: _Model, spectrum: Periodogram,
    band: tuple[float, float], front: float | None,
) -> list[Period]:  # fmt: skip
    """The peaks of a model's periodogram, the one at ``front`` first where that is given."""
    frequency = spectrum.frequency_per_d
    width = 1.0 / float(np.ptp(t))
    taken: list[float] = []
    if front is not None:
        taken.append(_sharpened(model, front, spectrum.step_per_d))
    for top in spectrum.tops:
        if len(taken) == MOST_PEAKS:
            break
        if all(abs(frequency[top] - other) > _APART * width for other in taken):
            taken.append(_sharpened(model, float(frequency[top]), spectrum.step_per_d))
    # What one takes for a cycle, a bump or two, is the observer's call: both are offered.
    for other in (2.0 * taken[0], 0.5 * taken[0], 3.0 * taken[0]) if taken else ():
        if band[0] <= other <= band[1] and all(abs(f - other) > _SAME * width for f in taken):
            taken.append(_sharpened(model, other, spectrum.step_per_d))
    found = [_period(t, y, s, model, f, band, shaped=at < _SHAPED) for at, f in enumerate(taken)]
    if front is not None:
        return [found[0], *sorted(found[1:], key=lambda peak: -peak.power)]
    found = sorted(found, key=lambda peak: -peak.power)
    return _simplest(t, y, s, found, model.terms // 2, width)


def _simplest(
    t: Floats, y: Floats, s: Floats, peaks: list[Period], harmonics: int, width: float
) -> list[Period]:
    """The same, with the first one's half or third in its place where fewer harmonics of that
    explain the curve as well: a shape that repeats within the cycle is the cycle.
    """
    if harmonics < 2 or not peaks:
        return peaks
    first = peaks[0].frequency_per_d
    costs = {}
    for times in (1, 2, 3):
        power = harmonic_power_at(t, y, s, np.array([first * times]), harmonics // times)[0]
        terms = 2 * (harmonics // times)
        costs[times] = t.size * np.log(max(1.0 - power, 1e-12)) + terms * np.log(t.size)
    best = min(costs, key=lambda times: costs[times])
    near = [p for p in peaks if abs(p.frequency_per_d - best * first) < _SAME * width]
    if best == 1 or not near:
        return peaks
    return [near[0], *(peak for peak in peaks if peak is not near[0])]


def _sharpened(model: _Model, frequency: float, step: float) -> float:
    """The exact place of a peak that the grid has within a step."""
    found = minimize_scalar(
        lambda f: -float(model.at(np.array([f]))[0]), method="bounded",
        bounds=(max(frequency - step, 0.1 * step), frequency + step),
        options={"xatol": 1e-4 * step},
    )  # fmt: skip
    return float(found.x)


def _period(
    t: Floats, y: Floats, s: Floats, model: _Model, frequency: float, band: tuple[float, float],
    *, shaped: bool,
) -> Period:  # fmt: skip
    power = float(model.at(np.array([frequency]))[0])
    # How unsure it is hangs on the shape: of what a plain wave leaves most may be no noise.
    harmonics = _shape(t, y, s, frequency) if shaped else model.terms // 2
    alike = _alike(t, y, s, frequency, 2 * harmonics)
    count = max(t.size / alike, 2 * harmonics + 3.0, model.terms + 3.0)
    step = 0.05 / float(np.ptp(t)) / harmonics
    around = harmonic_power_at(t, y, s, frequency + step * np.array([-1.0, 0.0, 1.0]), harmonics)
    bend = abs(float(around[0] - 2.0 * around[1] + around[2])) / step**2
    free = max(count - 2 * harmonics - 2.0, 1.0)
    sigma = float(np.sqrt(2.0 * max(1.0 - around[1], 1e-9) / (free * max(bend, 1e-30))))
    chance = false_alarm(power, count, _band(t, s, *band), model.terms)
    return Period(1.0 / frequency, sigma / frequency**2, power, chance)


def _shape(t: Floats, y: Floats, s: Floats, frequency: float) -> int:
    """How many harmonics the curve wants at a frequency, by Schwarz's criterion."""
    costs = {}
    for harmonics in (1, 2, 3, HARMONICS):
        if t.size < 4 * harmonics + 4:
            break
        power = float(harmonic_power_at(t, y, s, np.array([frequency]), harmonics)[0])
        left = t.size * np.log(max(1.0 - power, 1e-12))
        costs[harmonics] = left + 2 * harmonics * np.log(t.size)
    return min(costs, key=lambda harmonics: costs[harmonics]) if costs else 1


def false_alarm(power: float, count: float, width: float, terms: int = 2) -> float:
    """The chance that noise of ``count`` independent points has a peak as high somewhere; ``width``
    is W, the band searched times √(4π) of the times' scatter.

    The bound of Baluev (2008, MNRAS 385, 1279) for a wave; for more ``terms``, d of them, in the
    manner of his later one (2009, MNRAS 395, 1541), with W times the mean of the harmonics' numbers
    and z^((d−1)/2) / Γ((d+1)/2) in place of √z.
    """
    free = count - 1.0 - terms
    if free < 1.0:
        return 1.0
    left = max(1.0 - power, 1e-300)
    # One frequency's power in noise has a beta distribution.
    single = float(betaincc(terms / 2.0, free / 2.0, power))
    z = 0.5 * (count - 1.0) * power
    shape = 0.5 * (terms - 1.0)
    # Γ(3/2) = √π / 2, so that a single wave has Baluev's W √z.
    of_shape = 0.5 * float(np.sqrt(np.pi) * np.exp(-gammaln(shape + 1.0)))
    scale = width * _mean_harmonic(terms) * of_shape
    gamma = float(np.exp(gammaln(0.5 * (count - 1)) - gammaln(0.5 * (count - 2)))) * float(
        np.sqrt(2.0 / (count - 1.0))
    )
    tau = gamma * scale * z**shape * left ** (0.5 * (free - 1.0))
    return float(-np.expm1(np.log1p(-min(single, 1 - 1e-15)) - tau))


def _mean_harmonic(terms: int) -> float:
    """The mean of the harmonics' numbers, by which the band is wider for them."""
    return 0.5 * (terms / 2.0 + 1.0)


def _alike(t: Floats, y: Floats, s: Floats, frequency: float, terms: int) -> float:
    """How many points in a row say what one would, at least 1: one and twice the sum of the
    residuals' correlations with those that follow (Anderson 1971, The Statistical Analysis of Time
    Series, ch. 8), white noise beside a kind that forgets at a steady rate, told by the first few:
    the fit takes what is slower with it.
    """
    harmonics = max(terms // 2, 1)
    phase = 2.0 * np.pi * frequency * (t - t.mean())
    columns = [np.ones_like(t)]
    for h in range(1, harmonics + 1):
        columns += [np.cos(h * phase), np.sin(h * phase)]
    basis = np.stack(columns, axis=1) / s[:, None]
    fit = np.linalg.lstsq(basis, y / s, rcond=1e-9)[0]
    left = y / s - basis @ fit
    variance = max(float(np.mean(left**2)), 1e-30)
    lags = []
    for lag in range(1, _LAGS + 1):
        near = t[lag:] - t[:-lag] < _NIGHT_GAP_D
        if near.sum() < _LEAST_PAIRS:
            return 1.0
        lags.append(float(np.mean((left[lag:] * left[:-lag])[near])) / variance + terms / t.size)
    first, then = float(np.mean(lags[:-1])), float(np.mean(lags[1:]))
    if first < _SURE_LAG / np.sqrt(t.size):
        return 1.0
    kept = float(np.clip(then / first, 0.0, _MOST_KEPT))
    return 1.0 + 2.0 * min(lags[0], 1.0) / (1.0 - kept)


def _note(peak: Period, peaks: list[Period], span: float) -> str:
    """Which of the better ``peaks`` this is the half, the double or an alias of."""
    f = peak.frequency_per_d
    for better, place in zip(peaks, ("first", "second", "third"), strict=False):
        g = better.frequency_per_d
        for times, words in _MULTIPLES:
            if abs(f - times * g) < _SAME / span:
                return f"{words} the {place}"
        for cycles in (1, -1, 2, -2):
            for day in _DAYS:
                if min(abs(f - g - cycles * day), abs(f + g - cycles * day)) < _SAME / span:
                    return f"alias of the {place}, {cycles:+d} a day".replace("-", "−")
    return ""
