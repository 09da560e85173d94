"""Remarks: what the program assumed, could not do or doubts, said where the observer works."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

STAGES = ("intake", "correct", "vet", "place", "cast", "measure", "curve", "report")


@dataclass(frozen=True)
class Remark:
    """``stage`` is one of STAGES, ``about`` the file, chain, kit, star or filter that it is about,
    ``matters`` what it may cost, ``remedy`` what can be done about it.
    """

    stage: str
    words: str
    about: str = ""
    matters: str = ""
    remedy: str = ""

    def __str__(self) -> str:
        return f"{self.about}: {self.words}" if self.about else self.words


def distinct(remarks: Iterable[Remark]) -> tuple[Remark, ...]:
    """Every remark once, in the order in which they came."""
    return tuple(dict.fromkeys(remarks))
