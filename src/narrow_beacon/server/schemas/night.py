"""Exposures and the sky above them."""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel

from narrow_beacon.server.schemas.common import Asked, IdList, Number


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
    stars: int | None
    sky_adu_per_px: Number
    transparency: Number
    zero_point: Number
    drift_arcsec: Number
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
