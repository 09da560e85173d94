"""Correct: chains with their stations, masters, what is doubtful about them."""

from __future__ import annotations

from apiflask import APIBlueprint
from sqlalchemy import func, select

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.reduce.chain_plan import LEFT_OUT
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.night import master_version
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.correct import (
    ChainOut,
    CorrectOut,
    MasterOut,
    MasterPick,
    OptionOut,
    StationOut,
)
from narrow_beacon.server.state import campaign_of, changing, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import chains_of
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
    used = {key for chain in chains.values() for key in chain.masters}
    labels = {facts.key: facts.label for r in masters for facts in [load(MasterFacts, r.facts)]}
    return CorrectOut(
        chains=[_chain(chain, counts.get(chain.name, 0)) for chain in chains.values()],
        masters=[_master(record, used, labels) for record in masters],
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
        options=[
            OptionOut(**vars(option) | {"remarks": list(option.remarks)})
            for option in chain.options
        ],
        left_out=list(chain.left_out),
    )


@blueprint.post("/api/campaigns/<int:number>/masters/pick")
@blueprint.input(MasterPick, arg_name="body")
@blueprint.output(Done)
def pick(number: int, body: MasterPick) -> Done:
    """Correct a kind of exposure with another master; its chain is made anew then."""
    with changing(number) as (session, campaign):
        chain = chains_of(session, campaign).get(body.chain)
        if chain is None:
            raise Problem(404, "No such chain", "The masters were built anew; look again.")
        offered = {option.key: option.label for option in chain.options if option.step == body.step}
        labels = {"": "the best that fits", LEFT_OUT: "none", **offered}
        if body.key not in labels:
            raise Problem(422, "No such master", f"{body.key} is no {body.step} for {body.chain}.")
        picks = {**campaign.picks.get(chain.name, {}), body.step: body.key}
        kept = {step: key for step, key in picks.items() if key}
        after = {name: p for name, p in {**campaign.picks, chain.name: kept}.items() if p}
        words = f"picked {body.step} for {chain.name}: {labels[body.key]}"
        entry = act(session, campaign, words, [Change("campaign", campaign.id, "picks", after)])
        return Done(words=entry.words if entry else "Nothing to change.")


def _master(record: MasterRecord, used: set[str], labels: dict[str, str]) -> MasterOut:
    facts = load(MasterFacts, record.facts)
    return MasterOut(
        id=record.id, label=facts.label, kind=facts.kind, filter=facts.filter or "",
        exposure_s=facts.exposure_s, temperature_c=facts.temperature_c, night=facts.night,
        count=facts.count, level_adu=facts.level_adu, clipped_share=facts.clipped_share,
        made_with=[labels.get(key, key) for key in facts.made_with], used=facts.key in used,
        camera=facts.camera or "", version=master_version(record),
    )  # fmt: skip
