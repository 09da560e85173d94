"""Combine calibration frames into one plane by a clipped mean, a mean or a median, in blocks of
rows, so that memory does not grow with the number of frames.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints, Plane
from narrow_beacon.core.frames.fits_file import PixelSource, overscan_of_words, read_pixels
from narrow_beacon.core.frames.steps import step_of
from narrow_beacon.core.kits import CLIPPED, COMBINATIONS, MEAN, MEDIAN, USUAL_RULES

LEAST_TO_CLIP = 5
_CHUNK = 256
_OF_FEW = {1: 1.0, 2: 1.0, 3: 1.35, 4: 1.19}
_BLOCK_BYTES = 4_000_000
_STEP_ROWS = 16
_LEAST_STEPS = 0.5
"""The least scatter of a pixel, in steps of the frames' values."""
_MEAN, _MEDIAN = COMBINATIONS.index(MEAN), COMBINATIONS.index(MEDIAN)


@dataclass(frozen=True)
class Combined:
    """A combined plane, how many frames went in, and what share of their pixels was clipped."""

    plane: Plane
    count: int
    clipped_share: float


class RowReader:
    """Reads rows of a frame as float32, whatever the way in which it is stored."""

    def __init__(self, source: PixelSource, scratch: Path) -> None:
        self._source = source
        self._level: Plane | None = None
        if source.words_in_file:
            # As a plain array: a map's own class costs more than the rows that are asked of it.
            stored: NDArray[Any] = np.asarray(
                np.memmap(source.path, np.uint16, "r", source.offset or 0, source.stored_shape)
            )
            if source.strips:
                rows = overscan_of_words(source, stored).rows_adu
                self._level = rows.astype(np.float32)[:, None]
            self._rows = source.cut(stored)
        else:
            # Decompressing gives the whole frame at once; it waits on disk, not in memory.
            with tempfile.NamedTemporaryFile(dir=scratch, suffix=".rows") as file:
                shape = (source.height, source.width)
                self._rows = np.memmap(file.name, np.float32, "w+", 0, shape)
                self._rows[:] = read_pixels(source)

    @property
    def step_adu(self) -> float:
        """In which the values come."""
        some = self._rows[:_STEP_ROWS]
        if not self._source.words_in_file:
            return step_of(some)
        return step_of(some.view(">i2")) * self._source.bscale

    def read(self, first: int, last: int, out: Plane) -> None:
        """Rows ``first`` to ``last`` (excluded) into ``out`` (rows, width)."""
        if not self._source.words_in_file:
            out[:] = self._rows[first:last]
            return
        scale, zero = np.float32(self._source.bscale), np.float32(self._source.bzero)
        _values_of(self._rows[first:last], scale, zero, out)
        if self._level is not None:
            out -= self._level[first:last]


