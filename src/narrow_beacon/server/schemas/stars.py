"""The catalogue on the plate, placements, candidates and the cast."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Address, Asked, Id, IdList, Number, Numbers, Short


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
    note: list[str]
    """How each varies, where a catalogue says so."""
    parallax_mas: Numbers
    pm_arcsec_yr: list[float]


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


class FinderQuery(Asked):
    """How a finder chart is drawn; without a file from the catalogue."""

    filter: Short = ""
    file: Id | None = None
    row: Id | None = None
    """Another star that the chart is of; its place names it where it is not known to vary."""
    width: Annotated[float, Field(ge=1, le=600)] = 20.0
    up: Annotated[float, Field(ge=-360, le=360)] = 0.0
    mirrored: bool = False
    faintest: Annotated[float, Field(ge=0, le=30)] | None = None
    points: bool = False


class FieldStar(BaseModel):
    """A star of the field over all exposures of a filter; see ``core.curve.field_stars``."""

    row: int
    name: str
    catalogue_mag: Number
    catalogue_uncertainty: Number
    colour: Number
    magnitude: Number
    uncertainty: Number
    off_mag: Number
    """Measured less catalogue."""
    scatter_mag: Number
    expected_mag: Number
    times: Number
    """Scatter over what is expected."""
    alike: Number
    correlated_mag: Number
    points: int
    spoiled: Number
    neighbour_mag: Number
    known_variable: bool
    listed: bool
    """Of the sequence."""
    fainter: Number
    redder: Number
    away_arcmin: Number
    peak_share: Number
    """The highest peak over the end of the linear range."""
    edge_px: Number
    """The least distance from the edge of an exposure."""
    score: float


class FieldStarsOut(BaseModel):
    filter: str
    band: str
    index: str
    """The colour, as "B-V"; empty without one."""
    by_colour: bool
    """Whether colours are corrected for."""
    stars: list[FieldStar]


class ColoursOut(BaseModel):
    """The field's stars by colour and magnitude; no filters where fewer than two were measured."""

    bluer: str
    redder: str
    transformed: bool
    row: list[int]
    name: list[str]
    colour: list[float]
    colour_uncertainty: list[float]
    magnitude: list[float]
    uncertainty: list[float]


class Candidates(BaseModel):
    filter: str
    band: str
    file_ids: list[int]
    candidates: list[Candidate]


class CastIn(Asked):
    target: Id
    comparison: IdList
    checks: Annotated[list[Id], Field(max_length=20)]
    """The one that reports name first."""


class TargetIn(Asked):
    """A star of the catalogue to follow beside the targets that there are."""

    row: Id


class SequenceIn(Asked):
    """A file of comparison stars with magnitudes of their own; an empty ``file`` takes it off."""

    file: Address
    chart: Short = ""
    columns: dict[Short, Annotated[str, Field(max_length=200)]] = Field(
        default_factory=dict, max_length=60
    )
    epoch_yr: float | None = Field(default=None, ge=1800, le=2200)


class FrontIn(Asked):
    place: Annotated[int, Field(ge=0, le=1000)]
