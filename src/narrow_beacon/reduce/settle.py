"""Settle: from measured exposures to what is set aside, one cast for all filters, and the radii."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.curve.cast import Cast
from narrow_beacon.core.curve.colour_terms import (
    exposures_for_terms,
    looked_at_for_terms,
    telling_rows,
)
from narrow_beacon.core.curve.field_stars import exposures_of_field, field_stars, joined_stars
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.measure.growth import RadiusChoice
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import TargetWish
from narrow_beacon.reduce.curves import (
    DEFAULT_STEP,
    FilterCurve,
    FilterSeries,
    Judged,
    Roles,
    beside_curves,
    curve_of_cast,
    doubted_cast,
    joint_cast,
    make_curve,
    with_floor,
)
from narrow_beacon.reduce.filter_doubt import filter_remarks
from narrow_beacon.reduce.judging import Judgement, judge
from narrow_beacon.reduce.light import FilterLight, Measured
from narrow_beacon.reduce.linearity_doubt import linearity_remarks
from narrow_beacon.reduce.points import as_wished, points_remarks
from narrow_beacon.reduce.prepare import Prepared, fixed_step, target_place
from narrow_beacon.reduce.settle_remarks import (
    beside_remarks,
    bright_sky_remarks,
    doubts_remarks,
    dropped_remark,
    missing_check_remarks,
    moved_remarks,
    noisy_sky_remarks,
    one_star_remarks,
    refraction_remarks,
    shared_light_remarks,
    sunken_sky_remarks,
    uneven_sky_remarks,
    untested_remarks,
    wander_remarks,
)
from narrow_beacon.reduce.standard import (
    Observed,
    index_of,
    standard_remarks,
    standardise,
    terms_of,
    with_given,
)
from narrow_beacon.reduce.tilt_doubt import tilt_remarks
from narrow_beacon.reduce.vet import (
    off_target,
)


@dataclass(frozen=True)
class Wanted:
    """Rows of the roles that are given already; empty where the program is to choose."""

    comparison: tuple[int, ...] = ()
    checks: tuple[int, ...] = ()
    beside: tuple[Wanted, ...] = ()
    """Those of the other targets of the field, in its order."""


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
    to_consider: Mapping[int, str] = field(default_factory=dict)
    """Reasons by index for which the observer may want to set an exposure aside; its point is
    doubtful."""
    evidence: Mapping[int, Mapping[str, object]] = field(default_factory=dict)
    """What shows in an exposure's picture, by index."""
    beside: tuple[Settled, ...] = ()
    """What is made of the other targets of the field, in its order."""

    @property
    def steps(self) -> dict[str, int]:
        """The step of the radius in each filter."""
        return {name: choice.step for name, choice in self.choices.items()}


def settle(ready: Prepared, measured: Measured, wanted: Wanted) -> Settled:
    """Vet the exposures, choose the cast of each target where it is not given, and its radius in
    each filter. The first target's cast has a say in the vetting, which the others share.
    """
    settled = _settle_first(ready, measured, wanted)
    if settled.cast is None:
        return settled
    own = zip(ready.field.beside, wanted.beside or [Wanted()] * len(ready.field.beside),
              strict=True)  # fmt: skip
    beside = [
        _settle_beside(ready_for(ready, wish, row), measured, settled.set_aside, parts)
        for (wish, row), parts in own
    ]
    remarks = [remark for other in beside for remark in other.remarks]
    return replace(settled, beside=tuple(beside), remarks=(*settled.remarks, *remarks))


def ready_for(ready: Prepared, wish: TargetWish, row: int) -> Prepared:
    """The same with another target."""
    return replace(
        ready, plan=ready.plan.of_target(wish), known_targets=ready.targets,
        field=replace(ready.field, target=row, beside=()),
    )  # fmt: skip


def _settle_beside(
    ready: Prepared, measured: Measured, set_aside: Mapping[int, str], wanted: Wanted
) -> Settled:
    target, stars = ready.field.target, ready.field.stars
    assert target is not None
    parts = [
        part
        for name in filters_by_count(ready)
        if (part := _left(ready, name, measured, set_aside))
    ]
    roles = Roles(target, wanted.comparison, wanted.checks, ready.targets)
    curves, problems = beside_curves(parts, stars, roles, partial(fixed_step, ready.plan))
    name = ready.plan.target_name or stars.names[target]
    remarks = [
        Remark("curve", f"{name}: {words}", f"{name}, {band}",
               "there is no curve of it in this filter", "give the parts in Cast")
        for band, words in problems.items()
    ]  # fmt: skip
    if not curves:
        return Settled(None, {}, {}, tuple(remarks))
    choices = {curve.filter: curve.choice for curve in curves}
    cast = joint_cast(curves)
    final, without = _curves_of(ready, measured, cast, choices, set_aside)
    found = [dropped_remark(dropped, curve) for curve in curves for dropped in curve.cast.dropped]
    found += [remark for curve in curves for remark in wander_remarks(curve)]
    for curve in final:
        found += [*untested_remarks(curve, stars), *beside_remarks(curve, stars)]
        found += [*doubts_remarks(curve), *one_star_remarks(ready, curve, stars)]
    found += moved_remarks(ready, target, stars)
    found += standard_remarks(final, stars, ready.plan.transform)
    found += points_remarks(final, ready.plan.points)
    remarks += [replace(one, about=", ".join(x for x in (name, one.about) if x)) for one in found]
    return Settled(cast, choices, {}, tuple(remarks), tuple(final), without)


