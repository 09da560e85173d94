"""What is doubted of the numbers themselves, by the remarks that say so."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.words import counted
from narrow_beacon.reduce.filter_doubt import BAND_AT_STAKE
from narrow_beacon.reduce.kit import SKY_AT_STAKE
from narrow_beacon.reduce.standing import TIMES_AT_STAKE
from narrow_beacon.reduce.tilt_doubt import FLAT_AT_STAKE
from narrow_beacon.store.models import Campaign, RemarkRecord


@dataclass(frozen=True)
class Doubt:
    """``what`` is doubted, where that is looked into, what to do in a sentence, and the remarks."""

    what: str
    stage: str
    next_words: str
    remarks: Sequence[RemarkRecord]

    @property
    def seen(self) -> bool:
        """Whether the observer has seen all that is said of it."""
        return all(remark.seen for remark in self.remarks)

    @property
    def words(self) -> str:
        """What is said of it, the first remark for all."""
        first, *rest = self.remarks
        more = f", and {counted(len(rest), 'more remark')}" if rest else ""
        said = ": ".join(part for part in (self.what, first.about, first.words) if part)
        return f"{said}{more}. See {self.stage.capitalize()}."


TIMES = "Times"
_DOUBTS = (
    (TIMES_AT_STAKE, TIMES, "intake", "The times of a night can't be right: see the remark."),
    (BAND_AT_STAKE, "Band", "intake", "The filter is not the one that the headers say: see the "
     "remark."),
    (SKY_AT_STAKE, "Sky", "intake", "The camera cut off a part of the sky: see the remark."),
    (FLAT_AT_STAKE, "Flat", "correct", "The flat leans, and the target steps with it: see the "
     "remark."),
)  # fmt: skip


def doubts_of(session: Session, campaign: Campaign) -> list[Doubt]:
    """What is doubted of a campaign's times, bands, sky and flats."""
    remarks = session.scalars(
        select(RemarkRecord)
        .where(
            RemarkRecord.campaign_id == campaign.id,
            RemarkRecord.stage.in_([stage for _, _, stage, _ in _DOUBTS]),
        )
        .order_by(RemarkRecord.id)
    ).all()
    found = []
    for stake, what, stage, next_words in _DOUBTS:
        own = [remark for remark in remarks if stake in remark.matters]
        if own:
            found.append(Doubt(what, stage, next_words, own))
    return found
