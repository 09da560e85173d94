"""The usual value around each pixel: the median of medians along columns, then along rows."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Plane

_ROWS = 64
"""Worked on at a time: their medians along columns stay in the cache."""


def local_median(image: Plane) -> Plane:
    """Separable median over 5 × 5 pixels about each pixel (height, width); edges repeat.

    The median along columns removes what is odd in single rows, the median along rows what is odd
    in single columns, so that neither bad lines nor bad pixels get through. It is not the exact
    median of the 25 values, but as robust here and a hundred times quicker.
    """
    source = np.ascontiguousarray(image, dtype=np.float32)
    out = np.empty_like(source)
    some = np.empty((min(_ROWS, source.shape[0]), source.shape[1]), np.float32)
    for first in range(0, source.shape[0], _ROWS):
        block = out[first : first + _ROWS]
        columns = some[: block.shape[0]]
        _along_columns(source, first, columns)
        _along_rows(columns, block)
    return out


@njit(cache=True, nogil=True, inline="always")
def _median_of_five(a, b, c, d, e):  # type: ignore[no-untyped-def]
    """By comparisons without branches, so that the compiler can work on many pixels at once."""
    low, high = min(a, b), max(a, b)
    low2, high2 = min(c, d), max(c, d)
    inner_low, inner_high = max(low, low2), min(high, high2)
    return max(min(inner_low, inner_high), min(max(inner_low, inner_high), e))


@njit(cache=True, nogil=True, fastmath=True)
def _along_columns(image, first, out):  # type: ignore[no-untyped-def]
    """The medians of some rows, from ``first`` on."""
    height, width = image.shape
    for n in range(out.shape[0]):
        y = first + n
        a, b = image[max(y - 2, 0)], image[max(y - 1, 0)]
        c, row = image[y], out[n]
        d, e = image[min(y + 1, height - 1)], image[min(y + 2, height - 1)]
        for x in range(width):
            row[x] = _median_of_five(a[x], b[x], c[x], d[x], e[x])


@njit(cache=True, nogil=True, fastmath=True)
def _along_rows(image, out):  # type: ignore[no-untyped-def]
    height, width = image.shape
    padded = np.empty(width + 4, np.float32)
    for y in range(height):
        for x in range(width):
            padded[x + 2] = image[y, x]
        padded[:2] = image[y, 0]
        padded[width + 2 :] = image[y, width - 1]
        b, c, d, e = padded[1:], padded[2:], padded[3:], padded[4:]
        row = out[y]
        for x in range(width):
            row[x] = _median_of_five(padded[x], b[x], c[x], d[x], e[x])
