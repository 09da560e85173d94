"""Correct: chains with their stations, masters, what is doubtful about them."""

from __future__ import annotations

from apiflask import APIBlueprint
from sqlalchemy import func, select

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.reduce.calibrate import ChainReport
from narrow_beacon.server.schemas import ChainOut, CorrectOut, MasterOut, StationOut
from narrow_beacon.server.state import campaign_of, shared
from narrow_beacon.store.campaigns import chains_of
from narrow_beacon.store.codec import load
from narrow_beacon.store.models import MasterRecord, NightFile

blueprint = APIBlueprint("correct", __name__)


@blueprint.get("/api/campaigns/<int:number>/correct")
@blueprint.output(CorrectOut)
def correct(number: int) -> CorrectOut:
    """The chains from raw to corrected, and the masters that they are made of."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        chains = chains_of(session, campaign)
        counts = dict(
            session.execute(
                select(NightFile.chain, func.count())
                .where(NightFile.campaign_id == number, NightFile.part == "exposure")
                .group_by(NightFile.chain)
            ).all()
        )
        masters = session.scalars(
            select(MasterRecord).where(MasterRecord.campaign_id == number).order_by(MasterRecord.id)
        ).all()
        remarks = [words for words in campaign.remarks if words.startswith("dust moved")]
    used = {label for chain in chains.values() for label in chain.masters}
    return CorrectOut(
        chains=[_chain(chain, counts.get(chain.name, 0)) for chain in chains.values()],
        masters=[_master(record, used) for record in masters],
        remarks=remarks,
    )


def _chain(chain: ChainReport, exposures: int) -> ChainOut:
    said = {words for station in chain.stations for words in station.remarks}
    return ChainOut(
        name=chain.name,
        exposures=exposures,
        stations=[
            StationOut(kind=s.kind, words=s.words, master=s.master, remarks=list(s.remarks))
            for s in chain.stations
        ],
        missing=[words for words in chain.remarks if words not in said],
        defects=chain.defects,
    )


def _master(record: MasterRecord, used: set[str]) -> MasterOut:
    facts = load(MasterFacts, record.facts)
    return MasterOut(
        id=record.id, label=facts.label, kind=facts.kind, filter=facts.filter or "",
        exposure_s=facts.exposure_s, temperature_c=facts.temperature_c, night=facts.night,
        count=facts.count, level_adu=facts.level_adu, clipped_share=facts.clipped_share,
        made_with=list(facts.made_with), used=facts.label in used,
    )  # fmt: skip
