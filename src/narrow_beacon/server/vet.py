"""Exposures on the rail: quality, what is set aside, what is proposed, the sky behind."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from typing import SupportsFloat

import numpy as np
from apiflask import APIBlueprint
from flask import Response

from narrow_beacon.core.curve.almanac import SkyAbove, sky_above
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.stars.troubles import PARTS
from narrow_beacon.jobs.proposals import accept_proposals
from narrow_beacon.server.columns import columns_json, object_json, rows_json
from narrow_beacon.server.exposures import exposure_columns, reference_of
from narrow_beacon.server.night import (
    sorted_exposures,
    target_position,
    times_of,
)
from narrow_beacon.server.schemas.common import Done, Ids
from narrow_beacon.server.schemas.night import (
    ExposureColumns,
    Exposures,
    SetAside,
    SkyNight,
    SkyOut,
)
from narrow_beacon.server.state import campaign_of, changing, files_in, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import place_of
from narrow_beacon.store.models import NightFile

blueprint = APIBlueprint("vet", __name__)
_MARGIN_DAYS = 0.6 / 24.0
_SKY_STEP_DAYS, _DRAWN = 15.0 / 1440.0, 3
"""From one computed altitude to the next, and so many drawn between: none is off by 0.1° there."""
_MOST_NIGHTS = 2000
_sky_kept: dict[tuple[tuple[float, float], tuple[float, float], Site], SkyAbove] = {}
_sky_lock = threading.Lock()


def finite(value: SupportsFloat | None) -> float | None:
    """A number for JSON: None where there is none."""
    return None if value is None or not np.isfinite(float(value)) else float(value)


@blueprint.get("/api/campaigns/<int:number>/exposures")
@blueprint.output(Exposures)
def exposures(number: int) -> Response:
    """All exposures of the sky in order of time, with all that the rail draws."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        found = exposure_columns(session, campaign)
        reference, words = reference_of(campaign, found)
    told = object_json(
        {"exposures": rows_json(found)}, reference=reference, reference_words=words, parts=PARTS
    )
    return Response(told, content_type="application/json")


@blueprint.get("/api/campaigns/<int:number>/exposures/columns")
@blueprint.output(ExposureColumns)
def columns(number: int) -> Response:
    """The same a column at a time, without mid_utc, which jd_utc says as well: what the page reads,
    a tenth as long.
    """
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        found = exposure_columns(session, campaign)
        reference, words = reference_of(campaign, found)
    del found["mid_utc"]
    told = object_json(
        {"columns": columns_json(found)}, count=len(found["id"]), reference=reference,
        reference_words=words, parts=PARTS,
    )  # fmt: skip
    return Response(told, content_type="application/json")


@blueprint.get("/api/campaigns/<int:number>/sky")
@blueprint.output(SkyOut)
def sky(number: int) -> SkyOut:
    """Sun, Moon and target over each night, where the site is known."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        site, position = place_of(session, campaign), target_position(session, campaign)
        files = sorted_exposures(session, campaign)
        times = times_of(session, campaign, files)
        spans: dict[int, list[float]] = {}
        for index, file in enumerate(files):
            spans.setdefault(file.night_id or 0, []).append(float(times.jd_utc[index]))
    if site is None or position is None:
        return SkyOut(nights=[])
    ends = {night: (min(jds), max(jds)) for night, jds in spans.items()}
    above = _skies(tuple(ends.values()), position, site)
    nights = [
        SkyNight(
            night=night, jd_utc=np.round(one.jd_utc, 6).tolist(),
            sun_deg=np.round(one.sun_deg, 2).tolist(), moon_deg=np.round(one.moon_deg, 2).tolist(),
            target_deg=np.round(one.target_deg, 2).tolist(),
            moon_lit=round(float(one.moon_lit[one.moon_lit.size // 2]), 4),
        )
        for night, one in zip(ends, above, strict=True)
    ]  # fmt: skip
    return SkyOut(nights=nights)


def _skies(
    spans: Sequence[tuple[float, float]], position: tuple[float, float], site: Site
) -> list[SkyAbove]:
    """The sky over each night, from its first to its last moment: those that are not known yet
    together, for a hundred of them cost little more than one.
    """
    with _sky_lock:
        fresh = [span for span in dict.fromkeys(spans) if (span, position, site) not in _sky_kept]
        if len(_sky_kept) + len(fresh) > _MOST_NIGHTS:
            _sky_kept.clear()
            fresh = list(dict.fromkeys(spans))
        moments = [
            np.arange(first - _MARGIN_DAYS, last + _MARGIN_DAYS + _SKY_STEP_DAYS, _SKY_STEP_DAYS)
            for first, last in fresh
        ]
        if fresh:
            whole = sky_above(np.concatenate(moments), *position, site)
            begins = np.cumsum([own.size for own in moments])[:-1]
            columns = [np.split(values, begins) for values in vars(whole).values()]
            for span, *own in zip(fresh, *columns, strict=True):
                _sky_kept[span, position, site] = _finer(SkyAbove(*own))
        return [_sky_kept[span, position, site] for span in spans]


def _finer(above: SkyAbove) -> SkyAbove:
    count = above.jd_utc.size
    at = np.linspace(0, count - 1, _DRAWN * (count - 1) + 1)
    return SkyAbove(*(np.interp(at, np.arange(count), own) for own in vars(above).values()))


@blueprint.post("/api/campaigns/<int:number>/aside")
@blueprint.input(SetAside, arg_name="body")
@blueprint.output(Done)
def set_aside(number: int, body: SetAside) -> Done:
    """Set exposures aside with a reason, or restore them."""
    with changing(number) as (session, campaign):
        files = files_in(session, campaign, body.ids)
        changes = []
        for file_id in body.ids:
            reason = (body.reason or "set aside by the observer") if body.aside else ""
            changes += [
                Change("file", file_id, "aside_by", "observer" if body.aside else ""),
                Change("file", file_id, "aside_reason", reason),
                Change("file", file_id, "kept", not body.aside),
                Change("file", file_id, "proposal", ""),
            ]
        verb = "set aside" if body.aside else "restored"
        entry = act(session, campaign, f"{verb} {_named(files)}", changes)
        return Done(words=entry.words if entry else "Nothing to change.")


@blueprint.post("/api/campaigns/<int:number>/proposals")
@blueprint.input(Ids, arg_name="body")
@blueprint.output(Done)
def accept(number: int, body: Ids) -> Done:
    """Set aside what the program proposes, for some exposures."""
    with changing(number) as (session, campaign):
        count = accept_proposals(session, campaign, files_in(session, campaign, body.ids))
        return Done(words=f"Set aside {count} as proposed.")


def _named(files: Sequence[NightFile]) -> str:
    return files[0].name.rsplit("/", 1)[-1] if len(files) == 1 else f"{len(files)} exposures"
