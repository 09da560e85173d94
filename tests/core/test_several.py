"""What else lies in a night's folder: files of several images, cubes, and what is no FITS."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits

from builders import EVENING, write_simple
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.frame import Frame, RawFile, TimeRule
from narrow_beacon.core.frames.sort import read_raws, settle
from narrow_beacon.core.frames.strangers import what_is

ADU = np.arange(24 * 32, dtype=np.uint16).reshape(24, 32)


def made(path: Path, *units: fits.ImageHDU, **cards: object) -> list[RawFile]:
    """A file with a usual header and more units behind it, read."""
    write_simple(path, ADU, **cards)
    with fits.open(path, mode="append") as hdus:
        for unit in units:
            hdus.append(unit)
    return read_raws(path, path.name)


def test_images_that_are_alike_are_exposures_each(tmp_path: Path) -> None:
    second = fits.ImageHDU(ADU + 1)
    second.header["DATE-OBS"] = (EVENING + timedelta(minutes=2)).isoformat()
    first, other = made(tmp_path / "a.fits", second)
    assert (first.name, other.name) == ("a.fits[0]", "a.fits[1]")
    assert first.sha256 == other.sha256
    assert np.array_equal(read_pixels(other.source), ADU + 1)  # type: ignore[arg-type]
    # What the head of the file says holds for both, and what each says of itself comes first.
    assert first.facts.time_utc.value == EVENING  # type: ignore[union-attr]
    assert other.facts.time_utc.value == EVENING + timedelta(minutes=2)  # type: ignore[union-attr]
    assert other.facts.filter.value == "V"  # type: ignore[union-attr]


def test_what_accompanies_an_image_is_none(tmp_path: Path) -> None:
    mask = fits.ImageHDU(np.zeros((24, 32), np.uint8), name="MASK")
    small = fits.ImageHDU(ADU[::4, ::4], name="THUMBNAIL")
    (only,) = made(tmp_path / "a.fits", mask, small)
    assert (only.name, only.problem) == ("a.fits", "")


def test_images_that_are_unlike_are_a_question(tmp_path: Path) -> None:
    (asked,) = made(tmp_path / "a.fits", fits.ImageHDU(ADU[:20]))
    assert asked.source is None
    assert asked.problem.startswith("its header")
    assert "32 × 24, 32 × 20" in asked.problem


CUBE = np.stack([ADU + 100 * n for n in range(5)])


@pytest.mark.parametrize(
    ("cards", "exposure_s", "cadence_s"),
    [
        ({"EXPTIME": 10.0}, 10.0, 10.0),
        ({"EXPTIME": 10.0, "CADENCE": 12.5}, 10.0, 12.5),
        # From the first start to the last end: 4 pauses of 2.5 s.
        ({"EXPTIME": 10.0, "DATE-END": "2026-10-12T20:31:00"}, 10.0, 12.5),
        # The exposure time of all planes together.
        ({"EXPTIME": 60.0, "DATE-END": "2026-10-12T20:31:00"}, 12.0, 12.0),
    ],
)
@pytest.mark.parametrize("wrapping", ["plain", "tiled", "gzip"])
def test_planes_are_exposures_one_after_the_other(
    tmp_path: Path, cards: dict[str, object], exposure_s: float, cadence_s: float, wrapping: str
) -> None:
    ending = {"plain": ".fits", "tiled": ".fits.fz", "gzip": ".fits.gz"}[wrapping]
    path = write_simple(tmp_path / f"a{ending}", CUBE, wrapping=wrapping, **cards)
    found = read_raws(path, "a")
    assert [raw.name for raw in found] == [f"a[{n + 1}]" for n in range(5)]
    for n, raw in enumerate(found):
        assert not raw.problem
        assert raw.facts.exposure_s.value == exposure_s  # type: ignore[union-attr]
        start = raw.facts.time_utc.value - EVENING  # type: ignore[union-attr]
        assert start.total_seconds() == pytest.approx(n * cadence_s, abs=1e-5)
        assert np.array_equal(read_pixels(raw.source), CUBE[n])  # type: ignore[arg-type]
        # What is assumed of the pauses is kept, to be said; it is no question.
        assert set(raw.facts.conflicts) == ({"planes"} if len(cards) == 1 else set())  # type: ignore[union-attr]
        assert isinstance(settle(raw, None, TimeRule()), Frame)


@pytest.mark.parametrize(
    ("planes", "cards", "words"),
    [
        (3, {}, "colours of a picture"),
        (5, {"EXPTIME": 30.0, "DATE-END": "2026-10-12T20:31:00"}, "5 planes of 30 s in 60 s"),
    ],
)
def test_a_cube_that_does_not_tell_is_a_question(
    tmp_path: Path, planes: int, cards: dict[str, object], words: str
) -> None:
    path = write_simple(tmp_path / "a.fits", CUBE[:planes], **cards)
    (asked,) = read_raws(path, "a.fits")
    assert words in asked.problem
    assert asked.problem.startswith("its header")


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("a.jpg", b"\xff\xd8\xff\xe0 rest", "a picture (.jpg): its pixels"),
        ("a.tif", b"II*\0" + bytes(20), "a picture (.tif)"),
        ("a.nef", b"MM\0*" + bytes(20), "a raw file of a photo camera (.nef): let the capture"),
        ("a.cr2", b"II*\0\x10\0\0\0CR" + bytes(9), "a raw file of a photo camera"),
        ("a.cr3", bytes(4) + b"ftypcrx " + bytes(9), "a raw file of a photo camera"),
        ("a.mp4", bytes(4) + b"ftypisom" + bytes(9), "a video (.mp4)"),
        ("a.avi", b"RIFF" + bytes(4) + b"AVI LIST", "a video (.avi)"),
        ("a.ser", bytes.fromhex("4c5543414d2d5245434f52444552") + bytes(9), "a video (.ser)"),
        ("a.h5", b"\x89HDF\r\n\x1a\n", "an astronomical image in another container (.h5)"),
        ("a.zip", b"PK\x03\x04" + bytes(9), "an archive (.zip): unpack it"),
        ("a.tar", bytes(257) + b"ustar\0", "an archive (.tar)"),
        ("a.log", "21:04 clouds from the west, −3 °C\n".encode(), "text: a log or notes"),
        ("a.pdf", b"%PDF-1.7", "a document"),
        ("a.fits", b"", "an empty file: copy it"),
        ("a.dat", bytes(range(256)) * 3, "of no known kind"),
    ],
)
def test_a_stranger_is_named_for_what_it_is(
    tmp_path: Path, name: str, content: bytes, words: str
) -> None:
    path = tmp_path / name
    path.write_bytes(content)
    assert what_is(path).startswith(words)
    (raw,) = read_raws(path, name)
    assert raw.problem.startswith(f"not a FITS file, but {words}")
