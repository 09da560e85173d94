"""Read FITS images as cameras write them: any integer or float type, in the primary unit or an
extension, gzipped or tile-compressed.

Standard: FITS 4.0 (Pence et al. 2010, A&A 524, A42; NASA/IAU FITS Standard, 2018).
"""

from __future__ import annotations

import hashlib
import io
import warnings
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.overscan import Overscan, measure_overscan, take_off
from narrow_beacon.core.frames.physical import Scale, physical
from narrow_beacon.core.frames.rice import Packed, packed_of, unpack
from narrow_beacon.core.frames.sections import Section, Sections
from narrow_beacon.core.frames.structure import GZIP_MAGIC, opened

if TYPE_CHECKING:
    from astropy.io import fits

HeaderValue = str | int | float | bool

_PRINT_STEP = 16
FULL_ADU = 65535.0
_MOST_UNITS = 300
_MOST_SCALE = 1e30  # beyond it float32 overflows
_BIG_ENDIAN = {8: "u1", 16: ">i2", 32: ">i4", 64: ">i8", -32: ">f4", -64: ">f8"}


@dataclass(frozen=True, slots=True)
class PixelSource:
    """Where the pixels of an image are and how they are stored.

    ``offset`` is the byte at which plain big-endian pixels begin, or None where the file has to
    be decompressed first. ``height`` and ``width`` are the image's; where it is a part of what is
    stored, ``stored`` is the size of all of it, ``first`` the column and row of the image's first
    pixel, and ``step`` from one of its pixels to the next. ``strips`` are its overscan.
    """

    path: Path
    hdu: int
    offset: int | None
    height: int
    width: int
    bitpix: int
    bscale: float
    bzero: float
    blank: int | None
    stored: tuple[int, int] | None = None
    first: tuple[int, int] = (0, 0)
    step: int = 1
    strips: tuple[Section, ...] = ()
    light: Section | None = None
    """The light-sensitive part, where there is overscan."""
    planes: int = 1
    """How many images lie one behind the other, of which this is number ``plane``."""
    plane: int = 0
    packed: Packed | None = None
    """How it is compressed, where it is decoded here."""

    @property
    def scale(self) -> Scale:
        """How its numbers become physical values."""
        return Scale(self.bitpix, self.bscale, self.bzero, self.blank)

    @property
    def stored_shape(self) -> tuple[int, int]:
        """(height, width) of all that is stored."""
        return self.stored or (self.height, self.width)

    def cut(self, stored: NDArray[Any]) -> NDArray[Any]:
        """The image's own among the stored pixels (height, width)."""
        x, y = self.first
        rows = slice(y, y + self.step * (self.height - 1) + 1, self.step)
        return stored[rows, slice(x, x + self.step * (self.width - 1) + 1, self.step)]

    def place(self, x_px: Any, y_px: Any) -> tuple[Any, Any]:
        """Places of the image, counted from 0, among the stored pixels."""
        return self.first[0] + self.step * x_px, self.first[1] + self.step * y_px

    def plane_of(self, number: int) -> PixelSource:
        """One image of a cube."""
        behind = number * self.height * self.width * abs(self.bitpix) // 8
        offset = None if self.offset is None else self.offset + behind
        return replace(self, offset=offset, plane=number, planes=1)

    def limited_to(self, sections: Sections) -> PixelSource:
        """The light-sensitive part of it, its overscan known."""
        light = sections.light
        return replace(
            self, height=light.height, width=light.width, stored=(self.height, self.width),
            first=(light.x, light.y), strips=sections.overscan, light=light,
        )  # fmt: skip

    @property
    def plain_16_bit(self) -> bool:
        """True where the stored words can go straight into the fused correction kernel."""
        there = self.offset is not None or self.packed is not None
        return there and self.bitpix == 16 and self.blank is None

    @property
    def words_in_file(self) -> bool:
        """True where these words lie in the file as they are."""
        return self.offset is not None and self.plain_16_bit


@dataclass(frozen=True)
class FitsImage:
    """Header and whereabouts of the first two-dimensional image of a file."""

    cards: dict[str, HeaderValue]
    history: tuple[str, ...]
    source: PixelSource
    comments: tuple[str, ...] = ()


def looks_like_fits(path: Path) -> bool:
    """Whether the file starts as a FITS file or a gzipped file does."""
    with path.open("rb") as file:
        start = file.read(10)
    return start.startswith((b"SIMPLE  =", GZIP_MAGIC))


