"""Folders under watch: files are taken in as they are written, each once it is whole.

A folder is looked through again and again: events of the file system do not come from network
folders, and where they come they tell of a write, not of its end. A file is whole when its size and
time stay the same from one look to another a second later, and it holds what its header claims; one
that stays incomplete for a minute is let through, so that its trouble is said.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.exc import SQLAlchemyError

from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.entries import list_entries
from narrow_beacon.core.frames.fits_file import looks_like_fits
from narrow_beacon.core.frames.structure import opened
from narrow_beacon.core.gate import Gate
from narrow_beacon.store.campaigns import queue_job
from narrow_beacon.store.database import Store
from narrow_beacon.store.files import state_of
from narrow_beacon.store.models import Campaign, NightFile

log = logging.getLogger(__name__)
LIVE = "live"
"""The kind of job that takes in what came."""
_LOOK_S = 0.6
_QUIET_S = 1.0
_PATIENCE_S = 60.0
_FIRST_LOOK_S = 10.0
_AWAY_S = 3.0
_SLOW_FOLDER = 8.0
"""Looks last at most this fraction of the time: a slow network folder is looked at more seldom."""


@dataclass
class _Arrival:
    state: tuple[int, str]
    since: float
    first: float


@dataclass
class _Watched:
    """What is known of a campaign's folders."""

    folders: tuple[Path, ...]
    known: dict[Path, tuple[int, str]]
    arriving: dict[Path, _Arrival] = field(default_factory=dict)


class FolderWatch:
    """Looks through the folders of watched campaigns and asks for work when files are whole."""

    def __init__(self, store: Store, gate: Gate, wake: Callable[[], None]) -> None:
        self._store, self._gate, self._wake = store, gate, wake
        self._watched: dict[int, _Watched] = {}
        self._lock = threading.Lock()
        self._looked = threading.Event()
        self._stopped = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="folders", daemon=True)

    def start(self) -> None:
        """Begin to look."""
        self._thread.start()

    def stop(self) -> None:
        """End."""
        self._stopped.set()

    def holds(self, campaign: int, path: Path) -> bool:
        """Whether a file of a watched campaign is not known to be whole yet."""
        self._looked.wait(_FIRST_LOOK_S)  # a job that goes on after a restart is quicker
        with self._lock:
            watched = self._watched.get(campaign)
            return watched is not None and watched.known.get(path) != state_of(path)

    def _loop(self) -> None:
        while not self._stopped.is_set():
            began = time.monotonic()
            try:
                self._look()
                self._looked.set()
            except SQLAlchemyError as error:
                # Whoever asks is told by the database's own watch.
                log.debug("folders are not looked at: %s", str(error).splitlines()[0])
                self._stopped.wait(_AWAY_S)
            took = time.monotonic() - began
            self._stopped.wait(max(_LOOK_S, _SLOW_FOLDER * took))

    def _look(self) -> None:
        wanted = self._wanted()
        with self._lock:
            for gone in self._watched.keys() - wanted.keys():
                del self._watched[gone]
        for campaign, folders in wanted.items():
            watched = self._watched.get(campaign)
            if watched is None or watched.folders != folders:
                fresh = _Watched(folders, self._recorded(campaign))
                with self._lock:
                    self._watched[campaign] = watched = fresh
            if self._take_whole(watched):
                with self._store.session() as session:
                    record = session.get(Campaign, campaign)
                    if record is not None:
                        queue_job(session, record, LIVE)
                self._wake()

    def _wanted(self) -> dict[int, tuple[Path, ...]]:
        with self._store.session() as session:
            found = session.execute(
                select(Campaign.id, Campaign.folders).where(
                    Campaign.watching.is_(True), Campaign.archived.is_(False)
                )
            ).all()
            return {number: tuple(Path(f) for f in folders) for number, folders in found}

    def _recorded(self, campaign: int) -> dict[Path, tuple[int, str]]:
        with self._store.session() as session:
            found = session.execute(
                select(NightFile.path, NightFile.size, NightFile.modified_ns).where(
                    NightFile.campaign_id == campaign, NightFile.away.is_(False)
                )
            )
            return {Path(path): (size, modified) for path, size, modified in found}

    def _take_whole(self, watched: _Watched) -> int:
        """Let through what is whole by now; how many files."""
        now = time.monotonic()
        whole: dict[Path, tuple[int, str]] = {}
        there = list_entries(watched.folders, self._gate).files
        for path in there:
            state = state_of(path)
            if watched.known.get(path) == state:
                continue
            arrival = watched.arriving.get(path)
            if arrival is None or arrival.state != state:
                first = arrival.first if arrival else now
                watched.arriving[path] = _Arrival(state, now, first)
            elif now - arrival.since >= _QUIET_S and (
                is_whole(path) or now - arrival.since > _PATIENCE_S
            ):
                whole[path] = state
        for path in watched.arriving.keys() - set(there):
            del watched.arriving[path]
        with self._lock:
            for path, state in whole.items():
                watched.known[path] = state
                watched.arriving.pop(path, None)
        return len(whole)


def is_whole(path: Path) -> bool:
    """Whether a file holds all that its header claims; one that is no FITS does."""
    try:
        if path.stat().st_size == 0:
            return False
        if not looks_like_fits(path):
            return True
        with opened(path):
            return True
    except (UnreadableFileError, OSError):
        return False
