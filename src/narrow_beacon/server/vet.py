"""Exposures on the rail: quality, what is set aside, what is proposed, the sky behind."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any, SupportsFloat

import numpy as np
from apiflask import APIBlueprint
from flask import Response
from pydantic_core import to_json
from sqlalchemy.orm import Session

from narrow_beacon.core.curve.almanac import SkyAbove, sky_above
from narrow_beacon.core.curve.time import Site
from narrow_beacon.core.stars.troubles import PARTS, VetRules, shaded
from narrow_beacon.jobs.proposals import accept_proposals
from narrow_beacon.server.night import (
    ExposureRow,
    chain_prints,
    curves_now,
    exposures_of,
    image_version,
    planes_of,
    sorted_exposures,
    target_position,
    times_of,
    view_position,
    width_px,
)
from narrow_beacon.server.schemas.common import Done, Ids
from narrow_beacon.server.schemas.night import Exposures, SetAside, SkyNight, SkyOut
from narrow_beacon.server.state import campaign_of, changing, files_in, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import place_of
from narrow_beacon.store.models import Campaign, NightFile
from narrow_beacon.store.vetting import rules_of

blueprint = APIBlueprint("vet", __name__)
_MARGIN_DAYS = 0.6 / 24.0
_SKY_STEP_DAYS = 4.0 / 1440.0


def finite(value: SupportsFloat | None) -> float | None:
    """A number for JSON: None where there is none."""
    return None if value is None or not np.isfinite(float(value)) else float(value)


@blueprint.get("/api/campaigns/<int:number>/exposures")
@blueprint.output(Exposures)
def exposures(number: int) -> Response:
    """All exposures of the sky in order of time, with all that the rail draws."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        return Response(to_json(_exposures(session, campaign)), content_type="application/json")


def _exposures(session: Session, campaign: Campaign) -> dict[str, Any]:
    """As ``Exposures`` has it; plain, for there can be tens of thousands."""
    files = exposures_of(session, campaign)
    times = times_of(session, campaign, files)
    position = view_position(session, campaign)
    planes = planes_of(session, campaign, position) if position else {}
    planes |= matched_planes(files, planes)
    placed = {file.id for file in files if file.placed_with and not file.trouble}
    light: dict[int, float] = {}
    zero: dict[int, float] = {}
    now = curves_now(session, campaign, everything=True)
    for curve in now.curves if now else ():
        for at, index in enumerate(curve.indices):
            light[files[index].id] = curve.transparency[at]
            zero[files[index].id] = curve.ensemble.zero_point[at]
    chains = chain_prints(session, campaign)
    first: dict[int, Sequence[float]] = {}
    rules = rules_of(campaign).rules
    found = []
    for index, file in enumerate(files):
        plane, drift, turn, scale = planes.get(file.id), None, None, None
        if plane and not file.trouble:
            start = first.setdefault(file.night_id or 0, plane)
            drift, turn = _moved(plane, start, file)
            scale = 1e6 * (np.sqrt(abs(_area(plane) / _area(start))) - 1.0)
        q, match = file.quality or {}, file.match or {}
        evidence = file.evidence or {}
        assert file.mid_utc is not None
        found.append(
            dict(
                id=file.id, name=file.name, night=file.night_id or 0, filter=file.filter,
                jd_utc=float(times.jd_utc[index]), mid_utc=file.mid_utc,
                exposure_s=file.exposure_s or 0.0, chain=file.chain,
                version=image_version(file.sha256, chains.get(file.chain, "")),
                airmass=finite(times.airmass[index]), fwhm_px=width_px(file),
                elongation=q.get("elongation"), stars=q.get("stars"),
                angle_deg=q.get("angle_deg"), slope=q.get("slope"), saturated=q.get("saturated"),
                noise=q.get("noise_ratio"), turn_deg=turn, scale_ppm=finite(scale),
                match=_match_words(match),
                trails=q.get("trails") or [], shaded=_shaded(evidence, rules),
                sky_adu_per_px=q.get("sky_adu_per_px"),
                transparency=finite(evidence.get("light", light.get(file.id))),
                zero_point=finite(zero.get(file.id)), drift_px=drift,
                plane=list(plane) if plane else None,
                width=file.width, height=file.height, kit=file.kit, placed=file.id in placed,
                measured=bool(file.measured_with) and not file.trouble, trouble=file.trouble or "",
                aside=file.aside_reason if file.aside_by else "", aside_by=file.aside_by or "",
                proposal=file.proposal or "",
            )
        )  # fmt: skip
    kept = campaign.reference or {}
    known = {e["id"] for e in found if e["plane"]}
    reference = kept["file"] if kept.get("file") in known else _reference(found)
    words = kept.get("words", "") if reference == kept.get("file") else "the sharpest of many stars"
    return {
        "exposures": found, "reference": reference, "parts": PARTS,
        "reference_words": words if reference else "",
    }  # fmt: skip


