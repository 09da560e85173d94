"""16-bit images that are tile-compressed by the Rice algorithm, decoded straight into stored words.

Standard: FITS 4.0, section 10 (tiled images, and the algorithm RICE_1 in 10.4.1). Each tile begins
with its first value; differences from pixel to pixel follow in blocks, each with the number of low
bits that are written as they are; the rest is written in unary.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.compiled import njit

_USUAL_BLOCK = 32
_NAMES = ("RICE_1", "RICE_ONE")
_PLACES: dict[str, np.dtype[Any]] = {"P": np.dtype(">i4"), "Q": np.dtype(">i8")}
_LEADING = np.array([8] + [8 - int(n).bit_length() for n in range(1, 256)], np.uint8)
"""Zero bits before the first one of each byte."""


@dataclass(frozen=True)
class Packed:
    """Where the tiles of an image are: rows of a table that name places in the heap behind it."""

    table_at: int
    rows: int
    row_bytes: int
    column_at: int
    place: str
    heap_at: int
    heap_bytes: int
    tile: tuple[int, int]
    """(height, width)."""
    block: int
    bscale: float
    bzero: float


def packed_of(path: Path, unit: int) -> Packed | None:
    """What is to be known of a compressed image to decode it here; None where that takes another
    way: other numbers than 16 bits, another algorithm, tiles that are stored in several ways.
    """
    from astropy.io import fits

    with fits.open(path, memmap=False, disable_image_compression=True) as hdus:
        hdu = hdus[unit]
        header = hdu.header
        names = [str(header.get(f"TTYPE{n}", "")) for n in range(1, header["TFIELDS"] + 1)]
        said = {
            header[f"ZNAME{n}"]: header[f"ZVAL{n}"] for n in range(1, 9) if f"ZNAME{n}" in header
        }
        plain = (
            header.get("ZCMPTYPE") in _NAMES and header.get("ZBITPIX") == 16
            and header.get("ZNAXIS") == 2 and said.get("BYTEPIX", 2) == 2
            and names == ["COMPRESSED_DATA"] and "ZBLANK" not in header and "BLANK" not in header
        )  # fmt: skip
        form = str(header.get("TFORM1", "")).lstrip("1")
        if not plain or form[:2] not in ("PB", "QB"):
            return None
        at = int(hdu.fileinfo()["datLoc"])
        rows, row_bytes = int(header["NAXIS2"]), int(header["NAXIS1"])
        return Packed(
            at, rows, row_bytes, 0, form[0], at + int(header.get("THEAP", rows * row_bytes)),
            int(header["PCOUNT"]) - (int(header.get("THEAP", rows * row_bytes)) - rows * row_bytes),
            (int(header.get("ZTILE2", 1)), int(header.get("ZTILE1", header["ZNAXIS1"]))),
            int(said.get("BLOCKSIZE", _USUAL_BLOCK)), float(header.get("BSCALE", 1.0)),
            float(header.get("BZERO", 0.0)),
        )  # fmt: skip


def unpack(path: Path, packed: Packed, out: NDArray[np.uint16]) -> None:
    """Decode an image (height, width) into big-endian words, as an uncompressed file would have
    them. Raises ValueError where the file is cut short or damaged.
    """
    with path.open("rb") as file:
        file.seek(packed.table_at)
        table = np.frombuffer(file.read(packed.rows * packed.row_bytes), np.uint8)
        file.seek(packed.heap_at)
        heap = np.frombuffer(file.read(packed.heap_bytes), np.uint8)
    kind = _PLACES[packed.place]
    own = table.reshape(packed.rows, packed.row_bytes)[:, : 2 * kind.itemsize]
    places = np.ascontiguousarray(own).view(kind).astype(np.int64)
    tile_height, tile_width = packed.tile
    across = -(-out.shape[1] // tile_width)
    if packed.rows != across * -(-out.shape[0] // tile_height):
        raise ValueError("its tiles do not cover the image")
    if (places < 0).any() or (places.sum(axis=1) > heap.size).any():
        raise ValueError("it is cut short")
    scratch = np.empty(tile_height * tile_width, np.int16)
    bad = _unpack(heap, places, tile_height, tile_width, across, packed.block, scratch, out)
    if bad >= 0:
        raise ValueError(f"tile {bad + 1} of {packed.rows} is damaged")


@njit(cache=True, nogil=True)
def _unpack(heap, places, tile_height, tile_width, across, block, scratch, out):  # type: ignore[no-untyped-def]
    """The first tile that is damaged, or −1."""
    height, width = out.shape
    for n in range(places.shape[0]):
        y0, x0 = (n // across) * tile_height, (n % across) * tile_width
        rows, columns = min(tile_height, height - y0), min(tile_width, width - x0)
        count, begin = places[n, 0], places[n, 1]
        if not _tile(heap[begin : begin + count], rows * columns, block, scratch):
            return n
        for j in range(rows):
            row = out[y0 + j]
            for i in range(columns):
                v = np.uint16(scratch[j * columns + i])
                row[x0 + i] = np.uint16((v >> 8) | (v << 8))
    return -1


@njit(cache=True, nogil=True)
def _byte(data, at):  # type: ignore[no-untyped-def]
    return np.uint64(data[at]) if at < data.size else np.uint64(0)


@njit(cache=True, nogil=True)
def _tile(data, count, block, out):  # type: ignore[no-untyped-def]
    """One tile's values; whether all of them were there."""
    size = data.size
    if size < 2:
        return False
    last = np.int32(np.int16((np.uint16(data[0]) << 8) | np.uint16(data[1])))
    at = 2
    # Bits wait at the upper end; behind the last byte come zeros.
    waiting = np.uint64(0)
    have = 0
    for first in range(0, count, block):
        end = min(first + block, count)
        while have <= 48:
            waiting |= _byte(data, at) << np.uint64(56 - have)
            at += 1
            have += 8
        low = np.int64(waiting >> np.uint64(60)) - 1
        waiting <<= np.uint64(4)
        have -= 4
        if low < 0:
            for i in range(first, end):
                out[i] = last
            continue
        for i in range(first, end):
            # A value takes less than 32 bits, but for a long run of zeros, which sees to itself.
            if have < 32:
                if at + 4 <= size:
                    four = (
                        np.uint64(data[at]) << np.uint64(24)
                        | np.uint64(data[at + 1]) << np.uint64(16)
                        | np.uint64(data[at + 2]) << np.uint64(8)
                        | np.uint64(data[at + 3])
                    )
                    waiting |= four << np.uint64(32 - have)
                    at += 4
                    have += 32
                else:
                    while have <= 48:
                        waiting |= _byte(data, at) << np.uint64(56 - have)
                        at += 1
                        have += 8
            if low >= 14:
                value = np.int64(waiting >> np.uint64(48))
                waiting <<= np.uint64(16)
                have -= 16
            else:
                zeros = 0
                top = np.int64(waiting >> np.uint64(56))
                while top == 0:
                    zeros += 8
                    waiting <<= np.uint64(8)
                    have -= 8
                    if at > size + 16:
                        return False
                    waiting |= _byte(data, at) << np.uint64(56 - have)
                    at += 1
                    have += 8
                    top = np.int64(waiting >> np.uint64(56))
                lead = int(_LEADING[top])
                waiting <<= np.uint64(lead + 1)
                have -= lead + 1
                value = np.int64((zeros + lead) << low)
                if low > 0:
                    value |= np.int64(waiting >> np.uint64(64 - low))
                    waiting <<= np.uint64(low)
                    have -= low  # type: ignore[assignment]
            half = value >> 1
            last += np.int32(~half if value & 1 else half)
            out[i] = last
    # Whole bytes may wait that were never there; what was used has to have been.
    return at - have // 8 <= size
