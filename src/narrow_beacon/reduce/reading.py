"""What each file says of itself, as read by the workers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.errors import BeaconError, UnreadableFileError
from narrow_beacon.core.frames.cut import cut_share
from narrow_beacon.core.frames.fits_file import file_sha256, image_of, read_stored
from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.core.frames.header import KINDS
from narrow_beacon.core.frames.levels import levels_of
from narrow_beacon.core.frames.sort import read_raws
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.core.stars.detect import FIRST_GUESS_FWHM_PX, detect
from narrow_beacon.reduce.faults import words_of

CATALOGUE = "a star catalogue"
"""What is said of a file without an image that can be a catalogue begins so."""
_TABLES = (".vot", ".votable", ".xml", ".ecsv", ".csv", ".fits", ".fit")
_MOST_TABLE_BYTES = 60_000_000
_SURE_SNR = 15.0


def read_raw_files(paths: Sequence[tuple[Path, str]], *, hashed: bool = True) -> list[RawFile]:
    """What each image in each of several files says of itself, calibration frames with what their
    pixels show; ``hashed`` as in ``read_raws``.
    """
    return [raw for path, name in paths for raw in _read(path, name, hashed)]


def hash_files(paths: Sequence[Path]) -> list[tuple[Path, str]]:
    """The SHA-256 of each of several files; those that cannot be read are left out."""
    found = []
    for path in paths:
        try:
            found.append((path, file_sha256(path)))
        except OSError:
            continue  # what is wrong with it is said where it is used
    return found


def _read(path: Path, name: str, hashed: bool) -> list[RawFile]:
    try:
        return [
            _or_catalogue(raw, path) if raw.source is None else _with_levels(raw)
            for raw in read_raws(path, name, hashed=hashed)
        ]
    except Exception as error:
        return [RawFile(name, "", None, None, words_of(error, "reading", name))]


def _or_catalogue(raw: RawFile, path: Path) -> RawFile:
    """A file without an image may be a table of stars: then that is what is said of it."""
    if path.suffix.lower() not in _TABLES or path.stat().st_size > _MOST_TABLE_BYTES:
        return raw
    try:
        stars = read_catalogue(path)
    except BeaconError:
        return raw
    words = f"{CATALOGUE} of {len(stars)} stars in {', '.join(stars.bands) or 'no band'}"
    return replace(raw, problem=f"{words}: name it in Intake to use it")


def _with_levels(raw: RawFile) -> RawFile:
    kind = raw.facts.kind.value if raw.facts and raw.facts.kind else ""
    if raw.source is None or kind not in KINDS or kind == "exposure":
        return raw
    try:
        stored = read_stored(raw.source)
        pixels = image_of(raw.source, stored)
    except (UnreadableFileError, OSError) as error:
        return replace(raw, problem=words_of(error, "reading", raw.name))
    count, levels = 0, levels_of(pixels, raw.source.cut(stored))
    if kind != "flat" and not cut_share(stored):  # of half a noise no star can be told
        background = measure_background(pixels, step_adu=levels.step_adu)
        stars = detect(pixels, background, FIRST_GUESS_FWHM_PX).stars
        count = int((stars.snr > _SURE_SNR).sum())
    return replace(raw, levels=levels, sky_stars=count)
