"""Remarks as records: those of a step take the place of what it said the time before."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.remarks import Remark
from narrow_beacon.store.models import RemarkRecord


def write_remarks(session: Session, campaign: int, step: str, remarks: Iterable[Remark]) -> None:
    """Keep what a step says now; what the observer has seen of it stays seen."""
    old = {_key(record): record for record in _of_step(session, campaign, step)}
    for place, remark in enumerate(dict.fromkeys(remarks)):
        record = old.pop(_key(remark), None)
        if record is None:
            record = RemarkRecord(campaign_id=campaign, step=step, **vars(remark))
            session.add(record)
        record.place, record.matters, record.remedy = place, remark.matters, remark.remedy
    for gone in old.values():
        session.delete(gone)


def remarks_of(session: Session, campaign: int) -> Sequence[RemarkRecord]:
    """All remarks of a campaign, in the order of steps and of what each said."""
    found = session.scalars(select(RemarkRecord).where(RemarkRecord.campaign_id == campaign)).all()
    return sorted(found, key=lambda record: (_ORDER.get(record.step, 9), record.place))


_ORDER = {
    step: place
    for place, step in enumerate(("read", "sort", "masters", "chains", "prepare", "settle"))
}


def _of_step(session: Session, campaign: int, step: str) -> Sequence[RemarkRecord]:
    return session.scalars(
        select(RemarkRecord).where(RemarkRecord.campaign_id == campaign, RemarkRecord.step == step)
    ).all()


def _key(remark: Remark | RemarkRecord) -> tuple[str, str, str]:
    return remark.stage, remark.about or "", remark.words
