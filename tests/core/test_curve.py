"""Time, airmass, zero points, comparison stars: from counts to a curve."""

from __future__ import annotations

import gc
from dataclasses import replace
from datetime import datetime, timedelta

import numpy as np
import pytest
from astropy import units
from astropy.coordinates import AltAz, EarthLocation, SkyCoord
from astropy.time import Time
from astropy.utils import iers

from builders import POGSON, filter_census, star_table
from narrow_beacon.bench.steady import KINDS, planted_night
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve import ensemble
from narrow_beacon.core.curve.cast import Cast, judge_together, rank_candidates, settle_cast
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.ensemble import Ensemble, Rates, solve_ensemble
from narrow_beacon.core.curve.light_curve import star_curve, transparency
from narrow_beacon.core.curve.steadiness import judge_steadiness
from narrow_beacon.core.curve.time import (
    apparent_altitude,
    exposure_times,
    heliocentric,
    julian_year,
    pickering_airmass,
)
from narrow_beacon.core.curve.zero_points import ensemble_of
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.flags import StarFlag
from narrow_beacon.simulate.pointing import airmass_at, altitude_deg

AU_S = 499.00478384
# Approximate Keplerian elements at J2000 with their rates a century (Standish 1992, Explanatory
# Supplement, Table 5.8.1): a (au), e, i, mean longitude, perihelion, node (degrees); and the mass
# of the Sun over that of the planet.
ELEMENTS = {
    "earth": (
        (1.00000261, 0.01671123, -0.00001531, 100.46457166, 102.93768193, 0.0),
        (0.00000562, -0.00004392, -0.01294668, 35999.37244981, 0.32327364, 0.0), 0.0,
    ),
    "jupiter": (
        (5.20288700, 0.04838624, 1.30439695, 34.39644051, 14.72847983, 100.47390909),
        (-0.00011607, -0.00013253, -0.00183714, 3034.74612775, 0.21252668, 0.20469106), 1047.35,
    ),
    "saturn": (
        (9.53667594, 0.05386179, 2.48599187, 49.95424423, 92.59887831, 113.66242448),
        (-0.00125060, -0.00050991, 0.00193609, 1222.49362201, -0.41897216, -0.28867794), 3497.9,
    ),
    "uranus": (
        (19.18916464, 0.04725744, 0.77263783, 313.23810451, 170.95427630, 74.01692503),
        (-0.00196176, -0.00004397, -0.00242939, 428.48202785, 0.40805281, 0.04240589), 22903.0,
    ),
    "neptune": (
        (30.06992276, 0.00859048, 1.77004347, -55.12002969, 44.96476227, 131.78422574),
        (0.00026291, 0.00005105, 0.00035372, 218.45945325, -0.32241464, -0.00508664), 19412.0,
    ),
}  # fmt: skip


def heliocentric_au(name: str, jd: float) -> np.ndarray:
    """Equatorial position (J2000) of a planet from its elements."""
    base, rate, _ = ELEMENTS[name]
    t = (jd - 2451545.0) / 36525.0
    a, e, i, longitude, perihelion, node = (b + r * t for b, r in zip(base, rate, strict=True))
    mean = np.radians((longitude - perihelion + 180) % 360 - 180)
    anomaly = mean
    for _ in range(20):
        anomaly = mean + e * np.sin(anomaly)
    x, y = a * (np.cos(anomaly) - e), a * np.sqrt(1 - e * e) * np.sin(anomaly)
    w, n, i = np.radians(perihelion - node), np.radians(node), np.radians(i)
    u, v = x * np.cos(w) - y * np.sin(w), x * np.sin(w) + y * np.cos(w)
    ecliptic = np.array([
        u * np.cos(n) - v * np.cos(i) * np.sin(n),
        u * np.sin(n) + v * np.cos(i) * np.cos(n),
        v * np.sin(i),
    ])  # fmt: skip
    tilt = np.radians(23.43928)
    turn = np.array([[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]])
    return turn @ ecliptic


