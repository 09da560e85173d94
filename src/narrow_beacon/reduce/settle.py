"""Settle: from measured exposures to what is set aside, one cast for all filters, and the radii."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.curve.cast import Cast, Dropped
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.growth import RadiusChoice
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.curves import FilterCurve, curve_of_cast, make_curve
from narrow_beacon.reduce.prepare import Prepared, fixed_step, target_place
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.reduce.vet import off_target


@dataclass(frozen=True)
class Wanted:
    """Rows of the roles that are given already; empty where the program is to choose."""

    comparison: tuple[int, ...] = ()
    check: int | None = None


@dataclass(frozen=True)
class Settled:
    """What the program makes of measured exposures. ``set_aside`` are reasons by the exposure's
    index, ``choices`` the radius of each filter; ``cast`` is None where there can be none.
    """

    cast: Cast | None
    choices: dict[str, RadiusChoice]
    set_aside: dict[int, str]
    remarks: tuple[Remark, ...]

    @property
    def steps(self) -> dict[str, int]:
        """The step of the radius in each filter."""
        return {name: choice.step for name, choice in self.choices.items()}


def settle(ready: Prepared, results: Sequence[ExposureResult], wanted: Wanted) -> Settled:
    """Vet the exposures, choose the cast where it is not given, and the radius of each filter."""
    target = ready.field.target
    if target is None:
        return Settled(None, {}, {}, ())
    stars = ready.field.stars
    set_aside = off_target(results, *target_place(stars, target))
    by_index = {job.index: job for job in ready.jobs}
    airmass = dict(enumerate(ready.times.airmass.tolist()))
    curves: list[FilterCurve] = []
    remarks: list[Remark] = []
    for name in filters_by_count(ready):
        measured = [
            result
            for result in results
            if result.census is not None
            and result.index not in set_aside
            and by_index[result.index].frame.filter == name
        ]
        if not measured:
            continue
        # The check star of the first filter is the check star of all.
        check = wanted.check
        if check is None and curves:
            check = curves[0].cast.check
        try:
            curves.append(
                make_curve(
                    name, ready.context.bands[name], measured,
                    {job.index: job.group for job in ready.jobs},
                    {job.index: job.frame.exposure_s for job in ready.jobs},
                    airmass, stars, target, wanted.comparison, check, fixed_step(ready.plan),
                )
            )  # fmt: skip
        except NotMeasurableError as error:
            remarks.append(
                Remark(
                    "curve", str(error), name, "there is no curve in this filter",
                    "give the parts in Cast",
                )
            )  # fmt: skip
    for curve in curves:
        set_aside |= curve.set_aside
        remarks += [_dropped(dropped, curve) for dropped in curve.cast.dropped]
        role = curve.cast.check
        if role is not None and curve.census.column(role) is None:
            remarks.append(
                Remark(
                    "cast", f"check star {stars.names[role]}: on no exposure in {curve.filter}",
                    curve.filter, "nothing tells whether these nights are any good",
                    "choose a check star that is on all exposures",
                )
            )  # fmt: skip
    choices = {curve.filter: curve.choice for curve in curves}
    return Settled(joint_cast(curves) if curves else None, choices, set_aside, tuple(remarks))


def _dropped(dropped: Dropped, curve: FilterCurve) -> Remark:
    return Remark(
        "cast",
        f"comparison star {dropped.name} dropped: {dropped.reason}",
        curve.filter,
        "none: it takes no part",
        "make it a comparison star again in Cast, if you know better",
    )


def joint_cast(curves: Sequence[FilterCurve]) -> Cast:
    """One cast for all filters: comparison stars that serve in each, else the first filter's."""
    first = curves[0].cast
    everywhere = tuple(
        row for row in first.comparison if all(row in curve.cast.comparison for curve in curves)
    )
    dropped = tuple(dict.fromkeys(d for curve in curves for d in curve.cast.dropped))
    return replace(first, comparison=everywhere or first.comparison, dropped=dropped)


def filters_by_count(ready: Prepared) -> list[str]:
    """Filters that have a band, the one with most exposures first."""
    counts = {
        name: sum(job.frame.filter == name for job in ready.jobs) for name in ready.context.bands
    }
    return sorted(counts, key=lambda name: (-counts[name], name))


def curves_of(
    ready: Prepared,
    results: Mapping[int, ExposureResult],
    cast: Cast,
    choices: Mapping[str, RadiusChoice],
    set_aside: Mapping[int, str],
) -> tuple[list[FilterCurve], dict[int, str]]:
    """The curve of every filter for a settled cast, and reasons by exposure where there is none."""
    by_index = {job.index: job for job in ready.jobs}
    airmass = dict(enumerate(ready.times.airmass.tolist()))
    groups = {job.index: job.group for job in ready.jobs}
    curves: list[FilterCurve] = []
    without: dict[int, str] = {}
    for name in filters_by_count(ready):
        indices = [
            index
            for index, result in sorted(results.items())
            if result.census is not None
            and index not in set_aside
            and by_index[index].frame.filter == name
        ]
        if not indices:
            continue
        censuses = [census for i in indices if (census := results[i].census) is not None]
        whole = FilterCensus.of(censuses, [by_index[i].frame.exposure_s for i in indices])
        choice = choices.get(name) or next(iter(choices.values()))
        try:
            curve = curve_of_cast(
                name, ready.context.bands[name], indices, whole.stars_only(np.array(cast.rows)),
                groups, airmass, ready.field.stars, cast, choice.step,
            )  # fmt: skip
        except NotMeasurableError as error:
            without |= dict.fromkeys(indices, str(error))
            continue
        curves.append(replace(curve, choice=choices.get(name, curve.choice)))
    return curves, without
