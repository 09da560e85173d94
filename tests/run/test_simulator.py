"""The simulator's own truth: if it were wrong, every comparison with it would be worth nothing."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest
import requests
from astropy.coordinates import AltAz, EarthLocation, SkyCoord
from astropy.io import fits, votable
from astropy.time import Time

from narrow_beacon.simulate.camera import Camera, Dust
from narrow_beacon.simulate.cone_service import ConeService
from narrow_beacon.simulate.demo import demo_calibration, demo_shots, demo_sky
from narrow_beacon.simulate.fields import make_field
from narrow_beacon.simulate.night import drifted, julian_day
from narrow_beacon.simulate.plain import TARGET, plain_sky, write_plain_night
from narrow_beacon.simulate.pointing import Pointing, airmass_at, altitude_deg
from narrow_beacon.simulate.render import add_stars, add_trail
from narrow_beacon.simulate.sky import eclipses, make_sky


@pytest.mark.parametrize("fwhm", [1.8, 3.0, 6.0])
def test_a_rendered_star_holds_its_light_and_its_width(fwhm: float) -> None:
    image = np.zeros((401, 401), np.float64)
    add_stars(image, np.array([200.3]), np.array([199.8]), np.array([1e6]), fwhm)
    alpha = fwhm / (2 * np.sqrt(2**0.4 - 1))
    # Beyond the frame lies (1 + r²/α²)^−1.5 of the light of a Moffat function with β = 2.5.
    assert image.sum() == pytest.approx(1e6, rel=3 * (1 + (200 / alpha) ** 2) ** -1.5 + 2e-3)
    yy, xx = np.mgrid[0:401, 0:401]
    assert (image * xx).sum() / image.sum() == pytest.approx(200.3, abs=0.01)
    half = (np.hypot(xx - 200.3, yy - 199.8) < fwhm / 2).astype(float)
    share = (image * half).sum() / image.sum()
    assert share == pytest.approx(1 - 2 ** (0.4 * -1.5), abs=0.12)


def test_faint_pixels_are_poisson_and_bright_ones_nearly() -> None:
    camera = Camera(
        1, (300, 300), read_noise_e=0.001, hot_share=0, dark_e_per_s=0, gain_e_per_adu=1.0
    )
    camera.bias_pattern[:] = 100
    camera.response[:] = 1
    rng = np.random.default_rng(0)
    for level in (4.0, 25.0, 60.0, 350.0, 5000.0):
        adu = camera.read(rng, np.full((300, 300), level, np.float32), 1.0, cosmic_per_s=0)
        values = adu.astype(float) - 100
        # 90,000 pixels: the mean is known to 0.3% of its root, the variance to 0.5%; rounding to
        # whole ADU adds 1/12, and the frame's own bias shift a quarter of an ADU at the most.
        assert values.mean() == pytest.approx(level, abs=0.8 + 0.01 * np.sqrt(level))
        assert values.var() == pytest.approx(level, rel=0.03, abs=0.15)


def test_the_camera_bends_and_then_stops() -> None:
    camera = Camera(1, (64, 64), hot_share=0)
    rng = np.random.default_rng(0)
    adu = camera.read(rng, np.full((64, 64), 2e5, np.float32), 1.0)
    assert adu.max() == adu.min() == 62000


def test_darks_grow_with_time_and_warmth() -> None:
    camera = Camera(1, (200, 200))
    rng = np.random.default_rng(0)
    levels = {
        (t, c): camera.read(rng, None, t, c, cosmic_per_s=0).astype(float).mean()
        - camera.bias_pattern.mean()
        for t, c in ((100.0, -10.0), (200.0, -10.0), (100.0, -4.0))
    }
    assert levels[200.0, -10.0] / levels[100.0, -10.0] == pytest.approx(2.0, rel=0.1)
    assert levels[100.0, -4.0] / levels[100.0, -10.0] == pytest.approx(2.0, rel=0.1)


def test_dust_dims_where_it_lies() -> None:
    camera = Camera(1, (200, 200))
    ratio = camera.throughput((Dust(120, 60, 15, 0.05),)) / camera.throughput()
    dimmest = np.unravel_index(np.argmin(ratio), ratio.shape)
    assert 8 < np.hypot(dimmest[1] - 120, dimmest[0] - 60) < 13  # a ring at 0.7 of its radius
    assert ratio.min() == pytest.approx(0.95, abs=0.002)
    assert ratio[150, 20] == 1.0


def test_a_trail_lays_down_its_light_along_its_length() -> None:
    image = np.zeros((200, 200), np.float64)
    add_trail(image, (100.0, 90.0), 0.0, 500.0, 3.0)
    assert image.sum(axis=0) == pytest.approx(np.full(200, 500.0), rel=1e-3)


@pytest.mark.parametrize("mirrored", [False, True])
def test_a_drift_moves_the_stars_by_that_many_pixels(mirrored: bool) -> None:
    pointing = Pointing(340.0, 38.0, 1.16, 77.0, mirrored, (768, 1024))
    x, y = pointing.pixels(np.array([340.02]), np.array([38.01]))
    x2, y2 = drifted(pointing, 7.0, -3.0).pixels(np.array([340.02]), np.array([38.01]))
    assert (x[0] - x2[0], y[0] - y2[0]) == pytest.approx((7.0, -3.0), abs=0.02)
    x3, y3 = drifted(pointing, 0.0, 0.0, half_turn=True).pixels(
        np.array([340.02]), np.array([38.01])
    )
    assert (x3[0] + x[0], y3[0] + y[0]) == pytest.approx((1023, 767), abs=0.01)


def test_altitudes_and_airmasses_are_those_of_the_sky() -> None:
    moment = datetime(2026, 10, 12, 23)
    place = EarthLocation.from_geodetic(-9.4, 61.2, 140)
    star = SkyCoord(340.0, 38.0, unit="deg")
    true = star.transform_to(AltAz(obstime=Time(moment), location=place)).alt.deg
    assert altitude_deg(moment, 340.0, 38.0, 61.2, -9.4) == pytest.approx(true, abs=0.4)
    assert airmass_at(90.0) == pytest.approx(1.0, abs=1e-3)
    assert airmass_at(30.0) == pytest.approx(1.994, abs=0.002)  # Kasten & Young's table
    assert julian_day(datetime(2000, 1, 1, 12)) == 2451545.0


def test_an_eclipsing_star_dips_twice_a_cycle() -> None:
    star = eclipses(2461000.0, 0.4, (0.6, 0.3), 0.05)
    mags = np.array([star(2461000.0 + 0.4 * phase, "V") for phase in np.linspace(0, 1, 201)])
    assert mags[0] == pytest.approx(0.64, abs=0.005)
    assert mags[100] == pytest.approx(0.3, abs=0.005)
    assert mags[50] < 0.03
    assert star(2461000.0, "B") > star(2461000.0, "V")


def test_star_counts_rise_with_magnitude_and_errors_are_as_quoted() -> None:
    sky = make_sky(np.random.default_rng(0), "Sorrel", 50.0, 10.0, 3.0, 1000.0)
    v = sky.true_mag["V"]
    ratio = ((v > 15) & (v <= 16)).sum() / ((v > 14) & (v <= 15)).sum()
    assert ratio == pytest.approx(10**0.3, rel=0.1)
    pulls = (sky.catalogue_mag["V"] - v) / sky.catalogue_err["V"]
    assert np.std(pulls) == pytest.approx(1.0, abs=0.03)
    ra, _ = sky.positions(2026.0)
    assert np.allclose(
        (ra - sky.ra_deg) * np.cos(np.radians(sky.dec_deg)) * 3.6e5, sky.pm_ra_mas_yr, atol=1e-3
    )


def test_the_demo_has_all_that_it_promises() -> None:
    shots, frames = demo_shots(), demo_calibration()
    troubles = {words for shot in (*shots, *frames) for words in shot.troubles}
    for planted in ("trail through the target", "out of focus", "wrong field", "cloud", "too warm",
                    "called a dark in its header", "called an exposure in its header"):  # fmt: skip
        assert planted in troubles
    turns = {round(shot.pointing.rotation_deg) for shot in shots if shot.file.startswith("night-1")}
    assert turns == {92, 272}  # the meridian flip
    assert {shot.wrapping for shot in shots} == {"plain", "tiled", "extension", "long", "float"}
    assert {frame.exposure_s for frame in frames if frame.kind == "dark"} == {60.0}  # none of 90 s
    for night in ("night-1", "night-2"):
        for name in ("V", "B"):
            assert sum(s.file.startswith(f"{night}/larkspur-{name}") for s in shots) == 60
    sky = demo_sky()
    assert sky.true_mag["V"][sky.row("Larkspur 3")] < 8.5
    assert sky.known_variable.sum() == 1


def test_a_night_is_the_same_for_the_same_seed_and_another_for_another(tmp_path: Path) -> None:
    for name, seed in (("a", 1), ("b", 1), ("c", 2)):
        write_plain_night(tmp_path / name, seed, exposures=1, shape=(96, 128), calibration=1)
    a, b, c = (fits.getdata(tmp_path / name / "raw" / "foxglove-001.fits") for name in "abc")
    assert np.array_equal(a, b)
    assert not np.array_equal(a, c)
    truth = json.loads((tmp_path / "a" / "truth.json").read_text())
    sky = plain_sky(1, 128 * 1.16 / 3600)
    assert truth["target"] == TARGET
    item = truth["exposures"][0]
    assert item["target_mag"] == pytest.approx(
        float(sky.magnitudes(item["jd_utc"], "V")[sky.row(TARGET)]), abs=1e-9
    )


def test_a_field_has_its_stars_where_its_pointing_says() -> None:
    field = make_field(9, false_share=0.0)
    x, y = field.pointing.pixels(field.ra_deg, field.dec_deg)
    away = np.hypot(field.x_px[:, None] - x[None], field.y_px[:, None] - y[None]).min(axis=1)
    assert np.median(away) < 0.3
    assert make_field(9).x_px.size == pytest.approx(1.5 * field.x_px.size, rel=0.02)


def test_the_service_keeps_to_the_protocol(tmp_path: Path) -> None:
    sky = make_sky(np.random.default_rng(2), "Sorrel", 12.0, 70.0, 0.5, 300.0)
    sky.write_votable(tmp_path / "s.vot")

    def ask(**query: object) -> tuple[requests.Response, votable.tree.VOTableFile]:
        answer = requests.get(service.url, params=query, timeout=10)
        (tmp_path / "answer.xml").write_bytes(answer.content)
        return answer, votable.parse(tmp_path / "answer.xml")

    with ConeService(tmp_path / "s.vot") as service:
        answer, document = ask(RA=12, DEC=70, SR=0.1, VERB=1)
        assert answer.headers["Content-Type"].startswith("text/xml;content=x-votable")
        ucds = [field.ucd for field in document.get_first_table().fields]
        # Exactly one column each of these three, says the standard.
        assert ucds == ["ID_MAIN", "POS_EQ_RA_MAIN", "POS_EQ_DEC_MAIN"]
        assert len(ask(RA=12, DEC=70, SR=0.1, VERB=3)[1].get_first_table().fields) == 11
        _, empty = ask(RA=12, DEC=70, SR=0)
        assert len(empty.get_first_table().array) == 0
        for query in (
            {"DEC": 1, "SR": 1},
            {"RA": "x", "DEC": 1, "SR": 1},
            {"RA": 1, "DEC": 99, "SR": 1},
        ):
            _, document = ask(**query)
            infos = [info for info in document.resources[0].infos if info.name == "Error"]
            assert len(infos) == 1
            assert len(infos[0].value) > 5
