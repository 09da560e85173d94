"""Times of minimum and maximum, elements and O − C, several periods, and a field's variables."""

from __future__ import annotations

import json
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from click.testing import CliRunner

from narrow_beacon.bench.series import score_period, score_turn
from narrow_beacon.cli import main
from narrow_beacon.core.curve.field_stars import exposures_of_field
from narrow_beacon.core.series.elements import (
    Elements,
    ElementsError,
    departures,
    fit_elements,
    together,
)
from narrow_beacon.core.series.extrema import find_extrema
from narrow_beacon.core.series.periods import find_periods
from narrow_beacon.core.series.prewhiten import combination, without_periods
from narrow_beacon.core.series.survey import FieldLight, survey
from narrow_beacon.reduce.settle_remarks import _sampled_remarks
from narrow_beacon.simulate.curves import TURNS, nights_of, turning


def test_turns_are_timed_as_well_as_they_say() -> None:
    scores = [score_turn(seed) for seed in range(40)]
    assert all(score.found == 1 for score in scores)
    pulls = np.array([score.pull for score in scores])
    # 40 values: their scatter is known to 11%; some kinds claim less than they could.
    assert 0.6 < np.sqrt(np.mean(pulls**2)) < 1.3
    assert all(len(score.methods) >= 2 for score in scores)


def test_what_is_partly_observed_or_lopsided_says_so() -> None:
    said = {}
    for seed in range(3 * len(TURNS)):
        curve = turning(seed)
        found = find_extrema(curve.time_d, curve.magnitude, curve.sigma_mag, curve.turn)
        said.setdefault(curve.kind, []).extend((e.complete, e.symmetric) for e in found)
    assert not any(complete for complete, _ in said["partly observed"])
    assert all(complete for complete, _ in said["partial"] + said["total"] + said["pulse"])
    assert not all(symmetric for _, symmetric in said["pulse"])
    assert sum(symmetric for _, symmetric in said["partial"]) >= 2


def test_noise_and_what_only_falls_turn_nowhere() -> None:
    rng = np.random.default_rng(4)
    t = np.arange(0.3, 0.6, 0.002)
    sigma = np.full(t.size, 0.01)
    for true in (np.zeros(t.size), 0.3 * (t - 0.3)):
        assert find_extrema(t, 12 + true + rng.normal(0, 0.01, t.size), sigma) == []
    # A single wild point is no eclipse.
    wild = 12 + rng.normal(0, 0.01, t.size)
    wild[70] += 0.5
    assert find_extrema(t, wild, sigma) == []


def times_of(elements: Elements, cycles: np.ndarray, error_d: float, seed: int) -> np.ndarray:
    rng = np.random.default_rng(seed)
    return elements.time(cycles) + error_d * rng.standard_normal(cycles.size)


def test_elements_are_fitted_with_honest_uncertainties() -> None:
    true = Elements(2461000.3, 0.3519)
    cycles = np.array([0.0, 3, 5, 71, 72, 150, 151, 400])
    pulls = []
    for seed in range(60):
        times = times_of(true, cycles, 2e-4, seed)
        fit = fit_elements(times, np.full(8, 2e-4), cycles, "minimum").elements
        pulls.append((fit.period_d - true.period_d) / fit.period_uncertainty_d)
    # The uncertainty is widened where the times scatter more, never narrowed: below 1 as a rule.
    assert 0.7 < np.std(pulls) < 1.2
    with pytest.raises(ElementsError, match="takes 2 cycles"):
        fit_elements(times[:1], np.full(1, 2e-4), cycles[:1], "minimum")


def test_o_minus_c_counts_cycles_halves_and_what_is_said_by_hand() -> None:
    elements = Elements(2461000.0, 0.5)
    times = np.array([2461000.001, 2461001.249, 2461010.5])
    found = departures(elements, times)
    assert found.cycle.tolist() == [0.0, 2.5, 21.0]
    assert found.o_minus_c_d == pytest.approx([0.001, -0.001, 0.0], abs=1e-9)
    corrected = departures(elements, times, [None, None, 20.0])
    assert corrected.o_minus_c_d[2] == pytest.approx(0.5, abs=1e-9)
    growing = Elements(2461000.0, 0.5, quadratic_d=1e-7)
    assert growing.phase(growing.time(np.array([900.25]))) == pytest.approx([0.25], abs=1e-6)


