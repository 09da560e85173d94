"""Light curves from elsewhere, laid over the campaign's own."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from apiflask import APIBlueprint
from flask import Response

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.series.curve_file import CurveFileError, CurveTable, read_curve
from narrow_beacon.server.curves import CurvesNow, curves_now
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.series import OtherCurveIn, OtherCurveOut, OtherCurves
from narrow_beacon.server.state import campaign_of, changing, quick, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.series import OtherCurve, StarSeries, series_of, with_series

blueprint = APIBlueprint("other_curves", __name__)
_MOST, _MOST_POINTS = 20, 20_000
_TOGETHER_D = 0.02
_LEAST = 3


@blueprint.get("/api/campaigns/<int:number>/curves")
@blueprint.output(OtherCurves)
def other_curves(number: int) -> Response:
    """The curves that are laid over the target's."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        now = curves_now(session, campaign)
        if now is None:
            return quick(OtherCurves(curves=[]))
        kept = series_of(campaign, now.stars.names[now.cast.target])
        return quick(OtherCurves(curves=[_described(one, now) for one in kept.curves]))


@blueprint.post("/api/campaigns/<int:number>/curves")
@blueprint.input(OtherCurveIn, arg_name="body")
@blueprint.output(OtherCurves)
def lay_over(number: int, body: OtherCurveIn) -> Response:
    """Lay a curve from a file over the target's; can be undone."""
    path = shared().folders.check(body.file)
    try:
        read_curve(path, body.columns)
    except CurveFileError as error:
        raise Problem(422, "Not a light curve", f"{error}.") from error
    with changing(number) as (session, campaign):
        now = curves_now(session, campaign)
        if now is None:
            raise Problem(409, "No curve yet", "Measure the night first.")
        star = now.stars.names[now.cast.target]
        kept = series_of(campaign, star)
        if len(kept.curves) >= _MOST:
            raise Problem(409, "Too many curves", f"There can be {_MOST} over one.")
        own = OtherCurve(str(path), body.name or path.stem, dict(body.columns))
        kept = replace(kept, curves=(*kept.curves, own))
        change = Change("campaign", campaign.id, "series", with_series(campaign, star, kept))
        act(session, campaign, f"laid {own.name} over the curve", [change])
        return quick(OtherCurves(curves=[_described(one, now) for one in kept.curves]))


@blueprint.delete("/api/campaigns/<int:number>/curves/<int:place>")
@blueprint.output(OtherCurves)
def take_off(number: int, place: int) -> Response:
    """Take a curve off again."""
    with changing(number) as (session, campaign):
        now = curves_now(session, campaign)
        star = now.stars.names[now.cast.target] if now else ""
        kept = series_of(campaign, star)
        if now is None or place >= len(kept.curves):
            raise Problem(404, "No such curve", "Another page may have taken it off.")
        rest = tuple(one for at, one in enumerate(kept.curves) if at != place)
        kept = replace(kept, curves=rest)
        change = Change("campaign", campaign.id, "series", with_series(campaign, star, kept))
        act(session, campaign, "took a curve off", [change])
        return quick(OtherCurves(curves=[_described(one, now) for one in rest]))


def tables_of(kept: StarSeries) -> list[tuple[OtherCurve, CurveTable]]:
    """Those of a star's curves from elsewhere that can be read, with their points."""
    found = []
    for one in kept.curves:
        try:
            found.append((one, read_curve(shared().folders.check(one.file), one.columns)))
        except (CurveFileError, Problem):
            continue  # what is wrong with it is said where it is listed
    return found


def by_filter(table: CurveTable) -> list[tuple[str, CurveTable]]:
    """A table's filters, each with its points; one without a name where it has no filters."""
    names = list(dict.fromkeys(table.filter))
    return [(name, table.of_filter(name)) for name in names]


def _described(one: OtherCurve, now: CurvesNow) -> OtherCurveOut:
    empty = OtherCurveOut(
        name=one.name, file=one.file, columns=one.columns, filter=[], t_d=[], magnitude=[],
        points=0, offset_mag=None, offset_uncertainty_mag=None, problem="",
    )  # fmt: skip
    try:
        # The folder may not be allowed any more, or the file away.
        table = read_curve(shared().folders.check(one.file), one.columns)
    except CurveFileError as error:
        return empty.model_copy(update={"problem": f"{error}"})
    except Problem as error:
        return empty.model_copy(update={"problem": f"{Path(one.file).name}: {error.detail}"})
    every = -(-table.t_d.size // _MOST_POINTS)
    offset = _offset(table, now)
    return empty.model_copy(
        update={
            "columns": dict(table.columns), "filter": list(table.filter[::every]),
            "t_d": table.t_d[::every].tolist(), "magnitude": table.magnitude[::every].tolist(),
            "points": int(table.t_d.size),
            "offset_mag": offset and offset[0], "offset_uncertainty_mag": offset and offset[1],
        }
    )  # fmt: skip


def _offset(table: CurveTable, now: CurvesNow) -> tuple[float, float] | None:
    """Theirs less ours where both were observed within half an hour in one filter, and how sure
    that is; None where they do not meet.
    """
    apart: list[Floats] = []
    names = np.array(table.filter)
    for curve in now.curves:
        mine = curve.standard.magnitude if curve.standard else curve.target.magnitude
        t = now.times.bjd_tdb[list(curve.indices)]
        good = np.isfinite(mine) & ~curve.target.doubtful
        same = np.flatnonzero((names == curve.filter) | (names == ""))
        if good.sum() < _LEAST or not same.size:
            continue
        order = np.argsort(t[good], kind="stable")
        at, values = t[good][order], mine[good][order]
        theirs = table.t_d[same]
        near = np.clip(np.searchsorted(at, theirs), 1, at.size - 1)
        close = np.minimum(np.abs(at[near] - theirs), np.abs(theirs - at[near - 1])) < _TOGETHER_D
        apart.append(table.magnitude[same][close] - np.interp(theirs[close], at, values))
    every = np.concatenate(apart) if apart else np.empty(0)
    if every.size < _LEAST:
        return None
    middle = float(np.median(every))
    spread = 1.4826 * float(np.median(np.abs(every - middle)))
    return middle, 1.2533 * spread / float(np.sqrt(every.size))
