"""The observatory's catalogues: added, looked at, put in order, made again."""

from __future__ import annotations

import shutil
from datetime import UTC, datetime
from pathlib import Path

from apiflask import APIBlueprint
from sqlalchemy.orm import Session

from narrow_beacon.core.bands import BY_NAME
from narrow_beacon.core.catalogue.columns import MEANINGS, propose_columns, said_of
from narrow_beacon.core.catalogue.files import meaning_of
from narrow_beacon.core.catalogue.tables import TableFile, open_table
from narrow_beacon.core.errors import BeaconError, CatalogueError
from narrow_beacon.core.place.sky_patterns import PATTERNS
from narrow_beacon.reduce.cone import look_at_service
from narrow_beacon.reduce.sources import cells_folder
from narrow_beacon.server.night import view_position
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.catalogues import (
    Catalogues,
    ColumnOut,
    Look,
    LookOut,
    SourceChange,
    SourceIn,
    SourceOut,
)
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.state import campaign_of, shared
from narrow_beacon.store.campaigns import now
from narrow_beacon.store.models import StarSource
from narrow_beacon.store.sources import cells_of_services, source_of, source_records

blueprint = APIBlueprint("catalogues", __name__)
_FIRST_VALUES = 3
_LOOK_DEG = 0.1


@blueprint.get("/api/catalogues")
@blueprint.output(Catalogues)
def catalogues() -> Catalogues:
    """All catalogues of the observatory, in the order in which they are tried."""
    with shared().store.session() as session:
        return Catalogues(sources=[_told(session, record) for record in source_records(session)])


@blueprint.post("/api/catalogues/look")
@blueprint.input(Look, arg_name="body")
@blueprint.output(LookOut)
def look(body: Look) -> LookOut:
    """What the columns of a table mean, before it is taken."""
    try:
        table = _table(body)
    except CatalogueError as error:
        raise Problem(422, "Not usable as a catalogue", f"{error}.") from error
    meaning, problem = said_of(propose_columns(table.columns)) | body.columns, ""
    try:
        meaning = said_of(meaning_of(table, body.columns, of_variables=body.role == "variables"))
    except CatalogueError as error:
        problem = str(error)
    columns = [
        ColumnOut(
            name=column.name, unit=column.unit, ucd=column.ucd, numeric=column.numeric,
            values=[str(v)[:40] for v in table.head[column.name][:_FIRST_VALUES]],
        )
        for column in table.columns
    ]  # fmt: skip
    return LookOut(
        columns=columns, meaning=meaning, problem=problem, meanings=list(MEANINGS),
        bands=list(BY_NAME),
    )  # fmt: skip


@blueprint.post("/api/catalogues")
@blueprint.input(SourceIn, arg_name="body")
@blueprint.output(Done)
def add(body: SourceIn) -> Done:
    """Take a catalogue for all campaigns; a file is made into an atlas."""
    place = body.place
    if body.kind == "file":
        place = str(shared().folders.check(body.place))
        _usable(open_table(Path(place)), body.columns, body.role)
    elif not place.startswith(("http://", "https://")):
        raise Problem(422, "Not an address", "A service's address begins with http:// or https://.")
    name = body.name or (Path(place).name if body.kind == "file" else _host(place))
    with shared().store.session() as session:
        others = source_records(session, body.role)
        if any(other.place == place for other in others):
            raise Problem(409, "It is here already", f"{place} is one of the catalogues.")
        session.add(
            StarSource(
                name=name, role=body.role, kind=body.kind, place=place, columns=body.columns,
                epoch_yr=body.epoch_yr, position=len(others), bands=[], added=now(),
                state="making" if body.kind == "file" else "ready",
            )
        )  # fmt: skip
    _changed()
    words = "is made into an atlas now." if body.kind == "file" else "serves from now on."
    return Done(words=f"{name} {words}")