def test_a_changing_period_shows() -> None:
    true = Elements(2461000.0, 0.41, quadratic_d=4e-9)
    cycles = np.round(np.linspace(0, 4000, 24))
    times = times_of(true, cycles, 3e-4, 1)
    sigma = np.full(24, 3e-4)
    fit = fit_elements(times, sigma, cycles, "minimum", quadratic=True)
    found = fit.elements
    assert fit.improvement > 100
    assert abs(found.quadratic_d - 4e-9) < 3 * found.quadratic_uncertainty_d
    steady = fit_elements(times_of(Elements(2461000.0, 0.41), cycles, 3e-4, 2), sigma, cycles,
                          "minimum", quadratic=True)  # fmt: skip
    assert steady.improvement < 9
    # One time that is far off takes no part.
    times[7] += 0.02
    assert not fit_elements(times, sigma, cycles, "minimum", quadratic=True).used[7]


def test_the_same_turn_in_several_filters_is_one_time() -> None:
    mean, error, _ = together(
        np.array([10.0, 10.002, 20.0, 20.02]), np.array([0.001, 0.001, 0.001, 0.001]),
        np.array([0, 0, 1, 1]),
    )  # fmt: skip
    assert mean == pytest.approx([10.001, 20.01])
    assert error[0] == pytest.approx(0.001, rel=0.5)
    assert error[1] > 0.005  # they disagree: not as sure as they say


def test_other_periods_are_found_once_the_first_is_off() -> None:
    rng = np.random.default_rng(6)
    t = nights_of(rng, 10, 4.0)
    one, two = 0.1371, 0.0893
    y = 0.03 * np.sin(2 * np.pi * t / one) + 0.015 * np.sin(2 * np.pi * t / two + 1)
    y += 0.006 * np.sin(2 * np.pi * t * (1 / one + 1 / two))
    y += rng.normal(0, 0.004, t.size)
    sigma = np.full(t.size, 0.004)
    found: list[float] = []
    for _ in range(3):
        left = without_periods(t, y, sigma, found)
        found.append(find_periods(t, left, sigma, "waves", 0.03, 1.0).peaks[0].period_d)
    assert found[:2] == pytest.approx([one, two], rel=1e-3)
    width = 0.35 / np.ptp(t)
    assert combination(1 / found[2], [1 / found[0], 1 / found[1]], width) == "f1 + f2"
    assert combination(2 / one, [1 / one, 1 / two], width) == "2 f1"
    assert combination(3.21, [1 / one, 1 / two], width) == ""
    assert np.std(without_periods(t, y, sigma, found)) < 0.0045


def test_most_campaigns_give_their_period() -> None:
    scores = [one for one in map(score_period, range(100, 116)) if one.sure]
    assert sum(one.first for one in scores) >= 0.8 * len(scores)


def field(seed: int, filters: tuple[str, ...] = ("B", "V"), stars: int = 60) -> list[FieldLight]:
    """A field of constant stars, 12 to 16 mag, of which the third varies by 30 mmag, the fourth is
    seen with one wild point, and all share what the zero points lack.
    """
    rng = np.random.default_rng(seed)
    t = np.concatenate([n + np.arange(0.3, 0.55, 0.004) for n in (0, 1)])
    magnitude = np.sort(rng.uniform(12, 16, stars))
    colour = rng.uniform(0.2, 1.4, stars)
    found = []
    for name in filters:
        sigma = np.tile(0.003 * 10 ** (0.2 * (magnitude - 12)), (t.size, 1))
        shown = magnitude + sigma * rng.standard_normal(sigma.shape)
        shown += rng.normal(0, 0.01, t.size)[:, None]  # each exposure's own zero point
        shown += 0.02 * np.outer(t - t.mean(), colour - 0.8)  # the air's colour
        shown[:, 2] += 0.03 * np.sin(2 * np.pi * t / 0.13)
        shown[40, 3] += 0.8
        names = tuple(f"Sorrel {n}" for n in range(stars))
        found.append(FieldLight(name, t, shown, sigma, np.full(t.size, 3.0), names, colour,
                                np.zeros(stars), np.zeros(stars)))  # fmt: skip
    return found


