"""Images as the page sees them: 16-bit words of a pyramid, made once and kept; exposures, raw or
with any stations of their chain off, and masters.
"""

from __future__ import annotations

import re
import threading
from collections import OrderedDict, deque
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from astropy.io import fits
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.apply import Chain, Workspace, correct
from narrow_beacon.core.correct.masters import Master, MasterFacts, read_master
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.core.frames.pyramid import (
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
from narrow_beacon.server.night import image_version, master_version
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.state import file_of, shared
from narrow_beacon.store.models import ChainRecord, MasterRecord, NightFile

RAW = "overscan,offset,flat,repair"
"""The stations that are off where an exposure is shown raw."""
REJECTED = "rejected"
_KEPT_BYTES = 48_000_000
NO_LIMIT = 1e9
_EVEN_SIGMA = 6.0
_LEAST_FLAT = 0.05
_LEAST_THRESHOLD = 3.0
_OVER = re.compile(r"over(\d+)")
_OF_COUNTS = 0.07
"""Stands for noise where there is none: three values left out show as bright as a star."""
_RESIDUAL = re.compile(r"residual(\d+(?:\.\d+)?)")


@dataclass(frozen=True)
class Showing:
    """How an image is to be shown: dark and bright alike about its middle, by a noise that is
    known; and where its pixels lie on the file's.
    """

    even: bool = False
    noise: float | None = None
    first: tuple[int, int] = (0, 0)
    step: int = 1


class View:
    """An image (height, width) as the words of all levels of its pyramid; its pixels are not
    kept.
    """

    def __init__(self, pixels: Plane, version: str, showing: Showing) -> None:
        self.version, self.showing = version, showing
        self.shape = (pixels.shape[0], pixels.shape[1])
        self.brightness = measure_brightness(pixels, showing.noise)
        if showing.even:
            # What departs to either side matters alike.
            b = self.brightness
            reach = _EVEN_SIGMA * b.noise
            self.brightness = replace(b, low=b.sky - reach, high=b.sky + reach)
        self.words = [to_words(pixels, self.brightness)]
        for _ in range(1, level_count(*self.shape)):
            pixels = halve(pixels)
            self.words.append(to_words(pixels, self.brightness))

    @property
    def bytes(self) -> int:
        """What it holds."""
        return sum(words.nbytes for words in self.words)


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


@dataclass(frozen=True)
class _Wanted:
    """A file and what its corrected pixels are made of."""

    number: int
    path: str
    version: str
    raw: RawFile
    report: ChainReport | None


def view_of_file(number: int, off: str = "") -> View:
    """An exposure or calibration frame as it is seen with some stations off. Raises Problem."""
    with shared().store.session() as session:
        file = file_of(session, number)
        record = chain_record(session, file)
        version = image_version(file.sha256, record.fingerprint if record else "")
        view = _kept(("file", number, version, off))
        if view:
            return view
        wanted = _wanted(file, record, version)
    with _image(wanted, off) as (pixels, showing):
        view = View(pixels, version, showing)
    return _keep(("file", number, version, off), view)


def pixels_of_file(number: int, off: str = "") -> Plane:
    """The pixels themselves (height, width), read and corrected anew. Raises Problem."""
    with image_of_file(number, off) as pixels:
        return pixels.copy()


@contextmanager
def image_of_file(number: int, off: str = "") -> Iterator[Plane]:
    """``pixels_of_file`` without a copy, as long as the context lasts. Raises Problem."""
    with shared().store.session() as session:
        file = file_of(session, number)
        wanted = _wanted(file, chain_record(session, file), "")
    with _image(wanted, off) as (pixels, _):
        yield pixels


def _wanted(file: NightFile, record: ChainRecord | None, version: str) -> _Wanted:
    report = load(ChainReport, record.report) if record else None
    return _Wanted(file.id, file.path, version, load(RawFile, file.raw), report)


def chain_record(session: Session, file: NightFile) -> ChainRecord | None:
    """The chain that a file is corrected by."""
    if not file.chain:
        return None
    return session.scalars(
        select(ChainRecord).where(
            ChainRecord.campaign_id == file.campaign_id, ChainRecord.name == file.chain
        )
    ).first()


@contextmanager
def _image(wanted: _Wanted, off: str) -> Iterator[tuple[Plane, Showing]]:
    """The pixels of a file, as long as the context lasts: others are corrected in their place
    then. Raises Problem.
    """
    raw, report, space = wanted.raw, wanted.report, None
    if raw.source is None:
        raise Problem(409, "Not an image", f"{wanted.path}: {raw.problem}")
    showing = Showing(first=raw.source.first, step=raw.source.step)
    over, tried = _OVER.fullmatch(off), _RESIDUAL.fullmatch(off)
    try:
        if over:
            pixels, showing = _flat_over(raw, int(over.group(1))), replace(showing, even=True)
        elif off == REJECTED:
            pixels, showing = _left_out(wanted.path), replace(showing, noise=_OF_COUNTS)
        elif tried:
            threshold = max(float(tried.group(1)), _LEAST_THRESHOLD)
            pixels, noise = residual_of_repair(wanted.number, raw, report, threshold)
            showing = replace(showing, even=True, noise=noise)
        else:
            pixels, space = _corrected(raw, report, frozenset(off.split(",")))
    except (UnreadableFileError, OSError) as error:
        raise Problem(409, "The image cannot be read", str(error)) from error
    try:
        yield pixels, showing
    finally:
        if space is not None:
            _spaces.append(space)


def _left_out(path: str) -> Plane:
    """How many values were left out at each pixel of a combined exposure."""
    beside = map_of_rejected(Path(path))
    if beside is None:
        raise Problem(409, "No map", f"Beside {path} there is no map of what was left out of it.")
    return fits.getdata(beside).astype(np.float32)


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
    before = correct(raw.source, bare, NO_LIMIT, space)[0].copy()
    noise = measure_brightness(before).noise
    return before - correct(raw.source, mended, NO_LIMIT, space)[0], noise


def _corrected(
    raw: RawFile, report: ChainReport | None, off: frozenset[str]
) -> tuple[Plane, Workspace | None]:
    """Pixels with some stations off, and the buffers that they lie in, if any."""
    assert raw.source is not None
    source = replace(raw.source, strips=()) if "overscan" in off else raw.source
    if report is None or off >= {"offset", "flat", "repair"}:
        return read_pixels(source), None
    chain = load_chain(report.folder)
    shape = chain.offset_adu.shape
    bare = Chain(
        np.zeros(shape, np.float32) if "offset" in off else chain.offset_adu,
        np.ones(shape, np.float32) if "flat" in off else chain.gain,
        chain.defects,
        np.empty(0, np.int64) if "repair" in off else chain.repairs,
    )
    space = _space_of(shape)
    return correct(source, bare, NO_LIMIT, space)[0], space


_spaces: deque[Workspace] = deque(maxlen=1)


def _space_of(shape: tuple[int, int]) -> Workspace:
    """Buffers for a size, those that were used before where they have it."""
    with suppress(IndexError):
        used = _spaces.pop()
        if used.flags.shape == shape:
            return used
    return Workspace.of_shape(*shape)


def forget_buffers() -> None:
    """Let go of them: as large as the largest image, and made anew in a moment."""
    _spaces.clear()


def view_of_master(number: int, off: str) -> View:
    """A master, or one flat over another. Raises Problem."""
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
        return View(plane, version, Showing())
    below = read_master(Path(other[0])).plane
    if below.shape != plane.shape:
        raise Problem(422, "Of another size", "Only flats of one size can be divided.")
    return View(_over(plane, below), version, Showing(even=True))


def _over(plane: Plane, below: Plane) -> Plane:
    ratio = np.where(below > _LEAST_FLAT, plane / np.maximum(below, _LEAST_FLAT), np.nan)
    return ratio.astype(np.float32)
