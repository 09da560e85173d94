"""The reduction in force as the core's Outcome, so that exports are those of the command line."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.codec import load, quality_from_json
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.reduce.outcome import CurvesTold, Looks, Outcome
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.server.curves import CurvesNow, curves_now, everyone_of
from narrow_beacon.server.exposures import looks_of
from narrow_beacon.server.night import (
    ExposureRow,
    exposures_of,
    file_name,
    pixel_step,
    placements_of,
)
from narrow_beacon.server.problems import Problem
from narrow_beacon.store.campaigns import chains_of, plan_of
from narrow_beacon.store.files import sort_files
from narrow_beacon.store.models import Campaign, MasterRecord, PlacementRecord
from narrow_beacon.store.placements import placement_of
from narrow_beacon.store.remarks import remarks_of
from narrow_beacon.store.targets import in_front


def outcome_now(session: Session, campaign: Campaign, output: Path) -> tuple[Outcome, CurvesNow]:
    """Everything that a report is made of. Raises Problem where there is no curve yet."""
    now = _curves_now(session, campaign)
    nights = sort_files(session, campaign)
    files = {file.id: file for file in exposures_of(session, campaign)}
    ids = [nights.ids[frame.name] for frame in nights.night.exposures]
    if ids != [file.id for file in now.files]:
        raise _changed()
    placements = placements_of(session, ids)
    results = {
        index: _result(index, files[number], placements.get(number))
        for index, number in enumerate(ids)
    }
    for curve in now.curves:
        table = now.tables[curve.filter]
        for index in curve.indices:
            census = table.exposure(table.places[ids[index]])
            results[index] = replace(results[index], census=census)
    masters = session.scalars(select(MasterRecord).where(MasterRecord.campaign_id == campaign.id))
    plan = _plan(session, campaign, output)
    plan = replace(plan, text=_settings_text(campaign, now))
    outcome = Outcome(
        plan=plan,
        stars=now.stars,
        target=now.cast.target,
        night=nights.night,
        masters=tuple(MasterFile(load(MasterFacts, m.facts), Path(m.path)) for m in masters),
        chains=chains_of(session, campaign),
        times=now.times,
        results=results,
        curves=now.curves,
        set_aside={
            index: files[number].trouble or files[number].aside_reason
            for index, number in enumerate(ids)
            if files[number].trouble or files[number].aside_by
        },
        remarks=tuple(
            Remark(r.stage, r.words, r.about, r.matters, r.remedy)
            for r in remarks_of(session, campaign.id)
        ),
        constants=dict(campaign.constants),
    )
    return outcome, now


def curves_told(session: Session, campaign: Campaign) -> tuple[CurvesTold, CurvesNow]:
    """What of it a report and a figure are told from: no headers, no placements, no censuses.
    Raises Problem as above.
    """
    now = _curves_now(session, campaign)
    rows = exposures_of(session, campaign)
    if [row.id for row in rows] != [file.id for file in now.files]:
        raise _changed()
    numbers = looks_of(rows).numbers
    looks = Looks(
        [file_name(row) for row in rows], [pixel_step(row) for row in rows], numbers["fwhm_px"],
        numbers["sky_adu_per_px"],
    )  # fmt: skip
    plan = _plan(session, campaign, Path("out"))
    told = CurvesTold(plan, now.stars, now.cast.target, now.times, now.curves, looks)
    return told, now


def _curves_now(session: Session, campaign: Campaign) -> CurvesNow:
    now = curves_now(session, campaign)
    if now is None or not now.curves:
        raise Problem(409, "No curve yet", "Measure the night and choose the stars first.")
    return now


def _changed() -> Problem:
    return Problem(409, "The night has changed", "Sort it again in Intake, then export.")


def _plan(session: Session, campaign: Campaign, output: Path) -> Plan:
    return plan_of(session, campaign, output).of_target(in_front(campaign).wish)


def with_field(outcome: Outcome, now: CurvesNow) -> Outcome:
    """The outcome with all stars of the field, which take their time and only an export needs."""
    return replace(outcome, curves=tuple(everyone_of(now)))


def _settings_text(campaign: Campaign, now: CurvesNow) -> str:
    steps = now.recipe.steps if now.recipe else {}
    return (
        f"campaign {campaign.name}, cast version {now.cast.version}, "
        f"recipe version {now.recipe.version if now.recipe else 0}, radius steps {steps}"
    )


def _result(index: int, file: ExposureRow, placement: PlacementRecord | None) -> ExposureResult:
    quality = quality_from_json(file.quality) if file.quality else None
    placed = placement_of(placement) if placement else None
    return ExposureResult(index, file.trouble or None, quality, placed, None)
