"""Headers as different capture programs would write them, and files in different wrappings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np
from astropy.io import fits

_ROWS_OF_TILE = 16


@dataclass(frozen=True)
class FrameInfo:
    """What a capture program knows of a frame."""

    kind: str
    filter: str | None
    start_utc: datetime
    exposure_s: float
    temperature_c: float
    ra_deg: float | None = None
    dec_deg: float | None = None
    object_name: str = ""
    gain_setting: int = 100
    offset_setting: int = 30


CAMERA_NAME = "Kittiwake 800"


def sexagesimal(value: float, *, hours: bool, separator: str = " ") -> str:
    """Degrees as sexagesimal text."""
    sign = "-" if value < 0 else ("" if hours else "+")
    total = round(abs(value) / (15.0 if hours else 1.0) * 3600, 2)
    degrees, rest = divmod(total, 3600)
    minutes, seconds = divmod(rest, 60)
    return separator.join((f"{sign}{int(degrees):02d}", f"{int(minutes):02d}", f"{seconds:05.2f}"))


def spelling_words(info: FrameInfo) -> fits.Header:
    """Frame kinds in words, position in sexagesimal, time with milliseconds."""
    header = fits.Header()
    header["IMAGETYP"] = {
        "exposure": "Light Frame", "bias": "Bias Frame", "dark": "Dark Frame",
        "flat": "Flat Field", "flat dark": "Dark Flat",
    }[info.kind]  # fmt: skip
    header["EXPTIME"] = info.exposure_s
    header["DATE-OBS"] = info.start_utc.isoformat(timespec="milliseconds")
    header["CCD-TEMP"] = info.temperature_c
    header["XBINNING"] = header["YBINNING"] = 1
    header["GAIN"], header["OFFSET"] = info.gain_setting, info.offset_setting
    header["INSTRUME"] = CAMERA_NAME
    if info.filter:
        header["FILTER"] = info.filter
    if info.ra_deg is not None and info.dec_deg is not None:
        header["OBJECT"] = info.object_name
        header["OBJCTRA"] = sexagesimal(info.ra_deg, hours=True)
        header["OBJCTDEC"] = sexagesimal(info.dec_deg, hours=False)
    return header


def spelling_capitals(info: FrameInfo) -> fits.Header:
    """Kinds in capitals under FRAME, other keywords throughout, position in degrees."""
    header = fits.Header()
    header["FRAME"] = info.kind.replace("exposure", "LIGHT").replace(" ", "").upper()
    header["EXPOSURE"] = info.exposure_s
    header["DATE-BEG"] = info.start_utc.isoformat(timespec="microseconds") + "Z"
    header["DET-TEMP"] = info.temperature_c
    header["BINNING"] = "1x1"
    header["GAINSET"], header["BLKLEVEL"] = info.gain_setting, info.offset_setting
    header["CAMERA"] = CAMERA_NAME
    if info.filter:
        header["FILTNAM"] = info.filter
    if info.ra_deg is not None and info.dec_deg is not None:
        header["RA"], header["DEC"] = info.ra_deg, info.dec_deg
    return header


def spelling_short(info: FrameInfo) -> fits.Header:
    """Old-fashioned: date and time apart, "zero" for bias, no position, no settings."""
    header = fits.Header()
    header["OBSTYPE"] = info.kind.replace("exposure", "object").replace("bias", "zero")
    header["ITIME"] = info.exposure_s
    header["DATE-OBS"] = info.start_utc.strftime("%Y-%m-%d")
    header["TIME-OBS"] = info.start_utc.strftime("%H:%M:%S.%f")[:-3]
    header["SENSTEMP"] = info.temperature_c
    if info.filter:
        header["FILTER1"] = info.filter
    return header


Spelling = Callable[[FrameInfo], fits.Header]


def write_frame(path: Path, adu: np.ndarray, header: fits.Header, wrapping: str = "plain") -> None:
    """Write a frame: "plain", "tiled", "gzip", "extension", "float" or "long" (32-bit)."""
    path.parent.mkdir(parents=True, exist_ok=True)
    if wrapping == "tiled":
        # Astropy looks at each tile by itself: rows would take it longer than all else together.
        tile = (*(1 for _ in adu.shape[:-2]), _ROWS_OF_TILE, adu.shape[-1])
        image = fits.CompImageHDU(adu, header, compression_type="RICE_1", tile_shape=tile)
        fits.HDUList([fits.PrimaryHDU(), image]).writeto(path)
    elif wrapping == "extension":
        fits.HDUList([fits.PrimaryHDU(header=header), fits.ImageHDU(adu)]).writeto(path)
    elif wrapping == "float":
        fits.PrimaryHDU(adu.astype(np.float32), header).writeto(path)
    elif wrapping == "long":
        fits.PrimaryHDU(adu.astype(np.int32), header).writeto(path)
    else:
        # Astropy packs by the file's ending: .fits or .fits.gz
        fits.PrimaryHDU(adu, header).writeto(path)
