"""A campaign's curves as they stand: by the cast, radii and rules in force, from the censuses."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from functools import cached_property, partial

import numpy as np
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.cast import Cast
from narrow_beacon.core.curve.colour_terms import (
    ColourIndex,
    ColourTerms,
    exposures_for_terms,
    looked_at_for_terms,
    telling_rows,
)
from narrow_beacon.core.curve.field_stars import (
    FieldStars,
    exposures_of_field,
    field_stars,
    joined_stars,
)
from narrow_beacon.core.curve.points import PointsWish
from narrow_beacon.core.curve.time import Times
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.transform_wish import TransformWish
from narrow_beacon.reduce.curves import (
    DEFAULT_STEP,
    FilterCurve,
    FilterSeries,
    Roles,
    beside_curves,
    curve_of_few,
    known_cast,
    looked_at,
    needed_rows,
    needed_steps,
    with_floor,
)
from narrow_beacon.reduce.field import band_of
from narrow_beacon.reduce.points import as_wished
from narrow_beacon.reduce.prepare import fixed_step
from narrow_beacon.reduce.standard import (
    Observed,
    index_of,
    standardise,
    terms_of,
    with_given,
)
from narrow_beacon.server.kept import Kept
from narrow_beacon.server.night import (
    SortedRow,
    exposures_of,
    set_aside_ids,
    sorted_exposures,
    times_of,
    unmeasured_ids,
)
from narrow_beacon.store.campaigns import place_of, plan_of, wish_of
from narrow_beacon.store.census_columns import CensusTable
from narrow_beacon.store.measured import filter_table, filters_measured
from narrow_beacon.store.measured_light import light_in
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    Recipe,
)
from narrow_beacon.store.points import points_of
from narrow_beacon.store.sequences import stars_of
from narrow_beacon.store.targets import targets_of

_curves: Kept[tuple[object, tuple[FilterCurve, ...], tuple[str, ...]]] = Kept(2)
"""The latest and the one before it: a step back answers at once."""


@dataclass(frozen=True)
class CurvesNow:
    """The curves of the cast in force; ``problems`` say why a filter has none."""

    stars: StarTable
    cast: CastRecord
    recipe: Recipe | None
    files: Sequence[SortedRow]
    times: Times
    tables: dict[str, CensusTable]
    curves: tuple[FilterCurve, ...]
    problems: tuple[str, ...]

    @cached_property
    def index_of(self) -> dict[int, int]:
        """Of each exposure's record, its place among all of them."""
        return {file.id: index for index, file in enumerate(self.files)}


def night_radii(now: CurvesNow, curve: FilterCurve) -> dict[int, Floats]:
    """The census's radii in pixels by night, the earliest first."""
    nights = np.array([now.files[index].night_id or 0 for index in curve.indices])
    order = np.argsort(nights, kind="stable")
    different, first = np.unique(nights[order], return_index=True)
    parts = np.split(order, first[1:])
    return {
        int(different[at]): np.median(curve.census.radii_px[parts[at]], axis=0)
        for at in np.argsort([part[0] for part in parts])
    }


def curves_now(
    session: Session, campaign: Campaign, *, everything: bool = False
) -> CurvesNow | None:
    """Curves from the censuses, without what is set aside unless ``everything``; None before the
    census or without a cast.
    """
    if campaign.cast_id is None or campaign.catalogue_id is None:
        return None
    stars = stars_of(session, campaign)
    record = session.get_one(CastRecord, campaign.cast_id)
    recipe = session.get(Recipe, campaign.recipe_id) if campaign.recipe_id else None
    files = sorted_exposures(session, campaign)
    aside = unmeasured_ids(session, campaign)
    aside |= set() if everything else set_aside_ids(session, campaign)
    times = times_of(session, campaign, files)
    cast = Cast(record.target, tuple(record.comparison), record.checks)
    tables = _tables_of(session, campaign, stars)
    steps = {name: step_of(recipe, name) for name in tables}
    wish, points, site = wish_of(campaign), points_of(campaign), place_of(session, campaign)
    # What is looked up by its identity is held with what is made of it.
    held = (stars, files, times, exposures_of(session, campaign) if points.take_out else None)
    key = (
        *map(id, held), cast, tuple(sorted(steps.items())), frozenset(aside), repr(wish),
        repr(points), site, campaign.floor, repr(campaign.bands),
        tuple((name, table.prints) for name, table in tables.items()),
    )  # fmt: skip

    def made() -> tuple[object, tuple[FilterCurve, ...], tuple[str, ...]]:
        curves: list[FilterCurve] = []
        problems = []
        for table, series, keep in _measured(campaign, tables, stars, files, times, aside):
            if not keep.size:
                problems.append(f"every exposure in {series.filter} is set aside")
                continue
            try:
                curve = _curve_of(table, series, keep, stars, cast, steps[series.filter])
                curves.append(with_floor(curve, added=bool(campaign.floor)))
            except NotMeasurableError as error:
                problems.append(str(error))
        observed = Observed(
            times.jd_utc, times.airmass, tuple(file.night_id or 0 for file in files), site
        )
        terms = _terms(curves, tables, stars, observed, [f.group_name for f in files], files, wish,
                       campaign.catalogue_id or 0)  # fmt: skip
        curves = standardise(curves, terms, stars, observed, wish)
        beside = partial(_beside, session, campaign, points, files, times, tables)
        curves = as_wished(curves, points, beside, observed.nights)
        return held, tuple(curves), tuple(problems)

    _, curves, problems = _curves.get(key, made)
    return CurvesNow(stars, record, recipe, files, times, tables, curves, problems)


