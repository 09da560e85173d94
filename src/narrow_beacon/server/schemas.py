"""What goes over the wire. The page's types are made from these."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import BaseModel, Field

Number = float | None
Numbers = list[float | None]


class Done(BaseModel):
    """Nothing to say but that it was done."""

    words: str = ""


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


class SkyNight(BaseModel):
    night: int
    jd_utc: list[float]
    sun_deg: list[float]
    moon_deg: list[float]
    target_deg: list[float]
    moon_lit: float


class SkyOut(BaseModel):
    nights: list[SkyNight]


class FileOut(BaseModel):
    id: int
    name: str
    part: str
    part_reason: str
    kind: str
    filter: str
    exposure_s: Number
    time_utc: str
    temperature_c: Number
    night: str
    said: dict[str, str]
    correction: dict[str, str]
    question: bool


class Stack(BaseModel):
    part: str
    kind: str
    filter: str
    exposure_s: Number
    temperature_c: Number
    settings: str
    night: str
    count: int
    words: str
    ids: list[int]


class IntakeOut(BaseModel):
    files: list[FileOut]
    stacks: list[Stack]
    missing: list[str]


class Corrections(BaseModel):
    """The observer's word on some files; "" takes an earlier word back, absent leaves it."""

    ids: list[int]
    kind: str | None = None
    filter: str | None = None
    exposure_s: str | None = None
    time_utc: str | None = None


class NamesQuery(BaseModel):
    pattern: str = Field(max_length=200)


class NamePatternIn(BaseModel):
    """A pattern for what stands in the names of some files."""

    ids: list[int]
    pattern: str = Field(max_length=200)


class NameOut(BaseModel):
    """What a file's name says; None where the pattern does not ask."""

    id: int
    kind: str | None
    filter: str | None
    exposure_s: float | None
    time_utc: str | None


class NamesOut(BaseModel):
    """Files whose names fit a pattern."""

    files: list[NameOut]


class Folder(BaseModel):
    path: str
    name: str
    files: int
    has_plan: bool


class FolderList(BaseModel):
    path: str
    parent: str | None
    folders: list[Folder]
    files: int
    has_plan: bool


class FolderQuery(BaseModel):
    path: str = ""


class Ids(BaseModel):
    ids: list[int]


class SetAside(BaseModel):
    ids: list[int]
    aside: bool
    reason: str = ""


class LogOut(BaseModel):
    id: int
    at: datetime
    who: str
    words: str
    undone: bool


class LogList(BaseModel):
    entries: list[LogOut]


class NewJob(BaseModel):
    kind: Literal["sort", "masters", "place", "census", "reduce"]


class JobOut(BaseModel):
    id: int
    kind: str
    state: str
    words: str
    done: int
    total: int
    failures: list[str]
    created: datetime
    finished: datetime | None


class JobList(BaseModel):
    jobs: list[JobOut]


Step = Literal["bias", "dark", "flat"]


class StationOut(BaseModel):
    kind: str
    words: str
    master: str
    remarks: list[str]


class OptionOut(BaseModel):
    """A master that a step of a chain could use, what it is, and what does not fit about it."""

    step: Step
    key: str
    label: str
    words: str
    remarks: list[str]
    picked: bool


class ChainOut(BaseModel):
    name: str
    exposures: int
    stations: list[StationOut]
    missing: list[str]
    defects: int
    options: list[OptionOut]
    left_out: list[str]


class MasterPick(BaseModel):
    """The master of a chain's step: its key, "none" to do without, "" as it fits best."""

    chain: str
    step: Step
    key: str


class MasterOut(BaseModel):
    id: int
    label: str
    kind: str
    filter: str
    exposure_s: float
    temperature_c: Number
    night: str
    count: int
    level_adu: float
    clipped_share: float
    made_with: list[str]
    used: bool
    version: str
    """Another word whenever its pixels are others."""


class CorrectOut(BaseModel):
    chains: list[ChainOut]
    masters: list[MasterOut]
    remarks: list[str]


class ImageQuery(BaseModel):
    off: str = ""
    """Stations that are left out: "offset", "flat", "repair", joined by commas."""
    version: str = ""
    """Of the exposure or master, so that the browser may keep what it has."""


class ImageInfo(BaseModel):
    width: int
    height: int
    levels: int
    tile: int
    offset: float
    scale: float
    sky: float
    noise: float
    low: float
    high: float
    histogram: list[int]
    histogram_low: float
    histogram_step: float


class Catalogue(BaseModel):
    """Stars of the field as columns; ``east_arcsec`` and ``north_arcsec`` from the target."""

    row: list[int]
    name: list[str]
    ra_deg: list[float]
    dec_deg: list[float]
    east_arcsec: list[float]
    north_arcsec: list[float]
    magnitudes: dict[str, Numbers]
    known_variable: list[bool]


class MeasuredStars(BaseModel):
    """Stars measured on an exposure as columns; pixels count from 0 at the first pixel's centre."""

    row: list[int]
    x_px: list[float]
    y_px: list[float]
    predicted_x_px: list[float]
    predicted_y_px: list[float]
    magnitude: Numbers
    snr: Numbers
    peak_adu: Numbers
    flags: list[str]
    radius_px: float
    annulus_px: tuple[float, float]


class PlacementOut(BaseModel):
    words: str
    how: str
    scale_arcsec_per_px: Number
    rotation_deg: Number
    mirrored: bool | None
    matched: int
    compared: int
    residual_px: Number
    residual_arcsec: Number
    false_log10: Number
    ra_deg: Number
    dec_deg: Number
    trouble: str
    wcs: dict[str, str | float]


class Candidate(BaseModel):
    row: int
    name: str
    magnitude: Number
    colour: Number
    measured: Number
    off_line: Number
    scatter_mag: Number
    expected_mag: Number
    varies: bool
    present: float
    words: str
    series: Numbers


class Candidates(BaseModel):
    filter: str
    band: str
    file_ids: list[int]
    candidates: list[Candidate]


class CastIn(BaseModel):
    target: int
    comparison: list[int]
    check: int | None


class RecipeIn(BaseModel):
    steps: dict[str, int]
    automatic: bool = False


class FilterQuery(BaseModel):
    filter: str = ""


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


class StarQuery(BaseModel):
    row: int
    file: int


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


class FilterCurveOut(BaseModel):
    filter: str
    band: str
    file_ids: list[int]
    jd_utc: list[float]
    bjd_tdb: list[float]
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
    series: list[StarSeries]


class CurveOut(BaseModel):
    revision: int
    """Of the campaign that these curves show."""
    filters: list[FilterCurveOut]
    problems: list[str]
    cast: CastOut | None
    recipe: RecipeOut | None


class Check(BaseModel):
    state: Literal["good", "look", "stop"]
    words: str


class ReportOut(BaseModel):
    id: int
    created: datetime
    layout: str
    files: list[str]
    points: int
    changed: int


class ReportPage(BaseModel):
    layout: str
    layouts: list[str]
    preview: str
    lines: int
    checks: list[Check]
    reports: list[ReportOut]
