"""Tile-compressed images are decoded here as any other reader decodes them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from narrow_beacon.core.correct.combine import combine
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import PixelSource, read_images, read_pixels, read_words

RNG = np.random.default_rng(4)


def packed(folder: Path, image: np.ndarray, **how: object) -> PixelSource:
    """An image as a compressed file."""
    unit = fits.CompImageHDU(image, compression_type="RICE_1", **how)
    fits.HDUList([fits.PrimaryHDU(), unit]).writeto(folder / "packed.fits", overwrite=True)
    return read_images(folder / "packed.fits")[0].source


@pytest.mark.parametrize(
    ("image", "how"),
    [
        (RNG.normal(1000, 30, (60, 133)).astype(np.uint16), {}),
        (RNG.integers(0, 65536, (64, 97)).astype(np.uint16), {}),
        (np.full((50, 60), 777, np.uint16), {}),
        (RNG.normal(0, 3000, (100, 70)).astype(np.int16), {}),
        (RNG.normal(1000, 30, (70, 133)).astype(np.uint16), {"tile_shape": (16, 50)}),
    ],
)
def test_a_packed_image_is_what_was_packed(
    tmp_path: Path, image: np.ndarray, how: dict[str, object]
) -> None:
    source = packed(tmp_path, image, **how)
    assert source.packed is not None
    assert source.plain_16_bit
    np.testing.assert_array_equal(read_pixels(source), image.astype(np.float32))


@settings(
    max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(image=arrays(np.int16, st.tuples(st.integers(8, 12), st.integers(8, 80))))
def test_any_numbers_come_back(tmp_path: Path, image: np.ndarray) -> None:
    np.testing.assert_array_equal(read_pixels(packed(tmp_path, image)), image.astype(np.float32))


def test_other_ways_to_pack_are_left_to_astropy(tmp_path: Path) -> None:
    image = RNG.normal(1000, 30, (40, 50)).astype(np.int16)
    for kind, numbers in (("GZIP_1", image), ("RICE_1", image.astype(np.int32))):
        unit = fits.CompImageHDU(numbers, compression_type=kind)
        fits.HDUList([fits.PrimaryHDU(), unit]).writeto(tmp_path / "other.fits", overwrite=True)
        source = read_images(tmp_path / "other.fits")[0].source
        assert source.packed is None
        np.testing.assert_array_equal(read_pixels(source), image.astype(np.float32))


def test_a_damaged_or_shortened_file_is_told_and_nothing_else_happens(tmp_path: Path) -> None:
    image = RNG.normal(1000, 30, (200, 300)).astype(np.uint16)
    source = packed(tmp_path, image)
    whole = source.path.read_bytes()
    out = np.empty(image.shape, np.uint16)
    short = replace(source, path=tmp_path / "short.fits")
    short.path.write_bytes(whole[: len(whole) // 2])
    with pytest.raises(UnreadableFileError, match="cut short"):
        read_words(short, out)
    told = 0
    for seed in range(60):
        rng = np.random.default_rng(seed)
        bad = bytearray(whole)
        for at in rng.integers(len(bad) // 3, len(bad) - 3000, 20):
            bad[at] = rng.integers(256)
        short.path.write_bytes(bytes(bad))
        try:
            read_words(short, out)
        except UnreadableFileError:
            told += 1
    assert told > 30  # others decode to wrong values, which no reader can tell without a checksum


def test_packed_frames_make_the_same_master(tmp_path: Path) -> None:
    frames = [RNG.normal(1000, 12, (40, 64)).astype(np.uint16) for _ in range(6)]
    plain, tight = [], []
    for number, frame in enumerate(frames):
        home = tmp_path / str(number)
        home.mkdir()
        tight.append(packed(home, frame))
        fits.PrimaryHDU(frame).writeto(home / "plain.fits")
        plain.append(read_images(home / "plain.fits")[0].source)
    made = [combine(sources, tmp_path).plane for sources in (plain, tight)]
    np.testing.assert_array_equal(*made)
