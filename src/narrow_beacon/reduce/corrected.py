"""Corrected exposures as files: 32-bit floating-point FITS with what was done in the header, and
where they are on the sky.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from narrow_beacon import __version__
from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.apply import Workspace, correct
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.frames.fits_file import HeaderValue, PixelSource, read_images
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.context import SECOND, load_chain
from narrow_beacon.reduce.faults import words_of
from narrow_beacon.reduce.names import chain_name
from narrow_beacon.reduce.progress import Progress
from narrow_beacon.reduce.walk import Walk, scratch_walk

if TYPE_CHECKING:
    from astropy.io import fits

_NO_LIMIT = 1e30
_OURS = (
    "SIMPLE", "XTENSION", "BITPIX", "NAXIS", "NAXIS1", "NAXIS2", "NAXIS3", "EXTEND", "PCOUNT",
    "GCOUNT", "BZERO", "BSCALE", "BLANK", "EXTNAME", "CHECKSUM", "DATASUM", "ZIMAGE", "ZCMPTYPE",
    "BIASSEC", "DATASEC", "TRIMSEC", "END", "PEDESTAL", "BUNIT",
)  # fmt: skip
"""Keywords that speak of how the raw file was stored, and not of the exposure."""
_PLAIN = str.maketrans(
    {"−": "-", "×": "x", "°": " deg", "±": "+/-", "″": " arcsec", "–": "-", "“": '"', "”": '"'}
)
"""FITS headers are ASCII."""


@dataclass(frozen=True)
class Written:
    """An exposure that was corrected: its raw file, the file written (None where it could not be),
    and the steps, or why not.
    """

    file: str
    written: str | None
    steps: tuple[str, ...]


def write_corrected(
    plan: Plan, folder: Path, pedestal_adu: float = 0.0, workers: int | None = None,
    progress: Progress | None = None,
) -> list[Written]:  # fmt: skip
    """Correct the exposures of a plan and write them below ``folder``, placed where they can be.

    ``pedestal_adu`` is added, and recorded, for programs that cannot read negative values.
    """
    folder.mkdir(parents=True, exist_ok=True)
    with scratch_walk(plan, workers, progress) as walk:
        if not walk.sorted.night.exposures:
            return []
        walk.place()
        return corrected_files(walk, folder, pedestal_adu)


def corrected_files(walk: Walk, folder: Path, pedestal_adu: float = 0.0) -> list[Written]:
    """Write the exposures of a walk corrected, with the places that are known of them."""
    chains = walk.chains.reports
    exposures = walk.sorted.night.exposures
    solutions = walk.keeper.solutions(exposures)
    by_file: dict[str, list[tuple[Frame, Solution | None]]] = defaultdict(list)
    for index, frame in enumerate(exposures):
        by_file[frame.file].append((frame, solutions.get(index)))
    walk.progress.start("writing corrected exposures", len(by_file))
    calls = [
        (parts, {chain_name(f): chains[chain_name(f)] for f, _ in parts}, folder, pedestal_adu)
        for parts in by_file.values()
    ]
    return walk.pool.map(_write, calls, lambda _: walk.progress.advance())


def _write(
    parts: Sequence[tuple[Frame, Solution | None]],
    chains: Mapping[str, ChainReport],
    folder: Path,
    pedestal_adu: float,
) -> Written:
    """Correct and write one file: a plain exposure, or all of its colours in their places."""
    from astropy.io import fits

    frame = parts[0][0]
    try:
        pixels = _corrected_pixels([part for part, _ in parts], chains)
        own = chains[chain_name(frame)]
        steps = tuple(station.words for station in own.stations)
        header = _header(frame, steps, pedestal_adu, _whole(parts))
        name = Path(frame.file.replace("[", "-").replace("]", ""))
        while name.suffix.lower() in (".fits", ".fit", ".fts", ".fz", ".gz"):
            name = name.with_suffix("")
        relative = Path(*[p for p in name.parts if p not in ("..", "/")])
        path = folder / relative.with_name(f"{relative.name}-corrected.fits")
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary = path.with_suffix(".part")
        fits.PrimaryHDU(pixels + np.float32(pedestal_adu), header).writeto(
            temporary, overwrite=True
        )
        temporary.replace(path)
    except (BeaconError, OSError, ValueError) as error:
        return Written(frame.file, None, (words_of(error, "correcting", frame.file),))
    return Written(frame.file, str(path), steps)


def _corrected_pixels(frames: Sequence[Frame], chains: Mapping[str, ChainReport]) -> Plane:
    """The light-sensitive pixels (height, width), each by its own chain."""
    whole = np.zeros(frames[0].sensor_shape, np.float32)
    space = Workspace.of_shape(*frames[0].shape)
    for frame in frames:
        report = chains[chain_name(frame)]
        if report.problem:
            raise BeaconError(f"not corrected: {report.problem}")
        sets: list[tuple[PixelSource, str]] = [(frame.source, report.folder)]
        if frame.second is not None:
            sets.append((frame.second, str(Path(report.folder) / SECOND)))
        for source, planes in sets:
            pixels, _ = correct(source, load_chain(planes), _NO_LIMIT, space)
            if not frame.channel:
                return pixels.copy()
            x, y = _in_light(source)
            step, (height, width) = source.step, pixels.shape
            whole[y : y + step * height : step, x : x + step * width : step] = pixels
    return whole


def _in_light(source: PixelSource) -> tuple[int, int]:
    """Column and row of a colour's first pixel among those that see light."""
    x, y = source.first
    return (x - source.light.x, y - source.light.y) if source.light else (x, y)


