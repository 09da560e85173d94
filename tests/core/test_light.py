"""Curves of more exposures than stars are told by: nothing is read that is not needed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from test_curve import census

from narrow_beacon.core.arrays import Ints
from narrow_beacon.core.measure.collection import BY_STAR, FilterCensus
from narrow_beacon.reduce import curves
from narrow_beacon.reduce.curves import FilterCurve, FilterSeries, Roles, make_curve
from narrow_beacon.reduce.light import FilterLight, light_of

EXPOSURES, STARS, VARIES = 2600, 60, 6


def watched(light: FilterLight, sizes: list[int]) -> FilterLight:
    """The same, with a note of how many measurements were read at a time."""

    def read(places: Ints, rows: Ints, steps: tuple[int, ...]) -> FilterCensus:
        sizes.append(places.size * rows.size)
        return light.read(places, rows, steps)

    return replace(light, read=read)


def curve(light: FilterLight, roles: Roles) -> FilterCurve:
    count = len(light)
    series = FilterSeries("V", "V", tuple(range(count)), ("one",) * count, np.full(count, 1.2))
    return make_curve(series, light, census(STARS, 2)[1], roles, 0)


@pytest.mark.parametrize("roles", [Roles(0), Roles(0, (2, 5, VARIES, 9), (12,)), Roles(0, (3, 8))])
def test_a_cast_told_by_some_of_the_exposures_is_that_of_all(
    roles: Roles, monkeypatch: pytest.MonkeyPatch
) -> None:
    whole, _ = census(STARS, EXPOSURES, vary=VARIES)
    sizes: list[int] = []
    by_some = curve(watched(light_of(whole), sizes), roles)
    assert max(sizes) < 0.6 * EXPOSURES * STARS
    monkeypatch.setattr(curves, "_MOST_LOOKED_AT", EXPOSURES)
    by_all = curve(light_of(whole), roles)
    assert (by_some.cast.rows, by_some.cast.checks) == (by_all.cast.rows, by_all.cast.checks)
    assert VARIES not in by_some.cast.rows
    np.testing.assert_array_equal(by_some.target.magnitude, by_all.target.magnitude)
    # Of two comparison stars only others tell whether they wander: all of them, or the brightest.
    np.testing.assert_allclose(by_some.target.uncertainty, by_all.target.uncertainty, rtol=0.02)


def test_what_is_collected_for_some_stars_and_radii_is_a_part_of_all() -> None:
    whole, _ = census(8, 5)
    lists = {name: getattr(whole, name) for name in BY_STAR}
    lists = {name: np.concatenate([v, 2 * v, 3 * v], axis=2) for name, v in lists.items()}
    deep = replace(whole, radii_px=np.tile([3.0, 5.0, 8.0], (5, 1)), **lists)
    light = light_of(deep)
    assert light.at(1, [99]).at("counts_adu", 1).shape == (5, 0)
    few = light.take(np.array([1, 3])).at(2, [6, 0, 4, 99])
    assert few.rows.tolist() == [0, 4, 6]
    np.testing.assert_array_equal(few.at("counts_adu", 2), deep.counts_adu[[1, 3]][:, [0, 4, 6], 2])
    with pytest.raises(ValueError, match="not in"):
        few.at("counts_adu", 1)
    assert light.of_stars([7, 1]).counts_adu.shape == (5, 2, 3)
    assert np.concatenate(light.blocks()).tolist() == list(range(8))
