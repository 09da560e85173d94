"""The whole application on a small night, killed and starved at random moments: nothing may be
lost, doubled or locked out, and the numbers are those of a run in peace, to the last bit.
"""

from __future__ import annotations

import json
import os
import random
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import psutil
import requests

from narrow_beacon.simulate.plain import write_plain_night

KILLS_VARIABLE = "BEACON_SOAK_KILLS"
_KILLS = 60
_EXPOSURES = 10
_BACK_S = 90.0
_JOB_S = 240.0
_PAUSED_S = 8.0
_KILLS_A_CAMPAIGN = 2
_VICTIMS = {
    "MariaDB": "mariadbd", "the server": "narrow_beacon.server.web", "a worker": "forkserver",
    "start": "",
}  # fmt: skip
_JOBS = ("sort", "masters", "place", "census", "reduce")


@dataclass
class Soaked:
    """What came of it."""

    kills: Counter[str] = field(default_factory=Counter)
    jobs: Counter[str] = field(default_factory=Counter)
    trouble: list[str] = field(default_factory=list)
    """What was lost, doubled, locked out, or came out otherwise."""


class Observatory:
    """The start command on a folder, and a page's view of it."""

    def __init__(self, folder: Path, data: Path | None = None) -> None:
        self._environment = {
            **os.environ, "BEACON_VAR": str(folder / "var"), "BEACON_FOLDERS": str(folder),
        }  # fmt: skip
        if data:
            self._environment["BEACON_DATA"] = str(data)
        self._process: subprocess.Popen[str] | None = None
        self._session = requests.Session()
        self.url = ""

    def start(self) -> None:
        """Start it, and sign in."""
        self._process = subprocess.Popen(
            [sys.executable, "-u", "-m", "narrow_beacon.cli", "start", "--no-demo"],
            env=self._environment, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT, text=True,
        )  # fmt: skip
        assert self._process.stdout is not None
        said = []
        for line in self._process.stdout:
            said.append(line)
            found = re.search(r"(http\S+)/\?token=\S+", line)
            if found:
                self.url = found.group(1)
                self._session.get(line.strip(), timeout=30)
                # Read on, so that it is never held up by what it says.
                threading.Thread(target=self._process.stdout.read, daemon=True).start()
                return
        raise RuntimeError("it did not start: " + "".join(said)[-500:])

    def parts(self, words: str) -> list[psutil.Process]:
        """Its processes whose command holds some words; the start command itself without any."""
        assert self._process is not None
        top = psutil.Process(self._process.pid)
        if not words:
            return [top]
        with suppress(psutil.NoSuchProcess):
            children = top.children(recursive=True)
            return [child for child in children if words in " ".join(_command(child))]
        return []

    @property
    def runs(self) -> bool:
        """Whether the start command lives."""
        return self._process is not None and self._process.poll() is None

    def ask(self, method: str, path: str, body: object = None) -> Any:
        """An answer, waited for until the application is back. Raises TimeoutError."""
        end = time.monotonic() + _BACK_S
        while True:
            if not self.runs:
                self.start()
            with suppress(requests.RequestException):
                answer = self._session.request(
                    method, f"{self.url}/api/{path}", json=body, timeout=30
                )
                if answer.ok:
                    return answer.json()
                if answer.status_code not in (409, 503):
                    raise RuntimeError(f"{method} {path}: {answer.status_code} {answer.text[:300]}")
            if time.monotonic() > end:
                raise TimeoutError(f"{method} {path}: no answer for {_BACK_S:.0f} s")
            time.sleep(0.1)

    def campaign(self, nights: Path) -> int:
        """A new campaign on some nights."""
        body = {"name": "soak", "folders": [str(nights)], "reduce": False}
        return int(self.ask("POST", "campaigns", body)["id"])

    def begin(self, number: int, kind: str) -> None:
        """Begin a job."""
        self.ask("POST", f"campaigns/{number}/jobs", {"kind": kind})

    def finished(self, number: int) -> dict[str, Any]:
        """The latest job once all are finished. Raises TimeoutError."""
        end = time.monotonic() + _JOB_S
        while time.monotonic() < end:
            jobs = self.ask("GET", f"campaigns/{number}/jobs")["jobs"]
            if jobs and all(job["state"] not in ("waiting", "running") for job in jobs):
                return dict(jobs[0])
            time.sleep(0.1)
        raise TimeoutError(f"a job takes longer than {_JOB_S:.0f} s")

    def result(self, number: int) -> str:
        """All that a campaign came to, but for the numbers of its records."""
        curve = self.ask("GET", f"campaigns/{number}/curve")["filters"]
        for one in curve:
            del one["file_ids"]
        files = self.ask("GET", f"campaigns/{number}/intake")["files"]
        kept = [{k: v for k, v in file.items() if k != "id"} for file in files]
        return json.dumps([curve, kept])

    def end(self) -> None:
        """End it in good order."""
        if self._process and self._process.poll() is None:
            self._process.send_signal(signal.SIGTERM)
            self._process.wait(60)


