"""Where a field's stars come from: atlases and services, tried in order or brought together, and
what services sent, kept by cells of the sky so that it serves without network.
"""

from __future__ import annotations

import hashlib
import os
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path

import numpy as np

from narrow_beacon.core.catalogue.atlas import Atlas, build_atlas
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.merge import merged, with_variables
from narrow_beacon.core.catalogue.sky_index import (
    cell_circle,
    cells_about,
    separation_deg,
    sky_cells,
)
from narrow_beacon.core.catalogue.sources import Source, Sources
from narrow_beacon.core.catalogue.table import StarTable, joined
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.cone import NoStarsError, ServiceAwayError, search_cone

_TILES_DEG = (0.5, 1.0, 2.0, 4.0, 8.0)
_MOST_TILES = 16
_AT_ONCE = 3
_FRESH_DAYS = 180
_MOST_FROM_ATLAS = 200_000


@dataclass(frozen=True)
class Found:
    """Stars of a field, the names of the catalogues that they came from, and what to say of it."""

    stars: StarTable
    origins: tuple[str, ...]
    remarks: tuple[Remark, ...] = ()


def stars_about(sources: Sources, ra_deg: float, dec_deg: float, radius_deg: float) -> Found:
    """The stars of a circle: of the first catalogue that has any there, or of all of them.

    Raises CatalogueError, with what every one of them said, where none has.
    """
    tables, origins, troubles, remarks = [], [], [], []
    for source in sources.stars:
        try:
            table, said = _of_source(source, sources.cache, ra_deg, dec_deg, radius_deg)
        except CatalogueError as error:
            troubles.append(str(error))
            continue
        tables.append(table)
        origins.append(source.words)
        remarks += said
        if not sources.merge:
            break
    if not tables:
        raise CatalogueError("; ".join(troubles) or "no catalogue is named")
    if troubles:
        remarks.append(
            Remark(
                "place", f"the stars come from {' and '.join(origins)}: {'; '.join(troubles)}",
                matters="other magnitudes and other stars than the first catalogue's",
                remedy="fetch them again once it answers",
            )
        )  # fmt: skip
    stars, said = _with_known(merged(tables), sources, ra_deg, dec_deg, radius_deg)
    return Found(stars, tuple(origins), (*remarks, *said))


def marked_variables(stars: StarTable, sources: Sources) -> tuple[StarTable, list[Remark]]:
    """Stars that are there already, with those marked that tables of variables know."""
    if not sources.variables or not len(stars):
        return stars, []
    ra, dec = _middle(stars)
    radius = float(separation_deg(stars.ra_deg, stars.dec_deg, ra, dec).max()) + 0.01
    return _with_known(stars, sources, ra, dec, radius)


def _with_known(
    stars: StarTable, sources: Sources, ra_deg: float, dec_deg: float, radius_deg: float
) -> tuple[StarTable, list[Remark]]:
    remarks: list[Remark] = []
    for source in sources.variables:
        try:
            known, said = _of_source(source, sources.cache, ra_deg, dec_deg, radius_deg, vary=True)
        except NoStarsError:
            continue
        except CatalogueError as error:
            remarks.append(_no_variables(source, error))
            continue
        stars = with_variables(stars, known)
        remarks += said
    return stars, remarks


def _middle(stars: StarTable) -> tuple[float, float]:
    turn = np.radians(stars.ra_deg)
    ra = np.degrees(np.arctan2(np.sin(turn).mean(), np.cos(turn).mean())) % 360.0
    return float(ra), float(stars.dec_deg.mean())


def _no_variables(source: Source, error: Exception) -> Remark:
    return Remark(
        "cast", f"the known variables of {source.words} are not marked: {error}",
        matters="a comparison star may be a known variable",
        remedy="fetch the stars again once it answers",
    )  # fmt: skip


def _of_source(
    source: Source,
    cache: Path | None,
    ra_deg: float,
    dec_deg: float,
    radius_deg: float,
    *,
    vary: bool = False,
) -> tuple[StarTable, list[Remark]]:
    if source.kind == "service":
        table, said = _of_service(source, cache, ra_deg, dec_deg, radius_deg)
    elif source.kind == "atlas":
        table = Atlas(Path(source.place)).circle(ra_deg, dec_deg, radius_deg, _MOST_FROM_ATLAS)
        said = []
    else:
        whole = read_catalogue(
            Path(source.place), source.epoch_yr, source.columns, of_variables=vary
        )
        near = separation_deg(whole.ra_deg, whole.dec_deg, ra_deg, dec_deg) <= radius_deg
        table, said = whole.take(np.flatnonzero(near)), []
    if not len(table):
        raise NoStarsError(
            f"{source.words}: has no stars within {radius_deg:.3g}° of {ra_deg:.4f}° "
            f"{dec_deg:+.4f}°; is that its part of the sky?"
        )
    return table, said