def combine(
    sources: Sequence[PixelSource],
    scratch: Path,
    *,
    subtract: Plane | None = None,
    scales: Floats | None = None,
    method: str = CLIPPED,
    kappa: float = USUAL_RULES.clip_sigma,
) -> Combined:
    """Clipped mean, mean or median of the frames, each (frame − ``subtract``) · scale first.

    ``method`` is one of COMBINATIONS. A clipped mean leaves out what is beyond ``kappa`` times the
    robust scatter about the median; of fewer than five frames it is the median. ``scratch`` is a
    folder for spooled rows of compressed files.
    """
    if method not in COMBINATIONS:
        raise ValueError(f"{method!r} is no way to combine frames")
    if not sources:
        raise ValueError("combine needs at least one frame, got none")
    height, width = sources[0].height, sources[0].width
    readers = [RowReader(source, scratch) for source in sources]
    count = len(readers)
    rows = max(1, min(height, _BLOCK_BYTES // (4 * width * count)))
    stack = np.empty((count, rows, width), np.float32)
    if method == CLIPPED and count < LEAST_TO_CLIP:
        method = MEDIAN
    exchanges = sorting_network(count) if method != MEAN else np.empty((0, 2), np.int64)
    way = COMBINATIONS.index(method)
    plane = np.empty((height, width), np.float32)
    factors = np.ones(count) if scales is None else np.asarray(scales, float)
    clipped, step = 0, max(readers[0].step_adu, 1.0)
    for first in range(0, height, rows):
        last = min(first + rows, height)
        # The last one is shorter: laid out alike, it needs no kernel of its own.
        block = (
            stack if last - first == rows else np.empty((count, last - first, width), np.float32)
        )
        for index, reader in enumerate(readers):
            reader.read(first, last, block[index])
            if subtract is not None:
                block[index] -= subtract[first:last]
            if scales is not None:
                block[index] *= np.float32(factors[index])
        floor = _LEAST_STEPS * step * float(factors.mean())
        clipped += _combined(block, exchanges, way, kappa, floor, plane[first:last])
    return Combined(plane, count, clipped / (count * height * width))


def median_over_mean(count: int) -> float:
    """Variance of the median of so many normal values over that of their mean: π/2 for many; of an
    even number two are averaged. Within 2%.
    """
    many = np.pi / 2.0 * (1.0 - (0.45 if count % 2 else 1.15) / max(count, 1))
    return float(_OF_FEW.get(count, many))


def sorting_network(count: int) -> Ints:
    """Pairs of places, (exchanges, 2), which compared and exchanged in turn sort any ``count``
    values (merge exchange: Knuth, The Art of Computer Programming 3, 5.2.2, algorithm M).

    The order of comparisons does not depend on the values, so that thousands of pixels are sorted
    side by side without a branch.
    """
    pairs = []
    top = 1 << max(0, (count - 1).bit_length() - 1)
    p = top
    while p > 0:
        q, r, d = top, 0, p
        while True:
            pairs += [(i, i + d) for i in range(count - d) if i & p == r]
            if q == p:
                break
            d, q, r = q - p, q >> 1, p
        p >>= 1
    return np.array(pairs, np.int64).reshape(-1, 2)


@njit(cache=True, nogil=True)
def _values_of(words, scale, zero, out):  # type: ignore[no-untyped-def]
    """Words of two bytes, the higher one first, made values."""
    for y in range(words.shape[0]):
        for x in range(words.shape[1]):
            w = words[y, x]
            out[y, x] = np.float32(np.int16((w >> 8) | (w << 8))) * scale + zero


@njit(cache=True, nogil=True)
def _combined(stack, exchanges, way, kappa, floor, out):  # type: ignore[no-untyped-def]
    count, rows, width = stack.shape
    values = np.empty((count, _CHUNK), np.float32)
    clipped = 0
    for y in range(rows):
        for start in range(0, width, _CHUNK):
            size = min(_CHUNK, width - start)
            if size < _CHUNK:
                values[:] = 0.0
            undefined = False
            for i in range(count):
                undefined |= _take(stack, i, y, start, size, values)
            target = out[y, start : start + size]
            if undefined:
                _means_with_gaps(values, size, way, kappa, floor, target)
            elif way == _MEAN:
                for x in range(size):
                    target[x] = np.mean(values[:, x])
            else:
                clipped += _chunk_means(values, exchanges, size, way, kappa, floor, target)
    return clipped


@njit(cache=True, nogil=True)
def _take(stack, frame, y, start, size, values):  # type: ignore[no-untyped-def]
    """A frame's pixels among the ``values``; whether some have no value."""
    i, j, first = np.uint64(frame), np.uint64(y), np.uint64(start)
    odd = np.int32(0)
    for x in range(np.uint64(size)):
        value = stack[i, j, first + x]
        values[i, x] = value
        odd |= np.int32(0) if abs(value) < np.float32(np.inf) else np.int32(1)
    return odd != 0


@njit(cache=True, nogil=True, fastmath=True)
def _sort_columns(values, exchanges):  # type: ignore[no-untyped-def]
    # Without views of rows, whose owners would be counted in and out at every exchange.
    for k in range(exchanges.shape[0]):
        low, high = np.uint64(exchanges[k, 0]), np.uint64(exchanges[k, 1])
        for x in range(np.uint64(_CHUNK)):
            a, b = values[low, x], values[high, x]
            values[low, x], values[high, x] = min(a, b), max(a, b)


@njit(cache=True, nogil=True, fastmath=True)
def _ranked_distance(values, median, rank, out):  # type: ignore[no-untyped-def]
    """The distance from the median that so many of a column's sorted values are nearer.

    Below the median distances grow downwards, above it upwards: that of a rank is the least, over
    all ways to take so many from both, of the larger one (the selection of two sorted rows).
    """
    below = values.shape[0] // 2
    out[:] = np.inf
    for taken in range(max(0, rank + 1 - values.shape[0] + below), min(below, rank + 1) + 1):
        # Where nothing is taken from one side the median itself stands for it, 0 away.
        low = values[below - taken] if taken > 0 else median
        high = values[below + rank - taken] if taken <= rank else median
        _lessen(low, high, median, out)


@njit(cache=True, nogil=True, fastmath=True)
def _lessen(low, high, median, out):  # type: ignore[no-untyped-def]
    for x in range(_CHUNK):
        out[x] = min(out[x], max(median[x] - low[x], high[x] - median[x]))


@njit(cache=True, nogil=True, fastmath=True)
def _chunk_means(values, exchanges, size, way, kappa, floor, out):  # type: ignore[no-untyped-def]
    """Clipped means or medians of the columns of ``values``; returns how many were clipped."""
    count = values.shape[0]
    half = np.float32(0.5)
    _sort_columns(values, exchanges)
    low, high = values[(count - 1) // 2], values[count // 2]
    if way == _MEDIAN:
        for x in range(size):
            out[x] = half * (low[x] + high[x])
        return 0
    median = half * (low + high)
    near, far = np.empty(_CHUNK, np.float32), np.empty(_CHUNK, np.float32)
    _ranked_distance(values, median, (count - 1) // 2, near)
    _ranked_distance(values, median, count // 2, far)
    limit = np.float32(kappa) * np.maximum(np.float32(0.7413) * (near + far), np.float32(floor))
    total = np.zeros(_CHUNK, np.float32)
    kept = np.zeros(_CHUNK, np.float32)
    for i in range(np.uint64(count)):
        for x in range(np.uint64(_CHUNK)):
            d = values[i, x] - median[x]
            inside = np.float32(1.0) if abs(d) <= limit[x] else np.float32(0.0)
            total[x] += d * inside
            kept[x] += inside
    clipped = 0
    for x in range(size):
        out[x] = median[x] + total[x] / kept[x]
        clipped += count - int(kept[x])
    return clipped


@njit(cache=True, nogil=True)
def _means_with_gaps(values, size, way, kappa, floor, out):  # type: ignore[no-untyped-def]
    """The same for columns that hold undefined pixels; those are left out."""
    for x in range(size):
        column = values[:, x]
        good = np.sort(column[np.isfinite(column)])
        if good.size == 0:
            out[x] = np.nan
            continue
        if way == _MEAN:
            out[x] = np.mean(good)
            continue
        median = np.median(good)
        away = np.abs(good - median)
        limit = kappa * max(1.4826 * np.median(away), floor)
        few = way == _MEDIAN or good.size < LEAST_TO_CLIP
        out[x] = median if few else np.mean(good[away <= limit])
