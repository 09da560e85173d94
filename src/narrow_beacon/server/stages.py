"""How each stage of a campaign stands, in one state, a number and words."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.words import counted
from narrow_beacon.server.night import exposures_of
from narrow_beacon.server.schemas.campaigns import Stage
from narrow_beacon.store.campaigns import calibration_print, changed_words
from narrow_beacon.store.models import (
    Campaign,
    CensusFile,
    ChainRecord,
    Job,
    NightFile,
    RemarkRecord,
    Report,
)
from narrow_beacon.store.sources import knows_stars

STAGE_OF_JOB = {
    "sort": ("intake",), "look": ("vet",), "masters": ("correct",), "export": ("correct",),
    "place": ("place",),
    "census": ("measure",), "settle": ("vet",), "combine": ("vet",),
    "reduce": ("intake", "correct", "place", "measure"),
    "live": ("intake", "correct", "place", "measure"),
}  # fmt: skip
QUESTIONS = ("its header", "wrong kind", "not there now")
"""Reasons that the observer can answer begin with one of these."""


def stages_of(session: Session, campaign: Campaign) -> list[Stage]:
    """The eight stages in order."""
    # All that is no exposure of the sky; of these there can be tens of thousands.
    others = session.execute(
        select(
            NightFile.part, NightFile.part_reason, NightFile.trouble, NightFile.kind,
            NightFile.filter, NightFile.exposure_s, NightFile.night_id, NightFile.sha256,
        )
        .where(NightFile.campaign_id == campaign.id)
        .where(NightFile.part.not_in(("removed", "exposure")))
    ).all()  # fmt: skip
    exposures = exposures_of(session, campaign)
    chains = set(
        session.scalars(
            select(ChainRecord.name).where(ChainRecord.campaign_id == campaign.id)
        ).all()
    )
    working = _working(session, campaign)
    knows = knows_stars(session, campaign)
    stages = [
        _intake(knows, others, exposures),
        _correct(campaign, others, exposures, chains),
        _vet(exposures),
        _place(knows, exposures, chains),
    ]
    census = session.scalars(
        select(CensusFile).where(CensusFile.campaign_id == campaign.id)
    ).first()
    stages += [
        _after_census("cast", census is not None, campaign.cast_id is not None, "choose the stars"),
        _measure(campaign, exposures, chains),
        _after_census("curve", census is not None and campaign.cast_id is not None, True, ""),
        _report(session, campaign, census is not None and campaign.cast_id is not None),
    ]
    unseen = Counter(
        session.scalars(
            select(RemarkRecord.stage).where(
                RemarkRecord.campaign_id == campaign.id, ~RemarkRecord.seen
            )
        )
    )
    return [_with_remarks(stage, unseen[stage.key], stage.key in working) for stage in stages]


def _with_remarks(stage: Stage, unseen: int, working: bool) -> Stage:
    """A stage with the remarks that were not seen yet: then there is something to look at."""
    state, words = stage.state, stage.words
    if unseen:
        state = "look" if state == "done" else state
        noun = f"{unseen} remark{'s' if unseen > 1 else ''}"
        words = f"{words}; {noun}" if words else noun
    if working:
        state = "working"
    return stage.model_copy(update={"state": state, "words": words, "remarks": unseen})


def _stage(key: str, state: str, words: str, count: int = 0) -> Stage:
    return Stage(key=key, state=state, words=words, count=count, remarks=0)  # type: ignore[arg-type]


def _working(session: Session, campaign: Campaign) -> set[str]:
    kinds = session.scalars(
        select(Job.kind).where(
            Job.campaign_id == campaign.id, Job.state.in_(("waiting", "running"))
        )
    )
    return {stage for kind in kinds for stage in STAGE_OF_JOB[kind]}


def needs_answer(part: str, reason: str, trouble: str = "") -> bool:
    """Whether a file waits for the observer's word: left out, or not what its header says."""
    return (part == "left out" and reason.startswith(QUESTIONS)) or trouble.startswith("wrong kind")


