"""Censuses of a night in a file without a name: those of thousands of exposures are more than
memory holds, and are looked at a few stars and one radius at a time.
"""

from __future__ import annotations

import mmap
import os
import tempfile
from dataclasses import fields, replace
from pathlib import Path
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.core.measure.census import ExposureCensus

_LEAST_BYTES, _MOST_BYTES = 1 << 22, 1 << 26
"""Of a stretch of the file: each is twice as long as the one before."""
_ALIGNED = 64


class CensusScratch:
    """Takes censuses and gives them back with their arrays in the file, which the system reads
    when they are looked at and forgets when memory is short. The file goes with the last of them.
    Where the disk is full, or a file there can't be mapped, they stay in memory.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._file: IO[bytes] | None = None
        self._stretches: list[mmap.mmap] = []
        self._used = 0
        self._closed = False

    def kept(self, census: ExposureCensus) -> ExposureCensus:
        """The same census, out of memory where that can be."""
        arrays: dict[str, Any] = {f.name: getattr(census, f.name) for f in fields(census)}
        needed = sum(_room(array.nbytes) for array in arrays.values())
        if not self._stretches or self._used + needed > len(self._stretches[-1]):
            self._closed = self._closed or not self._stretch(needed)
            if self._closed:
                return census
        out: dict[str, Any] = {name: self._put(array) for name, array in arrays.items()}
        return replace(census, **out)

    def let_go(self) -> None:
        """Have what was looked at leave this process's memory, where it is much; it can be looked
        at again.
        """
        if sum(map(len, self._stretches)) > _MOST_BYTES:
            for stretch in self._stretches:
                stretch.madvise(mmap.MADV_DONTNEED)

    def _put(self, array: NDArray[np.generic]) -> NDArray[np.generic]:
        whole: NDArray[np.uint8] = np.frombuffer(self._stretches[-1], np.uint8)
        place = whole[self._used : self._used + array.nbytes].view(array.dtype).reshape(array.shape)
        place[...] = array
        self._used += _room(array.nbytes)
        return place

    def _stretch(self, least: int) -> bool:
        """Make the file longer; whether that could be done. Its blocks are taken at once: on a full
        disk to write into a map would end the process.
        """
        last = len(self._stretches[-1]) if self._stretches else _LEAST_BYTES // 2
        size = max(min(2 * last, _MOST_BYTES), -(-least // _LEAST_BYTES) * _LEAST_BYTES)
        begin = sum(map(len, self._stretches))
        try:
            if self._file is None:
                self._file = tempfile.TemporaryFile(dir=self._folder)  # noqa: SIM115
            os.posix_fallocate(self._file.fileno(), begin, size)
            stretch = mmap.mmap(self._file.fileno(), size, offset=begin)
        except OSError:
            if self._file is not None:
                os.ftruncate(self._file.fileno(), begin)  # the others need what it has taken
            return False
        self.let_go()
        self._stretches.append(stretch)
        self._used = 0
        return True


def _room(size: int) -> int:
    return -(-size // _ALIGNED) * _ALIGNED
