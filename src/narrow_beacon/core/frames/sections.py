"""Sections of a sensor: which pixels see light, and which show the electronics alone.

The keywords are those that observatories share (BIASSEC, DATASEC, TRIMSEC, in the manner
``[first:last,first:last]`` that counts from 1, columns first).
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

LIGHT_KEYWORDS = ("TRIMSEC", "DATASEC")
OVERSCAN_KEYWORDS = ("BIASSEC", "BIASSEC1", "BIASSEC2", "BIASSEC3", "BIASSEC4", "OVERSCAN")
_LEAST_LIGHT_PX = 16
_SECTION = re.compile(r"\[(\d{1,6}):(\d{1,6}),(\d{1,6}):(\d{1,6})\]")


@dataclass(frozen=True)
class Section:
    """A part of the stored image: its first column and row, counted from 0, and its size."""

    x: int
    y: int
    width: int
    height: int

    @property
    def words(self) -> str:
        """As headers write it."""
        return f"[{self.x + 1}:{self.x + self.width},{self.y + 1}:{self.y + self.height}]"

    def inside(self, shape: tuple[int, int]) -> bool:
        """Whether it lies within an image of (height, width)."""
        height, width = shape
        return self.x + self.width <= width and self.y + self.height <= height

    def overlaps(self, other: Section) -> bool:
        """Whether some pixels belong to both."""
        return (
            self.x < other.x + other.width and other.x < self.x + self.width
            and self.y < other.y + other.height and other.y < self.y + self.height
        )  # fmt: skip

    def binned(self, by: tuple[int, int]) -> Section:
        """The pixels that lie in it whole, once binned; from a section of single pixels."""
        (x, width), (y, height) = (
            (-(-first // n), (first + size) // n - -(-first // n))
            for first, size, n in ((self.x, self.width, by[0]), (self.y, self.height, by[1]))
        )
        return Section(x, y, max(width, 0), max(height, 0))


@dataclass(frozen=True)
class Sections:
    """The part that sees light, the strips of overscan, and the keywords that say so."""

    light: Section
    overscan: tuple[Section, ...]
    keywords: str


def section_of(text: str) -> Section | None:
    """A section as headers write it; None where it is none."""
    match = _SECTION.fullmatch(text.replace(" ", ""))
    if match is None:
        return None
    first_x, last_x, first_y, last_y = (int(word) for word in match.groups())
    first_x, last_x = sorted((first_x, last_x))
    first_y, last_y = sorted((first_y, last_y))
    if first_x < 1 or first_y < 1:
        return None
    return Section(first_x - 1, first_y - 1, last_x - first_x + 1, last_y - first_y + 1)


def sections_of(
    cards: Mapping[str, object], shape: tuple[int, int], binning: tuple[int, int]
) -> Sections | str | None:
    """The sections of an image (height, width), or words on what contradicts itself; None where
    the header has none, or where all of the image sees light.

    Where a section reaches beyond a binned image, all are meant in single pixels.
    """
    found = {
        key: section
        for key in (*LIGHT_KEYWORDS, *OVERSCAN_KEYWORDS)
        if (section := section_of(str(cards.get(key, "")))) is not None
    }
    if not found:
        return None
    written = dict(found)
    if binning != (1, 1) and not all(s.inside(shape) for s in found.values()):
        found = {key: section.binned(binning) for key, section in found.items()}
    for key, section in found.items():
        if not section.inside(shape) or not section.width or not section.height:
            return f"{key} = {written[key].words} is not within its {shape[1]} × {shape[0]} pixels"
    whole = Section(0, 0, shape[1], shape[0])
    strips = {key: found[key] for key in OVERSCAN_KEYWORDS if key in found}
    key = next((key for key in LIGHT_KEYWORDS if key in found), "")
    light = found[key] if key else _beside(whole, list(strips.values()))
    if min(light.width, light.height) < _LEAST_LIGHT_PX:
        return f"its sections leave {light.width} × {light.height} pixels that see light"
    for name, strip in strips.items():
        if strip.overlaps(light):
            return f"{name} = {strip.words} and {key} = {light.words} have pixels in common"
    if light == whole and not strips:
        return None
    keywords = ", ".join(name for name in (key, *strips) if name)
    return Sections(light, tuple(dict.fromkeys(strips.values())), keywords)


def _beside(whole: Section, strips: list[Section]) -> Section:
    """What is left of an image beside strips that run along its sides."""
    left, right, low, high = 0, whole.width, 0, whole.height
    for s in strips:
        if s.height >= s.width:
            left, right = (max(left, s.x + s.width), right) if s.x < whole.width - s.x - s.width \
                else (left, min(right, s.x))  # fmt: skip
        elif s.y < whole.height - s.y - s.height:
            low = max(low, s.y + s.height)
        else:
            high = min(high, s.y)
    return Section(left, low, max(right - left, 0), max(high - low, 0))
