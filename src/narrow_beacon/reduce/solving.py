"""Single exposures placed on the sky, without a plan: each file by itself, from its raw pixels."""

from __future__ import annotations

import os
import pickle
import re
import shutil
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np

from narrow_beacon.core.catalogue.atlas import is_atlas
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.time import julian_year, places_at
from narrow_beacon.core.errors import BeaconError, CatalogueError, NotPlacedError
from narrow_beacon.core.frames.colour import channel_source, is_pattern, sites_of
from narrow_beacon.core.frames.fits_file import PixelSource, read_pixels
from narrow_beacon.core.frames.frame import Frame, RawFile
from narrow_beacon.core.frames.header import FrameFacts
from narrow_beacon.core.frames.header_values import sexagesimal_deg
from narrow_beacon.core.frames.sort import read_raws
from narrow_beacon.core.frames.steps import step_of
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Hint, Placement, Solver
from narrow_beacon.core.place.whole_sky import SkySolver
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.core.stars.detect import FIRST_GUESS_FWHM_PX, likely_width
from narrow_beacon.reduce.cone import search_cone
from narrow_beacon.reduce.faults import words_of
from narrow_beacon.reduce.seeing import see
from narrow_beacon.reduce.workers import Pool

_USUAL_YEAR = 2000.0
_CONE_DEG = 1.0
_WIDER = 1.5
_MOST_STARS = 1_000_000
_SCALE_TOLERANCE = 0.12
_HINT_ERROR_DEG = 1.0
_OLD_WCS = re.compile(
    r"^(CTYPE|CRVAL|CRPIX|CDELT|CROTA|CUNIT)[12]$|^CD[12]_[12]$|^PC\d+_\d+$|^PV\d_\d+$"
    r"|^(A|B|AP|BP)_(ORDER|\d_\d|DMAX)$|^(LONPOLE|LATPOLE|WCSAXES|RADESYS|EQUINOX)$"
)


@dataclass(frozen=True)
class Solved:
    """Where an exposure is on the sky, or why it could not be placed. Positions are those of its
    light-sensitive section.
    """

    file: str
    placed: bool
    reason: str = ""
    ra_deg: float | None = None
    dec_deg: float | None = None
    scale_arcsec_per_px: float | None = None
    rotation_deg: float | None = None
    mirrored: bool | None = None
    matched_stars: int | None = None
    residual_arcsec: float | None = None
    false_log10: float | None = None


@dataclass(frozen=True)
class Stars:
    """Where the stars come from, a file or a service, and what is known of where to look."""

    file: Path | None = None
    cone: str | None = None
    near_deg: tuple[float, float] | None = None
    scales: tuple[float, float] | None = None
    """In seconds of arc a pixel of the file."""


