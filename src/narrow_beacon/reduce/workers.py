"""Spread independent tasks over processes, one thread each.

Tasks are the same whatever the number of workers, and results come back in the order of the
tasks, so that the numbers do not depend on it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Protocol, TypeVar

import psutil

from narrow_beacon.compiled import get_ready
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.processes import Processes, Tasks, core_count
from narrow_beacon.rescue import Rescue

R = TypeVar("R")
__all__ = ["Pool", "SilentWorkersError", "Workers", "core_count", "tasks_that_fit"]


_MEMORY_SHARE = 0.8
"""Of the memory that is free, what tasks may take together."""


def tasks_that_fit(task_bytes: int) -> int:
    """How many tasks, each of which takes so much memory, this machine has room for; one may
    always try.
    """
    free = _MEMORY_SHARE * psutil.virtual_memory().available
    return max(1, int(free / max(task_bytes, 1)))


class SilentWorkersError(BeaconError):
    """No worker has finished anything for very long."""


class Pool(Protocol):
    """Where tasks run: processes of this machine, or a cluster."""

    def map(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[R], None] = lambda _: None,
        rescue: Rescue[R] | None = None,
    ) -> list[R]:
        """The results of ``task(*call)`` for every call, in order; ``done`` is told of each, and
        ``rescue`` says what becomes of a call whose worker is lost.
        """

    def each(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[R], None],
        rescue: Rescue[R] | None = None,
    ) -> None:
        """Hand the result of every call to ``done`` as it comes, and keep none: those of a long
        night are more than memory holds.
        """

    def start(self, task: Callable[..., R], *arguments: Any) -> Callable[[], R]:
        """Begin one task beside what this process does; the returned function waits for it."""

    def room_for(self, task_bytes: int) -> None:
        """From now on run no more tasks at once than there is memory for, where each takes so
        much.
        """


def begun(
    pool: Pool, task: Callable[..., R], calls: Sequence[tuple[Any, ...]], rescue: Rescue[R]
) -> Callable[[], list[R]]:
    """Begin a few tasks, that raise nothing themselves, beside what else the pool does; the
    returned function waits for them. One whose worker is lost is done once more, alone.
    """
    going = [pool.start(task, *call) for call in calls]

    def results() -> list[R]:
        found = []
        for finish, call in zip(going, calls, strict=True):
            try:
                found.append(finish())
            except Exception:  # each kind of pool says in its own way that a worker is lost
                found += pool.map(task, [call], rescue=rescue)
        return found

    return results


class Workers(Tasks):
    """A pool of processes, or this process alone where one worker is enough."""

    def __init__(self, count: int) -> None:
        self.count = count
        if count > 1:
            get_ready()
        self._pool = Processes(count) if count > 1 else None

    def run(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        found: Callable[[int, R], None],
        rescue: Rescue[R] | None,
    ) -> None:
        """In order where this process works alone."""
        if self._pool is not None:
            self._pool.run(task, calls, found, rescue)
            return
        for place, call in enumerate(calls):
            found(place, task(*call))

    def start(self, task: Callable[..., R], *arguments: Any) -> Callable[[], R]:
        """Begin one task beside what this process does; the returned function waits for it."""
        if self._pool is not None:
            return self._pool.start(task, *arguments)
        result = task(*arguments)
        return lambda: result

    def room_for(self, task_bytes: int) -> None:
        """From now on run no more tasks at once than there is memory for."""
        if self._pool is not None:
            self._pool.most = min(self.count, tasks_that_fit(task_bytes))

    def close(self) -> None:
        """End the processes."""
        if self._pool:
            self._pool.close()

    def __enter__(self) -> Workers:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
