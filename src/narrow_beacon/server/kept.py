"""What was computed and may be asked for again, made once however many ask at the same time."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar

V = TypeVar("V")


class _Slot:
    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.made = False
        self.value: Any = None


class Kept(Generic[V]):
    """The latest ``most`` values by what they were made from."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._slots: OrderedDict[Hashable, _Slot] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], V]) -> V:
        """The value of a key, made now if there is none; what ``make`` raises is raised, and the
        next one to ask tries again.
        """
        with self._lock:
            slot = self._slots.setdefault(key, _Slot())
            self._slots.move_to_end(key)
            while len(self._slots) > self._most:
                self._slots.popitem(last=False)
        with slot.lock:
            if not slot.made:
                slot.value, slot.made = make(), True
            value: V = slot.value
            return value