def _of_service(
    source: Source, cache: Path | None, ra_deg: float, dec_deg: float, radius_deg: float
) -> tuple[StarTable, list[Remark]]:
    """By cells of the sky: wide fields in tiles, and each asked once."""
    size, cells = _tiles(ra_deg, dec_deg, radius_deg)
    folder = None if cache is None else cells_folder(cache, source)

    def tile(cell: int) -> tuple[StarTable | None, date | None]:
        return _tile(source, folder, cell, size)

    with ThreadPoolExecutor(_AT_ONCE) as pool:
        parts = list(pool.map(tile, cells))
    old = [day for _, day in parts if day is not None]
    tables = [table for table, _ in parts if table is not None]
    said = []
    if old:
        said.append(
            Remark(
                "place",
                f"{source.words} does not answer: its stars are those that it sent on "
                f"{min(old).isoformat()}",
                matters="nothing, unless its catalogue changed since",
            )
        )
    if not tables:
        raise NoStarsError(f"{source.words}: has no stars there")
    whole = joined(tables)
    near = separation_deg(whole.ra_deg, whole.dec_deg, ra_deg, dec_deg) <= radius_deg
    found = whole.take(np.flatnonzero(near))
    # In one order, whether they were sent now or kept.
    return found.take(np.lexsort((found.ra_deg, found.dec_deg))), said


def cells_folder(cache: Path, source: Source) -> Path:
    """Where what a service sent is kept."""
    key = repr((source.place, source.epoch_yr, sorted(source.columns.items())))
    return cache / hashlib.sha256(key.encode()).hexdigest()[:16]


def _tiles(ra_deg: float, dec_deg: float, radius_deg: float) -> tuple[float, list[int]]:
    """The size of cells, in degrees, of which few cover a circle; and those cells."""
    for size in _TILES_DEG:
        runs = cells_about(ra_deg, dec_deg, radius_deg, size)
        cells = [cell for low, high in runs for cell in range(low, high + 1)]
        if len(cells) <= _MOST_TILES:
            break
    return size, cells


def _tile(
    source: Source, folder: Path | None, cell: int, size: float
) -> tuple[StarTable | None, date | None]:
    """The stars of a cell, None where there are none; and the date of what was kept, where the
    service should have been asked again but does not answer.
    """
    ra, dec, radius = cell_circle(cell, size)
    kept = folder / f"{size:g}-{cell}" if folder else None
    made = _made(kept) if kept else None
    if kept and made and (time.time() - made) < _FRESH_DAYS * 86400:
        return _read_tile(kept), None
    try:
        table = search_cone(
            source.place, ra, dec, radius, epoch_yr=source.epoch_yr, columns=source.columns
        )
    except NoStarsError:
        table = None
    except ServiceAwayError:
        if kept and made:
            return _read_tile(kept), datetime.fromtimestamp(made, UTC).date()
        raise
    if table is not None:
        inside = sky_cells(table.ra_deg / 360.0 % 1.0, table.dec_deg, size) == cell
        table = table.take(np.flatnonzero(inside)) if inside.any() else None
    if kept is not None:
        _keep_tile(table, kept, source.place)
    return table, None


def _made(kept: Path) -> float | None:
    try:
        return (kept / _MADE).stat().st_mtime
    except OSError:
        return None


_MADE = "made"


def _keep_tile(table: StarTable | None, kept: Path, origin: str) -> None:
    if table is not None:
        build_atlas([table], kept, origin=origin)
    kept.mkdir(parents=True, exist_ok=True)
    made = kept / _MADE
    made.write_text(datetime.now(UTC).isoformat(), encoding="utf-8")
    os.utime(made)


def _read_tile(kept: Path) -> StarTable | None:
    if not (kept / "atlas.json").exists():
        return None
    return Atlas(kept).circle(0.0, 0.0, 180.0)
