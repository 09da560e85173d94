"""Campaigns, their settings and how their stages stand."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Number


class CampaignName(BaseModel):
    id: int
    name: str
    nights: list[str]


class Progress(BaseModel):
    job: int
    campaign: int
    kind: str
    words: str
    done: int
    total: int
    rate: float
    left_s: Number
    failures: list[str]


class AppState(BaseModel):
    version: str
    campaigns: list[CampaignName]
    folders: list[str]
    cone_url: str
    demo_folder: str
    progress: Progress | None


class NewCampaign(BaseModel):
    name: str = Field(min_length=1, max_length=120)
    folders: list[str] = []
    reduce: bool = False


class Target(BaseModel):
    name: str
    ra_deg: Number
    dec_deg: Number
    sure: bool
    row: int | None


class SiteValues(BaseModel):
    latitude_deg: float = Field(ge=-90, le=90)
    longitude_deg: float = Field(ge=-180, le=360)
    elevation_m: float = 0.0


class KitValues(BaseModel):
    gain_e_per_adu: Number = None
    read_noise_e: Number = None
    linear_limit_adu: Number = None
    aperture_m: Number = None
    scale_arcsec_per_px: Number = None
    timestamp: Literal["start", "middle"] = "start"
    clock_offset_s: float = 0.0


class CatalogueOut(BaseModel):
    name: str
    origin: str
    stars: int
    bands: list[str]


class CastOut(BaseModel):
    version: int
    target: int
    comparison: list[int]
    check: int | None
    reasons: dict[str, str]
    dropped: dict[str, str]


class RecipeOut(BaseModel):
    version: int
    steps: dict[str, int]
    automatic: bool
    annulus_fwhm: tuple[float, float]


class Stage(BaseModel):
    key: str
    state: Literal["done", "look", "todo", "waiting", "working"]
    count: int
    words: str


class NightOut(BaseModel):
    id: int
    evening: str


class CampaignOut(BaseModel):
    id: int
    name: str
    revision: int
    folders: list[str]
    target: Target
    site: SiteValues | None
    kit: KitValues
    default_filter: str | None
    catalogue: CatalogueOut | None
    cone_url: str | None
    cast: CastOut | None
    recipe: RecipeOut | None
    layout: str
    stages: list[Stage]
    nights: list[NightOut]
    filters: list[str]
    remarks: list[str]
    constants: dict[str, str]
    undo: str | None
    redo: str | None


class Settings(BaseModel):
    """What the observer sets of a campaign; what is absent stays."""

    name: str | None = None
    folders: list[str] | None = None
    target_name: str | None = None
    target_ra: str | None = None
    target_dec: str | None = None
    site: SiteValues | None = None
    kit: KitValues | None = None
    default_filter: str | None = None
    catalogue_file: str | None = None
    cone_url: str | None = None
