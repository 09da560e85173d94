"""Names for the array types that pass between modules."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.float32]
"""An image, (height, width), row 0 at the bottom of the FITS convention."""
Floats = NDArray[np.floating[Any]]
Ints = NDArray[np.integer[Any]]
Bools = NDArray[np.bool_]
Flags = NDArray[np.uint8]
"""A plane of pixel flags, one bit a cause."""


def evenly(count: int, most: int) -> Ints:
    """At the most ``most`` places of ``count``, evenly from the first to the last."""
    return np.linspace(0, count - 1, min(count, most)).astype(int)


def middles(values: Floats) -> Floats:
    """The median of each row, without the care for NaN that takes NumPy most of its time."""
    half = values.shape[1] // 2
    if values.shape[1] % 2:
        return np.asarray(np.partition(values, half, axis=1)[:, half])
    both = np.partition(values, (half - 1, half), axis=1)[:, half - 1 : half + 1]
    return np.asarray(both.mean(axis=1))


def middle(values: Floats) -> float:
    """The median of some values, in the same way."""
    return float(middles(values[None])[0])


def median_of_known(values: Floats, axis: int) -> Floats:
    """Medians along an axis of a table (rows, columns) without its NaN; NaN where there is nothing
    else.
    """
    known = np.isfinite(values).any(axis=axis)
    result = np.full(known.shape, np.nan)
    some = values[known] if axis == 1 else values[:, known]
    if known.any():
        result[known] = np.nanmedian(some, axis=axis)
    return result