def file_sha256(path: Path) -> str:
    """SHA-256 of the file's bytes, in hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def read_image(path: Path) -> FitsImage:
    """The first image of ``read_images``."""
    return read_images(path)[0]


def read_images(path: Path) -> list[FitsImage]:
    """Header and pixel source of every image in ``path``, of cubes with the number of their planes.
    Floating-point values from 0 to 1 are scaled to the 65,535 steps of a converter.

    Raises UnreadableFileError where there is none, or where the file is cut short.
    """
    from astropy.io import fits

    try:
        with warnings.catch_warnings(), opened(path) as plain:
            warnings.simplefilter("ignore")
            gzipped = isinstance(plain, io.BytesIO)
            with fits.open(plain, memmap=False, lazy_load_hdus=True) as hdus:
                images = _images(path, hdus, gzipped)
        return [
            replace(image, source=replace(image.source, bscale=FULL_ADU))
            if shares_of_full(image.source)
            else image
            for image in images
        ]
    except UnreadableFileError:
        raise
    except Exception as error:
        raise UnreadableFileError(
            f"{path.name}: not readable as FITS ({_short(error)}). Copy it from the camera again."
        ) from error


def _images(path: Path, hdus: fits.HDUList, gzipped: bool) -> list[FitsImage]:
    cards: dict[str, HeaderValue] = {}
    history: list[str] = []
    comments: list[str] = []
    found: list[FitsImage] = []
    for index in range(_MOST_UNITS):
        try:
            hdu = hdus[index]
        except IndexError:
            break
        header = hdu.header
        own = {**cards, **_plain_cards(header)}
        told = [*history, *(str(line) for line in header.get("HISTORY", []))]
        said = [*comments, *(str(line) for line in header.get("COMMENT", []))]
        shape = _shape_of(hdu)
        if shape is not None:
            source = _source(path, hdu, index, shape, gzipped)
            found.append(FitsImage(own, tuple(told), source, tuple(said)))
        if index == 0 or not found:
            # What stands at the head of a file, and before its first image, is said of all.
            cards, history, comments = own, told, said
    if not found:
        raise UnreadableFileError(f"{path.name}: has no two-dimensional image in it.")
    return found


def _shape_of(hdu: fits.hdu.base._BaseHDU) -> tuple[int, ...] | None:
    """(height, width) or (planes, height, width) of a unit's image; None where it has none."""
    from astropy.io import fits

    packed = isinstance(hdu, fits.CompImageHDU)
    if isinstance(hdu, fits.BinTableHDU) and not packed:
        return None
    shape = getattr(hdu, "shape", None)
    axes = hdu.header.get("NAXIS")
    if shape is None and axes in (2, 3):
        shape = tuple(hdu.header[f"NAXIS{axis}"] for axis in range(axes, 0, -1))
    if shape is not None and len(shape) == 3 and shape[0] == 1:
        shape = shape[1:]
    return tuple(shape) if shape is not None and len(shape) in (2, 3) else None


def _source(
    path: Path, hdu: fits.hdu.base._BaseHDU, index: int, shape: tuple[int, ...], gzipped: bool
) -> PixelSource:
    from astropy.io import fits

    height, width = int(shape[-2]), int(shape[-1])
    compressed = isinstance(hdu, fits.CompImageHDU)
    header = hdu.header
    # Astropy drops BZERO and BSCALE from a compressed header that it has decoded.
    bitpix = int(header["BITPIX"])
    offset = None
    if not (gzipped or compressed):
        offset = int(hdu.fileinfo()["datLoc"])
    blank = header.get("BLANK")
    scale, zero = float(header.get("BSCALE", 1.0)), float(header.get("BZERO", 0.0))
    if not (0 < abs(scale) < _MOST_SCALE and abs(zero) < _MOST_SCALE):
        raise UnreadableFileError(
            f"{path.name}: BSCALE = {scale:g}, BZERO = {zero:g} give no pixel values."
        )
    # A file that is gzipped as well is decoded by Astropy.
    packed = packed_of(path, index) if compressed and not gzipped and len(shape) == 2 else None
    if packed is not None:
        scale, zero = packed.bscale, packed.bzero
    return PixelSource(
        path=path,
        hdu=index,
        packed=packed,
        offset=offset,
        height=height,
        width=width,
        bitpix=bitpix,
        bscale=scale,
        bzero=zero,
        blank=None if blank is None or bitpix < 0 else int(blank),
        planes=int(shape[0]) if len(shape) == 3 else 1,
    )


def _plain_cards(header: fits.Header) -> dict[str, HeaderValue]:
    from astropy.io import fits

    cards: dict[str, HeaderValue] = {}
    for card in header.cards:
        keyword = card.keyword
        if keyword in ("", "HISTORY", "COMMENT"):
            continue
        try:
            value = card.value
        except fits.VerifyError:
            continue
        if isinstance(value, str | int | float | bool):
            cards[keyword] = value.strip() if isinstance(value, str) else value
    return cards


