"""The application in full for tests: MariaDB, cluster, server; started once, each part its own."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from functools import cache
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import requests
from astropy.io import fits
from distributed import Client as DaskClient
from sqlalchemy import select

from narrow_beacon.jobs.trust import security
from narrow_beacon.serve.mariadb import MariaDb
from narrow_beacon.serve.places import find_places
from narrow_beacon.serve.ports import free_port
from narrow_beacon.serve.services import Demo, Door, Server, start_cluster
from narrow_beacon.server.tokens import make_token
from narrow_beacon.simulate.plain import write_plain_night
from narrow_beacon.simulate.pointing import Pointing
from narrow_beacon.store.database import Store
from narrow_beacon.store.models import Job

PAGE = find_places().page
JOB_TIMEOUT_S = 240.0
UNKIND = "foxglove-005.fits"
"""The exposure whose header does not say what it is."""


class Running:
    """The application on a folder of its own."""

    def __init__(self, folder: Path, var: Path | None = None, nights: Path | None = None):
        self.folder = folder
        self.var, self.nights = var or folder / "var", nights or folder / "nights"
        self.data = self.var / "data"
        self.nights.mkdir(parents=True, exist_ok=True)
        self._parts = ExitStack()
        self.database = MariaDb(self.var / "mariadb")
        self._parts.callback(self.database.close)
        self.database.start()
        self.store = Store(self.database.url, self.data)
        self._parts.callback(self.store.engine.dispose)
        self.store.migrate()
        self.cluster = start_cluster(self._parts, self.var / "secrets")
        self.port = free_port()
        self.server = self._serve()

    def _serve(self) -> Server:
        server = Server(PAGE, self.var, self.data, (self.nights,), Door(port=self.port))
        server.tell(self.database.url, self.cluster, Demo())
        return server.__enter__()

    def restart_server(self) -> None:
        """End the server as a crash of the machine would leave it, and start it again."""
        self.server.stop()
        self.server = self._serve()

    def workers(self) -> DaskClient:
        """The cluster's own client."""
        return DaskClient(self.cluster.scheduler, security=security(self.cluster.trust))

    @property
    def url(self) -> str:
        return self.server.url

    def address(self) -> str:
        """An address with a fresh one-time token."""
        return f"{self.url}/?token={make_token(self.var / 'secrets' / 'tokens')}"

    def client(self) -> Client:
        """A signed-in client."""
        return Client(self)

    def close(self) -> None:
        self.server.stop()
        self._parts.close()


class Client:
    """Talks to the API as the page does."""

    def __init__(self, running: Running) -> None:
        self.session = requests.Session()
        self.url = running.url
        self.session.get(running.address(), timeout=30).raise_for_status()

    def ask(self, method: str, path: str, body: object = None) -> requests.Response:
        return self.session.request(method, f"{self.url}/api/{path}", json=body, timeout=60)

    def get(self, path: str) -> Any:
        response = self.ask("GET", path)
        assert response.ok, response.text
        return response.json()

    def post(self, path: str, body: object = None) -> Any:
        response = self.ask("POST", path, body)
        assert response.ok, response.text
        return response.json()

    @contextmanager
    def listening(self) -> Iterator[Iterator[dict[str, Any]]]:
        """The events that the server sends from now on."""
        with self.session.get(f"{self.url}/api/events", stream=True, timeout=60) as answer:
            assert answer.headers["Content-Type"].startswith("text/event-stream")
            yield _events(answer)

    def wait(self, campaign: int) -> dict[str, Any]:
        """The newest job once all are finished."""
        end, pause = time.monotonic() + JOB_TIMEOUT_S, 0.05
        while time.monotonic() < end:
            jobs = self.get(f"campaigns/{campaign}/jobs")["jobs"]
            if all(job["state"] not in ("waiting", "running") for job in jobs):
                return jobs[0]
            time.sleep(pause)  # long jobs are asked for seldom: each answer takes the job's time
            pause = min(1.3 * pause, 0.5)
        raise AssertionError(f"jobs take longer than {JOB_TIMEOUT_S} s: {jobs}")

    def begin(self, running: Running, name: str) -> int:
        """A campaign on a new night whose reduction has begun; its number."""
        folder = running.nights / name
        small_night(folder, exposures=12, seed=5)
        made = self.post(
            "campaigns", {"name": name, "folders": [str(folder / "raw")], "reduce": True}
        )
        end = time.monotonic() + JOB_TIMEOUT_S
        while time.monotonic() < end:
            with running.store.session() as session:
                job = session.scalars(select(Job).where(Job.campaign_id == made["id"])).first()
                if job and job.state == "running":
                    return int(made["id"])
            time.sleep(0.02)
        raise AssertionError("the job did not begin")

    def reduced(self, folder: Path, name: str = "Foxglove 7") -> int:
        """A campaign on a folder, reduced as a whole; its number."""
        made = self.post(
            "campaigns", {"name": name, "folders": [str(folder / "raw")], "reduce": True}
        )
        job = self.wait(made["id"])
        assert job["state"] == "done", job
        return int(made["id"])


