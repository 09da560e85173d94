"""The shelf: masters of all nights, by kit, kind and time."""

from __future__ import annotations

from datetime import date
from pathlib import Path

from apiflask import APIBlueprint
from flask import Response, send_file

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.night import master_version
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.correct import Import, Retire, ShelfMaster, ShelfOut
from narrow_beacon.server.state import shared
from narrow_beacon.store.campaigns import chains_of, now
from narrow_beacon.store.models import Campaign, MasterRecord
from narrow_beacon.store.shelf import SHELF, on_shelf, put_on_shelf

blueprint = APIBlueprint("shelf", __name__)
_MOST_IMPORTS = 500


@blueprint.get("/api/shelf")
@blueprint.output(ShelfOut)
def shelf() -> ShelfOut:
    """All masters, the newest first."""
    with shared().store.session() as session:
        records = on_shelf(session)
        campaigns = {c.id: c for c in session.query(Campaign)}
        used: set[tuple[int | None, str]] = {
            (number, key)
            for number, campaign in campaigns.items()
            for chain in chains_of(session, campaign).values()
            for key in chain.masters
        }
        names: dict[int | None, str] = {number: c.name for number, c in campaigns.items()}
        found = [
            _of_shelf(record, names.get(record.campaign_id) or record.origin, used)
            for record in records
        ]
    return ShelfOut(masters=sorted(found, key=lambda m: m.night, reverse=True))


@blueprint.post("/api/shelf")
@blueprint.input(Import, arg_name="body")
@blueprint.output(Done)
def take(body: Import) -> Done:
    """Take ready-made masters over: a file, or all of a folder."""
    state = shared()
    given = state.folders.check(body.path)
    paths = sorted(given.rglob("*.fit*"))[:_MOST_IMPORTS] if given.is_dir() else [given]
    if not paths:
        raise Problem(422, "No masters there", f"There is no FITS file below {given}.")
    folder = state.store.folder(SHELF)
    taken, troubles = [], []
    for path in paths:
        try:
            with state.store.session() as session:
                record, new = put_on_shelf(session, path, folder)
                taken += [record.label] if new else []
        except (UnreadableFileError, OSError) as error:
            troubles.append(str(error))
    if troubles and not taken:
        raise Problem(422, "Not taken over", " ".join(troubles[:3]))
    words = f"Taken over: {', '.join(taken)}." if taken else "All of it is on the shelf already."
    if troubles:
        words += f" {counted(len(troubles), 'file')} could not be: {troubles[0]}"
    return Done(words=words)


def _of_shelf(
    record: MasterRecord, campaign: str, used: set[tuple[int | None, str]]
) -> ShelfMaster:
    facts = load(MasterFacts, record.facts)
    age = (now().date() - date.fromisoformat(facts.night)).days if facts.night else None
    height, width = facts.shape
    kit = f"{facts.camera or 'camera'}, {width} × {height}"
    settings = [
        f"{name} {value:g}"
        for name, value in (("gain", facts.gain_setting), ("offset", facts.offset_setting))
        if value is not None
    ]
    return ShelfMaster(
        id=record.id, campaign=campaign, kit=kit, settings=", ".join(settings), kind=facts.kind,
        label=facts.label, filter=facts.filter or "", exposure_s=facts.exposure_s,
        temperature_c=facts.temperature_c, night=facts.night, age_days=age, count=facts.count,
        level_adu=facts.level_adu, noise_adu=facts.noise_adu, clipped_share=facts.clipped_share,
        retired=bool(record.retired), own=record.campaign_id is None,
        used=(record.campaign_id, facts.key) in used, version=master_version(record),
    )  # fmt: skip


@blueprint.patch("/api/shelf/<int:number>")
@blueprint.input(Retire, arg_name="body")
@blueprint.output(Done)
def retire(number: int, body: Retire) -> Done:
    """Let other campaigns take a master from the shelf no more, or again."""
    state = shared()
    with state.store.session() as session:
        record = _found(session.get(MasterRecord, number))
        record.retired = body.retired
        words = f"{record.label}: {'no longer taken by others' if body.retired else 'taken again'}."
    return Done(words=words)


@blueprint.get("/api/shelf/<int:number>/file")
@blueprint.doc(hide=True)
def download(number: int) -> Response:
    """A master as the FITS file that it is, with what went into it."""
    with shared().store.session() as session:
        path = Path(_found(session.get(MasterRecord, number)).path)
    if not path.is_file():
        raise Problem(404, "The file is gone", "Build the masters of its campaign again.")
    return send_file(path, mimetype="application/fits", as_attachment=True)


def _found(record: MasterRecord | None) -> MasterRecord:
    if record is None:
        raise Problem(404, "No such master", "It was built anew; the list is reloaded.")
    return record
