"""Changes that can be taken back: every one goes through here and into the log."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, UnaryExpression, and_, select, update
from sqlalchemy.orm import Session

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.store.campaigns import now, queue_job
from narrow_beacon.store.files import refresh_files
from narrow_beacon.store.kits import what_changes
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    KitWordRecord,
    LogEntry,
    NightFile,
    Recipe,
    Record,
)
from narrow_beacon.store.since import tell_changes, touches

_RECORDS: dict[str, type[Record]] = {
    "file": NightFile, "campaign": Campaign, "kit_word": KitWordRecord,
}  # fmt: skip
_SORTING_FIELDS = {"correction", "kit_id", "site_id", "default_filter", "folders", "pattern"}
_CENSUS_FIELDS = {
    "kit_id": "kit", "site_id": "site", "catalogue_id": "catalogue", "cone_url": "catalogue",
    "sources": "catalogue",
    "correction": "files", "default_filter": "files", "pattern": "files", "bands": "bands",
    "epoch_yr": "catalogue",
    "measuring": "radius or sky ring", "library": "library of masters",
}  # fmt: skip
"""What a census was made with: noise, airmass, stars, and what the files are."""


@dataclass(frozen=True)
class Sight:
    """Whose page asks, and the campaign's revision that it shows, where it says so."""

    page: str = ""
    revision: int | None = None


NOBODY = Sight()


class OvertakenError(BeaconError):
    """Somebody else changed the same, and whoever asks has not seen it; says both."""

    def __init__(self, other: LogEntry, words: str, wanted: Sequence[dict[str, Any]] = ()) -> None:
        theirs = f"{'took back: ' if other.undone else ''}{other.words}"
        texts = [w for w in wanted if isinstance(w["before"], str) and isinstance(w["after"], str)]
        values = "".join(
            f" It is “{w['before'][:80]}” now; yours was “{w['after'][:80]}”." for w in texts[:1]
        )
        super().__init__(
            f"At {other.at:%H:%M:%S} UTC another page {theirs}. Yours was not taken over: {words}."
            f"{values} Do yours again if you still want it."
        )


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
    touched: Sequence[str] = (),
) -> LogEntry | None:
    """Make changes and log them; None where they change nothing. ``touched``: what a census is made
    with and they change beside what their fields say.

    Entries that were undone before are dropped from what can be redone. Raises OvertakenError
    where the session's Sight is older than somebody else's change of the same.
    """
    sight: Sight = session.info.get("sight", NOBODY)
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
    other = _overtaking(session, campaign, sight, {_key(item) for item in done})
    if other is not None:
        raise OvertakenError(other, words, done)
    session.execute(
        update(LogEntry)
        .where(LogEntry.campaign_id == campaign.id, LogEntry.undone)
        .values(abandoned=True)
    )
    entry = LogEntry(
        campaign_id=campaign.id, at=now(), who=who, words=words, changes=json.dumps(done),
        page=sight.page, touched=touches([*_touched(done), *touched]),
    )  # fmt: skip
    session.add(entry)
    _after(session, campaign, entry, done)
    return entry


def undo(session: Session, campaign: Campaign, wanted: int | None = None) -> LogEntry | None:
    """Take back what ``next_undo`` says; None without one. ``wanted``: the entry that is meant.

    Raises OvertakenError where another one came after, or somebody else changed the same since.
    """
    return _back_and_forth(session, campaign, next_undo(session, campaign), wanted, "before")


def redo(session: Session, campaign: Campaign, wanted: int | None = None) -> LogEntry | None:
    """Do again what ``next_redo`` says; None without one. Raises OvertakenError, as ``undo``."""
    return _back_and_forth(session, campaign, next_redo(session, campaign), wanted, "after")


