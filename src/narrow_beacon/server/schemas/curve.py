"""Curves, and where a point comes from."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.campaigns import CastOut, RecipeOut
from narrow_beacon.server.schemas.common import Asked, FullNumbers, Number, Numbers


class StarSeries(BaseModel):
    row: int
    name: str
    role: Literal["target", "comparison", "check"]
    known_magnitude: Number
    weight: Number
    magnitude: Numbers
    uncertainty: Numbers
    instrumental: Numbers
    """None of a comparison star's."""
    flags: dict[int, str]
    """Words by place in the series, where there are any."""
    doubtful: list[int]
    """Places whose magnitude may be off by more than its uncertainty says."""
    limit: dict[int, float]
    """By place, the brightest that the star can have been where it was not seen."""


class StandardOut(BaseModel):
    """The target on the standard scale."""

    magnitude: Numbers
    uncertainty: Numbers
    colour: Numbers
    index: str
    common_mag: float


class FilterCurveOut(BaseModel):
    filter: str
    band: str
    file_ids: list[int]
    jd_utc: FullNumbers
    bjd_tdb: FullNumbers
    airmass: Numbers
    zero_point: Numbers
    zero_point_uncertainty: Numbers
    transparency: Numbers
    radius_px: list[float]
    """One for each night, which has its own star width."""
    step: int
    scatter_check_mag: Number
    expected_check_mag: Number
    common_offset_mag: float
    floor_mag: Number
    """The night's correlated noise, by the comparison and check stars."""
    series: list[StarSeries]
    standard: StandardOut | None
    """None where its colour or the filter's coefficient is not known."""
    taken: str
    """What was taken out of its magnitudes, or why nothing was, in words."""


FlagWord = Literal[
    "saturated", "bad pixel", "cosmic ray", "edge", "neighbour", "trail", "off-centre", "poor sky",
    "odd light",
]  # fmt: skip
Quantity = Literal["airmass", "star width", "sky", "place"]


class PointsSaid(Asked):
    """What is asked of points beyond their measurement."""

    most_uncertainty_mag: Annotated[float, Field(gt=0, le=5)] | None = None
    check_off_sigma: Annotated[float, Field(ge=0.5, le=1000)] | None = None
    without: list[FlagWord] = Field(default_factory=list, max_length=20)
    take_out: list[Quantity] = Field(default_factory=list, max_length=10)
    nights_alike: bool = False


class CurveOut(BaseModel):
    revision: int
    """Of the campaign that these curves show."""
    filters: list[FilterCurveOut]
    problems: list[str]
    cast: CastOut | None
    recipe: RecipeOut | None


class OriginFact(BaseModel):
    name: str
    words: str


class OriginBlock(BaseModel):
    title: str
    facts: list[OriginFact]


class OriginOut(BaseModel):
    """Where a point of the curve comes from, step by step back to the raw file."""

    name: str
    blocks: list[OriginBlock]
