"""Chains, masters, images."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Address, Asked, Number

Step = Literal["bias", "dark", "flat", "lean"]
Pixel = Annotated[int, Field(ge=0, le=100_000)]


class StationOut(BaseModel):
    kind: str
    words: str
    master: str
    master_id: int | None
    remarks: list[str]


class OptionOut(BaseModel):
    """A master that a step of a chain could use, what it is, and what does not fit about it."""

    step: Step
    key: str
    label: str
    words: str
    remarks: list[str]
    picked: bool
    grade: str
    """How well it fits: "exact", "scaled" or "poor"."""
    fit: list[str]
    """In what it was compared."""
    differs: str
    """What does not fit exactly."""


class ChainOut(BaseModel):
    name: str
    exposures: int
    stations: list[StationOut]
    missing: list[str]
    defects: int
    masters: list[str]
    """Keys of those in use."""
    left_out: list[str]


class ChainQuery(Asked):
    chain: Annotated[str, Field(max_length=400)]


class OptionsOut(BaseModel):
    """What the steps of a chain could use, the best fit first; ``more`` counts, by step, the
    masters that fit less well and are not told.
    """

    options: list[OptionOut]
    more: dict[str, int]


class MasterPick(Asked):
    """The master of a chain's step: its key, "none" to do without, "" as it fits best; of "lean"
    what its flat is straightened by, in mmag from left to right and from bottom to top.
    """

    chain: Annotated[str, Field(max_length=400)]
    step: Step
    key: str


class FrameOf(BaseModel):
    """A frame that went into a master."""

    id: int
    name: str


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
    combined: str
    """How, in words."""
    made_with: list[str]
    frames: list[FrameOf]
    """Those of its frames that are files of this campaign."""
    used: bool
    camera: str
    version: str
    """Another word whenever its pixels are others."""


class FlatOut(BaseModel):
    """What one flat over another shows; ``words`` are empty where it is noise alone."""

    words: list[str]
    scatter: float
    expected: Number
    slope: float
    slope_deg: float
    radial: float
    cost_mmag: float
    """The most that one in place of the other would cost."""


class FigureOut(BaseModel):
    """One measure of an exposure, raw and corrected, in its unit."""

    name: str
    unit: str
    raw: Number
    corrected: Number


class FiguresOut(BaseModel):
    figures: list[FigureOut]


class DefectVersion(BaseModel):
    """What was said of a kit's defects before, and where."""

    id: int
    said: str
    campaign: str
    threshold: float
    marks: list[list[int]]


class DefectsOut(BaseModel):
    """What counts as a defect of the camera of an exposure, and what another threshold would."""

    kit: str
    on_exposures: bool
    """Whether they are seen on the median of some exposures, for there is no dark."""
    threshold: float
    marks: list[list[int]]
    """[x, y, width, height] each, x and y counted from 1."""
    own: bool
    """Whether something was said of its kits in this campaign, and not only in others."""
    versions: list[DefectVersion]
    """All that was said of the kit's defects, the newest first."""
    first: list[int]
    """Column and row, from 1, of the image's first pixel in the file."""
    step: int
    """From one of the image's pixels to the next, in the file's."""
    x_px: list[int]
    y_px: list[int]
    deviation: list[float]
    """The pixels that depart most from their neighbours, the farthest first."""
    more: bool
    """Whether there are more of them than are listed."""
    stars: list[float]
    """For each measured star of the exposure the largest deviation in its aperture."""
    star_x_px: list[float]
    star_y_px: list[float]
    radius_px: float
    """Where these stars are in the image, and the aperture's radius."""


class MapQuery(Asked):
    """As a table of what was marked, or as an image of all that is repaired."""

    form: Literal["csv", "fits"] = "fits"


class MapIn(Asked):
    """A file of marks, and an exposure of the kit."""

    file: Annotated[int, Field(ge=1, lt=2**31)]
    path: Address


class DefectsIn(Asked):
    """A threshold in robust standard deviations, and marked pixels counted from 1."""

    file: Annotated[int, Field(ge=1, lt=2**31)]
    """An exposure of the kit."""
    threshold: float = Field(ge=3, le=1e6)
    marks: list[Annotated[list[Pixel], Field(min_length=4, max_length=4)]] = Field(
        max_length=20_000
    )


class ShelfMaster(BaseModel):
    """A master of some night and campaign."""

    id: int
    campaign: str
    kit: str
    settings: str
    kind: str
    label: str
    filter: str
    exposure_s: float
    temperature_c: Number
    night: str
    age_days: int | None
    count: int
    level_adu: float
    noise_adu: Number
    clipped_share: float
    retired: bool
    own: bool
    """Whether it is the shelf's own: imported, or of a campaign that was deleted."""
    used: bool
    version: str


class ShelfOut(BaseModel):
    masters: list[ShelfMaster]


class Import(Asked):
    """A file, or a folder, of masters that were made elsewhere."""

    path: Address


class Retire(Asked):
    retired: bool


class CorrectOut(BaseModel):
    chains: list[ChainOut]
    masters: list[MasterOut]


class ImageQuery(Asked):
    off: str = ""
    """Stations that are left out: "overscan", "offset", "flat", "repair", joined by commas; of a
    master or a single flat "over" and the number of a master: the one divided by the other; of an
    exposure "residual" and a threshold: what a repair by it takes away; of a combined exposure
    "rejected": how many values were left out."""
    version: str = ""
    """Of the exposure or master, so that the browser may keep what it has."""


class CutoutQuery(Asked):
    """Where: a place of the image, counted from 0, or a star by its row of the catalogue."""

    x: Annotated[float, Field(ge=-1e6, le=1e6)] | None = None
    y: Annotated[float, Field(ge=-1e6, le=1e6)] | None = None
    star: Annotated[int, Field(ge=0, lt=2**31)] | None = None
    half: Annotated[int, Field(ge=4, le=64)] = 16
    version: str = ""


class ImageInfo(BaseModel):
    width: int
    height: int
    first: list[int]
    """Column and row, from 1, of its first pixel in the file."""
    step: int
    """From one of its pixels to the next, in those of the file; 2 for a colour."""
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
