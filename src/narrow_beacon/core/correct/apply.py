"""From stored words to corrected pixels in one pass: swap bytes, convert, take off, divide.

corrected = repair((raw − offset) · gain), offset = bias + k · (dark − bias) and gain = 1 / flat,
in float32 and with nothing clipped at zero.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Flags, Ints, Plane
from narrow_beacon.core.frames.fits_file import (
    PixelSource,
    overscan_of_stored,
    overscan_of_words,
    read_stored,
    read_words,
)

DEFECT = np.uint8(1)
"""Pixel flag: repaired from its neighbours."""
SATURATED = np.uint8(2)
"""Pixel flag: at the linear limit or beyond; or so far below what is taken off that the word for it
has turned over into a negative one.
"""
SPIKE = np.uint8(4)
"""Pixel flag: a cosmic ray or another spike narrower than a star."""
STARLIGHT = np.uint8(128)
"""Pixel flag: a star shines there, so that it is no sky; nothing is wrong with the pixel."""
SPOILED = np.uint8(DEFECT | SATURATED | SPIKE)
"""All that can be wrong with a pixel."""

_LEAST_FLAT = 0.05
_TURNED_OVER_ADU = np.float32(-8192.0)
"""No pixel of 16 bits is truly so far below; other kinds of numbers don't turn over."""
_REPAIR_REACH = 3
"""Pixels away that a repair may look for good ones."""


@dataclass(frozen=True)
class Chain:
    """Ready-made planes that correct an exposure, and the pixels to repair."""

    offset_adu: Plane
    gain: Plane
    defects: Flags
    repairs: Ints
    """Flat indices of the defects, row by row."""


@dataclass
class Workspace:
    """Buffers that one worker uses again for every exposure."""

    words: NDArray[np.uint16]
    pixels: Plane
    flags: Flags

    @classmethod
    def of_shape(cls, height: int, width: int) -> Workspace:
        """Buffers for exposures of (height, width) pixels."""
        shape = (height, width)
        return cls(
            np.empty(shape, np.uint16), np.empty(shape, np.float32), np.empty(shape, np.uint8)
        )

    def words_of(self, shape: tuple[int, int]) -> NDArray[np.uint16]:
        """A buffer for all that is stored, (height, width)."""
        if self.words.shape != shape:
            self.words = np.empty(shape, np.uint16)
        return self.words


def make_chain(offset_adu: Plane | None, flat: Plane | None, defects: Flags) -> Chain:
    """A chain from an offset plane, a flat and a defect map (height, width).

    What is missing is replaced by one that changes nothing. Pixels without a usable flat or
    offset become defects.
    """
    shape = defects.shape
    offset = np.zeros(shape, np.float32) if offset_adu is None else offset_adu
    gain = np.ones(shape, np.float32)
    bad = ~np.isfinite(offset)
    if flat is not None:
        bad |= ~(flat >= np.float32(_LEAST_FLAT)) | np.isinf(flat)
        np.divide(np.float32(1.0), flat, out=gain, where=~bad, dtype=np.float32)
    marked = defects.astype(np.uint8)
    marked[bad] = DEFECT
    if bad.any():
        offset = np.where(bad, np.float32(0.0), offset)
    return Chain(offset, gain, marked, np.flatnonzero(marked).astype(np.int64))


def correct(
    source: PixelSource, chain: Chain, linear_limit_adu: float, space: Workspace
) -> tuple[Plane, Flags]:
    """Corrected pixels and pixel flags, (height, width), of one exposure.

    The arrays are the workspace's own and are overwritten by the next call.
    Raises UnreadableFileError.
    """
    np.copyto(space.flags, chain.defects)
    limit = np.float32(linear_limit_adu)
    level = np.zeros(source.height, np.float32)
    if source.plain_16_bit:
        words = read_words(source, space.words_of(source.stored_shape))
        if source.strips:
            level += overscan_of_words(source, words).rows_adu.astype(np.float32)
        scale = np.float32(source.bscale)
        zero = np.float32(source.bzero - 32768.0 * source.bscale)
        _correct_words(
            source.cut(words), scale, zero, level, chain.offset_adu, chain.gain, limit,
            chain.repairs, space.pixels, space.flags,
        )  # fmt: skip
    else:
        stored = read_stored(source)
        if source.strips:
            level += overscan_of_stored(source, stored).rows_adu.astype(np.float32)
        raw = np.ascontiguousarray(source.cut(stored))
        undefined = np.flatnonzero(~np.isfinite(raw))
        turned = _TURNED_OVER_ADU if source.bitpix == 16 else np.float32(-np.inf)
        _correct_values(
            raw, level, chain.offset_adu, chain.gain, limit, turned, space.pixels, space.flags
        )
        if undefined.size:
            space.flags.reshape(-1)[undefined] |= DEFECT
            repair(space.pixels, space.flags, undefined)
        repair(space.pixels, space.flags, chain.repairs)
    return space.pixels, space.flags


