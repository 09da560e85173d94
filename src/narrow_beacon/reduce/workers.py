"""Spread independent tasks over processes, one thread each.

Tasks are the same whatever the number of workers, and results come back in the order of the
tasks, so that the numbers do not depend on it.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from typing import Any, Protocol, TypeVar

from narrow_beacon.core.errors import BeaconError

R = TypeVar("R")
_SILENT_S = 900.0


class SilentWorkersError(BeaconError):
    """No worker has finished anything for very long."""


class Pool(Protocol):
    """Where tasks run: processes of this machine, or a cluster."""

    def map(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[R], None] = lambda _: None,
    ) -> list[R]:
        """The results of ``task(*call)`` for every call, in order; ``done`` is told of each."""

    def start(self, task: Callable[..., R], *arguments: Any) -> Callable[[], R]:
        """Begin one task beside what this process does; the returned function waits for it."""


def core_count() -> int:
    """The cores that this process may use."""
    return len(os.sched_getaffinity(0))


def _leave_interrupts() -> None:
    """Ctrl+C is the parent's to answer."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


class Workers:
    """A pool of processes, or this process alone where one worker is enough."""

    def __init__(self, count: int) -> None:
        self.count = count
        # Forked early, before any thread starts, so that a worker costs no second import.
        self._pool = (
            ProcessPoolExecutor(
                count, mp_context=multiprocessing.get_context("fork"), initializer=_leave_interrupts
            )
            if count > 1
            else None
        )
        if self._pool:
            wait([self._pool.submit(os.getpid) for _ in range(count)])

    def map(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[R], None] = lambda _: None,
    ) -> list[R]:
        """The results of ``task(*call)`` for every call, in order; ``done`` is told of each."""
        if self._pool is None:
            results = []
            for call in calls:
                results.append(task(*call))
                done(results[-1])
            return results
        futures: list[Future[R]] = [self._pool.submit(task, *call) for call in calls]
        waiting = set(futures)
        try:
            while waiting:
                finished, waiting = wait(waiting, _SILENT_S, return_when=FIRST_COMPLETED)
                if not finished:
                    raise SilentWorkersError(
                        f"no worker has finished any of {len(waiting)} tasks ({task.__name__}) for "
                        f"{_SILENT_S / 60:.0f} minutes"
                    )
                for future in finished:
                    done(future.result())
        except BaseException:
            for future in waiting:
                future.cancel()
            raise
        return [future.result() for future in futures]

    def start(self, task: Callable[..., R], *arguments: Any) -> Callable[[], R]:
        """Begin one task beside what this process does; the returned function waits for it."""
        if self._pool is None:
            result = task(*arguments)
            return lambda: result
        future = self._pool.submit(task, *arguments)
        return lambda: future.result(_SILENT_S)

    def close(self) -> None:
        """End the processes."""
        if self._pool:
            self._pool.shutdown(cancel_futures=True)

    def __enter__(self) -> Workers:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
