"""Jobs and the log."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Asked, Id, IdList


class LogOut(BaseModel):
    id: int
    at: datetime
    who: str
    words: str
    undone: bool


class LogList(BaseModel):
    entries: list[LogOut]


class Meant(Asked):
    """``entry``: the action of the log that is meant; refused where another one is next."""

    entry: Id | None = None


class NewJob(Asked):
    kind: Literal[
        "sort", "look", "masters", "place", "census", "settle", "reduce", "export", "combine"
    ]
    pedestal_adu: float = Field(default=0.0, ge=0, le=1e6)
    """Of exported exposures: added to every pixel, and recorded."""
    every: Annotated[int, Field(ge=2, le=10_000)] | None = None
    """How many exposures make a combined one; or:"""
    minutes: Annotated[float, Field(ge=0.1, le=100_000)] | None = None
    method: Literal["clipped", "mean", "median"] = "clipped"
    ids: IdList = Field(default_factory=list)
    """Of these exposures alone; of all without any."""


class JobOut(BaseModel):
    id: int
    kind: str
    state: str
    words: str
    done: int
    total: int
    failures: list[str]
    log: str
    """The trace of an error of the program, for whoever mends it."""
    created: datetime
    finished: datetime | None


class JobList(BaseModel):
    jobs: list[JobOut]
