"""The periods that a light curve may have: peaks of its periodogram with what they are worth, how
unsure they are, and which are only another's shadow.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import minimize_scalar
from scipy.special import betaincc, gammaln

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.series.gls import Periodogram, periodogram, power_at
from narrow_beacon.core.series.harmonics import harmonic_periodogram, harmonic_power_at

KINDS = ("waves", "eclipses", "any")
HARMONICS = 6
MOST_PEAKS = 10
_LEAST_POINTS = 8
_APART = 1.0
"""Two peaks nearer than so many widths are one."""
_SAME = 0.35
"""Widths within which a peak is where another's half, double or alias would be."""
_DAYS = (1.0, 1.00273790935)
"""Cycles a day, by the Sun and by the stars."""
_MULTIPLES = ((2.0, "half of"), (0.5, "double of"), (3.0, "a third of"), (1 / 3, "three times"))
_RUN = 6
_SHARP = 3.0
"""A cycle with sharp eclipses is so many times longer than the shortest wave that is looked for."""
_STEPS = 4.0


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
    """What was found in ``points`` over ``span_d``, best first, and the periodogram itself."""

    points: int
    span_d: float
    kind: str
    peaks: tuple[Period, ...]
    spectrum: Periodogram


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

    ``kind`` is one of ``KINDS``: sines, sums of six harmonics, or whichever explains the curve
    better for the numbers that it takes (Schwarz 1978, Ann. Stat. 6, 461). Without limits from
    twice the usual time between points of a night to the whole span. Raises TooFewPointsError.
    """
    good = np.isfinite(t_d) & np.isfinite(value) & np.isfinite(sigma) & (sigma > 0)
    t, y, s = t_d[good], value[good], sigma[good]
    span = float(np.ptp(t)) if t.size else 0.0
    if t.size < _LEAST_POINTS or span <= 0:
        raise TooFewPointsError(
            f"{t.size} points over {span:.3g} d: a period takes {_LEAST_POINTS} at the least"
        )
    order = np.argsort(t, kind="stable")
    t, y, s = t[order], y[order], s[order]
    low, high = _limits(t, span, shortest_d, longest_d)
    models = {
        "waves": _Model(
            lambda a, b: periodogram(t, y, s, a, b), lambda f: power_at(t, y, s, f), 2
        ),
        "eclipses": _Model(
            lambda a, b: harmonic_periodogram(
                t, y, s, min(a, b / _SHARP), b / _SHARP, HARMONICS, _STEPS
            ),
            lambda f: harmonic_power_at(t, y, s, f, HARMONICS), 2 * HARMONICS,
        ),
    }  # fmt: skip
    if t.size < 4 * HARMONICS:
        models.pop("eclipses") if kind == "any" else None
    chosen = {kind: models[kind]} if kind != "any" else models
    found = {name: _peaks(t, y, s, model, low, high) for name, model in chosen.items()}
    best = min(found, key=lambda name: _cost(found[name][0], t.size, chosen[name].terms))
    peaks, spectrum = found[best]
    noted = tuple(replace(peak, note=_note(peak, peaks, span)) for peak in peaks)
    return Periods(int(t.size), span, best, noted, spectrum)


def _limits(
    t: Floats, span: float, shortest: float | None, longest: float | None
) -> tuple[float, float]:
    """Lowest and highest frequency to search."""
    gaps = np.diff(t)
    usual = float(np.median(gaps[gaps > 0])) if (gaps > 0).any() else span
    high = 1.0 / (shortest or max(2.0 * usual, span / 1e6))
    low = 1.0 / (longest or span)
    return (low, high) if low < high else (0.5 * high, high)


def _cost(peaks: list[Period], points: int, terms: int) -> float:
    """Schwarz's criterion of the best peak."""
    left = max(1.0 - (peaks[0].power if peaks else 0.0), 1e-12)
    return points * float(np.log(left)) + terms * float(np.log(points))


