"""Rules for the points of the curves, and what is taken out of them."""

from __future__ import annotations

from dataclasses import asdict

from apiflask import APIBlueprint
from flask import Response

from narrow_beacon.server.curve import describe_curves
from narrow_beacon.server.schemas.curve import CurveOut, PointsSaid
from narrow_beacon.server.state import campaign_of, changing, quick, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.points import points_of

blueprint = APIBlueprint("points", __name__)


@blueprint.get("/api/campaigns/<int:number>/points")
@blueprint.output(PointsSaid)
def points(number: int) -> PointsSaid:
    """The rules in force."""
    with shared().store.session() as session:
        return PointsSaid(**asdict(points_of(campaign_of(session, number))))


@blueprint.put("/api/campaigns/<int:number>/points")
@blueprint.input(PointsSaid, arg_name="body")
@blueprint.output(CurveOut)
def say_of_points(number: int, body: PointsSaid) -> Response:
    """Other rules; the answer is the curve that they make. Can be undone."""
    said = body.model_dump()
    with changing(number) as (session, campaign):
        if said != PointsSaid(**asdict(points_of(campaign))).model_dump():
            change = Change("campaign", campaign.id, "points", said)
            act(session, campaign, "changed what is asked of the points", [change])
        return quick(describe_curves(session, campaign))
