"""Limits on the quality of exposures, which the observer sets and keeps."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

LIMIT = "limit: "
"""Begins the reason of what a limit drops."""
QUALITIES = {
    "star width": "px",
    "elongation": "",
    "sky": "ADU",
    "stars": "",
    "light": "",
    "noise": "",
    "airmass": "",
}
"""What a limit may be on, and in which unit; "light" is the share of the clear night's, "noise" the
background's over what the camera lets expect."""


@dataclass(frozen=True)
class Limit:
    """Exposures with more than ``above``, or with less than ``below``, are set aside: those of a
    filter and of a night (the date of its evening) where these are given, else all.
    """

    quality: str
    above: float | None = None
    below: float | None = None
    filter: str = ""
    night: str = ""

    def drops(self, values: Mapping[str, float], filter_name: str, night: str) -> bool:
        """Whether an exposure with these values is beyond it; what is not known is not."""
        if (self.filter and self.filter != filter_name) or (self.night and self.night != night):
            return False
        value = values.get(self.quality, float("nan"))
        if self.above is not None and value > self.above:
            return True
        return self.below is not None and value < self.below

    @property
    def words(self) -> str:
        """The limit as the reason of what it drops."""
        unit = QUALITIES[self.quality]
        side = f"above {self.above:g}" if self.above is not None else f"below {self.below:g}"
        return f"{self.quality} {side} {unit}".strip()


def limit_words(
    limits: tuple[Limit, ...], values: Mapping[str, float], filter_name: str, night: str
) -> str:
    """Why limits drop an exposure; nothing where none does."""
    found = [limit.words for limit in limits if limit.drops(values, filter_name, night)]
    return f"{LIMIT}{' and '.join(found)}" if found else ""
