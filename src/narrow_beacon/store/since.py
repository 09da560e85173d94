"""What was changed since stars were measured, told from the log and from the chains: a change that
was taken back is none, and one that came while it was measured is.
"""

from __future__ import annotations

from collections.abc import Sequence, Set

from sqlalchemy import Select, select, update
from sqlalchemy.orm import Session

from narrow_beacon.store.models import Campaign, CensusFile, ChainRecord, LogEntry


def in_force(session: Session, campaign: Campaign) -> Set[int]:
    """The actions that a census which is begun now is made with."""
    return set(session.scalars(_touching(campaign.id).where(~LogEntry.undone)))


def tell_measured(session: Session, campaign: Campaign, with_entries: Set[int]) -> None:
    """The census in force was made with these actions, and with the chains as they are."""
    touching = set(session.scalars(_touching(campaign.id)))
    for entries, measured in ((touching & with_entries, True), (touching - with_entries, False)):
        session.execute(
            update(LogEntry).where(LogEntry.id.in_(entries)).values(measured=measured)
        )  # fmt: skip
    campaign.measured_chains = _chains(session, campaign)
    tell_changes(session, campaign)


def tell_changes(session: Session, campaign: Campaign) -> None:
    """Keep in words what a census was made with and is another now; nothing before there is one."""
    session.flush()
    census = select(CensusFile.id).where(CensusFile.campaign_id == campaign.id)
    if session.scalars(census).first() is None:
        return
    other = select(LogEntry.touched).where(
        LogEntry.campaign_id == campaign.id,
        LogEntry.touched != "",
        LogEntry.undone == LogEntry.measured,
    )
    words = [word for touched in session.scalars(other) for word in touched.split(", ")]
    if campaign.measured_chains is None:  # measured by a version that did not keep them
        words = [*campaign.changed_since.split(", "), *words]
    else:
        now = _chains(session, campaign)
        made = campaign.measured_chains
        if any(now[name] != made[name] for name in now.keys() & made.keys()):
            words.append("masters")
    campaign.changed_since = ", ".join(dict.fromkeys(word for word in words if word))


def touches(words: Sequence[str]) -> str:
    """What an action touches of what a census is made with, as its entry keeps it."""
    return ", ".join(dict.fromkeys(words))


def _touching(campaign: int) -> Select[int]:
    return select(LogEntry.id).where(LogEntry.campaign_id == campaign, LogEntry.touched != "")


def _chains(session: Session, campaign: Campaign) -> dict[str, str]:
    """The names of the chains' contents, by chain."""
    chains = select(ChainRecord.name, ChainRecord.fingerprint).where(
        ChainRecord.campaign_id == campaign.id
    )
    return {name: made for name, made in session.execute(chains)}
