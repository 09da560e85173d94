"""Tasks on Dask: the cluster, and a pool with which the reduction's steps run on it."""

from __future__ import annotations

import contextlib
import math
import os
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import Any, TypeVar

import dask
import psutil
from distributed import Client, Future, KilledWorker, Nanny, Scheduler, SpecCluster, Worker, wait
from distributed.deploy.subprocess import SubprocessWorker
from distributed.http.routing import RoutingApplication
from distributed.utils import get_mp_context
from tornado.httpserver import HTTPServer

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.jobs.depot import Depot, given_depot
from narrow_beacon.jobs.trust import given_cluster, security, settings
from narrow_beacon.processes import Tasks, semaphores_work
from narrow_beacon.reduce.workers import SilentWorkersError, tasks_that_fit
from narrow_beacon.rescue import LOST, TOO_LONG, Rescue

R = TypeVar("R")
_HOST = "127.0.0.1"
_MEMORY_SHARE = 0.8
_LOOK_AGAIN_S = 0.4
_ASK_WORKERS_S = 10.0
_ANSWER_S = 5.0
_GRACE_S = 3.0
_RESTART_S = 30.0
_SILENT_S = 900.0
_ANY = 2**31
_AHEAD = 8
"""So many tasks for each of the cluster's threads are given out at once: what they are made of
waits here and with the scheduler until it is theirs."""
_OURS = ("BEACON_", "DASK_")
"""What of the environment a worker is told anew."""
_LONGEST_TEMPORARY = 60
"""Bytes of the temporary folder's path: of 107 that a socket's has, what is made in it takes 40."""
_NOT_HELPFUL = ("target", "spill", "pause")
_SELDOM = {
    "distributed.admin.tick.interval": "1s",
    "distributed.admin.tick.cycle": "5s",
    "distributed.admin.system-monitor.interval": "5s",
    "distributed.admin.system-monitor.disk": False,
    "distributed.worker.memory.monitor-interval": "500ms",
    "distributed.worker.profile.enabled": False,
}
"""Parts that have nothing to do look at themselves fifty times a second otherwise, and workers at
what they do a hundred times: nobody asks what they see."""
_RESULT_S = 600.0
_BEHIND_THE_PAGE = 10
"""How far back a worker of this machine stands for a core (nice)."""


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
    """A worker with no open port but the one that asks for a certificate, in a process of its own:
    what an observer does in the page goes before what it does.
    """

    def __init__(self, *arguments: Any, **named: Any) -> None:
        super().__init__(*arguments, **named)
        os.setpriority(os.PRIO_PROCESS, 0, _BEHIND_THE_PAGE)


def local_cluster(workers: int, trust: Path) -> SpecCluster:
    """A cluster of this machine: one process per worker, one thread each, on loopback; whoever
    connects shows the certificates of the folder ``trust``. A worker that dies, or that takes
    more than the machine can spare, is begun again; ``ClusterPool.room_for`` sees to it that they
    don't do so together.
    """
    secure = security(trust)
    share = int(psutil.virtual_memory().total * _MEMORY_SHARE)
    options: dict[str, Any] = {"nthreads": 1, "host": _HOST, "memory_limit": share}
    os.environ.setdefault("DASK_LOGGING__DISTRIBUTED", "error")  # what they say is not for people
    # What a worker holds are mapped planes and buffers that it uses again: neither can be moved to
    # disk, and a worker that waits for less to be in use would wait for ever.
    dask.config.set({f"distributed.worker.memory.{key}": False for key in _NOT_HELPFUL})
    dask.config.set(_SELDOM)
    if semaphores_work():
        # The nannies see to their workers; nobody is to send one home whose worker is just away.
        dask.config.set({"distributed.deploy.lost-worker-timeout": "365 days"})
        options |= {"security": secure, "worker_class": UnheardWorker, "silence_logs": 50}
        options["env"] = {name: os.environ[name] for name in os.environ if name.startswith(_OURS)}
        _fork_workers()
        worker: dict[str, Any] = {"cls": Nanny, "options": {**options, "dashboard": False}}
    else:
        # Without what needs semaphores: whoever started it sees to it that all are there.
        os.environ.update(settings(trust))
        options |= {"death_timeout": 30, "dashboard": False, "memory_limit": 0}
        named = {"worker_class": f"{__name__}.UnheardWorker", "worker_kwargs": options}
        worker = {"cls": SubprocessWorker, "options": named}
    return SpecCluster(
        dict.fromkeys(range(workers), worker),
        {"cls": UnheardScheduler, "options": {"host": _HOST, "port": 0, "security": secure}},
        security=secure, silence_logs=50,
    )  # fmt: skip


