"""Bring everything up, say how long each part took, and take it down again."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from pathlib import Path
from typing import TypeVar

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.processes import LOG_VARIABLE
from narrow_beacon.serve.alone import RunsAlreadyError, alone
from narrow_beacon.serve.debian import need_database
from narrow_beacon.serve.places import Places
from narrow_beacon.serve.ports import free_port
from narrow_beacon.serve.services import (
    LOG_NAME,
    Demo,
    Server,
    begin_demo,
    start_cluster,
    start_database,
    start_demo,
)
from narrow_beacon.server.tokens import make_token

T = TypeVar("T")
_PORT = 8114
_CLUSTER_TIMEOUT_S = 120.0


class _Clock:
    """Says what is being done and how long it took."""

    def __init__(self) -> None:
        self._begin = time.monotonic()

    def step(self, words: str, act: Callable[[], T]) -> T:
        print(f"  {words:<46}", end="", flush=True)
        begin = time.monotonic()
        result = act()
        print(f"{time.monotonic() - begin:6.1f} s", flush=True)
        return result

    @property
    def total_s(self) -> float:
        return time.monotonic() - self._begin


def start(
    places: Places, *, demo: bool, port: int | None, allow: tuple[Path, ...], bind: str
) -> int:
    """Start all parts and wait for Ctrl+C; the exit status."""
    password = os.environ.get("BEACON_PASSWORD")
    if bind not in ("127.0.0.1", "localhost") and not password:
        print("Another address than this machine's own needs a password: set BEACON_PASSWORD.")
        return 2
    var, data = places.var, places.data
    clock = _Clock()
    stopped = threading.Event()
    for name in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):  # the last: a closed terminal
        signal.signal(name, lambda *_: stopped.set())
    try:
        with ExitStack() as parts:
            tell = parts.enter_context(alone(var))
            os.environ[LOG_VARIABLE] = str(var / LOG_NAME)  # for the workers, too
            print("Narrow Beacon starts:", flush=True)
            if places.installed:
                clock.step("Debian packages", need_database)
                from narrow_beacon.warm import warm_once

                clock.step("numerical kernels", lambda: warm_once(var))
            server = Server(
                places.page, var, data, "", "", Demo(), allow, bind, free_port(port or _PORT),
                password,
            )  # fmt: skip
            parts.callback(server.stop)
            server.begin()  # it loads while the others start
            nights = begin_demo(parts, var / "demo", wanted=demo)
            # Beside the database: both mostly wait. Only this thread begins processes that are
            # to end with it.
            cluster = parts.enter_context(ThreadPoolExecutor(1)).submit(start_cluster, parts)
            url = clock.step("database and records", lambda: start_database(parts, var, data))
            scheduler = clock.step("workers", lambda: cluster.result(_CLUSTER_TIMEOUT_S))
            known = clock.step(
                "demo nights", lambda: start_demo(parts, url, var, data, nights, wanted=demo)
            )
            server.tell(url, scheduler, known)
            clock.step("server and page", lambda: parts.enter_context(server))
            tell(server.url)
            print(f"Up after {clock.total_s:.1f} s. Open this address in a browser:\n")
            _say_address(server.url, var)
            print("Enter: a new address for another browser. Ctrl+C: stop.\n", flush=True)
            _wait(server, var, stopped)
            print("\nstopping: jobs go on at the next start", flush=True)
    except RunsAlreadyError as error:
        if not error.url:
            print("Another ./beacon start is just setting up; use the address that it prints.")
            return 1
        print("It runs already, started elsewhere. Open this address in a browser:\n")
        _say_address(error.url, var)
    except BeaconError as error:
        print(f"\n{error}", file=sys.stderr)
        return 1
    return 0


def _say_address(url: str, var: Path) -> None:
    token = make_token(var / "secrets" / "tokens")
    print(f"  {url}/?token={token}\n", flush=True)


def _wait(server: Server, var: Path, stopped: threading.Event) -> None:
    def listen() -> None:
        for _ in sys.stdin:
            _say_address(server.url, var)

    if sys.stdin and sys.stdin.isatty():
        threading.Thread(target=listen, daemon=True).start()
    while not stopped.wait(0.5):
        if not server.running:
            raise BeaconError(f"The server ended by itself; its log is {server.log}.")