def _left(
    ready: Prepared, name: str, measured: Measured, aside: Mapping[int, str]
) -> tuple[FilterSeries, FilterLight] | None:
    """The measured exposures of a filter that are not set aside; None without any."""
    by_index = {job.index: job for job in ready.jobs}
    found = sorted(
        result.index
        for result in measured.results
        if measured.measured(result.index)
        and result.index not in aside
        and by_index[result.index].frame.filter == name
    )
    if not found:
        return None
    seconds = [by_index[index].frame.exposure_s for index in found]
    return series_of(ready, name, found), measured.light(found, seconds)


def _settle_first(ready: Prepared, measured: Measured, wanted: Wanted) -> Settled:
    target = ready.field.target
    if target is None:
        return Settled(None, {}, {}, ())
    stars = ready.field.stars
    names = ready.plan.vetting.set_aside
    said = {
        job.index: names[job.frame.name]
        for job in ready.jobs
        if job.frame.name in names and job.frame.name not in ready.plan.vetting.keep
    }
    results = [result for result in measured.results if result.index not in said]
    judgement = judge(ready, results, measured)
    off = off_target(results, *target_place(stars, target))
    set_aside = {index: words for index, words in off.items() if index not in judgement.keep}
    set_aside |= said | judgement.limited
    curves, remarks = _first_curves(ready, measured, wanted, judgement, set_aside)
    remarks += bright_sky_remarks(judgement.spoiled, ready.plan.site)
    remarks += noisy_sky_remarks(ready, results, measured)
    remarks += sunken_sky_remarks(ready, results)
    remarks += uneven_sky_remarks(ready, results)
    remarks += refraction_remarks(ready, results)
    for curve in curves:
        set_aside |= curve.set_aside
        remarks += untested_remarks(curve, stars)
        remarks += beside_remarks(curve, stars)
        remarks += [dropped_remark(dropped, curve) for dropped in curve.cast.dropped]
        remarks += wander_remarks(curve)
        remarks += missing_check_remarks(curve, stars)
    if not curves:
        return Settled(None, {}, set_aside, tuple(remarks))
    choices = {curve.filter: curve.choice for curve in curves}
    cast = joint_cast(curves)
    final, without = _curves_of(ready, measured, cast, choices, set_aside)
    remarks += [words for curve in final for words in doubts_remarks(curve)]
    remarks += [words for curve in final for words in shared_light_remarks(ready, curve)]
    remarks += [words for curve in final for words in one_star_remarks(ready, curve, stars)]
    remarks += moved_remarks(ready, target, stars)
    for curve in final:
        remarks += tilt_remarks(ready, measured, curve, judgement.tilts)
    remarks += standard_remarks(final, stars, ready.plan.transform)
    remarks += filter_remarks(final, stars)
    remarks += linearity_remarks(final, stars)
    remarks += points_remarks(final, ready.plan.points)
    doubted = {index: words for curve in final for index, words in doubted_cast(curve, stars.names)}
    return Settled(
        cast, choices, set_aside, tuple(remarks), tuple(final), without, doubted,
        judgement.evidence,
    )  # fmt: skip


def _first_curves(
    ready: Prepared, measured: Measured, wanted: Wanted, judgement: Judgement,
    set_aside: Mapping[int, str],
) -> tuple[list[FilterCurve], list[Remark]]:  # fmt: skip
    """A curve of each filter with the cast that is best in it, of what is not set aside yet."""
    target = ready.field.target
    assert target is not None
    curves: list[FilterCurve] = []
    remarks: list[Remark] = []
    judged = Judged(judgement.spoiled, judgement.keep, ready.plan.vetting.rules.light)
    for name in filters_by_count(ready):
        part = _left(ready, name, measured, set_aside)
        if part is None:
            continue
        # The check stars of the first filter are those of all.
        checks = wanted.checks or (curves[0].cast.checks if curves else ())
        roles = Roles(target, wanted.comparison, checks, ready.targets)
        try:
            curves.append(
                make_curve(*part, ready.field.stars, roles, fixed_step(ready.plan, name), judged)
            )
        except NotMeasurableError as error:
            remarks.append(
                Remark(
                    "curve", str(error), name, "there is no curve in this filter",
                    "give the parts in Cast",
                )
            )  # fmt: skip
    return curves, remarks


