"""The nearest of some places to each of others, within a reach: by cells of a grid."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints, flat


def nearest(
    x_px: Floats, y_px: Floats, others_x_px: Floats, others_y_px: Floats, reach_px: float
) -> tuple[Ints, Floats]:
    """Which of the others is nearest to each place, and how far it is; −1 and infinity where none
    is nearer than ``reach_px``. Of several as near it is the first.
    """
    index, away = np.full(x_px.size, -1), np.full(x_px.size, np.inf)
    _search(
        flat(x_px), flat(y_px), flat(others_x_px), flat(others_y_px), float(reach_px), index, away
    )
    return index, away


def owners_of(index: Ints, away: Floats, others: int) -> Ints:
    """For each of the others, by what ``nearest`` said, the place that is nearest of those to which
    it is; −1 where it is to none. Of several as near it is the first.
    """
    owners = np.full(others, -1)
    _claim(index, flat(away), owners)
    return owners


@njit(cache=True, nogil=True)
def _claim(index, away, owners):  # type: ignore[no-untyped-def]
    for n in range(index.size):
        other = index[n]
        if other >= 0 and (owners[other] < 0 or away[n] < away[owners[other]]):
            owners[other] = n


def pairs_within(
    x_px: Floats, y_px: Floats, others_x_px: Floats, others_y_px: Floats, reach_px: float
) -> tuple[Ints, Ints, Floats]:
    """All pairs of a place and one of the others that are less than ``reach_px`` apart: which they
    are, by place and then by the other, and how far apart. All places are finite.
    """
    if not x_px.size or not others_x_px.size:
        return np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0)
    one, other, apart = _near_pairs(
        flat(x_px), flat(y_px), flat(others_x_px), flat(others_y_px), float(reach_px)
    )
    return one, other, apart


@njit(cache=True, nogil=True)
def _cells(xo, yo, reach):  # type: ignore[no-untyped-def]
    """Places sorted into cells no smaller than the reach, about as many of them as places: where
    the grid begins, its cells' size, its rows and columns, the first place of each cell, the order.
    """
    left, low = xo.min(), yo.min()
    wide, high = xo.max() - left, yo.max() - low
    size = max(reach, np.sqrt(wide * high / xo.size), (wide + high) / (xo.size + 1.0), 1e-9)
    columns, rows = int(wide / size) + 1, int(high / size) + 1
    first = np.zeros(columns * rows + 1, np.int64)
    cell = np.empty(xo.size, np.int64)
    for n in range(xo.size):
        cell[n] = int((yo[n] - low) / size) * columns + int((xo[n] - left) / size)
        first[cell[n] + 1] += 1
    for n in range(columns * rows):
        first[n + 1] += first[n]
    order, filled = np.empty(xo.size, np.int64), first.copy()
    for n in range(xo.size):
        order[filled[cell[n]]] = n
        filled[cell[n]] += 1
    return left, low, size, rows, columns, first, order


@njit(cache=True, nogil=True)
def _around(x, y, reach, size, rows, columns):  # type: ignore[no-untyped-def]
    """The cells that places within reach of one lie in: from which column and up to which, and the
    same of rows; none for what is no number.
    """
    if not (-reach <= x <= columns * size + reach and -reach <= y <= rows * size + reach):
        return 0, 0, 0, 0
    begin, end = max(int((x - reach) / size), 0), min(int((x + reach) / size) + 1, columns)
    return begin, end, max(int((y - reach) / size), 0), min(int((y + reach) / size) + 1, rows)


@njit(cache=True, nogil=True)
def _search(xs, ys, xs_o, ys_o, reach, index, away):  # type: ignore[no-untyped-def]
    usable = np.flatnonzero(np.isfinite(xs_o) & np.isfinite(ys_o))
    if not usable.size:
        return
    xo, yo = xs_o[usable], ys_o[usable]
    left, low, size, rows, columns, first, order = _cells(xo, yo, reach)
    for n in range(xs.size):
        begin, end, low_row, high_row = _around(
            xs[n] - left, ys[n] - low, reach, size, rows, columns
        )
        best = reach * reach
        for row in range(low_row, high_row):
            # The cells of a row lie one after the other.
            for k in range(first[row * columns + begin], first[row * columns + end]):
                other = order[k]
                d2 = (xs[n] - xo[other]) ** 2 + (ys[n] - yo[other]) ** 2
                if d2 < best or (d2 == best and other < index[n]):
                    best = d2
                    index[n] = other
        if index[n] >= 0:
            index[n], away[n] = usable[index[n]], np.sqrt(best)


@njit(cache=True, nogil=True)
def _near_pairs(xs, ys, xo, yo, reach):  # type: ignore[no-untyped-def]
    left, low, size, rows, columns, first, order = _cells(xo, yo, reach)
    room = 4 * (xs.size + xo.size)
    one, two, apart = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room)
    count = 0
    for n in range(xs.size):
        mine = count
        begin, end, low_row, high_row = _around(
            xs[n] - left, ys[n] - low, reach, size, rows, columns
        )
        for row in range(low_row, high_row):
            for k in range(first[row * columns + begin], first[row * columns + end]):
                other = order[k]
                d2 = (xs[n] - xo[other]) ** 2 + (ys[n] - yo[other]) ** 2
                if d2 >= reach * reach:
                    continue
                if count == room:
                    room *= 2
                    one = np.append(one, np.empty_like(one))
                    two = np.append(two, np.empty_like(two))
                    apart = np.append(apart, np.empty_like(apart))
                # In its place among those of the same star, of which there are a few.
                place = count
                while place > mine and two[place - 1] > other:
                    two[place], apart[place] = two[place - 1], apart[place - 1]
                    place -= 1
                one[count], two[place], apart[place] = n, other, np.sqrt(d2)
                count += 1
    return one[:count], two[:count], apart[:count]