@pytest.mark.parametrize(
    "moment", [datetime(2026, 1, 3, 4, 5), datetime(2026, 10, 12, 21), datetime(2019, 6, 30, 23)]
)
@pytest.mark.parametrize(("ra", "dec"), [(340.26, 38.21), (90.0, -5.0), (200.0, 71.0)])
def test_bjd_is_right_to_a_tenth_of_a_second_by_another_way(
    moment: datetime, ra: float, dec: float
) -> None:
    times = exposure_times([moment], ra, dec, None)
    jd = (moment - datetime(2000, 1, 1, 12)).total_seconds() / 86400.0 + 2451545.0
    assert abs(times.jd_utc[0] - jd) * 86400 < 1e-3
    star = np.array([
        np.cos(np.radians(dec)) * np.cos(np.radians(ra)),
        np.cos(np.radians(dec)) * np.sin(np.radians(ra)),
        np.sin(np.radians(dec)),
    ])  # fmt: skip
    earth = heliocentric_au("earth", jd)
    planets = [name for name in ELEMENTS if name != "earth"]
    sun = -sum(heliocentric_au(name, jd) / (1 + ELEMENTS[name][2]) for name in planets)
    # 37 leap seconds since 2017, and TT − TAI = 32.184 s; TDB − TT stays below 2 ms.
    expected = jd + (37 + 32.184 + AU_S * star @ (earth + sun)) / 86400
    assert abs(times.bjd_tdb[0] - expected) * 86400 < 0.1
    assert abs(times.hjd_utc[0] - jd - AU_S * star @ earth / 86400) * 86400 < 0.1


def test_a_night_s_times_are_those_of_its_single_moments() -> None:
    site = Site(61.2, -9.4, 140.0)
    moments = [datetime(2025, 10, 12, 18) + timedelta(minutes=7 * n) for n in range(90)]
    whole = exposure_times(moments, 340.26, 38.21, site)
    star = SkyCoord(340.26 * units.deg, 38.21 * units.deg)
    place = EarthLocation.from_geodetic(-9.4, 61.2, 140.0)
    time = Time(moments, scale="utc", location=place)
    with iers.earth_orientation_table.set(iers.IERS_B.open(iers.IERS_B_FILE)):
        light = time.light_travel_time(star, "barycentric", ephemeris="builtin")
        seen = star.transform_to(AltAz(obstime=time, location=place))
    assert np.abs(whole.bjd_tdb - (time.tdb + light).jd).max() * 86400 < 1e-4
    sun = time.light_travel_time(star, "heliocentric", ephemeris="builtin")
    assert np.abs(whole.hjd_utc - (time + sun).jd).max() * 86400 < 1e-4
    exact = pickering_airmass(apparent_altitude(np.asarray(seen.alt.deg)))
    assert np.nanmax(np.abs(whole.airmass / exact - 1.0)) < 1e-5


def test_a_leap_second_counts() -> None:
    moments = [datetime(2016, 12, 31, 23, 59, 30) + timedelta(seconds=20 * n) for n in range(4)]
    times = exposure_times(moments, 90.0, 38.21, None)
    # A second lies between 23:59:50 and 0:00:10 that the days of UTC don't count evenly.
    steps = np.diff(times.bjd_tdb) * 86400
    assert np.allclose(steps, [20, 21, 20], atol=2e-3)


def test_heliocentric_dates_lead_back_to_where_barycentric_ones_came_from() -> None:
    moments = [datetime(2026, month, 3, 22, 17) for month in range(1, 13)]
    times = exposure_times(moments, 340.26, 38.21, None)
    away = heliocentric(times.bjd_tdb, 340.26, 38.21) - times.hjd_utc
    assert np.abs(away).max() * 86400 < 1e-3


def test_bjd_with_a_site_differs_by_its_place_on_the_earth() -> None:
    moment = datetime(2026, 10, 12, 21)
    with_site = exposure_times([moment], 340.26, 38.21, Site(61.2, -9.4, 140.0))
    without = exposure_times([moment], 340.26, 38.21, None)
    shift = (with_site.bjd_tdb - without.bjd_tdb)[0] * 86400
    height = altitude_deg(moment, 340.26, 38.21, 61.2, -9.4)
    assert shift == pytest.approx(6378.0 / 299792.458 * np.sin(np.radians(height)), abs=2e-4)
    assert np.isnan(without.airmass[0])


