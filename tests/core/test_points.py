"""What the observer asks of points: trends that the check star shows, and rules."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from narrow_beacon.core.curve.light_curve import StarCurve
from narrow_beacon.core.curve.points import PointsWish, ruled_out, trend_of, without_trend
from narrow_beacon.core.measure.flags import StarFlag

NIGHTS = np.repeat([0, 1, 2], 60)
AIRMASS = np.tile(np.linspace(1.0, 2.2, 60), 3)
WIDTH = 3.0 + 0.4 * np.sin(np.arange(180) / 7.0)
SIGMA = 0.004
TREND = 0.02 * (AIRMASS - AIRMASS.mean()) - 0.03 * (WIDTH - WIDTH.mean())
OFFSETS = np.array([-0.012, 0.0, 0.012])[NIGHTS]


def star(magnitude: np.ndarray, **changes: object) -> StarCurve:
    count = magnitude.size
    no, nothing = np.zeros(count), np.full(count, np.nan)
    made = StarCurve(
        magnitude, np.full(count, SIGMA), magnitude, np.zeros(count, int), no, no, nothing, no
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def stars(seed: int, amount: np.ndarray) -> tuple[StarCurve, StarCurve, np.ndarray]:
    """A target that dips, a check star with what they share, and the target's truth."""
    rng = np.random.default_rng(seed)
    truth = 12.0 + 0.3 * np.exp(-(((np.arange(180) - 100) / 12.0) ** 2))
    target = star(truth + amount + rng.normal(0, SIGMA, 180))
    return target, star(12.5 + amount + rng.normal(0, SIGMA, 180)), truth


def test_what_the_check_star_follows_is_taken_out_of_the_target() -> None:
    away, pulls = [], []
    for seed in range(40):
        target, check, truth = stars(seed, TREND + OFFSETS)
        trend = trend_of(check, {"airmass": AIRMASS, "star width": WIDTH}, NIGHTS.tolist())
        assert trend is not None
        left = without_trend(target, trend)
        away.append(left.magnitude - truth)
        pulls.append((left.magnitude - truth) / left.uncertainty)
        assert left.words(3)[-1] == f"trend {1000 * trend.magnitude[3]:+.1f} mmag taken out"
        assert not left.doubtful.any()
    # The shared level stays, the rest goes: what is left is noise, as it is said to be.
    mean = np.mean(away, axis=0)
    assert np.std(mean) < 3 * SIGMA / np.sqrt(40)
    assert 0.95 < np.std(pulls) < 1.05
    assert np.std(TREND + OFFSETS) > 3 * SIGMA


def test_nothing_is_taken_out_by_too_few_points() -> None:
    _, check, _ = stars(1, TREND)
    few = star(np.where(np.arange(180) < 8, check.magnitude, np.nan))
    assert trend_of(few, {"airmass": AIRMASS}, None) is None


def test_a_point_of_which_nothing_is_known_says_so_and_stays() -> None:
    target, check, _ = stars(2, TREND)
    width = WIDTH.copy()
    width[5] = np.nan
    nights = NIGHTS.copy()
    nights[170:] = 7  # a night on which the check star was not seen
    unseen = star(np.where(nights == 7, np.nan, check.magnitude))
    trend = trend_of(unseen, {"star width": width}, nights.tolist())
    assert trend is not None
    left = without_trend(target, trend)
    assert sorted(left.ruled) == [5, *range(170, 180)]
    assert left.words(5) == ["trend not known"]
    assert left.magnitude[175] == target.magnitude[175]
    assert left.doubtful[175]
    assert not left.doubtful[6]


def test_a_wild_point_of_the_check_star_does_not_bend_the_line() -> None:
    _, check, _ = stars(3, TREND)
    bent = check.magnitude.copy()
    bent[[0, 60, 120]] += 1.0
    clean = trend_of(check, {"airmass": AIRMASS}, None)
    wild = trend_of(star(bent), {"airmass": AIRMASS}, None)
    assert clean is not None
    assert wild is not None
    assert np.abs(wild.magnitude - clean.magnitude).max() < SIGMA / 4


def test_rules_make_points_doubtful_and_say_why() -> None:
    target, check, _ = stars(4, np.zeros(180))
    sigma = np.full(180, SIGMA)
    sigma[10] = 0.08
    flags = np.zeros(180, int)
    flags[20] = int(StarFlag.COSMIC_RAY)
    magnitude = check.magnitude.copy()
    magnitude[30] += 10 * SIGMA
    made = replace(target, uncertainty=sigma, flags=flags)
    assert not made.doubtful.any()
    wish = PointsWish(0.05, 6.0, ("cosmic ray",))
    ruled = ruled_out(made, star(magnitude), wish)
    assert np.flatnonzero(ruled.doubtful).tolist() == [10, 20, 30]
    assert ruled.words(10) == ["uncertainty above 50 mmag"]
    assert ruled.words(20)[-1] == "cosmic ray, by rule"
    assert ruled.words(30)[0].startswith("check star off by")
    assert ruled_out(made, None, wish).ruled.keys() == {10, 20}
    with pytest.raises(ValueError, match="no such flag or quantity"):
        PointsWish(take_out=("moon",))
