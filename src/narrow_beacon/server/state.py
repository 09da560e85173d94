"""What all of the server's modules share."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, cast

import orjson
from flask import Response, current_app, request
from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.jobs.atlas_maker import AtlasMaker
from narrow_beacon.jobs.progress import Events
from narrow_beacon.jobs.runner import Runner
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.security import Folders
from narrow_beacon.store.actions import Sight
from narrow_beacon.store.database import Store
from narrow_beacon.store.models import Campaign, NightFile


@dataclass
class ServerState:
    """The records, the jobs, the listeners, and where things are."""

    store: Store
    runner: Runner
    events: Events
    folders: Folders
    cone_url: str
    demo_folder: Path | None
    atlases: AtlasMaker | None = None
    exported: dict[int, tuple[int, Any]] = field(default_factory=dict)
    """By campaign: its revision after its latest report, and that report."""


def shared() -> ServerState:
    """The state of the application that handles this request."""
    return cast(ServerState, current_app.extensions["narrow_beacon"])


def sight() -> Sight:
    """Whose page asks, and what it has seen: from the request's headers. Raises Problem."""
    seen = request.headers.get("If-Match", "").strip('"')
    if seen and not re.fullmatch(r"\d{1,9}", seen):
        raise Problem(400, "Not usable", "If-Match has to be the revision that was seen.")
    page = request.headers.get("X-Beacon-Page", "")
    if not re.fullmatch(r"[\w-]{0,40}", page, re.ASCII):
        raise Problem(400, "Not usable", "X-Beacon-Page may have 40 letters and digits.")
    return Sight(page, int(seen) if seen else None)


def campaign_of(session: Session, number: int, *, locked: bool = False) -> Campaign:
    """A campaign. Raises Problem where there is none."""
    campaign = session.get(Campaign, number, with_for_update=locked or None)
    if campaign is None:
        raise Problem(404, "No such campaign", "It may have been removed in another tab.")
    return campaign


def file_of(session: Session, number: int) -> NightFile:
    """A file of a campaign. Raises Problem where there is none."""
    file = session.get(NightFile, number)
    if file is None:
        raise Problem(404, "No such exposure", "It may have been removed in another tab.")
    return file


def files_in(session: Session, campaign: Campaign, numbers: Sequence[int]) -> list[NightFile]:
    """Some files of a campaign, in the order given. Raises Problem where one is not its own."""
    found = {
        file.id: file
        for file in session.scalars(
            select(NightFile).where(NightFile.campaign_id == campaign.id, NightFile.id.in_(numbers))
        )
    }
    if set(numbers) - found.keys():
        raise Problem(404, "No such exposure", "It may have been removed in another tab.")
    return [found[number] for number in numbers]


def quick(model: BaseModel) -> Response:
    """A large answer, written straight from the model: numbers in arrays never become Python's."""
    told = orjson.dumps(model, _fields, orjson.OPT_SERIALIZE_NUMPY | orjson.OPT_NON_STR_KEYS)
    return Response(told, content_type="application/json")


def _fields(model: BaseModel) -> dict[str, Any]:
    return model.__dict__


@contextmanager
def changing(campaign: int) -> Iterator[tuple[Session, Campaign]]:
    """A session for a change; listeners are told once it is written, and the runner of new work."""
    state = shared()
    with state.store.session() as session:
        # Locked: one change after the other, each on what the one before it left.
        record = campaign_of(session, campaign, locked=True)
        session.info["sight"] = sight()
        yield session, record
    state.events.publish("changed", campaign=campaign, revision=record.revision)
    if session.info.get("queued"):
        state.runner.wake()