def test_airmass_agrees_with_other_formulas_and_ends_at_the_horizon() -> None:
    moments = [datetime(2026, 10, 12, 19) + timedelta(hours=h) for h in range(9)]
    ours = exposure_times(moments, 340.26, 38.21, Site(61.2, -9.4)).airmass
    theirs = [airmass_at(altitude_deg(m, 340.26, 38.21, 61.2, -9.4)) for m in moments]
    assert np.allclose(ours, theirs, rtol=0.01)  # precession since 2000 is left out of theirs
    assert pickering_airmass(np.array([90.0]))[0] == pytest.approx(1.0, abs=1e-3)
    assert 37 < pickering_airmass(np.array([0.01]))[0] < 40  # 38.7 at the horizon by Pickering
    assert np.isnan(pickering_airmass(np.array([-1.0]))[0])
    assert apparent_altitude(np.array([0.0]))[0] == pytest.approx(28.9 / 60, abs=0.02)


def test_julian_year() -> None:
    assert julian_year(datetime(2000, 1, 1, 12)) == 2000.0
    assert julian_year(datetime(2024, 12, 31, 18)) == pytest.approx(2025.0, abs=1e-9)


def night(
    exposures: int = 60,
    stars: int = 8,
    *,
    seed: int = 0,
    extra: float = 0.0,
    catalogue: float = 0.01,
):  # type: ignore[no-untyped-def]
    """Instrumental magnitudes of constant stars under cloud, with everything known."""
    rng = np.random.default_rng(seed)
    true = np.linspace(11, 13, stars)
    zero = 20.0 - 0.3 * rng.random(exposures) - np.linspace(0, 0.4, exposures)
    sigma = np.tile(0.002 * 10 ** (0.2 * (true - 11)), (exposures, 1))
    inst = true[None, :] - zero[:, None] + rng.normal(0, np.hypot(sigma, extra))
    known = true + rng.normal(0, catalogue, stars)
    return true, zero, inst, sigma, known


def solved(
    inst: np.ndarray, sigma: np.ndarray, known: np.ndarray, usable: np.ndarray | None = None,
    sure_mag: float = 0.01,
) -> Ensemble:  # fmt: skip
    """The ensemble of instrumental magnitudes whose noise does not hang on their brightness."""
    rate = 10 ** (-0.4 * inst)
    rates = Rates(rate, rate * sigma / POGSON, np.zeros(len(inst)))
    everywhere = np.ones(inst.shape, bool) if usable is None else usable
    return solve_ensemble(rates, everywhere, known, np.full(known.size, sure_mag))


def test_zero_points_follow_the_clouds_within_their_uncertainty() -> None:
    pulls = []
    for seed in range(30):
        _, zero, inst, sigma, known = night(seed=seed)
        fit = solved(inst, sigma, known)
        error = fit.zero_point - zero
        pulls.append((error - error.mean()) / fit.zero_point_uncertainty)
        # The common offset is the catalogue's mean error, 0.01/√8.
        assert abs(error.mean()) < 4 * fit.common_offset_uncertainty_mag
        assert fit.extra_mag < 0.0012
    assert np.std(pulls) == pytest.approx(1.0, abs=0.05)


def test_extra_scatter_is_found() -> None:
    found = [
        solved(inst, sigma, known).extra_mag
        for _, _, inst, sigma, known in (night(seed=s, extra=0.006) for s in range(10))
    ]
    assert np.mean(found) == pytest.approx(0.006, rel=0.1)


def test_zero_points_are_the_same_bit_for_bit_whatever_the_order_in_memory() -> None:
    _, _, inst, sigma, known = night(300, extra=0.004)
    usable = np.random.default_rng(1).random(inst.shape) < 0.95
    one = solved(inst, sigma, known, usable)
    other = solved(*(np.asfortranarray(v) for v in (inst, sigma)), known, np.asfortranarray(usable))
    assert np.array_equal(one.zero_point, other.zero_point)
    assert np.array_equal(one.residual_mag, other.residual_mag, equal_nan=True)


