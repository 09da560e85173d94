"""What a FITS file claims against what it holds, before any memory is taken for it.

A header is a claim: of a size, of an end, of units to follow. A file that is broken, or made to do
harm, claims more than it has. Standard: FITS 4.0, sections 3 and 4.
"""

from __future__ import annotations

import gzip
import io
import math
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from narrow_beacon.core.errors import UnreadableFileError

GZIP_MAGIC = b"\x1f\x8b"
BLOCK = 2880
_CARD = 80
_MOST_HEADER_BLOCKS = 700
_MOST_UNITS = 300
_MOST_PIXELS = 400_000_000
_LEAST_SIDE = 2
_MOST_RATIO = 100
_FREE_BYTES = 64_000_000
_STEP = 1 << 20


@contextmanager
def opened(path: Path) -> Iterator[BinaryIO]:
    """A FITS file as plain bytes, unpacked in memory where it is gzipped, with its structure looked
    through.

    Raises UnreadableFileError, with what is wrong, where a header has no end or claims more than
    the file can hold, or where it unpacks to far more than an exposure can be.
    """
    most = max(_FREE_BYTES, _MOST_RATIO * path.stat().st_size)
    with path.open("rb") as raw:
        packed = raw.read(2) == GZIP_MAGIC
        raw.seek(0)
        plain = _unpacked(path.name, raw, most) if packed else raw
        _walk(path.name, plain, most)
        plain.seek(0)
        yield plain


def _unpacked(name: str, raw: BinaryIO, most: int) -> BinaryIO:
    whole = io.BytesIO()
    try:
        with gzip.open(raw) as content:
            while piece := content.read(_STEP):
                whole.write(piece)
                if whole.tell() > most:
                    raise UnreadableFileError(_too_tight(name))
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        raise UnreadableFileError(
            f"{name}: not a whole gzip file. Copy it from the camera again."
        ) from error
    return whole


def _walk(name: str, file: BinaryIO, most: int) -> None:
    size = file.seek(0, io.SEEK_END)
    file.seek(0)
    place = 0
    for number in range(_MOST_UNITS):
        cards, length = _header(name, file, number)
        if length == 0:
            return
        place += length
        wanted = _data_bytes(name, cards, most)
        if place + wanted > size:
            share = max(0, size - place) / wanted
            raise UnreadableFileError(
                f"{name}: cut short, {share:.0%} of its pixels are there. Copy it from the camera "
                "again."
            )
        place += -(-wanted // BLOCK) * BLOCK
        file.seek(place)
    raise UnreadableFileError(f"{name}: has more than {_MOST_UNITS} units; no exposure has.")


def _too_tight(name: str) -> str:
    return f"{name}: unpacks to far more than its {_MOST_RATIO}fold; no exposure packs so tightly."


def _header(name: str, file: BinaryIO, number: int) -> tuple[dict[str, str], int]:
    """Keywords with their values as text, and the length in bytes; 0 at the end of the file."""
    cards: dict[str, str] = {}
    for block in range(_MOST_HEADER_BLOCKS):
        text = file.read(BLOCK)
        if block == 0 and number > 0 and not text.startswith(b"XTENSION"):
            return {}, 0  # the end, or what the standard lets follow it
        if len(text) < BLOCK:
            raise UnreadableFileError(f"{name}: its header has no end. Copy it again.")
        for start in range(0, BLOCK, _CARD):
            card = text[start : start + _CARD].decode("latin-1")
            keyword = card[:8].rstrip()
            if keyword == "END":
                return cards, (block + 1) * BLOCK
            if card[8:10] == "= " and keyword not in cards:
                cards[keyword] = card[10:].split("/")[0].strip()
    raise UnreadableFileError(
        f"{name}: its header goes on for more than {_MOST_HEADER_BLOCKS * BLOCK // 1000} kB."
    )


def _data_bytes(name: str, cards: dict[str, str], most: int) -> int:
    """The bytes of data that a header claims."""
    whole = _whole(name, cards)
    bits = whole("BITPIX", 8)
    if bits not in (8, 16, 32, 64, -32, -64):
        raise UnreadableFileError(f"{name}: BITPIX = {bits} is no type of pixels.")
    sides = [whole(f"NAXIS{axis}", 0) for axis in range(1, whole("NAXIS", 0) + 1)]
    if any(side < 0 for side in sides):
        raise UnreadableFileError(f"{name}: claims a side of {min(sides)} pixels.")
    packed = cards.get("ZIMAGE") == "T"
    image = sides
    if packed:
        image = [whole(f"ZNAXIS{axis}", 0) for axis in range(1, whole("ZNAXIS", 0) + 1)]
        claimed = math.prod(image) * abs(whole("ZBITPIX", 16)) // 8
        if claimed > most:
            raise UnreadableFileError(_too_tight(name))
    is_image = packed or "XTENSION" not in cards or "IMAGE" in cards["XTENSION"]
    if is_image and len(image) >= 2 and math.prod(image) > 0:
        if math.prod(image) > _MOST_PIXELS:
            raise UnreadableFileError(
                f"{name}: claims {math.prod(image):.3g} pixels; more than "
                f"{_MOST_PIXELS // 1_000_000} million are not read."
            )
        if min(image[:2]) < _LEAST_SIDE:
            raise UnreadableFileError(
                f"{name}: is only {image[0]} × {image[1]} pixels; too small for an exposure."
            )
    count = math.prod(sides) if sides else 0
    extra = whole("PCOUNT", 0) if "XTENSION" in cards or cards.get("GROUPS") == "T" else 0
    groups = whole("GCOUNT", 1) if "XTENSION" in cards else 1
    return abs(bits) // 8 * groups * (extra + count) if extra >= 0 and groups >= 0 else 0


def _whole(name: str, cards: dict[str, str]) -> Callable[[str, int], int]:
    def value(keyword: str, default: int) -> int:
        text = cards.get(keyword)
        if text is None:
            return default
        try:
            if len(text) > 18:
                raise ValueError
            number = int(text)
        except ValueError as error:
            raise UnreadableFileError(
                f"{name}: {keyword} = {text[:20]} is no whole number."
            ) from error
        if keyword in ("NAXIS", "ZNAXIS") and not 0 <= number <= 999:
            raise UnreadableFileError(f"{name}: {keyword} = {number} is no number of axes.")
        return number

    return value
