"""What a report says besides its points, told from a reduction."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from narrow_beacon import __version__
from narrow_beacon.core.frames.sort import longitude_by_pause
from narrow_beacon.core.report.render import Comparison, Facts, Stars
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.outcome import Told


def report_facts(told: Told, *, each: bool = True) -> Facts:
    """What a report says besides its points; with ``each`` comparison star by itself."""
    stars = _stars_of_filters(told, each)
    return Facts(
        _header_facts(told), stars, told.plan.report_fields, longitude_deg=longitude_of(told)
    )


def longitude_of(told: Told) -> float:
    """The site's longitude, by which nights are told, or what stands for it where it is unknown."""
    if told.plan.site:
        return told.plan.site.longitude_deg
    return longitude_by_pause(24.0 * ((told.times.jd_utc + 0.5) % 1.0))


def _comparisons(told: Told, curve: FilterCurve) -> tuple[Comparison, ...]:
    """What each comparison star of a filter has on each exposure, to the table's five decimals."""
    known, found = told.stars.bands[curve.band].magnitude, []
    files = [told.looks.files[index] for index in curve.indices]
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
        found.append(Comparison(told.stars.names[row], float(known[row]), measured))
    return tuple(found)


def _stars_of_filters(told: Told, each: bool) -> dict[tuple[str, str], Stars]:
    """Comparison and check star of each target in each filter."""
    names, found = told.stars.names, {}
    for one in told.targets:
        for curve in one.curves:
            known = told.stars.bands[curve.band].magnitude
            rows, check = curve.cast.comparison, curve.cast.check
            found[target_name(one), curve.filter] = Stars(
                tuple(names[row] for row in rows), float(known[rows[0]]) if rows else np.nan,
                names[check] if check is not None else "",
                float(known[check]) if check is not None else np.nan, chart_name(told.plan),
                _comparisons(told, curve) if each else (),
            )  # fmt: skip
    return found


def _header_facts(told: Told) -> dict[str, str]:
    """What fills the fields of a layout's header."""
    names = told.stars.names
    several = len(told.targets) > 1

    def each(of: Callable[[Told], str]) -> str:
        """What is said of each target, with its name where there are several."""
        found = [f"{target_name(one)}: {of(one)}" if several else of(one) for one in told.targets]
        return "; ".join(found)

    def comparison(one: Told) -> str:
        rows = [row for curve in one.curves for row in curve.cast.comparison]
        return ", ".join(dict.fromkeys(names[row] for row in rows))

    def offsets(one: Told) -> str:
        return ", ".join(
            f"{curve.filter} {curve.ensemble.common_offset_uncertainty_mag:.4f} mag"
            for curve in one.curves
        )

    return {
        "target": ", ".join(target_name(one) for one in told.targets),
        "filters": " and ".join(dict.fromkeys(curve.filter for curve in told.every_curve)),
        "version": __version__,
        "comparison": each(comparison),
        "check": each(lambda one: check_name(one) or "none"),
        "common_offset": each(offsets),
        "chart": chart_name(told.plan) or "none",
    }


def target_name(told: Told) -> str:
    """The target as the plan calls it, else as the catalogue does."""
    if told.plan.target_name:
        return told.plan.target_name
    return "" if told.target is None else told.stars.names[told.target]


def check_name(told: Told) -> str:
    """The check star of the first filter that has one, or nothing."""
    checks = [curve.cast.check for curve in told.curves if curve.cast.check is not None]
    return told.stars.names[checks[0]] if checks else ""


def chart_name(plan: Plan) -> str:
    """The chart that the plan's sequence is from, or nothing."""
    return plan.sequence.chart if plan.sequence else ""
