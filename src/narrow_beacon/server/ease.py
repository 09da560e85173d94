"""Memory that answers no longer need goes back to the system once nobody asks for a while: of a
large campaign each is tens of megabytes for a moment.
"""

from __future__ import annotations

import ctypes
import gc
import threading
import time
from collections.abc import Callable

_QUIET_S = 2.0


class Ease:
    """Told of every request; after the last one it lets go of what only speeds up the next
    (``let_go``) and gives memory back.
    """

    def __init__(self, *let_go: Callable[[], None]) -> None:
        self._let_go = let_go
        self._asked = threading.Event()
        self._last = 0.0
        self._trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
        """Of the GNU C library; others give it back by themselves."""

    def start(self) -> None:
        """Begin to see to it, as long as the process lives."""
        if self._trim is not None:
            threading.Thread(target=self._see_to_it, name="ease", daemon=True).start()

    def asked(self) -> None:
        """There was a request just now."""
        self._last = time.monotonic()
        self._asked.set()

    def _see_to_it(self) -> None:
        assert self._trim is not None
        while True:
            self._asked.wait()
            self._asked.clear()
            while (left := self._last + _QUIET_S - time.monotonic()) > 0:
                time.sleep(left)
            for forget in self._let_go:
                forget()
            gc.collect()
            self._trim(0)
