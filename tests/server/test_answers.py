"""Each stage's answers about a reduced night, against what was simulated. Nothing is changed."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import numpy as np
import pytest
from astropy.io import fits
from astropy.table import Table
from astropy.wcs import WCS

from running import Client, Running

Night = tuple[Path, dict[str, Any]]


@pytest.fixture(scope="module")
def client(running: Running) -> Client:
    return running.client()


@pytest.fixture(scope="module")
def exposures(client: Client, campaign: int) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = client.get(f"campaigns/{campaign}/exposures")["exposures"]
    return found


@pytest.fixture(scope="module")
def truths(night: Night) -> dict[str, dict[str, Any]]:
    return {e["file"]: e for e in night[1]["exposures"]}


@pytest.fixture(scope="module")
def curve(client: Client, campaign: int) -> dict[str, Any]:
    found: dict[str, Any] = client.get(f"campaigns/{campaign}/curve")["filters"][0]
    return found


def name(exposure: dict[str, Any]) -> str:
    return Path(exposure["name"]).name


class TestVet:
    def test_star_widths_and_airmass_are_those_of_the_night(
        self, exposures: list[dict[str, Any]], truths: dict[str, dict[str, Any]]
    ) -> None:
        width = np.array([e["fwhm_px"] / truths[name(e)]["fwhm_px"] for e in exposures])
        # Pixels widen a star of 3 px by some 2%.
        assert np.all(np.abs(width - 1.0) < 0.06)
        air = np.array([e["airmass"] - truths[name(e)]["airmass"] for e in exposures])
        assert np.all(np.abs(air) < 0.002)

    def test_drift_is_how_far_the_field_moved(
        self, exposures: list[dict[str, Any]], truths: dict[str, dict[str, Any]]
    ) -> None:
        ra0, dec0 = truths[name(exposures[0])]["center_deg"]
        for e in exposures:
            ra, dec = truths[name(e)]["center_deg"]
            moved = 3600 * np.hypot((ra - ra0) * np.cos(np.radians(dec0)), dec - dec0)
            # Centres are told at the middle of the pixel grid, within 0.1 px = 0.12″.
            assert e["drift_px"] == pytest.approx(moved / 1.16, abs=0.13)
            # The mount keeps its angle: what is left is the fit's.
            assert abs(e["turn_deg"]) < 0.02

    def test_light_comes_through_on_a_clear_night(self, exposures: list[dict[str, Any]]) -> None:
        share = np.array([e["transparency"] for e in exposures])
        assert np.all((share > 0.97) & (share < 1.03))

    def test_the_plane_puts_the_target_on_its_pixel(
        self, exposures: list[dict[str, Any]], truths: dict[str, dict[str, Any]], night: Night
    ) -> None:
        stars = Table.read(night[0] / "field.vot")
        target = stars[[str(n) == "Foxglove 7" for n in stars["name"]]][0]
        for e in exposures[:3]:
            a, b, c, d, f, g = e["plane"]
            # Where the plane is 0, 0: the target, as the simulator's own WCS has it.
            x, y = np.linalg.solve([[a, b], [d, f]], [-c, -g])
            p = truths[name(e)]["pointing"]
            offset_arcsec = 3600 * np.hypot(
                (target["ra"] - p["ra_deg"]) * np.cos(np.radians(p["dec_deg"])),
                target["dec"] - p["dec_deg"],
            )
            from_middle = p["scale_arcsec"] * np.hypot(x - 319.5, y - 239.5)
            assert from_middle == pytest.approx(offset_arcsec, abs=0.3)

    def test_sun_moon_and_target_stand_where_they_stood(
        self, client: Client, campaign: int, exposures: list[dict[str, Any]]
    ) -> None:
        nights = client.get(f"campaigns/{campaign}/sky")["nights"]
        assert len(nights) == 1
        jd = np.array(nights[0]["jd_utc"])
        assert jd[0] < exposures[0]["jd_utc"]
        assert jd[-1] > exposures[-1]["jd_utc"]
        # In September at 61° north the Sun is down at 21 h and sinks to about −28°.
        sun = np.array(nights[0]["sun_deg"])
        assert -30 < sun.min() < -20
        altitude = np.interp([e["jd_utc"] for e in exposures], jd, nights[0]["target_deg"])
        secant = 1 / np.sin(np.radians(altitude))
        # Above 45° airmass is the secant within 0.3%.
        assert [e["airmass"] for e in exposures] == pytest.approx(secant.tolist(), rel=0.003)
        assert 0 <= nights[0]["moon_lit"] <= 1

    def test_columns_say_what_the_rows_say(
        self, client: Client, campaign: int, exposures: list[dict[str, Any]]
    ) -> None:
        told = client.get(f"campaigns/{campaign}/exposures/columns")
        assert told["count"] == len(exposures)
        assert told["columns"]["kit"] == {"all": exposures[0]["kit"]}  # what repeats is told once
        for name in exposures[0].keys() - {"mid_utc"}:
            assert column_of(told, name) == [e[name] for e in exposures], name

    def test_files_and_what_their_headers_say_come_apart(
        self, client: Client, campaign: int
    ) -> None:
        rows = client.get(f"campaigns/{campaign}/intake")
        told = client.get(f"campaigns/{campaign}/intake/columns")
        assert (told["stacks"], told["missing"]) == (rows["stacks"], rows["missing"])
        for name in rows["files"][0]:
            assert column_of(told, name) == [f[name] for f in rows["files"]], name
        stacked = sum(stack["count"] for stack in rows["stacks"])
        assert stacked == sum(f["part"] in ("exposure", "calibration") for f in rows["files"])
        ids = [f["id"] for f in rows["files"] if f["part"] == "exposure"][:2]
        both = client.post(f"campaigns/{campaign}/said", {"ids": ids})["said"]
        assert both["time_utc"] == "several"
        assert both["exposure_s"].endswith("(EXPTIME)")
        one = client.post(f"campaigns/{campaign}/said", {"ids": ids[:1]})["said"]
        begin = next(f["time_utc"] for f in rows["files"] if f["id"] == ids[0])
        assert one["time_utc"][:10] == begin[:10]


def column_of(told: dict[str, Any], name: str) -> list[Any]:
    """A column of a table that came a column at a time, every value of it."""
    column = told["columns"][name]
    if isinstance(column, dict) and "words" in column:
        return [column["words"][at] for at in column["at"]]
    return [column["all"]] * told["count"] if isinstance(column, dict) else column


class TestPlace:
    def test_the_solution_in_words_is_that_of_the_simulator(
        self, client: Client, exposures: list[dict[str, Any]], truths: dict[str, dict[str, Any]]
    ) -> None:
        for e in exposures[::8]:
            found = client.get(f"files/{e['id']}/placement")
            pointing = truths[name(e)]["pointing"]
            assert found["scale_arcsec_per_px"] == pytest.approx(pointing["scale_arcsec"], rel=2e-4)
            assert found["rotation_deg"] == pytest.approx(pointing["rotation_deg"], abs=0.02)
            assert found["mirrored"] is pointing["mirrored"]
            side = "mirrored" if pointing["mirrored"] else "not mirrored"
            assert f", {side}, {found['matched']} of {found['compared']} stars" in found["words"]
            assert found["false_log10"] < -9
            assert found["residual_px"] < 0.3

    def test_the_keywords_are_a_wcs_that_others_can_read(
        self, client: Client, exposures: list[dict[str, Any]]
    ) -> None:
        found = client.get(f"files/{exposures[0]['id']}/placement")
        wcs = WCS(fits.Header(found["wcs"]))
        ra, dec = wcs.all_pix2world(319.5, 239.5, 0)
        assert (float(ra), float(dec)) == pytest.approx((found["ra_deg"], found["dec_deg"]))

    def test_the_catalogue_lies_about_the_target(
        self, client: Client, campaign: int, night: Night
    ) -> None:
        stars = client.get(f"campaigns/{campaign}/stars")
        table = Table.read(night[0] / "field.vot")
        assert len(stars["row"]) == len(table)
        at = stars["name"].index("Foxglove 7")
        # The middle of the plane is the target's place of 2000; proper motion since is small here.
        assert np.hypot(stars["east_arcsec"][at], stars["north_arcsec"][at]) < 0.3
        assert stars["known_variable"][at]
        north = 3600 * (np.array(stars["dec_deg"]) - stars["dec_deg"][at])
        # Over a quarter of a degree a plane and the sphere part by a few seconds of arc.
        assert np.array(stars["north_arcsec"]) == pytest.approx(north, abs=6.0)

    def test_measured_stars_sit_on_their_predicted_places(
        self, client: Client, exposures: list[dict[str, Any]]
    ) -> None:
        found = client.get(f"files/{exposures[5]['id']}/stars")
        snr = np.array(found["snr"], float)
        bright = snr > 100
        assert bright.sum() > 10
        away = np.hypot(
            np.subtract(found["x_px"], found["predicted_x_px"]),
            np.subtract(found["y_px"], found["predicted_y_px"]),
        )
        assert np.median(away[bright]) < 0.1
        inner, outer = found["annulus_px"]
        assert found["radius_px"] < inner < outer

    def test_a_calibration_frame_has_no_stars(self, client: Client, campaign: int) -> None:
        files = client.get(f"campaigns/{campaign}/intake")["files"]
        bias = next(f for f in files if f["kind"] == "bias")
        assert client.get(f"files/{bias['id']}/stars")["row"] == []
        assert "Not placed yet" in client.get(f"files/{bias['id']}/placement")["words"]


class TestCorrect:
    def test_every_exposure_has_its_chain_with_reasons(self, client: Client, campaign: int) -> None:
        page = client.get(f"campaigns/{campaign}/correct")
        assert [chain["exposures"] for chain in page["chains"]] == [23]
        stations = page["chains"][0]["stations"]
        assert [s["kind"] for s in stations] == ["offset", "flat", "repair"]
        assert "10 darks of 60 s at −10 °C, same night" in stations[0]["words"]
        assert "10 flats in V, same night" in stations[1]["words"]
        used = {m["kind"]: m["used"] for m in page["masters"]}
        # A dark of the same length has the bias in it.
        assert used == {"bias": False, "dark": True, "flat": True}

    def test_masters_say_what_they_are_made_of(self, client: Client, campaign: int) -> None:
        for master in client.get(f"campaigns/{campaign}/correct")["masters"]:
            assert master["count"] == 10
            # Ten frames, clipped at a robust scatter that is itself known to a quarter.
            assert master["clipped_share"] < 0.03
            assert bool(master["made_with"]) is (master["kind"] == "flat")

    def options(
        self, client: Client, page: str, chain: dict[str, Any], step: str
    ) -> list[dict[str, Any]]:
        told = client.get(f"{page}/correct/options?{urlencode({'chain': chain['name']})}")
        assert set(told["more"].values()) == {0}
        return [option for option in told["options"] if option["step"] == step]

    def test_another_master_is_picked_taken_back_and_done_without(
        self, client: Client, campaign: int
    ) -> None:
        page = f"campaigns/{campaign}"

        def picked(key: str) -> dict[str, Any]:
            body = {"chain": chain["name"], "step": "dark", "key": key}
            assert client.ask("POST", f"{page}/masters/pick", body).ok
            return now()

        def now() -> dict[str, Any]:
            client.wait(campaign)
            (chain,) = client.get(f"{page}/correct")["chains"]
            return chain

        chain = now()
        version = client.get(f"{page}/exposures")["exposures"][0]["version"]
        (dark,) = [
            o
            for o in self.options(client, page, chain, "dark")
            if o["label"].startswith("dark 60 s")
        ]
        assert (dark["words"], dark["picked"]) == ("10 darks of 60 s at −10 °C, same night", False)
        assert "picked by the observer" in picked(dark["key"])["stations"][0]["words"]
        assert self.stage(client, campaign, "measure")["state"] == "done"
        without = picked("none")
        assert without["left_out"] == ["dark"]
        assert without["stations"][0]["words"].startswith("bias off")
        assert "masters changed since" in self.stage(client, campaign, "measure")["words"]
        # Its pixels are others, and the page is to ask for them.
        assert client.get(f"{page}/exposures")["exposures"][0]["version"] != version
        for _ in range(2):
            client.post(f"{page}/undo")
        assert now()["stations"] == chain["stations"]
        client.post(f"{page}/jobs", {"kind": "census"})
        now()
        assert self.stage(client, campaign, "measure")["state"] == "done"
        for body in (
            {"chain": chain["name"], "step": "lean", "key": "none"},
            {"chain": "?", "step": "dark", "key": ""},
            {"chain": chain["name"], "step": "dark", "key": "cake"},
        ):
            assert client.ask("POST", f"{page}/masters/pick", body).status_code in (404, 422)

    def test_a_flat_is_straightened_and_as_it_was(self, client: Client, campaign: int) -> None:
        page = f"campaigns/{campaign}"

        def chain() -> dict[str, Any]:
            client.wait(campaign)
            (found,) = client.get(f"{page}/correct")["chains"]
            return found

        before = chain()
        assert not self.options(client, page, before, "lean")
        body = {"chain": before["name"], "step": "lean", "key": "30, -10"}
        assert client.ask("POST", f"{page}/masters/pick", body).ok
        straight = chain()
        (option,) = self.options(client, page, straight, "lean")
        assert (option["key"], option["picked"]) == ("30.0, -10.0", True)
        words = "straightened by +30.0 mmag from left to right, −10.0 from bottom to top"
        assert any(words in station["words"] for station in straight["stations"])
        client.post(f"{page}/undo")
        assert chain() == before
        client.post(f"{page}/jobs", {"kind": "census"})
        chain()

    def test_other_calibration_frames_make_masters_and_census_old(
        self, client: Client, campaign: int
    ) -> None:
        page = f"campaigns/{campaign}"
        stacks = client.get(f"{page}/intake")["stacks"]
        darks = next(s["ids"] for s in stacks if s["kind"] == "dark")
        client.post(f"{page}/corrections", {"ids": darks[:3], "exposure_s": "5"})
        assert "build the masters again" in self.stage(client, campaign, "correct")["words"]
        assert "files changed since" in self.stage(client, campaign, "measure")["words"]
        step = client.get(page)["next"]
        assert step["words"].startswith("Measure again: files changed since the census")
        assert step["job"] == "census"
        # A census builds them first.
        client.post(f"{page}/jobs", {"kind": "census"})
        assert client.wait(campaign)["state"] == "done"
        assert self.stage(client, campaign, "correct")["state"] in ("done", "look")
        (chain,) = client.get(f"{page}/correct")["chains"]
        assert "7 darks of 60 s" in chain["stations"][0]["words"]
        client.post(f"{page}/undo")
        client.post(f"{page}/jobs", {"kind": "census"})
        assert client.wait(campaign)["state"] == "done"

    def stage(self, client: Client, campaign: int, key: str) -> dict[str, Any]:
        stages = client.get(f"campaigns/{campaign}")["stages"]
        return next(stage for stage in stages if stage["key"] == key)


class TestImages:
    @pytest.fixture
    def pixels(self, client: Client) -> Any:
        def read(path: str, off: str = "") -> np.ndarray:
            info = client.get(f"images/{path}?off={off}")
            tile = client.ask("GET", f"images/{path}/0/0/0?off={off}")
            words = np.frombuffer(tile.content, "<u2").reshape(info["height"], info["width"])
            return info["offset"] + (words.astype(float) - 1) * info["scale"]

        return read

    def test_stations_off_leave_the_others_on(
        self, client: Client, campaign: int, exposures: list[dict[str, Any]], pixels: Any
    ) -> None:
        path = f"files/{exposures[3]['id']}"
        masters = {
            m["kind"]: m["id"] for m in client.get(f"campaigns/{campaign}/correct")["masters"]
        }
        flat = pixels(f"masters/{masters['flat']}")
        without = pixels(path, "flat,repair")
        with_flat = pixels(path, "repair")
        middle = (slice(100, 380), slice(100, 540))
        # 16-bit words round to a small part of the noise, 10 ADU here.
        np.testing.assert_allclose(with_flat[middle], (without / flat)[middle], atol=1.0)
        raw, dark = pixels(path, "offset,flat,repair"), pixels(f"masters/{masters['dark']}")
        np.testing.assert_allclose(without[middle], (raw - dark)[middle], atol=1.0)

    def test_the_browser_keeps_the_pixels_of_a_version_and_no_others(
        self, client: Client, campaign: int, exposures: list[dict[str, Any]]
    ) -> None:
        master = client.get(f"campaigns/{campaign}/correct")["masters"][0]
        for kind, shown in (("files", exposures[0]), ("masters", master)):
            tile = f"images/{kind}/{shown['id']}/0/0/0?version="
            kept = client.ask("GET", tile + shown["version"]).headers["Cache-Control"]
            assert "immutable" in kept
            assert client.ask("GET", f"{tile}old").headers["Cache-Control"] == "no-store"
        assert len({e["version"] for e in exposures}) == len(exposures)

    def test_sky_and_noise_are_told_with_the_image(
        self, client: Client, exposures: list[dict[str, Any]], pixels: Any
    ) -> None:
        info = client.get(f"images/files/{exposures[3]['id']}")
        values = pixels(f"files/{exposures[3]['id']}")
        assert info["sky"] == pytest.approx(np.median(values), abs=0.5)
        assert sum(info["histogram"]) > 0
        assert info["low"] < info["sky"] < info["high"]

    @pytest.mark.parametrize(
        ("path", "words"),
        [
            ("files/{id}/9/0/0", "No such level"),
            ("files/{id}/0/3/0", "No such tile"),
            ("files/999999", "No such exposure"),
            ("masters/999999", "No such master"),
            ("cakes/1", "No such kind"),
        ],
    )
    def test_what_is_not_there_is_refused(
        self, client: Client, exposures: list[dict[str, Any]], path: str, words: str
    ) -> None:
        answer = client.ask("GET", "images/" + path.format(id=exposures[0]["id"]))
        assert answer.status_code == 404
        assert words in answer.json()["title"]

    def test_a_text_file_is_no_image(self, client: Client, campaign: int) -> None:
        files = client.get(f"campaigns/{campaign}/intake")["files"]
        notes = next(f for f in files if f["name"].endswith("notes.txt"))
        answer = client.ask("GET", f"images/files/{notes['id']}")
        assert answer.status_code == 409
        assert "not a FITS file" in answer.json()["detail"]


class TestCast:
    def test_candidates_are_like_the_target_and_say_why(
        self, client: Client, campaign: int
    ) -> None:
        found = client.get(f"campaigns/{campaign}/candidates?filter=V")
        cast = client.get(f"campaigns/{campaign}")["cast"]
        rows = [c["row"] for c in found["candidates"]]
        # Those in force come first, then the ranked ones; the target is never among them.
        assert rows[: len(cast["comparison"])] == cast["comparison"]
        assert rows[len(cast["comparison"])] == cast["checks"][0]
        assert cast["target"] not in rows
        assert len(set(rows)) == len(rows)
        assert all(c["words"] for c in found["candidates"])

    def test_all_comparison_stars_in_force_are_told_however_many(
        self, client: Client, campaign: int
    ) -> None:
        page = f"campaigns/{campaign}"
        cast = client.get(page)["cast"]
        known = [s["row"] for s in client.get(f"{page}/field")["stars"] if s["magnitude"]]
        taken = {cast["target"], *cast["checks"]}
        many = [row for row in [*cast["comparison"], *known] if row not in taken]
        many = list(dict.fromkeys(many))[:30]
        assert len(many) == 30  # more than are listed of those that could be
        client.post(
            f"{page}/cast", {"target": cast["target"], "checks": cast["checks"], "comparison": many}
        )
        told = [c["row"] for c in client.get(f"{page}/candidates")["candidates"]]
        client.post(f"{page}/undo", {})
        assert told[:30] == many
        assert client.get(page)["cast"]["comparison"] == cast["comparison"]

    def test_the_line_up_lies_on_its_line(self, client: Client, campaign: int) -> None:
        for c in client.get(f"campaigns/{campaign}/candidates")["candidates"]:
            assert c["measured"] == pytest.approx(c["magnitude"] + c["off_line"])
            # The catalogue knows these stars to 3 mmag, faint others to some 30.
            assert abs(c["off_line"]) < 0.1
            assert not c["varies"]
            assert c["scatter_mag"] < 2.5 * c["expected_mag"]

    def test_a_star_that_the_catalogue_lacks_gets_no_part(
        self, client: Client, campaign: int
    ) -> None:
        body = {"target": 999_999, "comparison": [], "checks": []}
        answer = client.ask("POST", f"campaigns/{campaign}/cast", body)
        assert answer.status_code == 422
        assert "No such star" in answer.json()["title"]


class TestMeasure:
    def test_radii_tell_where_the_night_is_best(self, client: Client, campaign: int) -> None:
        radii = client.get(f"campaigns/{campaign}/radii?filter=V")
        snr = np.array(radii["target_snr"])
        assert radii["best"] == radii["step"]
        assert snr[radii["best"]] > 0.93 * snr.max()
        assert np.all(np.diff(radii["radii_px"]) > 0)
        assert len(radii["scatter_mag"]) == len(radii["radii_px"])
        # There is one night, whose star width makes them.
        (night,) = radii["nights"]
        assert night["radii_px"] == radii["radii_px"]
        (curve,) = client.get(f"campaigns/{campaign}/curve")["filters"]
        assert curve["radius_px"] == [radii["radii_px"][curve["step"]]]

    def test_growth_of_light_ends(
        self, client: Client, campaign: int, curve: dict[str, Any]
    ) -> None:
        row = client.get(f"campaigns/{campaign}")["cast"]["checks"][0]
        star = client.get(f"campaigns/{campaign}/star?row={row}&file={curve['file_ids'][0]}")
        counts = np.array(star["counts_adu"])
        assert np.all(np.diff(counts[:8]) > 0)
        # All light lies inside of three star widths, to the noise of the sky in the last ring.
        assert counts[-1] == pytest.approx(counts[-2], rel=0.03)

    @pytest.mark.parametrize(
        ("query", "words"),
        [("row=0&file={bias}", "was not measured yet"), ("row={far}&file={good}", "lies outside")],
    )
    def test_what_cannot_be_told_says_why(
        self, client: Client, campaign: int, curve: dict[str, Any], query: str, words: str
    ) -> None:
        files = client.get(f"campaigns/{campaign}/intake")["files"]
        stars = client.get(f"campaigns/{campaign}/stars")
        reach = np.hypot(stars["east_arcsec"], stars["north_arcsec"])
        ids = {
            "bias": next(f["id"] for f in files if f["kind"] == "bias"),
            "far": stars["row"][int(np.argmax(reach))],
            "good": curve["file_ids"][0],
        }
        answer = client.ask("GET", f"campaigns/{campaign}/star?{query.format(**ids)}")
        assert answer.status_code == 409
        assert words in answer.json()["detail"]

    def test_a_radius_that_there_is_not_is_refused(self, client: Client, campaign: int) -> None:
        answer = client.ask("POST", f"campaigns/{campaign}/recipe", {"steps": {"V": 99}})
        assert answer.status_code == 422
        assert "Steps go from 0" in answer.json()["detail"]


class TestCurve:
    def test_magnitudes_are_instrumental_ones_and_zero_points(self, curve: dict[str, Any]) -> None:
        for role in ("target", "check"):
            series = next(s for s in curve["series"] if s["role"] == role)
            total = np.add(series["instrumental"], curve["zero_point"])
            np.testing.assert_allclose(series["magnitude"], total, atol=2e-5)

    def test_comparison_stars_carry_their_weight(self, curve: dict[str, Any]) -> None:
        weights = [s["weight"] for s in curve["series"] if s["role"] == "comparison"]
        assert sum(weights) == pytest.approx(1.0)
        assert all(s["weight"] is None for s in curve["series"] if s["role"] != "comparison")

    def test_the_check_star_is_as_steady_as_its_uncertainty(self, curve: dict[str, Any]) -> None:
        # 23 points: the scatter's own uncertainty is 15%; three of those.
        assert 0.55 < curve["scatter_check_mag"] / curve["expected_check_mag"] < 1.45

    def test_times_are_barycentric_within_the_light_time(self, curve: dict[str, Any]) -> None:
        away_s = 86400 * np.subtract(curve["bjd_tdb"], curve["jd_utc"])
        # TDB is 69.2 s ahead of UTC; light takes up to 500 s from here to the Sun's distance.
        assert np.all(np.abs(away_s - 69.2) < 510)
        assert np.ptp(away_s) < 5


class TestOrigin:
    def facts(self, client: Client, number: int) -> dict[tuple[str, str], str]:
        blocks = client.get(f"files/{number}/origin")["blocks"]
        return {(b["title"], f["name"]): f["words"] for b in blocks for f in b["facts"]}

    def test_a_point_leads_to_all_that_made_it(
        self,
        client: Client,
        night: tuple[Path, dict[str, Any]],
        exposures: list[dict[str, Any]],
        curve: dict[str, Any],
    ) -> None:
        at = 3
        number = curve["file_ids"][at]
        told = self.facts(client, number)
        target, check = (s for s in curve["series"] if s["role"] in ("target", "check"))
        words = f"{target['magnitude'][at]:.4f} ± {target['uncertainty'][at]:.4f} in V"
        assert told["on the curve", "magnitude"] == words
        assert told["on the curve", "check star"].startswith(check["name"])
        for star in curve["series"]:
            if star["role"] == "comparison":
                assert star["name"] in told["on the curve", "comparison stars"]
        assert float(told["on the curve", "BJD, TDB"]) == pytest.approx(
            curve["bjd_tdb"][at], abs=1e-6
        )
        assert told["corrected", "dark off"].endswith("10 darks of 60 s at −10 °C, same night")
        name = next(e["name"] for e in exposures if e["id"] == number)
        raw = (night[0] / name).read_bytes()
        assert told["raw file", "SHA-256"] == hashlib.sha256(raw).hexdigest()
        catalogue = (night[0] / "field.vot").read_bytes()
        assert told["placed", "its SHA-256"] == hashlib.sha256(catalogue).hexdigest()
        assert told["measured", "constants"].startswith("gain 1.3")
        assert told["placed", "chance of a false one"].startswith("1 in 10")
        radius = float(told["measured", "aperture radius"].split()[0])
        assert radius == pytest.approx(curve["radius_px"][0], abs=0.001)

    def test_a_frame_without_a_point_says_why(self, client: Client, campaign: int) -> None:
        files = client.get(f"campaigns/{campaign}/intake")["files"]
        bias = next(f["id"] for f in files if f["kind"] == "bias")
        told = self.facts(client, bias)
        assert told["placed", "not placed"] == "not yet"
        assert ("on the curve", "not on the curve") in told


class TestReport:
    def test_the_figure_can_be_had_without_an_export(self, client: Client, campaign: int) -> None:
        answer = client.ask("GET", f"campaigns/{campaign}/curve.svg")
        assert answer.headers["Content-Type"].startswith("image/svg+xml")
        assert b"<svg" in answer.content
        assert b"Foxglove" in answer.content or b"<path" in answer.content

    def test_checks_tell_what_was_looked_at(self, client: Client, campaign: int) -> None:
        page = client.get(f"campaigns/{campaign}/report")
        words = " ".join(check["words"] for check in page["checks"])
        assert {check["state"] for check in page["checks"]} <= {"good", "look"}
        for said in ("23 points", "Uncertainties", "Check star in V", "BJD in TDB"):
            assert said in words
        assert page["preview"].startswith("# Light curve of Foxglove 7")

    def test_the_check_star_scatters_alike_in_curve_and_report(
        self, client: Client, campaign: int, curve: dict[str, Any]
    ) -> None:
        page = client.get(f"campaigns/{campaign}/report")
        told = f"scatters by {1000 * curve['scatter_check_mag']:.1f} mmag"
        assert any(told in check["words"] for check in page["checks"])

    def test_a_report_that_there_is_not_cannot_be_downloaded(self, client: Client) -> None:
        assert client.ask("GET", "reports/999999/report.txt").status_code == 404
