"""The shelf: the observatory's masters of all nights, whatever campaign they were made in."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.correct.masters import MasterFacts, read_facts
from narrow_beacon.reduce.codec import dump, load
from narrow_beacon.reduce.masters import MasterFile, import_master
from narrow_beacon.store.models import Campaign, MasterRecord

SHELF = "shelf"
"""The folder, below the data folder, of masters that belong to no campaign."""
_LASTING = ("bias", "dark", "flat dark")
"""Kinds that serve other nights; a flat belongs to the set-up of its own."""


def on_shelf(session: Session) -> Sequence[MasterRecord]:
    """Every master once, where it was made; those whose file is gone are not there."""
    found = session.scalars(select(MasterRecord).order_by(MasterRecord.id)).all()
    return [
        record
        for record in found
        if (
            record.campaign_id is None
            or f"campaign-{record.campaign_id}" in Path(record.path).parts
        )
        and Path(record.path).exists()
    ]


def lasting_masters(session: Session, campaign: Campaign) -> list[MasterFile]:
    """What a campaign can take from the others; nothing where it does not want to."""
    if not campaign.shelf:
        return []
    return [
        MasterFile(facts, Path(record.path))
        for record in on_shelf(session)
        if record.campaign_id != campaign.id and not record.retired
        for facts in [load(MasterFacts, record.facts)]
        if facts.kind in _LASTING
    ]


def leave_on_shelf(session: Session, campaign: Campaign, folder: Path) -> int:
    """Copy a campaign's own masters to the shelf's folder before it is deleted, so that they
    outlive it; returns how many.
    """
    own = [r for r in on_shelf(session) if r.campaign_id == campaign.id]
    for record in own:
        before, after = record.path, folder / Path(record.path).name
        if not after.exists():
            shutil.copy2(before, after)
        for other in session.scalars(select(MasterRecord).where(MasterRecord.path == before)):
            other.path = str(after)
        record.campaign_id, record.origin = None, campaign.name
    session.flush()
    return len(own)


def put_on_shelf(session: Session, path: Path, folder: Path) -> tuple[MasterRecord, bool]:
    """Take a ready-made master over; its record, and whether it is new. Raises
    UnreadableFileError.
    """
    own = import_master(path, folder)
    known = session.scalars(select(MasterRecord).where(MasterRecord.path == str(own))).first()
    if known is not None:
        return known, False
    facts = read_facts(own)
    record = MasterRecord(
        label=facts.label, path=str(own), facts=dump(facts), origin=path.name,
        made=datetime.now(UTC).replace(tzinfo=None),
    )  # fmt: skip
    session.add(record)
    session.flush()
    return record, True
