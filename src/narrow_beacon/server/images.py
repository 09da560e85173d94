"""Images for the page: 16-bit tiles of a pyramid, and cut-outs."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from apiflask import APIBlueprint
from flask import Response, request
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.apply import DEFECT, Chain, Workspace, correct
from narrow_beacon.core.curve.time import julian_year, places_at
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.core.frames.pyramid import TILE_PX
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import load
from narrow_beacon.reduce.context import load_chain
from narrow_beacon.server.night import image_version, placements_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.correct import CutoutQuery, ImageInfo, ImageQuery
from narrow_beacon.server.state import file_of, shared
from narrow_beacon.server.views import (
    NO_LIMIT,
    View,
    chain_record,
    view_of_file,
    view_of_master,
)
from narrow_beacon.store.models import Campaign, NightFile
from narrow_beacon.store.placements import solution_of
from narrow_beacon.store.sequences import stars_of

blueprint = APIBlueprint("images", __name__)
_A_DAY = "private, max-age=86400, immutable"


def _view(kind: str, number: int, off: str) -> View:
    if kind == "files":
        return view_of_file(number, off)
    if kind == "masters":
        return view_of_master(number, off)
    raise Problem(404, "No such kind of image", kind)


@blueprint.get("/api/images/<kind>/<int:number>")
@blueprint.input(ImageQuery, location="query", arg_name="query")
@blueprint.output(ImageInfo)
def info(kind: str, number: int, query: ImageQuery) -> ImageInfo:
    """Size, levels and brightness of an image."""
    return _info(_view(kind, number, query.off))


def _info(view: View) -> ImageInfo:
    height, width = view.shape
    b = view.brightness
    return ImageInfo(
        width=width, height=height, first=[n + 1 for n in view.showing.first],
        step=view.showing.step, levels=len(view.words), tile=TILE_PX,
        offset=b.offset, scale=b.scale, sky=b.sky, noise=b.noise, low=b.low, high=b.high,
        histogram=list(b.histogram), histogram_low=b.histogram_low,
        histogram_step=b.histogram_step,
    )  # fmt: skip


@blueprint.get("/api/files/<int:number>/cutout")
@blueprint.input(CutoutQuery, location="query", arg_name="query")
@blueprint.doc(hide=True)
def cutout(number: int, query: CutoutQuery) -> Response:
    """The corrected pixels about a place of an exposure, or about a star of the catalogue where it
    is placed, as little-endian 16-bit words; where it ends they are 0.
    """
    with shared().store.session() as session:
        file = file_of(session, number)
        record = chain_record(session, file)
        raw, quality = load(RawFile, file.raw), file.quality or {}
        version = image_version(file.sha256, record.fingerprint if record else "")
        place = _place_of_star(session, file, query.star) if query.star is not None else None
    x, y = place or (query.x, query.y)
    if raw.source is None or x is None or y is None:
        raise Problem(409, "No cut-out", "It is not known where on this exposure the star is.")
    report = load(ChainReport, record.report) if record else None
    try:
        pixels = _window(raw, report, round(x), round(y), query.half)
    except (UnreadableFileError, OSError) as error:
        raise Problem(409, "The image cannot be read", str(error)) from error
    known = pixels[np.isfinite(pixels)]
    sky = quality.get("sky_adu_per_px") or (float(np.median(known)) if known.size else 0.0)
    noise = quality.get("noise_adu") or 1.0
    low, scale = sky - 20.0 * noise, noise / 16.0
    words = np.clip(np.nan_to_num((pixels - low) / scale, nan=-1.0) + 1.0, 0, 65535)
    lasts = _A_DAY if query.version == version else "no-store"
    return Response(
        np.ascontiguousarray(words, "<u2").tobytes(), content_type="application/octet-stream",
        headers={
            "X-Offset": repr(float(low)), "X-Scale": repr(float(scale)), "X-Sky": repr(float(sky)),
            "X-Noise": repr(float(noise)), "Cache-Control": lasts,
        },
    )  # fmt: skip


def _place_of_star(session: Session, file: NightFile, row: int) -> tuple[float, float] | None:
    campaign = session.get_one(Campaign, file.campaign_id)
    placed = placements_of(session, [file.id]).get(file.id)
    if placed is None or campaign.catalogue_id is None or file.mid_utc is None:
        return None
    stars = stars_of(session, campaign)
    if row >= len(stars):
        return None
    ra, dec = places_at(stars.take(np.array([row])), julian_year(file.mid_utc))
    x, y = solution_of(placed).pixel(ra, dec)
    if not (np.isfinite(x[0]) and np.isfinite(y[0])):
        return None
    return float(np.clip(x[0], -1e6, 1e6)), float(np.clip(y[0], -1e6, 1e6))


def _window(raw: RawFile, report: ChainReport | None, x: int, y: int, half: int) -> Plane:
    """Corrected pixels (2 half + 1, 2 half + 1) about a pixel; NaN beyond the image."""
    source = raw.source
    assert source is not None
    side = 2 * half + 1
    found = np.full((side, side), np.nan, np.float32)
    x0, x1 = max(x - half, 0), min(x + half + 1, source.width)
    y0, y1 = max(y - half, 0), min(y + half + 1, source.height)
    if x0 >= x1 or y0 >= y1:
        return found
    column, row = source.place(x0, y0)
    part = replace(
        source, height=y1 - y0, width=x1 - x0, first=(int(column), int(row)),
        stored=source.stored_shape,
    )  # fmt: skip
    if report is None:
        pixels = read_pixels(part)
    else:
        whole = load_chain(report.folder)
        own = (slice(y0, y1), slice(x0, x1))
        defects = np.ascontiguousarray(whole.defects[own])
        chain = Chain(
            np.ascontiguousarray(whole.offset_adu[own]), np.ascontiguousarray(whole.gain[own]),
            defects, np.flatnonzero(defects & DEFECT).astype(np.int64),
        )  # fmt: skip
        pixels, _ = correct(part, chain, NO_LIMIT, Workspace.of_shape(y1 - y0, x1 - x0))
    found[y0 - y + half : y1 - y + half, x0 - x + half : x1 - x + half] = pixels
    return found


@blueprint.get("/api/images/<kind>/<int:number>/<int:level>/<int:column>/<int:row>")
@blueprint.doc(hide=True)
def tile(kind: str, number: int, level: int, column: int, row: int) -> Response:
    """A tile as little-endian 16-bit words, row by row from the image's first row; with
    ``facts=1`` what ``info`` says comes along, in X-Image.
    """
    view = _view(kind, number, request.args.get("off", ""))
    # A page that lags behind asks for pixels that there are no longer: not to be kept as those.
    lasts = _A_DAY if view.version and request.args.get("version") == view.version else "no-store"
    if level >= len(view.words):
        raise Problem(404, "No such level")
    words = view.words[level]
    y, x = row * TILE_PX, column * TILE_PX
    if y >= words.shape[0] or x >= words.shape[1]:
        raise Problem(404, "No such tile")
    part = words[y : y + TILE_PX, x : x + TILE_PX]
    headers = {
        "X-Tile-Width": str(part.shape[1]), "X-Tile-Height": str(part.shape[0]),
        "Cache-Control": lasts,
    }  # fmt: skip
    if request.args.get("facts"):
        headers["X-Image"] = _info(view).model_dump_json()
    return Response(
        np.ascontiguousarray(part, "<u2").tobytes(), content_type="application/octet-stream",
        headers=headers,
    )  # fmt: skip
