"""What a report says besides its points, told from a reduction."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from narrow_beacon import __version__
from narrow_beacon.core.report.render import Comparison, Facts, Stars
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.outcome import Outcome


def report_facts(outcome: Outcome, *, each: bool = True) -> Facts:
    """What a report says besides its points; with ``each`` comparison star by itself."""
    stars = _stars_of_filters(outcome, each)
    return Facts(_header_facts(outcome), stars, outcome.plan.report_fields)


def _comparisons(outcome: Outcome, curve: FilterCurve) -> tuple[Comparison, ...]:
    """What each comparison star of a filter has on each exposure, to the table's five decimals."""
    known, found = outcome.stars.bands[curve.band].magnitude, []
    files = [outcome.night.exposures[index].file for index in curve.indices]
    for row in curve.cast.comparison:
        column = curve.census.column(row)
        if column is None:
            continue
        one = curve.census.at_radius(curve.choice.step, np.array([column]))
        value, sigma = (values[:, 0] for values in one.magnitudes(0))
        measured = {
            file: (round(float(value[at]), 5), round(float(sigma[at]), 5))
            for at, file in enumerate(files)
            if np.isfinite(value[at]) and np.isfinite(sigma[at])
        }
        found.append(Comparison(outcome.stars.names[row], float(known[row]), measured))
    return tuple(found)


def _stars_of_filters(outcome: Outcome, each: bool) -> dict[tuple[str, str], Stars]:
    """Comparison and check star of each target in each filter."""
    names, found = outcome.stars.names, {}
    for one in outcome.targets:
        for curve in one.curves:
            known = outcome.stars.bands[curve.band].magnitude
            rows, check = curve.cast.comparison, curve.cast.check
            found[target_name(one), curve.filter] = Stars(
                tuple(names[row] for row in rows), float(known[rows[0]]) if rows else np.nan,
                names[check] if check is not None else "",
                float(known[check]) if check is not None else np.nan, chart_name(outcome.plan),
                _comparisons(outcome, curve) if each else (),
            )  # fmt: skip
    return found


def _header_facts(outcome: Outcome) -> dict[str, str]:
    """What fills the fields of a layout's header."""
    names = outcome.stars.names
    several = len(outcome.targets) > 1

    def each(of: Callable[[Outcome], str]) -> str:
        """What is said of each target, with its name where there are several."""
        found = [
            f"{target_name(one)}: {of(one)}" if several else of(one) for one in outcome.targets
        ]
        return "; ".join(found)

    def comparison(one: Outcome) -> str:
        rows = [row for curve in one.curves for row in curve.cast.comparison]
        return ", ".join(dict.fromkeys(names[row] for row in rows))

    def offsets(one: Outcome) -> str:
        return ", ".join(
            f"{curve.filter} {curve.ensemble.common_offset_uncertainty_mag:.4f} mag"
            for curve in one.curves
        )

    return {
        "target": ", ".join(target_name(one) for one in outcome.targets),
        "filters": " and ".join(dict.fromkeys(curve.filter for curve in outcome.every_curve)),
        "version": __version__,
        "comparison": each(comparison),
        "check": each(lambda one: check_name(one) or "none"),
        "common_offset": each(offsets),
        "chart": chart_name(outcome.plan) or "none",
    }


def target_name(outcome: Outcome) -> str:
    """The target as the plan calls it, else as the catalogue does."""
    if outcome.plan.target_name:
        return outcome.plan.target_name
    return "" if outcome.target is None else outcome.stars.names[outcome.target]


def check_name(outcome: Outcome) -> str:
    """The check star of the first filter that has one, or nothing."""
    checks = [curve.cast.check for curve in outcome.curves if curve.cast.check is not None]
    return outcome.stars.names[checks[0]] if checks else ""


def chart_name(plan: Plan) -> str:
    """The chart that the plan's sequence is from, or nothing."""
    return plan.sequence.chart if plan.sequence else ""
