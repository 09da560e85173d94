"""Masters that were made elsewhere: read by their headers, as any frame is."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from narrow_beacon.core.correct.masters import (
    Master,
    MasterFacts,
    is_master,
    read_master,
    scatter_of_single_pixels,
)
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.fits_file import FitsImage, file_sha256, read_images, read_pixels
from narrow_beacon.core.frames.header import FrameFacts, interpret, kind_of
from narrow_beacon.core.frames.sort import night_of

_COUNT_KEYWORDS = ("NCOMBINE", "STACKCNT", "NIMAGES", "NFRAMES", "IMCMB")
_KIND_KEYWORDS = ("IMAGETYP", "IMAGETYPE", "FRAME", "FRAMETYP", "OBSTYPE", "EXPTYPE", "IMGTYPE")
_COMBINED = re.compile(r"\b(master|super|stack\w*|combin\w*|integrat\w*|averag\w*|median)\b[ _-]*")
ELSEWHERE = "elsewhere"
"""How such a master was combined: nothing says so."""
_NORMALISED = (0.2, 5.0)
"""Medians between which a flat is taken to be relative to 1 already."""


def read_ready_made(path: Path, longitude_deg: float = 0.0) -> Master:
    """A master of this program, or one from elsewhere by its header.

    Its kind is what its header or else its name says; a flat is brought to a median of 1. Raises
    UnreadableFileError, with words on what its header lacks.
    """
    if is_master(path):
        return read_master(path)
    image = read_images(path)[0]
    facts = interpret(image)
    kind = _kind(image, path)
    if kind is None:
        raise UnreadableFileError(
            f"{path.name}: neither header nor name say whether it is a bias, a dark or a flat; "
            "write IMAGETYP into its header"
        )
    if kind in ("dark", "flat dark") and facts.exposure_s is None:
        raise UnreadableFileError(
            f"{path.name}: a dark whose header gives no exposure time; write EXPTIME into it"
        )
    if kind == "flat" and facts.filter is None:
        raise UnreadableFileError(
            f"{path.name}: a flat whose header gives no filter; write FILTER into it"
        )
    if not _is_combined(image, facts, path):
        raise UnreadableFileError(
            f"{path.name}: a single {kind} by its header and name; name its folder in Intake, so "
            "that it is combined with its like"
        )
    plane = np.array(read_pixels(image.source), np.float32)
    level = float(np.nanmedian(plane))
    if not np.isfinite(level):
        raise UnreadableFileError(f"{path.name}: has no pixel with a value")
    if kind == "flat":
        if level <= 0:
            raise UnreadableFileError(f"{path.name}: a flat without light (median {level:g})")
        plane /= np.float32(level)
        # One that is relative already no longer tells how much light it saw.
        level = 0.0 if _NORMALISED[0] < level < _NORMALISED[1] else level
    return Master(_facts(path, image, facts, kind, plane, level, longitude_deg), plane)


def _facts(
    path: Path, image: FitsImage, facts: FrameFacts, kind: str, plane: np.ndarray, level: float,
    longitude_deg: float,
) -> MasterFacts:  # fmt: skip
    said = facts.filter.value if kind == "flat" and facts.filter else None
    night = night_of(facts.time_utc.value, longitude_deg) if facts.time_utc else ""
    return MasterFacts(
        kind=kind,
        filter=filter_name(said) if said else None,
        exposure_s=facts.exposure_s.value if facts.exposure_s else 0.0,
        temperature_c=facts.temperature_c.value if facts.temperature_c else None,
        gain_setting=facts.gain_setting.value if facts.gain_setting else None,
        offset_setting=facts.offset_setting.value if facts.offset_setting else None,
        readout_mode=facts.readout_mode.value if facts.readout_mode else None,
        binning=facts.binning.value if facts.binning else (1, 1),
        shape=(plane.shape[0], plane.shape[1]),
        night=night,
        count=_count(image),
        level_adu=level,
        clipped_share=0.0,
        inputs=((path.name, file_sha256(path)),),
        camera=facts.camera.value if facts.camera else None,
        origin=facts.origin.value if facts.origin else None,
        noise_adu=scatter_of_single_pixels(plane),
        combined=ELSEWHERE,
        rotator_deg=facts.rotator_deg.value if kind == "flat" and facts.rotator_deg else None,
        focus_position=facts.focus_position.value
        if kind == "flat" and facts.focus_position
        else None,
    )


def _is_combined(image: FitsImage, facts: FrameFacts, path: Path) -> bool:
    """Whether header, name or the kind of its numbers say that several frames went in."""
    said = [path.stem.replace("_", " "), *(str(image.cards.get(key, "")) for key in _KIND_KEYWORDS)]
    return (
        _count(image) > 1
        or facts.processed is not None
        or image.source.bitpix < 0
        or any(_COMBINED.search(words.lower()) for words in said)
    )


def _kind(image: FitsImage, path: Path) -> str | None:
    said = [str(image.cards[key]) for key in _KIND_KEYWORDS if key in image.cards]
    for words in (*said, path.stem.replace("_", " ")):
        kind = kind_of(_COMBINED.sub("", words.lower()))
        if kind in ("bias", "dark", "flat dark", "flat"):
            return kind
    return None


def _count(image: FitsImage) -> int:
    for key in _COUNT_KEYWORDS:
        value = image.cards.get(key)
        if isinstance(value, int | float) and value >= 1:
            return int(value)
    return 1
