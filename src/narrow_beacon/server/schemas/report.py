"""What keeps a report from going out, and what went out."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Asked, IdList, Number, Short


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
    star: str
    """Whose points they are."""
    other: bool
    """Whether that is another star than the target now."""
    scope: str
    recipient: str
    sent: datetime | None
    note: str


class ChangeOut(BaseModel):
    """A point that recipients have otherwise than it is now; ``now`` None: it goes out no more."""

    file_id: int
    filter: str
    jd_utc: float
    before: float
    now: Number
    report: int
    why: str


class LayoutOut(BaseModel):
    key: str
    name: str
    own: bool
    about: str


class ReportField(BaseModel):
    """A field of the layout that the observer fills."""

    name: str
    value: str
    usual: str


class LayoutText(BaseModel):
    name: str
    text: str
    own: bool


class LayoutTried(BaseModel):
    """A layout on trial: its mistakes, or what the report would be."""

    mistakes: list[str]
    preview: str


class LayoutIn(Asked):
    name: Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[\w .+-]+$")]
    text: Annotated[str, Field(max_length=200_000)]


class TextIn(Asked):
    text: Annotated[str, Field(max_length=200_000)]


class BundleQuery(Asked):
    raw: bool = False
    """With the raw files, so that the plan can be reduced as it is."""


class FigureQuery(Asked):
    """A figure's size in cm, and its title."""

    width: Annotated[float, Field(ge=4, le=60)] = 18.0
    height: Annotated[float, Field(ge=4, le=60)] = 11.0
    title: Annotated[str, Field(max_length=200)] = ""


class PhaseQuery(FigureQuery):
    period: Annotated[float, Field(gt=0, lt=1e5)]
    epoch: Annotated[float, Field(gt=2_000_000, lt=3_000_000)]
    kind: Short = "minimum"
    filter: Short = ""


class SentIn(Asked):
    recipient: Annotated[str, Field(max_length=200)] | None = None
    """Empty: it was not sent after all."""
    note: Annotated[str, Field(max_length=2000)] | None = None


class ReportingIn(Asked):
    fields: dict[Short, Annotated[str, Field(max_length=200)]] | None = None
    scope: Literal["all", "new", "changed"] | None = None
    held: IdList | None = None
    """Files whose points are held back."""


class ReportPage(BaseModel):
    layout: str
    about: str
    layouts: list[LayoutOut]
    """Those that come along, and the observatory's own; a file's path is one as well."""
    preview: str
    lines: int
    checks: list[Check]
    reports: list[ReportOut]
    scope: str
    points: int
    changes: list[ChangeOut]
    fields: list[ReportField]
    held: list[int]
