"""Defects: what counts as one, seen on an exposure before it is kept."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from apiflask import APIBlueprint
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.correct.defects import DefectRule, deviations
from narrow_beacon.core.correct.masters import MasterFacts, read_master
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.night import curves_now
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.correct import DefectsIn, DefectsOut
from narrow_beacon.server.state import campaign_of, changing, file_of, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import chains_of, defects_of, defects_to_json
from narrow_beacon.store.models import Campaign, MasterRecord, NightFile

blueprint = APIBlueprint("defects", __name__)
_LISTED = 20_000
_LEAST_DEVIATION = 5.0
_APERTURE_STEP = 6


@blueprint.get("/api/campaigns/<int:number>/defects/<int:file>")
@blueprint.output(DefectsOut)
def defects(number: int, file: int) -> DefectsOut:
    """The rule in force, the pixels of the exposure's dark that depart, and the stars that a repair
    would touch.
    """
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        exposure = file_of(session, file)
        rule = defects_of(session, campaign)
        own = bool(campaign.defects) and not (campaign.defects or {}).get("taken")
        plane = _dark(session, campaign, chains_of(session, campaign).get(exposure.chain or ""))
        stars = _stars(session, campaign, exposure)
    z = np.abs(deviations(plane)) if plane is not None else np.zeros((1, 1), np.float32)
    at = np.flatnonzero(z > _LEAST_DEVIATION)
    at = at[np.argsort(-z.ravel()[at], kind="stable")]
    y, x = np.divmod(at[:_LISTED], z.shape[1])
    return DefectsOut(
        threshold=rule.threshold, own=own,
        marks=[[m[0] + 1, m[1] + 1, m[2], m[3]] for m in rule.marks],
        x_px=x.tolist(), y_px=y.tolist(),
        deviation=np.round(z[y, x].astype(float), 1).tolist(), more=at.size > _LISTED,
        stars=_touched(z, *stars) if plane is not None else [],
    )  # fmt: skip


def _dark(session: Session, campaign: Campaign, chain: ChainReport | None) -> Plane | None:
    """The master dark of a chain, whole; None where it has none."""
    if chain is None:
        return None
    for record in session.scalars(
        select(MasterRecord).where(MasterRecord.campaign_id == campaign.id)
    ):
        facts = load(MasterFacts, record.facts)
        if facts.key in chain.masters and facts.kind in ("dark", "flat dark"):
            try:
                return read_master(Path(record.path)).plane
            except UnreadableFileError as error:
                raise Problem(409, "The master cannot be read", str(error)) from error
    return None


def _stars(
    session: Session, campaign: Campaign, exposure: NightFile
) -> tuple[Floats, Floats, float]:
    """Places of the measured stars on an exposure, and the usual aperture's radius."""
    now = curves_now(session, campaign, everything=True)
    table = now.tables.get(exposure.filter or "") if now else None
    if table is None or exposure.id not in table.file_ids:
        return np.empty(0), np.empty(0), 0.0
    census = table.exposure(list(table.file_ids).index(exposure.id))
    return census.x_px, census.y_px, float(census.radii_px[_APERTURE_STEP])


def _touched(z: Plane, x: Floats, y: Floats, radius: float) -> list[float]:
    reach = int(np.ceil(radius))
    height, width = z.shape
    found = []
    for column, row in zip(np.rint(x).astype(int), np.rint(y).astype(int), strict=True):
        rows = slice(max(row - reach, 0), min(row + reach + 1, height))
        part = z[rows, max(column - reach, 0) : min(column + reach + 1, width)]
        found.append(round(float(part.max()), 1) if part.size else 0.0)
    return found


@blueprint.put("/api/campaigns/<int:number>/defects")
@blueprint.input(DefectsIn, arg_name="body")
@blueprint.output(Done)
def change(number: int, body: DefectsIn) -> Done:
    """Keep another rule; the chains are made anew with it, and new campaigns of the camera begin
    with it.
    """
    for x, y, width, height in body.marks:
        if min(x, y, width, height) < 1:
            raise Problem(422, "Not a mark", "Give x, y, width and height in pixels from 1.")
    rule = DefectRule(body.threshold, tuple((x - 1, y - 1, w, h) for x, y, w, h in body.marks))
    with changing(number) as (session, campaign):
        marks = f", {counted(len(rule.marks), 'mark')}" if rule.marks else ""
        words = f"changed defects: beyond {rule.threshold:g} σ{marks}"
        after = defects_to_json(rule)
        entry = act(session, campaign, words, [Change("campaign", campaign.id, "defects", after)])
        return Done(words=entry.words if entry else "Nothing to change.")