def read_words(source: PixelSource, out: NDArray[np.uint16]) -> NDArray[np.uint16]:
    """Read the stored 16-bit words, bytes still swapped, into ``out`` (the stored height, width).

    Only for sources with ``plain_16_bit``.
    """
    assert source.plain_16_bit
    if source.packed is not None:
        try:
            unpack(source.path, source.packed, out)
        except (OSError, ValueError) as error:
            raise _unreadable(source, error) from error
        return out
    assert source.offset is not None
    with source.path.open("rb", buffering=0) as file:
        file.seek(source.offset)
        wanted = out.nbytes
        view = out.reshape(-1).view(np.uint8).data
        got = 0
        while got < wanted:
            step = file.readinto(view[got:])
            if not step:
                raise UnreadableFileError(f"{source.path.name}: ended while it was read.")
            got += step
    return out


def read_pixels(source: PixelSource) -> Plane:
    """The physical pixel values of the image, (height, width), in ADU, less the overscan where it
    has one; undefined pixels are NaN.
    """
    return image_of(source, read_stored(source))


def image_of(source: PixelSource, stored: Plane) -> Plane:
    """The image (height, width) among all that is stored, less the overscan where it has one."""
    image = np.ascontiguousarray(source.cut(stored))
    if source.strips:
        image = image.copy() if image is stored else image
        take_off(image, overscan_of_stored(source, stored))
    return image


def read_stored(source: PixelSource) -> Plane:
    """All that is stored, (height, width), in ADU as the camera gave it; undefined pixels are
    NaN. Raises UnreadableFileError.
    """
    from astropy.io import fits

    height, width = source.stored_shape
    if source.packed is not None and source.plain_16_bit:
        words = read_words(source, np.empty((height, width), np.uint16))
        return physical(words.view(">i2"), source.scale)
    try:
        if source.offset is not None:
            stored = np.fromfile(
                source.path,
                dtype=_BIG_ENDIAN[source.bitpix],
                count=height * width,
                offset=source.offset,
            ).reshape(height, width)
            return physical(stored, source.scale)
        with warnings.catch_warnings(), opened(source.path) as plain:
            warnings.simplefilter("ignore")
            with fits.open(plain, memmap=False) as hdus:
                data = np.asarray(hdus[source.hdu].data)
                data = data.reshape(-1, height, width)[source.plane]
    except Exception as error:
        raise _unreadable(source, error) from error
    values = np.ascontiguousarray(data.reshape(height, width), dtype=np.float32)
    if shares_scaled(source):
        values *= np.float32(FULL_ADU)
    return values


def _unreadable(source: PixelSource, error: Exception) -> UnreadableFileError:
    return UnreadableFileError(f"{source.path.name}: its pixels cannot be read ({_short(error)}).")


def overscan_of(source: PixelSource) -> Overscan | None:
    """What the overscan of a frame shows; None where it has none. Raises UnreadableFileError."""
    return overscan_of_stored(source, read_stored(source)) if source.strips else None


def overscan_of_words(source: PixelSource, words: NDArray[np.uint16]) -> Overscan:
    """The same, from stored words that were read already."""
    values = words.view(">i2").astype(np.float32) * np.float32(source.bscale)
    return overscan_of_stored(source, values + np.float32(source.bzero))


def overscan_of_stored(source: PixelSource, stored: Plane) -> Overscan:
    """The same, from all that is stored."""
    light = source.light or Section(*source.first, source.width, source.height)
    found = measure_overscan(stored, source.strips, light)
    own = found.rows_adu[source.first[1] - light.y :: source.step]
    return replace(found, rows_adu=own[: source.height])


def shares_of_full(source: PixelSource) -> bool:
    """Whether floating-point pixels are shares from 0 to 1 of what the converter can give."""
    if source.bitpix > 0 or (source.bscale, source.bzero) != (1.0, 0.0):
        return False
    sample = read_pixels(source)[::7, ::7]
    sample = sample[np.isfinite(sample)]
    if not sample.size:
        return False
    # A flat relative to 1 lies about it on both sides.
    return bool(np.max(sample) <= 1.0 and np.min(sample) >= 0.0 and 0.0 < np.median(sample) < 0.999)


def shares_scaled(source: PixelSource) -> bool:
    """Whether ``read_image`` took the pixels for shares of what the converter can give."""
    return source.bitpix < 0 and source.bscale == FULL_ADU


def pixels_print(source: PixelSource) -> str:
    """A name of the pixels' values, whatever the way in which they are stored."""
    rows = np.ascontiguousarray(read_pixels(source)[::_PRINT_STEP])
    return hashlib.blake2b(rows.tobytes(), digest_size=16).hexdigest()


def _short(error: Exception) -> str:
    text = " ".join(str(error).split()) or type(error).__name__
    return text if len(text) < 120 else text[:117] + "..."