@pytest.mark.parametrize("filters", [("V",), ("B", "V")])
def test_the_variable_star_of_a_field_stands_out_alone(filters: tuple[str, ...]) -> None:
    for seed in range(3):
        suspects = survey(field(seed, filters))
        assert [one.star for one in suspects] == ["Sorrel 2"]
        assert suspects[0].period_d == pytest.approx(0.13, rel=0.02)
        assert suspects[0].scatter_mag == pytest.approx(0.021, rel=0.2)


def test_what_follows_the_seeing_beside_a_neighbour_is_no_variation() -> None:
    light = field(5, ("V",))[0]
    rng = np.random.default_rng(9)
    width = 3.0 + np.cumsum(rng.normal(0, 0.1, light.time_d.size))
    light.magnitude[:, 7] -= 0.05 * (width - 3.0)
    touched = light.touched.copy()
    touched[7] = 1.0
    told = FieldLight(
        light.filter, light.time_d, light.magnitude, light.uncertainty, width, light.names,
        light.colour, touched, light.beside_mag,
    )  # fmt: skip
    assert [one.star for one in survey([told], periods=False)] == ["Sorrel 2"]


def test_a_long_campaign_is_surveyed_by_stretches_over_all_of_it() -> None:
    assert exposures_of_field(3000).tolist() == list(range(3000))
    some = exposures_of_field(50_000)
    assert some.size <= 4096
    assert some[0] == 0
    assert some[-1] > 49_900
    assert np.all(np.diff(some) > 0)
    # What is alike from one exposure to the next can only be told by neighbours.
    assert np.mean(np.diff(some) == 1) > 0.9
    # From one stretch to the next never much longer than from any other.
    gaps = np.diff(some)[np.diff(some) > 1]
    assert np.ptp(gaps) <= 16
    # And it is said.
    long = SimpleNamespace(indices=range(50_000), filter="V")
    (said,) = _sampled_remarks(long)  # type: ignore[arg-type]
    assert said.words.startswith(f"the field's stars are told by {some.size} of 50000 exposures")
    assert "3.5 times less sure" in said.matters
    long.indices = range(4_096)
    assert not _sampled_remarks(long)  # type: ignore[arg-type]


def test_extrema_and_survey_on_the_command_line(tmp_path: Path) -> None:
    curve = turning(0)
    rows = [f"{a:.6f},{b:.5f},{c:.5f},V" for a, b, c in
            zip(curve.time_d, curve.magnitude, curve.sigma_mag, strict=True)]  # fmt: skip
    path = tmp_path / "night.csv"
    path.write_text("\n".join(["bjd_tdb,magnitude,uncertainty,filter", *rows]) + "\n")
    run = CliRunner().invoke(main, ["extrema", str(path), "--json"])
    assert run.exit_code == 0, run.output
    (told,) = json.loads(run.stdout)
    assert {"kind", "bjd_tdb", "uncertainty_d", "method", "points", "filter", "symmetric"} <= set(
        told
    )
    assert (told["kind"], told["filter"]) == ("minimum", "V")
    assert abs(told["bjd_tdb"] - curve.true_d) < 4 * told["uncertainty_d"]
    words = CliRunner().invoke(main, ["extrema", str(path), "--kind", "maximum"])
    assert "no maximum stands out" in words.output
    nothing = CliRunner().invoke(main, ["survey", str(tmp_path)])
    assert nothing.exit_code == 2
    assert "has no light_curve.csv" in nothing.output
