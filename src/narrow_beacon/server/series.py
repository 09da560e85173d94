"""What the curve says: periods, times of minimum and maximum, elements, and which other stars of
the field vary.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace

import numpy as np
from apiflask import APIBlueprint
from flask import Response
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.catalogue.designation import designation
from narrow_beacon.core.curve.field_stars import exposures_of_field
from narrow_beacon.core.curve.time import heliocentric
from narrow_beacon.core.curve.zero_points import rates_of
from narrow_beacon.core.measure.noise import POGSON
from narrow_beacon.core.series.elements import (
    Elements,
    ElementsError,
    ElementsFit,
    departures,
    fit_elements,
    together,
)
from narrow_beacon.core.series.extrema import Extremum, find_extrema
from narrow_beacon.core.series.periods import TooFewPointsError, find_periods
from narrow_beacon.core.series.prewhiten import combination, without_periods
from narrow_beacon.core.series.survey import (
    SUSPICIOUS,
    FieldLight,
    Suspect,
    survey,
)
from narrow_beacon.core.series.turns import GAP_D
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.server.columns import listed
from narrow_beacon.server.curves import CurvesNow, curves_now, places_in
from narrow_beacon.server.kept import Kept
from narrow_beacon.server.night import exposures_of as exposures_in_time
from narrow_beacon.server.night import width_px
from narrow_beacon.server.other_curves import by_filter, tables_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.series import (
    ElementsSaid,
    FitAsked,
    MethodTime,
    PeakOut,
    PeriodsAsked,
    PeriodsOut,
    SeriesOut,
    SeriesSaid,
    SurveyOut,
    SuspectOut,
    TurnOut,
)
from narrow_beacon.server.state import campaign_of, changing, quick, shared
from narrow_beacon.server.vet import finite
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.models import Campaign
from narrow_beacon.store.series import KnownTime, StarSeries, series_of, time_key, with_series

blueprint = APIBlueprint("series", __name__)
_SHOWN = 1600
_LIKELY, _BEYOND = 5, 2.5
_SAME_TURN_D = 0.03
_MOST_SUSPECTS = 40
_LEAST_SNR = 4.0
_TOUCHED_MAG = 0.005
_QUADRATIC_TIMES = 5


def _now(session: Session, campaign: Campaign) -> CurvesNow:
    now = curves_now(session, campaign)
    if now is None:
        raise Problem(409, "No curve yet", "Measure the night first.")
    return now


def _points(curve: FilterCurve, scale: str) -> tuple[Floats, Floats]:
    """Magnitudes and uncertainties of the good points, NaN elsewhere, as they are shown."""
    value, sigma = curve.target.magnitude, curve.target.uncertainty
    if scale == "raw":
        value = curve.target.instrumental
    elif scale == "standard" and curve.standard is not None:
        value, sigma = curve.standard.magnitude, curve.standard.uncertainty
    return np.where(curve.target.doubtful, np.nan, value), sigma


@blueprint.post("/api/campaigns/<int:number>/periods")
@blueprint.input(PeriodsAsked, arg_name="body")
@blueprint.output(PeriodsOut)
def periods(number: int, body: PeriodsAsked) -> Response:
    """The periodogram of the target's curve, and the periods that it may have."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        now = _now(session, campaign)
        parts = []
        for curve in now.curves if body.of != "others" else ():
            if body.filter in ("", curve.filter):
                t = now.times.bjd_tdb[list(curve.indices)]
                parts += _about_mean(t, *_points(curve, body.scale))
        if body.of != "own":
            star = now.stars.names[now.cast.target]
            for _, table in tables_of(series_of(campaign, star)):
                for name, part in by_filter(table):
                    if body.filter in ("", name) or name == "":
                        parts += _about_mean(part.t_d, part.magnitude, part.uncertainty)
    empty = PeriodsOut(
        points=0, span_d=0.0, kind=body.kind, peaks=[], frequency=[], power=[], window=[],
        level=1.0, searched_per_d=0.0, problem="there is no good point in this filter",
    )  # fmt: skip
    if not parts:
        return quick(empty)
    t, y, s = (np.concatenate(values) for values in zip(*parts, strict=True))
    order = np.argsort(t, kind="stable")
    t, y, s = t[order], y[order], s[order]
    try:
        left = without_periods(t, y, s, body.without)
        found = find_periods(t, left, s, body.kind, body.shortest, body.longest)
    except TooFewPointsError as error:
        return quick(empty.model_copy(update={"points": int(t.size), "problem": f"{error}"}))
    known = [1.0 / period for period in body.without]
    peaks = []
    for peak in found.peaks:
        name = combination(peak.frequency_per_d, known, 0.35 / found.span_d) if known else ""
        peaks.append(
            PeakOut(
                period_d=peak.period_d, uncertainty_d=peak.uncertainty_d, power=peak.power,
                false_alarm=peak.false_alarm, note=name or peak.note,
            )
        )  # fmt: skip
    frequency = found.spectrum.frequency_per_d
    # As far as anything stands: beyond it the whole range is noise as a rule.
    highest = max((peak.frequency_per_d for peak in found.peaks[:_LIKELY]), default=frequency[-1])
    shown = slice(0, int(np.searchsorted(frequency, _BEYOND * highest)) + 1)
    frequency, power, window = _thinned(
        frequency[shown], found.spectrum.power[shown], found.spectrum.window[shown]
    )
    return quick(
        PeriodsOut(
            points=found.points, span_d=found.span_d, kind=found.kind, peaks=peaks,
            frequency=np.round(frequency, 6).tolist(), power=np.round(power, 5).tolist(),
            window=np.round(window, 5).tolist(), level=found.level, problem="",
            searched_per_d=float(found.spectrum.frequency_per_d[-1]),
        )
    )  # fmt: skip


