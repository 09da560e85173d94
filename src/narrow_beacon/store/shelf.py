"""The shelf: the observatory's masters of all nights, whatever campaign they were made in."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.reduce.codec import load
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.store.models import Campaign, MasterRecord

_LASTING = ("bias", "dark", "flat dark")
"""Kinds that serve other nights; a flat belongs to the set-up of its own."""


def on_shelf(session: Session) -> Sequence[MasterRecord]:
    """Every master once, where it was made; those whose file is gone are not there."""
    found = session.scalars(select(MasterRecord).order_by(MasterRecord.id)).all()
    return [
        record
        for record in found
        if f"campaign-{record.campaign_id}" in Path(record.path).parts
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