@njit(cache=True, nogil=True, fastmath=True)
def _correct_words(words, scale, zero, level, offset, gain, limit, repairs, out, flags):  # type: ignore[no-untyped-def]
    height, width = words.shape
    good = np.empty(49, np.float32)
    flat = out.reshape(-1)
    repaired = 0
    for y in range(height):
        stored = words[y]
        off = offset[y]
        mul = gain[y]
        row = out[y]
        base = zero - level[y]
        lowest, highest = np.uint16(65535), np.uint16(0)
        for x in range(width):
            w = stored[x]
            v = np.uint16(((w >> 8) | (w << 8)) ^ 0x8000)
            lowest, highest = min(lowest, v), max(highest, v)
            row[x] = (np.float32(v) * scale + base - off[x]) * mul[x]
        turned = np.float32(lowest) * scale + zero < _TURNED_OVER_ADU
        if turned or np.float32(highest) * scale + zero >= limit:
            for x in range(width):
                w = stored[x]
                v = np.uint16(((w >> 8) | (w << 8)) ^ 0x8000)
                if np.float32(v) * scale + zero >= limit or row[x] < _TURNED_OVER_ADU:
                    flags[y, x] |= 2
        # Repaired as soon as all rows about them are there, while these are at hand.
        ready = (y + 1 - _REPAIR_REACH) * width if y + 1 < height else height * width
        while repaired < repairs.size and repairs[repaired] < ready:
            _repair_at(out, flat, flags, repairs[repaired], good)
            repaired += 1


@njit(cache=True, nogil=True)
def _correct_values(raw, level, offset, gain, limit, turned, out, flags):  # type: ignore[no-untyped-def]
    height, width = raw.shape
    for y in range(height):
        for x in range(width):
            v = raw[y, x]
            out[y, x] = (v - level[y] - offset[y, x]) * gain[y, x]
            if v >= limit or (v < turned and out[y, x] < turned):
                flags[y, x] |= 2


@njit(cache=True, nogil=True, inline="always")
def _line(flat, index, step):  # type: ignore[no-untyped-def]
    """Cubic interpolation at a pixel from two neighbours on either side along a line."""
    near = flat[index - step] + flat[index + step]
    far = flat[index - step - step] + flat[index + step + step]
    return (4.0 * near - far) / 6.0


@njit(cache=True, nogil=True)
def repair(pixels, flags, where):  # type: ignore[no-untyped-def]
    """Replace the pixels at flat indices ``where`` from good ones nearby, in place.

    Where the 5 × 5 pixels around are good, P_x + P_y − P_x P_y with the cubic interpolations P
    along rows and columns: its error is the product of theirs, about 5% at the very peak of a
    star 3 pixels wide. Else along the row or the column alone, else the median of good neighbours.
    """
    good = np.empty(49, np.float32)
    flat = pixels.reshape(-1)
    for index in where:
        _repair_at(pixels, flat, flags, index, good)


@njit(cache=True, nogil=True)
def _repair_at(pixels, flat, flags, index, good):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    y, x = index // width, index % width
    row = column = block = False
    if 2 <= x < width - 2 and 2 <= y < height - 2:
        # Without a sign, for which the compiler would ask whether a place counts from the end.
        top, left, bad = np.uint64(y - 2), np.uint64(x - 2), np.uint8(0)
        for j in range(np.uint64(5)):
            for i in range(np.uint64(5)):
                bad += flags[top + j, left + i] & np.uint8(1)
        block = bad == 1
    if not block:
        if 2 <= x < width - 2:
            row = not (flags[y, x - 2] | flags[y, x - 1] | flags[y, x + 1] | flags[y, x + 2]) & 1
        if 2 <= y < height - 2:
            column = not (flags[y - 2, x] | flags[y - 1, x] | flags[y + 1, x] | flags[y + 2, x]) & 1
    at, one, down = np.uint64(index), np.uint64(1), np.uint64(width)
    if block:
        up = -_line(flat, at - np.uint64(2) * down, one) / 6.0
        up += 4.0 / 6.0 * _line(flat, at - down, one)
        up += 4.0 / 6.0 * _line(flat, at + down, one)
        up += -_line(flat, at + np.uint64(2) * down, one) / 6.0
        pixels[y, x] = _line(flat, at, one) + _line(flat, at, down) - up
    elif row:
        pixels[y, x] = _line(flat, at, one)
    elif column:
        pixels[y, x] = _line(flat, at, down)
    else:
        count = 0
        reach = 1
        while count < 3 and reach <= _REPAIR_REACH:
            count = 0
            for yy in range(max(0, y - reach), min(height, y + reach + 1)):
                for xx in range(max(0, x - reach), min(width, x + reach + 1)):
                    if not flags[yy, xx] & 1:
                        good[count] = pixels[yy, xx]
                        count += 1
            reach += 1
        pixels[y, x] = np.median(good[:count]) if count else 0.0
