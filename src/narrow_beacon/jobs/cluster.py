"""Tasks on Dask: the cluster, and a pool with which the reduction's steps run on it."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from typing import Any, TypeVar

from distributed import Client, Future, LocalCluster, Scheduler, SpecCluster, wait
from distributed.deploy.subprocess import SubprocessWorker

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.processes import semaphores_work
from narrow_beacon.reduce.workers import SilentWorkersError

R = TypeVar("R")
_LOOK_AGAIN_S = 0.4
_SILENT_S = 900.0
_RESULT_S = 600.0


class CancelledError(BeaconError):
    """The observer stopped the job."""


def local_cluster(workers: int) -> SpecCluster:
    """A cluster of this machine: one process per worker, one thread each, on loopback."""
    if not semaphores_work():
        return _plain_cluster(workers)
    return LocalCluster(
        n_workers=workers, threads_per_worker=1, processes=True, host="127.0.0.1",
        dashboard_address="127.0.0.1:0", memory_limit=0, silence_logs=50,
    )  # fmt: skip


def _plain_cluster(workers: int) -> SpecCluster:
    """The same without what needs semaphores: a worker that dies is not begun again."""
    options = {
        "nthreads": 1, "host": "127.0.0.1", "memory_limit": 0, "dashboard": False,
        "death_timeout": 30,
    }  # fmt: skip
    os.environ.setdefault("DASK_LOGGING__DISTRIBUTED", "error")  # what they say is not for people
    scheduler = {"host": "127.0.0.1", "port": 0, "dashboard_address": "127.0.0.1:0"}
    return SpecCluster(
        {
            number: {
                "cls": SubprocessWorker,
                "options": {"worker_class": "distributed.Worker", "worker_kwargs": options},
            }
            for number in range(workers)
        },
        {"cls": Scheduler, "options": scheduler},
        silence_logs=50,
    )


class ClusterPool:
    """Runs tasks on a cluster; ``cancelled`` is asked now and then whether to stop."""

    def __init__(self, client: Client, cancelled: Callable[[], bool] = lambda: False) -> None:
        self._client = client
        self._cancelled = cancelled

    def map(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[R], None] = lambda _: None,
    ) -> list[R]:
        """The results of ``task(*call)`` in order; ``done`` is told of each as it comes.

        Raises CancelledError, and whatever a task raised, after the rest was called off.
        """
        futures: list[Future] = [self._client.submit(task, *call, pure=False) for call in calls]
        results: dict[object, R] = {}
        waiting = set(futures)
        heard = time.monotonic()
        try:
            while waiting:
                if self._cancelled():
                    raise CancelledError("stopped by the observer")
                if time.monotonic() - heard > _SILENT_S:
                    raise SilentWorkersError(
                        f"no worker has finished any of {len(waiting)} tasks ({task.__name__}) for "
                        f"{_SILENT_S / 60:.0f} minutes; what was done is kept. Start again."
                    )
                try:
                    finished = wait(waiting, timeout=_LOOK_AGAIN_S, return_when="FIRST_COMPLETED")
                except TimeoutError:
                    continue
                heard = time.monotonic()
                for future in finished.done:
                    results[future.key] = future.result()
                    done(results[future.key])
                    future.release()
                waiting = set(finished.not_done)
        except BaseException:
            self._client.cancel(list(waiting))
            raise
        return [results[future.key] for future in futures]

    def start(self, task: Callable[..., R], *arguments: Any) -> Callable[[], R]:
        """Begin one task; the returned function waits for it."""
        future = self._client.submit(task, *arguments, pure=False)
        return lambda: future.result(timeout=_RESULT_S)
