"""Elements of a star that repeats: when it turned, how long until it turns again, and how observed
times depart from that.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints
from narrow_beacon.core.errors import BeaconError

_CLIP = 4.0
_ROUNDS = 10


class ElementsError(BeaconError):
    """Elements that cannot be fitted; says why."""


@dataclass(frozen=True)
class Elements:
    """T(E) = ``epoch_bjd`` + ``period_d`` · E + ``quadratic_d`` · E², BJD(TDB) and days, with their
    uncertainties (0: not stated), and where they come from. ``kind`` is what happens at the epoch:
    "minimum" or "maximum".
    """

    epoch_bjd: float
    period_d: float
    kind: str = "minimum"
    quadratic_d: float = 0.0
    epoch_uncertainty_d: float = 0.0
    period_uncertainty_d: float = 0.0
    quadratic_uncertainty_d: float = 0.0
    source: str = ""

    def time(self, cycle: Floats) -> Floats:
        """When the star turns, at any cycles."""
        return np.asarray(
            self.epoch_bjd + self.period_d * cycle + self.quadratic_d * np.square(cycle)
        )

    def cycle(self, bjd: Floats) -> Floats:
        """Cycles at any times, with their fractions; by the quadratic term's small size."""
        cycle = (np.asarray(bjd, float) - self.epoch_bjd) / self.period_d
        for _ in range(_ROUNDS if self.quadratic_d else 0):
            slope = self.period_d + 2.0 * self.quadratic_d * cycle
            cycle = cycle + (bjd - self.time(cycle)) / slope
        return np.asarray(cycle)

    def phase(self, bjd: Floats) -> Floats:
        """From 0 to 1."""
        return np.asarray(self.cycle(bjd) % 1.0)


@dataclass(frozen=True)
class Departures:
    """Observed minus calculated: the ``cycle`` of each time (times), whole ones, or and a half for
    the other minimum, and O − C in days.
    """

    cycle: Floats
    o_minus_c_d: Floats


def departures(
    elements: Elements, times_bjd: Floats, cycles: Sequence[float | None] = (), halves: bool = True
) -> Departures:
    """O − C of times against elements. ``cycles`` says by hand which cycle a time belongs to, where
    it is not None; else it is the nearest one, or half one with ``halves``.
    """
    found = elements.cycle(times_bjd)
    nearest = np.round(2.0 * found) / 2.0 if halves else np.round(found)
    for at, said in enumerate(cycles):
        if said is not None:
            nearest[at] = said
    return Departures(nearest, np.asarray(times_bjd - elements.time(nearest)))


@dataclass(frozen=True)
class ElementsFit:
    """Fitted elements; ``used`` (times) took part, ``scale`` is how many times larger than stated
    their errors are, at least 1 and held by the uncertainties; ``improvement`` is by how much the
    quadratic term lets χ² fall (0 without one).
    """

    elements: Elements
    used: Bools
    scale: float
    improvement: float = 0.0


def fit_elements(
    times_bjd: Floats, sigma_d: Floats, cycle: Floats, kind: str, *, quadratic: bool = False,
    source: str = "fitted",
) -> ElementsFit:  # fmt: skip
    """Elements through times whose cycles are known, by weighted least squares; what is more than
    four of the scatter off takes no part. The epoch is that of the whole cycle nearest to the
    weighted middle, where it hangs least on the period. Raises ElementsError.
    """
    need = 4 if quadratic else 3
    if np.unique(np.round(2 * cycle)).size < need - 1 or times_bjd.size < need - 1:
        raise ElementsError(
            f"{times_bjd.size} times of {np.unique(cycle).size} cycles: "
            f"{'a quadratic' if quadratic else 'a linear'} fit takes {need - 1} cycles at the least"
        )
    weight = sigma_d**-2.0
    middle = float(np.round(np.sum(weight * cycle) / weight.sum()))
    terms = 3 if quadratic else 2
    used: Bools = np.ones(times_bjd.size, bool)
    fit, scale = _least_squares(times_bjd, sigma_d, cycle - middle, used, terms), 1.0
    for _ in range(_ROUNDS):
        left = np.abs(times_bjd - fit.at(cycle - middle)) / sigma_d
        spread = max(1.4826 * float(np.median(left[used])), 1.0)
        now: Bools = left < _CLIP * spread
        if now.sum() <= terms or np.array_equal(now, used):
            break
        used = now
        fit = _least_squares(times_bjd, sigma_d, cycle - middle, used, terms)
    scale = max(1.0, np.sqrt(fit.chi2 / max(int(used.sum()) - terms, 1)))
    improvement = 0.0
    if quadratic:
        line = _least_squares(times_bjd, sigma_d, cycle - middle, used, 2)
        improvement = (line.chi2 - fit.chi2) / scale**2
    error = scale * np.sqrt(np.diag(fit.covariance))
    return ElementsFit(
        Elements(
            float(fit.values[0]), float(fit.values[1]), kind,
            float(fit.values[2]) if quadratic else 0.0, float(error[0]), float(error[1]),
            float(error[2]) if quadratic else 0.0, source,
        ),
        used, float(scale), float(improvement),
    )  # fmt: skip


@dataclass(frozen=True)
class _Fit:
    values: Floats
    covariance: Floats
    chi2: float

    def at(self, cycle: Floats) -> Floats:
        return np.polynomial.polynomial.polyval(cycle, self.values)


def _least_squares(times: Floats, sigma: Floats, cycle: Floats, used: Bools, terms: int) -> _Fit:
    # Times from the first, so that no digits are lost.
    base = float(times[used][0])
    reach = max(float(np.abs(cycle[used]).max()), 1.0)
    basis = np.vander(cycle[used] / reach, terms, increasing=True) / sigma[used, None]
    right = (times[used] - base) / sigma[used]
    inverse = np.linalg.pinv(basis.T @ basis, rcond=1e-14)
    scaled = inverse @ (basis.T @ right)
    unscale = reach ** -np.arange(terms, dtype=float)
    values = scaled * unscale
    values[0] += base
    chi2 = float(np.sum((right - basis @ scaled) ** 2))
    return _Fit(values, inverse * np.outer(unscale, unscale), chi2)


def together(times_bjd: Floats, sigma_d: Floats, groups: Ints) -> tuple[Floats, Floats, Ints]:
    """The weighted mean of the times of each group, its uncertainty, widened where they disagree,
    and the groups.
    """
    names = np.unique(groups)
    mean, error = np.empty(names.size), np.empty(names.size)
    for at, name in enumerate(names):
        own = groups == name
        weight = sigma_d[own] ** -2.0
        base = float(times_bjd[own][0])
        mean[at] = base + float(np.average(times_bjd[own] - base, weights=weight))
        chi2 = float(np.sum(weight * (times_bjd[own] - mean[at]) ** 2))
        error[at] = np.sqrt(max(1.0, chi2 / max(int(own.sum()) - 1, 1)) / weight.sum())
    return mean, error, names
