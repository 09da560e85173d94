"""Files that are broken or made to do harm cost nothing but themselves, here and in the page."""

from __future__ import annotations

import csv
import json
import os
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import TypeVar

import psutil
import pytest

from narrow_beacon.simulate.hostile import write_hostile
from running import Running, small_night

T = TypeVar("T")
MOST_BYTES = 1_000_000_000
GOOD = 12


@pytest.fixture(scope="module")
def nights(running: Running) -> tuple[Path, list[str]]:
    """A good small night, with a folder beside it of what no camera should write."""
    base = running.nights / "hostile"
    small_night(base, exposures=GOOD)
    outside = running.folder / "outside.fits"
    outside.write_bytes(b"not to be read")
    paths = write_hostile(base / "odd", outside)
    assert len(paths) >= 150
    return base, [path.relative_to(base).as_posix() for path in paths]


def test_on_the_command_line_each_is_listed_and_the_rest_is_measured(
    nights: tuple[Path, list[str]],
) -> None:
    base, names = nights
    plan = (base / "plan.toml").read_text()
    for folder, out in (('"raw"', "alone"), ('["raw", "odd"]', "all")):
        changed = plan.replace('folder = "raw"', f"folder = {folder}")
        (base / f"{out}.toml").write_text(changed.replace('"out"', f'"{out}"'))
        begin = time.monotonic()
        process = subprocess.Popen(
            [sys.executable, "-m", "narrow_beacon.cli", "reduce", str(base / f"{out}.toml")],
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        )  # fmt: skip
        assert process.stdout is not None
        said = process.stdout.read()
        _, status, used = os.wait4(process.pid, 0)
        assert os.waitstatus_to_exitcode(status) == 0, said
        assert used.ru_maxrss * 1024 < MOST_BYTES
        assert time.monotonic() - begin < 60
        assert "Traceback" not in said
    listed = {row["file"]: row for row in rows(base / "all/exposures.csv")}
    for name in names:
        for row in images_of(name, listed):
            assert row["state"] == "measured" or row["reason"], name
            assert "error of the program" not in row["reason"], row
    alone = rows(base / "alone/light_curve.csv")
    among = [row for row in rows(base / "all/light_curve.csv") if row["exposure"].startswith("raw")]
    assert len(alone) >= GOOD - 1
    # The strangers' camera has more exposures, so that the plan's constants go to it: ours has its
    # gain measured, half a percent off, which weighs stars otherwise by as much.
    ours, theirs = ([float(row["magnitude"]) for row in some] for some in (alone, among))
    assert ours == pytest.approx(theirs, abs=2.1e-5)


def images_of(name: str, listed: Mapping[str, T]) -> list[T]:
    """What is listed of a file: the file itself, or each of the images in it."""
    found = [item for key, item in listed.items() if key == name or key.startswith(f"{name}[")]
    assert found, name
    return found


def rows(path: Path) -> list[dict[str, str]]:
    with path.open(newline="") as file:
        return list(csv.DictReader(file))


def test_in_the_page_each_is_listed_and_the_rest_is_measured(
    running: Running, nights: tuple[Path, list[str]]
) -> None:
    base, names = nights
    before = {process.pid for process in psutil.Process().children(recursive=True)}
    client = running.client()
    made = client.post("campaigns", {"name": "hostile", "folders": [str(base / "raw")],
                                     "reduce": True})  # fmt: skip
    assert client.wait(made["id"])["state"] == "done"
    curve = client.get(f"campaigns/{made['id']}/curve")["filters"]
    client.ask("PATCH", f"campaigns/{made['id']}",
               {"folders": [str(base / "raw"), str(base / "odd")]})  # fmt: skip
    client.post(f"campaigns/{made['id']}/jobs", {"kind": "census"})
    assert client.wait(made["id"])["state"] == "done"
    files = {file["name"]: file for file in client.get(f"campaigns/{made['id']}/intake")["files"]}
    exposures = {e["name"]: e for e in client.get(f"campaigns/{made['id']}/exposures")["exposures"]}
    for name in names:
        for file in images_of(name, files):
            assert file["part"] != "left out" or file["part_reason"], name
            assert "error of the program" not in file["part_reason"], file
    assert sum(name.startswith("raw") for name in exposures) >= GOOD - 1
    again = client.get(f"campaigns/{made['id']}/curve")["filters"]
    assert [len(c["jd_utc"]) for c in again if c["filter"] == "V"] >= [
        len(c["jd_utc"]) for c in curve if c["filter"] == "V"
    ]
    # The same processes as before, none of them grown beyond measure.
    now = psutil.Process().children(recursive=True)
    assert before <= {process.pid for process in now}
    assert max(process.memory_info().rss for process in now) < MOST_BYTES


def test_a_file_that_goes_away_before_it_is_measured_costs_its_own_point(running: Running) -> None:
    base = running.nights / "going"
    small_night(base, exposures=GOOD)
    client = running.client()
    made = client.post("campaigns", {"name": "going", "folders": [str(base / "raw")]})
    assert client.wait(made["id"])["state"] == "done"
    gone = sorted((base / "raw").glob("foxglove-*.fits"))[3]
    gone.unlink()
    client.post(f"campaigns/{made['id']}/jobs", {"kind": "census"})
    assert client.wait(made["id"])["state"] == "done"
    found = client.get(f"campaigns/{made['id']}/exposures")["exposures"]
    (lost,) = [e for e in found if e["name"].endswith(gone.name)]
    assert "No such file" in json.dumps(lost)
    curve = client.get(f"campaigns/{made['id']}/curve")["filters"]
    assert len(curve[0]["jd_utc"]) >= GOOD - 3
