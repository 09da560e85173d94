"""What can be doubtful about a star on an exposure, and the words for it."""

from __future__ import annotations

from enum import IntFlag
from functools import lru_cache


class StarFlag(IntFlag):
    """What is doubtful about a star on an exposure, at the radius that is used."""

    SATURATED = 1
    BAD_PIXEL = 2
    COSMIC_RAY = 4
    EDGE = 8
    NEIGHBOUR = 16
    TRAIL = 32
    OFF_CENTRE = 64
    POOR_SKY = 128
    ODD_LIGHT = 256


FLAG_WORDS = {
    StarFlag.SATURATED: "saturated",
    StarFlag.BAD_PIXEL: "bad pixel",
    StarFlag.COSMIC_RAY: "cosmic ray",
    StarFlag.EDGE: "edge",
    StarFlag.NEIGHBOUR: "neighbour",
    StarFlag.TRAIL: "trail",
    StarFlag.OFF_CENTRE: "off-centre",
    StarFlag.POOR_SKY: "poor sky",
    StarFlag.ODD_LIGHT: "odd light",
}
SPOILED = (
    StarFlag.SATURATED | StarFlag.EDGE | StarFlag.TRAIL | StarFlag.OFF_CENTRE | StarFlag.POOR_SKY
)
"""Flags of which no one can say how much they matter: a measurement with one says nothing sure of
the star's brightness."""


def flag_words(flags: int) -> list[str]:
    """The words of a set of flags, in the order of their bits."""
    return list(_words_of(int(flags)))


@lru_cache(maxsize=256)
def _words_of(flags: int) -> tuple[str, ...]:
    return tuple(word for flag, word in FLAG_WORDS.items() if flags & int(flag))
