"""Changes that can be taken back: every one goes through here and into the log."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from narrow_beacon.store.campaigns import changed_after_measuring, now, queue_job
from narrow_beacon.store.files import refresh_files
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    LogEntry,
    NightFile,
    Recipe,
    Record,
)

_RECORDS: dict[str, type[Record]] = {"file": NightFile, "campaign": Campaign}
_SORTING_FIELDS = {"correction", "kit_id", "site_id", "default_filter", "folders"}
_CENSUS_FIELDS = {
    "kit_id": "kit", "site_id": "site", "catalogue_id": "catalogue", "cone_url": "catalogue",
    "correction": "files", "default_filter": "files", "bands": "bands", "epoch_yr": "catalogue",
    "measuring": "radius or sky ring", "library": "library of masters",
}  # fmt: skip
"""What a census was made with: noise, airmass, stars, and what the files are."""


@dataclass(frozen=True)
class Change:
    """A field of a record and its new value."""

    record: str
    id: int
    field: str
    after: Any


def act(
    session: Session,
    campaign: Campaign,
    words: str,
    changes: Sequence[Change],
    who: str = "observer",
) -> LogEntry | None:
    """Make changes and log them; None where they change nothing.

    Entries that were undone before are dropped from what can be redone.
    """
    done = []
    for change in changes:
        record = session.get_one(_RECORDS[change.record], change.id)
        before = getattr(record, change.field)
        if before == change.after:
            continue
        setattr(record, change.field, change.after)
        done.append({**vars(change), "before": before})
    if not done:
        return None
    session.execute(
        update(LogEntry)
        .where(LogEntry.campaign_id == campaign.id, LogEntry.undone)
        .values(abandoned=True)
    )
    entry = LogEntry(
        campaign_id=campaign.id, at=now(), who=who, words=words, changes=json.dumps(done)
    )
    session.add(entry)
    _after(session, campaign, {item["field"] for item in done})
    return entry


def undo(session: Session, campaign: Campaign) -> LogEntry | None:
    """Take back the observer's latest action that is still in force; None without one."""
    entry = next_undo(session, campaign)
    if entry:
        _apply(session, campaign, entry, "before")
        entry.undone = True
    return entry


def redo(session: Session, campaign: Campaign) -> LogEntry | None:
    """Do again what was undone last, unless something else was done since; None without one."""
    entry = next_redo(session, campaign)
    if entry:
        _apply(session, campaign, entry, "after")
        entry.undone = False
    return entry


def next_redo(session: Session, campaign: Campaign) -> LogEntry | None:
    """What ``redo`` would do: the first of the undone actions that were not abandoned."""
    return session.scalars(
        select(LogEntry)
        .where(LogEntry.campaign_id == campaign.id, LogEntry.undone, ~LogEntry.abandoned)
        .order_by(LogEntry.id)
    ).first()


def next_undo(session: Session, campaign: Campaign) -> LogEntry | None:
    """What ``undo`` would take back: the latest action in force."""
    return session.scalars(
        select(LogEntry)
        .where(LogEntry.campaign_id == campaign.id, ~LogEntry.undone)
        .order_by(LogEntry.id.desc())
    ).first()


def _apply(session: Session, campaign: Campaign, entry: LogEntry, side: str) -> None:
    changes = json.loads(entry.changes)
    for item in changes if side == "after" else reversed(changes):
        setattr(session.get_one(_RECORDS[item["record"]], item["id"]), item["field"], item[side])
    _after(session, campaign, {item["field"] for item in changes})


def _after(session: Session, campaign: Campaign, fields: set[str]) -> None:
    if fields & _SORTING_FIELDS:
        refresh_files(session, campaign)
    changed = [words for field, words in _CENSUS_FIELDS.items() if field in fields]
    changed_after_measuring(session, campaign, changed)
    if "folders" in fields:
        queue_job(session, campaign, "sort")
    if "picks" in fields:
        queue_job(session, campaign, "masters")
    campaign.revision += 1


def new_cast(
    session: Session,
    campaign: Campaign,
    target: int,
    comparison: Sequence[int],
    check: int | None,
    reasons: dict[str, str] | None = None,
    dropped: dict[str, str] | None = None,
) -> CastRecord:
    """The next version of the cast; ``act`` puts it in force."""
    last = session.get(CastRecord, campaign.cast_id) if campaign.cast_id else None
    newest = session.scalars(
        select(CastRecord.version)
        .where(CastRecord.campaign_id == campaign.id)
        .order_by(CastRecord.version.desc())
    ).first()
    record = CastRecord(
        campaign_id=campaign.id,
        version=(newest or 0) + 1,
        created=now(),
        target=target,
        comparison=list(comparison),
        check_star=check,
        reasons=(last.reasons if last else {}) if reasons is None else reasons,
        dropped=(last.dropped if last else {}) if dropped is None else dropped,
    )
    session.add(record)
    session.flush()
    return record


def new_recipe(
    session: Session,
    campaign: Campaign,
    steps: dict[str, int],
    automatic: bool,
) -> Recipe:
    """The next version of the recipe; ``act`` puts it in force."""
    newest = session.scalars(
        select(Recipe.version)
        .where(Recipe.campaign_id == campaign.id)
        .order_by(Recipe.version.desc())
    ).first()
    record = Recipe(
        campaign_id=campaign.id, version=(newest or 0) + 1, created=now(), steps=steps,
        automatic=automatic,
    )  # fmt: skip
    session.add(record)
    session.flush()
    return record