def _fork_workers() -> None:
    """From now on workers are forked from a process that has loaded what they need: the first task
    waits for nothing, a lost worker is there again at once, and what all have loaded is in memory
    once. Where the temporary folder's path leaves no room for a socket's name each loads its own.
    """
    if len(os.fsencode(tempfile.gettempdir())) > _LONGEST_TEMPORARY:
        return
    dask.config.set({"distributed.worker.multiprocessing-method": "forkserver"})
    get_mp_context().set_forkserver_preload(["narrow_beacon.jobs.preloaded"])


@contextlib.contextmanager
def given_pool(environment: Mapping[str, str], root: Path) -> Iterator[ClusterPool | None]:
    """The pool of the cluster that the environment names; None where it names none. What tasks
    share lies below ``root``; what of it went through a depot is gone from there at the end. Raises
    TrustError, DepotError, and OSError where the cluster does not answer.
    """
    given = given_cluster(environment)
    if given is None:
        yield None
        return
    address, trust = given
    depot = given_depot(root, environment)
    with Client(address, security=security(trust)) as client:
        try:
            yield ClusterPool(client, depot=depot)
        finally:
            if depot is not None:
                depot.clear()


def lost_workers(cluster: SpecCluster) -> list[Any]:
    """Those of a local cluster's workers that have ended and that no nanny sees to."""
    return [
        name
        for name, worker in cluster.workers.items()
        if isinstance(worker, SubprocessWorker)
        and worker.process is not None
        and worker.process.returncode is not None
    ]


def begin_anew(cluster: SpecCluster) -> None:
    """Begin workers in place of the lost ones, and wait until they run."""
    count = len(cluster.worker_spec)
    for name in lost_workers(cluster):
        del cluster.workers[name]
    cluster.scale(count)
    end = time.monotonic() + _RESTART_S
    while len(cluster.workers) < count and time.monotonic() < end:
        time.sleep(_LOOK_AGAIN_S / 4)


