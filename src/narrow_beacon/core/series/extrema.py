"""Times of minimum and maximum of light, each by three methods with uncertainties.

Where the light turns is found on a smoothed curve, night by night. Then, on the points themselves:
a template (Mikulášek 2015, A&A 584, A8), which follows partial and total eclipses, with a width of
its own on either side where these surely differ; the turning point of a polynomial; and, where both
sides are alike, the fold of least difference (Kwee & van Woerden 1956, BAN 12, 327). Uncertainties
come from the same methods on made-up curves with the noise that the points show.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import least_squares

from narrow_beacon.core.arrays import Bools, Floats
from narrow_beacon.core.series.turns import Turn, find_turns

KINDS = ("minimum", "maximum")
TEMPLATE, POLYNOMIAL, FOLD = "template", "polynomial", "fold"
_DRAWS = 60
_LEAST_POINTS = 7
_ORDERS = range(2, 8)
_CLIP = 4.5
_LIKELY, _SURELY = 2.0, 10.0
"""Fall of χ² from which on widths of their own are taken, and from which they are sure."""
_EVEN = 6
_STARTS = (-0.4, 0.4)
_RATIOS = (0.0, 1.0, -1.0)
_FAR = 1.5
_SUREST_D = 1e-7
_FOLD_REACH = 0.4
_RUN = 5
_WHOLE = 0.5
"""A side that shows less than this share of the other's change leaves the turn partly observed."""


@dataclass(frozen=True)
class Timing:
    """When the light turned by one method: a time with its uncertainty in days."""

    method: str
    time_d: float
    uncertainty_d: float


@dataclass(frozen=True)
class Extremum:
    """A time of minimum or maximum light: the one that is taken, and the ``others``. ``points``
    took part; ``depth_mag`` is the smaller change of both sides; ``symmetric`` is False where both
    sides surely differ, ``complete`` False where only a part was observed.
    """

    kind: str
    best: Timing
    others: tuple[Timing, ...]
    points: int
    depth_mag: float
    symmetric: bool
    complete: bool
    filter: str = ""


@dataclass(frozen=True)
class _Part:
    """The points about a turn, times in units of half its width from its middle; ``value`` grows
    towards the turn.
    """

    x: Floats
    value: Floats
    sigma: Floats

    def only(self, which: Bools) -> _Part:
        """Some of the points."""
        return _Part(self.x[which], self.value[which], self.sigma[which])


_Method = Callable[[Floats], Floats]
"""When light turns, by one method, on some curves (curves, points) at the times of a part; NaN
where it can't tell.
"""


def find_extrema(
    t_d: Floats, magnitude: Floats, sigma: Floats, kind: str | None = None, filter_name: str = ""
) -> list[Extremum]:
    """The turns of a light curve (points, times in days), in order of time; of one ``kind``
    ("minimum" or "maximum" of light) or both. Turns that do not stand out of the noise are none.
    """
    good = np.isfinite(t_d) & np.isfinite(magnitude) & np.isfinite(sigma) & (sigma > 0)
    order = np.argsort(t_d[good], kind="stable")
    t, m, s = (values[good][order] for values in (t_d, magnitude, sigma))
    found = []
    for one in KINDS if kind is None else (kind,):
        sign = 1.0 if one == "minimum" else -1.0
        for turn in find_turns(t, sign * m, s):
            timed = _timed(t, sign * m, s, turn, one)
            if timed is not None:
                found.append(replace(timed, filter=filter_name))
    return sorted(found, key=lambda extremum: extremum.best.time_d)


