"""What the observer sets: target, site, kit, catalogue, folders, uploads, words on files."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Any

import pytest

from narrow_beacon.server.doubts import Doubt
from narrow_beacon.store.models import RemarkRecord
from running import UNKIND, Client, Running, small_night


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def folder(running: Running) -> Path:
    made = running.nights / "settings"
    small_night(made, exposures=7, seed=31)
    return made


def sort(client: Client, folder: Path) -> int:
    made = client.post("campaigns", {"name": "settings", "folders": [str(folder / "raw")]})
    assert client.wait(made["id"])["state"] == "done"
    return int(made["id"])


@pytest.fixture(scope="module")
def sorted_campaign(client: Client, folder: Path) -> int:
    """A campaign on the folder with its plan, sorted only; what is changed must not matter."""
    return sort(client, folder)


@pytest.fixture
def fresh(client: Client, folder: Path) -> int:
    """The same, to be changed at will."""
    return sort(client, folder)


def change(client: Client, campaign: int, **values: object) -> dict[str, Any]:
    answer = client.ask("PATCH", f"campaigns/{campaign}", values)
    assert answer.ok, answer.text
    found: dict[str, Any] = answer.json()
    return found


def refused(client: Client, campaign: int, **values: object) -> tuple[int, str]:
    answer = client.ask("PATCH", f"campaigns/{campaign}", values)
    assert not answer.ok
    return answer.status_code, f"{answer.json()['title']} {answer.json()['detail']}"


def test_a_plan_beside_the_files_fills_in_the_rest(client: Client, fresh: int) -> None:
    found = client.get(f"campaigns/{fresh}")
    assert found["target"]["name"] == "Foxglove 7"
    assert found["site"] == {"latitude_deg": 61.2, "longitude_deg": -9.4, "elevation_m": 140}
    assert found["kit"]["gain_e_per_adu"] == 1.3
    assert found["catalogue"]["name"] == "field.vot"
    assert [night["evening"] for night in found["nights"]] == ["2026-09-20"]
    assert found["filters"] == ["V"]


def test_without_a_plan_the_stages_say_what_they_wait_for(
    running: Running, client: Client, folder: Path
) -> None:
    bare = running.nights / "no-plan" / "deep" / "raw"
    bare.mkdir(parents=True)
    for path in (folder / "raw").glob("foxglove-00[1-3].fits"):
        (bare / path.name).symlink_to(path)
    made = client.post("campaigns", {"name": "bare", "folders": [str(bare)]})
    client.wait(made["id"])
    stages = {s["key"]: s for s in client.get(f"campaigns/{made['id']}")["stages"]}
    # And the remark that no site is known.
    assert (stages["intake"]["state"], stages["intake"]["words"]) == (
        "look", "no star catalogue yet; 1 remark",
    )  # fmt: skip
    # What can be made without an answer is made: chains, and what the exposures look like.
    assert stages["correct"]["words"].startswith("1 chain;")
    assert stages["vet"]["words"].startswith("0 of 3 set aside")
    for key in ("place", "cast", "curve", "report"):
        assert stages[key]["state"] == "waiting"
        assert "waits for" in stages[key]["words"]
    # Where the telescope pointed stands in for the target until somebody says what it is.
    target = client.get(f"campaigns/{made['id']}")["target"]
    assert target["ra_deg"] == pytest.approx(341.2, abs=0.02)
    assert target["sure"] is False


def test_a_plan_with_mistakes_is_answered_with_all_of_them(
    running: Running, client: Client
) -> None:
    place = running.nights / "wrong-plan"
    place.mkdir()
    (place / "plan.toml").write_text('[frames]\nfolder = "nowhere"\n[kit]\ngain_e_per_adu = -1\n')
    answer = client.ask("POST", "campaigns", {"name": "wrong", "folders": [str(place)]})
    assert answer.status_code == 422
    assert "nowhere" in answer.json()["detail"]
    assert "gain_e_per_adu" in answer.json()["detail"]


class TestTarget:
    def test_a_name_of_the_catalogue_brings_its_position(
        self, client: Client, sorted_campaign: int
    ) -> None:
        found = change(client, sorted_campaign, target_name="Foxglove 21")["target"]
        assert found["sure"]
        stars = client.get(f"campaigns/{sorted_campaign}/stars")
        at = stars["name"].index("Foxglove 21")
        assert found["ra_deg"] == pytest.approx(stars["ra_deg"][at], abs=1e-4)

    def test_a_position_is_read_as_observers_write_it(
        self, client: Client, sorted_campaign: int
    ) -> None:
        found = change(
            client, sorted_campaign, target_name="new star", target_ra="22:44:47.98",
            target_dec="+41 36 00.1",
        )["target"]  # fmt: skip
        assert found["ra_deg"] == pytest.approx(15 * (22 + 44 / 60 + 47.98 / 3600))
        assert found["dec_deg"] == pytest.approx(41.6, abs=1e-4)

    @pytest.mark.parametrize(
        ("ra", "dec", "words"),
        [("noon", "+41 36 00", "not understood"), ("22 44 48", "+95 00 00", "not")],
    )
    def test_what_is_no_position_is_refused(
        self, client: Client, sorted_campaign: int, ra: str, dec: str, words: str
    ) -> None:
        status, said = refused(client, sorted_campaign, target_ra=ra, target_dec=dec)
        assert status == 422
        assert words in said


class TestSiteAndKit:
    def test_a_latitude_beyond_the_pole_is_refused(
        self, client: Client, sorted_campaign: int
    ) -> None:
        site = {"latitude_deg": 91, "longitude_deg": 0, "elevation_m": 0}
        assert refused(client, sorted_campaign, site=site)[0] == 422

    def test_a_clock_offset_moves_the_times(self, client: Client, fresh: int) -> None:
        def first() -> float:
            found = client.get(f"campaigns/{fresh}/exposures")["exposures"]
            return float(found[0]["jd_utc"])

        before, kit = first(), client.get(f"campaigns/{fresh}")["kit"]
        change(client, fresh, kit={**kit, "clock_offset_s": 12.0})
        assert 86400 * (first() - before) == pytest.approx(12.0, abs=0.01)
        change(client, fresh, kit={**kit, "timestamp": "middle"})
        assert 86400 * (first() - before) == pytest.approx(-30.0, abs=0.01)

    @pytest.mark.parametrize(("about", "said"), [("", "Sky: cut"), ("a kit", "Sky: a kit: cut")])
    def test_a_doubt_says_of_what_it_is_where_there_are_several(
        self, about: str, said: str
    ) -> None:
        remarks = [RemarkRecord(about=about, words="cut"), RemarkRecord(about="b", words="cut")]
        assert (
            Doubt("Sky", "intake", "", remarks).words == f"{said}, and 1 more remark. See Intake."
        )

    def test_times_that_cannot_be_are_held_against_the_report(
        self, client: Client, folder: Path
    ) -> None:
        campaign = client.reduced(folder, "clock")
        page = f"campaigns/{campaign}"

        def times() -> str:
            checks = client.get(f"{page}/report")["checks"]
            return next(c["words"] for c in checks if c["words"].startswith("Times:"))

        assert times() == "Times: JD in UTC, BJD in TDB, for your site."
        stacks = client.get(f"{page}/intake")["stacks"]
        sky = next(s["ids"] for s in stacks if s["kind"] == "exposure")
        client.post(f"{page}/corrections", {"ids": sky, "exposure_s": "6000"})
        client.post(f"{page}/jobs", {"kind": "census"})
        assert client.wait(campaign)["state"] == "done"
        assert "began 5 of 6 exposures before the one before had ended" in times()
        # It comes before handing in, until the observer has seen it.
        now = client.get(page)
        assert now["next"]["words"] == "The times of a night can't be right: see the remark."
        ids = [r["id"] for r in now["remarks"] if r["stage"] == "intake"]
        client.post(f"{page}/remarks/seen", {"ids": ids})
        assert "times" not in client.get(page)["next"]["words"]

    def test_another_kit_makes_what_was_measured_old(self, client: Client, folder: Path) -> None:
        campaign = client.reduced(folder, "kit")
        found = client.get(f"campaigns/{campaign}")
        measure = {s["key"]: s for s in found["stages"]}["measure"]
        assert measure["state"] == "done"
        changed = change(client, campaign, kit={**found["kit"], "gain_e_per_adu": 2.6})
        measure = {s["key"]: s for s in changed["stages"]}["measure"]
        assert (measure["state"], measure["words"]) == (
            "look", "kit changed since: measure again what changed",
        )  # fmt: skip
        checks = client.get(f"campaigns/{campaign}/report")["checks"]
        assert any("kit changed since" in check["words"] for check in checks)
        client.post(f"campaigns/{campaign}/undo")  # as it was measured
        now = client.get(f"campaigns/{campaign}")
        assert {s["key"]: s["state"] for s in now["stages"]}["measure"] == "done"
        client.post(f"campaigns/{campaign}/redo")
        uncertain = uncertainty(client, campaign)
        client.post(f"campaigns/{campaign}/jobs", {"kind": "census"})
        assert client.wait(campaign)["state"] == "done"
        now = client.get(f"campaigns/{campaign}")
        measure = {s["key"]: s for s in now["stages"]}["measure"]
        assert "kit changed" not in measure["words"]
        # The camera's gain is 1.3: by the wrong one the sky should be quieter than it is.
        assert any("noisier than gain, read noise" in r["words"] for r in now["remarks"])
        # Twice the electrons an ADU: the star's own noise is smaller, and so is the whole.
        assert uncertainty(client, campaign) < 0.95 * uncertain


def uncertainty(client: Client, campaign: int) -> float:
    cast = client.get(f"campaigns/{campaign}")["cast"]
    file = client.get(f"campaigns/{campaign}/curve")["filters"][0]["file_ids"][0]
    star = client.get(f"campaigns/{campaign}/star?row={cast['target']}&file={file}")
    return float(star["uncertainty_adu"][5])


class TestUndo:
    def test_every_setting_is_taken_back_by_name(self, client: Client, fresh: int) -> None:
        def settings() -> dict[str, Any]:
            found = client.get(f"campaigns/{fresh}")
            return {k: found[k] for k in ("name", "target", "site", "kit", "catalogue", "cone_url")}

        def times() -> list[float]:
            found = client.get(f"campaigns/{fresh}/exposures")["exposures"]
            return [e["jd_utc"] for e in found]

        before, moments = settings(), times()
        change(client, fresh, name="another")
        change(client, fresh, target_name="Foxglove 21")
        change(client, fresh, kit={**before["kit"], "clock_offset_s": 30.0})
        change(client, fresh, site={**before["site"], "elevation_m": 900})
        change(client, fresh, cone_url="http://127.0.0.1:9/stars")
        assert client.get(f"campaigns/{fresh}")["catalogue"] is None
        assert times() != moments
        said = []
        while (latest := client.get(f"campaigns/{fresh}")["undo"]) is not None:
            said.append(latest["words"])
            client.post(f"campaigns/{fresh}/undo")
        assert said == [f"changed {w}" for w in ("catalogue", "site", "kit", "target", "name")]
        assert settings() == before
        assert times() == moments

    def test_a_setting_that_is_the_same_is_no_action(self, client: Client, fresh: int) -> None:
        found = client.get(f"campaigns/{fresh}")
        change(client, fresh, kit=found["kit"], site=found["site"], name=found["name"])
        assert client.get(f"campaigns/{fresh}")["undo"] is None


class TestCatalogue:
    def test_another_file_takes_its_place(
        self, running: Running, client: Client, fresh: int, folder: Path
    ) -> None:
        table = running.nights / "three.csv"
        table.write_text(
            "name,ra,dec,V\nA 1,341.2,41.6,12.0\nA 2,341.21,41.6,12.5\nA 3,341.22,41.61,13\n"
        )
        found = change(client, fresh, catalogue_file=str(table))["catalogue"]
        assert (found["name"], found["stars"], found["bands"]) == ("three.csv", 3, ["V"])

    @pytest.mark.parametrize(
        ("path", "status", "words"),
        [("notes.txt", 409, "notes.txt"), ("nowhere.vot", 404, "Was it moved?")],
    )
    def test_what_is_no_catalogue_is_refused(
        self, client: Client, sorted_campaign: int, folder: Path, path: str, status: int, words: str
    ) -> None:
        got = refused(client, sorted_campaign, catalogue_file=str(folder / "raw" / path))
        assert got[0] == status
        assert words in got[1]
        assert client.get(f"campaigns/{sorted_campaign}")["catalogue"]["name"] == "field.vot"


class TestFiles:
    def test_uploads_are_kept_apart_and_never_overwritten(
        self, running: Running, client: Client, fresh: int, folder: Path
    ) -> None:
        raw = (folder / "raw" / "foxglove-001.fits").read_bytes()
        parts = [("files", ("../../up.fits", raw)), ("files", ("up.fits", b"second"))]
        answer = client.session.post(
            f"{client.url}/api/campaigns/{fresh}/upload", files=parts, timeout=60
        )
        assert answer.json()["words"] == "2 files taken in."
        client.wait(fresh)
        uploads = running.data / f"campaign-{fresh}" / "uploads"
        assert sorted(p.name for p in uploads.iterdir()) == ["up-1.fits", "up.fits"]
        files = {
            Path(f["name"]).name: f["part_reason"]
            for f in client.get(f"campaigns/{fresh}/intake")["files"]
        }
        # The same exposure twice is one; which of the two is kept does not matter.
        same = [n for n, reason in files.items() if "the same file as" in reason]
        assert same in (["up.fits"], ["foxglove-001.fits"])
        assert "not a FITS" in files["up-1.fits"]

    def test_an_upload_without_files_says_so(self, client: Client, sorted_campaign: int) -> None:
        answer = client.ask("POST", f"campaigns/{sorted_campaign}/upload")
        assert answer.status_code == 422
        assert "Choose the night's files" in answer.json()["detail"]

    def test_a_file_that_is_gone_is_told_and_the_rest_stays(
        self, client: Client, running: Running, folder: Path
    ) -> None:
        place = running.nights / "gone"
        place.mkdir()
        for path in (folder / "raw").glob("foxglove-00[1-3].fits"):
            (place / path.name).write_bytes(path.read_bytes())
        made = client.post("campaigns", {"name": "gone", "folders": [str(place)]})
        client.wait(made["id"])
        (place / "foxglove-002.fits").unlink()
        client.post(f"campaigns/{made['id']}/jobs", {"kind": "sort"})
        client.wait(made["id"])
        files = client.get(f"campaigns/{made['id']}/intake")["files"]
        reasons = {Path(f["name"]).name: f["part_reason"] for f in files}
        assert "not there now" in reasons["foxglove-002.fits"]
        assert reasons["foxglove-001.fits"] == reasons["foxglove-003.fits"] == ""

    def test_stacks_count_what_belongs_together(self, client: Client, sorted_campaign: int) -> None:
        page = client.get(f"campaigns/{sorted_campaign}/intake")
        counts = {s["kind"]: s["count"] for s in page["stacks"]}
        assert counts == {"exposure": 6, "bias": 10, "dark": 10, "flat": 10}
        assert not page["missing"]
        assert all(not s["words"] for s in page["stacks"])

    def test_words_on_many_files_change_the_stacks(
        self, client: Client, sorted_campaign: int
    ) -> None:
        page = client.get(f"campaigns/{sorted_campaign}/intake")
        darks = next(s["ids"] for s in page["stacks"] if s["kind"] == "dark")
        client.post(
            f"campaigns/{sorted_campaign}/corrections", {"ids": darks[:4], "exposure_s": "300"}
        )
        stacks = client.get(f"campaigns/{sorted_campaign}/intake")["stacks"]
        lengths = {s["exposure_s"]: (s["count"], s["words"]) for s in stacks if s["kind"] == "dark"}
        assert lengths[300.0][0] == 4
        assert "thin: 4" in lengths[300.0][1]
        client.post(
            f"campaigns/{sorted_campaign}/corrections", {"ids": darks[:4], "exposure_s": ""}
        )
        stacks = client.get(f"campaigns/{sorted_campaign}/intake")["stacks"]
        assert [s["count"] for s in stacks if s["kind"] == "dark"] == [10]

    def test_the_names_of_chosen_files_say_what_stands_in_them(
        self, client: Client, sorted_campaign: int
    ) -> None:
        page = f"campaigns/{sorted_campaign}"
        names = {f["id"]: Path(f["name"]).name for f in client.get(f"{page}/intake")["files"]}
        read = client.get(f"{page}/names?pattern=*glove-{{seconds}}")["files"]
        assert {f["id"]: f["exposure_s"] for f in read} == {
            i: float(name[9:12]) for i, name in names.items() if name.startswith("foxglove-")
        }
        biases = [i for i, name in names.items() if name.startswith("bias")]
        ids = [f["id"] for f in read[:2]]
        pattern = {"ids": [*ids, *biases], "pattern": "*glove-{seconds}"}
        said = client.post(f"{page}/corrections/names", pattern)["words"]
        assert said == "corrected 2 files: by name, *glove-{seconds}"
        after = {f["id"]: f for f in client.get(f"{page}/intake")["files"]}
        assert [after[i]["exposure_s"] for i in ids] == [float(names[i][9:12]) for i in ids]
        assert not any(after[i]["correction"] for i in biases)
        client.post(f"{page}/undo")
        after = {f["id"]: f for f in client.get(f"{page}/intake")["files"]}
        assert not any(after[i]["correction"] for i in ids)

    def test_a_pattern_that_asks_for_nothing_known_is_refused(
        self, client: Client, sorted_campaign: int
    ) -> None:
        for answer in (
            client.ask("GET", f"campaigns/{sorted_campaign}/names?pattern={{cake}}"),
            client.ask(
                "POST", f"campaigns/{sorted_campaign}/corrections/names",
                {"ids": [], "pattern": "{cake}"},
            ),
        ):  # fmt: skip
            assert answer.status_code == 422
            assert "{cake} is none of {kind}" in answer.json()["detail"]

    @pytest.mark.parametrize(
        ("values", "words"),
        [
            ({"exposure_s": "long"}, "give a number"),
            ({"shift_s": "a while"}, "write seconds, or hours"),
            ({"moment": "noon"}, "none of start, middle, end"),
            ({"temperature_c": "-300"}, "from -120 to 60"),
            ({"dec_deg": "+98 00 00"}, "from -90° to 90°"),
            ({"exposure_s": "-5"}, "from 0 to 86400"),
            ({"time_utc": "yesterday"}, "the start in UTC"),
        ],
    )
    def test_words_that_make_no_sense_are_refused(
        self, client: Client, sorted_campaign: int, values: dict[str, str], words: str
    ) -> None:
        ids = [client.get(f"campaigns/{sorted_campaign}/intake")["files"][0]["id"]]
        answer = client.ask(
            "POST", f"campaigns/{sorted_campaign}/corrections", {"ids": ids, **values}
        )
        assert answer.status_code == 422
        assert words in answer.json()["detail"]

    def test_a_time_that_the_observer_gives_is_the_start(self, client: Client, fresh: int) -> None:
        files = client.get(f"campaigns/{fresh}/intake")["files"]
        asking = next(f["id"] for f in files if Path(f["name"]).name == UNKIND)
        client.post(
            f"campaigns/{fresh}/corrections",
            {"ids": [asking], "kind": "exposure", "time_utc": "2026-09-20 23:00:00"},
        )
        found = client.get(f"campaigns/{fresh}/exposures")["exposures"]
        assert next(e["mid_utc"] for e in found if e["id"] == asking) == "2026-09-20T23:00:30"

    def test_a_clock_is_put_right_for_many_files_seen_first_and_undone(
        self, client: Client, sorted_campaign: int
    ) -> None:
        page = f"campaigns/{sorted_campaign}"

        def mids() -> dict[int, str]:
            return {e["id"]: e["mid_utc"] for e in client.get(f"{page}/exposures")["exposures"]}

        before = mids()
        said = {
            "ids": list(before), "shift_s": "−2h", "moment": "end", "temperature_c": "-12",
            "gain_setting": "200", "ra_deg": "22 44 48", "dec_deg": "+41 36 00",
        }  # fmt: skip
        seen = client.post(f"{page}/corrections/preview", said)
        assert seen["count"] == len(before)
        words = " ".join(seen["files"][0]["changes"])
        for change in ("temperature −10 °C → −12 °C", "gain 100, offset 30 → gain 200", "middle"):
            assert change in words
        assert mids() == before
        client.post(f"{page}/corrections", said)
        for number, old in before.items():
            # Two hours earlier, and what was taken for the start is the end of 60 s.
            moved = datetime.fromisoformat(old) - datetime.fromisoformat(mids()[number])
            assert moved.total_seconds() == 2 * 3600 + 60
        stacks = client.get(f"{page}/intake")["stacks"]
        sky = [s for s in stacks if s["kind"] == "exposure"]
        assert {(s["settings"], s["temperature_c"]) for s in sky} == {("gain 200, offset 30", -12)}
        client.post(f"{page}/undo")
        assert mids() == before

    def test_the_colours_of_a_file_are_exposures_until_the_pattern_is_taken_back(
        self, client: Client, sorted_campaign: int
    ) -> None:
        page = f"campaigns/{sorted_campaign}"
        whole = client.get(f"{page}/exposures")["exposures"]
        files = client.get(f"{page}/intake")["files"]
        client.ask("PATCH", page, {"pattern": "RGGB"}).raise_for_status()
        parts = client.get(f"{page}/exposures")["exposures"]
        assert len(parts) == 3 * len(whole)
        assert {e["filter"] for e in parts} == {"red", "green", "blue"}
        intake = client.get(f"{page}/intake")
        assert [f["id"] for f in intake["files"]] == [f["id"] for f in files]
        assert {s["filter"] for s in intake["stacks"] if s["kind"] == "exposure"} == {
            "red", "green", "blue",
        }  # fmt: skip
        # A word on a colour is one on its file.
        client.post(f"{page}/corrections", {"ids": [parts[0]["id"]], "exposure_s": "30"})
        lengths = [e["exposure_s"] for e in client.get(f"{page}/exposures")["exposures"]]
        assert lengths.count(30.0) == 3
        client.post(f"{page}/undo")
        client.post(f"{page}/undo")
        again = client.get(f"{page}/exposures")["exposures"]
        assert [e["id"] for e in again] == [e["id"] for e in whole]


class TestFolders:
    def test_only_allowed_ones_are_listed_at_the_top(
        self, running: Running, client: Client
    ) -> None:
        top = client.get("folders")
        assert str(running.nights) in [f["path"] for f in top["folders"]]
        assert top["parent"] is None

    def test_a_folder_tells_what_is_below_it(
        self, running: Running, client: Client, folder: Path
    ) -> None:
        inside = client.get(f"folders?path={folder}")
        assert inside["has_plan"]
        assert [(f["name"], f["files"]) for f in inside["folders"]] == [("raw", 8)]
        assert inside["parent"] == str(running.nights)

    def test_a_file_is_no_folder(self, client: Client, folder: Path) -> None:
        answer = client.ask("GET", f"folders?path={folder / 'plan.toml'}")
        assert answer.status_code == 422
        assert "name the folder that it is in" in answer.json()["detail"]
