"""Files as no camera should write them: broken, lying about themselves, or made to do harm.

A night holds some of them sooner or later. Each is small on the disk; what it may cost whoever
reads it is another matter.
"""

from __future__ import annotations

import gzip
import os
import socket
import zlib
from collections.abc import Iterator
from pathlib import Path

import numpy as np

_BLOCK = 2880
_SIDE = 64
_BOMB_BYTES = 1 << 30

Cards = dict[str, str]


def write_hostile(folder: Path, outside: Path) -> list[Path]:
    """Write all of them into a folder, and return their paths. ``outside`` is a file that a link
    leads to. Made the same each time.
    """
    folder.mkdir(parents=True)
    paths = []
    for name, content in _files():
        path = folder / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(content)
        paths.append(path)
    return paths + _entries(folder, outside)


def _files() -> Iterator[tuple[str, bytes]]:
    yield from _truncated()
    yield from _lies()
    yield from _packed()
    yield from _pixels()
    yield from _words()
    yield from _not_images()
    yield from _names()


def good_cards(**changes: str) -> Cards:
    """A plain header; values as they stand in the file. An empty value drops a card."""
    cards = {
        "SIMPLE": "T", "BITPIX": "16", "NAXIS": "2", "NAXIS1": str(_SIDE), "NAXIS2": str(_SIDE),
        "BZERO": "32768", "BSCALE": "1", "IMAGETYP": "'Light Frame'", "FILTER": "'V'",
        "EXPTIME": "30.0", "DATE-OBS": "'2026-10-12T21:04:30'", "INSTRUME": "'Tarn 2'",
        "RA": "'19 41 02.6'", "DEC": "'+38 12 44'",
    }  # fmt: skip
    return {name: value for name, value in {**cards, **changes}.items() if value}


def header(cards: Cards, *, end: bool = True) -> bytes:
    """A header's blocks, in Latin-1, so that any byte can be in them."""
    lines = [f"{name:<8}= {value}"[:80].ljust(80) for name, value in cards.items()]
    if end:
        lines.append("END".ljust(80))
    text = "".join(lines).encode("latin-1")
    return text + b" " * (-len(text) % _BLOCK)


def pixels(seed: int = 1) -> bytes:
    """Sky noise as 16-bit words, padded."""
    noise = np.random.default_rng(seed).normal(900.0 - 32768.0, 12.0, (_SIDE, _SIDE))
    words = noise.astype(">i2").tobytes()
    return words + bytes(-len(words) % _BLOCK)


def _with(**changes: str) -> bytes:
    # Other pixels in each, or they would all be the same file.
    return header(good_cards(**changes)) + pixels(zlib.crc32(repr(changes).encode()))


def _truncated() -> Iterator[tuple[str, bytes]]:
    whole = _with(OBJECT="'truncated'")
    for length in (0, 1, 9, 80, 2000, 2879, 2880, 2881, 4000, 6000, 9000, len(whole) - 2000):
        yield f"truncated-{length}.fits", whole[:length]


def _lies() -> Iterator[tuple[str, bytes]]:
    odd = ("0", "-1", "1", "2147483648", "9223372036854775807", "1" + "0" * 30, "'abc'", "1.5", "?")
    for axis in ("NAXIS1", "NAXIS2"):
        for value in odd:
            yield f"lie-{axis}-{len(value)}{value.strip(chr(39))[:6]}.fits", _with(**{axis: value})
    for value in ("-1", "0", "1", "3", "4", "999", "100000", "'x'"):
        yield f"lie-NAXIS-{value.strip(chr(39))}.fits", _with(NAXIS=value)
    for value in ("0", "7", "15", "-16", "128", "'x'", "64", "-64"):
        yield f"lie-BITPIX-{value.strip(chr(39))}.fits", _with(BITPIX=value)
    empty = header({"SIMPLE": "T", "BITPIX": "8", "NAXIS": "0", "EXTEND": "T"})
    for count, groups in (("9" * 17, "1"), ("-5", "1"), ("0", "9" * 15), ("0", "-1")):
        unit = {"XTENSION": "'IMAGE   '", "BITPIX": "16", "NAXIS": "2", "NAXIS1": "64",
                "NAXIS2": "64", "PCOUNT": count, "GCOUNT": groups}  # fmt: skip
        yield f"lie-extension-{count[:4]}-{groups[:4]}.fits", empty + header(unit) + pixels()
    yield (
        "lie-thousand-units.fits",
        empty
        + header(
            {"XTENSION": "'IMAGE   '", "BITPIX": "8", "NAXIS": "0", "PCOUNT": "0", "GCOUNT": "1"}
        )
        * 1000,
    )
    endless = header(good_cards(), end=False)
    yield "endless-header.fits", endless
    yield "endless-spaces.fits", endless + b" " * 8_000_000
    yield "endless-zeros.fits", endless + bytes(8_000_000)
    yield "cube.fits", _with(NAXIS="3", NAXIS3="5") + pixels() * 4
    yield "wrong-checksum.fits", _with(DATASUM="'123'", CHECKSUM="'abcdefghijklmnop'")


