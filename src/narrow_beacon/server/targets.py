"""Several targets in one field: another one is followed, brought to the front, left again."""

from __future__ import annotations

from apiflask import APIBlueprint
from flask import Response
from sqlalchemy.orm import Session

from narrow_beacon.reduce.curves import joint_cast
from narrow_beacon.server.curve import describe_curves
from narrow_beacon.server.curves import chosen_parts
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.curve import CurveOut
from narrow_beacon.server.schemas.stars import FrontIn, TargetIn
from narrow_beacon.server.state import changing, quick
from narrow_beacon.store.actions import Change, act, new_cast, new_recipe
from narrow_beacon.store.models import Campaign, CastRecord
from narrow_beacon.store.sequences import stars_of
from narrow_beacon.store.targets import KeptTarget, front_place, front_values, targets_of

blueprint = APIBlueprint("targets", __name__)
_MOST = 100


@blueprint.post("/api/campaigns/<int:number>/targets")
@blueprint.input(TargetIn, arg_name="body")
@blueprint.output(CurveOut)
def follow(number: int, body: TargetIn) -> Response:
    """Follow another star of the field, with a cast of its own; the answer is its curve."""
    with changing(number) as (session, campaign):
        if campaign.catalogue_id is None or campaign.cast_id is None:
            raise Problem(409, "No cast yet", "Measure the night first, with its first target.")
        stars = stars_of(session, campaign)
        if not 0 <= body.row < len(stars):
            raise Problem(422, "No such star", "The catalogue has changed; reload the page.")
        known = targets_of(campaign)
        for place, one in enumerate(known):
            if one.cast_id and session.get_one(CastRecord, one.cast_id).target == body.row:
                return _bring(session, campaign, known, place, f"turned to {one.name}")
        if len(known) >= _MOST:
            raise Problem(409, "Too many targets", f"A campaign follows up to {_MOST}.")
        name = stars.names[body.row]
        curves = chosen_parts(session, campaign, body.row)
        if not curves:
            raise Problem(409, "No curve of it", f"{name} could not be measured in any filter.")
        cast = joint_cast(curves)
        reasons = {str(stars.row(star)): words for star, words in cast.reasons}
        dropped = {str(stars.row(one.name)): one.reason for one in cast.dropped}
        record = new_cast(
            session, campaign, body.row, cast.comparison, cast.checks, reasons, dropped
        )
        record.automatic = True
        steps = {curve.filter: curve.choice.step for curve in curves}
        recipe = new_recipe(session, campaign, steps, automatic=True)
        own = KeptTarget(
            name, float(stars.ra_deg[body.row]), float(stars.dec_deg[body.row]), True,
            cast_id=record.id, recipe_id=recipe.id,
        )  # fmt: skip
        return _bring(session, campaign, [*known, own], len(known), f"followed {name}, too")


@blueprint.post("/api/campaigns/<int:number>/targets/front")
@blueprint.input(FrontIn, arg_name="body")
@blueprint.output(CurveOut)
def bring_to_front(number: int, body: FrontIn) -> Response:
    """Make another of the campaign's targets the one that every screen is about."""
    with changing(number) as (session, campaign):
        known = targets_of(campaign)
        name = _named(known, body.place).name
        return _bring(session, campaign, known, body.place, f"turned to {name}")


@blueprint.delete("/api/campaigns/<int:number>/targets/<int:place>")
@blueprint.output(CurveOut)
def leave(number: int, place: int) -> Response:
    """Follow a target no longer; its census, points and reports stay."""
    with changing(number) as (session, campaign):
        known = targets_of(campaign)
        name = _named(known, place).name
        if len(known) == 1:
            raise Problem(409, "The only target", "Give its part to another star instead.")
        front = front_place(campaign)
        rest = [one for at, one in enumerate(known) if at != place]
        front = front - 1 if place < front else min(front, len(rest) - 1)
        return _bring(session, campaign, rest, front, f"followed {name} no longer")


def _named(known: list[KeptTarget], place: int) -> KeptTarget:
    if place >= len(known):
        raise Problem(404, "No such target", "Another page may have left it; reload this one.")
    return known[place]


def _bring(
    session: Session, campaign: Campaign, targets: list[KeptTarget], front: int, words: str
) -> Response:
    values = front_values(campaign, targets, front)
    changes = [Change("campaign", campaign.id, field, value) for field, value in values.items()]
    act(session, campaign, words, changes)
    return quick(describe_curves(session, campaign))
