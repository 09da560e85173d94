"""The parts that run while the program is up, each stopped by what started it."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
import warnings
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import psutil
import requests

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.processes import LOG_VARIABLE, core_count, end_with_parent
from narrow_beacon.serve.mariadb import MariaDb
from narrow_beacon.server.config import CONFIG_VARIABLE, ServerConfig
from narrow_beacon.server.password import hash_of

if TYPE_CHECKING:
    from distributed import SpecCluster

LOG_NAME = "server.log"
_SERVER_TIMEOUT_S = 300.0
_DEMO_TIMEOUT_S = 900.0
_DEMO_NAME = "Larkspur 114"


@dataclass(frozen=True)
class Records:
    """The database's URL, and our own server where there is one."""

    url: str
    server: MariaDb | None = None


def start_database(parts: ExitStack, var: Path, data: Path) -> Records:
    """The database that BEACON_DATABASE_URL names, or our own, started here."""
    url = os.environ.get("BEACON_DATABASE_URL")
    database = None
    if not url:
        database = MariaDb(var / "mariadb")
        parts.callback(database.close)
        database.start()
        url = database.url
    from narrow_beacon.store.database import Store

    store = Store(url, data)
    store.migrate()
    store.engine.dispose()
    return Records(url, database)


@dataclass(frozen=True)
class Cluster:
    """A scheduler's address and the folder with the certificates that it asks for."""

    scheduler: str
    trust: Path
    has_all: Callable[[], bool] | None = None
    fill: Callable[[], None] | None = None
    """Where it was started here: whether no worker is lost, and what begins lost ones anew."""


def start_cluster(parts: ExitStack, secrets: Path) -> Cluster:
    """The cluster that BEACON_DASK names, or one that is started here. Raises TrustError."""
    # Slow to load; the server loads beside it.
    from narrow_beacon.jobs.cluster import begin_anew, local_cluster, lost_workers
    from narrow_beacon.jobs.trust import given_cluster, make_trust

    given = given_cluster(os.environ)
    if given:
        return Cluster(*given)
    trust = make_trust(secrets / "workers")
    cluster = local_cluster(core_count(), trust)
    parts.callback(_close, cluster)
    return Cluster(
        str(cluster.scheduler_address), trust, lambda: not lost_workers(cluster),
        lambda: begin_anew(cluster),
    )  # fmt: skip


def _close(cluster: SpecCluster) -> None:
    """End a cluster; one that is only just starting may lose its own connections over it."""
    with contextlib.suppress(OSError, TimeoutError):
        cluster.close()


@dataclass(frozen=True)
class Demo:
    """The demo nights and the stand-in catalogue service on their stars; empty without them."""

    folder: Path | None = None
    cone_url: str = ""


def begin_demo(parts: ExitStack, folder: Path, *, wanted: bool) -> subprocess.Popen[bytes] | None:
    """Begin to make the demo nights where they are missing, in a process of its own: beside all
    else that starts, and without a hold on anything of ours. None where there is nothing to make.
    """
    if not wanted or (folder / "plan.toml").exists():
        return None
    scratch = folder.with_name(folder.name + ".new")
    shutil.rmtree(scratch, ignore_errors=True)
    shutil.rmtree(folder, ignore_errors=True)
    scratch.parent.mkdir(parents=True, exist_ok=True)
    process = subprocess.Popen(
        [sys.executable, "-m", "narrow_beacon.cli", "demo", str(scratch)],
        stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        start_new_session=True, preexec_fn=end_with_parent,
    )  # fmt: skip
    parts.callback(_end, process)
    return process


def _end(process: subprocess.Popen[bytes]) -> None:
    if process.poll() is None:
        process.terminate()
        try:
            process.wait(10)
        except subprocess.TimeoutExpired:
            process.kill()


def start_demo(
    parts: ExitStack,
    url: str,
    var: Path,
    data: Path,
    making: subprocess.Popen[bytes] | None,
    *,
    wanted: bool,
    go_on: Callable[[], None] = lambda: None,
) -> Demo:
    """The demo nights, their campaign where it is missing, and the stand-in service; ``go_on`` is
    asked while they are made, and may raise.
    """
    from narrow_beacon.simulate.cone_service import ConeService

    folder = var / "demo"
    if making is not None:
        said = _finished(making, go_on)
        if making.returncode:
            raise BeaconError(f"The demo nights could not be made: {said.decode()[-400:]}")
        folder.with_name(folder.name + ".new").rename(folder)  # never a half-made folder
    if not (folder / "plan.toml").exists():
        return Demo()
    service = ConeService(folder / "larkspur.vot", 0)
    parts.enter_context(service)
    if wanted:
        demo_campaign(url, data, folder)
    return Demo(folder, service.url)


def _finished(making: subprocess.Popen[bytes], go_on: Callable[[], None]) -> bytes:
    """What it said once it has ended; ``go_on`` is asked meanwhile, and may raise."""
    end = time.monotonic() + _DEMO_TIMEOUT_S
    while True:
        go_on()
        try:
            return making.communicate(timeout=0.3)[1]
        except subprocess.TimeoutExpired:
            if time.monotonic() > end:
                raise BeaconError("The demo nights take too long to make.") from None


