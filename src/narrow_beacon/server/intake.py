"""Intake: folders, uploads, stacks, what is missing, the observer's corrections."""

from __future__ import annotations

import itertools
import os
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from apiflask import APIBlueprint
from flask import Response, request
from sqlalchemy import select
from sqlalchemy.orm import Session
from werkzeug.datastructures import FileStorage
from werkzeug.utils import secure_filename

from narrow_beacon.core.frames.file_name import NamePattern, NamePatternError, NameValues
from narrow_beacon.core.frames.frame import Correction
from narrow_beacon.core.frames.words import WORDS, read_word
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.sorting import changed_words, inspected
from narrow_beacon.server.campaigns import PLAN_NAME
from narrow_beacon.server.columns import columns_json, object_json, rows_json
from narrow_beacon.server.intake_files import campaign_files, said_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done, Ids
from narrow_beacon.server.schemas.intake import Change as ChangeOut
from narrow_beacon.server.schemas.intake import (
    Corrections,
    Folder,
    FolderList,
    FolderQuery,
    IntakeColumns,
    IntakeOut,
    NamedFile,
    NameOut,
    NamePatternIn,
    NamesOut,
    NamesQuery,
    PreviewOut,
    SaidOut,
)
from narrow_beacon.server.state import campaign_of, changing, files_in, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import plan_of, queue_job
from narrow_beacon.store.files import (
    correction_from,
    correction_of,
    known_files,
)
from narrow_beacon.store.models import Campaign, NightFile

blueprint = APIBlueprint("intake", __name__)
_LISTED = 400
_MOST_NAME = 200
_PREVIEWED = 200
_ENDS = {
    "exposures": (".fits", ".fit", ".fts", ".fz", ".gz"),
    "catalogue": (".vot", ".votable", ".xml", ".ecsv", ".csv", ".fits", ".fit"),
    "layout": (".toml",),
    "defects": (".csv", ".txt", ".fits", ".fit", ".fts"),
    "masters": (".fits", ".fit", ".fts", ".fits.gz", ".fits.fz"),
}


@blueprint.get("/api/folders")
@blueprint.input(FolderQuery, location="query", arg_name="query")
@blueprint.output(FolderList)
def folders(query: FolderQuery) -> FolderList:
    """What is below a folder; without one, the folders that may be read."""
    allowed = shared().folders
    if not query.path:
        found = [_folder(path) for path in allowed.allowed if path.is_dir()]
        return FolderList(path="", parent=None, folders=found, files=0, has_plan=False, named=[])
    path = allowed.check(query.path)
    if not path.is_dir():
        raise Problem(422, "Not a folder", f"{path} is a file; name the folder that it is in.")
    try:
        inside = sorted(p for p in path.iterdir() if not p.name.startswith("."))
    except OSError as error:
        raise Problem(403, "Folder cannot be read", f"{path}: {error.strerror}.") from error
    below = [_folder(p) for p in inside if p.is_dir()]
    top = path in allowed.allowed
    return FolderList(
        path=str(path), parent="" if top else str(path.parent), folders=below[:_LISTED],
        files=sum(p.is_file() for p in inside), has_plan=(path / PLAN_NAME).is_file(),
        named=[
            NamedFile(path=str(p), name=p.name)
            for p in inside
            if p.name.lower().endswith(_ENDS.get(query.files, ())) and p.is_file()
        ][:_LISTED],
    )  # fmt: skip


def _folder(path: Path) -> Folder:
    count = 0
    try:
        for item in path.iterdir():
            count += item.is_file()
    except OSError:
        pass
    return Folder(
        path=str(path), name=path.name or str(path), files=count,
        has_plan=(path / PLAN_NAME).is_file(),
    )  # fmt: skip


@blueprint.post("/api/campaigns/<int:number>/upload")
@blueprint.output(Done)
def upload(number: int) -> Done:
    """Take files from the page into a folder of the campaign, then sort them."""
    state = shared()
    sent = request.files.getlist("files")
    if not sent:
        raise Problem(422, "No files", "Choose the night's files first.")
    folder = state.store.folder(f"campaign-{number}", "uploads")
    with state.store.session() as session:
        campaign_of(session, number)
    for item in sent:
        _take_in(item, folder)
    with changing(number) as (session, campaign):
        if str(folder) not in campaign.folders:
            campaign.folders = [*campaign.folders, str(folder)]
        queue_job(session, campaign, "sort")
    return Done(words=f"{counted(len(sent), 'file')} taken in.")


def _take_in(item: FileStorage, folder: Path) -> None:
    """Write one sent file whole or not at all, and over nothing that is there already."""
    name = secure_filename(item.filename or "")[-_MOST_NAME:] or "file"
    descriptor, part = tempfile.mkstemp(dir=folder, prefix=".sent-")
    try:
        with os.fdopen(descriptor, "wb") as file:
            item.save(file)
        for turn in itertools.count():
            path = folder / (f"{Path(name).stem}-{turn}{Path(name).suffix}" if turn else name)
            try:
                path.touch(0o600, exist_ok=False)  # ours alone from here on
            except FileExistsError:
                continue
            os.replace(part, path)
            return
    except BaseException:
        Path(part).unlink(missing_ok=True)
        raise


@blueprint.get("/api/campaigns/<int:number>/intake")
@blueprint.output(IntakeOut)
def intake(number: int) -> Response:
    """The files in stacks, what is missing or thin, and which files need an answer."""
    with shared().store.session() as session:
        found = campaign_files(session, campaign_of(session, number))
    told = object_json(
        {"files": rows_json(found.columns)}, stacks=found.stacks, missing=found.missing
    )
    return Response(told, content_type="application/json")


