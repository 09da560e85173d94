"""The standard scale."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Asked, Number, Numbers, Short


class CoefficientOut(BaseModel):
    value: float
    uncertainty: float
    fitted: int
    """To so many stars or exposures; 0 where it was given."""


class ScaleStar(BaseModel):
    row: int
    name: str
    colour: float
    colour_uncertainty: float
    offset_mag: float
    """Catalogue less measured magnitude, and less the usual one."""
    offset_uncertainty: Number
    used: bool


class KeptOut(BaseModel):
    """A coefficient that is kept with the kit."""

    id: int
    coefficient: float
    uncertainty: float
    airmass: float
    stars: int
    nights: str
    campaign: str


class KeepIn(Asked):
    filter: Short


class NightAirOut(BaseModel):
    """A night's own extinction, in mag an airmass."""

    group: str
    night: str
    value: float
    uncertainty: float
    fitted: int


class AirOut(BaseModel):
    """Zero points by all stars against airmass, by exposure; ``fitted`` by its night's line."""

    file_ids: list[int]
    group: list[str]
    airmass: Numbers
    zero_point: Numbers
    fitted: Numbers
    used: list[bool]
    nights: list[NightAirOut]


class ScaleOut(BaseModel):
    """How a filter's magnitudes depend on colour and air."""

    filter: str
    band: str
    index: str
    """The colour that they hang on, as "B-V"; empty where there is none."""
    applied: bool
    given: bool
    """Whether the coefficient is the observer's."""
    why: str
    """Why there is no coefficient."""
    bands: list[str]
    transform: CoefficientOut | None = None
    """At the mean airmass."""
    second_order: CoefficientOut | None = None
    extinction: CoefficientOut | None = None
    mean_airmass: Number = None
    extinction_at: Number = None
    """The colour of the star that the extinction holds for."""
    comparison_colour: Number = None
    target_colour: Number = None
    colour_source: str = ""
    """"measured" in two filters, "typed", or of the "catalogue"."""
    shift_mag: Number = None
    """About how far the standard scale is from the instrument's own, for the target."""
    common_mag: Number = None
    level: Number = None
    slope: Number = None
    centre: Number = None
    stars: list[ScaleStar] = []
    air: AirOut | None = None
    kit: str = ""
    kept: list[KeptOut] = []
    """What is kept of this filter with the kit, the latest first."""
    kept_mean: CoefficientOut | None = None
    """Of two or more of them."""


Term = Annotated[float, Field(ge=-3, le=3)]
Airs = dict[Short, Annotated[float, Field(ge=-2, le=5)] | None]


class TermIn(Asked):
    coefficient: Term
    uncertainty: Annotated[float, Field(ge=0, le=3)] = 0.0
    index: Annotated[str, Field(pattern=r"^$|^\S+-\S+$", max_length=40)] = ""


class TransformSaid(BaseModel):
    """What the observer says of the standard scale."""

    apply: bool
    given: dict[str, TermIn]
    extinction: dict[str, float]
    second_order: dict[str, float]
    colour: float | None


class TransformIn(Asked):
    """What is not sent stays as it is; a filter's null is taken back, and so is a colour's."""

    apply: bool | None = None
    colour: Annotated[float, Field(ge=-3, le=10)] | None = None
    given: dict[Short, TermIn | None] | None = None
    extinction: Airs | None = None
    second_order: Airs | None = None
