"""Catalogue files of the observatory made into atlases, one after the other, on the cluster."""

from __future__ import annotations

import contextlib
import json
import logging
import shutil
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sqlalchemy import select
from sqlalchemy.exc import InterfaceError, OperationalError

from narrow_beacon.core.catalogue.atlas import Atlas
from narrow_beacon.core.disk import disk_words
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.jobs.progress import Events
from narrow_beacon.reduce.atlas_making import make_atlas
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.store.database import Store
from narrow_beacon.store.models import StarSource
from narrow_beacon.store.sources import CATALOGUES

if TYPE_CHECKING:
    from distributed import Client

_LOOK_AGAIN_S = 2.0
_ASK_S = 0.3
log = logging.getLogger(__name__)


class AtlasMaker:
    """Makes what waits to be made until it is stopped, on a cluster that sees the same files, or
    here without one; what was interrupted is begun again.
    """

    def __init__(self, store: Store, client: Client | None, events: Events) -> None:
        self._store = store
        self._client = client
        self._here = ThreadPoolExecutor(1) if client is None else None
        self._events = events
        self._wake = threading.Event()
        self._stopped = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="atlases", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def leave(self) -> None:
        """The process ends."""
        self._stopped.set()
        self._wake.set()

    def wake(self) -> None:
        """There is something new to make."""
        self._wake.set()

    def _loop(self) -> None:
        while not self._stopped.is_set():
            try:
                record = self._next()
                if record is not None:
                    self._make(record)
                    continue
            except (OperationalError, InterfaceError) as error:
                log.info("the records did not answer: %s", str(error).splitlines()[0])
            self._wake.wait(_LOOK_AGAIN_S)
            self._wake.clear()

    def _next(self) -> StarSource | None:
        with self._store.session() as session:
            return session.scalars(
                select(StarSource).where(StarSource.state == "making").order_by(StarSource.id)
            ).first()

    def _make(self, record: StarSource) -> None:
        folder = self._store.folder(CATALOGUES) / f"atlas-{record.id}-{_print(record)}"
        notes = self._store.folder("scratch") / f"atlas-{record.id}.json"
        wish = (str(record.place), str(folder), record.epoch_yr, dict(record.columns))
        task = self._begin(*wish, record.role == "variables", str(notes))
        try:
            while not task.done():
                if self._stopped.wait(_ASK_S) or not self._tell(record.id, notes):
                    task.cancel()
                    return
            task.result()
            page = Atlas(folder).page
            self._set(
                record.id, state="ready", words="", stars=page.rows, bands=list(page.bands),
                folder=str(folder), epoch_yr=page.epoch_yr,
            )  # fmt: skip
        except BeaconError as error:
            self._set(record.id, state="failed", words=str(error))
        except OSError as error:
            self._set(record.id, state="failed", words=disk_words(error))
        except (OperationalError, InterfaceError):
            raise
        except Exception as error:
            if self._stopped.is_set():
                return
            log.exception("atlas %d failed", record.id)
            self._set(record.id, state="failed", words=f"{type(error).__name__}: {error}")
        finally:
            notes.unlink(missing_ok=True)
            self._events.publish("catalogues")

    def _begin(self, *wish: Any) -> Any:
        if self._client is not None:
            return self._client.submit(_make, *wish, pure=False)
        assert self._here is not None
        return self._here.submit(_make, *wish)

    def _tell(self, number: int, notes: Path) -> bool:
        """Note how far it is; False where the observer took the catalogue out meanwhile."""
        try:
            told = json.loads(notes.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            told = {"words": "waiting for a free core", "done": 0}
        with self._store.session() as session:
            record = session.get(StarSource, number)
            if record is None or record.state != "making":
                return False
            if (record.words, record.done) != (told["words"], told["done"]):
                record.words, record.done = told["words"], told["done"]
                self._events.publish("catalogues")
        return True

    def _set(self, number: int, **values: Any) -> None:
        with self._store.session() as session:
            record = session.get(StarSource, number)
            if record is None:
                return
            old = record.folder
            for name, value in values.items():
                setattr(record, name, value)
        if old and "folder" in values and old != values["folder"]:
            shutil.rmtree(old, ignore_errors=True)


def _print(record: StarSource) -> str:
    stamp = 0
    with contextlib.suppress(OSError):  # the task says it
        stamp = Path(record.place).stat().st_mtime_ns
    return fingerprint(record.place, stamp, record.epoch_yr, sorted(record.columns.items()))[:12]


def _make(
    file: str, folder: str, epoch: float | None, columns: dict[str, str], vary: bool, notes: str
) -> None:
    """The task itself, on a worker."""
    path = Path(notes)

    def told(words: str, done: int) -> None:
        scratch = path.with_suffix(".new")
        scratch.write_text(json.dumps({"words": words, "done": done}), encoding="utf-8")
        scratch.replace(path)

    make_atlas(
        Path(file), Path(folder), epoch_yr=epoch, columns=columns, of_variables=vary, told=told
    )
