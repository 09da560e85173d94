"""Radii, one star, the recipe."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Asked, Id, Number, Numbers, Short


class RecipeIn(Asked):
    steps: dict[Short, Annotated[int, Field(ge=0, le=100)]]
    automatic: bool = False


class FilterQuery(Asked):
    filter: str = ""


class StarQuery(Asked):
    row: Id
    file: Id


class RowQuery(Asked):
    row: Id


class StarMeasure(BaseModel):
    file: int
    filter: str
    counts_adu: Number
    snr: Number
    instrumental: Number
    magnitude: Number
    uncertainty: Number
    sky_adu_per_px: Number
    peak_adu: Number
    x_px: Number
    """Counted from 1 on the exposure's image."""
    y_px: Number
    radius_px: float
    flags: str


class StarLightOut(BaseModel):
    """One star on every exposure that it was measured on, set aside or not."""

    row: int
    name: str
    measures: list[StarMeasure]


class NightRadii(BaseModel):
    night: int
    radii_px: list[float]


class RadiiOut(BaseModel):
    filter: str
    step: int
    radii_px: list[float]
    """Over all nights; each night's own are in ``nights``."""
    nights: list[NightRadii]
    radii_fwhm: list[float]
    target_snr: Numbers
    scatter_mag: Numbers
    best: int


class Budget(BaseModel):
    star: Number
    sky: Number
    dark: Number
    read: Number
    masters: Number
    scintillation: Number
    total_mag: Number


class StarOut(BaseModel):
    row: int
    name: str
    filter: str
    x_px: Number
    y_px: Number
    sky_adu_per_px: Number
    peak_adu: Number
    flags: str
    radii_px: list[float]
    counts_adu: Numbers
    uncertainty_adu: Numbers
    snr: Numbers
    profile_radius_px: list[float]
    profile_adu: list[float]
    annulus_px: tuple[float, float]
    budgets: list[Budget]
