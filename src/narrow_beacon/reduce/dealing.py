"""How a night's files are dealt out to workers, and how what they say is kept: neither a task nor a
look into the records for every small file.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import Generic, Self, TypeVar

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


class Gather(Generic[R]):
    """Takes results one by one and hands them to ``keep`` some at a time; at the end, or when it
    is cut short, those that still wait.
    """

    def __init__(self, keep: Callable[[list[R]], None]) -> None:
        self._keep = keep
        self._waiting: list[R] = []
        self._kept_s = time.monotonic()

    def __call__(self, results: Sequence[R]) -> None:
        self._waiting += results
        late = time.monotonic() - self._kept_s > _WAIT_S
        if late or len(self._waiting) >= _MOST_WAITING:
            self._hand_on()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:  # fmt: skip
        self._hand_on()

    def _hand_on(self) -> None:
        if self._waiting:
            self._keep(list(self._waiting))
            self._waiting.clear()  # only now: what could not be kept is tried once more at the end
            self._kept_s = time.monotonic()
