"""The standard scale: lines through unsure points, coefficients, extinction, colours."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import numpy as np
import pytest

from builders import filter_census, star_table
from narrow_beacon.core.catalogue.table import Band, StarTable
from narrow_beacon.core.curve.cast import Cast
from narrow_beacon.core.curve.colour_magnitude import FilterField, colour_magnitude
from narrow_beacon.core.curve.colour_terms import (
    Coefficient,
    ColourIndex,
    ColourTerms,
    fit_colour_terms,
)
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.ensemble import Ensemble
from narrow_beacon.core.curve.field_stars import FieldStars, field_stars, serving
from narrow_beacon.core.curve.regression import fit_line
from narrow_beacon.core.curve.standard import Air, ColourlessSeries, colourless, with_other
from narrow_beacon.core.curve.time import airmasses, exposure_times
from narrow_beacon.core.curve.zero_points import ensemble_of
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.transform_wish import GivenTerm, TransformWish
from narrow_beacon.reduce.curves import FilterSeries, curve_of_cast, with_floor
from narrow_beacon.reduce.light import light_of
from narrow_beacon.reduce.standard import index_of, with_given
from narrow_beacon.store.models import KeptTerm
from narrow_beacon.store.terms import mean_of

INDEX = ColourIndex("B", "V")


def test_the_line_of_yorks_paper() -> None:
    # York et al. 2004, table II: Pearson's points with York's weights.
    x = np.array([0.0, 0.9, 1.8, 2.6, 3.3, 4.4, 5.2, 6.1, 6.5, 7.4])
    y = np.array([5.9, 5.4, 4.4, 4.6, 3.5, 3.7, 2.8, 2.8, 2.4, 1.5])
    wx = np.array([1000, 1000, 500, 800, 200, 80, 60, 20, 1.8, 1.0])
    wy = np.array([1, 1.8, 4, 8, 20, 20, 70, 70, 100, 500])
    line = fit_line(x, y, wx**-0.5, wy**-0.5, np.zeros(10))
    assert line is not None
    assert line.slope == pytest.approx(-0.48053, abs=1e-5)
    assert line.level - line.slope * line.centre == pytest.approx(5.47991, abs=1e-5)
    assert line.slope_uncertainty / line.scale == pytest.approx(0.05799, abs=1e-5)
    assert line.scale**2 == pytest.approx(1.48329, abs=1e-4)


def test_a_colour_that_shares_its_error_with_the_magnitude_does_not_tilt_the_line() -> None:
    rng = np.random.default_rng(3)
    slopes, pulls = [], []
    for n in range(150):
        colour = rng.normal(0.75, 0.25, 50)
        db, dv = rng.normal(0, 0.04, (2, 50))
        off = -0.09 * colour + db
        off[:3] += 0.5 * (n % 2)  # stars that vary
        line = fit_line(
            colour + db - dv, off, np.full(50, 0.0566), np.full(50, 0.04), np.full(50, 0.0016)
        )
        assert line is not None
        slopes.append(line.slope)
        pulls.append((line.slope + 0.09) / line.slope_uncertainty)
    # Of 0.02 for one night; the tilt without the covariance would be 0.025.
    assert np.mean(slopes) == pytest.approx(-0.09, abs=0.005)
    assert np.mean(np.abs(pulls) < 2.0) >= 0.9
    assert 0.8 < np.std(pulls) < 1.2


@dataclass(frozen=True)
class Made:
    """Stars in a filter with colour terms of its own over a range of airmass."""

    census: FilterCensus
    stars: StarTable
    airmass: np.ndarray
    colour: np.ndarray
    light: np.ndarray
    """Magnitudes of the stars (exposures, stars)."""


def coloured(
    term: float, first: float, second: float, *, band: str = "B", count: int = 60, seed: int = 1
) -> Made:
    rng = np.random.default_rng(seed)
    v = np.concatenate([[12.4], rng.uniform(11.2, 13.0, count - 1)])
    colour = np.concatenate([[-0.1], rng.uniform(0.4, 1.3, count - 1)])
    airmass = np.linspace(1.0, 2.5, 80)
    m = v + colour if band == "B" else v
    inst = m - 20.0 - term * colour + (first + second * colour) * airmass[:, None]
    noise = np.full(count, 0.004)
    errors = {name: np.full(count, 0.01) for name in ("B", "V")}
    known = {"B": v + colour, "V": v}
    table = star_table(
        count, magnitude=v,
        bands={n: Band(known[n] + rng.normal(0, errors[n]), errors[n]) for n in known},
    )  # fmt: skip
    seen = filter_census(inst + rng.normal(0, noise, inst.shape), noise)
    return Made(seen, table, airmass, colour, np.broadcast_to(m, inst.shape))


def terms_for(made: Made, band: str = "B") -> ColourTerms:
    return fit_colour_terms(
        made.census, 0, made.stars, band, INDEX, made.airmass, ["a"] * made.airmass.size, (0,)
    )


def test_coefficients_are_found_within_their_uncertainties() -> None:
    pulls = []
    for seed in range(20):
        found = terms_for(coloured(-0.09, 0.28, -0.03, seed=seed))
        assert found.transform
        assert found.second_order
        assert found.extinction
        at_mean = -0.09 + 0.03 * found.airmass
        pulls += [
            (found.transform.value - at_mean) / found.transform.uncertainty,
            (found.second_order.value + 0.03) / found.second_order.uncertainty,
            (found.extinction.value - 0.28 + 0.03 * found.colour) / found.extinction.uncertainty,
        ]
        assert found.transform.uncertainty < 0.01
        assert found.second_order.uncertainty < 0.005
    assert np.mean(np.abs(pulls) < 2.0) >= 0.9
    assert np.abs(pulls).max() < 4.0


def test_few_stars_or_stars_of_one_colour_carry_no_coefficient_and_that_is_said() -> None:
    few = terms_for(coloured(-0.09, 0.2, 0.0, count=5))
    assert few.transform is None
    assert "only 4 clean stars" in few.why
    made = coloured(-0.09, 0.2, 0.0, count=12)
    alike = {
        name: Band(made.stars.bands["V"].magnitude + (name == "B") * 0.7, np.full(12, 0.01))
        for name in ("B", "V")
    }
    rng = np.random.default_rng(2)
    alike["B"].magnitude[:] += rng.normal(0, 0.01, 12)
    narrow = fit_colour_terms(
        made.census, 0, star_table(12, bands=alike), "V", INDEX, made.airmass, ["a"] * 80
    )
    assert narrow.transform is None
    assert narrow.why


def test_clouds_and_another_nights_zero_point_are_not_taken_for_extinction() -> None:
    made = coloured(0.0, 0.2, 0.0)
    cloud = np.where((np.arange(80) > 30) & (np.arange(80) < 45), 0.4, 0.0)
    step = np.where(np.arange(80) < 40, 0.0, 0.15)
    dim = 10 ** (-0.4 * (cloud + step))[:, None, None]
    seen = filter_census(
        np.ones((80, 60)), np.ones(60), counts_adu=made.census.counts_adu * dim,
        uncertainty_adu=made.census.uncertainty_adu * dim,
    )  # fmt: skip
    groups = ["a"] * 40 + ["b"] * 40
    found = fit_colour_terms(seen, 0, made.stars, "B", INDEX, made.airmass, groups)
    assert found.extinction is not None
    assert found.extinction.value == pytest.approx(0.2, abs=0.005)
    # Each night has a line of its own, which its clouds have no part in.
    assert found.air is not None
    assert set(found.air.nights) == {"a", "b"}
    for night in found.air.nights.values():
        assert night.value == pytest.approx(0.2, abs=0.01)
    assert not found.air.used[32:44].any()
    left = found.air.zero - found.air.fitted(groups)
    clear = cloud == 0
    assert np.abs(left[clear]).max() < 0.005
    assert left[35] == pytest.approx(-0.4, abs=0.01)


def test_half_of_the_exposures_tell_the_terms_and_the_line_of_all() -> None:
    made = coloured(-0.09, 0.28, -0.03)
    some = np.arange(0, 80, 2)
    groups = ["a"] * 80
    whole = fit_colour_terms(made.census, 0, made.stars, "B", INDEX, made.airmass, groups)
    half = fit_colour_terms(
        made.census.take(some), 0, made.stars, "B", INDEX, made.airmass[some], groups[:40]
    )
    assert whole.transform
    assert half.transform
    assert whole.air
    assert half.air
    assert abs(half.transform.value - whole.transform.value) < 3 * half.transform.uncertainty
    air = half.air.among(made.airmass, some)
    assert np.array_equal(np.flatnonzero(np.isfinite(air.zero)), some)
    assert not air.used[1::2].any()
    # Sixty stars of 4 mmag tell a zero point to a mmag, forty zero points a line to less.
    assert np.abs(air.fitted(groups) - whole.air.fitted(groups)).max() < 0.003


def test_colours_and_magnitudes_of_the_field_are_on_the_standard_scale() -> None:
    rng = np.random.default_rng(6)
    v, colour = rng.uniform(11, 14, 40), rng.uniform(-0.2, 1.8, 40)
    terms = {"B": -0.12, "V": 0.07}
    usual = {"B": 0.7, "V": 0.6}  # the comparison stars' colours
    sides = []
    for name, m in (("B", v + colour), ("V", v)):
        seen = m - terms[name] * (colour - usual[name])
        blank = np.zeros(40)
        stars = FieldStars(
            np.arange(40), seen, np.full(40, 0.002), blank, blank, np.full(40, 9), *[blank] * 6
        )
        own = ColourTerms(name, INDEX, Coefficient(terms[name], 0.0), None, None, 1.0, 0.0)
        sides.append(FilterField(name, stars, own, usual[name]))
    found = colour_magnitude(*sides)
    assert found.transformed
    assert found.colour == pytest.approx(colour, abs=1e-9)
    assert found.magnitude == pytest.approx(v, abs=1e-9)
    raw = colour_magnitude(*(replace(side, terms=None) for side in sides))
    assert not raw.transformed
    assert np.abs(raw.colour - colour).max() > 0.1


def test_the_nights_correlated_noise_is_told_and_added_on_request() -> None:
    rng = np.random.default_rng(5)
    exposures, count = 240, 8
    v = np.full(count, 12.5)
    noise = np.full(count, 0.004)
    # Each star wanders by 3 mmag over an hour, as on flats that are not quite even.
    wander = (
        0.003 * np.sqrt(2) * np.sin(np.arange(exposures)[:, None] / 18 + rng.uniform(0, 6.3, count))
    )
    seen = filter_census(v - 20.0 + wander + rng.normal(0, noise, (exposures, count)), noise)
    table = star_table(count, magnitude=v)
    series = FilterSeries("V", "V", tuple(range(exposures)), ("a",) * exposures,
                          np.full(exposures, 1.2))  # fmt: skip
    plain = curve_of_cast(series, light_of(seen), table, Cast(0, (1, 2, 3, 4, 5), (6,)), 0)
    told, added = (with_floor(plain, added=wanted) for wanted in (False, True))
    # A third of it goes with the ensemble of five that wanders, too.
    assert told.floor_mag == pytest.approx(0.003, rel=0.3)
    assert np.array_equal(told.target.uncertainty, plain.target.uncertainty)
    assert added.floored
    grown = np.sqrt(added.target.uncertainty**2 - plain.target.uncertainty**2)
    assert grown == pytest.approx(told.floor_mag, rel=1e-6)
    assert added.checks[0].uncertainty[0] > plain.checks[0].uncertainty[0]


def test_a_blue_target_among_red_stars_does_not_drift_with_airmass() -> None:
    made = coloured(-0.09, 0.28, -0.03)
    terms = terms_for(made)
    rows = list(range(1, 11))
    inst = made.census.magnitudes(0)[0][:, 0]
    noise = np.full(80, 0.004)
    theirs = np.repeat(made.airmass[:, None], 10, axis=1)
    jd = np.arange(80) / 200.0
    series = colourless(
        made.census, 0, made.stars, terms, rows, (inst, noise), jd, Air(made.airmass, theirs)
    )
    assert series is not None
    magnitude = series.magnitude + series.per_colour * (-0.1 - series.zero_colour)
    error = magnitude - made.light[:, 0]
    # Ten stars known to 10 mmag each.
    assert abs(error.mean()) < 0.012
    drift = np.polyfit(made.airmass, error, 1)[0] * 1.5
    assert abs(drift) < 0.004  # 1.5 mmag by noise; uncorrected it is 41


def test_both_filters_and_the_colour_are_solved_together() -> None:
    rng = np.random.default_rng(5)
    jd = np.arange(400) / 400.0 * 0.2
    b, v = jd + 0.0001, jd + 0.0004
    index = {"B": -0.09, "V": 0.04}
    colour = 0.3 + 0.5 * jd
    light = {"V": 12.0 + 0.3 * np.sin(20 * jd), "B": 12.0 + 0.3 * np.sin(20 * jd) + colour}
    blank = Ensemble(*([np.zeros(1)] * 3), 0.0, 0.0, *([np.zeros((1, 1))] * 2),
                     np.zeros((1, 1), bool), np.ones(1))  # fmt: skip

    def of(band: str, at: np.ndarray) -> tuple[ColourlessSeries, ColourTerms]:
        seen = light[band] - index[band] * (colour - 0.7) + rng.normal(0, 0.005, 400)
        term = Coefficient(index[band], 0.004, 50)
        terms = ColourTerms(band, INDEX, term, None, None, 1.0, 0.7)
        slope = np.full(400, index[band])
        return ColourlessSeries(at, seen, np.full(400, 0.005), slope, 0.7, blank), terms

    nights = [0] * 400
    for mine, other in (("B", "V"), ("V", "B")):
        series, terms = of(mine, b if mine == "B" else v)
        theirs, their_terms = of(other, v if mine == "B" else b)
        sure = np.ones(400, bool)
        found = with_other(series, terms, theirs, their_terms, sure, nights, nights)
        there = np.isfinite(found.magnitude)
        assert there.sum() >= 399
        pull = ((found.magnitude - light[mine]) / found.uncertainty)[there]
        assert abs(pull.mean()) < 0.2
        assert 0.9 < pull.std() < 1.1
        off = ((found.colour - colour) / found.colour_uncertainty)[there]
        assert 0.9 < off.std() < 1.1
        # The coefficient's own uncertainty is common to all points.
        assert found.common_mag == pytest.approx(0.004 * 0.35, rel=0.35)
        far = with_other(series, terms, theirs, their_terms, sure, nights, [1] * 400)
        assert not np.isfinite(far.magnitude).any()


def test_a_given_coefficient_takes_the_place_of_the_fit() -> None:
    found = terms_for(coloured(-0.09, 0.28, -0.03))
    wish = TransformWish(
        given={"B": GivenTerm(-0.05, 0.01)}, extinction={"B": 0.3}, second_order={"B": -0.02}
    )
    given = with_given(found, "B", wish)
    assert given.transform == Coefficient(-0.05 + 0.02 * found.airmass, 0.01)
    assert given.extinction == Coefficient(0.3, 0.0)
    assert with_given(found, "V", wish) == found
    # Never against another colour than the one that it was given for.
    other = with_given(found, "B", TransformWish(given={"B": GivenTerm(-0.05, 0.01, "V-I")}))
    assert other.transform is None
    assert "against V-I" in other.why


@pytest.mark.parametrize(
    ("band", "measured", "known", "said", "index"),
    [
        ("B", ["V", "B"], ["B", "V", "R"], "", "B-V"),
        ("V", ["B", "V", "R"], ["B", "V", "R"], "", "B-V"),
        ("R", ["B", "V", "R"], ["B", "V", "R"], "", "V-R"),
        ("R", ["R"], ["B", "V", "R"], "", "B-V"),
        ("V", ["V"], ["B", "V"], "", "B-V"),
        ("G", ["G"], ["BP", "G", "RP"], "", "BP-G"),
        ("V", ["V", "B"], ["B", "V", "I"], "V-I", "V-I"),
        ("V", ["V"], ["V"], "", None),
    ],
)
def test_the_colour_that_a_band_hangs_on(
    band: str, measured: list[str], known: list[str], said: str, index: str | None
) -> None:
    found = index_of(band, measured, known, said)
    assert (found.name if found else None) == index


def test_airmass_of_single_stars_is_that_of_the_target() -> None:
    site = Site(61.2, -9.4, 140.0)
    mids = [datetime(2026, 10, 12, 20, 30) + timedelta(minutes=30 * n) for n in range(16)]
    times = exposure_times(mids, 300.0, 20.0, site)
    found = airmasses(times.jd_utc, np.array([300.0, 301.0]), np.array([20.0, 20.5]), site)
    high = times.airmass < 4.0
    assert found[high, 0] == pytest.approx(times.airmass[high], rel=2e-3)
    assert np.ptp(found[high, 1] - found[high, 0]) > 0.01


def test_every_star_of_the_field_has_its_mean_scatter_and_score() -> None:
    rng = np.random.default_rng(8)
    exposures, count = 200, 30
    v = np.concatenate([[12.5], np.linspace(12.0, 15.0, count - 1)])
    noise = 0.003 * 10 ** (0.2 * (v - 12.0))
    zero = 20.0 + 0.3 * rng.random(exposures)
    inst = v[None, :] - zero[:, None] + rng.normal(0, noise, (exposures, count))
    inst[:, 7] += 0.05 * np.sin(np.arange(exposures) / 20)
    inst[40, 9] -= 0.5  # one wild measure
    seen = filter_census(inst, noise)
    colour = np.full(count, 0.6)
    colour[3] = 1.4
    table = star_table(
        count, magnitude=v, bands={n: Band(v + colour * (n == "B"), np.full(count, 0.01))
                                   for n in ("B", "V")},
        known_variable=np.arange(count) == 5,
    )  # fmt: skip
    ensemble = ensemble_of(seen, 0, table, "V", list(range(1, 5)))
    found = field_stars(seen, 0, ensemble, range(1, 5))
    steady = np.setdiff1d(np.arange(count), [7])
    assert found.times[steady] == pytest.approx(1.0, abs=0.3)
    assert found.times[7] > 3
    assert found.alike[7] > 0.8
    assert np.abs(found.alike[steady]).max() < 0.35  # 1/√200 each
    # A wave of ±50 mmag, slow beside runs of eight; noise alone leaves a third of its mean's.
    assert found.correlated_mag[7] == pytest.approx(0.05 / np.sqrt(2), rel=0.2)
    assert np.median(found.correlated_mag[steady] / found.expected_mag[steady]) < 0.15
    off = found.magnitude - v - np.median((found.magnitude - v)[1:5])
    assert np.abs(off / found.uncertainty_mag)[steady].max() < 4.5
    serves = serving(found, table, "V", INDEX.of(table), 0)
    assert serves.score[[0, 5]].tolist() == [0.0, 0.0]
    assert serves.score[7] < serves.score[6]
    assert serves.score[3] < min(serves.score[2], serves.score[4])
    strict = serving(found, table, "V", INDEX.of(table), 0, by_colour=False)
    assert strict.score[3] < serves.score[3]
    assert strict.score[2] == serves.score[2]
    assert 1.0 < serves.fainter[-1] < 2.6


def test_all_nights_of_a_kit_together_are_their_weighted_mean() -> None:
    def kept(value: float, sigma: float) -> KeptTerm:
        return KeptTerm(coefficient=value, uncertainty=sigma, stars=10)

    alike = mean_of([kept(-0.04, 0.004), kept(-0.046, 0.004)])
    assert alike is not None
    assert (alike.value, alike.fitted) == (pytest.approx(-0.043), 20)
    assert alike.uncertainty == pytest.approx(0.004 * np.sqrt(1.125 / 2))
    apart = mean_of([kept(-0.04, 0.001), kept(-0.10, 0.001)])
    assert apart is not None
    assert apart.uncertainty == pytest.approx(0.03)  # half of how far they are apart
    assert mean_of([kept(-0.04, 0.004)]) is None
