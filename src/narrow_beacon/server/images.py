"""Images as 16-bit tiles of a pyramid: exposures, raw or with any stations of their chain off, and
masters.
"""

from __future__ import annotations

import re
import threading
from collections import OrderedDict, deque
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np
from apiflask import APIBlueprint
from astropy.io import fits
from flask import Response, request
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.apply import DEFECT, Chain, Workspace, correct
from narrow_beacon.core.correct.masters import Master, MasterFacts, read_master
from narrow_beacon.core.curve.time import julian_year, places_at
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.core.frames.pyramid import (
    TILE_PX,
    halve,
    level_count,
    measure_brightness,
    to_words,
)
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import load
from narrow_beacon.reduce.combining import map_of_rejected
from narrow_beacon.reduce.context import load_chain
from narrow_beacon.server.kit_defects import tried_defects
from narrow_beacon.server.night import image_version, master_version, placements_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.correct import CutoutQuery, ImageInfo, ImageQuery
from narrow_beacon.server.state import file_of, shared
from narrow_beacon.store.models import Campaign, ChainRecord, MasterRecord, NightFile
from narrow_beacon.store.placements import solution_of
from narrow_beacon.store.sequences import stars_of

blueprint = APIBlueprint("images", __name__)
RAW = "overscan,offset,flat,repair"
"""The stations that are off where an exposure is shown raw."""
_KEPT_BYTES = 128_000_000
_NO_LIMIT = 1e9
_EVEN_SIGMA = 6.0
_LEAST_FLAT = 0.05
_LEAST_THRESHOLD = 3.0
_OVER = re.compile(r"over(\d+)")
REJECTED = "rejected"
_OF_COUNTS = 0.07
"""Stands for noise where there is none: three values left out show as bright as a star."""
_RESIDUAL = re.compile(r"residual(\d+(?:\.\d+)?)")
_A_DAY = "private, max-age=86400, immutable"


class View:
    """An image with its pyramid, made level by level as it is asked for."""

    def __init__(
        self, pixels: Plane, version: str, *, even: bool = False, noise: float | None = None
    ) -> None:
        self.pixels, self.version = pixels, version
        self.first: tuple[int, int] = (0, 0)
        self.step = 1
        self.brightness = measure_brightness(pixels, noise)
        if even:
            # What departs to either side matters alike.
            b = self.brightness
            reach = _EVEN_SIGMA * b.noise
            self.brightness = replace(b, low=b.sky - reach, high=b.sky + reach)
        self._levels: list[Plane] = [pixels]
        self._words: dict[int, NDArray[np.uint16]] = {}
        self._lock = threading.Lock()

    @property
    def bytes(self) -> int:
        """About what it holds when all of it is made."""
        return int(self.pixels.nbytes * 2)

    def words(self, level: int) -> NDArray[np.uint16]:
        """A level as words (height, width)."""
        with self._lock:
            while len(self._levels) <= level:
                self._levels.append(halve(self._levels[-1]))
            if level not in self._words:
                self._words[level] = to_words(self._levels[level], self.brightness)
            return self._words[level]


_views: OrderedDict[tuple[object, ...], View] = OrderedDict()
_lock = threading.Lock()


def _kept(key: tuple[object, ...]) -> View | None:
    with _lock:
        view = _views.get(key)
        if view:
            _views.move_to_end(key)
        return view


def _keep(key: tuple[object, ...], view: View) -> View:
    with _lock:
        _views[key] = view
        while sum(v.bytes for v in _views.values()) > _KEPT_BYTES and len(_views) > 1:
            _views.popitem(last=False)
    return view


def view_of_file(number: int, off: str = "") -> View:
    """An exposure or calibration frame as it is seen with some stations off."""
    with shared().store.session() as session:
        file = file_of(session, number)
        path, record = file.path, _chain_of(session, file)
        version = image_version(file.sha256, record.fingerprint if record else "")
        key = ("file", number, version, off)
        view = _kept(key)
        if view:
            return view
        raw = load(RawFile, file.raw)
    if raw.source is None:
        raise Problem(409, "Not an image", f"{path}: {raw.problem}")
    report = load(ChainReport, record.report) if record else None
    over, tried, noise = _OVER.fullmatch(off), _RESIDUAL.fullmatch(off), None
    try:
        if over:
            pixels = _flat_over(raw, int(over.group(1)))
        elif off == REJECTED:
            pixels, noise = _left_out(path), _OF_COUNTS
        elif tried:
            threshold = max(float(tried.group(1)), _LEAST_THRESHOLD)
            pixels, noise = residual_of_repair(number, raw, report, threshold)
        else:
            pixels = _pixels(raw, report, frozenset(off.split(",")))
    except (UnreadableFileError, OSError) as error:
        raise Problem(409, "The image cannot be read", str(error)) from error
    view = View(pixels, version, even=bool(over or tried), noise=noise)
    view.first, view.step = raw.source.first, raw.source.step
    return _keep(key, view)


def _left_out(path: str) -> Plane:
    """How many values were left out at each pixel of a combined exposure."""
    beside = map_of_rejected(Path(path))
    if beside is None:
        raise Problem(409, "No map", f"Beside {path} there is no map of what was left out of it.")
    return fits.getdata(beside).astype(np.float32)


def _chain_of(session: Session, file: NightFile) -> ChainRecord | None:
    if not file.chain:
        return None
    return session.scalars(
        select(ChainRecord).where(
            ChainRecord.campaign_id == file.campaign_id, ChainRecord.name == file.chain
        )
    ).first()


def _flat_over(raw: RawFile, number: int) -> Plane:
    """A single flat, less what was taken off before the master was made, over that master."""
    plane, master = flat_and_master(raw, number)
    return _over(plane, master.plane)