def _intake(knows: bool, others: Sequence[Any], exposures: Sequence[Any]) -> Stage:
    if not others and not exposures:
        return _stage("intake", "todo", "point to a folder")
    questions = sum(needs_answer(file.part, file.part_reason, file.trouble) for file in others)
    questions += sum(needs_answer("exposure", "", file.trouble) for file in exposures)
    if not knows:
        return _stage("intake", "look", "no star catalogue yet", questions + 1)
    if questions:
        noun = "file needs" if questions == 1 else "files need"
        return _stage("intake", "look", f"{questions} {noun} an answer", questions)
    if not exposures:
        return _stage("intake", "look", "no exposures of the sky", 1)
    return _stage("intake", "done", counted(len(exposures), "exposure"))


def _correct(
    campaign: Campaign, others: Sequence[Any], exposures: Sequence[Any], chains: set[str]
) -> Stage:
    if not exposures:
        return _stage("correct", "waiting", "waits for Intake")
    if not {file.chain for file in exposures} <= chains:
        return _stage("correct", "todo", "build the masters")
    if campaign.masters_with != calibration_print(campaign, others):
        words = f"build the masters again: {changed_words(campaign.masters_with)} changed"
        return _stage("correct", "todo", words)
    return _stage("correct", "done", counted(len(chains), "chain"))


def _vet(exposures: Sequence[Any]) -> Stage:
    if not exposures:
        return _stage("vet", "waiting", "waits for Intake")
    if not any(file.placed_with or file.looked_with for file in exposures):
        return _stage("vet", "todo", "look at the exposures")
    proposals = sum(bool(file.proposal) for file in exposures)
    if proposals:
        return _stage("vet", "look", f"{proposals} proposed to set aside", proposals)
    aside = sum(bool(file.aside_by or file.trouble) for file in exposures)
    return _stage("vet", "done", f"{aside} of {len(exposures)} set aside")


def _place(knows: bool, exposures: Sequence[Any], chains: set[str]) -> Stage:
    if not exposures or not chains:
        return _stage("place", "waiting", "waits for Correct" if exposures else "waits for Intake")
    if not knows:
        return _stage("place", "waiting", "waits for a catalogue (Intake)")
    missing = sum(not file.placed_with for file in exposures)
    if missing:
        return _stage("place", "todo", f"{missing} to place")
    failed = sum(bool(file.trouble) for file in exposures)
    if failed:
        return _stage("place", "look", f"{failed} could not be placed", failed)
    return _stage("place", "done", f"{len(exposures)} placed")


def _measure(campaign: Campaign, exposures: Sequence[Any], chains: set[str]) -> Stage:
    if not exposures or not chains:
        return _stage("measure", "waiting", "waits for Correct")
    missing = sum(not file.measured_with and not file.trouble for file in exposures)
    if missing:
        return _stage("measure", "todo", f"{missing} to measure")
    if campaign.changed_since:
        return _stage("measure", "look", out_of_date(campaign), 1)
    good = sum(not file.trouble for file in exposures)
    return _stage("measure", "done", f"{good} of {len(exposures)} measured")


def out_of_date(campaign: Campaign) -> str:
    """What was changed after measuring, and what to do."""
    return f"{campaign.changed_since} changed since: measure again what changed"


def _after_census(key: str, ready: bool, done: bool, todo: str) -> Stage:
    if not ready:
        needs = "waits for Measure" if key == "cast" else "waits for Cast and Measure"
        return _stage(key, "waiting", needs)
    return _stage(key, "done" if done else "todo", "" if done else todo)


def _report(session: Session, campaign: Campaign, ready: bool) -> Stage:
    if not ready:
        return _stage("report", "waiting", "waits for Curve")
    last = session.scalars(
        select(Report).where(Report.campaign_id == campaign.id).order_by(Report.id.desc())
    ).first()
    if last is None:
        return _stage("report", "todo", "not handed out yet")
    return _stage("report", "done", f"{counted(last.points, 'point')} handed out")