def test_nothing_large_stays_in_a_circle_once_zero_points_are_solved() -> None:
    _, _, inst, sigma, known = night(extra=0.006)
    gc.collect()
    gc.disable()
    try:
        solved(inst, sigma, known)
        left = [one for one in gc.get_objects() if type(one).__module__ == ensemble.__name__]
    finally:
        gc.enable()
    assert not [one for one in left if not isinstance(one, Ensemble | Rates)]


def test_a_star_that_drops_out_does_not_shift_the_zero_points() -> None:
    _, zero, inst, sigma, known = night(catalogue=0.05)
    known[2] += 0.2  # a catalogue error that would jump in and out with the star
    usable = np.ones(inst.shape, bool)
    usable[20:40, 2] = False
    error = solved(inst, sigma, known, usable, 0.05).zero_point - zero
    assert abs(error[20:40].mean() - np.delete(error, slice(20, 40)).mean()) < 0.001


@pytest.mark.parametrize("light", [-1.0, 1e-6])
def test_a_star_without_light_leaves_the_zero_points_to_the_others(light: float) -> None:
    _, zero, inst, sigma, known = night(20)
    rate = 10 ** (-0.4 * inst)
    uncertainty = rate * sigma / POGSON
    rate[:, 3] = light * 10 ** (-0.4 * (known[3] - zero))  # the catalogue made it up
    rates = Rates(rate, uncertainty, np.zeros(20))
    fit = solve_ensemble(rates, np.ones(rate.shape, bool), known, np.full(8, 0.01))
    others = [n for n in range(8) if n != 3]
    alone = solved(inst[:, others], sigma[:, others], known[others])
    assert np.all(np.isfinite(fit.zero_point))
    # The constant that zero points share with the offsets may be another; each night's run is not.
    apart = fit.zero_point - alone.zero_point
    assert np.ptp(apart) < 0.002
    assert fit.extra_mag < 0.003


def test_a_star_never_enters_its_own_zero_point() -> None:
    _, _, inst, sigma, known = night()
    usable = np.ones(inst.shape, bool)

    def residual() -> float:
        fit = solved(inst, sigma, known, usable)
        return float(fit.residual_mag[30, 3])

    before = residual()
    inst[30, 3] += 0.02
    # The star's mean moves by 0.02/60; in its own zero point it would hide an eighth and more.
    assert residual() - before == pytest.approx(-0.02, abs=0.0006)


def test_one_wild_measurement_is_not_used() -> None:
    _, zero, inst, sigma, known = night()
    inst[10, 1] += 0.5
    fit = solved(inst, sigma, known)
    assert not fit.used[10, 1]
    assert abs((fit.zero_point - zero)[10] - np.mean(fit.zero_point - zero)) < 0.005


def test_an_exposure_without_stars_has_no_zero_point() -> None:
    _, _, inst, sigma, known = night()
    usable = np.ones(inst.shape, bool)
    usable[5] = False
    fit = solved(inst, sigma, known, usable)
    assert np.isnan(fit.zero_point[5])
    assert np.isfinite(np.delete(fit.zero_point, 5)).all()


def test_steadiness_tells_a_variable_from_a_constant_star() -> None:
    rng = np.random.default_rng(1)
    sigma = np.full(80, 0.005)
    steady = rng.normal(12, 0.005, 80)
    assert not judge_steadiness(steady, sigma).varies
    swing = steady + 0.03 * np.sin(np.arange(80) / 7)
    verdict = judge_steadiness(swing, sigma)
    assert verdict.varies
    assert verdict.excess_mag == pytest.approx(0.03 / np.sqrt(2), rel=0.15)
    steady[3] = 13.0
    assert not judge_steadiness(steady, sigma).varies  # one accident is no variability
    few = judge_steadiness(steady[:4], sigma[:4])
    assert few.cannot_tell
    assert not few.varies


def test_what_hangs_together_in_time_is_no_accident() -> None:
    rng = np.random.default_rng(3)
    sigma = np.full(100, 0.005)
    dip = rng.normal(12, 0.005, 100)
    dip[40:70] += 0.3
    verdict = judge_steadiness(dip, sigma)
    assert verdict.varies
    # The best stretch is of 33 points, three of which are beside the dip of 30.
    assert verdict.coherent_mag == pytest.approx(0.3 * 30 / 33, abs=0.005)
    slow = rng.normal(12, 0.005, 100) + np.linspace(0, 0.015, 100)
    assert judge_steadiness(slow, sigma).varies


