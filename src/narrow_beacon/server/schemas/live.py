"""Jobs and the log."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import BaseModel


class LogOut(BaseModel):
    id: int
    at: datetime
    who: str
    words: str
    undone: bool


class LogList(BaseModel):
    entries: list[LogOut]


class NewJob(BaseModel):
    kind: Literal["sort", "masters", "place", "census", "settle", "reduce"]


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
