"""By how much a flat leans, as the observer says it, and the plane that straightens it."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane

LEAN = "lean"
"""Among the masters that are picked for a chain, what its flat is straightened by."""
_MOST_MMAG = 1000.0
_SAID = re.compile(r'lean = "([^"]+)"')


@dataclass(frozen=True)
class Lean:
    """By how many magnitudes stars measure fainter, corrected by a flat, from the left edge of the
    frame to the right and from the bottom to the top.
    """

    across_mag: float
    up_mag: float

    @classmethod
    def of(cls, text: str) -> Lean:
        """The lean of a text of two numbers in mmag. Raises ValueError, with what is wanted."""
        try:
            across, up = (float(word) for word in text.replace("−", "-").split(","))
        except ValueError as error:
            raise ValueError(_WANTED) from error
        if not max(abs(across), abs(up)) <= _MOST_MMAG:
            raise ValueError(_WANTED)
        return cls(across / 1000.0, up / 1000.0)

    @property
    def text(self) -> str:
        """What ``of`` takes."""
        return f"{1000.0 * self.across_mag:.1f}, {1000.0 * self.up_mag:.1f}"

    @property
    def words(self) -> str:
        """What it is, for people."""
        across, up = (
            f"{1000.0 * v:+.1f}".replace("-", "−") for v in (self.across_mag, self.up_mag)
        )
        return f"{across} mmag from left to right, {up} from bottom to top"

    def straightened(self, flat: Plane | None, shape: tuple[int, int]) -> Plane:
        """The flat (height, width), or an even one, with what makes stars measure alike
        everywhere.
        """
        height, width = shape
        v = (np.arange(height) + 0.5) / height - 0.5
        u = (np.arange(width) + 0.5) / width - 0.5
        fainter = self.up_mag * v[:, None] + self.across_mag * u[None, :]
        plane = (10.0 ** (-0.4 * fainter)).astype(np.float32)
        return plane if flat is None else flat * plane


_WANTED = 'must be like "63.1, -2.0": mmag from left to right and from bottom to top, below 1000'


def lean_in(words: str) -> str:
    """The text of the lean that a remark's remedy gives; nothing where it gives none."""
    found = _SAID.search(words)
    return found[1] if found else ""