@pytest.mark.parametrize("kind", KINDS)
def test_no_star_that_varies_is_chosen_and_no_constant_one_turned_down(kind: str) -> None:
    """Stars planted among candidates of seeded nights, of 3 to 60 times their noise; constant ones
    have a wild point now and then. Fewer than 2% may go wrong, of 24 nights at most 1 by chance;
    `bench steady` looks at 200 of each.
    """
    nights = [planted_night(seed, kind) for seed in range(24)]
    assert kind == "none" or sum(night.trusted for night in nights) <= 1
    assert sum(bool(night.turned_down) for night in nights) <= 1


def census(
    stars: int = 12, exposures: int = 60, *, vary: int | None = None, off: int | None = None
):  # type: ignore[no-untyped-def]
    """A census of stars of like brightness and its catalogue; the target is row 0."""
    rng = np.random.default_rng(4)
    v = np.concatenate([[12.0], np.linspace(11.6, 12.8, stars - 1)])
    inst = (
        v[None, :]
        - 20.0
        + 0.2 * rng.random((exposures, 1))
        + rng.normal(0, 0.004, (exposures, stars))
    )
    inst[:, 0] += 0.3 * np.sin(np.arange(exposures) / 10)
    if vary is not None:
        inst[:, vary] += 0.03 * np.sin(np.arange(exposures) / 8)
    catalogue = v.copy()
    if off is not None:
        catalogue[off] += 0.25
    return filter_census(inst, np.full(stars, 0.004)), star_table(stars, magnitude=catalogue)


def test_stars_that_all_wander_a_little_are_kept_and_one_that_does_so_more_is_dropped() -> None:
    """A thousand exposures see the 3 mmag that flats leave where a field drifts over the pixels."""
    rng = np.random.default_rng(8)
    exposures, stars = 1000, 11
    v = np.concatenate([[12.0], np.linspace(11.6, 12.8, stars - 1)])
    steps = np.cumsum(rng.normal(0, 1, (exposures, stars)), axis=0)
    wander = 0.003 * (steps - steps.mean(axis=0)) / steps.std(axis=0)
    noise = rng.normal(0, 0.008, (exposures, stars))

    def settled(own: np.ndarray) -> Cast:
        made = filter_census(v[None, :] - 20.0 + own + noise, np.full(stars, 0.008))
        return settle_cast(made, 0, star_table(stars, magnitude=v), "V", 0, [], [])[0]

    quiet = settled(np.zeros_like(wander))
    assert not quiet.dropped
    assert quiet.wander_mag == 0.0
    cast = settled(wander)
    assert len(cast.comparison) + len(cast.checks) == stars - 1
    assert 0.004 < cast.wander_mag < 0.010  # the farthest stretch of one is some two of its rms
    wander[300:500, 4] += 0.030
    assert [dropped.name for dropped in settled(wander).dropped] == ["Sorrel 5"]
    sigma = np.full(exposures, 0.008)
    verdicts = judge_together([(wander[:, n] + noise[:, n], sigma) for n in range(stars)])
    assert [n for n, verdict in enumerate(verdicts) if verdict.varies] == [4]


def test_the_first_star_of_a_catalogue_can_have_any_part() -> None:
    assert Cast(3, (2, 5), (0,)).rows == [0, 2, 3, 5]
    assert Cast(0, (2, 5)).rows == [0, 2, 5]


def test_the_program_chooses_a_cast_with_reasons() -> None:
    made, table = census()
    cast, ensemble = settle_cast(made, 0, table, "V", 0, [], [])
    assert 0 not in (*cast.comparison, cast.check)
    assert cast.check not in cast.comparison
    assert len(cast.comparison) >= 5
    assert {name for name, _ in cast.reasons} >= {table.names[row] for row in cast.comparison}
    curve = star_curve(made, 0, ensemble, 0)
    expected = 12.0 + 0.3 * np.sin(np.arange(60) / 10)
    assert np.std(curve.magnitude - expected) < 0.006
    assert np.median(curve.uncertainty) == pytest.approx(0.0043, rel=0.15)


