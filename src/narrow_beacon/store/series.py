"""Elements and times of minimum and maximum that a campaign keeps of its targets."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

from narrow_beacon.core.series.elements import Elements
from narrow_beacon.store.models import Campaign

_CYCLE_DIGITS = 2
"""A time is known again by its first digits after the point: no two turns are that near."""


@dataclass(frozen=True)
class KnownTime:
    """A time of minimum or maximum from elsewhere, BJD(TDB)."""

    bjd: float
    uncertainty_d: float
    kind: str
    source: str


@dataclass(frozen=True)
class OtherCurve:
    """A light curve from elsewhere: its file, what it is called, and the columns that the observer
    named, by meaning.
    """

    file: str
    name: str
    columns: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class StarSeries:
    """What is kept of one star: ``chosen`` is the place of the elements in force, None: none of
    them; ``cycles`` are those that the observer gave times, by ``time_key``; ``curves`` are laid
    over its own.
    """

    elements: tuple[Elements, ...] = ()
    chosen: int | None = None
    times: tuple[KnownTime, ...] = ()
    cycles: dict[str, float] = field(default_factory=dict)
    curves: tuple[OtherCurve, ...] = ()

    @property
    def in_force(self) -> Elements | None:
        """The chosen elements."""
        return None if self.chosen is None else self.elements[self.chosen]


def time_key(bjd: float) -> str:
    """What a time is known by, though it be measured anew."""
    return f"{bjd:.{_CYCLE_DIGITS}f}"


def series_of(campaign: Campaign, star: str) -> StarSeries:
    """What the campaign keeps of a star."""
    kept = (campaign.series or {}).get(star)
    if not kept:
        return StarSeries()
    return StarSeries(
        tuple(Elements(**one) for one in kept["elements"]), kept["chosen"],
        tuple(KnownTime(**one) for one in kept["times"]), dict(kept["cycles"]),
        tuple(OtherCurve(**one) for one in kept.get("curves", ())),
    )  # fmt: skip


def with_series(campaign: Campaign, star: str, series: StarSeries) -> dict[str, Any]:
    """The campaign's column with one star's changed."""
    return {**(campaign.series or {}), star: asdict(series)}
