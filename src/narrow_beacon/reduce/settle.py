"""Settle: from measured exposures to what is set aside, one cast for all filters, and the radii."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.cast import Cast, Dropped
from narrow_beacon.core.curve.ensemble import LEAST_TESTED
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.growth import RadiusChoice
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.curves import (
    FilterCurve,
    FilterSeries,
    Roles,
    curve_of_cast,
    make_curve,
)
from narrow_beacon.reduce.prepare import Prepared, fixed_step, target_place
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.reduce.vet import off_target

_BESIDE_MAG = 0.005
_NOISY = 1.2
_UNEVEN, _LEAST_UNEVEN = 0.012, 5
"""Corners over the middle on so many exposures that are said; no clear sky does that."""


@dataclass(frozen=True)
class Wanted:
    """Rows of the roles that are given already; empty where the program is to choose."""

    comparison: tuple[int, ...] = ()
    check: int | None = None


@dataclass(frozen=True)
class Settled:
    """What the program makes of measured exposures. ``set_aside`` are reasons by the exposure's
    index, ``choices`` the radius of each filter; ``cast`` is None where there can be none.
    ``curves`` are those of the cast, ``without`` reasons by index where there is none.
    """

    cast: Cast | None
    choices: dict[str, RadiusChoice]
    set_aside: dict[int, str]
    remarks: tuple[Remark, ...]
    curves: tuple[FilterCurve, ...] = ()
    without: Mapping[int, str] = field(default_factory=dict)

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
                    series_of(ready, name, [result.index for result in measured]), measured,
                    [by_index[result.index].frame.exposure_s for result in measured], stars,
                    Roles(target, wanted.comparison, check), fixed_step(ready.plan),
                )
            )  # fmt: skip
        except NotMeasurableError as error:
            remarks.append(
                Remark(
                    "curve", str(error), name, "there is no curve in this filter",
                    "give the parts in Cast",
                )
            )  # fmt: skip
    remarks += _noisy_sky(ready, results)
    remarks += _uneven_sky(ready, results)
    for curve in curves:
        set_aside |= curve.set_aside
        remarks += _untested(curve, stars)
        remarks += _beside(curve, stars)
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
    if not curves:
        return Settled(None, {}, set_aside, tuple(remarks))
    choices = {curve.filter: curve.choice for curve in curves}
    cast = joint_cast(curves)
    by_result = {result.index: result for result in results}
    final, without = _curves_of(ready, by_result, cast, choices, set_aside)
    remarks += [words for curve in final for words in _doubts(curve)]
    return Settled(cast, choices, set_aside, tuple(remarks), tuple(final), without)


def _untested(curve: FilterCurve, stars: StarTable) -> list[Remark]:
    """Words where too few comparison stars take part to test one another."""
    rows = curve.cast.comparison
    if len(rows) >= LEAST_TESTED:
        return []
    names = " and ".join(stars.names[row] for row in rows)
    words = f"only {len(rows)} comparison star{'s' if len(rows) > 1 else ''} ({names})"
    if curve.ensemble.tested:
        wander = float(np.nanmedian(curve.ensemble.zero_point_uncertainty))
        words += f", tested against the other stars of the field: zero points to {wander:.4f} mag"
        matters = "the uncertainties hold what the field shows"
    else:
        words += (
            ": nothing tells whether it varies"
            if len(rows) == 1
            else (": nothing tells which of them varies, if one does")
        )
        matters = "the uncertainties hold noise alone; a comparison star's own changes come on top"
    return [Remark("cast", words, curve.filter, matters, "take three or more, ten are better")]


def _beside(curve: FilterCurve, stars: StarTable) -> list[Remark]:
    """Words where another star's light falls into the target's or the check star's aperture."""
    remarks = []
    for row, star in ((curve.cast.target, curve.target), (curve.cast.check, curve.check)):
        if row is None or star is None:
            continue
        light = float(np.median(star.neighbour_mag)) + float(np.median(star.unseen_mag))
        if abs(light) < _BESIDE_MAG:
            continue
        what = "an unseen companion's" if np.any(star.unseen_mag) else "neighbours'"
        change = float(np.std(star.neighbour_mag))
        remarks.append(
            Remark(
                "measure",
                f"{what} light in the aperture of {stars.names[row]}: {1000 * light:.0f} mmag, "
                f"changing by {1000 * change:.1f} mmag over the exposures",
                curve.filter,
                f"magnitudes are too {'bright' if light > 0 else 'faint'} by "
                f"{1000 * abs(light):.0f} mmag",
                "take a smaller radius, or report the magnitudes as those of all of them together",
            )
        )
    return remarks


