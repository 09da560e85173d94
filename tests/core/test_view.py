"""What the page stands on in the core: pyramids, the sky, error budgets, live curves."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
from astropy.coordinates import AltAz, EarthLocation, get_body
from astropy.time import Time
from astropy.utils import iers
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import POGSON, noise, star_image, write_simple
from narrow_beacon.core.curve.almanac import sky_above
from narrow_beacon.core.curve.cast import Cast, rank_candidates, settle_cast
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.light_curve import star_curve
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.frames.frame import Correction, Frame, LeftOut, TimeRule
from narrow_beacon.core.frames.pyramid import (
    TILE_PX,
    halve,
    level_count,
    measure_brightness,
    to_words,
)
from narrow_beacon.core.frames.sort import read_raw, settle, sort_night
from narrow_beacon.core.measure.noise import (
    CameraConstants,
    Exposed,
    Light,
    aperture_uncertainty,
    error_budgets,
)
from narrow_beacon.reduce.curves import FilterSeries, curve_of_cast
from narrow_beacon.reduce.light import light_of
from narrow_beacon.simulate.pointing import altitude_deg

RULE = TimeRule()


@settings(deadline=None)  # the first call compiles
@given(st.floats(-500, 60000), st.floats(0.5, 40))
def test_words_keep_every_value_within_half_a_step(level: float, sigma: float) -> None:
    image = noise((40, 50), level, sigma).astype(np.float32)
    image[3, 4] = level + 30000.0
    image[5, 6] = np.nan
    brightness = measure_brightness(image)
    words = to_words(image, brightness)
    back = brightness.offset + (words.astype(float) - 1.0) * brightness.scale
    good = np.isfinite(image)
    assert words[5, 6] == 0
    # float32 holds 60,000 to 0.004; a step is the range over 65,000.
    assert np.abs(back - image)[good].max() <= 0.51 * brightness.scale + 0.01
    assert brightness.sky == pytest.approx(level, abs=4 * sigma / np.sqrt(2000) * 1.26 + 0.01)
    assert brightness.noise == pytest.approx(sigma, rel=0.2)
    assert sum(brightness.histogram) > 0.9 * good.sum()


def test_an_even_image_has_a_brightness_too() -> None:
    # Of values in steps of 16 most are alike, and yet they scatter.
    rng = np.random.default_rng(3)
    coarse = 16.0 * np.rint(rng.normal(20.0, 0.34, (300, 300))).astype(np.float32)
    assert 0.25 * 16 < measure_brightness(coarse).noise < 0.6 * 16
    brightness = measure_brightness(np.full((20, 20), 7.0, np.float32))
    assert brightness.low < 7.0 < brightness.high
    assert brightness.scale > 0


def test_halving_keeps_the_mean_and_the_places() -> None:
    image = star_image((64, 80), [40.0], [20.0], [9000.0]).astype(np.float32)
    half = halve(image)
    assert half.shape == (32, 40)
    assert half.mean() == pytest.approx(image.mean(), rel=1e-5)
    y, x = np.unravel_index(half.argmax(), half.shape)
    assert abs(2 * x + 0.5 - 40.0) <= 1.0
    assert abs(2 * y + 0.5 - 20.0) <= 1.0
    odd = halve(image[:63, :79])
    assert odd.shape == (31, 39)


def test_the_pyramid_ends_within_a_quarter_of_a_tile() -> None:
    levels = level_count(4096, 3000)
    assert 4096 >> (levels - 1) >= TILE_PX // 4
    assert 4096 >> levels < TILE_PX // 4
    assert level_count(100, 100) == 1


def test_target_and_sun_stand_where_they_should() -> None:
    site = Site(61.2, -9.4, 140.0)
    # Around the equinox of 2026 the Sun is on the equator: at local noon it stands at 90° − φ.
    noon = 2461305.5 - 0.5 + 1.0 + (9.4 / 360.0) - 0.005  # the equation of time is +7 min
    sky = sky_above(np.array([noon, noon + 0.5]), 340.26, 38.21, site)
    assert sky.sun_deg[0] == pytest.approx(90 - 61.2, abs=0.6)
    assert sky.sun_deg[1] == pytest.approx(-(90 - 61.2), abs=0.6)
    # The simulator's own formula for altitudes, without precession: 0.4° since 2000.
    for jd, altitude in zip(sky.jd_utc, sky.target_deg, strict=True):
        moment = datetime(2000, 1, 1, 12) + timedelta(days=float(jd) - 2451545.0)
        expected = altitude_deg(moment, 340.26, 38.21, 61.2, -9.4)
        assert altitude == pytest.approx(float(expected), abs=0.5)


def test_sun_and_moon_stand_where_another_reckoning_has_them() -> None:
    jd = 2460953.3 + np.linspace(0.0, 30.0, 41)
    sky = sky_above(jd, 340.26, 38.21, Site(61.2, -9.4, 140.0))
    place = EarthLocation.from_geodetic(-9.4, 61.2, 140.0)
    moments = Time(jd, format="jd", location=place)
    with iers.earth_orientation_table.set(iers.IERS_B.open(iers.IERS_B_FILE)):
        for name, ours in (("sun", sky.sun_deg), ("moon", sky.moon_deg)):
            body = get_body(name, moments, place, ephemeris="builtin")
            theirs = body.transform_to(AltAz(obstime=moments, location=place)).alt.deg
            assert np.abs(ours - theirs).max() < 1 / 60, name


def test_the_moon_is_full_and_new_a_fortnight_apart() -> None:
    # New Moon on 12 August 2026 (a total eclipse of the Sun), full on 28 August.
    site = Site(40.0, 0.0)
    new = sky_above(np.array([2461265.24]), 0.0, 0.0, site).moon_lit
    full = sky_above(np.array([2461280.68]), 0.0, 0.0, site).moon_lit
    assert new < 0.005
    assert full > 0.99


def test_an_error_budget_is_the_uncertainty_in_parts() -> None:
    camera = CameraConstants(1.3, 7.1, 0.05, 0.28, 140.0, 1.8, 0.002)
    # A star in a corner, where the flat is at 0.8 of the middle.
    light = Light(
        np.array([[60_000.0, 80_000.0]]), np.array([95.0]), np.array([700.0]),
        np.array([2.0, 4.5]), 3.0, np.array([0.8]),
    )  # fmt: skip
    exposed = Exposed(60.0, 1.3)
    sigma = aperture_uncertainty(light, exposed, camera)[0]
    budgets = error_budgets(light, exposed, camera)
    for k, budget in enumerate(budgets):
        assert budget.total == pytest.approx(POGSON * sigma[k] / light.counts_adu[0, k], rel=1e-9)
        assert budget.star > budget.sky > budget.dark > 0
    assert error_budgets(light, exposed, CameraConstants(1.3, 7.1))[0].masters == 0
    # Where there was no sky to take off there is no uncertainty either; less than none is as none.
    empty = replace(light, counts_adu=np.array([[np.nan, -50.0]]))
    nothing, dark = aperture_uncertainty(empty, exposed, camera)[0]
    assert np.isnan(nothing)
    none = replace(light, counts_adu=np.zeros((1, 2)))
    assert dark == aperture_uncertainty(none, exposed, camera)[0, 1]


def series(count: int) -> FilterSeries:
    return FilterSeries("V", "V", tuple(range(count)), ("one",) * count, np.full(count, 1.2))


def test_a_settled_cast_gives_the_curve_that_settling_gave() -> None:
    from test_curve import census

    whole, stars = census()
    cast, ensemble = settle_cast(whole, 0, stars, "V", 0, [], [])
    before = star_curve(whole, 0, ensemble, 0)
    again = curve_of_cast(series(whole.exposure_s.size), light_of(whole), stars, cast, 0)
    np.testing.assert_allclose(again.target.magnitude, before.magnitude, atol=1e-12)
    np.testing.assert_allclose(again.target.uncertainty, before.uncertainty, atol=1e-12)
    assert again.census.rows.size == len({0, *cast.comparison, cast.check})


def test_a_cast_without_usable_comparison_stars_says_so() -> None:
    from test_curve import census

    whole, stars = census()
    missing = Cast(0, (10_000,))
    with pytest.raises(NotMeasurableError, match="give that role to another star"):
        curve_of_cast(series(1), light_of(whole), stars, missing, 0)


def test_candidates_leave_out_the_target_only_where_it_is_taken() -> None:
    from test_curve import census

    whole, stars = census()
    all_rows = {c.row for c in rank_candidates(whole, 0, stars, "V", 0, set())}
    rest = {c.row for c in rank_candidates(whole, 0, stars, "V", 0, {0})}
    assert all_rows - rest <= {0}
    assert all(c.words for c in rank_candidates(whole, 0, stars, "V", 0, {0}))


def raw_of(tmp_path: Path, **cards: object):  # type: ignore[no-untyped-def]
    path = tmp_path / "frame.fits"
    write_simple(path, noise((30, 40), 500.0, 8.0), **cards)
    return read_raw(path, "frame.fits")


def test_the_observer_has_the_last_word_on_a_file(tmp_path: Path) -> None:
    raw = raw_of(tmp_path)
    said = settle(raw, None, RULE)
    assert isinstance(said, Frame)
    word = Correction("dark", None, 30.0, datetime(2026, 10, 12, 21, 0))
    frame = settle(raw, None, RULE, word)
    assert isinstance(frame, Frame)
    assert (frame.kind, frame.filter, frame.exposure_s) == ("dark", None, 30.0)
    assert frame.mid_utc == datetime(2026, 10, 12, 21, 0, 15)
    assert frame.facts.kind is not None
    assert frame.facts.kind.keyword == "observer"


def test_a_dark_that_shows_stars_is_one_if_the_observer_says_so(tmp_path: Path) -> None:
    from dataclasses import replace

    raw = replace(raw_of(tmp_path, kind="dark"), sky_stars=50)
    assert isinstance(settle(raw, None, RULE), LeftOut)
    frame = settle(raw, None, RULE, Correction(kind="dark"))
    assert isinstance(frame, Frame)
    assert sort_night([frame]).calibration == (frame,)
