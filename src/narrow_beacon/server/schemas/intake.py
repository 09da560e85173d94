"""Files, stacks, corrections, folders."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from narrow_beacon.server.schemas.common import Asked, Columns, IdList, Number, Short


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
    kit: str
    count: int
    words: str
    ids: list[int]


class IntakeOut(BaseModel):
    files: list[FileOut]
    stacks: list[Stack]
    missing: list[str]


class IntakeColumns(BaseModel):
    """``IntakeOut`` with its files a column at a time."""

    count: int
    columns: Columns
    stacks: list[Stack]
    missing: list[str]


class SaidOut(BaseModel):
    """What the headers of some files say in common, by fact: with its keyword, "nothing" or
    "several".
    """

    said: dict[str, str]


class Said(Asked):
    """The observer's word on some files; "" takes an earlier word back, absent leaves it."""

    kind: Short | None = None
    filter: Short | None = None
    exposure_s: Short | None = None
    time_utc: Short | None = None
    shift_s: Short | None = None
    moment: Short | None = None
    temperature_c: Short | None = None
    gain_setting: Short | None = None
    offset_setting: Short | None = None
    camera: Short | None = None
    telescope: Short | None = None
    ra_deg: Short | None = None
    dec_deg: Short | None = None
    aside: Short | None = None


class Corrections(Said):
    """Words for some files."""

    ids: IdList


class Change(BaseModel):
    """What one file would become: what changes, before and after."""

    id: int
    name: str
    changes: list[str]


class PreviewOut(BaseModel):
    """What some words would make of their files: the first files of which something changes, and
    how many they are in all.
    """

    files: list[Change]
    count: int


class NamesQuery(Asked):
    pattern: str = Field(max_length=200)


class NamePatternIn(Asked):
    """A pattern for what stands in the names of some files."""

    ids: IdList
    pattern: str = Field(max_length=200)


class NameOut(BaseModel):
    """What a file's name says; None where the pattern does not ask."""

    id: int
    kind: str | None
    filter: str | None
    exposure_s: float | None
    time_utc: str | None
    temperature_c: float | None
    gain_setting: float | None
    offset_setting: float | None
    camera: str | None


class NamesOut(BaseModel):
    """Files whose names fit a pattern."""

    files: list[NameOut]


class Folder(BaseModel):
    path: str
    name: str
    files: int
    has_plan: bool


class NamedFile(BaseModel):
    path: str
    name: str


class FolderList(BaseModel):
    path: str
    parent: str | None
    folders: list[Folder]
    files: int
    has_plan: bool
    named: list[NamedFile]
    """The files that were asked for."""


class FolderQuery(Asked):
    """``files`` asks for files that can be a star catalogue or a layout, by their names' ends."""

    path: str = ""
    files: Literal["", "catalogue", "layout", "defects", "masters", "exposures"] = ""
