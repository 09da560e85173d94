"""What exposures are set aside for, from files to the list of exposures, and how a plan decides."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from narrow_beacon.bench.vet import vet_scores
from narrow_beacon.core.stars.quality import Quality
from narrow_beacon.core.stars.troubles import shaded
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce.codec import quality_from_json, quality_to_json
from narrow_beacon.reduce.light import StarsSeen
from narrow_beacon.reduce.looking import Looked, StarList
from narrow_beacon.reduce.vet import census_lights
from narrow_beacon.reduce.walk import scratch_walk
from narrow_beacon.simulate.plain import write_plain_night
from narrow_beacon.store.pieces import read_looked, write_looked
from small_nights import COUNT, SHAPE, Reduced, reduced

CLOUD, WIDE = "raw/foxglove-004.fits", "raw/foxglove-008.fits"
TROUBLES: dict[int, dict[str, Any]] = {3: {"transparency": 0.3}, 7: {"fwhm_px": 8.0}}
"""A cloud on the fourth exposure, and the eighth out of focus."""


def vetted(folder: Path, words: str = "") -> Reduced:
    """A small night with two troubles, its plan with a section on vetting."""
    return reduced(folder, plan={"[output]": f"[vet]\n{words}\n[output]"}, troubles=TROUBLES)


def aside(night: Reduced) -> dict[str, str]:
    return {
        file: row["reason"] for file, row in night.exposures.items() if row["state"] == "set aside"
    }


@pytest.mark.parametrize("seed", [3])
def test_every_trouble_of_a_troubled_night_is_named_and_no_good_exposure(seed: int) -> None:
    # `bench vet` looks at thirty such nights.
    looked, whole = vet_scores(seed)
    assert looked.missed == ()
    assert whole.missed == ()
    assert looked.needless == whole.needless == ()
    assert whole.planted > 25


def test_a_faint_star_that_a_cosmic_ray_hit_once_tells_nothing_of_the_frame() -> None:
    """Of thousands of exposures each faint star is bright on one: on another, where noise takes its
    light, nothing stands before the frame.
    """
    rng = np.random.default_rng(4)
    x, y = rng.uniform(0, 300, 40), rng.uniform(0, 300, 40)
    x[36:], y[36:] = (
        (330.0, 350.0, 370.0, 390.0),
        (20.0, 60.0, 140.0, 180.0),
    )  # alone in their parts
    usual = np.where(np.arange(40) < 36, 50000.0, 150.0)
    counts = rng.normal(usual, 100.0, (900, 40))
    counts[rng.integers(900, size=4), np.arange(36, 40)] += 40000.0
    seen = StarsSeen(
        counts, np.full(counts.shape, 100.0), *(np.tile(at, (900, 1)) for at in (x, y))
    )
    lights = census_lights(seen, (400, 400), np.full(900, np.nan), np.full(900, 60.0))
    assert not any(shaded(parts).any() for parts in lights.parts)
    # What stands before bright stars is seen, also for half of the night.
    seen.counts_adu[:450, y > 200] *= 0.05
    lights = census_lights(seen, (400, 400), np.full(900, np.nan), np.full(900, 60.0))
    assert [shaded(parts).any() for parts in lights.parts] == [True] * 450 + [False] * 450


def test_a_plan_without_words_takes_the_usual_rules(tmp_path: Path) -> None:
    found = aside(vetted(tmp_path))
    assert found.keys() == {CLOUD, WIDE}
    assert found[CLOUD].startswith("cloud: ")
    assert found[WIDE].startswith("out of focus: stars are ")


def test_what_is_kept_takes_part_and_what_is_set_aside_does_not(tmp_path: Path) -> None:
    words = f'keep = ["{CLOUD}"]\nset_aside = {{ "raw/foxglove-002.fits" = "a lamp was on" }}'
    night = vetted(tmp_path, words)
    found = aside(night)
    assert found.keys() == {WIDE, "raw/foxglove-002.fits"}
    assert found["raw/foxglove-002.fits"] == "a lamp was on"
    # Through cloud the magnitude holds, with its wider uncertainty.
    at = [row["exposure"] for row in night.rows].index(CLOUD)
    assert abs(night.error[at]) < 5 * night.sigma[at] + 0.01
    assert night.sigma[at] > 1.3 * np.median(night.sigma)


def test_rules_and_limits_of_a_plan_move_what_is_set_aside(tmp_path: Path) -> None:
    words = (
        "light = 0.1\nwidth = 9.0\n"
        'limits = [{ quality = "star width", above = 6.0 }, { quality = "light", below = 0.2 }]'
    )
    found = aside(vetted(tmp_path, words))
    assert found == {WIDE: "limit: star width above 6 px"}


@pytest.mark.parametrize("every_night", [False, True])
def test_a_limit_holds_for_its_night(tmp_path: Path, every_night: bool) -> None:
    night = "" if every_night else ', night = "2026-09-21"'
    words = f'limits = [{{ quality = "stars", below = 1000000{night} }}]'
    night_of = vetted(tmp_path, words)
    # Never all of them: then there is nothing to measure, and that is said of each.
    assert len(aside(night_of)) == (COUNT if every_night else 2)


def test_looks_are_kept_to_the_last_bit(tmp_path: Path) -> None:
    write_plain_night(tmp_path, 7, exposures=3, shape=SHAPE, density=12000.0, calibration=6)
    with scratch_walk(read_plan(tmp_path / "plan.toml"), 1, None) as walk:
        kept: dict[str, Looked] = {}
        walk.keeper.keep_looked = kept.update  # type: ignore[method-assign, assignment]
        walk.look()
        assert walk.keeper.looks.reference is not None
        assert "stars over width² × elongation" in walk.keeper.looks.reference.words
    assert len(kept) == 3
    for name, looked in kept.items():
        write_looked(tmp_path / f"{name}.npz", looked)
        again = read_looked(tmp_path / f"{name}.npz")
        assert again.quality == looked.quality
        assert isinstance(again.stars, StarList)
        assert looked.stars is not None
        assert np.array_equal(again.stars.light, looked.stars.light)


def test_a_quality_without_numbers_comes_back_without_them() -> None:
    nothing = float("nan")
    bare = Quality(nothing, nothing, 3, 91.0, 8.0, trails=((1.0, 2.0, 3.0, 4.0),))
    plain = quality_to_json(bare)
    assert plain["fwhm_px"] is None
    again = quality_from_json(plain)
    assert (again.stars, again.sky_adu_per_px, again.trails) == (3, 91.0, bare.trails)
    assert np.isnan(again.fwhm_px)
    assert np.isnan(again.noise_ratio)
