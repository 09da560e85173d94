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
from collections import deque
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection, wait
from multiprocessing.process import BaseProcess
from typing import Any, TypeVar

R = TypeVar("R")
LOG_VARIABLE = "BEACON_LOG"
"""Names the file to which worker processes write what only concerns developers."""
_PR_SET_PDEATHSIG = 1
_SILENT_S = 900.0
_END_S = 5.0
_libc = ctypes.CDLL(None, use_errno=True)

Task = tuple[Callable[..., Any], tuple[Any, ...], Callable[[Any], None]]


class WorkerError(RuntimeError):
    """A worker process ended by itself, or none has answered for very long."""


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


class Processes:
    """Processes that were forked early, before any thread, so that a worker costs no import."""

    def __init__(self, count: int) -> None:
        context = multiprocessing.get_context("fork")
        self._workers: dict[Connection, BaseProcess] = {}
        self._busy: dict[Connection, Callable[[Any], None]] = {}
        self._queue: deque[Task] = deque()
        for _ in range(count):
            ours, theirs = context.Pipe()
            worker = context.Process(target=_work, args=(theirs,), daemon=True)
            worker.start()
            theirs.close()
            self._workers[ours] = worker

    def map(
        self,
        task: Callable[..., R],
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[R], None] = lambda _: None,
    ) -> list[R]:
        """The results of ``task(*call)`` in order; ``done`` is told of each as it comes.

        Raises what a task raised, and WorkerError where a worker is lost.
        """
        results: dict[int, R] = {}

        def taker(index: int) -> Callable[[R], None]:
            def take(result: R) -> None:
                results[index] = result
                done(result)

            return take

        self._queue.extend((task, call, taker(index)) for index, call in enumerate(calls))
        try:
            while len(results) < len(calls):
                self._step(task.__name__)
        except BaseException:
            self._queue.clear()
            raise
        return [results[index] for index in range(len(calls))]

    def start(self, task: Callable[..., R], *arguments: Any) -> Callable[[], R]:
        """Begin one task; the returned function waits for it."""
        box: list[R] = []
        self._queue.append((task, arguments, box.append))
        self._feed()

        def result() -> R:
            while not box:
                self._step(task.__name__)
            return box[0]

        return result

    def _feed(self) -> None:
        for pipe in self._workers:
            if self._queue and pipe not in self._busy:
                task, arguments, take = self._queue.popleft()
                pipe.send((task, arguments))
                self._busy[pipe] = take

    def _step(self, words: str) -> None:
        """Hand out what waits, and take at least one result."""
        self._feed()
        ready = wait(list(self._busy), _SILENT_S)
        if not ready:
            raise WorkerError(
                f"no worker has finished any of {len(self._busy) + len(self._queue)} tasks "
                f"({words}) for {_SILENT_S / 60:.0f} minutes"
            )
        for pipe in ready:
            assert isinstance(pipe, Connection)
            take = self._busy.pop(pipe)
            try:
                failed, value = pipe.recv()
            except EOFError as error:
                worker = self._workers.pop(pipe)
                worker.join(_END_S)
                raise WorkerError(
                    f"a worker process ended by itself (status {worker.exitcode}) in {words}; "
                    "was the memory used up?"
                ) from error
            if failed:
                raise value
            take(value)

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