@pytest.mark.parametrize("named", [True, False])
def test_a_comparison_star_that_varies_is_dropped_and_named(named: bool) -> None:
    made, table = census(vary=4)
    cast, _ = settle_cast(made, 0, table, "V", 0, list(range(1, 9)) if named else [], [])
    assert 4 not in (*cast.comparison, cast.check)
    assert [d.name for d in cast.dropped] == [table.names[4]]
    assert "varies" in cast.dropped[0].reason


def test_a_comparison_star_off_the_line_is_dropped_and_named() -> None:
    made, table = census(off=6)
    cast, _ = settle_cast(made, 0, table, "V", 0, list(range(1, 9)), [9])
    assert 6 not in cast.comparison
    assert "off the line" in cast.dropped[0].reason


def test_no_usable_comparison_star_is_an_error_that_says_why() -> None:
    made, table = census(3)
    made.counts_adu[:, 1:] = np.nan
    with pytest.raises(NotMeasurableError, match=r"Sorrel 2: spoiled or missing on 100%"):
        settle_cast(made, 0, table, "V", 0, [1, 2], [])
    with pytest.raises(NotMeasurableError, match="no star in the field can be"):
        settle_cast(made, 0, table, "V", 0, [], [])


def test_transparency_sees_cloud_but_not_extinction() -> None:
    airmass = np.linspace(1.0, 2.2, 80)
    zero = 21.0 - 0.25 * airmass
    zero[30:34] -= 1.2
    share = transparency(zero, airmass)
    assert np.allclose(np.delete(share, slice(30, 34)), 1.0, atol=0.03)
    assert np.allclose(share[30:34], 10 ** (-0.4 * 1.2), atol=0.02)


def faint_night(
    snr: np.ndarray, seed: int, stars: int = 5, exposures: int = 200
) -> tuple[FilterCensus, StarTable, np.ndarray]:
    """Stars over a bright sky, of like brightness to one another and a signal to noise given by
    exposure, through air that lets less through where it is low; their census, catalogue and zero
    points.
    """
    rng = np.random.default_rng(seed)
    through = snr / snr.max()
    light = 4000.0 * through[:, None] * np.ones(stars)
    noise = np.full(light.shape, 4000.0 / snr.max())
    counts = (light + rng.normal(0, noise))[:, :, None]
    table = star_table(stars, magnitude=np.full(stars, 15.0))
    made = filter_census(
        np.ones((exposures, stars)), np.ones(stars), counts_adu=counts,
        uncertainty_adu=np.sqrt(noise**2 + np.maximum(counts[:, :, 0], 0.0))[:, :, None],
        noise=np.tile([1.0, 1.0], (exposures, 1)),
    )  # fmt: skip
    return made, table, 15.0 + 2.5 * np.log10(4000.0 * through / 60.0)


def test_faint_comparison_stars_do_not_shift_the_zero_point() -> None:
    errors = []
    for seed in range(6):
        made, table, zero = faint_night(np.full(200, 8.0), seed)
        errors.append(np.mean(ensemble_of(made, 0, table, "V", range(5)).zero_point - zero))
    # 6 × 200 exposures of 5 stars with 0.136 mag of noise each: the mean is known to 1.8 mmag.
    # Weights from the measured counts would make it 0.02 mag.
    assert abs(np.mean(errors)) < 0.006


def test_a_constant_star_does_not_step_where_cloud_comes() -> None:
    snr = np.where(np.arange(200) < 100, 20.0, 6.0)
    steps = []
    for seed in range(6):
        made, table, _ = faint_night(snr, seed, stars=9)
        ensemble = ensemble_of(made, 0, table, "V", range(1, 9))
        seen = star_curve(made, 0, ensemble, 0).magnitude
        steps.append(np.nanmedian(seen[100:]) - np.nanmedian(seen[:100]))
    # The median of 600 magnitudes of 0.18 mag is known to 9 mmag.
    assert abs(np.mean(steps)) < 0.03


