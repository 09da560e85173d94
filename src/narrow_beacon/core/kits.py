"""Kits: what the observer says of a camera behind a telescope, and the rules by which its
calibration frames are combined and matched.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, fields

CLIPPED, MEAN, MEDIAN = "clipped", "mean", "median"
COMBINATIONS = (CLIPPED, MEAN, MEDIAN)
"""Ways in which frames become a master."""
OF_ALL = ""
"""The name under which words on all kits stand."""


@dataclass(frozen=True)
class Rules:
    """How calibration frames of a kit are combined, and when a master fits an exposure."""

    exposure_tolerance: float = 0.02
    """Share by which a dark's exposure time may differ without being scaled."""
    temperature_tolerance_c: float = 1.5
    lasts_days: float = 60.0
    """How long bias and darks serve; older ones fit poorly."""
    combine: str = CLIPPED
    clip_sigma: float = 4.0
    """Robust standard deviations about the median, beyond which a clipped mean leaves out."""

    @property
    def combination(self) -> tuple[object, ...]:
        """What a master's pixels depend on; nothing where it is as usual, so that masters keep
        their names.
        """
        if self.combine == CLIPPED:
            usual = self.clip_sigma == USUAL_RULES.clip_sigma
            return () if usual else (self.combine, self.clip_sigma)
        return (self.combine,)


USUAL_RULES = Rules()


@dataclass(frozen=True)
class KitWord:
    """What the observer says of a kit; None where it is to be read, measured or as usual."""

    gain_e_per_adu: float | None = None
    read_noise_e: float | None = None
    linear_limit_adu: float | None = None
    scale_arcsec_per_px: float | None = None
    exposure_tolerance: float | None = None
    temperature_tolerance_c: float | None = None
    lasts_days: float | None = None
    combine: str | None = None
    clip_sigma: float | None = None
    defect_threshold: float | None = None
    """Robust standard deviations of the master dark, beyond which a pixel is a defect."""
    marks: tuple[tuple[int, int, int, int], ...] | None = None
    """Rectangles of defects: column and row of the first pixel, from 0, width and height."""

    def over(self, other: KitWord) -> KitWord:
        """This word and, where it says nothing, the other."""
        return KitWord(
            **{
                one.name: mine if (mine := getattr(self, one.name)) is not None
                else getattr(other, one.name)
                for one in fields(self)
            }
        )  # fmt: skip

    @property
    def rules(self) -> Rules:
        """The rules in force."""
        said = {one.name: getattr(self, one.name) for one in fields(Rules)}
        return Rules(**{name: value for name, value in said.items() if value is not None})


@dataclass(frozen=True)
class Kits:
    """Words on kits, by the name of the kit ("camera, width × height, …"), of a kit in one setting
    ("…, gain 120") or of all, OF_ALL.
    """

    said: Mapping[str, KitWord] = field(default_factory=dict)

    def word(self, *names: str) -> KitWord:
        """All that is said under some names, the first of them first; then what holds for all."""
        found = KitWord()
        for name in (*names, OF_ALL):
            found = found.over(self.said.get(name, KitWord()))
        return found


NO_WORDS = Kits()


def kit_name(text: str) -> str:
    """A kit's name as typed: "1024 x 768" is "1024 × 768"."""
    return re.sub(r"(\d) ?x ?(\d)", r"\1 × \2", " ".join(text.split()))