def _timed(t: Floats, value: Floats, sigma: Floats, turn: Turn, kind: str) -> Extremum | None:
    """What the methods say of one turn; None where fewer than two say anything."""
    middle, half = turn.time_d, 0.5 * (turn.core[1] - turn.core[0])

    def part(ends: tuple[float, float]) -> _Part:
        inside = (t >= ends[0]) & (t <= ends[1])
        return _Part((t[inside] - middle) / half, value[inside], sigma[inside])

    whole, core = part(turn.ends), part(turn.core)
    fitted = _fit_template(whole, lopsided=False)
    if core.x.size < _LEAST_POINTS or fitted is None:
        return None
    left = np.abs(whole.value - _template(fitted, whole.x)) / whole.sigma
    whole = whole.only(left < _CLIP * max(1.4826 * float(np.median(left)), 1.0))
    in_core: Bools = (whole.x >= core.x[0]) & (whole.x <= core.x[-1])
    core = whole.only(in_core)
    if core.x.size < _LEAST_POINTS:
        return None
    complete = turn.drops[0] > _WHOLE * turn.drops[1] and turn.drops[1] > _WHOLE * turn.drops[0]
    # Half a turn cannot tell whether the other half is like it.
    lopsided = _fit_template(whole, lopsided=True, near=fitted) if complete else None
    better = 0.0 if lopsided is None else _better(whole, fitted, lopsided)
    if lopsided is not None and better > _LIKELY:
        fitted = lopsided
    order = _best_order(core)
    step = _Step(whole, fitted)
    methods: dict[str, _Method] = {
        # Where a side is missing time and width hang together: a step by slopes is too sure.
        TEMPLATE: step.times if complete else lambda values: _refitted(whole, values, fitted),
        POLYNOMIAL: lambda values: _polynomial_times(core, values[:, in_core], order),
    }
    if complete and better <= _LIKELY:
        methods[FOLD] = lambda values: _fold_times(whole, values)
    timings = [
        Timing(name, middle + half * at, max(half * error, _SUREST_D))
        for name, at, error in _by_each(methods, whole, fitted)
    ]
    if len(timings) < 2:
        return None
    best, others = _taken(timings, sure=complete and better <= _SURELY)
    return Extremum(
        kind,
        best,
        others,
        int(whole.x.size),
        float(min(turn.drops)),
        better <= _SURELY,
        complete,
    )


def _by_each(
    methods: dict[str, _Method], part: _Part, fitted: Floats
) -> list[tuple[str, float, float]]:
    """The time and its uncertainty by each method, in units of the part: the scatter of the same on
    curves that turn as the template does, with the noise that the points show, and how far its own
    shape leads it astray on them. A method that fails on half of these says nothing.
    """
    truth = _template(fitted, part.x)
    noise = _noise(part, truth) * part.sigma
    rng = np.random.default_rng([part.x.size, int(1e6 * (1.0 + abs(fitted[1])))])
    made = truth + noise * rng.standard_normal((_DRAWS, part.x.size))
    found = []
    for name, method in methods.items():
        at = float(fitted[0]) if name == TEMPLATE else float(method(part.value[None])[0])
        draws = method(made)
        draws = draws[np.isfinite(draws)]
        if not abs(at) <= _FAR or draws.size < _DRAWS // 2:
            continue
        low, middle, high = np.percentile(draws, [15.87, 50.0, 84.13])
        error = float(np.hypot(0.5 * (high - low), middle - fitted[0]))
        found.append((name, at, error))
    return found


def _taken(timings: list[Timing], *, sure: bool) -> tuple[Timing, tuple[Timing, ...]]:
    """The time that is taken and the others: the template's; where its shape is not ``sure``, the
    polynomial's if they disagree, and some of what they differ by goes into the uncertainty.
    """
    by_name = {timing.method: timing for timing in timings}
    best = by_name.get(TEMPLATE, timings[0])
    other = by_name.get(POLYNOMIAL)
    if not sure and other is not None and other is not best:
        apart = abs(best.time_d - other.time_d)
        if apart > 2.0 * best.uncertainty_d:
            best, other = other, best
        best = replace(best, uncertainty_d=float(np.hypot(best.uncertainty_d, 0.3 * apart)))
    rest = tuple(timing for timing in timings if timing.method != best.method)
    return best, rest


def _template(p: Floats, x: Floats) -> Floats:
    """level + tilt·x + A·(1 − (1 − exp(1 − cosh z))^Γ), z = (x − x₀)/w; ``p`` are x₀, ln w, ln Γ,
    level, tilt, A, and, where there is a seventh, the logarithm of the ratio of the widths after
    and before the turn.
    """
    z, _ = _scaled(p, x)
    inner = np.clip(1.0 - np.exp(1.0 - np.cosh(z)), 1e-12, 1.0)
    return np.asarray(p[3] + p[4] * x + p[5] * (1.0 - inner ** np.exp(p[2])))


