"""Command line and page are two ways to the same numbers, however the nights came in."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits
from click.testing import CliRunner

from narrow_beacon.bench.compare import numbers, read_csv, reduced_chi2
from narrow_beacon.bench.nights import _Quiet, state_errors
from narrow_beacon.cli import main
from narrow_beacon.simulate.demo import write_demo
from narrow_beacon.simulate.plain import plain_plan, write_plain_night
from running import Client, Running

pytestmark = pytest.mark.timeout(600)  # a dozen reductions in one test
NIGHTS = 4
SMALL: dict[str, Any] = {
    "exposures": 5, "shape": (300, 400), "calibration": 4, "density": 9000.0, "cadence_s": 400.0,
}  # fmt: skip


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def demo(running: Running) -> tuple[Path, dict[str, Any]]:
    """The demo nights, reduced on the command line, and their truth."""
    folder = running.nights / "demo"
    truth = write_demo(folder, _Quiet())
    assert sum(path.stat().st_size for path in folder.rglob("*") if path.is_file()) < 350e6
    return folder, truth


@pytest.fixture(scope="module")
def said(demo: tuple[Path, dict[str, Any]]) -> str:
    """What the command line says of the demo nights."""
    return reduce(demo[0] / "plan.toml")


def reduce(plan: Path) -> str:
    result = CliRunner().invoke(main, ["reduce", str(plan), "--workers", "2"])
    assert result.exit_code == 0, result.output
    return result.output


def exported(client: Client, campaign: int, name: str = "light_curve.csv") -> bytes:
    """A file of a campaign as it is handed out."""
    report = client.post(f"campaigns/{campaign}/report")
    answer = client.session.get(f"{client.url}/api/reports/{report['id']}/{name}")
    answer.raise_for_status()
    return answer.content


def remarks(client: Client, campaign: int) -> list[tuple[str, ...]]:
    found = client.get(f"campaigns/{campaign}")["remarks"]
    parts = ("stage", "about", "words", "matters", "remedy")
    return [tuple(remark[part] for part in parts) for remark in found]


def told(folder: Path) -> list[tuple[str, ...]]:
    document = json.loads((folder / "out" / "provenance.json").read_text())
    parts = ("stage", "about", "words", "matters", "remedy")
    return [tuple(remark[part] for part in parts) for remark in document["remarks_in_full"]]


def test_the_demo_nights_come_out_as_planted(demo: tuple[Path, dict[str, Any]], said: str) -> None:
    folder, truth = demo
    assert state_errors(folder) == []
    assert "dust moved between flat V" in said
    assert "Larkspur 48 dropped: varies" in said
    rows = {row["file"]: row for row in read_csv(folder / "out" / "exposures.csv")}
    for item in truth["exposures"]:
        row = rows[item["file"]]
        if row["ra_deg"]:
            pointing = item["pointing"]
            turn = (float(row["rotation_deg"]) - pointing["rotation_deg"] + 180) % 360 - 180
            assert abs(turn) < 0.02
            assert abs(float(row["dec_deg"]) - item["center_deg"][1]) * 3600 < 0.3
    curve = read_csv(folder / "out" / "light_curve.csv")
    true = {item["file"]: item for item in truth["exposures"]}
    for band in ("B", "V"):
        points = [row for row in curve if row["filter"] == band and "cosmic" not in row["flags"]]
        error = numbers(points, "magnitude") - [
            true[row["exposure"]]["target_mag"] for row in points
        ]
        sigma = numbers(points, "uncertainty")
        # Five comparison stars of 6 mmag each leave a common offset of 3 mmag.
        assert abs(np.median(error)) < 0.010
        assert np.std(error) < 1.25 * np.sqrt(np.mean(sigma**2))
        check = reduced_chi2(
            numbers(points, "check_magnitude"), numbers(points, "check_uncertainty")
        )
        assert 0.6 < check < 1.5


def test_page_and_command_line_give_the_same_numbers(
    client: Client, demo: tuple[Path, dict[str, Any]], said: str
) -> None:
    folder, _ = demo
    nights = [str(folder / "night-1"), str(folder / "night-2")]
    made = client.post("campaigns", {"name": "both ways", "folders": nights, "reduce": True})
    assert client.wait(made["id"])["state"] == "done"
    for name in ("light_curve.csv", "stars.csv"):
        assert exported(client, made["id"], name) == (folder / "out" / name).read_bytes()
    # And what is doubtful is said in both, word for word.
    assert remarks(client, made["id"]) == told(folder)
    assert len(told(folder)) >= 5
    unseen = {s["key"]: s["remarks"] for s in client.get(f"campaigns/{made['id']}")["stages"]}
    assert sum(unseen.values()) == len(told(folder))
    ids = [r["id"] for r in client.get(f"campaigns/{made['id']}")["remarks"]]
    client.post(f"campaigns/{made['id']}/remarks/seen", {"ids": ids})
    after = client.get(f"campaigns/{made['id']}")
    assert not any(s["remarks"] for s in after["stages"])
    # Seen stays seen when the same is said again.
    client.post(f"campaigns/{made['id']}/jobs", {"kind": "reduce"})
    assert client.wait(made["id"])["state"] == "done"
    assert all(r["seen"] for r in client.get(f"campaigns/{made['id']}")["remarks"])


@pytest.fixture(scope="module")
def nights(running: Running) -> Path:
    """Some nights of one field, each with its own calibration frames, and a plan of all."""
    folder = running.nights / "night after night"
    for n in range(NIGHTS):
        write_plain_night(folder / f"night-{n + 1:02d}", 41, evening=n, **SMALL)
    names = ", ".join(f'"{path.name}/raw"' for path in sorted(folder.iterdir()))
    text = plain_plan(1.16).replace('folder = "raw"', f"folder = [{names}]")
    (folder / "field.vot").write_bytes((folder / "night-01" / "field.vot").read_bytes())
    (folder / "plan.toml").write_text(text)
    return folder


def settings(client: Client, campaign: int, folder: Path) -> None:
    """What the plan says, given in the page."""
    client.ask(
        "PATCH", f"campaigns/{campaign}",
        {
            "catalogue_file": str(folder / "field.vot"), "target_name": "Foxglove 7",
            "site": {"latitude_deg": 61.2, "longitude_deg": -9.4, "elevation_m": 140},
            "kit": {
                "gain_e_per_adu": 1.3, "read_noise_e": 7.1, "linear_limit_adu": 52000,
                "aperture_m": 0.28, "scale_arcsec_per_px": 1.16,
            },
        },
    ).raise_for_status()  # fmt: skip


def test_nights_added_one_by_one_give_what_all_at_once_give(client: Client, nights: Path) -> None:
    folders = [str(path) for path in sorted(nights.glob("night-*/raw"))]
    made = client.post("campaigns", {"name": "night after night", "folders": folders[:1]})
    number = made["id"]
    settings(client, number, nights)
    for count in range(1, NIGHTS + 1):
        changed = client.ask("PATCH", f"campaigns/{number}", {"folders": folders[:count]})
        assert changed.ok, changed.text
        client.post(f"campaigns/{number}/jobs", {"kind": "reduce"})
        job = client.wait(number)
        assert job["state"] == "done", job
    (curve,) = client.get(f"campaigns/{number}/curve")["filters"]
    assert len(curve["file_ids"]) == NIGHTS * SMALL["exposures"]
    at_once = client.post("campaigns", {"name": "all at once", "folders": folders})["id"]
    settings(client, at_once, nights)
    client.post(f"campaigns/{at_once}/jobs", {"kind": "reduce"})
    assert client.wait(at_once)["state"] == "done"
    one_by_one = exported(client, number)
    assert one_by_one == exported(client, at_once)
    reduce(nights / "plan.toml")
    assert one_by_one == (nights / "out" / "light_curve.csv").read_bytes()
    # And they are right: the median over twenty points of 6 mmag is known to some 2.
    truth = {}
    for path in sorted(nights.glob("night-*/truth.json")):
        for item in json.loads(path.read_text())["exposures"]:
            truth[f"{path.parent.name}/raw/{item['file']}"] = item["target_mag"]
    rows = read_csv(nights / "out" / "light_curve.csv")
    error = numbers(rows, "magnitude") - [truth[row["exposure"]] for row in rows]
    assert abs(np.median(error)) < 0.006
    # Only the last night was new to the last job.
    (last, *_) = client.get(f"campaigns/{number}/jobs")["jobs"]
    assert last["state"] == "done"


def test_a_night_taken_out_is_as_if_it_had_never_been_there(client: Client, nights: Path) -> None:
    folders = [str(path) for path in sorted(nights.glob("night-0[123]/raw"))]
    both = client.post("campaigns", {"name": "three", "folders": folders})["id"]
    settings(client, both, nights)
    client.post(f"campaigns/{both}/jobs", {"kind": "reduce"})
    assert client.wait(both)["state"] == "done"
    first = client.get(f"campaigns/{both}/curve")["filters"]
    client.ask("PATCH", f"campaigns/{both}", {"folders": folders[:2]}).raise_for_status()
    client.wait(both)
    found = client.get(f"campaigns/{both}")
    assert len(found["nights"]) == 2
    assert found["undo"]["words"] == "took out the folder raw"
    (curve,) = client.get(f"campaigns/{both}/curve")["filters"]
    assert len(curve["file_ids"]) == 2 * SMALL["exposures"]
    # Undone: its exposures are back as they were measured, and nothing is measured again.
    client.post(f"campaigns/{both}/undo")
    client.wait(both)
    assert client.get(f"campaigns/{both}/curve")["filters"] == first
    stages = {s["key"]: s for s in client.get(f"campaigns/{both}")["stages"]}
    assert "to measure" not in stages["measure"]["words"]


def test_a_second_camera_is_measured_beside_the_first(client: Client, running: Running) -> None:
    folder = running.nights / "second camera"
    write_plain_night(folder / "one", 43, **{**SMALL, "exposures": 9})
    other = {**SMALL, "exposures": 8, "shape": (260, 360)}
    write_plain_night(folder / "two", 43, evening=1, field_px=400, camera_seed=77, **other)
    for path in (folder / "two" / "raw").rglob("*.fits"):
        with fits.open(path, mode="update") as hdus:
            hdus[0].header["INSTRUME"] = "Fulmar 20"
            if "FILTER" in hdus[0].header:
                hdus[0].header["FILTER"] = "Johnson v"
    names = '["one/raw", "two/raw"]'
    text = plain_plan(1.16).replace('folder = "raw"', f"folder = {names}")
    (folder / "field.vot").write_bytes((folder / "one" / "field.vot").read_bytes())
    (folder / "plan.toml").write_text(text)
    output = reduce(folder / "plan.toml")
    assert "2 kits took these exposures" in output
    assert "Foxglove 7 in V: 17 points" in output  # one filter, however it is spelled
    rows = read_csv(folder / "out" / "light_curve.csv")
    truth = {
        f"{night}/raw/{item['file']}": item["target_mag"]
        for night in ("one", "two")
        for item in json.loads((folder / night / "truth.json").read_text())["exposures"]
    }
    for night in ("one", "two"):
        own = [row for row in rows if row["exposure"].startswith(night)]
        error = numbers(own, "magnitude") - [truth[row["exposure"]] for row in own]
        # Eight points of some 6 mmag each, and a common offset of 1 mmag.
        assert abs(np.median(error)) < 0.008
    raws = [str(folder / night / "raw") for night in ("one", "two")]
    made = client.post("campaigns", {"name": "two cameras", "folders": raws})["id"]
    settings(client, made, folder)
    client.post(f"campaigns/{made}/jobs", {"kind": "reduce"})
    assert client.wait(made)["state"] == "done"
    assert exported(client, made) == (folder / "out" / "light_curve.csv").read_bytes()
    stacks = client.get(f"campaigns/{made}/intake")["stacks"]
    assert {s["kit"] for s in stacks} == {"Kittiwake 800, 400 × 300", "Fulmar 20, 360 × 260"}
    assert client.get(f"campaigns/{made}")["kits"] == sorted({s["kit"] for s in stacks})
    assert not any(f["part"] == "left out" for f in client.get(f"campaigns/{made}/intake")["files"])


def test_a_report_s_bundle_reduces_to_the_same_numbers(running: Running, client: Client) -> None:
    """After what the observer changed by hand, too, and with another campaign's darks."""
    lender, home = running.nights / "lender", running.nights / "bundled"
    write_plain_night(lender, 11, evening=1, **SMALL)
    lent = client.post("campaigns", {"name": "lender", "folders": [str(lender / "raw")]})["id"]
    client.wait(lent)
    client.post(f"campaigns/{lent}/jobs", {"kind": "masters"})
    client.wait(lent)
    write_plain_night(home, 11, **SMALL)
    for dark in (home / "raw" / "calibration").glob("d*.fits"):
        dark.unlink()
    made = client.post("campaigns", {"name": "bundled", "folders": [str(home / "raw")]})
    campaign = made["id"]
    client.wait(campaign)
    settings(client, campaign, home)
    path = f"campaigns/{campaign}"
    client.ask("PATCH", path, {"shelf": True}).raise_for_status()
    client.post(f"{path}/jobs", {"kind": "reduce"})
    assert client.wait(campaign)["state"] == "done"
    (chain,) = client.get(f"{path}/correct")["chains"]
    assert any("dark off" in station["words"] for station in chain["stations"])
    for step, key in (("flat", "none"), ("lean", "30, -10")):
        client.post(f"{path}/masters/pick", {"chain": chain["name"], "step": step, "key": key})
    assert client.wait(campaign)["state"] == "done"
    client.post(f"{path}/jobs", {"kind": "reduce"})
    assert client.wait(campaign)["state"] == "done"
    curve = client.get(f"{path}/curve")
    cast = curve["cast"]
    client.post(
        f"{path}/cast",
        {"target": cast["target"], "comparison": cast["comparison"][1:], "checks": cast["checks"]},
    )
    client.post(f"{path}/recipe", {"steps": {"V": 6}})
    exposures = client.get(f"{path}/exposures")["exposures"]
    client.post(f"{path}/aside", {"ids": [exposures[1]["id"]], "aside": True, "reason": "a lamp"})
    report = client.post(f"{path}/report")
    answer = client.session.get(f"{client.url}/api/reports/{report['id']}/bundle.zip?raw=true")
    answer.raise_for_status()
    there = running.nights / "unpacked"
    with zipfile.ZipFile(io.BytesIO(answer.content)) as packed:
        packed.extractall(there)
    assert (there / "plan.toml").read_text().count("a lamp") == 1
    assert [path.name.split("-")[0] for path in (there / "library").iterdir()] == ["dark"]
    reduce(there / "plan.toml")
    handed = (there / "light_curve.csv").read_bytes()
    assert len(handed.splitlines()) == SMALL["exposures"]  # one head, one exposure set aside
    assert (there / "out" / "light_curve.csv").read_bytes() == handed
