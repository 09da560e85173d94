"""Weighted linear least squares of a few terms, and middles of values, for use within kernels."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import ANY_ORDER, njit
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


@njit(cache=True, nogil=True, fastmath=ANY_ORDER)
def solve(design, target, weights, found):  # type: ignore[no-untyped-def]
    """``weighted_fit`` into ``found``, by Householder reflections (Golub & Van Loan 2013, Matrix
    Computations, section 5.2), which lose no digits to squares of the terms.
    """
    points, terms = design.shape
    targets = target.shape[1]
    columns = terms + targets
    table, diagonal = np.empty((columns, points)), np.zeros(terms)
    used = 0
    for n in range(points):
        if weights[n] > 0.0:
            root = np.sqrt(weights[n])
            for k in range(columns):
                table[k, used] = root * (design[n, k] if k < terms else target[n, k - terms])
            used += 1
    for k in range(min(terms, used)):
        above = below = 0.0
        for n in range(used):
            square = table[k, n] * table[k, n]
            if n < k:
                above += square
            else:
                below += square
        if not below > _NO_PIVOT * _NO_PIVOT * (above + below):
            continue
        diagonal[k] = -np.sqrt(below) if table[k, k] > 0.0 else np.sqrt(below)
        table[k, k] -= diagonal[k]
        scale = -1.0 / (diagonal[k] * table[k, k])
        for other in range(k + 1, columns):
            product = 0.0
            for n in range(k, used):
                product += table[k, n] * table[other, n]
            product *= scale
            for n in range(k, used):
                table[other, n] -= product * table[k, n]
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
