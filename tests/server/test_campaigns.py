"""A campaign over weeks: another target, folders that come and go, files that are away, its end."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from astropy.io import fits
from sqlalchemy import select

from narrow_beacon.core.gate import OPEN
from narrow_beacon.jobs.keeper import RecordKeeper
from narrow_beacon.jobs.progress import Events, Progress, Reporter
from narrow_beacon.jobs.work import Work
from narrow_beacon.reduce.walk import Walk
from narrow_beacon.reduce.workers import Workers
from narrow_beacon.simulate.plain import write_plain_night
from narrow_beacon.store.models import CensusFile, NightFile
from running import JOB_TIMEOUT_S, Client, Running, small_night

OTHER = "Foxglove 22"


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def grown(running: Running, client: Client) -> int:
    """A reduced night whose points were handed out."""
    folder = running.nights / "grown"
    small_night(folder, exposures=14, seed=23)
    number = client.reduced(folder, "grown")
    client.post(f"campaigns/{number}/report")
    return number


def stages(client: Client, campaign: int) -> dict[str, dict[str, Any]]:
    return {s["key"]: s for s in client.get(f"campaigns/{campaign}")["stages"]}


def measured_with(running: Running, campaign: int) -> dict[str, str]:
    with running.store.session() as session:
        files = session.scalars(select(NightFile).where(NightFile.campaign_id == campaign))
        return {file.path: file.measured_with for file in files if file.part == "exposure"}


def census_files(running: Running, campaign: int) -> list[tuple[str, int]]:
    with running.store.session() as session:
        files = session.scalars(select(CensusFile).where(CensusFile.campaign_id == campaign))
        return [(file.path, Path(file.path).stat().st_mtime_ns) for file in files]


def test_what_is_changed_while_stars_are_measured_is_not_lost(
    running: Running, client: Client, grown: int
) -> None:
    """A job knows its campaign as it was when it began: a gain, a target and a catalogue that come
    later are neither in its census nor in its casts, and that is said.
    """
    raw = client.get(f"campaigns/{grown}")["folders"]
    folder = Path(raw[0]).parent

    def changed_meanwhile(name: str, **values: object) -> tuple[int, dict[str, Any]]:
        number = int(client.post("campaigns", {"name": name, "folders": raw})["id"])
        client.wait(number)
        reporter = Reporter(Events(), Progress(0, number, "reduce"))
        with Workers(1) as pool:
            work = Work(running.store, pool, number, reporter, lambda: False, OPEN)
            walk = Walk(RecordKeeper(work), pool, reporter)
            walk.to("probe")
            answer = client.ask("PATCH", f"campaigns/{number}", values)
            assert answer.ok, answer.text
            walk.census()
            walk.settle(accept=True)
        client.post(f"campaigns/{number}/jobs", {"kind": "sort"})  # and what waits before it
        client.wait(number)
        return number, client.get(f"campaigns/{number}")

    kit = client.get(f"campaigns/{grown}")["kit"]
    _, found = changed_meanwhile("gain", kit={**kit, "gain_e_per_adu": 2.6})
    measure = {s["key"]: s["words"] for s in found["stages"]}["measure"]
    assert measure.startswith("kit changed since")
    number, found = changed_meanwhile("star", target_name=OTHER)
    assert found["target"]["row"] == found["cast"]["target"]
    (curve,) = client.get(f"campaigns/{number}/curve")["filters"]
    assert curve["series"][0]["name"] == OTHER
    _, found = changed_meanwhile("catalogue", catalogue_file=str(folder / "field.vot"))
    assert found["cast"] is None
    assert stages(client, found["id"])["measure"]["words"].startswith("catalogue changed since")


def test_another_target_needs_no_pixels(running: Running, client: Client, grown: int) -> None:
    before = measured_with(running, grown), census_files(running, grown)
    page = f"campaigns/{grown}"
    changed = client.ask("PATCH", page, {"target_name": OTHER})
    assert changed.ok, changed.text
    assert client.wait(grown)["kind"] == "settle"
    (curve,) = client.get(f"{page}/curve")["filters"]
    assert curve["series"][0]["name"] == OTHER
    assert len([m for m in curve["series"][0]["magnitude"] if m is not None]) >= 12
    assert (measured_with(running, grown), census_files(running, grown)) == before
    # Nor does a census have anything to do.
    assert "to measure" not in stages(client, grown)["measure"]["words"]
    client.post(f"{page}/jobs", {"kind": "census"})
    assert client.wait(grown)["state"] == "done"
    assert (measured_with(running, grown), census_files(running, grown)) == before


def test_the_record_knows_whose_points_were_handed_out(client: Client, grown: int) -> None:
    report = client.get(f"campaigns/{grown}/report")
    (sent,) = report["reports"]
    assert (sent["star"], sent["other"], sent["changed"]) == ("Foxglove 7", True, 0)
    assert any(f"No point of {OTHER} was handed out" in c["words"] for c in report["checks"])
    client.post(f"campaigns/{grown}/undo")
    client.wait(grown)
    (sent,) = client.get(f"campaigns/{grown}/report")["reports"]
    assert (sent["other"], sent["changed"]) == (False, 0)


def test_a_target_that_the_catalogue_lacks_waits_for_its_census(
    running: Running, client: Client, grown: int
) -> None:
    page = f"campaigns/{grown}"
    place = {"target_name": "Newcomer", "target_ra": "341.21", "target_dec": "41.61"}
    client.ask("PATCH", page, place).raise_for_status()
    client.wait(grown)
    found = client.get(page)
    assert "target changed since" in stages(client, grown)["measure"]["words"]
    assert found["next"]["job"] == "census"
    client.post(f"{page}/undo")
    client.wait(grown)
    assert client.get(page)["cast"] is not None


def test_folders_come_and_go_with_undo(running: Running, client: Client, grown: int) -> None:
    page = f"campaigns/{grown}"
    more = running.nights / "grown more"
    small_night(more, exposures=6, seed=24)
    first = client.get(page)["folders"]
    client.ask("PATCH", page, {"folders": [*first, str(more / "raw")]}).raise_for_status()
    client.wait(grown)
    assert client.get(page)["undo"]["words"] == "added the folder raw"
    assert len(client.get(f"{page}/exposures")["exposures"]) == 13 + 5
    assert "5 to measure" in stages(client, grown)["measure"]["words"]
    client.post(f"{page}/undo")
    client.wait(grown)
    found = client.get(page)
    assert found["folders"] == first
    assert len(client.get(f"{page}/exposures")["exposures"]) == 13
    assert "to measure" not in stages(client, grown)["measure"]["words"]


def test_a_night_that_comes_back_is_measured_with_what_holds_now(
    running: Running, client: Client, grown: int
) -> None:
    page = f"campaigns/{grown}"
    more = running.nights / "grown and gone"
    write_plain_night(
        more, 23, exposures=4, shape=(480, 640), calibration=0, cadence_s=240.0, evening=2
    )
    first = client.get(page)["folders"]

    def reduced(folders: list[str]) -> int:
        client.ask("PATCH", page, {"folders": folders}).raise_for_status()
        client.post(f"{page}/jobs", {"kind": "reduce"})
        assert client.wait(grown)["state"] == "done"
        return len(client.get(f"{page}/curve")["filters"][0]["jd_utc"])

    assert reduced([*first, str(more / "raw")]) == 13 + 4
    gain = client.get(page)["kit"]["gain_e_per_adu"]
    client.ask("PATCH", page, {"kit": {"gain_e_per_adu": 2.5}}).raise_for_status()
    assert reduced(first) == 13
    client.ask("PATCH", page, {"folders": [*first, str(more / "raw")]}).raise_for_status()
    client.wait(grown)
    # Its census went when the others were measured anew: nothing of it passes for measured.
    assert "4 to measure" in stages(client, grown)["measure"]["words"]
    assert reduced([*first, str(more / "raw")]) == 13 + 4
    client.ask("PATCH", page, {"kit": {"gain_e_per_adu": gain}}).raise_for_status()
    assert reduced(first) == 13


def test_a_file_that_changed_is_measured_again_and_has_no_point_until_then(
    running: Running, client: Client, grown: int
) -> None:
    page = f"campaigns/{grown}"
    (home,) = client.get(page)["folders"]
    curve = client.get(f"{page}/curve")["filters"][0]
    number = curve["file_ids"][4]
    path = Path(home).parent / next(
        f["name"] for f in client.get(f"{page}/intake")["files"] if f["id"] == number
    )
    kept = path.read_bytes()

    def after(change: Callable[[], object]) -> str:
        change()
        client.post(f"{page}/jobs", {"kind": "sort"})
        assert client.wait(grown)["state"] == "done"
        return str(stages(client, grown)["measure"]["words"])

    def brighter() -> None:
        with fits.open(path, mode="update") as hdus:
            hdus[0].data = (1.2 * hdus[0].data).astype(hdus[0].data.dtype)

    assert "13 of 13 measured" in after(lambda: path.write_bytes(kept))  # newer, and the same
    for change in (brighter, lambda: path.write_bytes(kept)):
        assert "1 to measure" in after(change)
        checks = [check["words"] for check in client.get(f"{page}/report")["checks"]]
        assert sum(words.startswith("1 exposure is not measured yet") for words in checks) == 1
        left = client.get(f"{page}/curve")["filters"][0]["file_ids"]
        assert set(left) == set(curve["file_ids"]) - {number}
        client.post(f"{page}/jobs", {"kind": "reduce"})
        assert client.wait(grown)["state"] == "done"
        again = client.get(f"{page}/curve")["filters"][0]
        assert again["file_ids"] == curve["file_ids"]
        brighter_by = again["zero_point"][4] - curve["zero_point"][4]
        assert brighter_by == pytest.approx(
            2.5 * np.log10(1.2) if change == brighter else 0, abs=0.02
        )


def test_what_was_said_of_a_file_holds_when_it_is_packed(client: Client, grown: int) -> None:
    page = f"campaigns/{grown}"
    (home,) = client.get(page)["folders"]
    files = client.get(f"{page}/intake")["files"]
    one, other = [f for f in files if f["part"] == "exposure"][5:7]
    client.post(f"{page}/aside", {"ids": [one["id"]], "aside": True, "reason": "a plane"})
    kept = {}
    for file in (one, other):
        path = Path(home).parent / file["name"]
        kept[path] = path.read_bytes()
        with fits.open(path) as hdus:
            packed = fits.CompImageHDU(hdus[0].data, hdus[0].header, compression_type="RICE_1")
            packed.writeto(path.with_name(f"{path.name}.fz"))
        path.unlink()
    client.post(f"{page}/jobs", {"kind": "reduce"})
    assert client.wait(grown)["state"] == "done"
    exposures = {Path(e["name"]).name: e for e in client.get(f"{page}/exposures")["exposures"]}
    names = [Path(file["name"]).name for file in (one, other)]
    assert len(exposures) == 13
    assert [exposures[f"{name}.fz"]["aside_by"] for name in names] == ["observer", ""]
    assert exposures[f"{names[0]}.fz"]["aside"] == "a plane"
    for path, data in kept.items():
        path.with_name(f"{path.name}.fz").unlink()
        path.write_bytes(data)
    client.post(f"{page}/jobs", {"kind": "reduce"})
    assert client.wait(grown)["state"] == "done"
    client.post(f"{page}/aside", {"ids": [one["id"]], "aside": False})


def test_another_night_leaves_those_that_are_placed_alone(
    running: Running, client: Client, grown: int
) -> None:
    page = f"campaigns/{grown}"

    def looks() -> dict[int, tuple[Any, ...]]:
        with running.store.session() as session:
            files = session.scalars(select(NightFile).where(NightFile.campaign_id == grown))
            return {
                f.id: (f.looked_with, f.match, f.evidence) for f in files if f.part == "exposure"
            }

    for kind in ("sort", "census"):  # the census says more than what was seen before it
        client.post(f"{page}/jobs", {"kind": kind})
        client.wait(grown)
    before, reference = looks(), client.get(f"{page}/vetting")["reference"]
    assert reference in before
    more = running.nights / "grown later"
    write_plain_night(
        more, 23, exposures=6, shape=(480, 640), calibration=4, cadence_s=240.0, evening=1
    )
    first = client.get(page)["folders"]
    client.ask("PATCH", page, {"folders": [*first, str(more / "raw")]}).raise_for_status()
    assert client.wait(grown)["kind"] == "look"
    after = looks()
    new = [after[number] for number in after.keys() - before.keys()]
    assert {number: after[number] for number in before} == before
    assert [match["to"] for _, match, _ in new] == [reference] * 6
    assert all(match["matched"] >= 20 and evidence["light"] > 0.8 for _, match, evidence in new)
    assert client.get(f"{page}/vetting")["reference"] == reference
    client.post(f"{page}/undo")
    client.wait(grown)


def test_a_folder_that_is_away_comes_back_as_it_was(
    running: Running, client: Client, grown: int
) -> None:
    page = f"campaigns/{grown}"
    before = client.get(f"{page}/curve")["filters"]
    kept = measured_with(running, grown)
    folder = Path(client.get(page)["folders"][0])
    folder.rename(folder.with_name("unplugged"))
    client.post(f"{page}/jobs", {"kind": "sort"})
    client.wait(grown)
    files = client.get(f"{page}/intake")["files"]
    assert all("not there now" in f["part_reason"] for f in files)
    folder.with_name("unplugged").rename(folder)
    client.post(f"{page}/jobs", {"kind": "sort"})
    client.wait(grown)
    assert client.get(f"{page}/curve")["filters"] == before
    assert measured_with(running, grown) == kept


def test_what_is_known_of_files_stays_with_them_whatever_copies_there_are_and_where_they_go(
    running: Running, client: Client, grown: int
) -> None:
    page = f"campaigns/{grown}"
    home = Path(client.get(page)["folders"][0])

    def told() -> dict[str, Any]:
        files = client.get(f"{page}/intake")["files"]
        exposures = client.get(f"{page}/exposures")["exposures"]
        return {
            "taking part": {
                f["id"]: Path(f["name"]).name for f in files if f["part"] == "exposure"
            },
            "aside": {e["id"]: e["aside_by"] for e in exposures},
            "stages": {
                key: stages(client, grown)[key]["words"] for key in ("vet", "measure", "report")
            },
            "curve": client.get(f"{page}/curve")["filters"],
            "measured": sorted(measured_with(running, grown).values()),
        }

    def through(folders: list[Path]) -> None:
        client.ask("PATCH", page, {"folders": [str(one) for one in folders]}).raise_for_status()
        assert client.wait(grown)["state"] == "done"

    victim = client.get(f"{page}/exposures")["exposures"][3]["id"]
    client.post(f"{page}/aside", {"ids": [victim], "aside": True, "reason": "a plane"})
    before = told()
    # A backup whose names come first: what was known first takes part, as it was judged.
    backup = running.nights / "a backup"
    shutil.copytree(home, backup)
    for path in [*backup.rglob("*.fits")]:
        path.rename(path.with_name(f"0 {path.name}"))
    through([home, backup])
    assert told() == before
    left = [f["part_reason"] for f in client.get(f"{page}/intake")["files"] if f["name"][0] == "a"]
    assert sum("the same file as" in reason for reason in left) >= len(before["taking part"])
    # The folder goes, and the copies are all that there is: they are those images.
    through([backup])
    copies = {number: f"0 {name}" for number, name in before["taking part"].items()}
    assert told() == {**before, "taking part": copies}
    # The night moves to a folder of another name; nothing is said to be missing.
    moved = home.with_name(home.name.swapcase())
    shutil.move(home, moved)
    shutil.rmtree(backup)
    client.post(f"{page}/jobs", {"kind": "sort"})  # seen to be away before it is seen elsewhere
    client.wait(grown)
    through([moved])
    assert told() == before
    assert not any("not there" in f["part_reason"] for f in client.get(f"{page}/intake")["files"])
    shutil.move(moved, home)
    through([home])
    client.post(f"{page}/aside", {"ids": [victim], "aside": False})
    assert told()["curve"] != before["curve"]


def test_every_setting_of_a_plan_is_taken_from_beside_the_night(
    running: Running, client: Client
) -> None:
    folder = running.nights / "settings of a plan"
    small_night(folder, exposures=6, seed=25)
    (folder / "older").mkdir()
    plan = (folder / "plan.toml").read_text()
    plan = plan.replace('folder = "raw"', 'folder = "raw"\nlibrary = "older"\nfilter = "v"', 1)
    plan = plan.replace('file = "field.vot"', 'file = "field.vot"\nepoch = 2016.5')
    plan = plan.replace("[kit]", '[kit]\ntimestamp = "middle"\nclock_offset_s = 1.5')
    plan += '[bands]\n"Clear" = "V"\n[measure]\nradius = 4.5\nannulus = [12, 18]\nunit = "px"\n'
    plan += "[defects]\nthreshold = 40\nmarks = [[3, 1, 1, 480]]\n"
    (folder / "plan.toml").write_text(plan)
    made = client.post("campaigns", {"name": "settings", "folders": [str(folder / "raw")]})
    client.wait(made["id"])
    found = client.get(f"campaigns/{made['id']}")
    assert found["library"] == str(folder / "older")
    assert (found["default_filter"], found["epoch_yr"]) == ("v", 2016.5)
    assert (found["kit"]["timestamp"], found["kit"]["clock_offset_s"]) == ("middle", 1.5)
    assert found["bands"] == {"Clear": "V"}
    assert found["measuring"] == {
        "radius": "4.5", "annulus": [12.0, 18.0], "annulus_in_pixels": True,
    }  # fmt: skip
    exposure = client.get(f"campaigns/{made['id']}/exposures")["exposures"][0]["id"]
    rule = client.get(f"campaigns/{made['id']}/defects/{exposure}")
    assert (rule["threshold"], rule["marks"], rule["own"]) == (40.0, [[3, 1, 1, 480]], True)
    # And each can be changed, by name, and taken back.
    page = f"campaigns/{made['id']}"
    for body, words in (
        ({"library": ""}, "library of masters"),
        ({"bands": {}}, "bands"),
        ({"epoch_yr": None}, "epoch of the catalogue"),
        ({"measuring": {"radius": "1.6 fwhm"}}, "radius and sky ring"),
    ):
        before = client.get(page)
        changed = client.ask("PATCH", page, body)
        assert changed.ok, changed.text
        assert changed.json()["undo"]["words"].startswith(f"changed {words}")
        client.post(f"{page}/undo")
        after = client.get(page)
        assert {k: after[k] for k in ("library", "bands", "epoch_yr", "measuring")} == {
            k: before[k] for k in ("library", "bands", "epoch_yr", "measuring")
        }
    wrong = client.ask("PATCH", page, {"measuring": {"radius": "wide"}})
    assert wrong.status_code == 422
    assert "1.6 fwhm" in wrong.json()["detail"]
    # Its rule on defects is the camera's, and would be that of other tests' campaigns.
    client.ask("DELETE", page).raise_for_status()


def test_a_campaign_is_renamed_archived_and_deleted(running: Running, client: Client) -> None:
    folder = running.nights / "short-lived"
    small_night(folder, exposures=6, seed=26)
    number = client.reduced(folder, "short-lived")
    client.post(f"campaigns/{number}/report")
    page = f"campaigns/{number}"
    assert client.ask("PATCH", page, {"name": "of one night"}).json()["name"] == "of one night"
    client.ask("PATCH", page, {"archived": True}).raise_for_status()
    named = {c["id"]: c for c in client.get("state")["campaigns"]}
    assert (named[number]["name"], named[number]["archived"]) == ("of one night", True)
    raw = sorted(path.stat().st_mtime_ns for path in (folder / "raw").rglob("*"))
    made = running.data / f"campaign-{number}"
    assert (made / "masters").is_dir()
    done = client.ask("DELETE", page)
    assert "no raw file was touched" in done.json()["words"]
    assert not made.exists()
    assert client.ask("GET", page).status_code == 404
    assert number not in {c["id"] for c in client.get("state")["campaigns"]}
    assert sorted(path.stat().st_mtime_ns for path in (folder / "raw").rglob("*")) == raw


def test_uploads_outlive_their_campaign(running: Running, client: Client) -> None:
    folder = running.nights / "sent"
    small_night(folder, exposures=6, seed=27)
    number = client.post("campaigns", {"name": "sent", "folders": []})["id"]
    with (folder / "raw" / "foxglove-001.fits").open("rb") as file:
        sent = client.session.post(
            f"{client.url}/api/campaigns/{number}/upload", files={"files": file}, timeout=60
        )
    assert sent.ok, sent.text
    client.wait(number)
    words = client.ask("DELETE", f"campaigns/{number}").json()["words"]
    (kept,) = (running.data / f"campaign-{number}").rglob("*.fits")
    assert str(kept.parent) in words


def test_a_listener_hears_of_the_records_when_nothing_else_asks_them(running: Running) -> None:
    port = running.database.port
    with running.client().listening() as events:
        running.database.stop()
        begin = time.monotonic()
        try:
            assert next(event for event in events if event["kind"] == "database")["away"]
        finally:
            running.database.start(port)
        assert not next(event for event in events if event["kind"] == "database")["away"]
        assert time.monotonic() - begin < JOB_TIMEOUT_S


def test_a_catalogue_in_the_nights_folder_is_told_and_offered(
    running: Running, client: Client
) -> None:
    folder = running.nights / "offered"
    small_night(folder, exposures=6, seed=28)
    (folder / "plan.toml").unlink()
    inside = folder / "raw" / "stars.vot"
    inside.write_bytes((folder / "field.vot").read_bytes())
    for path in (folder / "raw").glob("*.fits"):
        with fits.open(path, mode="update") as hdus:
            for keyword in ("OBJCTRA", "OBJCTDEC", "RA", "DEC", "OBJECT", "PIXSCALE", "FOCALLEN"):
                hdus[0].header.remove(keyword, ignore_missing=True)
    made = client.post("campaigns", {"name": "offered", "folders": [str(folder / "raw")]})
    client.wait(made["id"])
    page = f"campaigns/{made['id']}"
    reasons = {
        Path(f["name"]).name: f["part_reason"] for f in client.get(f"{page}/intake")["files"]
    }
    assert reasons["stars.vot"].startswith("a star catalogue of ")
    step = client.get(page)["next"]
    assert step["words"].startswith("Give a star catalogue")
    assert [Path(o["catalogue_file"]).name for o in step["offers"]] == ["stars.vot", "field.vot"]
    listed = client.get(f"folders?path={folder / 'raw'}&files=catalogue")["named"]
    assert "stars.vot" in {f["name"] for f in listed}
    # Placed without any word on where it is, how large, or what the target is.
    assert client.get(page)["target"]["ra_deg"] is None
    client.ask("PATCH", page, {"catalogue_file": str(inside)}).raise_for_status()
    client.post(f"{page}/jobs", {"kind": "reduce"})
    assert client.wait(made["id"])["state"] == "done"
    assert stages(client, made["id"])["place"]["words"] == "5 placed"
    assert client.get(page)["next"]["button"] == "Choose the target"
