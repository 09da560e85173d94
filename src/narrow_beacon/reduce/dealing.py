"""How a night's files are dealt out to workers, and how what they say is kept: neither a task nor a
look into the records for every small file.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TypeVar

R = TypeVar("R")
_MOST_FILES = 16
_TASK_BYTES = 64_000_000
_TASKS = 32
"""A short night is still dealt to all workers."""
_MOST_WAITING, _WAIT_S = 64, 0.5


def in_tasks(files: Sequence[R], path_of: Callable[[R], Path]) -> list[list[R]]:
    """Files, in their order, by tasks: several small ones, or one that is large."""
    most = min(_MOST_FILES, 1 + len(files) // _TASKS)
    tasks: list[list[R]] = []
    full = 0
    for file in files:
        size = 0
        with suppress(OSError):  # what is wrong with it is said where it is read
            size = path_of(file).stat().st_size
        if not tasks or len(tasks[-1]) == most or full + size > _TASK_BYTES:
            tasks.append([])
            full = 0
        tasks[-1].append(file)
        full += size
    return tasks


@contextmanager
def some_at_a_time(keep: Callable[[list[R]], None]) -> Iterator[Callable[[Sequence[R]], None]]:
    """Takes results and hands them to ``keep`` some at a time; at the end, or when it is cut short,
    those that still wait.
    """
    waiting: list[R] = []
    kept_s = time.monotonic()

    def hand_on() -> None:
        nonlocal kept_s
        if waiting:
            keep(list(waiting))
            waiting.clear()  # only now: what could not be kept is tried once more at the end
            kept_s = time.monotonic()

    def take(results: Sequence[R]) -> None:
        waiting.extend(results)
        if len(waiting) >= _MOST_WAITING or time.monotonic() - kept_s > _WAIT_S:
            hand_on()

    try:
        yield take
    finally:
        hand_on()
