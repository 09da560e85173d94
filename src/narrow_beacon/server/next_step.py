"""The one next thing to do in a campaign, what it needs, and what lies at hand for it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from narrow_beacon.core.words import counted
from narrow_beacon.reduce.field import band_of
from narrow_beacon.reduce.reading import CATALOGUE
from narrow_beacon.server.doubts import doubts_of
from narrow_beacon.server.schemas.campaigns import NextStep, Offer, Stage
from narrow_beacon.server.state import shared
from narrow_beacon.store.campaigns import changed_words
from narrow_beacon.store.models import Campaign, NightFile
from narrow_beacon.store.sequences import stars_of
from narrow_beacon.store.sources import knows_stars

_TABLES = (".vot", ".votable", ".ecsv")
_MOST_OFFERS = 4


def next_step(session: Session, campaign: Campaign, stages: Sequence[Stage]) -> NextStep:
    """What to do now: what stands in the way comes first, then the way through the stages."""
    by_key = {stage.key: stage for stage in stages}
    counts = _counts(session, campaign)
    exposures = counts.get("exposure", 0)
    if any(stage.state == "working" for stage in stages):
        at_work = next(stage.key for stage in stages if stage.state == "working")
        return NextStep(stage=at_work, words="At work; nothing to do until it is done.", button="")
    return (
        _files(campaign, counts, exposures)
        or _field(session, campaign)
        or _measuring(campaign, by_key, exposures)
        or _judging(session, campaign, by_key)
    )


def _counts(session: Session, campaign: Campaign) -> dict[str, int]:
    return dict(
        session.execute(
            select(NightFile.part, func.count())
            .where(NightFile.campaign_id == campaign.id)
            .group_by(NightFile.part)
        ).all()
    )


def _files(campaign: Campaign, counts: dict[str, int], exposures: int) -> NextStep | None:
    if not campaign.folders:
        return _do("intake", "Point to the folder of the night.", "Add a folder")
    if not counts:
        return _do("intake", "These folders were not looked at yet.", "Look at them", "sort")
    if not exposures:
        words = (
            "None of these files is an exposure of the sky. Choose files in the list and say what "
            "kind they are, or add the folder of the exposures."
        )
        return _do("intake", words, "Say what they are")
    return None


def _field(session: Session, campaign: Campaign) -> NextStep | None:
    """What is missing to place the exposures and give them magnitudes."""
    if not knows_stars(session, campaign):
        offers = [
            Offer(words=f"{path.name}, beside the night", catalogue_file=str(path))
            for path in catalogues_at_hand(session, campaign)
        ]
        demo = shared().demo_folder
        if demo and _within(campaign.folders, demo):
            offers.append(
                Offer(words="the stand-in service of the demo field", cone_url=shared().cone_url)
            )
        words = "Give a star catalogue of the field, so that the exposures can be placed on the sky"
        words += ": this lies at hand." if offers else ": a file, or a cone search service."
        step = _do("intake", words, "Choose a file")
        return step.model_copy(update={"offers": offers[:_MOST_OFFERS]})
    if campaign.catalogue_id is None and not _has_position(session, campaign):
        words = (
            "Say where the field is: the headers give no position, and the cone search needs one."
        )
        return _do("intake", words, "Give the position")
    if campaign.catalogue_id is not None:
        stars = stars_of(session, campaign)
        filters = session.scalars(
            select(NightFile.filter)
            .where(NightFile.campaign_id == campaign.id, NightFile.part == "exposure")
            .distinct()
        ).all()
        without = [name for name in filters if band_of(name, stars.bands, campaign.bands) is None]
        if without and len(without) == len(filters):
            words = (
                f"Say which of the catalogue's bands ({', '.join(stars.bands)}) stands for "
                f"filter {' and '.join(without)}."
            )
            return _do("intake", words, "Choose the band")
    return None


def _measuring(campaign: Campaign, stages: dict[str, Stage], exposures: int) -> NextStep | None:
    measure, correct = stages["measure"], stages["correct"]
    measured = measure.state not in ("todo", "waiting")
    if measured and correct.state == "todo" and campaign.masters_with:
        what = campaign.changed_since or changed_words(campaign.masters_with)
        words = f"{what} changed since the census; masters are built anew where they are touched."
        return _do("measure", f"Measure again: {words}", "Measure again", "census")
    if not measured or correct.state == "todo":
        count = measure.words if measure.state == "todo" else counted(exposures, "exposure")
        words = (
            f"All is there that it needs: {count}. It builds the masters, places and measures "
            "every exposure and makes the curve; or go step by step through the stages."
        )
        return _do("measure", words, "Reduce all of it", "reduce")
    if campaign.changed_since:
        words = f"{campaign.changed_since} changed since the census; only what it touches is done."
        return _do("measure", f"Measure again: {words}", "Measure again", "census")
    return None


def _judging(session: Session, campaign: Campaign, stages: dict[str, Stage]) -> NextStep:
    if not campaign.cast_id:
        words = "Say which star is yours: click it on the plate and press T."
        return _do("cast", words, "Choose the target")
    vet, intake, report = stages["vet"], stages["intake"], stages["report"]
    if vet.count:
        words = f"To be set aside, as proposed: {counted(vet.count, 'exposure')}; decide in Vet."
        return _do("vet", words, "Decide in Vet")
    for doubt in doubts_of(session, campaign):
        if not doubt.seen:
            return _do(doubt.stage, doubt.next_words, f"Look in {doubt.stage.capitalize()}")
    if intake.count:
        asked = intake.words.partition(";")[0]
        return _do("intake", f"{asked}: they take no part until then.", "Answer in Intake")
    if report.state == "todo":
        words = "The curve is made. Look whether the check star was steady, then hand it in."
        return _do("report", words, "Go to the report")
    return _do("curve", "All of it is done and handed in. Add the next night when it comes.", "")


def _do(stage: str, words: str, button: str, job: str = "") -> NextStep:
    return NextStep(stage=stage, words=words, button=button, job=job)  # type: ignore[arg-type]


def catalogues_at_hand(session: Session, campaign: Campaign) -> list[Path]:
    """Star catalogues among a campaign's files and beside its folders."""
    named = session.scalars(
        select(NightFile.path).where(
            NightFile.campaign_id == campaign.id, NightFile.part_reason.startswith(CATALOGUE)
        )
    ).all()
    found = [Path(path) for path in named]
    folders = {Path(folder) for folder in campaign.folders}
    around = {folder.parent for folder in folders} | {folder.parent.parent for folder in folders}
    for beside in sorted(around, reverse=True):
        if shared().folders.allows(beside):
            found += [path for path in _files_of(beside) if path.suffix.lower() in _TABLES]
    return list(dict.fromkeys(found))


def _files_of(folder: Path) -> Iterable[Path]:
    try:
        return sorted(path for path in folder.iterdir() if path.is_file())
    except OSError:
        return []


def _has_position(session: Session, campaign: Campaign) -> bool:
    if campaign.target_ra_deg is not None:
        return True
    places = ("$.facts.ra_deg.value", "$.facts.dec_deg.value")
    one = select(NightFile.id).where(
        NightFile.campaign_id == campaign.id, NightFile.part.in_(("exposure", "colours")),
        *(func.json_value(NightFile.raw, place).is_not(None) for place in places),
    )  # fmt: skip
    return session.scalar(one.limit(1)) is not None


def _within(folders: Sequence[str], parent: Path) -> bool:
    return bool(folders) and all(
        Path(folder) == parent or parent in Path(folder).parents for folder in folders
    )