def position_of_words(text: str) -> tuple[float, float]:
    """Right ascension and declination in degrees of text: "19 41 02.6 +38 12 44", or degrees.

    Raises ValueError.
    """
    plain = text.strip().replace("−", "-").replace(",", " ")
    signed = re.match(r"^(.+?)\s*([+-].*)$", plain)
    parts = plain.split()
    if signed:
        first, second = signed.groups()
    elif len(parts) in (2, 6):
        first, second = (" ".join(p) for p in (parts[: len(parts) // 2], parts[len(parts) // 2 :]))
    else:
        raise ValueError(f"“{text}” is no position: write 19 41 02.6 +38 12 44, or degrees")
    try:
        ra, dec = sexagesimal_deg(first, hours=True), sexagesimal_deg(second, hours=False)
    except ValueError as error:
        raise ValueError(f"“{text}” is no position: {error}") from error
    if not (0.0 <= ra <= 360.0 and -90.0 <= dec <= 90.0):
        raise ValueError(f"“{text}”: {ra:g}°, {dec:g}° is not on the sky")
    return ra, dec


def solve_files(
    paths: Sequence[Path], stars: Stars, pool: Pool, write: Path | None = None
) -> list[Solved]:
    """Place every image of some files. With ``write`` copies of the files that could be placed go
    there, with the WCS in their headers. Raises CatalogueError where a catalogue file is unusable,
    BeaconError where copies would lie on the files themselves.
    """
    if stars.file is not None:
        _check(stars.file)  # what is wrong with it is said before anything is done
    base = Path(os.path.commonpath([path.resolve().parent for path in paths]))
    if write is not None and write.resolve() == base:
        raise BeaconError(f"--write names {write}, where the raw files lie: name another folder")
    with tempfile.TemporaryDirectory(prefix="beacon-solve-") as scratch:
        calls = [(path, base, stars, Path(scratch), write) for path in paths]
        return [one for part in pool.map(_solve_file, calls) for one in part]


def _check(file: Path) -> None:
    """Raises CatalogueError where a catalogue is unusable."""
    if is_atlas(file):
        SkySolver.of(file, _USUAL_YEAR)
        return
    count = len(read_catalogue(file, None))
    if count > _MOST_STARS:
        raise CatalogueError(
            f"catalogue {file.name}: holds {count:,} stars. Make an atlas of it, once: ./beacon "
            f"catalogue {file} --write FOLDER; then name that folder"
        )


def _solve_file(
    path: Path, base: Path, stars: Stars, scratch: Path, write: Path | None
) -> list[Solved]:
    name = str(path)
    found: list[tuple[RawFile, Placement, Solution]] = []
    said = []
    try:
        raws = read_raws(path, name, hashed=False)
    except Exception as error:
        return [Solved(name, placed=False, reason=words_of(error, "reading", name))]
    for raw in raws:
        try:
            placement, solution = _placed(raw, stars, scratch)
        except (NotPlacedError, CatalogueError, BeaconError, OSError) as error:
            said.append(Solved(raw.name, placed=False, reason=str(error)))
            continue
        except Exception as error:
            said.append(Solved(raw.name, placed=False, reason=words_of(error, "placing", raw.name)))
            continue
        found.append((raw, placement, solution))
        said.append(_told(raw, placement, solution))
    if write is not None and found:
        _write_copy(path, base, write, [(raw, solution) for raw, _, solution in found])
    return said


def _placed(raw: RawFile, stars: Stars, scratch: Path) -> tuple[Placement, Solution]:
    """A raw image on the sky, with its solution for the pixels of the file."""
    if raw.source is None or raw.facts is None:
        raise NotPlacedError(raw.problem or "it is not an image")
    source = _one_colour(raw)
    hint = _hint(raw, stars, source.step)
    solver = _solver_for(stars, hint, source, _year(raw.facts), scratch)
    placement = _place(source, solver, hint)
    return placement, placement.solution.among(source.first, source.step, source.stored_shape)


def place_anywhere(
    frame: Frame, atlas: Path, scale_arcsec_per_px: float | None
) -> tuple[float, float]:
    """The middle of an exposure of which no position is known, in degrees, by an atlas.

    Raises NotPlacedError, or CatalogueError where the atlas can't be read.
    """
    source = frame.source
    scales = _about(scale_arcsec_per_px * source.step) if scale_arcsec_per_px else None
    solver = _solver_of_file(str(atlas), _year(frame.facts))
    hint = Hint(scale_range=scales, aspects=frame.facts.pixel_aspects)
    return _place(source, solver, hint).solution.centre


def _place(source: PixelSource, solver: Solver | SkySolver, hint: Hint) -> Placement:
    """An image on the sky, by the stars on its raw pixels."""
    pixels = read_pixels(source)
    step = step_of(pixels)
    guess = likely_width(pixels, measure_background(pixels, step_adu=step))
    seen = see(pixels, np.zeros(pixels.shape, np.uint8), guess, 1.0 / source.step, step)
    fwhm = seen.profile.fwhm_px if seen.profile else FIRST_GUESS_FWHM_PX
    error_px = seen.stars.position_error_px(fwhm)
    return solver.place(seen.stars.x_px, seen.stars.y_px, pixels.shape, hint, error_px)


def _year(facts: FrameFacts) -> float:
    return round(julian_year(facts.time_utc.value), 1) if facts.time_utc else _USUAL_YEAR


def _about(scale: float) -> tuple[float, float]:
    return scale * (1.0 - _SCALE_TOLERANCE), scale * (1.0 + _SCALE_TOLERANCE)


def _one_colour(raw: RawFile) -> PixelSource:
    """The image; of a colour sensor its first green pixels, whose stars stand where they stand."""
    facts, source = raw.facts, raw.source
    assert facts is not None
    assert source is not None
    binned = facts.binning is not None and facts.binning.value != (1, 1)
    if facts.mosaic is None or binned or not is_pattern(facts.mosaic.value):
        return source
    site = sites_of(facts.mosaic.value, facts.mosaic_origin, "green", source.first)[0]
    return channel_source(source, site)


def _hint(raw: RawFile, stars: Stars, step: int) -> Hint:
    facts = raw.facts
    assert facts is not None
    ra, dec = stars.near_deg or (None, None)
    if ra is None and facts.ra_deg and facts.dec_deg:
        ra, dec = facts.ra_deg.value, facts.dec_deg.value
    scales = stars.scales
    if scales is None and facts.scale_arcsec_per_px:
        scales = _about(facts.scale_arcsec_per_px.value)
    own = (step * scales[0], step * scales[1]) if scales else None
    return Hint(ra, dec, _HINT_ERROR_DEG, own, facts.pixel_aspects)


def _solver_for(
    stars: Stars, hint: Hint, source: PixelSource, year: float, scratch: Path
) -> Solver | SkySolver:
    if stars.file is not None:
        return _solver_of_file(str(stars.file), year)
    assert stars.cone is not None
    if hint.ra_deg is None or hint.dec_deg is None:
        raise NotPlacedError(
            "a cone search needs a position, and the header gives none: give it with --near"
        )
    radius = _CONE_DEG
    if hint.scale_range is not None:
        diagonal = float(np.hypot(source.height, source.width)) * hint.scale_range[1] / 3600.0
        radius = max(0.5 * _WIDER * diagonal, 0.1)
    ra, dec = round(hint.ra_deg, 2), round(hint.dec_deg, 2)
    return _solver_of_cone(stars.cone, ra, dec, round(radius, 2), year, str(scratch))


@lru_cache(maxsize=4)
def _solver_of_file(file: str, year: float) -> Solver | SkySolver:
    if is_atlas(Path(file)):
        return SkySolver.of(Path(file), year)
    return _solver(read_catalogue(Path(file), None), year)


@lru_cache(maxsize=8)
def _solver_of_cone(
    url: str, ra_deg: float, dec_deg: float, radius_deg: float, year: float, scratch: str
) -> Solver:
    kept = Path(scratch) / f"{ra_deg:.2f}{dec_deg:+.2f}-{radius_deg:.2f}.pickle"
    if not kept.exists():
        table = search_cone(url, ra_deg, dec_deg, radius_deg)
        temporary = kept.with_suffix(f".{os.getpid()}")
        temporary.write_bytes(pickle.dumps(table))
        temporary.replace(kept)
    return _solver(pickle.loads(kept.read_bytes()), year)


def _solver(table: StarTable, year: float) -> Solver:
    order = table.brightness_order()
    ra, dec = places_at(table, year)
    return Solver(ra[order], dec[order])


def _told(raw: RawFile, placement: Placement, solution: Solution) -> Solved:
    ra, dec = centre_of_light(raw, solution)
    return Solved(
        raw.name, placed=True, ra_deg=ra, dec_deg=dec,
        scale_arcsec_per_px=solution.scale_arcsec_per_px, rotation_deg=solution.rotation_deg,
        mirrored=solution.mirrored, matched_stars=placement.matched,
        residual_arcsec=placement.residual_arcsec, false_log10=placement.false_log10,
    )  # fmt: skip


def centre_of_light(raw: RawFile, solution: Solution) -> tuple[float, float]:
    """The middle of the light-sensitive section, in degrees."""
    assert raw.source is not None
    x, y = raw.source.first
    ra, dec = solution.sky(
        np.array([x + (raw.source.width - 1) / 2.0]), np.array([y + (raw.source.height - 1) / 2.0])
    )
    return float(ra[0]), float(dec[0])


def _write_copy(
    path: Path, base: Path, folder: Path, solved: Sequence[tuple[RawFile, Solution]]
) -> None:
    """A copy of the file with the WCS of its images in their headers; pixels stay as they are."""
    from astropy.io import fits

    target = folder / path.resolve().relative_to(base)
    target.parent.mkdir(parents=True, exist_ok=True)
    temporary = target.with_name(f".{target.name}")
    shutil.copyfile(path, temporary)
    # Compressed images stay compressed: their header is that of the table that holds them.
    with fits.open(
        temporary, mode="update", memmap=False, do_not_scale_image_data=True,
        disable_image_compression=True, output_verify="fix+ignore",
    ) as hdus:  # fmt: skip
        done: set[int] = set()
        for raw, solution in solved:
            assert raw.source is not None
            if raw.source.hdu in done:
                continue  # planes of a cube: the first one's stands for them
            done.add(raw.source.hdu)
            header = hdus[raw.source.hdu].header
            for key in [key for key in header if _OLD_WCS.match(key)]:
                del header[key]
            for key, value in solution.header().items():
                header[key] = value
    temporary.replace(target)
