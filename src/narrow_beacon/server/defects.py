"""Defects: what counts as one, seen on an exposure before it is kept."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from apiflask import APIBlueprint
from astropy.io import fits
from flask import Response
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.correct.defect_file import MOST_MARKS, read_marks, write_marks
from narrow_beacon.core.correct.defects import USUAL_DEFECTS, defects_said
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.kits import KitWord
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.context import load_chain
from narrow_beacon.server.curves import curves_now
from narrow_beacon.server.kit_defects import seen_on
from narrow_beacon.server.kits import say
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.correct import (
    DefectsIn,
    DefectsOut,
    DefectVersion,
    MapIn,
    MapQuery,
)
from narrow_beacon.server.state import campaign_of, changing, file_of, files_in, shared
from narrow_beacon.store.campaigns import chains_of
from narrow_beacon.store.kits import kits_of, versions_of
from narrow_beacon.store.models import Campaign, NightFile

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
        kit = exposure.kit or ""
        own = not (campaign.kits or {"taken": True}).get("taken")
        versions = [
            DefectVersion(
                id=record.id, said=record.said.isoformat(timespec="seconds"),
                campaign=record.campaign,
                threshold=float(record.words.get("defect_threshold", USUAL_DEFECTS.threshold)),
                marks=[_shown(mark) for mark in record.words.get("marks", [])],
            )
            for record in versions_of(session, kit)
            if "defect_threshold" in record.words or "marks" in record.words
        ]  # fmt: skip
        seen = seen_on(session, campaign, exposure)
        stars = _stars(session, campaign, exposure)
    z, source = seen.deviations(), seen.frame.source
    at = np.flatnonzero(z > _LEAST_DEVIATION)
    at = at[np.argsort(-z.ravel()[at], kind="stable")]
    y, x = np.divmod(at[:_LISTED], z.shape[1])
    return DefectsOut(
        kit=kit, threshold=seen.threshold, own=own, versions=versions,
        on_exposures=seen.sky is not None,
        first=[n + 1 for n in source.first], step=source.step,
        marks=[_shown(mark) for mark in seen.rule.marks],
        x_px=x.tolist(), y_px=y.tolist(),
        deviation=np.round(z[y, x].astype(float), 1).tolist(), more=at.size > _LISTED,
        stars=_touched(z, *stars),
        star_x_px=np.round(stars[0], 1).tolist(), star_y_px=np.round(stars[1], 1).tolist(),
        radius_px=stars[2],
    )  # fmt: skip


def _stars(
    session: Session, campaign: Campaign, exposure: NightFile
) -> tuple[Floats, Floats, float]:
    """Places of the measured stars on an exposure, and the usual aperture's radius."""
    now = curves_now(session, campaign, everything=True)
    table = now.tables.get(exposure.filter or "") if now else None
    if table is None or exposure.id not in table.places:
        return np.empty(0), np.empty(0), 0.0
    at = np.array([table.places[exposure.id]])
    rows = table.measured_rows(at)
    x, y = (table.scalar(name, at, rows)[0] for name in ("x_px", "y_px"))
    return x, y, float(table.radii_px(int(at[0]))[_APERTURE_STEP])


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
    marks = tuple((x - 1, y - 1, w, h) for x, y, w, h in body.marks)
    with changing(number) as (session, campaign):
        kit = files_in(session, campaign, [body.file])[0].kit or ""
        before = kits_of(session, campaign)
        now = defects_said(before.word(kit))
        if (now.threshold, now.marks) == (body.threshold, marks):
            return Done(words="Nothing to change.")
        word = replace(
            before.said.get(kit, KitWord()), defect_threshold=body.threshold, marks=marks
        )
        told = f", {counted(len(marks), 'mark')}" if marks else ""
        words = say(
            session, campaign, kit, word, f"changed defects: beyond {body.threshold:g} σ{told}"
        )
    return Done(words=words)


@blueprint.get("/api/campaigns/<int:number>/defects/<int:file>/map")
@blueprint.input(MapQuery, location="query", arg_name="query")
@blueprint.doc(hide=True)
def save_map(number: int, file: int, query: MapQuery) -> Response:
    """The defect map of an exposure's kit: as an image, 1 where a pixel is repaired; or what was
    marked as a table.
    """
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        exposure = files_in(session, campaign, [file])[0]
        rule = defects_said(kits_of(session, campaign).word(exposure.kit or ""))
        chain = chains_of(session, campaign).get(exposure.chain or "")
        camera = exposure.kit or "camera"
    name = re.sub(r"[^A-Za-z0-9.-]+", "-", camera).strip("-")
    if query.form == "csv":
        content, kind = write_marks(rule.marks).encode(), "text/csv"
    else:
        if chain is None:
            raise Problem(409, "No map yet", "Build the masters in Correct first.")
        header = fits.Header()
        header["IMAGETYP"] = ("defect map", "not 0 where a pixel is repaired")
        header["THRESH"] = (rule.threshold, "robust sigmas of the master dark")
        header["KIT"] = camera.replace("×", "x").encode("ascii", "replace").decode()[:60]
        out = io.BytesIO()
        flags = (load_chain(chain.folder).defects != 0).astype(np.uint8)
        fits.PrimaryHDU(flags, header).writeto(out)
        content, kind = out.getvalue(), "application/fits"
    response = Response(content, content_type=kind)
    response.headers["Content-Disposition"] = f"attachment; filename=defects-{name}.{query.form}"
    return response


@blueprint.post("/api/campaigns/<int:number>/defects/map")
@blueprint.input(MapIn, arg_name="body")
@blueprint.output(Done)
def take_map(number: int, body: MapIn) -> Done:
    """Add the marks of a file to those of an exposure's kit: a table, or an image of its size."""
    path = shared().folders.check(body.path)
    try:
        marks = read_marks(path)
    except (UnreadableFileError, OSError) as error:
        raise Problem(422, "Not a defect map", str(error)) from error
    if not marks:
        raise Problem(422, "Nothing marked", f"{path.name} marks no pixel.")
    with changing(number) as (session, campaign):
        kit = files_in(session, campaign, [body.file])[0].kit or ""
        kits = kits_of(session, campaign)
        rule = defects_said(kits.word(kit))
        kept = tuple(dict.fromkeys((*rule.marks, *marks)))
        if len(kept) > MOST_MARKS:
            raise Problem(422, "Too many marks", f"{len(kept):,}; {MOST_MARKS:,} at most.")
        word = replace(kits.said.get(kit, KitWord()), defect_threshold=rule.threshold, marks=kept)
        words = f"took over {counted(len(marks), 'mark')} of {path.name}"
        return Done(words=say(session, campaign, kit, word, words))


def _shown(mark: Sequence[int]) -> list[int]:
    """A mark as the page has it: counted from 1."""
    return [mark[0] + 1, mark[1] + 1, mark[2], mark[3]]