@blueprint.patch("/api/catalogues/<int:number>")
@blueprint.input(SourceChange, arg_name="body")
@blueprint.output(Done)
def change(number: int, body: SourceChange) -> Done:
    """Say something of a catalogue, try it sooner, or make it again."""
    with shared().store.session() as session:
        record = _found(session, number)
        if body.name:
            record.name = body.name
        if body.earlier:
            _earlier(session, record)
        sent = body.model_fields_set
        new = {name: getattr(body, name) for name in ("columns", "epoch_yr") if name in sent}
        new = {name: value for name, value in new.items() if getattr(record, name) != value}
        if "columns" in new and record.kind == "file":
            _usable(open_table(Path(record.place)), new["columns"] or {}, record.role)
        for name, value in new.items():
            setattr(record, name, value)
        words = f"{record.name}: noted."
        if record.kind == "file" and (new or body.again):
            record.state, record.words, record.done = "making", "", 0
            words = f"{record.name} is made again."
        elif body.again:
            shutil.rmtree(cells_folder(cells_of_services(session), source_of(record)), True)
            words = f"{record.name}: what it sent is forgotten, and it is asked again when needed."
    _changed()
    return Done(words=words)


@blueprint.delete("/api/catalogues/<int:number>")
@blueprint.output(Done)
def remove(number: int) -> Done:
    """Take a catalogue out; the stars that campaigns have from it stay with them."""
    with shared().store.session() as session:
        record = _found(session, number)
        name, folder = record.name, record.folder
        if record.kind == "service":
            folder = str(cells_folder(cells_of_services(session), source_of(record)))
        session.delete(record)
    if folder:
        shutil.rmtree(folder, ignore_errors=True)
    _changed()
    return Done(words=f"{name} was taken out; campaigns keep the stars that they have from it.")


def _told(session: Session, record: StarSource) -> SourceOut:
    folder = Path(record.folder) if record.folder else None
    kept: list[Path] = []
    if record.kind == "service":
        cells = cells_folder(cells_of_services(session), source_of(record))
        kept = sorted(cells.glob("*/made")) if cells.is_dir() else []
    size = sum(f.stat().st_size for f in folder.rglob("*") if f.is_file()) if folder else 0
    oldest = min((path.stat().st_mtime for path in kept), default=None)
    return SourceOut(
        id=record.id, name=record.name, role=record.role, kind=record.kind, place=record.place,
        columns=record.columns, epoch_yr=record.epoch_yr, state=record.state, words=record.words,
        done=record.done, stars=record.stars, bands=record.bands, megabytes=size / 1e6,
        anywhere=bool(folder and (folder / PATTERNS).is_dir()), kept=len(kept),
        kept_from=datetime.fromtimestamp(oldest, UTC).replace(tzinfo=None) if oldest else None,
    )  # fmt: skip


def _table(body: Look) -> TableFile:
    if body.kind == "file":
        return open_table(shared().folders.check(body.place))
    with shared().store.session() as session:
        campaign = campaign_of(session, body.campaign) if body.campaign is not None else None
        position = view_position(session, campaign) if campaign else None
    if position is None:
        raise Problem(
            422, "A service is asked at a position",
            "Open a campaign whose target or headers say where it is, then look again.",
        )  # fmt: skip
    return look_at_service(body.place, *position, _LOOK_DEG)


def _usable(table: TableFile, columns: dict[str, str], role: str) -> None:
    try:
        meaning_of(table, columns, of_variables=role == "variables")
    except BeaconError as error:
        raise Problem(422, "Not usable as a catalogue", f"{error}.") from error


def _earlier(session: Session, record: StarSource) -> None:
    order = list(source_records(session, record.role))
    at = order.index(record)
    if at:
        order[at - 1], order[at] = order[at], order[at - 1]
    for position, other in enumerate(order):
        other.position = position


def _found(session: Session, number: int) -> StarSource:
    record = session.get(StarSource, number)
    if record is None:
        raise Problem(404, "No such catalogue", "It was taken out in another tab.")
    return record


def _host(url: str) -> str:
    return url.split("/")[2]


def _changed() -> None:
    state = shared()
    if state.atlases is not None:
        state.atlases.wake()
    state.events.publish("catalogues")
