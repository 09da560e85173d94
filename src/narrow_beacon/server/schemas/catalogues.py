"""The observatory's catalogues: what there is, what a table's columns mean, what is said."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Address, Asked, Name, Number

ColumnName = Annotated[str, Field(max_length=200)]
Columns = Annotated[dict[Annotated[str, Field(max_length=60)], ColumnName], Field(max_length=60)]
Epoch = Annotated[float | None, Field(ge=1800, le=2200)]


class SourceOut(BaseModel):
    """A catalogue; ``done`` while it is made: rows that were read, or hundredths of the patterns.
    ``kept_from``: the day of the oldest answer of a service that is kept, and ``kept`` how many.
    """

    id: int
    name: str
    role: str
    """"stars" or "variables"."""
    kind: str
    """"file" or "service"."""
    place: str
    columns: dict[str, str]
    epoch_yr: Number
    state: str
    """"making", "ready" or "failed"."""
    words: str
    done: int
    stars: int
    bands: list[str]
    megabytes: float
    anywhere: bool
    """Whether exposures of which nothing is known are placed by it."""
    kept: int
    kept_from: datetime | None


class Catalogues(BaseModel):
    """In the order in which they are tried."""

    sources: list[SourceOut]


class ColumnOut(BaseModel):
    """A column with its first values."""

    name: str
    unit: str
    ucd: str
    numeric: bool
    values: list[str]


class Look(Asked):
    """Which table to look at: a file, or a service at a position in degrees."""

    role: Literal["stars", "variables"] = "stars"
    kind: Literal["file", "service"]
    place: Address
    columns: Columns = Field(default_factory=dict)
    campaign: int | None = Field(default=None, ge=0, lt=2**31)
    """Whose position a service is asked at."""


class LookOut(BaseModel):
    """The columns, what each meaning is taken from, and what is wrong, if anything."""

    columns: list[ColumnOut]
    meaning: dict[str, str]
    problem: str
    meanings: list[str]
    bands: list[str]
    """The names of the bands that there are."""


class SourceIn(Asked):
    """A catalogue to add."""

    name: Name = ""
    role: Literal["stars", "variables"] = "stars"
    kind: Literal["file", "service"]
    place: Address
    columns: Columns = Field(default_factory=dict)
    epoch_yr: Epoch = None


class SourceChange(Asked):
    """What is said of a catalogue; ``earlier``: it is to be tried one place sooner."""

    name: Name | None = None
    columns: Columns | None = None
    epoch_yr: Epoch = None
    earlier: bool = False
    again: bool = False
    """Make it again, or forget what a service sent."""