def _slopes(p: Floats, x: Floats) -> Floats:
    """The derivatives of the template after its numbers, (points, numbers)."""
    z, w = _scaled(p, x)
    outer, power = np.exp(1.0 - np.cosh(z)), np.exp(p[2])
    inner = np.clip(1.0 - outer, 1e-12, 1.0)
    shape = inner**power
    by_z = p[5] * power * shape / inner * outer * np.sinh(z)
    columns = [
        by_z / w, by_z * z, -p[5] * shape * np.log(inner) * power, np.ones_like(x), x, 1.0 - shape,
    ]  # fmt: skip
    if p.size > _EVEN:
        columns.append(0.5 * by_z * z * np.where(x > p[0], 1.0, -1.0))
    return np.stack(columns, axis=1)


def _scaled(p: Floats, x: Floats) -> tuple[Floats, Floats]:
    """Distances from the turn in widths, and the width at each point."""
    w = np.full(x.size, np.exp(p[1]))
    if p.size > _EVEN:
        w *= np.exp(0.5 * p[6] * np.where(x > p[0], 1.0, -1.0))
    return np.clip((x - p[0]) / w, -30.0, 30.0), w


def _fit_template(part: _Part, *, lopsided: bool, near: Floats | None = None) -> Floats | None:
    """The template's numbers, seven where it may be ``lopsided``; None where the points are too
    few for them.
    """
    low, high = np.percentile(part.value, [5, 95])
    change = float(high - low) or 1.0
    begin = np.array([0.0, 0.0, 0.0, low, 0.0, change]) if near is None else near
    reach = np.log(2.0 * float(np.ptp(part.x)))
    least = [part.x[0], -2.5, -1.5, -np.inf, -np.inf, 0.0]
    most = [part.x[-1], reach, 2.5, np.inf, np.inf, np.inf]
    scale = [0.3, 0.5, 0.5, change, change, change]
    begins = [begin]
    if near is None:
        begins += [np.array([at, *begin[1:]]) for at in _STARTS]
    if lopsided:
        least, most, scale = [*least, -2.0], [*most, 2.0], [*scale, 1.0]
        begins = [
            np.array([0.0, *begin[1:], ratio]) if ratio else np.append(begin, 0.0)
            for ratio in _RATIOS
        ]
    if part.x.size <= begins[0].size + 1:
        return None
    # The sides' widths and the turn's time can trade places: the best of several starts.
    found = [
        least_squares(
            lambda p: (_template(p, part.x) - part.value) / part.sigma,
            np.clip(one, np.array(least) + 1e-6, np.array(most) - 1e-6),
            lambda p: _slopes(p, part.x) / part.sigma[:, None],
            bounds=(least, most), x_scale=scale, max_nfev=80,
        )
        for one in begins
    ]  # fmt: skip
    return np.asarray(min(found, key=lambda fit: float(fit.cost)).x)


def _refitted(part: _Part, values: Floats, near: Floats) -> Floats:
    times = np.full(len(values), np.nan)
    for n, value in enumerate(values):
        fitted = _fit_template(replace(part, value=value), lopsided=False, near=near)
        if fitted is not None:
            times[n] = fitted[0]
    return times


class _Step:
    """The template's time on curves like one to which it is fitted: a step by its slopes there."""

    def __init__(self, part: _Part, fitted: Floats) -> None:
        self._part = part
        self._model, self._start = _template(fitted, part.x), float(fitted[0])
        # Where the shape leaves a number open it is held to what it can be, not let loose.
        loose = np.diag(1.0 / np.array([1.0, 1.0, 1.0, 9.0, 9.0, 9.0, 1.0])[: fitted.size])
        columns = np.concatenate([_slopes(fitted, part.x) / part.sigma[:, None], loose])
        self._solve = np.linalg.pinv(columns)[0, : part.x.size]

    def times(self, values: Floats) -> Floats:
        """x₀ on curves (curves, points) with the same times."""
        return self._start + ((values - self._model) / self._part.sigma) @ self._solve


def _better(part: _Part, even: Floats, odd: Floats) -> float:
    """By how much χ² falls, in units of what is left a point."""
    chi2 = [
        float(np.sum(((part.value - _template(p, part.x)) / part.sigma) ** 2)) for p in (even, odd)
    ]
    scale = max(chi2[1] / max(part.x.size - odd.size, 1), 1.0)
    return (chi2[0] - chi2[1]) / scale


