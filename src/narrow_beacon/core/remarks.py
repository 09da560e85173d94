"""Remarks: what the program assumed, could not do or doubts, said where the observer works."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

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


def gathered(remarks: Sequence[Remark], most: int = 3) -> list[Remark]:
    """Remarks of which more than ``most`` say the same of different things become one, told by the
    first; the others keep their order.
    """
    like: dict[tuple[str, str, str], list[Remark]] = {}
    for remark in remarks:
        like.setdefault((remark.stage, remark.matters, remark.remedy), []).append(remark)
    found = []
    for group in like.values():
        if len(group) <= most:
            found += group
            continue
        first = group[0]
        words = f"{len(group)} times, with other names: {first.words}"
        found.append(replace(first, words=words, about=""))
    return found


def distinct(remarks: Iterable[Remark]) -> tuple[Remark, ...]:
    """Every remark once, in the order in which they came."""
    return tuple(dict.fromkeys(remarks))
