"""Masters of all nights, and what is said of flats and of an exposure."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits

from narrow_beacon.jobs.runner import KINDS
from narrow_beacon.server.stages import STAGE_OF_JOB
from narrow_beacon.simulate.plain import write_plain_night
from running import Client, Running


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return Client(running)


@pytest.fixture(scope="module")
def two(client: Client, running: Running) -> tuple[int, int]:
    """A campaign with all of its masters, and one of the same camera without darks and bias."""
    numbers = []
    for evening, name in enumerate(("with all", "with flats alone")):
        folder = running.nights / name
        write_plain_night(
            folder, 7, exposures=3, shape=(320, 320), density=12000.0, calibration=5,
            evening=evening, field_px=320, camera_seed=41,
        )  # fmt: skip
        if evening:
            for path in (folder / "raw" / "calibration").glob("[bd]*.fits"):
                path.unlink()
        made = client.post("campaigns", {"name": name, "folders": [str(folder)]})
        client.wait(made["id"])
        client.post(f"campaigns/{made['id']}/jobs", {"kind": "census"})
        client.wait(made["id"])
        numbers.append(made["id"])
    return numbers[0], numbers[1]


def test_the_shelf_holds_the_masters_of_all_campaigns(client: Client, two: tuple[int, int]) -> None:
    masters = [m for m in client.get("shelf")["masters"] if m["campaign"].startswith("with ")]
    assert sorted(m["kind"] for m in masters) == ["bias", "dark", "flat", "flat"]
    dark = next(m for m in masters if m["kind"] == "dark")
    assert (dark["count"], dark["exposure_s"], dark["used"]) == (5, 60.0, True)
    # Five frames of 7.1 e⁻ and 4 e⁻ of dark at 1.3 e⁻ an ADU, the dark's own pattern of half of
    # that, and columns that differ by 1.5 ADU.
    own = ((7.1**2 + 4.0) / 5 + 2.0**2) ** 0.5 / 1.3
    assert dark["noise_adu"] == pytest.approx((own**2 + 1.5**2) ** 0.5, rel=0.15)
    answer = client.ask("GET", f"shelf/{dark['id']}/file")
    with fits.open(io.BytesIO(answer.content)) as hdus:
        assert hdus[0].header["NBMASTER"] == "dark"


def test_a_campaign_takes_lasting_masters_from_the_shelf_where_it_is_told_to(
    client: Client, two: tuple[int, int]
) -> None:
    _, bare = two

    def stations() -> list[str]:
        (chain,) = client.get(f"campaigns/{bare}/correct")["chains"]
        return [s["words"] for s in chain["stations"]]

    assert not any("dark off" in words for words in stations())
    client.ask("PATCH", f"campaigns/{bare}", {"shelf": True}).raise_for_status()
    client.wait(bare)
    assert "dark off: 5 darks of 60 s at −10 °C, 1 day apart" in stations()
    dark = next(
        m for m in client.get("shelf")["masters"]
        if m["kind"] == "dark" and m["campaign"] == "with all"
    )  # fmt: skip
    client.ask("PATCH", f"shelf/{dark['id']}", {"retired": True}).raise_for_status()
    client.post(f"campaigns/{bare}/jobs", {"kind": "masters"})
    client.wait(bare)
    assert not any("dark off" in words for words in stations())
    client.ask("PATCH", f"shelf/{dark['id']}", {"retired": False}).raise_for_status()
    client.post(f"campaigns/{bare}/undo")
    client.wait(bare)
    assert not client.get(f"campaigns/{bare}")["shelf"]


def test_flats_are_held_against_one_another_and_an_exposure_before_and_after(
    client: Client, two: tuple[int, int]
) -> None:
    masters = [client.get(f"campaigns/{number}/correct")["masters"] for number in two]
    first, second = (next(m["id"] for m in own if m["kind"] == "flat") for own in masters)
    verdict = client.get(f"masters/{first}/over/{second}")
    assert verdict["words"] == []
    # One flat was made without its bias: the same light, a little other noise.
    assert verdict["scatter"] == pytest.approx(verdict["expected"], rel=0.25)
    info = client.get(f"images/masters/{first}?off=over{second}")
    assert info["sky"] == pytest.approx(1.0, abs=0.01)
    assert info["high"] - info["sky"] == pytest.approx(info["sky"] - info["low"], rel=1e-6)
    file = client.get(f"campaigns/{two[0]}/exposures")["exposures"][0]["id"]
    told = {f["name"]: f for f in client.get(f"files/{file}/figures")["figures"]}
    assert told["hot pixels"]["corrected"] < 0.2 * told["hot pixels"]["raw"]
    # A hundred patches of sky, each to some 0.5%.
    assert abs(told["corners over middle"]["corrected"]) < 2.0


def test_what_can_still_be_taken_is_said_with_what_it_costs(
    client: Client, two: tuple[int, int]
) -> None:
    missing = " ".join(client.get(f"campaigns/{two[1]}/intake")["missing"])
    assert "Still to take: 15 darks of 60 s at −10 °C, 15 min with the cover on" in missing
    thin = " ".join(client.get(f"campaigns/{two[0]}/intake")["missing"])
    assert "5 frames make dark 60 s" in thin
    assert "faint stars are 10% noisier, 3% with 10 more" in thin


def test_other_masters_are_not_found(client: Client) -> None:
    for method, path in (
        ("GET", "shelf/999999/file"), ("PATCH", "shelf/999999"), ("GET", "masters/1/over/999999")
    ):  # fmt: skip
        body = {"retired": True} if method == "PATCH" else None
        assert client.ask(method, path, body).status_code == 404


def test_defects_are_tried_out_kept_for_the_camera_and_taken_back(
    client: Client, running: Running, two: tuple[int, int]
) -> None:
    page, other = (f"campaigns/{number}" for number in two)
    file = client.get(f"{page}/exposures")["exposures"][0]["id"]

    def repaired(page: str = page) -> int:
        (chain,) = client.get(f"{page}/correct")["chains"]
        return int(chain["defects"])

    seen = client.get(f"{page}/defects/{file}")
    assert (seen["threshold"], seen["marks"], seen["own"]) == (80.0, [], False)
    assert seen["deviation"] == sorted(seen["deviation"], reverse=True)
    before, hot = repaired(), sum(z > 20 for z in seen["deviation"])
    touched = sum(z > 20 for z in seen["stars"])
    assert 0 < touched < len(seen["stars"])
    kept = {"file": file, "threshold": 20, "marks": [[7, 1, 1, 320]]}
    client.ask("PUT", f"{page}/defects", kept).raise_for_status()
    client.wait(two[0])
    assert repaired() > before
    assert hot + 300 < repaired() < hot + 340 + before
    assert client.get(f"{page}/defects/{file}")["marks"] == [[7, 1, 1, 320]]
    # A campaign whose chains are made keeps its own; a new one of the camera begins with this.
    folder = running.nights / "with flats alone"
    new = client.post("campaigns", {"name": "later", "folders": [str(folder)]})["id"]
    client.wait(new)
    # Without darks they are seen on exposures, and the usual threshold is that of those.
    for one, threshold in ((other, 10.0), (f"campaigns/{new}", 20.0)):
        beside = client.get(f"{one}/exposures")["exposures"][0]["id"]
        theirs = client.get(f"{one}/defects/{beside}")
        assert (theirs["threshold"], theirs["own"]) == (threshold, False)
    client.ask("DELETE", f"campaigns/{new}").raise_for_status()
    client.post(f"{page}/undo")
    client.wait(two[0])
    assert repaired() == before
    for wrong in ({"threshold": 1, "marks": []}, {"threshold": 9, "marks": [[0, 1, 1, 1]]}):
        answer = client.ask("PUT", f"{page}/defects", {"file": file, **wrong})
        assert answer.status_code == 422
    # What was said and taken back is no version, and nothing that a new campaign begins with.
    assert client.get(f"{page}/defects/{file}")["versions"] == []


def test_what_a_repair_takes_away_is_seen_before_it_is_kept(
    client: Client, two: tuple[int, int]
) -> None:
    page = f"campaigns/{two[0]}"
    file = client.get(f"{page}/exposures")["exposures"][0]["id"]
    shares = []
    for threshold in (400, 40, 6):
        path = f"images/files/{file}/0/0/0?off=residual{threshold}"
        words = np.frombuffer(client.ask("GET", path).content, "<u2")
        zero = np.bincount(words).argmax()  # all that is not repaired
        shares.append(np.mean(words != zero))
        hot = sum(z > threshold for z in client.get(f"{page}/defects/{file}")["deviation"])
        if threshold > 6:
            # Hot pixels, and the few that the flat calls dead.
            assert shares[-1] * words.size == pytest.approx(hot, abs=0.05 * hot + 30)
    assert shares == sorted(shares)


def test_a_defect_map_is_saved_and_taken_over(
    client: Client, running: Running, two: tuple[int, int]
) -> None:
    page = f"campaigns/{two[0]}"
    file = client.get(f"{page}/exposures")["exposures"][0]["id"]
    path = running.nights / "map.csv"
    path.write_text("x,y,width,height\n12,1,1,320\n")
    client.post(f"{page}/defects/map", {"file": file, "path": str(path)})
    client.wait(two[0])
    seen = client.get(f"{page}/defects/{file}")
    assert seen["marks"] == [[12, 1, 1, 320]]
    assert [v["marks"] for v in seen["versions"]] == [[[12, 1, 1, 320]]]
    saved = client.ask("GET", f"{page}/defects/{file}/map?form=csv").text
    assert saved == path.read_text()
    answer = client.ask("GET", f"{page}/defects/{file}/map?form=fits")
    with fits.open(io.BytesIO(answer.content)) as hdus:
        assert hdus[0].data.shape == (320, 320)
        assert hdus[0].data[:, 11].all()
        (chain,) = client.get(f"{page}/correct")["chains"]
        assert hdus[0].data.sum() == chain["defects"]
    (running.nights / "none.csv").write_text("no,marks\n")
    refused = client.ask(
        "POST", f"{page}/defects/map", {"file": file, "path": str(running.nights / "none.csv")}
    )
    assert refused.status_code == 422
    assert "its first line must be" in refused.json()["detail"]
    client.post(f"{page}/undo")
    client.wait(two[0])


def test_a_kits_rules_are_the_observatorys(
    client: Client, running: Running, two: tuple[int, int]
) -> None:
    page = f"campaigns/{two[0]}"
    (kit,) = client.get(f"{page}/kits")["kits"]
    assert kit["exposures"] == 3
    assert kit["rules"]["lasts_days"] == 60
    assert "e⁻/ADU" in kit["constants"]["gain_e_per_adu"]
    said = {**kit["said"], "combine": "mean", "gain_e_per_adu": 1.25}
    client.ask("PUT", f"{page}/kits", {"name": kit["name"], "said": said}).raise_for_status()
    client.wait(two[0])
    masters = client.get(f"{page}/correct")["masters"]
    assert all(m["combined"].startswith("mean, all frames weigh alike") for m in masters)
    assert "kit" in client.get(f"campaigns/{two[0]}")["next"]["words"]
    # A campaign whose chains are made keeps its own; a new one of the kit begins with these.
    (beside,) = client.get(f"campaigns/{two[1]}/kits")["kits"]
    assert beside["rules"]["combine"] == "clipped"
    folder = running.nights / "with flats alone"
    new = client.post("campaigns", {"name": "of the kit", "folders": [str(folder)]})["id"]
    client.wait(new)
    (later,) = client.get(f"campaigns/{new}/kits")["kits"]
    assert (later["said"]["gain_e_per_adu"], later["rules"]["combine"]) == (1.25, "mean")
    client.ask("DELETE", f"campaigns/{new}").raise_for_status()
    transfer = client.get(f"{page}/kits/transfer?name={kit['name']}")
    assert transfer["gain_e_per_adu"] == pytest.approx(1.3, rel=0.05)
    assert "pairs of flats" in transfer["words"] or "1 pair" in transfer["words"]
    wrong = {"name": "Nobody's camera", "said": said}
    assert client.ask("PUT", f"{page}/kits", wrong).status_code == 404
    client.post(f"{page}/undo")
    client.wait(two[0])
    assert client.get(f"{page}/kits")["kits"][0]["rules"]["combine"] == "clipped"


def test_a_single_frame_is_held_against_its_master_and_set_aside(
    client: Client, two: tuple[int, int]
) -> None:
    page = f"campaigns/{two[0]}"

    def flat() -> dict:  # type: ignore[type-arg]
        masters = client.get(f"{page}/correct")["masters"]
        return next(m for m in masters if m["kind"] == "flat")

    before = flat()
    assert len(before["frames"]) == before["count"] == 5
    frame = before["frames"][0]["id"]
    verdict = client.get(f"files/{frame}/over/{before['id']}")
    assert verdict["words"] == []
    # Of five: the frame is a fifth of the master, so that a little of its noise is not left.
    assert verdict["scatter"] / verdict["expected"] == pytest.approx((0.8 / 1.2) ** 0.5, rel=0.1)
    info = client.get(f"images/files/{frame}?off=over{before['id']}")
    assert info["sky"] == pytest.approx(1.0, abs=0.01)
    preview = client.post(f"{page}/corrections/preview", {"ids": [frame], "aside": "a trail"})
    assert preview["files"][0]["changes"][-1] == "left out nothing → set aside: a trail"
    client.post(f"{page}/corrections", {"ids": [frame], "aside": "a trail"})
    client.post(f"{page}/jobs", {"kind": "masters"})
    client.wait(two[0])
    assert flat()["count"] == 4
    client.post(f"{page}/undo")
    client.post(f"{page}/jobs", {"kind": "masters"})
    client.wait(two[0])
    assert flat()["count"] == 5


def test_the_page_knows_at_which_stage_every_job_works() -> None:
    assert set(STAGE_OF_JOB) == set(KINDS)


def test_corrected_exposures_are_written_from_the_page(
    client: Client, two: tuple[int, int]
) -> None:
    page = f"campaigns/{two[0]}"
    client.post(f"{page}/jobs", {"kind": "export", "pedestal_adu": 100})
    job = client.wait(two[0])
    assert (job["state"], job["failures"]) == ("done", [])
    count, _, folder = job["words"].partition(" corrected exposures below ")
    assert count == "3"
    written = sorted(Path(folder).rglob("*-corrected.fits"))
    assert len(written) == 3
    with fits.open(written[0]) as hdus:
        header = hdus[0].header
        assert (header["BITPIX"], header["PEDESTAL"], header["CTYPE1"][:8]) == (
            -32,
            100.0,
            "RA---TAN",
        )


def test_combined_exposures_are_a_campaign_of_their_own(
    client: Client, two: tuple[int, int]
) -> None:
    page = f"campaigns/{two[0]}"
    refused = client.ask("POST", f"{page}/jobs", {"kind": "combine"})
    assert refused.status_code == 422
    exposures = client.get(f"{page}/exposures")["exposures"]
    client.post(f"{page}/aside", {"ids": [exposures[0]["id"]], "aside": True})
    # Of the last two alone the first is not even missed.
    ids = [e["id"] for e in exposures[1:]]
    client.post(f"{page}/jobs", {"kind": "combine", "every": 2, "ids": ids})
    alone = client.wait(two[0])
    assert (alone["state"], alone["failures"]) == ("done", [])
    extra = alone["words"].removeprefix("1 combined exposure make the campaign ")
    own = next(c["id"] for c in client.get("state")["campaigns"] if c["name"] == extra)
    client.wait(own)
    client.ask("DELETE", f"campaigns/{own}").raise_for_status()
    client.post(f"{page}/jobs", {"kind": "combine", "every": 2})
    job = client.wait(two[0])
    assert job["state"] == "done"
    assert job["failures"] == [f"{exposures[0]['name']}: set aside by the observer"]
    name = job["words"].removeprefix("1 combined exposure make the campaign ")
    assert name == "with all, 2 exposures each"
    made = next(c["id"] for c in client.get("state")["campaigns"] if c["name"] == name)
    client.wait(made)
    (deep,) = client.get(f"campaigns/{made}/exposures")["exposures"]
    assert (deep["exposure_s"], deep["trouble"]) == (120.0, "")
    single, other = client.get(f"{page}/curve"), client.get(f"campaigns/{made}/curve")
    points = [
        next(s["magnitude"] for s in c["filters"][0]["series"] if s["role"] == "target")
        for c in (single, other)
    ]
    assert len(points[1]) == 1
    # The mean of the two, to what their own noise and the choice of comparison stars leave.
    assert points[1][0] == pytest.approx(np.mean(points[0][-2:]), abs=0.02)
    client.ask("DELETE", f"campaigns/{made}").raise_for_status()
    client.post(f"{page}/undo")


def test_masters_come_onto_the_shelf_and_stay_there(
    client: Client, running: Running, two: tuple[int, int]
) -> None:
    dark = next(
        m for m in client.get("shelf")["masters"]
        if m["kind"] == "dark" and m["campaign"] == "with all"
    )  # fmt: skip
    content = client.ask("GET", f"shelf/{dark['id']}/file").content
    with fits.open(io.BytesIO(content)) as hdus:
        plane, header = hdus[0].data, hdus[0].header
        del header["NBMASTER"]
        header["IMAGETYP"], header["NCOMBINE"] = "MASTER DARK", 33
        header["INSTRUME"] = "Kittiwake 800"
        fits.PrimaryHDU(plane, header).writeto(running.nights / "elsewhere.fits")
    taken = client.post("shelf", {"path": str(running.nights / "elsewhere.fits")})
    assert taken["words"] == "Taken over: dark 60 s −10 °C."
    again = client.post("shelf", {"path": str(running.nights / "elsewhere.fits")})
    assert "on the shelf already" in again["words"]
    own = next(m for m in client.get("shelf")["masters"] if m["campaign"] == "elsewhere.fits")
    assert (own["own"], own["count"], own["kind"]) == (True, 33, "dark")
    # Of a single frame the level is a whole number, of a master's plane it is not.
    assert own["level_adu"] == pytest.approx(dark["level_adu"], abs=0.5)
    # Masters outlive their campaign: one that took them goes on.
    bare = two[1]
    client.ask("PATCH", f"campaigns/{bare}", {"shelf": True}).raise_for_status()
    client.wait(bare)
    words = client.ask("DELETE", f"campaigns/{two[0]}").json()["words"]
    assert "Its 3 masters stay on the shelf" in words
    shelf = client.get("shelf")["masters"]
    assert sorted(m["kind"] for m in shelf if m["campaign"] == "with all") == [
        "bias", "dark", "flat"
    ]  # fmt: skip
    client.post(f"campaigns/{bare}/jobs", {"kind": "masters"})
    client.wait(bare)
    (chain,) = client.get(f"campaigns/{bare}/correct")["chains"]
    assert "dark off: 5 darks of 60 s" in " ".join(s["words"] for s in chain["stations"])
