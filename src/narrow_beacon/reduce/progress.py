"""How far a walk is, as told to whoever waits for it."""

from __future__ import annotations

from typing import Protocol


class Progress(Protocol):
    """Told how far a walk is."""

    def start(self, words: str, total: int, done: int = 0) -> None:
        """A step with so many pieces begins; ``done`` of them were there already."""

    def advance(self, count: int = 1) -> None:
        """Some pieces of the step are done."""


class Silent:
    """Progress that nobody asked for."""

    def start(self, words: str, total: int, done: int = 0) -> None: ...

    def advance(self, count: int = 1) -> None: ...
