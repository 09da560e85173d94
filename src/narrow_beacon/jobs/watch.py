"""Whether the records answer: asked now and then, so that every listener hears of it."""

from __future__ import annotations

import logging
import threading

from sqlalchemy import text
from sqlalchemy.exc import SQLAlchemyError

from narrow_beacon.jobs.progress import Events
from narrow_beacon.store.database import Store

log = logging.getLogger(__name__)
_ASK_AGAIN_S = 2.0
_PATIENCE_S = 4.0


class DatabaseWatch:
    """Tells listeners when the records are away and when they are back; each change once."""

    def __init__(self, store: Store, events: Events) -> None:
        # One of its own: what is too slow for it is too slow for a page.
        self._store = Store(store.url, store.data, patience_s=_PATIENCE_S)
        self._events = events
        self._away = False
        self._lock = threading.Lock()
        self._stopped = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="watch", daemon=True)

    def start(self) -> None:
        """Begin to ask."""
        self._thread.start()

    def stop(self) -> None:
        """End."""
        self._stopped.set()

    @property
    def away(self) -> bool:
        """Whether the records did not answer the last time."""
        return self._away

    def notice(self, *, away: bool, why: str = "") -> None:
        """What somebody who asked the records found."""
        with self._lock:
            changed = away != self._away
            self._away = away
        if changed:
            if away:
                log.warning("the database is away: %s", why)
            self._events.publish("database", away=away)

    def _loop(self) -> None:
        while not self._stopped.wait(_ASK_AGAIN_S):
            try:
                with self._store.engine.connect() as connection:
                    connection.execute(text("SELECT 1"))
            except SQLAlchemyError as error:
                self.notice(away=True, why=str(error).splitlines()[0])
            else:
                self.notice(away=False)