def _curve_of(
    table: CensusTable, series: FilterSeries, keep: Ints, stars: StarTable, cast: Cast, step: int
) -> FilterCurve:
    """The curve of a cast, for which no more is read than it needs."""
    few = known_cast(series, table.rows, stars, cast)
    some = keep[looked_at(keep.size)]
    rows = needed_rows(few, stars, lambda: table.at_radius(table.radii - 1, some))
    return curve_of_few(series, table.of_stars(rows, keep, needed_steps(step)), stars, few, step)


def _beside(
    session: Session, campaign: Campaign, wish: PointsWish, files: Sequence[SortedRow],
    times: Times, tables: Mapping[str, CensusTable], curve: FilterCurve,
) -> dict[str, Floats]:  # fmt: skip
    """What the observer wants taken out, on a curve's exposures."""
    found: dict[str, Floats] = {}
    ids = [files[index].id for index in curve.indices]
    if "airmass" in wish.take_out:
        found["airmass"] = times.airmass[list(curve.indices)]
    looks = {"star width": "fwhm_px", "sky": "sky_adu_per_px"}
    if set(looks) & set(wish.take_out):
        quality = {file.id: file.quality or {} for file in exposures_of(session, campaign)}
        for what, name in looks.items():
            if what in wish.take_out:
                values = [quality[number].get(name) for number in ids]
                found[what] = np.array([np.nan if v is None else v for v in values], float)
    if "place" in wish.take_out:
        table, target = tables[curve.filter], np.array([curve.cast.target])
        at = np.array([table.places[number] for number in ids])
        for name in ("x", "y"):
            found[name] = table.scalar(f"{name}_px", at, target)[:, 0]
    return found


def with_everyone(now: CurvesNow, curve: FilterCurve) -> FilterCurve:
    """A curve with all stars of the field, which take their time: looked at once for the same
    exposures, radius and zero points.
    """
    table, some = now.tables[curve.filter], exposures_of_field(len(curve.indices))
    keep, ensemble = places_in(now, curve)[some], curve.ensemble.take(some)
    step, comparison = curve.choice.step, curve.cast.comparison

    def made() -> FieldStars:
        parts = [
            field_stars(table.at_radius(step, keep, rows), 0, ensemble, comparison)
            for rows in table.blocks()
        ]
        return joined_stars(parts)

    key = (table.prints, keep.tobytes(), step, comparison, ensemble.zero_point.tobytes())
    return replace(curve, field=_everyone.get(key, made))


def places_in(now: CurvesNow, curve: FilterCurve) -> Ints:
    """Where the exposures of a curve stand in the filter's census."""
    places = now.tables[curve.filter].places
    return np.array([places[now.files[index].id] for index in curve.indices])


def everyone_of(now: CurvesNow) -> list[FilterCurve]:
    """All curves with all stars of the field."""
    return [with_everyone(now, curve) for curve in now.curves]


def _tables_of(session: Session, campaign: Campaign, stars: StarTable) -> dict[str, CensusTable]:
    """The censuses by filter, the one with most exposures first, for which there is a band."""
    found = {}
    for name in filters_measured(session, campaign.id):
        table = filter_table(session, campaign.id, name)
        if table is not None and band_of(name, stars.bands, campaign.bands or {}) is not None:
            found[name] = table
    return found


