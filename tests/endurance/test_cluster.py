"""A night on a cluster that is there already, of which one machine goes in the midst."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import pytest
from click.testing import CliRunner

from narrow_beacon.cli import main
from narrow_beacon.jobs.cluster import given_pool
from narrow_beacon.jobs.depot import VARIABLE as DEPOT
from narrow_beacon.jobs.trust import FOLDER_VARIABLE, make_trust, settings
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
from narrow_beacon.simulate.plain import write_plain_night

pytestmark = pytest.mark.timeout(300)
EXPOSURES = 24
_PARTS = {
    "scheduler": "from distributed.cli.dask_scheduler import main; main()",
    # Of another machine's files, which a flag beside them shuts, nothing can be opened here.
    "worker": """
import os, sys
from distributed.cli.dask_worker import main

SHUT = os.environ["SHUT"]

def look(event, arguments):
    path = str(arguments[0]) if event in ("open", "os.mkdir", "os.listdir") else ""
    if path.startswith(SHUT + "/") and os.path.exists(SHUT + ".shut"):
        raise PermissionError(13, "lies on another machine", path)

sys.addaudithook(look)
main()
""",
}


def _started(parts: ExitStack, home: Path, what: str, *words: str) -> subprocess.Popen[bytes]:
    """A part of the cluster: a process that has its own folders and shares none of ours."""
    home.mkdir()
    kept = ("PATH", "LANG", "PYTHONPATH", "OPENBLAS_CORETYPE", "NUMBA_CACHE_DIR")
    environment = {name: os.environ[name] for name in kept if name in os.environ}
    environment |= {"HOME": str(home), "TMPDIR": str(home), "NUMBA_NUM_THREADS": "1"}
    environment |= {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
    environment |= {"SHUT": str(home.parent / "night" / "out")}
    with (home / "log").open("wb") as log:
        process = subprocess.Popen(
            [sys.executable, "-c", _PARTS[what], "--no-dashboard", *words],
            cwd=home, env=environment, stdout=log, stderr=log,
        )  # fmt: skip
    parts.callback(process.wait)
    parts.callback(process.kill)
    return process


def _address(home: Path) -> str:
    """Where the scheduler says that it listens."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        found = re.search(r"Scheduler at:\s*(tls://\S+)", (home / "log").read_text())
        if found:
            return found[1]
        time.sleep(0.05)
    raise AssertionError((home / "log").read_text())


@pytest.fixture
def cluster(tmp_path: Path) -> Iterator[tuple[dict[str, str], list[subprocess.Popen[bytes]]]]:
    """What names the cluster in the environment, and its two workers."""
    trust = make_trust(tmp_path / "trust")
    ca, cert, key = (str(trust / f"{name}.pem") for name in ("ca", "cert", "key"))
    secure = ["--tls-ca-file", ca, "--tls-cert", cert, "--tls-key", key]
    with ExitStack() as parts:
        home = tmp_path / "scheduler"
        _started(parts, home, "scheduler", "--protocol", "tls", "--host", "127.0.0.1",
                 "--port", "0", *secure)  # fmt: skip
        address = _address(home)
        workers = [
            _started(parts, tmp_path / f"worker-{n}", "worker", address, "--nthreads", "1",
                     "--no-nanny", "--host", "127.0.0.1", *secure)
            for n in range(2)
        ]  # fmt: skip
        yield {"BEACON_DASK": address, FOLDER_VARIABLE: str(trust)}, workers


class _KillsHalfWay:
    """Progress of a reduction; ends a worker once half of the exposures are measured."""

    def __init__(self, victim: subprocess.Popen[bytes]) -> None:
        self._victim, self._step, self._done = victim, "", 0
        self.seen: dict[str, int] = {}

    def start(self, words: str, total: int, done: int = 0) -> None:
        self._step, self._done = words, done

    def advance(self, count: int = 1) -> None:
        self._done += count
        self.seen[self._step] = self._done
        if "measur" in self._step and self._done >= EXPOSURES // 2:
            self._victim.kill()


def test_a_night_on_a_cluster_that_loses_a_machine_comes_out_bit_for_bit(
    tmp_path: Path, cluster: tuple[dict[str, str], list[subprocess.Popen[bytes]]]
) -> None:
    environment, workers = cluster
    night = tmp_path / "night"
    write_plain_night(
        night, 5, exposures=EXPOSURES, shape=(384, 512), calibration=4, cadence_s=120.0
    )
    plan = read_plan(night / "plan.toml")
    reduce_plan(plan, 1)
    names = ("light_curve.csv", "exposures.csv", "census.parquet", "report.txt")
    alone = {name: (plan.output / name).read_bytes() for name in names}
    # First on machines that see the raw files, and else only what goes through a store.
    shut, store = night / "out.shut", tmp_path / "store"
    shut.touch()
    with given_pool({**environment, DEPOT: f"file://{store}"}, plan.output) as pool:
        assert pool is not None
        reduce_plan(plan, None, None, pool)
    for name in names:
        assert (plan.output / name).read_bytes() == alone[name], name
    assert not [path for path in store.rglob("*") if path.is_file()]
    assert list((tmp_path / "worker-1").rglob("depot/*/masters/*.fits"))
    with given_pool(environment, plan.output) as pool:
        assert pool is not None
        with pytest.raises(PermissionError, match="lies on another machine"):
            reduce_plan(plan, None, None, pool)
    shut.unlink()
    # Then on machines that see all, of which one goes.
    progress = _KillsHalfWay(workers[0])
    with given_pool(environment, plan.output) as pool:
        assert pool is not None
        reduce_plan(plan, None, progress, pool)
    assert workers[0].poll() is not None, progress.seen
    assert workers[1].poll() is None
    for name in names:
        assert (plan.output / name).read_bytes() == alone[name], name
    # What the tasks shared is gone again.
    assert not list(plan.output.glob("narrow-beacon-*"))
    assert json.loads((plan.output / "provenance.json").read_text())["target"]


def test_certificates_for_a_cluster_come_with_how_to_use_them(tmp_path: Path) -> None:
    said = CliRunner().invoke(main, ["certificates", str(tmp_path / "keys")])
    assert said.exit_code == 0, said.output
    assert "dask scheduler --protocol tls" in said.output
    assert (tmp_path / "keys").stat().st_mode & 0o077 == 0
    assert all(Path(path).is_file() for name, path in settings(tmp_path / "keys").items()
               if name.endswith(("FILE", "CERT", "KEY")))  # fmt: skip