def _back_and_forth(
    session: Session, campaign: Campaign, entry: LogEntry | None, wanted: int | None, side: str
) -> LogEntry | None:
    verb = "undo" if side == "before" else "do again"
    if wanted is not None and (entry is None or entry.id != wanted):
        meant = session.get(LogEntry, wanted)
        if meant is None or meant.campaign_id != campaign.id:
            return None
        raise OvertakenError(entry or meant, f"{verb}: {meant.words}")
    sight: Sight = session.info.get("sight", NOBODY)
    if entry is None or (wanted is None and entry.page != sight.page and sight.page):
        return None  # somebody else's only when it is meant
    changes = json.loads(entry.changes)
    newer = Sight(entry.page, entry.revision)
    keys = {_key(item) for item in changes}
    other = _overtaking(session, campaign, newer, keys, in_force=True)
    if other is not None:
        raise OvertakenError(other, f"{verb}: {entry.words}")
    for item in changes if side == "after" else reversed(changes):
        setattr(session.get_one(_RECORDS[item["record"]], item["id"]), item["field"], item[side])
    entry.undone = side == "before"
    if not entry.touched and (touched := _touched(changes)):  # of before entries kept it
        entry.touched, entry.measured = touches(touched), entry.undone
    _after(session, campaign, entry, changes)
    return entry


def next_redo(session: Session, campaign: Campaign) -> LogEntry | None:
    """What ``redo`` would do: the page's first of the undone actions that were not abandoned,
    else anybody's.
    """
    undone = and_(LogEntry.undone, ~LogEntry.abandoned)
    return _own_or_any(session, campaign, undone, LogEntry.id.asc())


def next_undo(session: Session, campaign: Campaign) -> LogEntry | None:
    """What ``undo`` would take back: the page's own latest action in force; anybody's where it
    has none, as after a week.
    """
    return _own_or_any(session, campaign, ~LogEntry.undone, LogEntry.id.desc())


def _own_or_any(
    session: Session,
    campaign: Campaign,
    which: ColumnElement[bool],
    order: UnaryExpression[int],
) -> LogEntry | None:
    sight: Sight = session.info.get("sight", NOBODY)
    entries = select(LogEntry).where(LogEntry.campaign_id == campaign.id, which).order_by(order)
    own = None
    if sight.page:
        own = session.scalars(entries.where(LogEntry.page == sight.page).limit(1)).first()
    return own or session.scalars(entries.limit(1)).first()


def _key(item: dict[str, Any]) -> tuple[str, int, str]:
    return item["record"], item["id"], item["field"]


def _overtaking(
    session: Session,
    campaign: Campaign,
    sight: Sight,
    keys: set[tuple[str, int, str]],
    *,
    in_force: bool = False,
) -> LogEntry | None:
    """The latest action of somebody else, done or undone after what a page has seen, on the same
    fields; ``in_force``: only one that still holds.
    """
    if sight.revision is None:
        return None
    later = (
        select(LogEntry)
        .where(
            LogEntry.campaign_id == campaign.id,
            LogEntry.revision > sight.revision,
            LogEntry.page != sight.page,
            LogEntry.who == "observer",
        )
        .order_by(LogEntry.revision.desc())
    )
    if in_force:
        later = later.where(~LogEntry.undone)
    for entry in session.scalars(later):
        if keys & {_key(item) for item in json.loads(entry.changes)}:
            return entry
    return None


def _after(
    session: Session, campaign: Campaign, entry: LogEntry, changes: Sequence[dict[str, Any]]
) -> None:
    fields = {change["field"] for change in changes}
    if fields & _SORTING_FIELDS:
        refresh_files(session, campaign)
    tell_changes(session, campaign)
    if "folders" in fields:
        queue_job(session, campaign, "sort")
    if fields & {"picks", "defects"} or any(rules for _, rules in _kits(changes)):
        queue_job(session, campaign, "masters")
    campaign.revision += 1
    entry.revision = campaign.revision


def _touched(changes: Sequence[dict[str, Any]]) -> list[str]:
    """What a census is made with and changes touch."""
    fields = {change["field"] for change in changes}
    words = [words for field, words in _CENSUS_FIELDS.items() if field in fields]
    return [*words, "kit"] if any(constants for constants, _ in _kits(changes)) else words


def _kits(changes: Sequence[dict[str, Any]]) -> list[tuple[bool, bool]]:
    """Of changed words on kits whether constants are others, and whether rules are."""
    return [what_changes(c["before"], c["after"]) for c in changes if c["field"] == "kits"]


def new_cast(
    session: Session,
    campaign: Campaign,
    target: int,
    comparison: Sequence[int],
    checks: Sequence[int],
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
        check_star=checks[0] if checks else None,
        more_checks=list(checks[1:]),
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
