"""Which masters the steps of a chain could use, and what the observer picks of them."""

from __future__ import annotations

from apiflask import APIBlueprint
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.correct.lean import LEAN, Lean, lean_in
from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.reduce.chain_plan import LEFT_OUT, can_be_picked, options_of, rules_of
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.correct import ChainQuery, MasterPick, OptionOut, OptionsOut
from narrow_beacon.server.state import campaign_of, changing, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.files import frame_of
from narrow_beacon.store.kits import kits_of
from narrow_beacon.store.models import Campaign, MasterRecord, NightFile, RemarkRecord

blueprint = APIBlueprint("picks", __name__)


@blueprint.get("/api/campaigns/<int:number>/correct/options")
@blueprint.input(ChainQuery, location="query", arg_name="query")
@blueprint.output(OptionsOut)
def options(number: int, query: ChainQuery) -> OptionsOut:
    """What every step of a chain could use, and how well each fits."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        frame, masters = _chain_of(session, campaign, query.chain)
        told = _lean_told(session, number, query.chain)
        rules = rules_of(frame, kits_of(session, campaign))
        picks = campaign.picks.get(query.chain, {})
    found = options_of(frame, masters, picks, rules)
    return OptionsOut(
        options=[
            OptionOut(**vars(option) | {"remarks": list(option.remarks), "fit": list(option.fit)})
            for option in found.told
        ]
        + _lean_options(told, Lean.of(picks[LEAN]).text if LEAN in picks else ""),
        more=dict(found.more),
    )


def _chain_of(session: Session, campaign: Campaign, name: str) -> tuple[Frame, list[MasterFacts]]:
    """An exposure of a chain, and all masters that there are. Raises Problem."""
    file = session.scalars(
        select(NightFile)
        .where(
            NightFile.campaign_id == campaign.id, NightFile.chain == name,
            NightFile.part == "exposure",
        )
        .order_by(NightFile.mid_utc, NightFile.id)
        .limit(1)
    ).first()  # fmt: skip
    frame = frame_of(session, campaign, file) if file is not None else None
    if frame is None:
        raise Problem(404, "No such chain", "The masters were built anew; look again.")
    records = session.scalars(
        select(MasterRecord)
        .where(MasterRecord.campaign_id == campaign.id)
        .order_by(MasterRecord.id)
    )
    return frame, [load(MasterFacts, record.facts) for record in records]


def _lean_told(session: Session, number: int, chain: str) -> str:
    """By how much the stars say that the flat of a chain leans; empty where they don't."""
    remedies = dict(
        session.execute(
            select(RemarkRecord.about, RemarkRecord.remedy).where(
                RemarkRecord.campaign_id == number, RemarkRecord.stage == "correct"
            )
        ).all()
    )
    groups = session.scalars(
        select(NightFile.group_name)
        .where(NightFile.campaign_id == number, NightFile.chain == chain)
        .distinct()
    )
    return next((text for group in groups if (text := lean_in(remedies.get(group, "")))), "")


def _lean_options(told: str, taken: str) -> list[OptionOut]:
    words = {told: "as the stars show", taken: "as chosen"}
    return [
        OptionOut(
            step="lean", key=text, label=Lean.of(text).words, words=words[text], remarks=[],
            picked=text == taken, grade="", fit=[], differs="",
        )
        for text in words
        if text
    ]  # fmt: skip


@blueprint.post("/api/campaigns/<int:number>/masters/pick")
@blueprint.input(MasterPick, arg_name="body")
@blueprint.output(Done)
def pick(number: int, body: MasterPick) -> Done:
    """Correct a kind of exposure with another master; its chain is made anew then."""
    with changing(number) as (session, campaign):
        frame, masters = _chain_of(session, campaign, body.chain)
        label = _label(body, frame, masters)
        picks = {**campaign.picks.get(body.chain, {}), body.step: body.key}
        kept = {step: key for step, key in picks.items() if key}
        after = {name: p for name, p in {**campaign.picks, body.chain: kept}.items() if p}
        words = f"picked {body.step} for {body.chain}: {label}"
        entry = act(session, campaign, words, [Change("campaign", campaign.id, "picks", after)])
        return Done(words=entry.words if entry else "Nothing to change.")


def _label(body: MasterPick, frame: Frame, masters: list[MasterFacts]) -> str:
    """What is picked, in words. Raises Problem where it can't be."""
    if body.step == LEAN:
        try:
            return Lean.of(body.key).words if body.key else "as the flat is"
        except ValueError as error:
            raise Problem(422, "No such lean", f"It {error}.") from error
    if not body.key or body.key == LEFT_OUT:
        return "none" if body.key else "the best that fits"
    found = can_be_picked(body.step, frame, masters, body.key)
    if found is None:
        raise Problem(422, "No such master", f"{body.key} is no {body.step} for {body.chain}.")
    return found.label
