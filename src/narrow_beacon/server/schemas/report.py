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


class ReportPage(BaseModel):
    layout: str
    layouts: list[str]
    preview: str
    lines: int
    checks: list[Check]
    reports: list[ReportOut]