class ClusterPool(Tasks):
    """Runs tasks on a cluster; ``cancelled`` is asked now and then whether to stop. What the tasks
    share goes through the ``depot`` where machines have no file system in common.
    """

    def __init__(
        self,
        client: Client,
        cancelled: Callable[[], bool] = lambda: False,
        depot: Depot | None = None,
    ) -> None:
        self._client = client
        self._cancelled = cancelled
        self._depot = depot
        self._most = _ANY

    def run(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        found: Callable[[int, R], None],
        rescue: Rescue[R] | None,
    ) -> None:
        """Raises CancelledError, and whatever a task raised, after the rest was ended."""
        lost: list[int] = []
        self._run_some(task, calls, found, lost, rescue)
        for place in lost:
            if rescue is None:
                raise SilentWorkersError(f"{task.__name__}: {LOST}. What was done is kept.")
            pieces = rescue.split(calls[place])
            if len(pieces) > 1:
                found(place, rescue.joined(self.map(task, pieces, rescue=rescue)))
                continue
            # Alone: what died may have been beside it on the same worker.
            alone: list[int] = []
            rescued: dict[int, R] = {}
            self._run_some(task, [calls[place]], rescued.__setitem__, alone, rescue)
            found(place, rescue.given_up(calls[place], LOST) if alone else rescued[0])

    def _run_some(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        take: Callable[[int, R], None],
        lost: list[int],
        rescue: Rescue[R] | None,
    ) -> None:
        """``take`` gets each place in ``calls`` with its result; ``lost`` the places of those whose
        workers died.
        """
        limits = [rescue.limit_of(call) if rescue else _SILENT_S for call in calls]
        left = iter(range(len(calls)))
        places: dict[Any, int] = {}
        waiting: set[Future] = set()
        clock = _Clock(self._client)

        def fill() -> None:
            most = min(self._most, _AHEAD * clock.threads())
            for place in islice(left, max(0, most - len(waiting))):
                future = self._submit(task, calls[place])
                places[future.key] = place
                clock.limits_s[future.key] = limits[place]
                waiting.add(future)

        try:
            while True:
                fill()
                if not waiting:
                    break
                if self._cancelled():
                    raise CancelledError("stopped by the observer")
                late = clock.late()
                for future in [f for f in waiting if f.key in late]:
                    place = places[future.key]
                    self._end([future])
                    waiting.discard(future)
                    take(place, self._too_long(task, calls[place], limits[place], rescue))
                try:
                    finished = wait(waiting, timeout=_LOOK_AGAIN_S, return_when="FIRST_COMPLETED")
                except TimeoutError:
                    continue
                waiting.intersection_update(finished.not_done)
                for future in finished.done:
                    try:
                        take(places[future.key], self._received(future.result()))
                    except KilledWorker:
                        lost.append(places[future.key])
                    future.release()
        except BaseException:
            self._end(list(waiting))
            raise

    def _too_long(
        self,
        task: Callable[..., R],
        call: tuple[Any, ...],
        limit_s: float,
        rescue: Rescue[R] | None,
    ) -> R:
        words = TOO_LONG.format(limit_s)
        if rescue is None:
            raise SilentWorkersError(f"{task.__name__}: {words}. What was done is kept.")
        pieces = rescue.split(call)
        if len(pieces) == 1:
            return rescue.given_up(call, words)
        return rescue.joined(self.map(task, pieces, rescue=rescue))

    def _end(self, futures: list[Future]) -> None:
        """Call tasks off; a worker that goes on with one nevertheless is begun anew."""
        self._client.cancel(futures)
        keys = {future.key for future in futures}
        end = time.monotonic() + _GRACE_S
        while busy := _working_on(self._client, keys):
            if time.monotonic() > end:
                with contextlib.suppress(ValueError, OSError, TimeoutError):
                    self._client.restart_workers(list(busy), timeout=_RESTART_S)
                return
            time.sleep(_LOOK_AGAIN_S / 4)

    def start(self, task: Callable[..., R], *arguments: Any) -> Callable[[], R]:
        """Begin one task; the returned function waits for it."""
        future = self._submit(task, arguments)
        return lambda: self._received(future.result(timeout=_RESULT_S))

    def room_for(self, task_bytes: int) -> None:
        """From now on give out no more tasks at once than there is memory for on this machine;
        workers elsewhere are begun by whoever knows theirs.
        """
        workers = self._client.scheduler_info()["workers"]
        fits = tasks_that_fit(task_bytes)
        here = all(f"//{_HOST}:" in address for address in workers)
        self._most = fits if here and fits < len(workers) else _ANY

    def _submit(self, task: Callable[..., Any], call: tuple[Any, ...]) -> Future:
        sent = (task, *call) if self._depot is None else self._depot.sent(task, call)
        return self._client.submit(*sent, pure=False)

    def _received(self, result: Any) -> Any:
        return result if self._depot is None else self._depot.received(result)


class _Clock:
    """How long each task has been worked on, and by how many at once; asked seldom, for it asks
    the workers.
    """

    def __init__(self, client: Client) -> None:
        self._client = client
        self.limits_s: dict[Any, float] = {}
        self._began: dict[tuple[str, Any], float] = {}
        self._asked = time.monotonic()
        self._counted, self._threads = -math.inf, 1

    def threads(self) -> int:
        """How many tasks the cluster can work on at once, as it was a moment ago."""
        now = time.monotonic()
        if now - self._counted > _ASK_WORKERS_S:
            self._counted, self._threads = now, max(1, sum(self._client.nthreads().values()))
        return self._threads

    def late(self) -> set[Any]:
        """The keys of those that take longer than they may."""
        now = time.monotonic()
        if now - self._asked < _ASK_WORKERS_S:
            return set()
        self._asked = now
        running = {
            (worker, key) for worker, keys in _executing(self._client).items() for key in keys
        }
        self._began = {item: self._began.get(item, now) for item in running}
        return {
            key
            for (_, key), begin in self._began.items()
            if now - begin > self.limits_s.get(key, math.inf)
        }


def _executing(client: Client) -> dict[str, list[Any]]:
    """The keys of the tasks that each worker works on in this moment; what was given to it, where
    one is too busy to say.
    """
    try:
        return client.sync(client._run, _own_tasks, on_error="ignore", callback_timeout=_ANSWER_S)
    except TimeoutError:
        return {worker: list(keys) for worker, keys in client.processing().items()}


def _own_tasks(dask_worker: Worker) -> list[Any]:
    return [task.key for task in dask_worker.state.executing]


def _working_on(client: Client, keys: set[Any]) -> set[str]:
    return {worker for worker, tasks in _executing(client).items() if keys & set(tasks)}
