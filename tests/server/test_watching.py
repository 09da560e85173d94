"""Folders under watch: the curve grows as the night comes in, and nothing half-written counts."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest

from narrow_beacon.simulate.plain import write_plain_night
from running import Client, Running

PATIENCE_S = 60.0


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return Client(running)


@pytest.fixture(scope="module")
def night(running: Running) -> Path:
    folder = running.nights / "watched"
    write_plain_night(
        folder, 7, exposures=7, shape=(320, 320), density=12000.0, calibration=5,
        troubles={6: {"transparency": 0.12}},
    )  # fmt: skip
    return folder


def until(look: Any, words: str) -> Any:
    """What a look gives once it gives something."""
    end = time.monotonic() + PATIENCE_S
    while time.monotonic() < end:
        found = look()
        if found:
            return found
        time.sleep(0.1)
    raise AssertionError(f"{words}: not within {PATIENCE_S:g} s")


def test_files_become_points_as_they_are_written_and_none_before_it_is_whole(
    client: Client, night: Path
) -> None:
    raw, coming = night / "raw", night / "coming"
    coming.mkdir()
    sky = sorted(raw.glob("foxglove-*.fits"))
    plan = (night / "plan.toml").read_text().replace('"raw"', '["coming", "calibration"]')
    (raw / "calibration").rename(night / "calibration")
    (night / "plan.toml").write_text(plan)
    made = client.post("campaigns", {"name": "watched", "folders": [str(night)]})
    page = f"campaigns/{made['id']}"
    client.wait(made["id"])
    client.ask("PATCH", page, {"watching": True}).raise_for_status()

    def points() -> int:
        return sum(len(f["file_ids"]) for f in client.get(f"{page}/curve")["filters"])

    for at, path in enumerate(sky[:4]):
        content = path.read_bytes()
        with (coming / path.name).open("wb") as file:
            file.write(content[: len(content) // 2])
            file.flush()
            # Half of it is there for longer than a quiet second.
            time.sleep(1.5)
            assert points() == at
            file.write(content[len(content) // 2 :])
        until(lambda: points() > at, f"a point for {path.name}")  # noqa: B023
    files = client.get(f"{page}/intake")["files"]
    assert not [f["part_reason"] for f in files if f["part"] == "left out"]
    watch = client.get(page)["watch"]
    assert watch["watching"]
    assert watch["worse"] == []
    for path in sky[4:]:
        (coming / path.name).write_bytes(path.read_bytes())
    worse = until(lambda: client.get(page)["watch"]["worse"], "a sign of cloud")
    assert "cloud" in worse[0]
    # In the end it is measured as any other night.
    client.ask("PATCH", page, {"watching": False}).raise_for_status()
    assert client.wait(made["id"])["state"] == "done"
    live = client.get(f"{page}/curve")["filters"][0]["series"][0]["magnitude"]
    other = client.post("campaigns", {"name": "at once", "folders": [str(night)]})
    client.post(f"campaigns/{other['id']}/jobs", {"kind": "census"})
    client.wait(other["id"])
    once = client.get(f"campaigns/{other['id']}/curve")["filters"][0]["series"][0]["magnitude"]
    assert live == once
