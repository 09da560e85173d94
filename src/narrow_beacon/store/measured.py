"""Census tables of a campaign: where they are, kept while they are in use."""

from __future__ import annotations

import threading
from collections import OrderedDict
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.store.census_columns import CensusTable, open_tables
from narrow_beacon.store.models import CensusFile

_KEPT = 24
_tables: OrderedDict[tuple[str, ...], CensusTable] = OrderedDict()
_lock = threading.Lock()


def filter_table(session: Session, campaign_id: int, filter_name: str) -> CensusTable | None:
    """All nights of a campaign in one filter, in order of time; None before the census."""
    records = session.scalars(
        select(CensusFile)
        .where(CensusFile.campaign_id == campaign_id, CensusFile.filter == filter_name)
        .where(CensusFile.exposures > 0)
        .order_by(CensusFile.group_name)
    ).all()
    if not records:
        return None
    key = tuple(f"{record.path} {record.fingerprint}" for record in records)
    with _lock:
        if key not in _tables:
            _tables[key] = open_tables([Path(record.path) for record in records], key)
            while len(_tables) > _KEPT:
                _tables.popitem(last=False)
        _tables.move_to_end(key)
        return _tables[key]


def filters_measured(session: Session, campaign_id: int) -> list[str]:
    """Filters with a census, the one with most exposures first."""
    counts: dict[str, int] = {}
    for record in session.scalars(select(CensusFile).where(CensusFile.campaign_id == campaign_id)):
        counts[record.filter] = counts.get(record.filter, 0) + record.exposures
    names = sorted((name for name in counts if counts[name]), reverse=True)
    return sorted(names, key=lambda name: -counts[name])
