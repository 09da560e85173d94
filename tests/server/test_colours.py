"""A colour sensor's night in the page: its colours are filters from the files to the report."""

from __future__ import annotations

import csv
import io
import shutil
from pathlib import Path
from typing import Any

import pytest

from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.plain import write_plain_night
from narrow_beacon.simulate.sky import add_red
from running import Client, Running

EXPOSURES = 7
COLOURS = {"red": "R", "green": "V", "blue": "B"}


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def campaign(client: Client, running: Running) -> int:
    folder = running.nights / "colours"
    write_plain_night(
        folder, 17, exposures=EXPOSURES, shape=(480, 480), calibration=6, density=6000.0,
        cadence_s=400.0, change=add_red,
        camera=Camera(41, (480, 480), pattern="GBRG", hot_share=0.0005),
    )  # fmt: skip
    plan = folder / "plan.toml"
    bands = ", ".join(f'{name} = "{band}"' for name, band in COLOURS.items())
    channels = f"[colour_sensor]\nchannels = {{ {bands} }}\n\n[output]"
    plan.write_text(plan.read_text().replace("[output]", channels))
    return client.reduced(folder, "colours")


def report(client: Client, campaign: int) -> dict[str, Any]:
    found: dict[str, Any] = client.get(f"campaigns/{campaign}/report")
    return found


def test_the_report_has_every_colour_of_every_exposure(client: Client, campaign: int) -> None:
    assert report(client, campaign)["points"] == 3 * EXPOSURES


def test_what_was_handed_out_is_known_by_file_and_colour(client: Client, campaign: int) -> None:
    sent = client.post(f"campaigns/{campaign}/report")
    assert sent["points"] == 3 * EXPOSURES
    now = report(client, campaign)
    assert (now["changes"], now["reports"][0]["changed"]) == ([], 0)
    page = f"reports/{sent['id']}"
    rows = list(csv.DictReader(io.StringIO(client.ask("GET", f"{page}/light_curve.csv").text)))
    assert {row["filter"] for row in rows} == set(COLOURS)
    assert {row["exposure"] for row in rows if row["filter"] == "red"} == {
        row["exposure"] for row in rows if row["filter"] == "blue"
    }
    # Of one colour of an exposure, set aside, the report says that it is gone; no other's.
    exposures = client.get(f"campaigns/{campaign}/exposures")["exposures"]
    one = next(e for e in exposures if e["filter"] == "green")
    client.post(
        f"campaigns/{campaign}/aside", {"ids": [one["id"]], "aside": True, "reason": "haze"}
    )
    changed = report(client, campaign)["changes"]
    assert [(c["file_id"], c["filter"]) for c in changed] == [(one["id"], "green")]
    client.post(f"campaigns/{campaign}/undo")


def test_what_only_new_points_hold_leaves_the_others_out(client: Client, campaign: int) -> None:
    answer = client.ask("PUT", f"campaigns/{campaign}/reporting", {"scope": "new"})
    assert answer.ok, answer.text
    assert report(client, campaign)["points"] == 0


def test_colours_follow_a_night_that_is_moved(client: Client, campaign: int) -> None:
    page = f"campaigns/{campaign}"
    (home,) = client.get(page)["folders"]

    def told() -> list[Any]:
        exposures = client.get(f"{page}/exposures")["exposures"]
        stages = {s["key"]: s["words"] for s in client.get(page)["stages"]}
        return [
            sorted((e["id"], e["filter"]) for e in exposures), stages["measure"],
            client.get(f"{page}/curve")["filters"], report(client, campaign)["points"],
        ]  # fmt: skip

    before, place = told(), Path(home)
    for name in ("colours archived", place.name):
        folder = place.with_name(name)
        shutil.move(client.get(page)["folders"][0], folder)
        client.ask("PATCH", page, {"folders": [str(folder)]}).raise_for_status()
        assert client.wait(campaign)["state"] == "done"
        assert told() == before
        files = client.get(f"{page}/intake")["files"]
        assert not any("not there" in file["part_reason"] for file in files)
        client.ask("GET", f"files/{before[0][0][0]}/cutout?x=200&y=200&half=9").raise_for_status()


def test_each_colour_is_drawn_and_layouts_are_tried(client: Client, campaign: int) -> None:
    for address in ("curve.svg", "sheet.html"):
        answer = client.ask("GET", f"campaigns/{campaign}/{address}")
        assert answer.ok, answer.text
    text = client.get(f"campaigns/{campaign}/layout")["text"]
    tried = client.post(f"campaigns/{campaign}/layout/try", {"text": text})
    assert not tried["mistakes"]
    assert all(name in tried["preview"] for name in COLOURS)
