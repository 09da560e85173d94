"""Least squares and medians that kernels share, held against NumPy's."""

from __future__ import annotations

import numpy as np
import pytest

from narrow_beacon.core.arrays import alike, flat, middle, middles, values_at
from narrow_beacon.core.weighted_fit import weighted_fit


@pytest.mark.parametrize("terms", [1, 3, 15])
def test_weighted_least_squares_find_what_singular_values_find(terms: int) -> None:
    rng = np.random.default_rng(terms)
    design = rng.uniform(-1, 1, (60, terms)) ** np.arange(1, terms + 1)
    target, weights = rng.normal(size=(60, 2)), rng.uniform(0.1, 3.0, 60)
    weights[:8] = 0.0
    target[:4] = np.nan  # what has no weight may be nothing at all
    used = weights > 0
    root = np.sqrt(weights[used])[:, None]
    expected = np.linalg.lstsq(design[used] * root, target[used] * root, rcond=None)[0]
    assert weighted_fit(design, target, weights) == pytest.approx(expected, rel=1e-9, abs=1e-11)


def test_terms_that_points_cannot_tell_apart_are_left_at_nothing() -> None:
    x = np.linspace(-1, 1, 20)
    design = np.stack([np.ones_like(x), x, 2.0 * x], axis=1)
    found = weighted_fit(design, (3.0 + 4.0 * x)[:, None], np.ones(20))
    assert found[:, 0] == pytest.approx([3.0, 4.0, 0.0], abs=1e-12)
    assert np.all(weighted_fit(design[:0], np.empty((0, 1)), np.empty(0)) == 0.0)


def test_medians_are_those_of_all_values_in_whatever_order_they_lie() -> None:
    values = np.random.default_rng(1).normal(size=(7, 6))
    for some in (values, values[:, 0], values[1:, ::2], values.astype(np.float32), [3, 1, 2]):
        assert middle(np.asarray(some)) == pytest.approx(float(np.median(some)), rel=1e-6)
    assert np.isnan(middle(np.empty(0)))


@pytest.mark.parametrize("columns", [1, 2, 24, 25, 60, 61, 200])
def test_medians_of_rows_are_those_of_each(columns: int) -> None:
    values = np.random.default_rng(columns).normal(size=(5, 2 * columns)).round(1)
    for some in (values[:, :columns], values[:, ::2], values[:, :columns].astype(np.float32)):
        assert middles(some) == pytest.approx(np.median(some, axis=1), rel=1e-6)


def test_the_value_at_a_place_is_that_of_the_nearest_pixel_also_beyond_the_edge() -> None:
    plane = np.arange(12, dtype=np.uint8).reshape(3, 4)
    x, y = np.array([0.4, 0.6, -5.0, 9.0, np.nan]), np.array([0.0, 1.4, 1.0, 2.6, np.nan])
    assert values_at(plane, x, y).tolist() == [0, 5, 4, 11, 0]


def test_kernels_get_rows_of_their_own_kind_and_length() -> None:
    values = np.arange(12.0).reshape(3, 4)
    values.flags.writeable = False
    assert flat(values).flags.carray
    assert flat(values[:, 1]).tolist() == [1, 5, 9]
    mine = np.zeros(5)
    flat(mine)[2] = 1.0
    assert mine[2] == 1.0  # what is right already is no copy
    x, y = alike(np.arange(3)[:, None], np.arange(4.0)[None, :])
    assert x.shape == y.shape == (3, 4)
    assert y[2].tolist() == [0, 1, 2, 3]
