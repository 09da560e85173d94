"""Files that hold several images: one exposure each where they are alike.

Extensions that accompany an image (masks, weights, uncertainties, small pictures of it) are none.
The planes of a cube are exposures one after the other.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import timedelta

from narrow_beacon.core.frames.fits_file import FitsImage, HeaderValue
from narrow_beacon.core.frames.header import FrameFacts, interpret
from narrow_beacon.core.frames.header_values import Reading, first_of, seconds

_COMPANIONS = (
    "MASK", "DQ", "FLAGS", "BPM", "WEIGHT", "WHT", "ERR", "ERROR", "SIGMA", "VAR", "VARIANCE",
    "IVAR", "UNCERT", "UNCERTAINTY", "THUMB", "THUMBNAIL", "PREVIEW", "BACKGROUND",
)  # fmt: skip
_CADENCE_KEYWORDS = ("CADENCE", "FRAMETIM", "CYCLETIM", "FRAMEINT", "TIMEDEL")
_CADENCE = tuple((key, seconds) for key in _CADENCE_KEYWORDS)
_COLOURS = 3
_ALIKE = 0.02


@dataclass(frozen=True)
class Exposed:
    """One image of a file: its part of the name ("" where it is the only one), and its facts."""

    part: str
    image: FitsImage
    facts: FrameFacts


def exposures_in(images: Sequence[FitsImage]) -> list[Exposed] | str:
    """The exposures in the images of a file (at least one), or words on why that is a question."""
    real = [image for image in images if not _accompanies(image)] or list(images[:1])
    if len(real) > 1 and not _alike(real):
        sizes = ", ".join(f"{i.source.width} × {i.source.height}" for i in real[:4])
        return (
            f"its header names {len(real)} images that are unlike ({sizes}): which is the "
            "exposure? Save that one as a file of its own"
        )
    found: list[Exposed] = []
    for image in real:
        part = f"[{image.source.hdu}]" if len(real) > 1 else ""
        facts = interpret(image)
        if image.source.planes == 1:
            found.append(Exposed(part, image, facts))
            continue
        planes = _planes(image, facts, part)
        if isinstance(planes, str):
            return planes
        found += planes
    return found


def _accompanies(image: FitsImage) -> bool:
    name = str(image.cards.get("EXTNAME", "")).strip().upper()
    return name in _COMPANIONS


def _alike(images: Sequence[FitsImage]) -> bool:
    first = images[0].source
    same = {(i.source.height, i.source.width, i.source.planes) for i in images}
    return len(same) == 1 and all(abs(i.source.bitpix) == abs(first.bitpix) for i in images)


def _planes(image: FitsImage, facts: FrameFacts, part: str) -> list[Exposed] | str:
    """The planes of a cube as exposures one after the other."""
    count = image.source.planes
    timed = _timing(image.cards, facts, count)
    if isinstance(timed, str):
        return timed
    exposure_s, cadence_s, keyword = timed
    if exposure_s is None and count == _COLOURS:
        return (
            "its header does not say whether its 3 planes are the colours of a picture or "
            "exposures one after the other: save exposures as files of their own"
        )
    found = []
    # An end is that of the last plane.
    conflicts = {name: words for name, words in facts.conflicts.items() if name != "time_utc"}
    if not (first_of(image.cards, _CADENCE) or facts.span_s):
        conflicts["planes"] = "their header does not say how long it is from one plane to the next"
    facts = replace(facts, conflicts=conflicts)
    for number in range(count):
        own = facts
        if facts.exposure_s and exposure_s is not None:
            own = replace(own, exposure_s=Reading(exposure_s, keyword or facts.exposure_s.keyword))
        if facts.time_utc and cadence_s is not None:
            back_s = 0.5 * count * cadence_s if facts.time_is_middle else 0.0
            start = facts.time_utc.value + timedelta(seconds=number * cadence_s - back_s)
            said = f"{facts.time_utc.keyword}, plane {number + 1}"
            own = replace(own, time_utc=Reading(start, said), time_is_middle=False)
        source = image.source.plane_of(number)
        found.append(Exposed(f"{part}[{number + 1}]", replace(image, source=source), own))
    return found


def _timing(
    cards: dict[str, HeaderValue], facts: FrameFacts, count: int
) -> tuple[float | None, float | None, str] | str:
    """Exposure time of a plane, time from one to the next, and what says so; words where that
    cannot be told.
    """
    if facts.exposure_s is None:
        return None, None, ""
    stated_s = facts.exposure_s.value
    cadence = first_of(cards, _CADENCE)
    whole = facts.span_s
    if cadence is not None and cadence.value >= stated_s * (1 - _ALIKE):
        return stated_s, float(cadence.value), ""
    if whole is not None and whole > 0:
        if stated_s * count <= whole * (1 + _ALIKE):
            gap = (whole - stated_s) / max(count - 1, 1)
            return stated_s, gap, ""
        if abs(stated_s / whole - 1.0) < _ALIKE:
            # The exposure time is that of all planes together.
            each = stated_s / count
            return each, each, f"{facts.exposure_s.keyword} over {count} planes"
        return (
            f"its header contradicts itself: {count} planes of {stated_s:g} s in "
            f"{whole:g} s from start to end; say in Intake what holds"
        )
    if count == _COLOURS:
        return None, None, ""
    return stated_s, stated_s, ""
