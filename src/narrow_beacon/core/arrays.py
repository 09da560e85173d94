"""Names for the array types that pass between modules, and medians of them."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.compiled import njit

_MOST_INSERTED = 60

Plane = NDArray[np.float32]
"""An image, (height, width), row 0 at the bottom of the FITS convention."""
Floats = NDArray[np.floating[Any]]
Ints = NDArray[np.integer[Any]]
Bools = NDArray[np.bool_]
Flags = NDArray[np.uint8]
"""A plane of pixel flags, one bit a cause."""


def flat(values: Floats | Ints) -> Floats:
    """The values in one row as kernels take them: of 64 bits, one beside the other, and not
    read-only. A copy only where they are something else.
    """
    plain = np.asarray(values, float)
    if not plain.flags.carray:
        plain = plain.copy()
    return plain.reshape(-1)


def alike(x: Floats | Ints, y: Floats | Ints) -> tuple[Floats, Floats]:
    """Both in one shape, which kernels that go through them rely on."""
    one, other = np.asarray(x, float), np.asarray(y, float)
    if one.shape != other.shape:
        one, other = (np.array(both) for both in np.broadcast_arrays(one, other))
    return one, other


def evenly(count: int, most: int) -> Ints:
    """At the most ``most`` places of ``count``, evenly from the first to the last."""
    return np.linspace(0, count - 1, min(count, most)).astype(int)


def middles(values: Floats) -> Floats:
    """The median of each row, without the care for NaN that takes NumPy most of its time."""
    half = values.shape[1] // 2
    if values.shape[1] <= _MOST_INSERTED and values.dtype == float:
        few = np.empty(values.shape[0])
        _few_middles(np.ascontiguousarray(values), few)
        return few
    if values.shape[1] % 2:
        return np.asarray(np.partition(values, half, axis=1)[:, half])
    both = np.partition(values, (half - 1, half), axis=1)[:, half - 1 : half + 1]
    return np.asarray(both.mean(axis=1))


def middle(values: Floats) -> float:
    """The median of some values, of whatever shape; NaN of none."""
    return float(_middle(flat(values)))


@njit(cache=True, nogil=True)
def _middle(values):  # type: ignore[no-untyped-def]
    return np.median(values) if values.size else np.nan


def values_at(plane: NDArray[Any], x_px: Floats, y_px: Floats) -> NDArray[Any]:
    """The values of the pixels nearest to places (0-based), of the edge's for those beyond it; the
    first column or row is nearest to what is no number.
    """
    found = np.empty(x_px.size, plane.dtype)
    _look_up(plane, flat(x_px), flat(y_px), found)
    return found


@njit(cache=True, nogil=True)
def _look_up(plane, xs, ys, found):  # type: ignore[no-untyped-def]
    height, width = plane.shape
    for n in range(xs.size):
        x, y = np.rint(xs[n]), np.rint(ys[n])
        column = int(min(x, width - 1.0)) if x > 0.0 else 0
        row = int(min(y, height - 1.0)) if y > 0.0 else 0
        found[n] = plane[row, column]


def median_of_known(values: Floats, axis: int) -> Floats:
    """Medians along an axis of a table (rows, columns) without its NaN; NaN where there is nothing
    else.
    """
    if axis == 1:
        result = np.empty(values.shape[0])
        _row_medians(np.ascontiguousarray(values, float), result)
        return result
    known = np.isfinite(values).any(axis=axis)
    result = np.full(known.shape, np.nan)
    if known.any():
        result[known] = np.nanmedian(values[:, known], axis=axis)
    return result


@njit(cache=True, nogil=True)
def sort_few(values):  # type: ignore[no-untyped-def]
    """Put some dozens of values in order, for which insertion is soonest."""
    for n in range(1, values.size):
        value, k = values[n], n
        while k > 0 and values[k - 1] > value:
            values[k] = values[k - 1]
            k -= 1
        values[k] = value


@njit(cache=True, nogil=True)
def _few_middles(values, result):  # type: ignore[no-untyped-def]
    room, last = np.empty(values.shape[1]), values.shape[1] - 1
    for row in range(values.shape[0]):
        for n in range(room.size):
            room[n] = values[row, n]
        sort_few(room)
        result[row] = 0.5 * (room[last // 2] + room[(last + 1) // 2])


@njit(cache=True, nogil=True)
def _row_medians(values, result):  # type: ignore[no-untyped-def]
    """By sorting."""
    room = np.empty(values.shape[1])
    for row in range(values.shape[0]):
        count, known = 0, False
        for value in values[row]:
            if not np.isnan(value):
                room[count] = value
                count += 1
                known = known or np.isfinite(value)
        some = room[:count]
        if count > _MOST_INSERTED:
            some.sort()
        else:
            sort_few(some)
        result[row] = 0.5 * (some[(count - 1) // 2] + some[count // 2]) if known else np.nan
