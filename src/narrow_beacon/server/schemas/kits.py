"""Kits, and what is said of them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Asked

Combination = Literal["clipped", "mean", "median"]


class Said(BaseModel):
    """What the observer says of a kit; None where it is read, measured or as usual."""

    gain_e_per_adu: float | None = Field(default=None, ge=1e-3, le=1e3)
    read_noise_e: float | None = Field(default=None, ge=0, le=1e3)
    linear_limit_adu: float | None = Field(default=None, ge=1, le=1e9)
    scale_arcsec_per_px: float | None = Field(default=None, ge=0.01, le=300)
    exposure_tolerance: float | None = Field(default=None, ge=0, le=0.5)
    temperature_tolerance_c: float | None = Field(default=None, ge=0, le=50)
    lasts_days: float | None = Field(default=None, ge=1, le=10_000)
    combine: Combination | None = None
    clip_sigma: float | None = Field(default=None, ge=2, le=20)


class RulesOut(BaseModel):
    """How a kit's calibration frames are combined, and when a master fits."""

    exposure_tolerance: float
    temperature_tolerance_c: float
    lasts_days: float
    combine: Combination
    clip_sigma: float


class KitOut(BaseModel):
    """A kit in one setting. ``constants`` say each value in words, with where it came from."""

    name: str
    kit: str
    setting: str
    exposures: int
    constants: dict[str, str]
    said: Said
    rules: RulesOut


class KitsOut(BaseModel):
    kits: list[KitOut]


class TransferPoint(BaseModel):
    level_adu: float
    variance_adu2: float
    filter: str


class TransferOut(BaseModel):
    """Levels above bias and variances of pairs of flats, and the straight line through the dimmer
    ones: variance = (read_noise_e / gain)² + level / gain. Without points ``words`` say why.
    """

    points: list[TransferPoint]
    bias_adu: float
    gain_e_per_adu: float
    read_noise_e: float
    linear_to_adu: float
    bends: bool
    words: str


class KitQuery(Asked):
    name: Annotated[str, Field(max_length=300)]


class KitSaid(Asked):
    """What is said of a kit, by its name with or without a setting."""

    name: Annotated[str, Field(max_length=300)]
    said: Said
