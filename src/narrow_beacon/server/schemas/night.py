"""Exposures and the sky above them."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Asked, Columns, Id, IdList, Number, Short


class Exposure(BaseModel):
    id: int
    name: str
    night: int
    filter: str
    jd_utc: float
    mid_utc: datetime
    exposure_s: float
    chain: str
    version: str
    """Another word whenever its corrected pixels are others."""
    airmass: Number
    fwhm_px: Number
    elongation: Number
    angle_deg: Number
    slope: Number
    saturated: Number
    noise: Number
    turn_deg: Number
    """Since the night's first exposure, half turns apart."""
    scale_ppm: Number
    """Of the scale, since then, in millionths: focus and refraction."""
    match: str
    """How it lies on the reference, in words."""
    trails: list[list[float]]
    shaded: list[list[int]]
    """Parts of the frame that something stands before: column and row, of ``parts`` each."""
    stars: int | None
    sky_adu_per_px: Number
    transparency: Number
    """The share of the clear night's light."""
    zero_point: Number
    drift_px: Number
    """Since the night's first exposure."""
    plane: list[float] | None
    width: int
    kit: str
    height: int
    placed: bool
    measured: bool
    trouble: str
    aside: str
    aside_by: str
    proposal: str


class Exposures(BaseModel):
    exposures: list[Exposure]
    reference: int | None
    reference_words: str
    parts: int
    """Of a frame along each side."""


class ExposureColumns(BaseModel):
    """``Exposures`` a column at a time; each is a list of values, or one of these two."""

    count: int
    columns: Columns
    reference: int | None
    reference_words: str
    parts: int


class LimitIn(Asked):
    """Exposures beyond it are set aside: of a filter and a night where these are given."""

    quality: Short
    above: float | None = None
    below: float | None = None
    filter: Short = ""
    night: Short = ""


class LimitOut(LimitIn):
    words: str
    drops: int
    """How many exposures lie beyond it that no other reason sets aside."""


class RulesIn(Asked):
    """From where on exposures are put forward; see core.stars.troubles.VetRules."""

    width: Annotated[float, Field(ge=1.05, le=100)]
    elongation: Annotated[float, Field(ge=1.05, le=100)]
    light: Annotated[float, Field(ge=0, le=1)]
    sky: Annotated[float, Field(ge=1.1, le=1e6)]
    shade: Annotated[float, Field(ge=0, le=0.7)]


class VettingIn(Asked):
    """What is sent is changed; the rest stays."""

    rules: RulesIn | None = None
    limits: Annotated[list[LimitIn], Field(max_length=200)] | None = None
    reference: Id | None = None
    """The exposure that others are matched to; 0: the program chooses."""


class VettingOut(BaseModel):
    rules: RulesIn
    usual: RulesIn
    limits: list[LimitOut]
    qualities: dict[str, str]
    """What a limit may be on, and its unit."""
    reference: int | None
    reference_by: str
    reference_words: str


class SetAside(Asked):
    ids: IdList
    aside: bool
    reason: str = ""


class SkyNight(BaseModel):
    night: int
    jd_utc: list[float]
    sun_deg: list[float]
    moon_deg: list[float]
    target_deg: list[float]
    moon_lit: float


class SkyOut(BaseModel):
    nights: list[SkyNight]