def _events(answer: requests.Response) -> Iterator[dict[str, Any]]:
    """The events of a stream; it has a bound, since the server's pulse never ends."""
    end = time.monotonic() + JOB_TIMEOUT_S
    last = "nothing"
    for line in answer.iter_lines(chunk_size=1):
        if line.startswith(b"data: "):
            last = line[6:].decode()
            yield json.loads(last)
        if time.monotonic() > end:
            raise AssertionError(
                f"the event that was waited for did not come in {JOB_TIMEOUT_S} s; last: {last}"
            )


def small_night(folder: Path, exposures: int = 24, seed: int = 7) -> dict[str, Any]:
    """A plain night with a stray text file and an exposure of which the kind is unknown."""
    made = Path(_written(exposures, seed).name)
    shutil.copytree(made, folder, dirs_exist_ok=True)
    truth: dict[str, Any] = json.loads((folder / "truth.json").read_text())
    return truth


@cache
def _written(exposures: int, seed: int) -> TemporaryDirectory[str]:
    """Such a night, made once for all tests that copy it."""
    kept = TemporaryDirectory(prefix="beacon-night-")
    folder = Path(kept.name)
    write_plain_night(
        folder, seed, exposures=exposures, shape=(480, 640), calibration=10, cadence_s=240.0
    )
    with fits.open(folder / "raw" / UNKIND, mode="update") as hdus:
        for keyword in ("IMAGETYP", "FRAME"):
            hdus[0].header.remove(keyword, ignore_missing=True)
    (folder / "raw" / "notes.txt").write_text("Clear, no moon.\n")
    return kept


def true_magnitudes(truth: dict[str, Any]) -> dict[str, float]:
    """The target's true magnitude by exposure."""
    return {Path(e["file"]).name: e["target_mag"] for e in truth["exposures"]}


def troubled_night(folder: Path) -> None:
    """A small night of which three exposures should be set aside; one is of another field."""
    away = Pointing(341.2, 41.6 + 0.16, 1.16, 20.0, False, (480, 640), 1.5)
    write_plain_night(
        folder, 21, exposures=20, shape=(480, 640), calibration=10, cadence_s=240.0,
        troubles={
            5: {"fwhm_px": 8.5},
            9: {"transparency": 0.2},
            13: {"trail": (319.5, 239.5, 30.0, 900.0)},
            16: {"pointing": away},
        },
    )  # fmt: skip


TROUBLED = {
    "foxglove-006.fits": "out of focus", "foxglove-010.fits": "cloud",
    "foxglove-014.fits": "trail", "foxglove-017.fits": "wrong field",
}  # fmt: skip
"""What is to be proposed of the troubled night, and why."""
ELSEWHERE = "foxglove-017.fits"