def _whole(parts: Sequence[tuple[Frame, Solution | None]]) -> Solution | None:
    """The solution for all pixels that are written: the greenest part's that has one."""
    placed = [(frame, solution) for frame, solution in parts if solution is not None]
    if not placed:
        return None
    frame, solution = max(placed, key=lambda pair: pair[0].second is not None)
    if not frame.channel:
        return solution
    return solution.among(_in_light(frame.source), frame.source.step, frame.sensor_shape)


def _header(
    frame: Frame, steps: Sequence[str], pedestal_adu: float, solution: Solution | None
) -> fits.Header:
    """The raw header's facts, where it is on the sky, and what was done."""
    header = raw_header(frame, solution)
    if frame.mid_utc is not None:
        header["DATE-AVG"] = (frame.mid_utc.isoformat(), "UTC, middle of the exposure")
    header["BUNIT"] = "adu"
    header["PEDESTAL"] = (pedestal_adu, "[adu] added to all pixels")
    header["RAWFILE"] = (Path(frame.source.path).name[:60].translate(_PLAIN), "raw file")
    header["RAWSHA"] = (frame.sha256, "its SHA-256")
    header["PROGRAM"] = f"Narrow Beacon {__version__}"
    for number, words in enumerate(steps, 1):
        set_words(header, f"{number} {words}")
    set_words(header, "dark subtracted, flat divided, as listed above")
    return header


def raw_header(frame: Frame, solution: Solution | None) -> fits.Header:
    """The facts of a raw file's header for pixels that are stored otherwise, and where they are."""
    from astropy.io import fits

    image = next(i for i in read_images(frame.source.path) if i.source.hdu == frame.source.hdu)
    header = fits.Header()
    for key, value in image.cards.items():
        if key not in _OURS and not key.startswith(("TTYPE", "TFORM", "ZNAXIS", "ZTILE", "WCSAX")):
            _set(header, key, value)
    if solution is not None:
        for key in [k for k in header if k.startswith(("CD1_", "CD2_", "PC", "CDELT", "CROTA"))]:
            del header[key]
        for key, card in solution.header().items():
            header[key] = card
    return header


def set_words(header: fits.Header, words: str) -> None:
    """Words as a line of history, in the letters that a FITS header has."""
    header.add_history(words.translate(_PLAIN).encode("ascii", "replace").decode())


def _set(header: fits.Header, key: str, value: HeaderValue) -> None:
    if len(key) > 8:
        return
    text = value.translate(_PLAIN) if isinstance(value, str) else value
    try:
        header[key] = text
    except ValueError:
        return
