"""A campaign's exposures as their records stand, kept in memory: only what was written since is
read again.
"""

from __future__ import annotations

import sys
import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from typing import Any

import numpy as np
from pydantic_core import from_json
from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Ints
from narrow_beacon.store.models import NightFile
from narrow_beacon.store.one_reader import OneReader

_KEPT = 4
_CHUNK = 512
_IN_A_ROW = 4096
_MOST_BYTES = 64_000_000


@dataclass(frozen=True, slots=True)
class ExposureRow:
    """The columns of NightFile that curves and rail need, without the cost of records. What is seen
    on an exposure stays as its text, a quarter as large, and is read by who asks for it.
    """

    id: int
    name: str
    sha256: str
    night_id: int | None
    filter: str
    group_name: str
    exposure_s: float | None
    mid_utc: datetime | None
    chain: str
    kit: str
    width: int
    height: int
    quality_text: str
    trouble: str
    aside_by: str
    aside_reason: str
    kept: bool
    proposal: str
    measured_with: str
    placed_with: str
    looked_with: str
    match_text: str
    evidence_text: str
    parent_id: int | None
    temperature_c: float | None
    correction: dict[str, Any] | None
    """The observer's word on the file; None where there is none."""

    @property
    def quality(self) -> dict[str, Any] | None:
        """As in NightFile."""
        return _told(self.quality_text)

    @property
    def match(self) -> dict[str, Any] | None:
        """As in NightFile."""
        return _told(self.match_text)

    @property
    def evidence(self) -> dict[str, Any] | None:
        """As in NightFile."""
        return _told(self.evidence_text)


_NAMES = tuple(field.name for field in fields(ExposureRow))
_TEXT = "_text"
_JSON = "correction"
_SHARED = (
    "filter",
    "group_name",
    "chain",
    "kit",
    "measured_with",
    "placed_with",
    "looked_with",
    "aside_by",
)
"""Words that many rows have: kept once."""


@dataclass(frozen=True)
class _Known:
    """Records' numbers and when each was written, in their order; and the rows in order of time."""

    ids: Ints
    stamps: Ints
    totals: tuple[int, int, int]
    """How many they are, and the sums of both: numbers only grow, so that these are others after
    any change."""
    rows: tuple[ExposureRow, ...]


_known: OrderedDict[tuple[str, int], _Known] = OrderedDict()
_lock = threading.Lock()
_reading = OneReader()


def long_answers(session: Session) -> None:
    """Let the database join thousands of values to one of the answer: rows are what its driver
    takes its time for.
    """
    session.execute(text(f"SET SESSION group_concat_max_len = {_MOST_BYTES}"))


def whole_numbers(parts: Sequence[str | None]) -> Ints:
    """The numbers of such answers, between which are spaces or commas."""
    return np.array(" ".join(part or "" for part in parts).replace(",", " ").split(), np.int64)


def exposure_rows(session: Session, campaign: int) -> Sequence[ExposureRow]:
    """The exposures of the sky in order of time, as the session sees them: the same object as long
    as none was written.
    """
    key = (str(session.get_bind().engine.url), campaign)
    if (rows := _unchanged(session, key)) is not None:
        return rows
    # A page asks for many things at once, each of which needs all rows: tens of megabytes.
    with _reading.of(key):
        rows = _unchanged(session, key)
        return _read_again(session, key) if rows is None else rows


def _unchanged(session: Session, key: tuple[str, int]) -> tuple[ExposureRow, ...] | None:
    """The rows as they were read last, if none was written since."""
    with _lock:
        known = _known.get(key)
    return known.rows if known is not None and known.totals == _totals(session, key[1]) else None


