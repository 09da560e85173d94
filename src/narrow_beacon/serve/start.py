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
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from narrow_beacon.core.disk import disk_words
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.processes import LOG_VARIABLE
from narrow_beacon.serve.alone import RunsAlreadyError, alone
from narrow_beacon.serve.debian import need_database
from narrow_beacon.serve.places import Places
from narrow_beacon.serve.ports import free_port
from narrow_beacon.serve.services import (
    LOG_NAME,
    Cluster,
    Door,
    Records,
    Server,
    begin_demo,
    host_names,
    start_cluster,
    start_database,
    start_demo,
)
from narrow_beacon.serve.supervise import Part, Supervisor
from narrow_beacon.server.password import is_another
from narrow_beacon.server.sessions import Sessions
from narrow_beacon.server.tokens import make_token

T = TypeVar("T")
_PORT = 8114
_LOOPBACK = ("127.0.0.1", "localhost", "::1")
_CLUSTER_TIMEOUT_S = 300.0


class _StoppedError(Exception):
    """Asked to end before everything was up."""


class _Clock:
    """Says what is being done and how long it took."""

    def __init__(self, stopped: threading.Event) -> None:
        self._stopped = stopped
        self._begin = time.monotonic()

    def step(self, words: str, act: Callable[[], T]) -> T:
        print(f"  {words:<46}", end="", flush=True)
        begin = time.monotonic()
        self.go_on()
        result = act()
        self.go_on()
        print(f"{time.monotonic() - begin:6.1f} s", flush=True)
        return result

    def go_on(self) -> None:
        """Raises _StoppedError where it was asked to end meanwhile."""
        if self._stopped.is_set():
            raise _StoppedError

    @property
    def total_s(self) -> float:
        return time.monotonic() - self._begin


def start(
    places: Places, *, demo: bool, allow: tuple[Path, ...], door: Door, unencrypted: bool = False
) -> int:
    """Start all parts and wait for Ctrl+C; the exit status."""
    words = _not_safe(door, unencrypted)
    if words:
        print(words)
        return 2
    var, data = places.var, places.data
    os.umask(0o077)  # whatever is written from now on is the owner's alone
    stopped = threading.Event()
    clock = _Clock(stopped)
    for name in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):  # the last: a closed terminal
        signal.signal(name, lambda *_: stopped.set())
    try:
        with ExitStack() as parts:
            tell = parts.enter_context(alone(var))
            for folder in (var, var / "secrets", data):
                folder.mkdir(parents=True, exist_ok=True)
                folder.chmod(0o700)
            os.environ[LOG_VARIABLE] = str(var / LOG_NAME)  # for the workers, too
            print("Narrow Beacon starts:", flush=True)
            if places.installed:
                clock.step("Debian packages", need_database)
                from narrow_beacon.warm import warm_once

                clock.step("numerical kernels", lambda: warm_once(var))
            _sign_out_after_a_new_password(door, var)
            door = replace(door, port=free_port(door.port or _PORT, door.bind))
            server = Server(places.page, var, data, allow, door)
            parts.callback(server.stop)
            server.begin()  # it loads while the others start
            nights = begin_demo(parts, var / "demo", wanted=demo)
            # Beside the database: both mostly wait. Only this thread begins processes that are
            # to end with it.
            begun = parts.enter_context(ThreadPoolExecutor(1)).submit(
                start_cluster, parts, var / "secrets"
            )
            records = clock.step("database and records", lambda: start_database(parts, var, data))
            cluster = clock.step("workers", lambda: begun.result(_CLUSTER_TIMEOUT_S))
            known = clock.step(
                "demo nights",
                lambda: start_demo(
                    parts, records.url, var, data, nights, wanted=demo, go_on=clock.go_on
                ),
            )
            server.tell(records.url, cluster, known)
            clock.step("server and page", lambda: parts.enter_context(server))
            tell(server.url)
            print(f"Up after {clock.total_s:.1f} s. Open this address in a browser:\n")
            _say_address(server.url, var)
            _say_others(door)
            print("Enter: a new address for another browser. Ctrl+C: stop.\n", flush=True)
            _wait(server, records, cluster, var, stopped)
            print("\nstopping: jobs go on at the next start", flush=True)
    except RunsAlreadyError as error:
        if not error.url:
            print("Another ./beacon start is just setting up; use the address that it prints.")
            return 1
        print("It runs already, started elsewhere. Open this address in a browser:\n")
        _say_address(error.url, var)
    except _StoppedError:
        print("\nstopped while it was starting; nothing is lost", flush=True)
    except BeaconError as error:
        print(f"\n{error}", file=sys.stderr)
        return 1
    except OSError as error:
        print(f"\n{disk_words(error, var)}", file=sys.stderr)
        return 1
    return 0


def _not_safe(door: Door, unencrypted: bool) -> str:
    """Why others may not reach a server like this, or nothing."""
    if bool(door.certificate) != bool(door.key):
        return "--cert and --key belong together: give both, or neither."
    if door.bind in _LOOPBACK:
        return ""
    if not door.password:
        return "Another address than this machine's own needs a password: set BEACON_PASSWORD."
    if not door.certificate and not unencrypted:
        return (
            "Another address than this machine's own needs a certificate, else the password and "
            "everything else crosses the network in the open: give --cert FILE --key FILE, or say "
            "--unencrypted if only people whom you trust are on it."
        )
    return ""


def _sign_out_after_a_new_password(door: Door, var: Path) -> None:
    if is_another(door.password, var / "secrets" / "password"):
        ended = Sessions(var / "secrets" / "sessions").end_all()
        print(f"  another password than before: {ended} signed out", flush=True)


def _say_address(url: str, var: Path) -> None:
    token = make_token(var / "secrets" / "tokens")
    print(f"  {url}/?token={token}\n", flush=True)


def _say_others(door: Door) -> None:
    if door.bind in ("0.0.0.0", "::"):
        scheme = door.url.split("://")[0]
        others = sorted(host_names(door.bind) - {"0.0.0.0", "::", "127.0.0.1", "[::1]"})
        print("From other machines, with the password:")
        for name in others:
            print(f"  {scheme}://{name}:{door.port}")
        print(flush=True)


def _wait(
    server: Server, records: Records, cluster: Cluster, var: Path, stopped: threading.Event
) -> None:
    def listen() -> None:
        for _ in sys.stdin:
            _say_address(server.url, var)

    if sys.stdin and sys.stdin.isatty():
        threading.Thread(target=listen, daemon=True).start()
    parts = [Part("The server", lambda: server.running, server.begin_again, str(server.log))]
    if records.server is not None:
        database = records.server
        parts.append(
            Part("MariaDB", lambda: database.running, database.begin_again, str(database.log))
        )
    if cluster.has_all is not None and cluster.fill is not None:
        parts.append(Part("A worker", cluster.has_all, cluster.fill, str(server.log)))
    supervisor = Supervisor(parts, lambda words: print(f"  {words}", flush=True))
    while not stopped.wait(0.5):
        supervisor.look()