def _about_mean(t: Floats, value: Floats, sigma: Floats) -> list[tuple[Floats, Floats, Floats]]:
    """The good points about their own mean, so that filters and observers lie together."""
    good = np.isfinite(value) & np.isfinite(sigma) & (sigma > 0)
    if not good.any():
        return []
    mean = np.average(value[good], weights=sigma[good] ** -2.0)
    return [(t[good], value[good] - mean, sigma[good])]


def _thinned(frequency: Floats, power: Floats, window: Floats) -> tuple[Floats, Floats, Floats]:
    """So many values as can be seen: of neighbours the highest."""
    every = -(-power.size // _SHOWN)
    if every == 1:
        return frequency, power, window
    size = -(-power.size // every)

    def blocks(values: Floats) -> Floats:
        return np.pad(values, (0, size * every - values.size), mode="edge").reshape(size, every)

    at = blocks(power).argmax(axis=1)
    rows = np.arange(size)
    return blocks(frequency)[rows, at], blocks(power)[rows, at], blocks(window).max(axis=1)


@blueprint.get("/api/campaigns/<int:number>/series")
@blueprint.output(SeriesOut)
def series(number: int) -> Response:
    """Elements, times of minimum and maximum, and O − C of the target in front."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        return quick(_describe(_now(session, campaign), campaign))


@blueprint.put("/api/campaigns/<int:number>/series")
@blueprint.input(SeriesSaid, arg_name="body")
@blueprint.output(SeriesOut)
def keep_series(number: int, body: SeriesSaid) -> Response:
    """Keep elements, times from elsewhere or cycles; can be undone."""
    with changing(number) as (session, campaign):
        now = _now(session, campaign)
        star = now.stars.names[now.cast.target]
        kept = series_of(campaign, star)
        if body.elements is not None:
            kept = replace(kept, elements=tuple(Elements(**e.model_dump()) for e in body.elements))
        if body.chosen is not None:
            kept = replace(kept, chosen=None if body.chosen < 0 else body.chosen)
        if kept.chosen is not None and kept.chosen >= len(kept.elements):
            kept = replace(kept, chosen=len(kept.elements) - 1 if kept.elements else None)
        if body.times is not None:
            kept = replace(kept, times=tuple(KnownTime(**one.model_dump()) for one in body.times))
        if body.cycles is not None:
            kept = replace(kept, cycles=dict(body.cycles))
        _keep(session, campaign, star, kept, _words(body, kept))
        return quick(_describe(now, campaign))


def _words(body: SeriesSaid, kept: StarSeries) -> str:
    if body.elements is not None or body.chosen is not None:
        chosen = kept.in_force
        return f"took elements: {chosen.period_d:.8g} d" if chosen else "took elements off"
    return "changed times of minimum" if body.times is not None else "corrected a cycle"


def _keep(session: Session, campaign: Campaign, star: str, kept: StarSeries, words: str) -> None:
    change = Change("campaign", campaign.id, "series", with_series(campaign, star, kept))
    act(session, campaign, words, [change])


@blueprint.post("/api/campaigns/<int:number>/series/fit")
@blueprint.input(FitAsked, arg_name="body")
@blueprint.output(SeriesOut)
def fit(number: int, body: FitAsked) -> Response:
    """Fit elements to all times, by the cycles that the chosen elements give them."""
    with changing(number) as (session, campaign):
        now = _now(session, campaign)
        star = now.stars.names[now.cast.target]
        kept = series_of(campaign, star)
        chosen = kept.in_force
        if chosen is None:
            raise Problem(409, "No elements yet", "Choose a period first: it counts the cycles.")
        turns = [t for t in _turns(now, kept) if _counts(t, chosen)]
        try:
            found = _fit(turns, chosen, quadratic=body.quadratic)
        except ElementsError as error:
            raise Problem(409, "Not enough times", f"{error}.") from error
        elements = (*kept.elements, found.elements)
        # A new epoch counts from its own cycle: what was corrected by hand goes along.
        shift = float(chosen.cycle(np.array([found.elements.epoch_bjd]))[0])
        cycles = {key: value - round(shift) for key, value in kept.cycles.items()}
        kept = replace(kept, elements=elements, chosen=len(elements) - 1, cycles=cycles)
        _keep(session, campaign, star, kept, f"fitted elements: {found.elements.period_d:.8g} d")
        return quick(_describe(now, campaign))


def _counts(turn: TurnOut, elements: Elements) -> bool:
    """Whether a time takes part in a fit: all filters together, of the kind of the elements."""
    whole = turn.filter == "" and turn.kind == elements.kind and turn.complete
    return whole and turn.cycle is not None and float(turn.cycle).is_integer()


def _fit(turns: list[TurnOut], elements: Elements, *, quadratic: bool) -> ElementsFit:
    """Elements through times by the cycles that they have. Raises ElementsError."""
    return fit_elements(
        np.array([t.bjd for t in turns]), np.array([t.uncertainty_d for t in turns]),
        np.array([t.cycle for t in turns], float), elements.kind, quadratic=quadratic,
        source=f"fitted to {len(turns)} times",
    )  # fmt: skip


def _describe(now: CurvesNow, campaign: Campaign) -> SeriesOut:
    star = now.stars.names[now.cast.target]
    kept = series_of(campaign, star)
    turns = _turns(now, kept)
    chosen = kept.in_force
    counted = [t for t in turns if chosen is not None and _counts(t, chosen)]
    improvement = scatter = None
    if counted:
        weight = np.array([t.uncertainty_d for t in counted]) ** -2.0
        off = np.array([t.o_minus_c_d for t in counted], float)
        scatter = float(np.sqrt(np.average(off**2, weights=weight)))
    if chosen is not None and len(counted) >= _QUADRATIC_TIMES:
        try:
            improvement = _fit(counted, chosen, quadratic=True).improvement
        except ElementsError:
            improvement = None
    return SeriesOut(
        star=star, elements=[ElementsSaid(**vars(one)) for one in kept.elements],
        chosen=kept.chosen, turns=turns, improvement=improvement, scatter_d=scatter,
    )  # fmt: skip


def _turns(now: CurvesNow, kept: StarSeries) -> list[TurnOut]:
    """Each filter's, all filters' together, and those from elsewhere, in order of time."""
    found: list[Extremum] = []
    for curve in now.curves:
        value, sigma = _points(curve, "standard")
        found += _extrema(now.times.bjd_tdb[list(curve.indices)], value, sigma, curve.filter)
    turns = [
        TurnOut(
            kind=e.kind, filter=e.filter, bjd=e.best.time_d,  # type: ignore[arg-type]
            uncertainty_d=e.best.uncertainty_d, method=e.best.method,
            others=[MethodTime(method=t.method, bjd=t.time_d, uncertainty_d=t.uncertainty_d)
                    for t in e.others],
            points=e.points, depth_mag=e.depth_mag, symmetric=e.symmetric, complete=e.complete,
            source="", key=time_key(e.best.time_d), cycle=None, given=False, o_minus_c_d=None,
        )
        for e in found
    ]  # fmt: skip
    turns += _together(turns)
    turns += _of_others(kept)
    turns += [
        TurnOut(
            kind=one.kind, filter="", bjd=one.bjd,  # type: ignore[arg-type]
            uncertainty_d=one.uncertainty_d, method="", others=[], points=0, depth_mag=None,
            symmetric=True, complete=True, source=one.source or "elsewhere", key=time_key(one.bjd),
            cycle=None, given=False, o_minus_c_d=None,
        )
        for one in kept.times
    ]  # fmt: skip
    if turns:
        place = now.stars.ra_deg[now.cast.target], now.stars.dec_deg[now.cast.target]
        hjd = heliocentric(np.array([turn.bjd for turn in turns]), *map(float, place))
        for turn, value in zip(turns, hjd.tolist(), strict=True):
            turn.hjd_utc = value
    chosen = kept.in_force
    if chosen is not None and turns:
        said = [kept.cycles.get(turn.key) for turn in turns]
        found_off = departures(chosen, np.array([turn.bjd for turn in turns]), said)
        for at, turn in enumerate(turns):
            turn.cycle, turn.given = float(found_off.cycle[at]), said[at] is not None
            turn.o_minus_c_d = float(found_off.o_minus_c_d[at])
    return sorted(turns, key=lambda turn: (turn.bjd, turn.filter))


def _of_others(kept: StarSeries) -> list[TurnOut]:
    """The turns of curves from elsewhere, each filter by itself, as times of their own."""
    return [
        TurnOut(
            kind=e.kind, filter="", bjd=e.best.time_d,  # type: ignore[arg-type]
            uncertainty_d=e.best.uncertainty_d, method=e.best.method,
            others=[MethodTime(method=t.method, bjd=t.time_d, uncertainty_d=t.uncertainty_d)
                    for t in e.others],
            points=e.points, depth_mag=e.depth_mag, symmetric=e.symmetric, complete=e.complete,
            source=" ".join([curve.name, name]).strip(), key=time_key(e.best.time_d), cycle=None,
            given=False, o_minus_c_d=None,
        )
        for curve, table in tables_of(kept)
        for name, part in by_filter(table)
        for e in _extrema(part.t_d, part.magnitude, part.uncertainty, name)
    ]  # fmt: skip


_timed: Kept[list[Extremum]] = Kept(2000)


def _extrema(t: Floats, value: Floats, sigma: Floats, name: str) -> list[Extremum]:
    """The turns of a curve, night by night: found once for the same points of a night."""
    order = np.argsort(t, kind="stable")
    nights = np.split(order, np.flatnonzero(np.diff(t[order]) > GAP_D) + 1)
    return [turn for at in nights for turn in _of_night(t[at], value[at], sigma[at], name)]


def _of_night(t: Floats, value: Floats, sigma: Floats, name: str) -> list[Extremum]:
    key = hashlib.sha256(
        b"".join(np.ascontiguousarray(part).tobytes() for part in (t, value, sigma)) + name.encode()
    ).hexdigest()
    return _timed.get(key, lambda: find_extrema(t, value, sigma, filter_name=name))


def _together(turns: list[TurnOut]) -> list[TurnOut]:
    """The same turn in several filters, as one time."""
    joined = []
    for kind in ("minimum", "maximum"):
        own = sorted((t for t in turns if t.kind == kind), key=lambda t: t.bjd)
        if not own:
            continue
        times = np.array([t.bjd for t in own])
        groups = np.concatenate([[0], np.cumsum(np.diff(times) > _SAME_TURN_D)])
        sigma = np.array([t.uncertainty_d for t in own])
        mean, error, _ = together(times, sigma, groups)
        for group, (bjd, uncertainty) in enumerate(zip(mean, error, strict=True)):
            members = [t for t, g in zip(own, groups, strict=True) if g == group]
            # What was observed whole in one filter is whole.
            first = min(members, key=lambda t: (not t.complete, t.uncertainty_d))
            joined.append(
                first.model_copy(
                    update={
                        "filter": "", "bjd": float(bjd), "uncertainty_d": float(uncertainty),
                        "points": sum(t.points for t in members), "others": [],
                        "method": " + ".join(dict.fromkeys(t.filter for t in members)),
                        "symmetric": all(t.symmetric for t in members),
                        "key": time_key(float(bjd)),
                    }
                )
            )  # fmt: skip
    return joined


_surveys: Kept[tuple[object, SurveyOut]] = Kept(2)


@blueprint.get("/api/campaigns/<int:number>/survey")
@blueprint.output(SurveyOut)
def survey_field(number: int) -> Response:
    """The stars of the field that vary, most suspicious first."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        now = _now(session, campaign)
        widths = {file.id: width_px(file) for file in exposures_in_time(session, campaign)}
    # Curves are known by their identity, and held so that no others can have it.
    key = id(now.curves), hash(tuple(widths.items()))
    return quick(_surveys.get(key, lambda: (now.curves, _surveyed(now, widths)))[1])


def _surveyed(now: CurvesNow, widths: dict[int, float | None]) -> SurveyOut:
    fields = [_field_light(now, curve, widths) for curve in now.curves]
    rows = {name: at for at, name in enumerate(now.stars.names)}
    roles = {row: "comparison" for row in now.cast.comparison}
    roles |= {row: "check" for row in now.cast.checks} | {now.cast.target: "target"}
    found = survey(fields, periods=True)[:_MOST_SUSPECTS]
    return SurveyOut(
        stars=max((len(one.names) for one in fields), default=0),
        looked_at=sum(one.time_d.size for one in fields),
        exposures=sum(len(curve.indices) for curve in now.curves), least=SUSPICIOUS,
        suspects=[_suspect(one, rows[one.star], now, fields, roles) for one in found],
    )  # fmt: skip


def _suspect(
    one: Suspect, row: int, now: CurvesNow, fields: list[FieldLight], roles: dict[int, str]
) -> SuspectOut:
    light = next(f for f in fields if f.filter == one.filter)
    column = light.names.index(one.star)
    return SuspectOut(
        row=row, star=one.star, filter=one.filter, magnitude=one.magnitude,
        scatter_mag=one.scatter_mag, expected_mag=one.expected_mag,
        significance=one.significance, by_scatter=one.by_scatter, by_runs=one.by_runs,
        by_filters=one.by_filters, period_d=finite(one.period_d),
        designation=designation(float(now.stars.ra_deg[row]), float(now.stars.dec_deg[row])),
        known=bool(now.stars.known_variable[row]), role=roles.get(row, ""),
        bjd=light.time_d.tolist(), curve=listed(np.round(light.magnitude[:, column], 4)),
    )  # fmt: skip


def _field_light(now: CurvesNow, curve: FilterCurve, widths: dict[int, float | None]) -> FieldLight:
    """All stars of a filter by the zero points in force, on exposures of its curve."""
    table = now.tables[curve.filter]
    some = exposures_of_field(len(curve.indices))
    indices = np.array(curve.indices)[some]
    ids = [now.files[index].id for index in indices.tolist()]
    census = table.at_radius(curve.choice.step, places_in(now, curve)[some])
    rates = rates_of(census, 0, np.arange(census.rows.size))
    good = census.usable(0) & (rates.rate > _LEAST_SNR * rates.uncertainty)
    zero = curve.ensemble.zero_point[some, None]
    with np.errstate(invalid="ignore", divide="ignore"):
        magnitude = np.where(good, rates.magnitude + zero, np.nan)
        sigma = np.hypot(
            POGSON * rates.uncertainty / rates.rate,
            curve.ensemble.zero_point_uncertainty[some, None],
        )
    _, others = census.doubts(0)
    colour = np.full(census.rows.size, np.nan)
    bands = sorted({one.band for one in now.curves}, key=list(now.stars.bands).index)
    if len(bands) > 1:
        of = now.stars.bands
        colour = (of[bands[0]].magnitude - of[bands[-1]].magnitude)[census.rows]
    return FieldLight(
        curve.filter, now.times.bjd_tdb[indices], magnitude, sigma,
        np.array([widths.get(one) or np.nan for one in ids]),
        tuple(now.stars.names[row] for row in census.rows.tolist()), colour,
        (np.abs(others) > _TOUCHED_MAG).mean(axis=0), np.median(others, axis=0),
    )  # fmt: skip