def filters_by_count(ready: Prepared) -> list[str]:
    """Filters that have a band, the one with most exposures first."""
    counts = {
        name: sum(job.frame.filter == name for job in ready.jobs) for name in ready.context.bands
    }
    return sorted(counts, key=lambda name: (-counts[name], name))


def _curves_of(
    ready: Prepared,
    measured: Measured,
    cast: Cast,
    choices: Mapping[str, RadiusChoice],
    set_aside: Mapping[int, str],
) -> tuple[list[FilterCurve], dict[int, str]]:
    """The curve of every filter for a settled cast, and reasons by exposure where there is none."""
    curves: list[FilterCurve] = []
    lights: dict[str, FilterLight] = {}
    without: dict[int, str] = {}
    for name in filters_by_count(ready):
        part = _left(ready, name, measured, set_aside)
        if part is None:
            continue
        series, light = part
        choice = choices.get(name) or next(iter(choices.values()))
        try:
            curve = curve_of_cast(series, light, ready.field.stars, cast, choice.step)
        except NotMeasurableError as error:
            without |= dict.fromkeys(series.indices, str(error))
            continue
        choice = choices.get(name, curve.choice)
        some = exposures_of_field(len(light))
        few, ensemble = light.take(some), curve.ensemble.take(some)
        parts = [
            field_stars(
                few.at(choice.step, rows.tolist()), choice.step, ensemble, curve.cast.comparison
            )
            for rows in few.blocks()
        ]
        everyone = joined_stars(parts)
        curve = with_floor(replace(curve, choice=choice, field=everyone), added=ready.plan.floor)
        curves.append(curve)
        lights[name] = light
    if curves and ready.plan.transform.apply:
        curves = _on_standard_scale(ready, curves, lights)
    beside = partial(_beside, ready, measured)
    return as_wished(curves, ready.plan.points, beside, _nights(ready)), without


def _nights(ready: Prepared) -> tuple[int, ...]:
    names = sorted({frame.night or "" for frame in ready.exposures})
    return tuple(names.index(frame.night or "") for frame in ready.exposures)


def _beside(ready: Prepared, measured: Measured, curve: FilterCurve) -> dict[str, Floats]:
    """What the observer wants taken out, on a curve's exposures."""
    found: dict[str, Floats] = {}
    results = {result.index: result for result in measured.results}
    asked, exposures = ready.plan.points.take_out, [results[index] for index in curve.indices]
    if "airmass" in asked:
        found["airmass"] = ready.times.airmass[list(curve.indices)]
    looks = [one.quality for one in exposures]
    if "star width" in asked:
        found["star width"] = np.array([look.fwhm_px if look else np.nan for look in looks])
    if "sky" in asked:
        found["sky"] = np.array([look.sky_adu_per_px if look else np.nan for look in looks])
    if "place" in asked:
        found["x"], found["y"] = measured.where(curve.cast.target, curve.indices)
    return found


def _on_standard_scale(
    ready: Prepared, curves: Sequence[FilterCurve], lights: Mapping[str, FilterLight]
) -> list[FilterCurve]:
    stars, wish, times = ready.field.stars, ready.plan.transform, ready.times
    moments = Observed(times.jd_utc, times.airmass, _nights(ready), ready.plan.site)
    groups = {job.index: job.group for job in ready.jobs}
    bands = [curve.band for curve in curves]
    terms = {}
    for curve in curves:
        given = wish.given.get(curve.filter)
        index = index_of(curve.band, bands, tuple(stars.bands), given.index if given else "")
        if index is not None:
            some = lights[curve.filter].take(exposures_for_terms(len(curve.indices)))
            seen = some.take(looked_at_for_terms(len(some))).alone(DEFAULT_STEP)
            target = (curve.cast.target,)
            rows = telling_rows(seen, len(some), stars, curve.band, index, target).tolist()
            fitted = terms_of(
                curve, some.at(DEFAULT_STEP, rows), DEFAULT_STEP, stars, moments, index,
                [groups[i] for i in curve.indices],
            )  # fmt: skip
            terms[curve.filter] = with_given(fitted, curve.filter, wish)
    return standardise(curves, terms, stars, moments, wish)


def series_of(ready: Prepared, name: str, indices: Sequence[int]) -> FilterSeries:
    """Exposures of one filter, by their indices in order of time."""
    groups = {job.index: job.group for job in ready.jobs}
    return FilterSeries(
        name, ready.context.bands[name], tuple(indices), tuple(groups[i] for i in indices),
        ready.times.airmass[list(indices)],
    )  # fmt: skip
