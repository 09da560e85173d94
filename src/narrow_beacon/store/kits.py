"""What the observer says of kits: a campaign's, and the observatory's that it begins with."""

from __future__ import annotations

from dataclasses import asdict, replace
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.kits import OF_ALL, Kits, KitWord
from narrow_beacon.store.models import Campaign, KitWordRecord, NightFile

CONSTANTS = ("gain_e_per_adu", "read_noise_e", "linear_limit_adu", "scale_arcsec_per_px")
"""Words on a kit that a census is measured with; the others are on its masters."""


def word_to_json(word: KitWord) -> dict[str, Any]:
    """What is said, as plain values; what is not said is absent."""
    said = {name: value for name, value in asdict(word).items() if value is not None}
    return {**said, "marks": [list(mark) for mark in said["marks"]]} if "marks" in said else said


def word_from_json(values: dict[str, Any]) -> KitWord:
    """What ``word_to_json`` wrote."""
    marks = values.get("marks")
    taken = (
        None if marks is None else tuple((int(x), int(y), int(w), int(h)) for x, y, w, h in marks)
    )
    return KitWord(**{**values, "marks": taken})


def kits_to_json(kits: Kits, *, taken: bool = False) -> dict[str, Any]:
    """Words on kits, as a campaign keeps them; ``taken``: they are those that the observatory had
    when its chains were first made.
    """
    said = {name: word_to_json(word) for name, word in kits.said.items() if word != KitWord()}
    return {"said": said, "taken": taken}


def kits_of(session: Session, campaign: Campaign) -> Kits:
    """What is said of a campaign's kits; before its chains are first made the newest that was said
    of them anywhere, since a kit is the observatory's.
    """
    said: dict[str, KitWord] = {}
    old = campaign.defects
    if old:
        said[OF_ALL] = word_from_json({"defect_threshold": old["threshold"], "marks": old["marks"]})
    if campaign.kits is not None:
        own = {name: word_from_json(word) for name, word in campaign.kits["said"].items()}
        return Kits({**said, **{n: w.over(said.get(n, KitWord())) for n, w in own.items()}})
    kits = session.scalars(
        select(NightFile.kit)
        .where(NightFile.campaign_id == campaign.id, NightFile.part == "exposure")
        .distinct()
    ).all()
    for record in session.scalars(
        select(KitWordRecord).where(~KitWordRecord.withdrawn).order_by(KitWordRecord.id)
    ):
        if any(record.kit == kit or record.kit.startswith(f"{kit}, ") for kit in kits):
            words = dict(record.words)
            if old:
                words.pop("defect_threshold", None)
                words.pop("marks", None)
            said[record.kit] = word_from_json(words)
    return Kits(said)


def what_changes(before: dict[str, Any] | None, after: dict[str, Any] | None) -> tuple[bool, bool]:
    """Whether a campaign's words on kits differ in constants, and whether in anything else."""
    one, two = ((given or {}).get("said", {}) for given in (before, after))
    differ = {
        key
        for name in {*one, *two}
        for key in {*one.get(name, {}), *two.get(name, {})}
        if one.get(name, {}).get(key) != two.get(name, {}).get(key)
    }
    return bool(differ & set(CONSTANTS)), bool(differ - set(CONSTANTS))


def said_anew(
    session: Session, campaign: Campaign, name: str, word: KitWord
) -> tuple[KitWordRecord, dict[str, Any]]:
    """A new record of what is said of a kit, withdrawn until an action takes it up, and what the
    campaign then keeps.
    """
    kits = kits_of(session, campaign)
    record = KitWordRecord(
        kit=name,
        said=datetime.now(UTC).replace(tzinfo=None),
        words=word_to_json(word),
        campaign=campaign.name,
        withdrawn=True,
    )
    session.add(record)
    session.flush()
    return record, kits_to_json(replace(kits, said={**kits.said, name: word}))


def versions_of(session: Session, name: str) -> list[KitWordRecord]:
    """All that was said of a kit anywhere and not taken back, the newest first."""
    found = select(KitWordRecord).where(KitWordRecord.kit == name, ~KitWordRecord.withdrawn)
    return list(session.scalars(found.order_by(KitWordRecord.id.desc()).limit(50)))
