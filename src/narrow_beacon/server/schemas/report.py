"""What keeps a report from going out, and what went out."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import BaseModel


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


class ReportPage(BaseModel):
    layout: str
    layouts: list[str]
    """Those that come along; a file's path is one as well."""
    preview: str
    lines: int
    checks: list[Check]
    reports: list[ReportOut]