def _packed() -> Iterator[tuple[str, bytes]]:
    yield "bomb-of-zeros.fits.gz", _bomb(b"")
    yield "bomb-in-the-header.fits.gz", _bomb(header(good_cards(), end=False))
    claim = good_cards(NAXIS1="20000", NAXIS2="20000")
    yield "bomb-that-keeps-its-word.fits.gz", _bomb(header(claim))
    yield "bomb-of-many-pixels.fits.gz", _bomb(header(good_cards(NAXIS1="60000", NAXIS2="60000")))
    whole = gzip.compress(_with(OBJECT="'packed'"))
    yield "packed-cut.fits.gz", whole[: len(whole) // 2]
    yield "packed-flipped.fits.gz", whole[:200] + bytes([whole[200] ^ 255]) + whole[201:]
    yield "packed-twice.fits.gz", gzip.compress(whole)
    yield "packed-nothing.fits.gz", gzip.compress(b"")
    yield "packed-magic-only.fits.gz", b"\x1f\x8b"
    tiles = {
        "XTENSION": "'BINTABLE'", "BITPIX": "8", "NAXIS": "2", "NAXIS1": "8", "NAXIS2": "64",
        "PCOUNT": "100", "GCOUNT": "1", "TFIELDS": "1", "TTYPE1": "'COMPRESSED_DATA'",
        "TFORM1": "'1PB(10)'", "ZIMAGE": "T", "ZBITPIX": "16", "ZNAXIS": "2", "ZNAXIS1": "64",
        "ZNAXIS2": "64", "ZTILE1": "64", "ZTILE2": "1", "ZCMPTYPE": "'RICE_1'",
    }  # fmt: skip
    empty = header({"SIMPLE": "T", "BITPIX": "8", "NAXIS": "0", "EXTEND": "T"})
    body = np.random.default_rng(3).bytes(_BLOCK)
    changes: list[Cards] = [
        {}, {"ZNAXIS1": "2000000", "ZNAXIS2": "2000000"}, {"ZCMPTYPE": "'NONSENSE'"},
        {"ZTILE1": "0"}, {"ZTILE1": "-64"}, {"ZBITPIX": "7"}, {"ZNAXIS": "9"},
        {"TFORM1": "'1QB(99999999)'"}, {"PCOUNT": "9" * 15}, {"ZNAXIS1": "'x'"},
    ]  # fmt: skip
    for number, change in enumerate(changes):
        yield f"tiles-{number}.fits.fz", empty + header({**tiles, **change}) + body


def _bomb(start: bytes) -> bytes:
    """A gzip file that unpacks to a beginning and a gigabyte of zeros; its checksum is wrong, which
    only who unpacks all of it can find out.
    """
    zeros = _deflated(bytes(1 << 22))
    head, last = b"\x1f\x8b\x08" + bytes(5) + b"\x02\x03", b"\x03\x00"
    return head + _deflated(start) + zeros * (_BOMB_BYTES >> 22) + last + bytes(8)


def _deflated(data: bytes) -> bytes:
    packer = zlib.compressobj(9, wbits=-15)
    return packer.compress(data) + packer.flush(zlib.Z_FULL_FLUSH)


def _pixels() -> Iterator[tuple[str, bytes]]:
    for name, level in (("nan", np.nan), ("inf", np.inf), ("huge", 3e38), ("low", -3e38)):
        data = np.full((_SIDE, _SIDE), level, ">f4").tobytes()
        cards = good_cards(BITPIX="-32", BZERO="", BSCALE="", OBJECT=f"'{name}'")
        yield f"pixels-{name}.fits", header(cards) + data + bytes(-len(data) % _BLOCK)
    for name, word in (("zero", -32768), ("full", 32767)):
        data = np.full((_SIDE, _SIDE), word, ">i2").tobytes()
        yield f"pixels-{name}.fits", header(good_cards()) + data + bytes(-len(data) % _BLOCK)
    for value in ("0", "'nan'", "1E300", "-1", "NaN"):
        yield f"pixels-BSCALE-{value.strip(chr(39))}.fits", _with(BSCALE=value)
    for value in ("1E300", "'x'"):
        yield f"pixels-BZERO-{value.strip(chr(39))}.fits", _with(BZERO=value)
    yield "pixels-BLANK.fits", _with(BLANK="99999999999")
    kinds = ("'Bias Frame'", "'Dark Frame'", "'Flat Field'")
    for kind in kinds:
        data = np.full((_SIDE, _SIDE), np.nan, ">f4").tobytes()
        cards = good_cards(BITPIX="-32", BZERO="", BSCALE="", IMAGETYP=kind)
        yield f"pixels-nan-{kind[1:5]}.fits", header(cards) + data + bytes(-len(data) % _BLOCK)


_DATES = (
    "'9999-12-31T23:59:59'", "'0001-01-01T00:00:00'", "'2026-13-45T99:99:99'", "'2026-02-30'",
    "'yesterday'", "''", "20261012", "1E300", "'2026-10-12T23:59:60'", "'-4712-01-01'",
    "'2026-10-12T21:04:30+99:00'", "'" + "2" * 60 + "'", "'12/10/26'", "T", "'\x00\x01'",
)  # fmt: skip
_FACTS = {
    "EXPTIME": ("-1.0", "0.0", "NaN", "1E300", "'abc'", "", "T"),
    "FILTER": ("'" + "V" * 66 + "'", "'\x1b[31mred'", "'[/b]'", "'</script>'", "''", "7"),
    "OBJECT": ("'[/bold][link=x]'", "'\xe9\xff\x80'", "'" + "=" * 66 + "'", "'it''s ''''odd'''''"),
    "IMAGETYP": ("'cake'", "''", "5", "'" + "Light " * 11 + "'"),
    "XBINNING": ("0", "-1", "999999999", "'x'"),
    "GAIN": ("NaN", "-1E300", "'x'"),
    "CCD-TEMP": ("-1E9", "NaN", "'cold'"),
    "RA": ("'99 99 99'", "1E300", "'x'"),
    "DEC": ("'+99 00 00'", "NaN"),
    "SITELAT": ("1E9", "'x'"),
}


def _words() -> Iterator[tuple[str, bytes]]:
    for number, value in enumerate(_DATES):
        yield f"date-{number}.fits", _with(**{"DATE-OBS": value})
    for name, values in _FACTS.items():
        for number, value in enumerate(values):
            yield f"fact-{name}-{number}.fits", _with(**{name: value})
    long = "".join(f"CONTINUE  '{'x' * 66}&'".ljust(80) for _ in range(200))
    cards = header({**good_cards(), "OBJECT": "'" + "x" * 65 + "&'"}, end=False).rstrip()
    text = cards.decode().ljust(-(-len(cards) // 80) * 80) + long + "END".ljust(80)
    yield "fact-endless-text.fits", text.ljust(-(-len(text) // _BLOCK) * _BLOCK).encode() + pixels()


def _not_images() -> Iterator[tuple[str, bytes]]:
    starts = {
        "picture.jpg": b"\xff\xd8\xff\xe0", "picture.png": b"\x89PNG\r\n\x1a\n",
        "paper.pdf": b"%PDF-1.7", "film.avi": b"RIFF\x00\x00\x00\x00AVI ",
        "archive.zip": b"PK\x03\x04",
        "raw.cr2": b"II*\x00\x10\x00\x00\x00CR\x02\x00",
    }  # fmt: skip
    for name, start in starts.items():
        yield name, start + bytes(3000)
    yield "picture-called.fits", starts["picture.png"] + bytes(3000)
    yield "noise.fits", np.random.default_rng(5).bytes(9000)
    yield "log.txt", b"21:04 opened\n" * 400
    yield "empty.csv", b""
    yield "wide.csv", b"a," * 60_000 + b"\n" + b"1," * 60_000
    yield "unclosed.csv", b'name,ra,dec,V_mag\n"' + b"x" * 200_000
    laughs = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10}">' for n in range(1, 10))
    bomb = f'<?xml version="1.0"?><!DOCTYPE v [<!ENTITY l0 "ha">{laughs}]><VOTABLE>&l9;</VOTABLE>'
    yield "laughs.vot", bomb.encode()
    inside = '<!DOCTYPE v [<!ENTITY f SYSTEM "file:///etc/passwd">]><VOTABLE>&f;</VOTABLE>'
    yield "reads-elsewhere.vot", inside.encode()
    yield "deep.xml", b"<VOTABLE>" + b"<a>" * 100_000


def _names() -> Iterator[tuple[str, bytes]]:
    names = (
        "[/b].fits", "-rf.fits", "new\nline.fits", "tab\t.fits", "quote'\".fits", "%s{}{0}.fits",
        "$(touch x).fits", "two..dots.fits", "n" * 250 + ".fits", "\N{TELESCOPE}.fits", "<b>.fits",
    )  # fmt: skip
    for number, name in enumerate(names):
        yield name, _with(OBJECT=f"'name {number}'")


def _entries(folder: Path, outside: Path) -> list[Path]:
    made = []

    def entry(name: str) -> Path:
        made.append(folder / name)
        return made[-1]

    entry("folder.fits").mkdir()
    os.mkfifo(entry("pipe.fits"))
    entry("dangling.fits").symlink_to(folder / "nowhere.fits")
    entry("loop.fits").symlink_to(folder / "loop.fits")
    (folder / "deep").mkdir()
    entry("deep/up").symlink_to(folder)
    entry("leads-out.fits").symlink_to(outside)
    entry("device.fits").symlink_to("/dev/zero")
    with socket.socket(socket.AF_UNIX) as listener:
        place = os.getcwd()
        try:
            os.chdir(folder)  # the path of a socket may be longer than the system lets it be
            listener.bind("socket.fits")
        finally:
            os.chdir(place)
    made.append(folder / "socket.fits")
    path = os.fsencode(folder) + b"/caf\xe9.fits"
    Path(os.fsdecode(path)).write_bytes(_with(OBJECT="'not UTF-8'"))
    made.append(Path(path.decode("utf-8", "backslashreplace")))
    return made