def _read_again(session: Session, key: tuple[str, int]) -> tuple[ExposureRow, ...]:
    """All rows, of which those that were written since are read."""
    campaign = key[1]
    with _lock:
        known = _known.get(key)
    ids, stamps = _stamps(session, campaign)
    if known is not None and np.array_equal(known.ids, ids):
        fresh = ids[known.stamps != stamps]
        if not fresh.size:
            return known.rows
    else:
        fresh = ids if known is None else ids[~_as_before(ids, stamps, known)]
    new = {row.id: row for row in _read(session, campaign, fresh)}
    if known is not None:
        there = set(ids.tolist()) - new.keys()
        new |= {row.id: row for row in known.rows if row.id in there}
    # In the order of the core, which the database's own order of letters is not.
    rows = tuple(sorted(new.values(), key=lambda row: (row.mid_utc or datetime.min, row.name)))
    with _lock:
        _known[key] = _Known(ids, stamps, (ids.size, int(ids.sum()), sum(stamps.tolist())), rows)
        _known.move_to_end(key)
        while len(_known) > _KEPT:
            _known.popitem(last=False)
    return rows


def _as_before(ids: Ints, stamps: Ints, known: _Known) -> np.ndarray:
    """Which records are known as they were last written."""
    if not known.ids.size:
        return np.zeros(ids.size, bool)
    at = np.minimum(np.searchsorted(known.ids, ids), known.ids.size - 1)
    return np.asarray((known.ids[at] == ids) & (known.stamps[at] == stamps))


_SINCE = func.coalesce(func.timestampdiff(text("MICROSECOND"), "2020-01-01", NightFile.changed), 0)


def _totals(session: Session, campaign: int) -> tuple[int, int, int]:
    """``_Known.totals`` as the records stand."""
    found = session.execute(
        select(func.count(), func.sum(NightFile.id), func.sum(_SINCE)).where(
            NightFile.campaign_id == campaign, NightFile.part == "exposure"
        )
    ).one()
    count, ids, stamps = (int(value or 0) for value in found)
    return count, ids, stamps


def _stamps(session: Session, campaign: int) -> tuple[Ints, Ints]:
    """The exposures' numbers, ascending, and when each was written (µs)."""
    long_answers(session)
    found = session.scalars(
        select(func.group_concat(func.concat_ws(" ", NightFile.id, _SINCE)))
        .where(NightFile.campaign_id == campaign, NightFile.part == "exposure")
        .group_by(NightFile.id.op("DIV")(_IN_A_ROW))
    ).all()
    pairs = whole_numbers(found).reshape(-1, 2)
    pairs = pairs[np.argsort(pairs[:, 0], kind="stable")]
    return pairs[:, 0], pairs[:, 1]


def _read(session: Session, campaign: int, ids: Ints) -> Sequence[ExposureRow]:
    if not ids.size:
        return []
    columns = [_column(name) for name in _NAMES]
    asked = select(func.group_concat(func.json_array(*columns))).where(
        NightFile.campaign_id == campaign, NightFile.part == "exposure"
    )
    if ids.size <= _CHUNK:
        asked = asked.where(NightFile.id.in_(ids.tolist()))
    # A part at a time: the text of all is several times the rows.
    asked = asked.group_by(NightFile.id.op("DIV")(_CHUNK)).execution_options(yield_per=1)
    wanted = set(ids.tolist())
    return [
        row for part in session.scalars(asked) for values in from_json(f"[{part}]")
        if (row := _row(values)).id in wanted
    ]  # fmt: skip


def _column(name: str) -> Any:
    """What the database is asked for a field of a row."""
    column = getattr(NightFile, name.removesuffix(_TEXT))
    if name.endswith(_TEXT):
        return func.coalesce(func.nullif(func.json_compact(column), "null"), "")
    return func.json_compact(column) if name == _JSON else column


def _told(text: str) -> Any:
    return from_json(text) if text else None


def _row(values: Sequence[Any]) -> ExposureRow:
    own = dict(zip(_NAMES, values, strict=True))
    moment = own["mid_utc"]
    own["mid_utc"] = datetime.fromisoformat(moment) if moment else None
    own["kept"] = bool(own["kept"])
    own["correction"] = own["correction"] or None
    for name in _SHARED:
        own[name] = sys.intern(own[name])
    return ExposureRow(**own)