def _noisy_sky(ready: Prepared, results: Sequence[ExposureResult]) -> list[Remark]:
    """Words on groups whose sky is noisier than gain, read noise and level let expect."""
    groups = {job.index: job.group for job in ready.jobs}
    found: dict[str, list[float]] = defaultdict(list)
    for result in results:
        if result.census is not None:
            found[groups[result.index]].append(float(result.census.noise[1]))
    return [
        Remark(
            "measure",
            f"the sky is {ratio:.1f} times noisier than gain, read noise and its level say",
            group,
            "the uncertainties are widened to what the sky shows",
            "check gain and read noise in Intake, under Kit; else a pattern or a gradient is on "
            "the exposures",
        )
        for group, ratios in found.items()
        if (ratio := float(np.median(ratios))) > _NOISY
    ]  # fmt: skip


def _uneven_sky(ready: Prepared, results: Sequence[ExposureResult]) -> list[Remark]:
    """Words on groups whose flat leaves the corners brighter or darker than the sky can be."""
    jobs = {job.index: job for job in ready.jobs}
    found: dict[str, list[float]] = defaultdict(list)
    for result in results:
        if result.quality is not None and np.isfinite(result.quality.corners):
            found[jobs[result.index].group].append(result.quality.corners)
    chains = {job.group: ready.chains.get(job.chain) for job in ready.jobs}
    remarks = []
    for group, corners in found.items():
        chain = chains[group]
        flat = chain is not None and any(s.kind == "flat" for s in chain.stations)
        usual = float(np.median(corners))
        spread = 1.4826 * float(np.median(np.abs(np.array(corners) - usual)))
        error = spread / np.sqrt(len(corners))
        if not flat or len(corners) < _LEAST_UNEVEN or abs(usual) < max(_UNEVEN, 5 * error):
            continue
        side, kind = ("brighter", "over") if usual > 0 else ("darker", "under")
        remarks.append(
            Remark(
                "correct",
                f"the corners of corrected exposures are {100 * abs(usual):.1f}% {side} than the "
                f"middle: {kind}-corrected, or light in the flats that is not the sky's",
                group,
                f"about {1086 * abs(usual):.0f} mmag between a star in the middle and one in a "
                "corner",
                "keep the target and its comparison stars near one another; take flats without "
                "stray light",
            )
        )
    return remarks


def _doubts(curve: FilterCurve) -> list[Remark]:
    """Words on the points of a curve that are not simply good."""
    remarks = []
    doubtful, unseen = curve.target.doubtful, np.isfinite(curve.target.limit_mag)
    if doubtful.any():
        remarks.append(
            Remark(
                "curve", f"{doubtful.sum()} of {doubtful.size} points are doubtful", curve.filter,
                "they may be off by more than their uncertainties; the flags say why and how much",
                "the report leaves them out; [output] doubtful = true takes them, as does Report",
            )
        )  # fmt: skip
    if unseen.any():
        remarks.append(
            Remark(
                "curve", f"the target was not seen on {unseen.sum()} of {unseen.size} exposures",
                curve.filter, "they have a limit in place of a magnitude", "expose longer",
            )
        )  # fmt: skip
    return remarks


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


def _curves_of(
    ready: Prepared,
    results: Mapping[int, ExposureResult],
    cast: Cast,
    choices: Mapping[str, RadiusChoice],
    set_aside: Mapping[int, str],
) -> tuple[list[FilterCurve], dict[int, str]]:
    """The curve of every filter for a settled cast, and reasons by exposure where there is none."""
    by_index = {job.index: job for job in ready.jobs}
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
                series_of(ready, name, indices), whole, ready.field.stars, cast, choice.step
            )
        except NotMeasurableError as error:
            without |= dict.fromkeys(indices, str(error))
            continue
        curves.append(replace(curve, choice=choices.get(name, curve.choice)))
    return curves, without


def series_of(ready: Prepared, name: str, indices: Sequence[int]) -> FilterSeries:
    """Exposures of one filter, by their indices in order of time."""
    groups = {job.index: job.group for job in ready.jobs}
    return FilterSeries(
        name, ready.context.bands[name], tuple(indices), tuple(groups[i] for i in indices),
        ready.times.airmass[list(indices)],
    )  # fmt: skip
