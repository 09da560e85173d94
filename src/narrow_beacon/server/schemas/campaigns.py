"""Campaigns, their settings and how their stages stand."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Address, Asked, IdList, Name, Number, Short
from narrow_beacon.server.schemas.standard import TransformSaid


class CampaignName(BaseModel):
    id: int
    name: str
    nights: list[str]
    archived: bool


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


class NewCampaign(Asked):
    name: str = Field(min_length=1, max_length=120)
    folders: list[Address] = Field(default=[], max_length=1000)
    reduce: bool = False


class Target(BaseModel):
    name: str
    ra_deg: Number
    dec_deg: Number
    sure: bool
    row: int | None


class FollowedTarget(BaseModel):
    """One of a campaign's targets, by its place among them."""

    name: str
    place: int
    in_front: bool


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


class SiteIn(Asked, SiteValues):
    """A site as the observer gives it."""

    elevation_m: float = Field(default=0.0, ge=-500, le=9000)


class KitIn(Asked, KitValues):
    """A kit as the observer gives it, within what a telescope and a camera can be."""

    gain_e_per_adu: float | None = Field(default=None, ge=1e-3, le=1e3)
    read_noise_e: float | None = Field(default=None, ge=0, le=1e3)
    linear_limit_adu: float | None = Field(default=None, ge=1, le=1e9)
    aperture_m: float | None = Field(default=None, ge=0.01, le=50)
    scale_arcsec_per_px: float | None = Field(default=None, ge=0.01, le=300)
    clock_offset_s: float = Field(default=0.0, ge=-1e6, le=1e6)


class CatalogueOut(BaseModel):
    id: int
    name: str
    origin: str
    stars: int
    bands: list[str]
    path: str
    """Of its file, where it came from one."""
    fetched: datetime | None
    """When the stars were looked up in other catalogues."""


class SequenceOut(BaseModel):
    """The sequence that is laid over the catalogue."""

    file: str
    chart: str
    columns: dict[str, str]
    stars: int
    missing: list[str]
    """Those that the catalogue lacks."""


class CastOut(BaseModel):
    version: int
    target: int
    comparison: list[int]
    checks: list[int]
    """The one that reports name first."""
    reasons: dict[str, str]
    dropped: dict[str, str]
    automatic: bool
    """The program chose it; more nights may change it until the observer does."""


class RecipeOut(BaseModel):
    version: int
    steps: dict[str, int]
    automatic: bool


class Stage(BaseModel):
    key: str
    state: Literal["done", "look", "todo", "waiting", "working"]
    count: int
    words: str
    remarks: int
    """Remarks at this stage that the observer has not seen yet."""


class RemarkOut(BaseModel):
    """What the program assumed, doubts or could not do, what it may cost, what can be done."""

    id: int
    stage: str
    about: str
    words: str
    matters: str
    remedy: str
    seen: bool


class SeenIn(Asked):
    ids: IdList
    seen: bool = True


class Offer(BaseModel):
    """Something that lies at hand: what it is, and the setting that takes it."""

    words: str
    catalogue_file: str = ""
    cone_url: str = ""


class NextStep(BaseModel):
    """The one next thing to do: where, why, and what lies at hand for it.

    ``job`` is long work to begin; without one the stage is where it is done.
    """

    stage: str
    words: str
    button: str
    job: Literal["", "sort", "look", "masters", "place", "census", "reduce"] = ""
    offers: list[Offer] = []


class Measuring(Asked):
    """Radius and sky ring: ``radius`` is "auto", pixels, or star widths as in "1.6 fwhm"."""

    radius: str = "auto"
    annulus: tuple[float, float] = (3.5, 5.5)
    annulus_in_pixels: bool = False


class NightOut(BaseModel):
    id: int
    evening: str


class ActionOut(BaseModel):
    """An action of the log; ``elsewhere``: it was done on another page."""

    id: int
    words: str
    elsewhere: bool


class WatchOut(BaseModel):
    """Whether the folders are watched; the last exposure, and what is worse about it than about
    those before.
    """

    watching: bool
    last: datetime | None
    file_id: int | None
    worse: list[str]


class CampaignOut(BaseModel):
    id: int
    name: str
    revision: int
    folders: list[str]
    target: Target
    """The one in front."""
    targets: list[FollowedTarget]
    site: SiteValues | None
    kit: KitValues
    default_filter: str | None
    pattern: str | None
    """The colour pattern, where the observer says it."""
    library: str | None
    epoch_yr: Number
    bands: dict[str, str]
    bands_found: dict[str, str]
    """The catalogue's band that stands for each filter, by the table of bands or the observer."""
    measuring: Measuring
    archived: bool
    catalogue: CatalogueOut | None
    cone_url: str | None
    served_by: list[str]
    """Names of the catalogues that its stars would be looked up in."""
    merge: bool
    columns: dict[str, str]
    sequence: SequenceOut | None
    cast: CastOut | None
    recipe: RecipeOut | None
    layout: str
    doubtful: bool
    """Whether doubtful points are reported too."""
    floor: bool
    """Whether uncertainties hold the night's correlated noise."""
    transform: TransformSaid
    watch: WatchOut
    shelf: bool
    """Whether bias and darks of other campaigns serve it too."""
    stages: list[Stage]
    nights: list[NightOut]
    filters: list[str]
    kits: list[str]
    remarks: list[RemarkOut]
    next: NextStep
    constants: dict[str, str]
    undo: ActionOut | None
    redo: ActionOut | None
    """What this page would take back, or do again."""


class Settings(Asked):
    """What the observer sets of a campaign; what is absent stays."""

    name: Name | None = None
    archived: bool | None = None
    folders: list[Address] | None = Field(default=None, max_length=1000)
    library: Address | None = None
    epoch_yr: float | None = Field(default=None, ge=1800, le=2200)
    bands: dict[Short, Short] | None = Field(default=None, max_length=100)
    measuring: Measuring | None = None
    layout: Annotated[str, Field(max_length=200)] | None = None
    doubtful: bool | None = None
    floor: bool | None = None
    watching: bool | None = None
    shelf: bool | None = None
    target_name: Name | None = None
    target_ra: Short | None = None
    target_dec: Short | None = None
    site: SiteIn | None = None
    kit: KitIn | None = None
    default_filter: Short | None = None
    pattern: Literal["", "RGGB", "BGGR", "GRBG", "GBRG"] | None = None
    catalogue_file: Address | None = None
    columns: dict[Short, Annotated[str, Field(max_length=200)]] | None = Field(
        default=None, max_length=60
    )
    """What the catalogue file's columns mean, by meaning or band."""
    merge: bool | None = None
    """Whether stars come from all catalogues together, or from the first that has any."""
    fetch_again: bool = False
    """Look the stars up anew."""
    cone_url: Address | None = None
