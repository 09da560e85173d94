"""The observer's rules of vetting: thresholds, limits, the reference exposure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from apiflask import APIBlueprint
from sqlalchemy.orm import Session

from narrow_beacon.core.stars.limits import QUALITIES, Limit
from narrow_beacon.core.stars.troubles import USUAL_RULES, VetRules
from narrow_beacon.jobs.proposals import apply_limits, limit_values, propose_by_looks
from narrow_beacon.plan_keys import limits_of
from narrow_beacon.server.night import exposures_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.night import LimitIn, LimitOut, RulesIn, VettingIn, VettingOut
from narrow_beacon.server.state import campaign_of, changing, files_in, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import queue_job
from narrow_beacon.store.files import files_of
from narrow_beacon.store.models import Campaign, NightFile
from narrow_beacon.store.vetting import rules_of

blueprint = APIBlueprint("vetting", __name__)
_ASKED = ("above", "below", "filter", "night")


@blueprint.get("/api/campaigns/<int:number>/vetting")
@blueprint.output(VettingOut)
def vetting(number: int) -> VettingOut:
    """Rules, limits with what each drops, and the reference."""
    with shared().store.session() as session:
        return _vetting(session, campaign_of(session, number))


def _vetting(session: Session, campaign: Campaign) -> VettingOut:
    said = rules_of(campaign)
    files = exposures_of(session, campaign) if said.limits else ()
    values = limit_values(session, campaign, files)
    reference = campaign.reference or {}
    return VettingOut(
        rules=RulesIn(**asdict(said.rules)),
        usual=RulesIn(**asdict(USUAL_RULES)),
        limits=[
            LimitOut(
                **asdict(limit), words=limit.words,
                drops=sum(
                    limit.drops(*values[file.id])
                    for file in files
                    if file.id in values
                    and not file.trouble
                    and not file.kept
                    and file.aside_by in ("", "limit")
                ),
            )
            for limit in said.limits
        ],
        qualities=QUALITIES,
        reference=reference.get("file"),
        reference_by=reference.get("by", ""),
        reference_words=reference.get("words", ""),
    )  # fmt: skip


def _exposures(session: Session, campaign: Campaign) -> list[NightFile]:
    return [file for file in files_of(session, campaign) if file.part == "exposure"]


@blueprint.put("/api/campaigns/<int:number>/vetting")
@blueprint.input(VettingIn, arg_name="body")
@blueprint.output(VettingOut)
def change_vetting(number: int, body: VettingIn) -> VettingOut:
    """Change rules, limits or the reference; what follows from it is put forward or done at once,
    and can be taken back.
    """
    with changing(number) as (session, campaign):
        if body.rules is not None:
            _change_rules(session, campaign, VetRules(**body.rules.model_dump()))
        if body.limits is not None:
            _change_limits(session, campaign, _limits(body.limits))
        if body.reference is not None:
            _change_reference(session, campaign, body.reference)
        campaign.revision += 1
        session.flush()
        return _vetting(session, campaign)


def _limits(sent: Sequence[LimitIn]) -> tuple[Limit, ...]:
    plain = []
    for one in sent:
        known = {key: getattr(one, key) for key in _ASKED if getattr(one, key) not in (None, "")}
        plain.append({"quality": one.quality, **known})
    try:
        return limits_of(plain)
    except ValueError as error:
        raise Problem(422, "Not a limit", f"A limit {error}.") from error


def _change_rules(session: Session, campaign: Campaign, rules: VetRules) -> None:
    after = {**(campaign.vetting or {}), "rules": asdict(rules)}
    act(
        session, campaign, "changed from where on exposures are put forward",
        [Change("campaign", campaign.id, "vetting", after)],
    )  # fmt: skip
    propose_by_looks(session, campaign)


def _change_limits(session: Session, campaign: Campaign, limits: tuple[Limit, ...]) -> None:
    """Keep the limits, set aside what lies beyond them, and take back what does no longer."""
    after = {**(campaign.vetting or {}), "limits": [asdict(limit) for limit in limits]}
    apply_limits(
        session, campaign, _exposures(session, campaign), limits,
        [Change("campaign", campaign.id, "vetting", after)],
    )  # fmt: skip


def _change_reference(session: Session, campaign: Campaign, number: int) -> None:
    after = None
    words = "let the program choose the reference exposure"
    if number:
        (file,) = files_in(session, campaign, [number])
        after = {"file": number, "by": "observer", "words": "chosen by the observer"}
        words = f"chose {file.name.rsplit('/', 1)[-1]} as the reference exposure"
    act(session, campaign, words, [Change("campaign", campaign.id, "reference", after)])
    queue_job(session, campaign, "look")