def test_what_is_not_seen_has_a_limit() -> None:
    made, table, zero = faint_night(np.full(200, 20.0), 1)
    made.counts_adu[:, 0] = np.random.default_rng(2).normal(0.0, 200.0, (200, 1))
    made.uncertainty_adu[:, 0] = 200.0
    curve = star_curve(made, 0, ensemble_of(made, 0, table, "V", range(1, 5)), 0)
    unseen = np.isnan(curve.magnitude)
    assert unseen.mean() > 0.99
    assert np.isnan(curve.uncertainty[unseen]).all()
    # At most three times the noise above nothing: 600 to 1,200 ADU in 60 s.
    brightest, faintest = (zero[0] - 2.5 * np.log10(adu / 60.0) for adu in (1400.0, 600.0))
    assert np.all(curve.limit_mag[unseen] > brightest - 0.2)
    assert np.all(curve.limit_mag[unseen] < faintest + 0.2)


@pytest.mark.parametrize("field", [True, False])
def test_one_comparison_star_that_wanders_is_in_the_uncertainty_or_untested(field: bool) -> None:
    rng = np.random.default_rng(5)
    inst = np.full((60, 8), -8.0) + rng.normal(0, 0.005, (60, 8))
    inst[:, 1] += 0.07 * np.sqrt(2) * np.sin(np.arange(60) / 4)
    made = filter_census(inst, np.full(8, 0.005))
    if not field:
        made = made.stars_only(np.array([0, 1]))
    table = star_table(8, magnitude=np.full(8, 12.0))
    ensemble = ensemble_of(made, 0, table, "V", [1])
    curve = star_curve(made, 0, ensemble, 0)
    assert np.std(curve.magnitude) == pytest.approx(0.07, rel=0.1)
    assert ensemble.tested is field
    # What reports take for its instrumental magnitude is what was measured.
    assert 12.0 - ensemble.zero_point == pytest.approx(inst[:, 1], abs=1e-9)
    if field:
        assert np.median(curve.uncertainty) == pytest.approx(0.07, rel=0.1)


def test_a_named_comparison_star_never_becomes_the_check_star() -> None:
    made, table = census()
    named = [1, 2, 3, 4, 5]
    cast, _ = settle_cast(made, 0, table, "V", 0, named, [])
    assert list(cast.comparison) == named
    assert cast.check is not None
    assert cast.check not in named


def test_points_are_doubtful_by_what_their_flags_can_cost() -> None:
    made, table = census()
    doubt = np.zeros_like(made.counts_adu)
    doubt[3, 0] = 0.02 * made.counts_adu[3, 0]  # 22 mmag, where the noise is 4
    doubt[4, 0] = 0.001 * made.counts_adu[4, 0]  # 1 mmag
    neighbour = np.zeros_like(doubt)
    neighbour[:, 2] = 0.05 * made.counts_adu[:, 2]
    bits = made.flag_bits.copy()
    bits[3:6, 0, 0] = StarFlag.COSMIC_RAY, StarFlag.BAD_PIXEL, StarFlag.SATURATED
    bits[:, 2] = StarFlag.NEIGHBOUR
    made = replace(made, doubt_adu=doubt, neighbour_adu=neighbour, flag_bits=bits)
    ensemble = ensemble_of(made, 0, table, "V", [4, 5, 6, 7])
    target, other = (star_curve(made, 0, ensemble, row) for row in (0, 2))
    assert np.flatnonzero(target.doubtful).tolist() == [3, 5]
    assert target.words(3) == ["cosmic ray 22 mmag"]
    assert target.words(4) == ["bad pixel 1.1 mmag"]
    assert target.words(5) == ["saturated"]
    assert other.doubtful.all()  # 54 mmag of another star's light
    assert other.words(0) == ["neighbour 54 mmag"]
    # It does not change, so that it makes no point less sure than the others.
    assert np.allclose(other.uncertainty, star_curve(made, 0, ensemble, 3).uncertainty, rtol=0.1)
    candidates = {c.row for c in rank_candidates(made, 0, table, "V", 0, {0})}
    assert 2 not in candidates
    assert 3 in candidates
