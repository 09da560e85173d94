"""The parts that run while the program is up, each stopped by what started it."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

import psutil
import requests

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.processes import core_count, end_with_parent
from narrow_beacon.serve.mariadb import MariaDb
from narrow_beacon.server.config import CONFIG_VARIABLE, ServerConfig

LOG_NAME = "server.log"
_SERVER_TIMEOUT_S = 40.0
_DEMO_TIMEOUT_S = 900.0
_THREADS = 24
_DEMO_NAME = "Larkspur 114"


def start_database(parts: ExitStack, var: Path, data: Path) -> str:
    """The database's URL: that of BEACON_DATABASE_URL, or of our own server, started here."""
    url = os.environ.get("BEACON_DATABASE_URL")
    if not url:
        database = MariaDb(var / "mariadb")
        parts.callback(database.close)
        database.start()
        url = database.url
    from narrow_beacon.store.database import Store

    store = Store(url, data)
    store.migrate()
    store.engine.dispose()
    return url


def start_cluster(parts: ExitStack) -> str:
    """The scheduler's address: that of BEACON_DASK, or of a cluster started here."""
    address = os.environ.get("BEACON_DASK")
    if address:
        return address
    from narrow_beacon.jobs.cluster import local_cluster  # slow to load; the server loads beside it

    cluster = local_cluster(core_count())
    parts.callback(cluster.close)
    return str(cluster.scheduler_address)


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
) -> Demo:
    """The demo nights, their campaign where it is missing, and the stand-in service."""
    from narrow_beacon.simulate.cone_service import ConeService

    folder = var / "demo"
    if making is not None:
        _, said = making.communicate(timeout=_DEMO_TIMEOUT_S)
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


class Server:
    """gunicorn with threads on the application. A context manager."""

    def __init__(
        self,
        page: Path,
        var: Path,
        data: Path,
        database_url: str,
        scheduler: str,
        demo: Demo,
        allow: tuple[Path, ...],
        bind: str,
        port: int,
        password: str | None = None,
    ) -> None:
        named = os.environ.get("BEACON_FOLDERS", "")
        folders = [Path(text) for text in named.split(":") if text] or [Path.home()]
        self.config = ServerConfig(
            "", data, "", page, var / "secrets", (*folders, *allow, data), "", None,
            host_names(bind), password,
        )  # fmt: skip
        self.url = f"http://{bind}:{port}"
        self.log = var / LOG_NAME
        self._told = var / "secrets" / "server.json"
        self._address = f"{bind}:{port}"
        self._process: subprocess.Popen[bytes] | None = None
        self.tell(database_url, scheduler, demo)

    @property
    def running(self) -> bool:
        """Whether the server's process lives."""
        return self._process is not None and self._process.poll() is None

    def tell(self, database_url: str, scheduler: str, demo: Demo) -> None:
        """What the server works with, once it is known."""
        more = (demo.folder,) if demo.folder else ()
        self.config = replace(
            self.config, database_url=database_url, scheduler=scheduler,
            folders=(*self.config.folders, *more), cone_url=demo.cone_url, demo_folder=demo.folder,
        )  # fmt: skip

    def begin(self) -> None:
        """Begin its process, which loads what it needs and then waits to be told the rest."""
        self.log.parent.mkdir(parents=True, exist_ok=True)
        self._told.parent.mkdir(parents=True, exist_ok=True)
        self._told.unlink(missing_ok=True)
        self._process = subprocess.Popen(
            [
                sys.executable, "-m", "gunicorn", "--bind", self._address, "--workers", "1",
                "--worker-class", "gthread", "--threads", str(_THREADS), "--timeout", "0",
                "--graceful-timeout", "3", "--keep-alive", "30", "--error-logfile", str(self.log),
                "--capture-output", "--no-control-socket",
                "narrow_beacon.server.app:from_environment()",
            ],
            env={**os.environ, CONFIG_VARIABLE: str(self._told)},
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

    def _answers(self) -> bool:
        try:
            return requests.get(f"{self.url}/api/state", timeout=2).status_code == 401
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
