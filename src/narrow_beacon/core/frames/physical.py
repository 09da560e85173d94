"""From stored numbers to physical values: BZERO + BSCALE · stored (FITS 4.0, section 4.4.2.5)."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Plane


class Scale(NamedTuple):
    """How pixels are stored: BITPIX, BSCALE, BZERO, and BLANK where it is given."""

    bitpix: int
    bscale: float
    bzero: float
    blank: int | None

    @property
    def most(self) -> float:
        """The highest physical value that the stored numbers can give; infinite where they are no
        whole numbers of 8 or 16 bits.
        """
        if self.bitpix not in (8, 16) or self.bscale <= 0.0:
            return float("inf")
        return self.bzero + self.bscale * (255 if self.bitpix == 8 else 32767)


def physical(stored: NDArray[Any], scale: Scale) -> Plane:
    """The physical values of stored numbers, of the same shape; undefined ones are NaN."""
    values: NDArray[Any]
    if scale.bitpix == 16 and stored.flags.c_contiguous:
        values = np.empty(stored.shape, np.float32)
        factor, zero = np.float32(scale.bscale), np.float32(scale.bzero)
        _scale_words(stored.view(np.uint16).reshape(-1), factor, zero, values.reshape(-1))
    else:
        # Whole numbers of 32 bits and more don't fit into the 24 of a float32 before their zero
        # is on.
        narrow = scale.bitpix in (8, 16, -32)
        values = stored.astype(np.dtype("f4") if narrow else np.dtype("f8"))
        if scale.bscale != 1.0:
            values *= scale.bscale
        if scale.bzero != 0.0:
            values += scale.bzero
    if scale.blank is not None:
        values[stored == scale.blank] = np.nan
    return np.ascontiguousarray(values, dtype=np.float32)


@njit(cache=True, nogil=True)
def _scale_words(words, factor, zero, values):  # type: ignore[no-untyped-def]
    """Words of 16 bits, big-endian as they lie in the file, in one pass."""
    for i in range(words.size):
        word = words[i]
        values[i] = np.float32(np.int16((word >> 8) | (word << 8))) * factor + zero