def demo_campaign(url: str, data: Path, folder: Path) -> None:
    """The demo campaign with a job that reduces it, where there is none."""
    from sqlalchemy import select

    from narrow_beacon.store.database import Store
    from narrow_beacon.store.models import Campaign

    store = Store(url, data)

    with store.session() as session:
        if session.scalars(select(Campaign).where(Campaign.name == _DEMO_NAME)).first():
            return
        from narrow_beacon.plan import read_plan
        from narrow_beacon.store.campaigns import new_campaign, queue_job, take_plan

        campaign = new_campaign(session, _DEMO_NAME, [])
        take_plan(session, campaign, read_plan(folder / "plan.toml"))
        queue_job(session, campaign, "reduce")
    store.engine.dispose()


def host_names(bind: str) -> frozenset[str]:
    """What a server at an address may be called besides loopback: with all addresses, any of
    this machine's.
    """
    if bind in ("127.0.0.1", "localhost"):
        return frozenset()
    if bind not in ("0.0.0.0", "::"):
        return frozenset({bind})
    families = (socket.AF_INET, socket.AF_INET6)
    own = [a.address for found in psutil.net_if_addrs().values() for a in found
           if a.family in families]  # fmt: skip
    bare = [address.split("%")[0] for address in own]
    return frozenset({bind, socket.gethostname(), *(f"[{a}]" if ":" in a else a for a in bare)})


@dataclass(frozen=True)
class Door:
    """Where the server listens and how one comes in. ``certificate`` and ``key`` are for HTTPS."""

    bind: str = "127.0.0.1"
    port: int = 0
    password: str | None = None
    certificate: Path | None = None
    key: Path | None = None

    @property
    def url(self) -> str:
        """The address for a browser on this machine."""
        host = {"0.0.0.0": "127.0.0.1", "::": "[::1]"}.get(self.bind, self.bind)
        host = f"[{host}]" if ":" in host and not host.startswith("[") else host
        return f"http{'s' if self.certificate else ''}://{host}:{self.port}"


class Server:
    """The process that answers the page. A context manager."""

    def __init__(self, page: Path, var: Path, data: Path, allow: tuple[Path, ...], door: Door):
        named = os.environ.get("BEACON_FOLDERS", "")
        folders = [Path(text) for text in named.split(":") if text] or [Path.home()]
        self.config = ServerConfig(
            "", data, "", page, var / "secrets", (*folders, *allow, data),
            hosts=host_names(door.bind), bind=door.bind, port=door.port,
            password_hash=hash_of(door.password) if door.password else None,
            certificate=door.certificate, key=door.key,
        )  # fmt: skip
        self.url = door.url
        self.log = var / LOG_NAME
        self._told = var / "secrets" / "server.json"
        self._process: subprocess.Popen[bytes] | None = None

    @property
    def running(self) -> bool:
        """Whether the server's process lives."""
        return self._process is not None and self._process.poll() is None

    @property
    def pid(self) -> int:
        """Its process, once it was begun."""
        assert self._process is not None
        return self._process.pid

    def tell(self, database_url: str, cluster: Cluster, demo: Demo) -> None:
        """What the server works with, once it is known."""
        more = (demo.folder,) if demo.folder else ()
        self.config = replace(
            self.config, database_url=database_url, scheduler=cluster.scheduler,
            trust=cluster.trust, folders=(*self.config.folders, *more), cone_url=demo.cone_url,
            demo_folder=demo.folder,
        )  # fmt: skip

    def begin(self) -> None:
        """Begin its process, which loads what it needs and then waits to be told the rest."""
        self.log.parent.mkdir(parents=True, exist_ok=True)
        self._told.parent.mkdir(parents=True, exist_ok=True)
        self._told.unlink(missing_ok=True)
        self._process = subprocess.Popen(
            [sys.executable, "-m", "narrow_beacon.server.web"],
            env={**os.environ, CONFIG_VARIABLE: str(self._told), LOG_VARIABLE: str(self.log)},
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            start_new_session=True, preexec_fn=end_with_parent,
        )  # fmt: skip

    def __enter__(self) -> Server:
        if self._process is None:
            self.begin()
        scratch = self._told.with_suffix(".new")
        scratch.unlink(missing_ok=True)
        descriptor = os.open(scratch, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "w") as file:
            file.write(self.config.to_json())
        scratch.replace(self._told)
        end = time.monotonic() + _SERVER_TIMEOUT_S
        while not self._answers():
            if not self.running or time.monotonic() > end:
                self.stop()
                lines = self.log.read_text(errors="replace").splitlines()[-3:]
                raise BeaconError(f"The server did not start; {self.log} says: {' / '.join(lines)}")
            threading.Event().wait(0.05)
        return self

    def begin_again(self) -> None:
        """Start it after it ended by itself; whoever is signed in stays so."""
        self._process = None
        self.__enter__()

    def _answers(self) -> bool:
        try:
            with requests.Session() as session, warnings.catch_warnings():
                warnings.simplefilter("ignore")  # a certificate of the observer's own is no danger
                session.trust_env = False  # no proxy between us and our own process
                answer = session.get(f"{self.url}/api/state", timeout=2, verify=False)
            return answer.status_code == 401
        except requests.RequestException:
            return False

    def stop(self) -> None:
        """End it; requests get a moment to finish."""
        if self._process and self._process.poll() is None:
            self._process.send_signal(signal.SIGTERM)
            try:
                self._process.wait(15)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait(10)
        self._process = None

    def __exit__(self, *_: object) -> None:
        self.stop()
