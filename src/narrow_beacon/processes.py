"""A pool of forked processes that take their tasks over pipes.

Pipes are all that it needs: a machine on which no semaphores can be made (a shared memory that only
an administrator may write to) runs it as well. A worker ends with its parent, whatever ends that,
and holds none of its parent's files or sockets.
"""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import signal
import sys
import time
from collections import deque
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection, wait
from multiprocessing.process import BaseProcess
from typing import Any, TypeVar, cast

from narrow_beacon.rescue import LOST, LostError, Rescue

R = TypeVar("R")
LOG_VARIABLE = "BEACON_LOG"
"""Names the file to which worker processes write what only concerns developers."""
_PR_SET_PDEATHSIG = 1
_SILENT_S = 900.0
_END_S = 5.0
_libc = ctypes.CDLL(None, use_errno=True)

Task = tuple[Callable[..., Any], tuple[Any, ...], Callable[[Any], None], float]


class WorkerError(RuntimeError):
    """A worker process ended by itself, or was too long at a task, and nothing can stand in."""


def end_with_parent() -> None:
    """For a child process: the end of its parent ends it."""
    _libc.prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


def semaphores_work() -> bool:
    """Whether the library's own pools, which need semaphores, work on this machine."""
    try:
        multiprocessing.get_context("spawn").Lock()
    except OSError:
        return False
    return True


def core_count() -> int:
    """The cores that this process may use."""
    return len(os.sched_getaffinity(0))


class Tasks:
    """Calls of a task worked on beside one another; each kind of pool says how, by ``run``."""

    def run(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        found: Callable[[int, R], None],
        rescue: Rescue[R] | None,
    ) -> None:
        """``found`` gets the place of every call with its result, as it comes; ``rescue`` says what
        becomes of a call whose worker is lost.
        """
        raise NotImplementedError

    def map(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[R], None] = lambda _: None,
        rescue: Rescue[R] | None = None,
    ) -> list[R]:
        """The results of ``task(*call)`` in order; ``done`` is told of each as it comes. Raises
        what ``run`` does.
        """
        results: dict[int, R] = {}

        def take(place: int, result: R) -> None:
            results[place] = result
            done(result)

        self.run(task, calls, take, rescue)
        return [results[place] for place in range(len(calls))]

    def each(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[R], None],
        rescue: Rescue[R] | None = None,
    ) -> None:
        """Hand the result of every call to ``done`` as it comes, and keep none."""
        self.run(task, calls, lambda _, result: done(result), rescue)


class Processes(Tasks):
    """Processes that were forked early, before any thread, so that a worker costs no import."""

    def __init__(self, count: int) -> None:
        self._workers: dict[Connection, BaseProcess] = {}
        self._busy: dict[Connection, tuple[Callable[[Any], None], float]] = {}
        self._queue: deque[Task] = deque()
        self.most = count
        """So many of them may work at once."""
        for _ in range(count):
            self._begin("fork")

    def _begin(self, how: str) -> None:
        context = multiprocessing.get_context(how)
        ours, theirs = context.Pipe()
        worker = context.Process(target=_work, args=(theirs,), daemon=True)  # type: ignore[attr-defined]
        worker.start()
        theirs.close()
        self._workers[ours] = worker

    def run(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        found: Callable[[int, R], None],
        rescue: Rescue[R] | None,
    ) -> None:
        """Raises what a task raised, and WorkerError where a worker is lost without ``rescue``."""
        left = len(calls)
        lost: list[tuple[int, str]] = []

        def taker(index: int) -> Callable[[Any], None]:
            def take(result: Any) -> None:
                nonlocal left
                if isinstance(result, LostError):
                    lost.append((index, str(result)))
                    return
                left -= 1
                found(index, result)

            return take

        limits = [rescue.limit_of(call) if rescue else _SILENT_S for call in calls]
        self._queue.extend(
            (task, call, taker(index), limits[index]) for index, call in enumerate(calls)
        )
        try:
            while left:
                while lost:
                    index, words = lost.pop()
                    if rescue is None:
                        raise WorkerError(f"{task.__name__}: {words}")
                    pieces = rescue.split(calls[index])
                    left -= 1
                    if len(pieces) > 1:
                        found(index, rescue.joined(self.map(task, pieces, rescue=rescue)))
                    else:
                        found(index, rescue.given_up(calls[index], words))
                if left:
                    self._step()
        except BaseException:
            self._queue.clear()
            raise

    def start(self, task: Callable[..., R], *arguments: Any) -> Callable[[], R]:
        """Begin one task; the returned function waits for it. Raises WorkerError."""
        box: list[Any] = []
        self._queue.append((task, arguments, box.append, _SILENT_S))
        self._feed()

        def result() -> R:
            while not box:
                self._step()
            if isinstance(box[0], LostError):
                raise WorkerError(f"{task.__name__}: {box[0]}")
            return cast(R, box[0])

        return result

    def _feed(self) -> None:
        for pipe in self._workers:
            if self._queue and pipe not in self._busy and len(self._busy) < self.most:
                task, arguments, take, limit_s = self._queue.popleft()
                pipe.send((task, arguments))
                self._busy[pipe] = take, time.monotonic() + limit_s

    def _step(self) -> None:
        """Hand out what waits, and take at least one result, or find a worker lost."""
        self._feed()
        first = min(end for _, end in self._busy.values())
        ready = wait(list(self._busy), max(0.0, first - time.monotonic()))
        if not ready:
            for late in [p for p, (_, end) in self._busy.items() if end <= time.monotonic()]:
                self._replace(late, "it took too long and was ended")
        for pipe in ready:
            assert isinstance(pipe, Connection)
            try:
                failed, value = pipe.recv()
            except (EOFError, OSError):
                self._replace(pipe, LOST)
                continue
            take, _ = self._busy.pop(pipe)
            if failed:
                raise value
            take(value)

    def _replace(self, pipe: Connection, words: str) -> None:
        """Another worker for one that is lost; whoever waits for it is told."""
        worker = self._workers.pop(pipe)
        worker.kill()
        worker.join(_END_S)
        pipe.close()
        take, _ = self._busy.pop(pipe)
        self._begin("spawn")  # by now there may be threads, which a fork would carry along
        take(LostError(words))

    def close(self) -> None:
        """End the processes."""
        for pipe, worker in self._workers.items():
            pipe.close()
            worker.join(0.5 if pipe not in self._busy else 0.0)
            if worker.is_alive():
                worker.terminate()
                worker.join(_END_S)
        self._workers.clear()

    def __enter__(self) -> Processes:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _work(pipe: Connection) -> None:
    """The life of a worker: tasks in, results out, until the pipe is closed."""
    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C is the parent's to answer
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    keep = pipe.fileno()
    os.closerange(3, keep)
    os.closerange(keep + 1, os.sysconf("SC_OPEN_MAX"))
    while True:
        try:
            task, arguments = pipe.recv()
        except (EOFError, OSError):
            return
        try:
            answer = (False, task(*arguments))
        except Exception as error:
            answer = (True, error)
        try:
            pipe.send(answer)
        except OSError:
            return
        except Exception as error:  # what cannot be sent
            pipe.send((True, WorkerError(f"{task.__name__}: {error}")))
        sys.stdout.flush()