def _command(process: psutil.Process) -> list[str]:
    try:
        return list(process.cmdline())
    except psutil.Error:
        return []


def soak(
    folder: Path,
    kills: int,
    seed: int = 1,
    say: Callable[[str], None] = print,
    paused_s: float = _PAUSED_S,
) -> Soaked:
    """Kill every part of the application ``kills`` times in all, at random moments of every kind
    of job, and compare what comes out with a run in peace.
    """
    choose = random.Random(seed)
    nights = folder / "night"
    write_plain_night(
        nights, 7, exposures=_EXPOSURES, shape=(480, 640), calibration=10, cadence_s=240.0
    )
    soaked = Soaked()
    place = Observatory(folder)
    place.start()
    try:
        peace, lasts = _in_peace(place, nights / "raw")
        victims = [list(_VICTIMS)[n % len(_VICTIMS)] for n in range(kills)]
        kinds = [_JOBS[n % len(_JOBS)] for n in range(kills)]
        choose.shuffle(victims)
        while victims:
            number = place.campaign(nights / "raw")
            if kinds[-1] not in ("sort", "reduce"):
                place.begin(number, "sort")
                place.finished(number)
            for _ in range(min(_KILLS_A_CAMPAIGN, len(victims))):
                wanted = kinds.pop()
                place.begin(number, wanted)
                time.sleep(choose.uniform(0.0, lasts))
                _kill(place, victims.pop(), soaked, choose)
                soaked.jobs[wanted] += 1
                _settled(place, number, soaked)
            place.begin(number, "reduce")
            _settled(place, number, soaked)
            if place.result(number) != peace:
                soaked.trouble.append(f"campaign {number} came out otherwise")
            if victims:
                _export(place, number, victims.pop(), soaked, choose)
            place.ask("DELETE", f"campaigns/{number}")
            say(f"  {sum(soaked.kills.values())} of {kills} kills, {len(soaked.trouble)} troubles")
        _pause(place, nights / "raw", peace, soaked, paused_s)
    finally:
        place.end()
    return soaked


def _in_peace(place: Observatory, nights: Path) -> tuple[str, float]:
    number = place.campaign(nights)
    begin = time.monotonic()
    place.begin(number, "reduce")
    job = place.finished(number)
    if job["state"] != "done":
        raise RuntimeError(f"the night cannot be reduced: {job['words']}")
    return place.result(number), time.monotonic() - begin


def _kill(place: Observatory, victim: str, soaked: Soaked, choose: random.Random) -> None:
    found = place.parts(_VICTIMS[victim])
    if not found:
        return
    with suppress(psutil.NoSuchProcess):
        choose.choice(found).kill()
        soaked.kills[victim] += 1
    if victim == "start":
        end = time.monotonic() + _BACK_S
        while place.runs and time.monotonic() < end:
            time.sleep(0.05)


def _settled(place: Observatory, number: int, soaked: Soaked) -> None:
    try:
        job = place.finished(number)
    except (TimeoutError, RuntimeError) as error:
        soaked.trouble.append(str(error))
        return
    if job["state"] != "done":
        soaked.trouble.append(f"job {job['kind']} {job['state']}: {job['words'][:300]}")