def _peaks(
    t: Floats, y: Floats, s: Floats, model: _Model, low: float, high: float
) -> tuple[list[Period], Periodogram]:
    spectrum = model.spectrum(low, high)
    power, frequency = spectrum.power, spectrum.frequency_per_d
    inner = np.concatenate([[-1.0], power, [-1.0]])
    tops = np.flatnonzero((power >= inner[:-2]) & (power > inner[2:]))
    tops = tops[np.argsort(-power[tops], kind="stable")]
    width = 1.0 / float(np.ptp(t))
    taken: list[float] = []
    for top in tops:
        if len(taken) == MOST_PEAKS:
            break
        if all(abs(frequency[top] - other) > _APART * width for other in taken):
            taken.append(_sharpened(model, float(frequency[top]), spectrum.step_per_d))
    # What one takes for a cycle, a bump or two, is the observer's call: both are offered.
    for other in (2.0 * taken[0], 0.5 * taken[0]) if taken else ():
        if low <= other <= high and all(abs(f - other) > _SAME * width for f in taken):
            taken.append(_sharpened(model, other, spectrum.step_per_d))
    found = [_period(t, y, s, model, f, low, high) for f in taken]
    return sorted(found, key=lambda peak: -peak.power), spectrum


def _sharpened(model: _Model, frequency: float, step: float) -> float:
    """The exact place of a peak that the grid has within a step."""
    found = minimize_scalar(
        lambda f: -float(model.at(np.array([f]))[0]), method="bounded",
        bounds=(max(frequency - step, 0.1 * step), frequency + step),
        options={"xatol": 1e-4 * step},
    )  # fmt: skip
    return float(found.x)


def _period(
    t: Floats, y: Floats, s: Floats, model: _Model, frequency: float, low: float, high: float
) -> Period:
    power = float(model.at(np.array([frequency]))[0])
    alike = _alike(t, y, s, frequency, model.terms)
    count = max(t.size / alike, model.terms + 3.0)
    step = 0.05 / float(np.ptp(t)) / max(model.terms / 2, 1)
    around = model.at(frequency + step * np.array([-1.0, 0.0, 1.0]))
    bend = abs(float(around[0] - 2.0 * around[1] + around[2])) / step**2
    free = max(count - model.terms - 2.0, 1.0)
    sigma = float(np.sqrt(2.0 * max(1.0 - power, 1e-9) / (free * max(bend, 1e-30))))
    spread = float(np.sqrt(np.average((t - np.average(t, weights=s**-2)) ** 2, weights=s**-2)))
    width = (high - low) * float(np.sqrt(4.0 * np.pi)) * spread
    return Period(
        1.0 / frequency, sigma / frequency**2, power, false_alarm(power, count, width, model.terms)
    )


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
    """How many points in a row say what one would, at least 1: how much more means of runs of the
    residuals scatter than those of single points lead one to expect.
    """
    harmonics = max(terms // 2, 1)
    phase = 2.0 * np.pi * frequency * (t - t.mean())
    columns = [np.ones_like(t)]
    for h in range(1, harmonics + 1):
        columns += [np.cos(h * phase), np.sin(h * phase)]
    basis = np.stack(columns, axis=1) / s[:, None]
    fit = np.linalg.lstsq(basis, y / s, rcond=1e-9)[0]
    left = y / s - basis @ fit
    runs = left.size // _RUN
    if runs < 5:
        return 1.0
    means = left[: runs * _RUN].reshape(runs, _RUN).mean(axis=1)
    single = float(np.var(left))
    return max(1.0, float(np.var(means)) * _RUN / max(single, 1e-30))


def _note(peak: Period, peaks: list[Period], span: float) -> str:
    """Which of the better peaks this is the half, the double or an alias of."""
    f = peak.frequency_per_d
    for better, place in zip(peaks, ("first", "second", "third"), strict=False):
        if better.power <= peak.power:
            break
        g = better.frequency_per_d
        for times, words in _MULTIPLES:
            if abs(f - times * g) < _SAME / span:
                return f"{words} the {place}"
        for cycles in (1, -1, 2, -2):
            for day in _DAYS:
                if min(abs(f - g - cycles * day), abs(f + g - cycles * day)) < _SAME / span:
                    return f"alias of the {place}, {cycles:+d} a day".replace("-", "−")
    return ""
