"""Combine calibration frames into one plane by a clipped mean, in blocks of rows, so that memory
does not grow with the number of frames.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numba import njit

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.frames.fits_file import PixelSource, read_pixels

KAPPA = 4.0
LEAST_TO_CLIP = 5
_BLOCK_BYTES = 4_000_000
_QUANTISATION_FLOOR_ADU = 0.5


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
        shape = (source.height, source.width)
        if source.plain_16_bit:
            self._rows = np.memmap(source.path, ">i2", "r", source.offset, shape)
        else:
            # Decompressing gives the whole frame at once; it waits on disk, not in memory.
            with tempfile.NamedTemporaryFile(dir=scratch, suffix=".rows") as file:
                self._rows = np.memmap(file.name, np.float32, "w+", 0, shape)
                self._rows[:] = read_pixels(source)

    def read(self, first: int, last: int, out: Plane) -> None:
        """Rows ``first`` to ``last`` (excluded) into ``out`` (rows, width)."""
        out[:] = self._rows[first:last]
        if self._source.plain_16_bit:
            if self._source.bscale != 1.0:
                out *= np.float32(self._source.bscale)
            out += np.float32(self._source.bzero)


def combine(
    sources: Sequence[PixelSource],
    scratch: Path,
    *,
    subtract: Plane | None = None,
    scales: Floats | None = None,
    kappa: float = KAPPA,
) -> Combined:
    """Clipped mean of the frames, each (frame − ``subtract``) · scale first.

    Clips beyond ``kappa`` times the robust scatter about the median; below five frames it is the
    median. ``scratch`` is a folder for spooled rows of compressed files.
    """
    if not sources:
        raise ValueError("combine needs at least one frame, got none")
    height, width = sources[0].height, sources[0].width
    readers = [RowReader(source, scratch) for source in sources]
    count = len(readers)
    rows = max(1, min(height, _BLOCK_BYTES // (4 * width * count)))
    stack = np.empty((count, rows, width), np.float32)
    plane = np.empty((height, width), np.float32)
    factors = np.ones(count) if scales is None else np.asarray(scales, float)
    clipped = 0
    for first in range(0, height, rows):
        last = min(first + rows, height)
        block = stack[:, : last - first]
        for index, reader in enumerate(readers):
            reader.read(first, last, block[index])
            if subtract is not None:
                block[index] -= subtract[first:last]
            if scales is not None:
                block[index] *= np.float32(factors[index])
        floor = _QUANTISATION_FLOOR_ADU * float(factors.mean())
        clipped += _clipped_mean(block, kappa, floor, plane[first:last])
    return Combined(plane, count, clipped / (count * height * width))


@njit(cache=True, nogil=True)
def _clipped_mean(stack, kappa, floor, out):  # type: ignore[no-untyped-def]
    count, rows, width = stack.shape
    values = np.empty(count, np.float32)
    clipped = 0
    for y in range(rows):
        for x in range(width):
            used = 0
            for i in range(count):
                v = stack[i, y, x]
                if not np.isnan(v):
                    j = used
                    while j > 0 and values[j - 1] > v:
                        values[j] = values[j - 1]
                        j -= 1
                    values[j] = v
                    used += 1
            if used == 0:
                out[y, x] = np.nan
                continue
            median = 0.5 * (values[(used - 1) // 2] + values[used // 2])
            if used < 5:
                out[y, x] = median
                continue
            # The values are in order: their distances from the median grow outwards on either
            # side, and merging the sides up to the middle one gives the median distance.
            left, right = (used - 1) // 2, used // 2
            if left == right:
                right += 1
            distance = before = np.float32(0.0)
            for _ in range(used // 2 + 1):
                before = distance
                if right >= used or (left >= 0 and median - values[left] <= values[right] - median):
                    distance = median - values[left]
                    left -= 1
                else:
                    distance = values[right] - median
                    right += 1
            scatter = 1.4826 * (distance if used % 2 else 0.5 * (before + distance))
            limit = kappa * max(scatter, floor)
            total = 0.0
            kept = 0
            for i in range(used):
                if abs(values[i] - median) <= limit:
                    total += values[i]
                    kept += 1
            out[y, x] = total / kept
            clipped += used - kept
    return clipped