def _measured(
    campaign: Campaign, tables: Mapping[str, CensusTable], stars: StarTable,
    files: Sequence[SortedRow], times: Times, aside: Set[int],
) -> Iterator[tuple[CensusTable, FilterSeries, Ints]]:  # fmt: skip
    """By filter its census, its exposures that are not set ``aside`` in order of time, and where
    these stand in the census.
    """
    numbers = np.array([file.id for file in files], np.int64)
    in_order = np.argsort(numbers, kind="stable")
    taken_out = np.fromiter(aside, np.int64, len(aside))
    for name, table in tables.items():
        band = band_of(name, stars.bands, campaign.bands or {})
        assert band is not None
        measured = np.array(table.file_ids, np.int64)
        kept = np.flatnonzero(np.isin(measured, numbers) & ~np.isin(measured, taken_out))
        index = in_order[np.searchsorted(numbers, measured[kept], sorter=in_order)]
        by_time = np.argsort(index, kind="stable")  # whatever kits took them
        kept, indices = kept[by_time], index[by_time].tolist()
        series = FilterSeries(
            name, band, tuple(indices), tuple(files[one].group_name for one in indices),
            times.airmass[indices],
        )  # fmt: skip
        yield table, series, kept


def chosen_parts(session: Session, campaign: Campaign, row: int) -> list[FilterCurve]:
    """What the program makes of a star as another target: its curves in the filters where there is
    one, each with cast and radius.
    """
    stars = stars_of(session, campaign)
    files = sorted_exposures(session, campaign)
    times = times_of(session, campaign, files)
    aside = set_aside_ids(session, campaign) | unmeasured_ids(session, campaign)
    counts = Counter(file.filter for file in files)
    measured = []
    tables = _tables_of(session, campaign, stars)
    for table, series, keep in _measured(campaign, tables, stars, files, times, aside):
        if keep.size:
            some = looked_at(keep.size)
            series = series.take(np.isin(np.arange(keep.size), some))
            measured.append((series, light_in(table, keep[some])))
    measured.sort(key=lambda part: (-counts[part[0].filter], part[0].filter))
    others = [
        session.get_one(CastRecord, one.cast_id).target
        for one in targets_of(campaign)
        if one.cast_id
    ]
    plan = plan_of(session, campaign)
    return beside_curves(
        measured, stars, Roles(row, never=tuple(others)), partial(fixed_step, plan)
    )[0]


_fits: Kept[ColourTerms] = Kept(24)
_everyone: Kept[FieldStars] = Kept(12)


def _terms(
    curves: Sequence[FilterCurve], tables: Mapping[str, CensusTable], stars: StarTable,
    observed: Observed, groups: Sequence[str], files: Sequence[SortedRow], wish: TransformWish,
    catalogue: int,
) -> dict[str, ColourTerms]:  # fmt: skip
    """How each filter depends on colour and air: fitted once for the same exposures and target,
    whatever the parts of other stars and the radius.
    """
    found: dict[str, ColourTerms] = {}
    bands = [curve.band for curve in curves]
    for curve in curves:
        given = wish.given.get(curve.filter)
        index = index_of(curve.band, bands, tuple(stars.bands), given.index if given else "")
        if index is None:
            continue
        table = tables[curve.filter]
        numbers = tuple(files[at].id for at in curve.indices)
        # As bytes: unknown airmasses, without a site, are not equal to themselves.
        air = observed.airmass[list(curve.indices)].tobytes()
        key = (catalogue, table.prints, numbers, curve.band, index, curve.cast.target, air)
        at = np.array([table.places[number] for number in numbers])
        fit = partial(_fit, table, at, curve, stars, observed, index, groups)
        found[curve.filter] = with_given(_fits.get(key, fit), curve.filter, wish)
    return found


def _fit(
    table: CensusTable, at: Ints, curve: FilterCurve, stars: StarTable, observed: Observed,
    index: ColourIndex, groups: Sequence[str],
) -> ColourTerms:  # fmt: skip
    """The terms of a curve's exposures, which stand ``at`` places of the table."""
    some = at[exposures_for_terms(at.size)]
    seen = table.at_radius(DEFAULT_STEP, some[looked_at_for_terms(some.size)])
    rows = telling_rows(seen, some.size, stars, curve.band, index, (curve.cast.target,))
    return terms_of(
        curve, table.at_radius(DEFAULT_STEP, some, rows), 0, stars, observed, index,
        [groups[one] for one in curve.indices],
    )  # fmt: skip


def step_of(recipe: Recipe | None, filter_name: str) -> int:
    """The radius step in force for a filter."""
    return int(recipe.steps.get(filter_name, DEFAULT_STEP)) if recipe else DEFAULT_STEP