@blueprint.get("/api/campaigns/<int:number>/intake/columns")
@blueprint.output(IntakeColumns)
def intake_columns(number: int) -> Response:
    """The same with the files a column at a time: what the page reads."""
    with shared().store.session() as session:
        found = campaign_files(session, campaign_of(session, number))
    told = object_json(
        {"columns": columns_json(found.columns)}, count=len(found.columns["id"]),
        stacks=found.stacks, missing=found.missing,
    )  # fmt: skip
    return Response(told, content_type="application/json")


@blueprint.post("/api/campaigns/<int:number>/said")
@blueprint.input(Ids, arg_name="body")
@blueprint.output(SaidOut)
def said(number: int, body: Ids) -> SaidOut:
    """What the headers of some files say in common."""
    with shared().store.session() as session:
        return SaidOut(said=said_of(session, campaign_of(session, number), body.ids))


@blueprint.post("/api/campaigns/<int:number>/corrections")
@blueprint.input(Corrections, arg_name="body")
@blueprint.output(Done)
def correct_files(number: int, body: Corrections) -> Done:
    """Keep the observer's word on some files beside what their headers say."""
    given = _given(body)
    values = {name: _word(name, text) for name, text in given.items()}
    said = ", ".join(f"{WORDS[name][0]} {v or 'as in the header'}" for name, v in given.items())
    return _keep(number, dict.fromkeys(body.ids, values), said)


@blueprint.post("/api/campaigns/<int:number>/corrections/preview")
@blueprint.input(Corrections, arg_name="body")
@blueprint.output(PreviewOut)
def preview(number: int, body: Corrections) -> PreviewOut:
    """What the observer's word would make of some files; nothing is kept."""
    values = {name: _word(name, text) for name, text in _given(body).items()}
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        plan = plan_of(session, campaign)
        files = _own_files(session, campaign, body.ids)
        known = known_files(session, campaign)
        names = {number: name for name, number in known.ids.items()}
        wanted = {names[file.id]: file for file in files}
        before = {name: correction_of(file) for name, file in wanted.items()}
        after = {
            name: correction_from({**file.correction, **values}) for name, file in wanted.items()
        }
    changes = [
        ChangeOut(id=wanted[old.name].id, name=wanted[old.name].name, changes=changed)
        for old, new in zip(
            inspected(plan, known.raws, _said(before), wanted),
            inspected(plan, known.raws, _said(after), wanted), strict=True,
        )
        if (changed := changed_words(old, new))
    ]  # fmt: skip
    return PreviewOut(files=changes[:_PREVIEWED], count=len(changes))


def _said(words: dict[str, Correction | None]) -> dict[str, Correction]:
    return {name: word for name, word in words.items() if word is not None}


def _given(body: Corrections) -> dict[str, str]:
    return {name: text.strip() for name in WORDS if (text := getattr(body, name, None)) is not None}


def _own_files(session: Session, campaign: Campaign, ids: Sequence[int]) -> list[NightFile]:
    """Some files; of a colour the file that it is of."""
    own = [file.parent_id or file.id for file in files_in(session, campaign, ids)]
    return files_in(session, campaign, list(dict.fromkeys(own)))


@blueprint.get("/api/campaigns/<int:number>/names")
@blueprint.input(NamesQuery, location="query", arg_name="query")
@blueprint.output(NamesOut)
def names(number: int, query: NamesQuery) -> NamesOut:
    """What the files' names say by a pattern; only those that fit it."""
    pattern = _pattern(query.pattern)
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        paths = select(NightFile.id, NightFile.path).where(NightFile.campaign_id == campaign.id)
        read = [(own, pattern.read(path)) for own, path in session.execute(paths)]
    return NamesOut(files=[NameOut(id=i, **_values(found)) for i, found in read if found])


@blueprint.post("/api/campaigns/<int:number>/corrections/names")
@blueprint.input(NamePatternIn, arg_name="body")
@blueprint.output(Done)
def correct_by_names(number: int, body: NamePatternIn) -> Done:
    """Keep what the names of some files say beside what their headers say."""
    pattern = _pattern(body.pattern)
    with shared().store.session() as session:
        files = files_in(session, campaign_of(session, number), body.ids)
        read = {file.id: pattern.read(file.path) for file in files}
    values = {
        i: {name: v for name, v in _values(found).items() if v is not None}
        for i, found in read.items()
        if found
    }
    return _keep(number, values, f"by name, {body.pattern.strip()}")


def _pattern(text: str) -> NamePattern:
    try:
        return NamePattern(text)
    except NamePatternError as error:
        raise Problem(422, "Not a pattern", f"{error}.") from error


def _values(said: NameValues) -> dict[str, Any]:
    begin = said.time_utc
    return {**vars(said), "time_utc": begin.isoformat() if begin else None}


def _keep(number: int, said: dict[int, dict[str, Any]], words: str) -> Done:
    """Change what the observer says of files; None takes a word back."""
    with changing(number) as (session, campaign):
        changes = []
        of_own = {}
        for file in files_in(session, campaign, list(said)):
            of_own[file.parent_id or file.id] = said[file.id]
        for file in files_in(session, campaign, list(of_own)):
            correction = {**file.correction, **of_own[file.id]}
            kept = {name: value for name, value in correction.items() if value is not None}
            changes.append(Change("file", file.id, "correction", kept))
        entry = act(session, campaign, f"corrected {counted(len(said), 'file')}: {words}", changes)
        return Done(words=entry.words if entry else "Nothing to change.")


def _word(name: str, text: str) -> str | float | None:
    """A correction's value. Raises Problem where it can't be one."""
    try:
        return read_word(name, text)
    except ValueError as error:
        raise Problem(422, f"Not understood: {WORDS[name][0]}", f"{error}.") from error
