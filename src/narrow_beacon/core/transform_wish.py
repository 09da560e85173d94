"""What the observer says of the standard scale."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class GivenTerm:
    """A coefficient that the observer gives: of a filter, against an index such as "B-V"."""

    coefficient: float
    uncertainty: float = 0.0
    index: str = ""


@dataclass(frozen=True)
class TransformWish:
    """Whether magnitudes are brought to the standard scale, and what is given for it by filter:
    coefficients, extinction in mag an airmass, and how that changes with colour. ``colour`` is the
    target's.
    """

    apply: bool = True
    given: Mapping[str, GivenTerm] = field(default_factory=dict)
    extinction: Mapping[str, float] = field(default_factory=dict)
    second_order: Mapping[str, float] = field(default_factory=dict)
    colour: float | None = None


USUAL_WISH = TransformWish()
