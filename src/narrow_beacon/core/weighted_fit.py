"""Weighted linear least squares of a few terms, and middles of values, for use within kernels."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats

_NO_PIVOT = 1e-13
"""A column that keeps less of its length once those before it are taken out says nothing new."""


def weighted_fit(design: Floats, target: Floats, weights: Floats) -> Floats:
    """Coefficients (terms, targets) of weighted least squares, for ``design`` (points, terms) and
    ``target`` (points, targets); 0 for terms that the points can't tell from those before.
    """
    found = np.zeros((design.shape[1], target.shape[1]))
    solve(
        np.ascontiguousarray(design, float), np.ascontiguousarray(target, float),
        np.ascontiguousarray(weights, float), found,
    )  # fmt: skip
    return found


@njit(cache=True, nogil=True)
def solve(design, target, weights, found):  # type: ignore[no-untyped-def]
    """``weighted_fit`` into ``found``, by Householder reflections (Golub & Van Loan 2013, Matrix
    Computations, section 5.2), which lose no digits to squares of the terms.
    """
    points, terms = design.shape
    targets = target.shape[1]
    table = np.empty((terms + targets, points))
    used = 0
    for n in range(points):
        if weights[n] > 0.0:
            root = np.sqrt(weights[n])
            for k in range(terms):
                table[k, used] = root * design[n, k]
            for k in range(targets):
                table[terms + k, used] = root * target[n, k]
            used += 1
    table = table[:, :used]
    diagonal = np.zeros(terms)
    whole = np.sqrt((table * table).sum(axis=1))
    for k in range(min(terms, used)):
        column = table[k, k:]
        length = np.sqrt((column * column).sum())
        if not length > _NO_PIVOT * whole[k]:
            continue
        diagonal[k] = -length if column[0] > 0.0 else length
        column[0] -= diagonal[k]
        scale = 2.0 / (column * column).sum()
        for other in range(k + 1, terms + targets):
            row = table[other, k:]
            row -= scale * (column * row).sum() * column
    for t in range(targets):
        for k in range(terms - 1, -1, -1):
            rest = table[terms + t, k] if k < used else 0.0
            for other in range(k + 1, terms):
                rest -= table[other, k] * found[other, t]
            found[k, t] = rest / diagonal[k] if diagonal[k] != 0.0 else 0.0


@njit(cache=True, nogil=True)
def middle_of(values, kept, room):  # type: ignore[no-untyped-def]
    """The median of some of the values."""
    count = 0
    for n in range(values.size):
        if kept[n]:
            room[count] = values[n]
            count += 1
    return np.median(room[:count]) if count else np.nan