def _export(
    place: Observatory, number: int, victim: str, soaked: Soaked, choose: random.Random
) -> None:
    """A report is there once with all of its files, or not at all."""
    asked = threading.Thread(
        target=lambda: place.ask("POST", f"campaigns/{number}/report"), daemon=True
    )
    asked.start()
    time.sleep(choose.uniform(0.0, 0.6))
    _kill(place, victim, soaked, choose)
    soaked.jobs["export"] += 1
    asked.join(_BACK_S)
    reports = place.ask("GET", f"campaigns/{number}/report")["reports"]
    if len(reports) not in (1, 2):
        # An answer that was lost with the server makes the page ask once more, which is a report
        # of its own; never none, and never one without its files.
        soaked.trouble.append(f"{len(reports)} reports of one")
    for name in reports[0]["files"] if reports else ():
        place_of = f"{place.url}/api/reports/{reports[0]['id']}/{name}"
        if not place._session.get(place_of, timeout=30).ok:
            soaked.trouble.append(f"the report's {name} is gone")


def _pause(place: Observatory, nights: Path, peace: str, soaked: Soaked, paused_s: float) -> None:
    """MariaDB stands still for a while in the middle of a job, and the page says so."""
    number = place.campaign(nights)
    place.begin(number, "reduce")
    (database,) = place.parts(_VICTIMS["MariaDB"])
    database.suspend()
    begin = time.monotonic()
    try:
        while time.monotonic() - begin < paused_s:
            asked = time.monotonic()
            if not place._session.get(f"{place.url}/", timeout=30).ok:
                soaked.trouble.append("the page was not served while the records were away")
            if time.monotonic() - asked > 1.0:
                soaked.trouble.append("the page took longer than 1 s while the records were away")
            time.sleep(0.5)
    finally:
        database.resume()
    _settled(place, number, soaked)
    if place.result(number) != peace:
        soaked.trouble.append("what was made while the records stood still came out otherwise")


def fill_disk(folder: Path) -> list[str]:
    """A data folder on a disk that is full in the middle of a job; what went wrong. Needs root."""
    nights = folder / "night"
    write_plain_night(
        nights, 7, exposures=_EXPOSURES, shape=(480, 640), calibration=10, cadence_s=240.0
    )
    trouble = []
    with _small_disk(folder / "disk", "5m") as disk:
        place = Observatory(folder, disk / "data")
        place.start()
        try:
            number = place.campaign(nights / "raw")
            place.begin(number, "reduce")
            job = place.finished(number)
            if job["state"] != "failed" or "disk is full" not in job["words"]:
                trouble.append(f"a full disk is told as {job['state']}: {job['words'][:300]}")
            subprocess.run(["mount", "-o", "remount,size=500m", str(disk)], check=True)
            place.begin(number, "reduce")
            job = place.finished(number)
            if job["state"] != "done":
                trouble.append(f"with room again: {job['state']}: {job['words'][:300]}")
            curve = place.result(number)
            other = place.campaign(nights / "raw")
            place.begin(other, "reduce")
            place.finished(other)
            if place.result(other) != curve:
                trouble.append("what was made on the full disk came out otherwise")
        finally:
            place.end()
    return trouble


@contextmanager
def _small_disk(folder: Path, size: str) -> Iterator[Path]:
    folder.mkdir()
    subprocess.run(
        ["mount", "-t", "tmpfs", "-o", f"size={size}", "tmpfs", str(folder)],
        check=True, capture_output=True,
    )  # fmt: skip
    try:
        yield folder
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=False)


def bench_soak() -> bool:
    """The soak; True where nothing was lost, doubled, locked out or otherwise."""
    kills = int(os.environ.get(KILLS_VARIABLE, _KILLS))
    with tempfile.TemporaryDirectory(prefix="beacon-soak-") as folder:
        soaked = soak(Path(folder), kills)
    print("kills:", ", ".join(f"{name} {count}" for name, count in soaked.kills.items()))
    print("in jobs:", ", ".join(f"{name} {count}" for name, count in soaked.jobs.items()))
    trouble = soaked.trouble
    if os.geteuid() == 0:
        with tempfile.TemporaryDirectory(prefix="beacon-soak-") as folder:
            try:
                trouble += fill_disk(Path(folder))
                print("a full disk in the middle of a job: done")
            except subprocess.CalledProcessError:
                print("a full disk: not tried, no disk can be mounted here")
    for words in trouble:
        print("TROUBLE:", words)
    return not trouble
