"""Tasks on Dask: the cluster, and a pool with which the reduction's steps run on it."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, TypeVar

import psutil
from distributed import Client, Future, Nanny, Scheduler, SpecCluster, Worker, wait
from distributed.deploy.subprocess import SubprocessWorker
from distributed.http.routing import RoutingApplication
from tornado.httpserver import HTTPServer

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.jobs.trust import security, settings
from narrow_beacon.processes import semaphores_work
from narrow_beacon.reduce.workers import SilentWorkersError

R = TypeVar("R")
_HOST = "127.0.0.1"
_MEMORY_SHARE = 0.8
_LOOK_AGAIN_S = 0.4
_SILENT_S = 900.0
_RESULT_S = 600.0


class CancelledError(BeaconError):
    """The observer stopped the job."""


class _Unheard:
    """A part of a cluster without the pages that Dask would serve to anyone about it."""

    def start_http_server(self, routes: Any, *_: Any, **__: Any) -> None:
        """Make what the rest expects, and listen nowhere."""
        self.http_application = RoutingApplication(routes)
        self.http_server = HTTPServer(self.http_application)


class UnheardScheduler(_Unheard, Scheduler):
    """A scheduler with no open port but the one that asks for a certificate."""


class UnheardWorker(_Unheard, Worker):
    """A worker with no open port but the one that asks for a certificate."""


def local_cluster(workers: int, trust: Path) -> SpecCluster:
    """A cluster of this machine: one process per worker, one thread each, on loopback; whoever
    connects shows the certificates of the folder ``trust``. A worker that dies, or that takes
    more than its share of the memory, is begun again.
    """
    secure = security(trust)
    share = int(psutil.virtual_memory().total * _MEMORY_SHARE / workers)
    options: dict[str, Any] = {"nthreads": 1, "host": _HOST, "memory_limit": share}
    os.environ.setdefault("DASK_LOGGING__DISTRIBUTED", "error")  # what they say is not for people
    if semaphores_work():
        options |= {"security": secure, "worker_class": UnheardWorker, "silence_logs": 50}
        worker: dict[str, Any] = {"cls": Nanny, "options": {**options, "dashboard": False}}
    else:
        # Without what needs semaphores: one that dies is not begun again.
        os.environ.update(settings(trust))
        options |= {"death_timeout": 30, "dashboard": False, "memory_limit": 0}
        named = {"worker_class": f"{__name__}.UnheardWorker", "worker_kwargs": options}
        worker = {"cls": SubprocessWorker, "options": named}
    return SpecCluster(
        dict.fromkeys(range(workers), worker),
        {"cls": UnheardScheduler, "options": {"host": _HOST, "port": 0, "security": secure}},
        security=secure, silence_logs=50,
    )  # fmt: skip


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
