"""Tasks that go wrong at one piece; light to load, since workers begun anew load them again."""

from __future__ import annotations

import os
import threading

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