def _match_words(match: Mapping[str, Any]) -> str:
    if match.get("problem"):
        return str(match["problem"])
    if "plane" not in match:
        return ""
    mirror = ", mirrored" if match["mirrored"] else ""
    return (
        f"{match['matched']} stars on the reference’s within {match['residual_px']:.2f} px, turned "
        f"{match['turn_deg']:.1f}°{mirror}"
    )


def _shaded(evidence: Mapping[str, Any], rules: VetRules) -> list[list[int]]:
    if not evidence.get("parts"):
        return []
    dark = shaded(np.array(evidence["parts"], float), rules)
    return [[int(i), int(j)] for j, i in np.argwhere(dark)]


def matched_planes(
    files: Sequence[ExposureRow], placed: Mapping[int, Sequence[float]]
) -> dict[int, tuple[float, ...]]:
    """Where exposures that are not placed lie beside the reference that they were matched to: on
    the sky where that is placed, else with its pixels taken for seconds of arc, y upwards.
    """
    by_id = {file.id: file for file in files}
    found: dict[int, tuple[float, ...]] = {}
    for file in files:
        match = file.match or {}
        reference = by_id.get(match.get("to", 0))
        if file.id in placed or "plane" not in match or reference is None:
            continue
        base = placed.get(reference.id) or (
            -1.0, 0.0, (reference.width - 1) / 2, 0.0, 1.0, -(reference.height - 1) / 2,
        )  # fmt: skip
        a, b, c, d, e, f = base
        p, q, r, s, t, u = match["plane"]
        found[file.id] = (
            a * p + b * s, a * q + b * t, a * r + b * u + c,
            d * p + e * s, d * q + e * t, d * r + e * u + f,
        )  # fmt: skip
    return found


def _moved(
    plane: Sequence[float], start: Sequence[float], file: ExposureRow
) -> tuple[float, float]:
    """How far the field moved since the night's first exposure, in pixels, since what they measure
    on the sky is known only once it is placed; and turned, in degrees, half turns of the mount
    apart.
    """
    (x, y), (x0, y0) = (_middle(p, file.height, file.width) for p in (plane, start))
    _, b, _, _, e, _ = plane
    drift = np.hypot(x - x0, y - y0) / np.sqrt(abs(_area(plane)))
    turn = np.degrees(np.arctan2(b, e) - np.arctan2(start[1], start[4]))
    return float(drift), float((turn + 90.0) % 180.0 - 90.0)


def _area(plane: Sequence[float]) -> float:
    """Of a pixel on the plane."""
    a, b, _, d, e, _ = plane
    return a * e - b * d


def _middle(plane: Sequence[float], height: int, width: int) -> tuple[float, float]:
    x, y = (width - 1) / 2, (height - 1) / 2
    a, b, c, d, e, f = plane
    return a * x + b * y + c, d * x + e * y + f


def _reference(found: list[dict[str, Any]]) -> int | None:
    """The exposure that serves as the standard of the view: many stars, sharp, not set aside."""
    good = [
        e for e in found if e["plane"] and not e["aside_by"] and not e["trouble"] and e["fwhm_px"]
    ]
    if not good:
        return None
    return int(max(good, key=lambda e: (e["stars"] or 0) / ((e["fwhm_px"] or 9.0) ** 2))["id"])


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
    nights = []
    for night, jds in spans.items():
        above = _sky(min(jds), max(jds), position, site)
        nights.append(
            SkyNight(
                night=night, jd_utc=above.jd_utc.tolist(), sun_deg=above.sun_deg.tolist(),
                moon_deg=above.moon_deg.tolist(), target_deg=above.target_deg.tolist(),
                moon_lit=above.moon_lit,
            )
        )  # fmt: skip
    return SkyOut(nights=nights)


@lru_cache(maxsize=64)
def _sky(first_jd: float, last_jd: float, position: tuple[float, float], site: Site) -> SkyAbove:
    moments = np.arange(
        first_jd - _MARGIN_DAYS, last_jd + _MARGIN_DAYS + _SKY_STEP_DAYS, _SKY_STEP_DAYS
    )
    return sky_above(moments, *position, site)


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
