"""Tasks that go wrong at one piece, or say when they ran; light to load, since workers begun anew
load them again.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterable

BAD = 2


def squares(pieces: list[int]) -> list[int]:
    return [n * n for n in pieces]


def die_at_two(pieces: list[int]) -> list[int]:
    if BAD in pieces:
        os._exit(7)
    return squares(pieces)


def hang_at_two(pieces: list[int]) -> list[int]:
    if BAD in pieces:
        threading.Event().wait()
    return squares(pieces)


def stretch_of_time(seconds: float) -> tuple[float, float]:
    """When this piece began and ended."""
    begin = time.monotonic()
    time.sleep(seconds)
    return begin, time.monotonic()


def most_at_once(stretches: Iterable[tuple[float, float]]) -> int:
    """How many pieces there were at one moment."""
    stretches = list(stretches)
    return max(sum(a <= begin < b for a, b in stretches) for begin, _ in stretches)
