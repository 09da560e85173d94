"""Exposures matched to one another by their stars, without a catalogue."""

from __future__ import annotations

import numpy as np
import pytest

from narrow_beacon.bench.match import match_pair
from narrow_beacon.core.errors import NotPlacedError
from narrow_beacon.core.place.match import Matcher
from narrow_beacon.simulate.pairs import SHAPE, Pair, make_pair


def test_pairs_are_matched_whatever_the_shift_turn_or_mirror_and_how_many_stars_differ() -> None:
    # Seeds 3, 11 and 40 need more stars than the brightest 45; `bench match` looks at 500.
    results = [match_pair(make_pair(seed)) for seed in (*range(16), 40)]
    assert all(result.matched for result in results)
    assert max(result.error_px for result in results) < 0.1
    assert max(result.worst_px for result in results) < 0.5


@pytest.mark.parametrize("seed", [2, 7])
def test_exposures_with_nothing_in_common_are_refused(seed: int) -> None:
    one, other = make_pair(seed), make_pair(seed + 50_000)
    assert not match_pair(Pair(one.first, other.second, one.turn, one.shift, 0.0)).matched


def test_a_match_tells_turn_and_mirror_and_goes_both_ways() -> None:
    x, y = np.random.default_rng(4).uniform(0, 1000, (2, 90))
    cosine, sine = np.cos(np.radians(30.0)), np.sin(np.radians(30.0))
    for mirror in (1.0, -1.0):
        u = mirror * (cosine * (x - 500) + sine * (y - 500)) + 480
        v = cosine * (y - 500) - sine * (x - 500) + 530
        inside = (u > 0) & (u < 1000) & (v > 0) & (v < 1000)
        found = Matcher(x, y).match(u[inside], v[inside], (1000, 1000))
        assert found.mirrored == (mirror < 0)
        assert found.matched == inside.sum()
        back = found.to_reference(u[inside], v[inside])
        assert np.allclose(back, (x[inside], y[inside]), atol=1e-3)
        there = found.from_reference(x[inside], y[inside])
        assert np.allclose(there, (u[inside], v[inside]), atol=1e-3)
        if mirror > 0:
            assert found.turn_deg == pytest.approx(30.0, abs=1e-3)


def test_another_telescopes_exposure_is_no_match_and_few_stars_are_none() -> None:
    pair = make_pair(1)
    matcher = Matcher(pair.first.x_px, pair.first.y_px)
    with pytest.raises(NotPlacedError, match=r"1\.33\d of the reference’s was found"):
        matcher.match(0.75 * pair.second.x_px, 0.75 * pair.second.y_px, SHAPE)
    with pytest.raises(NotPlacedError, match="only 4 stars were found"):
        matcher.match(pair.second.x_px[:4], pair.second.y_px[:4], SHAPE)