def _noise(part: _Part, model: Floats) -> float:
    """By how much noise is larger than the uncertainties say, at least 1, slow noise included."""
    left = (part.value - model) / part.sigma
    free = max(left.size - 6, 1)
    variance = max(float(np.sum(left**2)) / free, 1.0)
    runs = left.size // _RUN
    if runs >= 6:
        means = left[: runs * _RUN].reshape(runs, _RUN).mean(axis=1)
        slow = float(np.mean(means**2)) * _RUN
        # Beyond what chance makes of so few means.
        variance = max(variance, slow / (1.0 + np.sqrt(2.0 / runs)))
    return float(np.sqrt(variance))


def _best_order(part: _Part) -> int:
    """The polynomial's order by Schwarz's criterion (1978, Ann. Stat. 6, 461)."""
    costs = {}
    for order in _ORDERS:
        if part.x.size < order + 3:
            break
        left = (part.value - _polynomial(part, order)) / part.sigma
        costs[order] = float(np.sum(left**2)) + (order + 1) * np.log(part.x.size)
    return min(costs, key=lambda order: costs[order]) if costs else 2


def _coefficients(part: _Part, values: Floats, order: int) -> Floats:
    """Of the polynomials through some curves, (curves, order + 1), the highest power first."""
    basis = np.vander(part.x, order + 1) / part.sigma[:, None]
    return np.asarray(np.linalg.lstsq(basis, (values / part.sigma).T, rcond=1e-10)[0]).T


def _polynomial(part: _Part, order: int) -> Floats:
    return np.asarray(np.polyval(_coefficients(part, part.value[None], order)[0], part.x))


def _polynomial_times(part: _Part, values: Floats, order: int) -> Floats:
    """Where the polynomials are highest between their ends; NaN where that is at an end."""
    times = np.full(len(values), np.nan)
    for n, fitted in enumerate(_coefficients(part, values, order)):
        roots = np.roots(np.polyder(fitted))
        real = roots.real[np.abs(roots.imag) < 1e-9]
        bend = np.polyder(fitted, 2)
        inside = [r for r in real if part.x[0] < r < part.x[-1] and np.polyval(bend, r) < 0]
        if inside:
            times[n] = max(inside, key=lambda r: np.polyval(fitted, r))
    return times


def _fold_times(part: _Part, values: Floats) -> Floats:
    """The middles about which both halves are most alike: the least of the mean square difference
    of each point and the curve where it is mirrored, by a parabola; NaN where there is none.
    """
    x = part.x
    reach = min(-x[0], x[-1]) - _FOLD_REACH
    centres = np.linspace(-_FOLD_REACH, _FOLD_REACH, 41)
    found = np.stack([_differences(part, values, centre, reach) for centre in centres], axis=1)
    return np.array([_least_of(centres, one) for one in found])


def _least_of(centres: Floats, found: Floats) -> float:
    """Where a valley of differences is deepest, by a parabola."""
    if not np.isfinite(found).any():
        return float("nan")
    least = int(np.nanargmin(found))
    low = found[least] + 0.35 * (float(np.nanmax(found)) - found[least])
    some = np.flatnonzero(np.isfinite(found) & (found <= low))
    # The valley itself, not another beyond a rise.
    some = some[np.abs(some - least) <= 1 + np.flatnonzero(np.diff(some) == 1).size]
    if some.size < 4:
        return float("nan")
    a, b, _ = np.polyfit(centres[some], found[some], 2)
    at = -b / (2.0 * a) if a > 0 else np.inf
    return float(at) if abs(at) < 1.5 * _FOLD_REACH else float("nan")


def _differences(part: _Part, values: Floats, centre: float, reach: float) -> Floats:
    """Of both halves of some curves about a centre, over their noise."""
    x = part.x
    other = 2.0 * centre - x
    here = np.flatnonzero((np.abs(x - centre) <= reach) & (other >= x[0]) & (other <= x[-1]))
    if here.size < _EVEN:
        return np.full(len(values), np.nan)
    right = np.clip(np.searchsorted(x, other[here]), 1, x.size - 1)
    share = (other[here] - x[right - 1]) / np.maximum(x[right] - x[right - 1], 1e-12)
    mirrored = (1.0 - share) * values[:, right - 1] + share * values[:, right]
    variance = (
        part.sigma[here] ** 2
        + ((1.0 - share) * part.sigma[right - 1]) ** 2 + (share * part.sigma[right]) ** 2
    )  # fmt: skip
    return np.asarray(np.mean((values[:, here] - mirrored) ** 2 / variance, axis=1))
