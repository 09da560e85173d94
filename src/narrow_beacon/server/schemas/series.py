"""Periods, times of minimum and maximum, elements, and the field's variable stars."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Address, Asked, Name, Number, Numbers, Short

Turn = Literal["minimum", "maximum"]
Days = Annotated[float, Field(gt=0, lt=1e5)]
Julian = Annotated[float, Field(gt=2_000_000, lt=3_000_000)]


class PeriodsAsked(Asked):
    filter: str = ""
    """Empty: all filters, each about its own mean."""
    scale: Literal["standard", "own", "raw"] = "standard"
    kind: Literal["waves", "eclipses", "any"] = "any"
    shortest: Days | None = None
    longest: Days | None = None
    without: Annotated[list[Days], Field(max_length=6, default_factory=list)]
    """Periods that are taken off first."""
    of: Literal["own", "both", "others"] = "own"
    """Whose points: the campaign's, those of curves from elsewhere, or both."""


class PeakOut(BaseModel):
    period_d: float
    uncertainty_d: float
    power: float
    false_alarm: float
    note: str


class PeriodsOut(BaseModel):
    points: int
    span_d: float
    kind: str
    peaks: list[PeakOut]
    frequency: list[float]
    """Cycles a day; of many neighbours the highest is shown."""
    power: list[float]
    window: list[float]
    level: float
    """The power that noise reaches once in a hundred times."""
    searched_per_d: float
    """Up to which frequency was searched, where less is drawn."""
    problem: str


class ElementsSaid(Asked):
    epoch_bjd: Julian
    period_d: Days
    kind: Turn = "minimum"
    quadratic_d: Annotated[float, Field(gt=-1, lt=1)] = 0.0
    epoch_uncertainty_d: Annotated[float, Field(ge=0, lt=1e3)] = 0.0
    period_uncertainty_d: Annotated[float, Field(ge=0, lt=1e3)] = 0.0
    quadratic_uncertainty_d: Annotated[float, Field(ge=0, lt=1)] = 0.0
    source: Name = ""


class TimeSaid(Asked):
    bjd: Julian
    uncertainty_d: Annotated[float, Field(gt=0, lt=10)]
    kind: Turn = "minimum"
    source: Name = ""


class SeriesSaid(Asked):
    """What is kept of the target in front; what is left out stays as it is."""

    elements: Annotated[list[ElementsSaid], Field(max_length=40)] | None = None
    chosen: Annotated[int, Field(ge=-1, lt=40)] | None = None
    """The place of the elements in force; −1: none."""
    times: Annotated[list[TimeSaid], Field(max_length=5000)] | None = None
    cycles: dict[str, Annotated[float, Field(gt=-1e7, lt=1e7)]] | None = None


class OtherCurveIn(Asked):
    """A light curve from elsewhere; columns by "time", "magnitude", "uncertainty", "filter"."""

    file: Address
    name: Name = ""
    columns: dict[Short, Annotated[str, Field(max_length=200)]] = Field(
        default_factory=dict, max_length=4
    )


class OtherCurveOut(BaseModel):
    """Its points, at most so many as can be drawn, and how it lies to the campaign's own where
    filters and times meet; a problem where it cannot be read.
    """

    name: str
    file: str
    columns: dict[str, str]
    filter: list[str]
    t_d: list[float]
    magnitude: list[float]
    points: int
    offset_mag: Number
    offset_uncertainty_mag: Number
    problem: str


class OtherCurves(BaseModel):
    curves: list[OtherCurveOut]


class FitAsked(Asked):
    quadratic: bool = False


class MethodTime(BaseModel):
    method: str
    bjd: float
    uncertainty_d: float


class TurnOut(BaseModel):
    """A time of minimum or maximum: in one filter, of all together, or from elsewhere."""

    kind: Turn
    filter: str
    """Empty: all filters together, or from elsewhere."""
    bjd: float
    hjd_utc: float = 0.0
    """The same moment as a heliocentric Julian date in UTC."""
    uncertainty_d: float
    method: str
    others: list[MethodTime]
    points: int
    depth_mag: Number
    symmetric: bool
    complete: bool
    source: str
    """Where it is from; empty for one of this campaign."""
    key: str
    cycle: Number
    given: bool
    """Whether the cycle is the observer's."""
    o_minus_c_d: Number


class SeriesOut(BaseModel):
    star: str
    elements: list[ElementsSaid]
    chosen: int | None
    turns: list[TurnOut]
    improvement: Number
    """By how much a quadratic term lets χ² of the times fall; None where they cannot tell."""
    scatter_d: Number
    """Root mean square of O − C, weighted."""


class SuspectOut(BaseModel):
    row: int
    star: str
    filter: str
    magnitude: float
    scatter_mag: float
    expected_mag: float
    significance: float
    by_scatter: float
    by_runs: float
    by_filters: float
    period_d: Number
    designation: str
    """What it could be called as a discovery: by its place."""
    known: bool
    """Whether the catalogue says that it varies."""
    role: str
    bjd: list[float]
    curve: Numbers


class SurveyOut(BaseModel):
    stars: int
    """That were looked at."""
    looked_at: int
    """Exposures; of a long campaign stretches over all nights tell as much as all."""
    exposures: int
    least: float
    suspects: list[SuspectOut]
