"""Stars that are pointed at on an exposure."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Asked, Number


class PointIn(Asked):
    """A place on the image, counted from 0."""

    x: Annotated[float, Field(ge=-1e6, le=1e6)]
    y: Annotated[float, Field(ge=-1e6, le=1e6)]


class Pointing(BaseModel):
    """What the pixels say of a star; magnitude by the exposure's own zero point, from ``stars``
    stars of the catalogue, where it is placed. Pixels count from 0.
    """

    id: int
    file_id: int
    exposure: str
    filter: str
    name: str
    x_px: float
    y_px: float
    ra_deg: Number
    dec_deg: Number
    counts_adu: float
    uncertainty_adu: float
    snr: float
    sky_adu_per_px: float
    peak_adu: float
    fwhm_px: Number
    radius_px: float
    magnitude: Number
    magnitude_uncertainty: Number
    band: str
    stars: int


class Pointings(BaseModel):
    """In the order in which they were pointed at."""

    pointings: list[Pointing]