def flat_and_master(raw: RawFile, number: int) -> tuple[Plane, Master]:
    """A single flat as it goes into a master flat, relative to its own median, and that master."""
    if raw.source is None:
        raise Problem(409, "Not an image", raw.problem)
    with shared().store.session() as session:
        record = session.get(MasterRecord, number)
        if record is None:
            raise Problem(404, "No such master", "It was built anew; the list is reloaded.")
        master = read_master(Path(record.path))
        others = session.scalars(
            select(MasterRecord).where(MasterRecord.campaign_id == record.campaign_id)
        )
        below = [r.path for r in others if load(MasterFacts, r.facts).key in master.facts.made_with]
    pixels = read_pixels(raw.source)
    for path in below:
        pixels = pixels - read_master(Path(path)).plane
    if pixels.shape != master.plane.shape:
        raise Problem(422, "Of another size", "Only flats of one size can be divided.")
    return (pixels / np.float32(np.nanmedian(pixels))).astype(np.float32), master


def residual_of_repair(
    number: int, raw: RawFile, report: ChainReport | None, threshold: float
) -> tuple[Plane, float]:
    """What a repair by another threshold would take away from an exposure, and the noise of its
    sky: the corrected pixels less the repaired ones. Hot pixels are specks on it; a star that shows
    was eaten.
    """
    if raw.source is None or report is None:
        raise Problem(409, "No chain yet", "Build the masters in Correct first.")
    chain = load_chain(report.folder)
    flags = tried_defects(number, threshold)
    bare = replace(chain, defects=flags, repairs=np.empty(0, np.int64))
    mended = replace(bare, repairs=np.flatnonzero(flags).astype(np.int64))
    height, width = chain.offset_adu.shape
    space = Workspace.of_shape(height, width)
    before = correct(raw.source, bare, _NO_LIMIT, space)[0].copy()
    noise = measure_brightness(before).noise
    return before - correct(raw.source, mended, _NO_LIMIT, space)[0], noise


def _pixels(raw: RawFile, report: ChainReport | None, off: frozenset[str]) -> Plane:
    assert raw.source is not None
    source = replace(raw.source, strips=()) if "overscan" in off else raw.source
    if report is None or off >= {"offset", "flat", "repair"}:
        return read_pixels(source)
    chain = load_chain(report.folder)
    shape = chain.offset_adu.shape
    bare = Chain(
        np.zeros(shape, np.float32) if "offset" in off else chain.offset_adu,
        np.ones(shape, np.float32) if "flat" in off else chain.gain,
        chain.defects,
        np.empty(0, np.int64) if "repair" in off else chain.repairs,
    )
    space = _space_of(shape)
    pixels, _ = correct(source, bare, _NO_LIMIT, space)
    _spaces.append(space)
    return pixels


_spaces: deque[Workspace] = deque(maxlen=2)


def _space_of(shape: tuple[int, int]) -> Workspace:
    """Buffers of which one was used before, where there is one, but for the pixels: these stay."""
    with suppress(IndexError):
        used = _spaces.pop()
        if used.flags.shape == shape:
            return replace(used, pixels=np.empty(shape, np.float32))
    return Workspace.of_shape(*shape)


def _view_of_master(number: int, off: str) -> View:
    over = _OVER.fullmatch(off)
    with shared().store.session() as session:
        path, version = _master(session, number)
        other = _master(session, int(over.group(1))) if over else None
    version += f" {other[1]}" if other else ""
    key = ("master", path, version, off)
    try:
        return _kept(key) or _keep(key, _ratio_or_master(path, version, other))
    except UnreadableFileError as error:
        raise Problem(409, "The master cannot be read", str(error)) from error


def _master(session: Session, number: int) -> tuple[str, str]:
    record = session.get(MasterRecord, number)
    if record is None:
        raise Problem(404, "No such master", "It was built anew; the list is reloaded.")
    return record.path, master_version(record)


def _ratio_or_master(path: str, version: str, other: tuple[str, str] | None) -> View:
    plane = read_master(Path(path)).plane
    if other is None:
        return View(plane, version)
    below = read_master(Path(other[0])).plane
    if below.shape != plane.shape:
        raise Problem(422, "Of another size", "Only flats of one size can be divided.")
    return View(_over(plane, below), version, even=True)


def _over(plane: Plane, below: Plane) -> Plane:
    ratio = np.where(below > _LEAST_FLAT, plane / np.maximum(below, _LEAST_FLAT), np.nan)
    return ratio.astype(np.float32)


def _view(kind: str, number: int, off: str) -> View:
    if kind == "files":
        return view_of_file(number, off)
    if kind == "masters":
        return _view_of_master(number, off)
    raise Problem(404, "No such kind of image", kind)


@blueprint.get("/api/images/<kind>/<int:number>")
@blueprint.input(ImageQuery, location="query", arg_name="query")
@blueprint.output(ImageInfo)
def info(kind: str, number: int, query: ImageQuery) -> ImageInfo:
    """Size, levels and brightness of an image."""
    return _info(_view(kind, number, query.off))


def _info(view: View) -> ImageInfo:
    height, width = view.pixels.shape
    b = view.brightness
    return ImageInfo(
        width=width, height=height, first=[n + 1 for n in view.first], step=view.step,
        levels=level_count(height, width), tile=TILE_PX,
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
        record = _chain_of(session, file)
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
        pixels, _ = correct(part, chain, _NO_LIMIT, Workspace.of_shape(y1 - y0, x1 - x0))
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
    if level >= level_count(*view.pixels.shape):
        raise Problem(404, "No such level")
    words = view.words(level)
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
