"""How far a job is, told to whoever listens: done, total, rate, time left."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field
from typing import Any

_LEAST_GAP_S = 0.15


@dataclass
class Progress:
    """The state of a running job. ``rate`` is pieces a second of the present step."""

    job: int
    campaign: int
    kind: str
    words: str = "starting"
    done: int = 0
    total: int = 0
    rate: float = 0.0
    left_s: float | None = None
    failures: list[str] = field(default_factory=list)


class Events:
    """Hands events to every listener, from whatever thread they come."""

    def __init__(self) -> None:
        self._listeners: set[Callable[[dict[str, Any]], None]] = set()
        self._lock = threading.Lock()

    def publish(self, kind: str, **values: Any) -> None:
        """Tell all listeners."""
        event = {"kind": kind, **values}
        with self._lock:
            listeners = list(self._listeners)
        for take in listeners:
            take(event)

    @contextmanager
    def telling(self, take: Callable[[dict[str, Any]], None]) -> Iterator[None]:
        """Hand the events from now on to a function, which must not keep anybody waiting."""
        with self._lock:
            self._listeners.add(take)
        try:
            yield
        finally:
            with self._lock:
                self._listeners.discard(take)


class Reporter:
    """A job's progress as events, a few a second at the most."""

    def __init__(self, events: Events, progress: Progress) -> None:
        self.progress = progress
        self._events = events
        self._began = time.monotonic()
        self._told = 0.0

    def start(self, words: str, total: int, done: int = 0) -> None:
        """A step with so many pieces begins; ``done`` of them were there already."""
        self.progress.words, self.progress.total, self.progress.done = words, total, done
        self.progress.rate, self.progress.left_s = 0.0, None
        self._began, self._base = time.monotonic(), done
        self.tell()

    def advance(self, count: int = 1) -> None:
        """Some pieces are done."""
        now = self.progress
        now.done += count
        elapsed = time.monotonic() - self._began
        if elapsed > 0:
            now.rate = (now.done - self._base) / elapsed
        now.left_s = (now.total - now.done) / now.rate if now.rate and now.total else None
        if time.monotonic() - self._told > _LEAST_GAP_S or now.done == now.total:
            self.tell()

    def changed(self) -> None:
        """What is kept is new, while the job goes on."""
        self._events.publish("changed", campaign=self.progress.campaign)

    def fail(self, words: str) -> None:
        """One piece failed; the rest goes on."""
        self.progress.failures.append(words)

    def tell(self) -> None:
        """Send the state as it is."""
        self._told = time.monotonic()
        self._events.publish("progress", progress=asdict(self.progress))
