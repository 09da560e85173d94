"""One reader at a time of what many ask for: the others take what it read."""

from __future__ import annotations

import threading
from collections.abc import Hashable


class OneReader:
    """A lock for each thing that is read, made when it is first asked for."""

    def __init__(self) -> None:
        self._of: dict[Hashable, threading.Lock] = {}
        self._lock = threading.Lock()

    def of(self, key: Hashable) -> threading.Lock:
        """The lock of one thing."""
        with self._lock:
            return self._of.setdefault(key, threading.Lock())
