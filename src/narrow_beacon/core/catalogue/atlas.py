"""An atlas: a catalogue of any size kept by cells of the sky, found by position in milliseconds.

A folder with the stars as Parquet, cell after cell and brightest first in each, and a page that
says what they are (docs/formats.md, “Atlas”). Built in bounded memory: blocks are sorted by
themselves and then merged.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from functools import cached_property
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.sky_index import cells_about, sky_cells, unit_vectors
from narrow_beacon.core.catalogue.table import Band, StarTable
from narrow_beacon.core.disk import replaced_folder
from narrow_beacon.core.errors import CatalogueError

CELL_DEG = 0.5
PAGE = "atlas.json"
_STARS = "stars.parquet"
_VERSION = 1
_GROUP_ROWS = 8192
_MERGED_ROWS = 200_000
_UNKNOWN_MAG = 99.0
"""Of stars without any magnitude, to put them after all others."""


@dataclass(frozen=True)
class AtlasPage:
    """What an atlas holds: where it came from, how many stars, their bands and epoch."""

    origin: str
    sha256: str
    rows: int
    bands: tuple[str, ...]
    epoch_yr: float
    columns: Mapping[str, str]
    version: int = _VERSION


def is_atlas(path: Path) -> bool:
    """Whether a path is an atlas's folder."""
    return (path / PAGE).is_file()


def build_atlas(
    blocks: Iterable[StarTable],
    folder: Path,
    *,
    origin: str,
    sha256: str = "",
    columns: Mapping[str, str] | None = None,
    told: Callable[[int], None] = lambda _: None,
) -> Atlas:
    """Write an atlas of stars that come block by block; ``told`` hears of every block's rows.

    Nothing is at ``folder`` before it is whole. Raises what reading the blocks raises.
    """
    with replaced_folder(folder) as scratch:
        runs = scratch / "runs"
        runs.mkdir()
        rows, epoch = 0, 2000.0
        bands: list[str] = []
        for number, table in enumerate(blocks):
            moved = table.moved_to(epoch) if number else table
            epoch = moved.epoch_yr
            bands += [band for band in _by_share(table) if band not in bands]
            _write_run(runs / f"{number}.arrow", moved, bands)
            rows += len(table)
            told(rows)
        _merge(runs, scratch / _STARS, bands)
        shutil.rmtree(runs)
        page = AtlasPage(origin, sha256, rows, tuple(bands), epoch, dict(columns or {}))
        (scratch / PAGE).write_text(json.dumps(asdict(page), indent=1), encoding="utf-8")
    return Atlas(folder)


class Atlas:
    """A kept catalogue. Raises CatalogueError where the folder is none that can be read."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        try:
            plain = json.loads((folder / PAGE).read_text(encoding="utf-8"))
            plain["bands"] = tuple(plain["bands"])
            self.page = AtlasPage(**plain)
            self._file = pq.ParquetFile(folder / _STARS, memory_map=True)
        except (OSError, ValueError, TypeError, KeyError) as error:
            raise CatalogueError(
                f"atlas {folder.name}: cannot be read; make it again from its catalogue"
            ) from error
        if self.page.version != _VERSION:
            raise CatalogueError(
                f"atlas {folder.name}: is of another version of the program; make it again"
            )

    @cached_property
    def _ranges(self) -> tuple[Ints, Ints]:
        """First and last cell of each group of rows."""
        meta = self._file.metadata
        at = self._file.schema_arrow.get_field_index("cell")
        found = [meta.row_group(n).column(at).statistics for n in range(meta.num_row_groups)]
        return np.array([s.min for s in found]), np.array([s.max for s in found])

    def circle(
        self, ra_deg: float, dec_deg: float, radius_deg: float, most: int | None = None
    ) -> StarTable:
        """The stars within a circle (ICRS at the atlas's epoch), brightest first; no more than the
        ``most`` brightest.
        """
        rows = self._rows_about(ra_deg, dec_deg, radius_deg)
        ra, dec = rows["ra"].to_numpy(), rows["dec"].to_numpy()
        inside = unit_vectors(ra, dec) @ unit_vectors(ra_deg, dec_deg) >= np.cos(
            np.radians(min(radius_deg, 180.0))
        )
        chosen = np.flatnonzero(inside)
        chosen = chosen[np.argsort(rows["bright"].to_numpy()[chosen], kind="stable")][:most]
        return _as_stars(rows.take(pa.array(chosen)), self.page)

    def find(self, name: str) -> StarTable | None:
        """The star of a name, case and spaces ignored, alone in a table; None without one."""
        import pyarrow.compute as pc  # slow to load, and seldom needed

        wanted = "".join(name.lower().split())
        names = self._file.read(columns=["name"])["name"]
        alike = pc.equal(pc.replace_substring(pc.utf8_lower(names), " ", ""), wanted)
        at = pc.index(alike, value=True).as_py()
        if at < 0:
            return None
        meta = self._file.metadata
        ends = np.cumsum([meta.row_group(n).num_rows for n in range(meta.num_row_groups)])
        group = int(np.searchsorted(ends, at, side="right"))
        row = at - int(ends[group]) + meta.row_group(group).num_rows
        return _as_stars(self._file.read_row_group(group).slice(row, 1), self.page)

    def positions(self) -> Iterator[tuple[Floats, Floats, Floats]]:
        """Right ascension, declination and magnitude of all stars, piece by piece."""
        for batch in self._file.iter_batches(_MERGED_ROWS, columns=["ra", "dec", "bright"]):
            yield tuple(batch.column(n).to_numpy() for n in range(3))

    def _rows_about(self, ra_deg: float, dec_deg: float, radius_deg: float) -> pa.Table:
        runs = cells_about(ra_deg, dec_deg, min(radius_deg, 180.0), CELL_DEG)
        first, last = self._ranges
        groups: set[int] = set()
        for low, high in runs:
            start, end = np.searchsorted(last, low), np.searchsorted(first, high, side="right")
            groups.update(range(int(start), int(end)))
        return self._file.read_row_groups(sorted(groups))


def _write_run(path: Path, stars: StarTable, bands: Sequence[str]) -> None:
    """One block, sorted by cell and brightness."""
    cell = sky_cells(stars.ra_deg / 360.0 % 1.0, stars.dec_deg, CELL_DEG)
    bright = _brightness(stars, bands)
    order = np.lexsort((bright, cell))
    table = _as_rows(stars.take(order), cell[order], bright[order], bands)
    with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)


def _by_share(stars: StarTable) -> list[str]:
    """Bands, the one that most stars have first."""
    return sorted(stars.bands, key=lambda b: -int(np.isfinite(stars.bands[b].magnitude).sum()))


def _brightness(stars: StarTable, bands: Sequence[str]) -> Floats:
    """One magnitude of each star: of the first band that it has."""
    usual = np.full(len(stars), np.nan)
    for band in bands:
        if band in stars.bands:
            usual = np.where(np.isfinite(usual), usual, stars.bands[band].magnitude)
    return np.where(np.isfinite(usual), usual, _UNKNOWN_MAG)


def _as_rows(stars: StarTable, cell: Ints, bright: Floats, bands: Sequence[str]) -> pa.Table:
    nothing = np.full(len(stars), np.nan)
    columns = {
        "cell": pa.array(cell), "name": pa.array(stars.names, pa.string()),
        "ra": pa.array(stars.ra_deg), "dec": pa.array(stars.dec_deg),
        "pm_ra": pa.array(stars.pm_ra_mas_yr, pa.float64()),
        "pm_dec": pa.array(stars.pm_dec_mas_yr, pa.float64()),
        "parallax": pa.array(
            nothing if stars.parallax_mas is None else stars.parallax_mas, pa.float64()
        ),
        "variable": pa.array(stars.known_variable),
        "note": pa.array(stars.notes or [None] * len(stars), pa.string()),
        "bright": pa.array(bright, pa.float32()),
    }  # fmt: skip
    for band in bands:
        known = stars.bands.get(band) or Band(nothing, nothing)
        columns[f"mag_{band}"] = pa.array(known.magnitude, pa.float64())
        columns[f"err_{band}"] = pa.array(known.uncertainty, pa.float64())
    return pa.table(columns)


def _merge(runs: Path, path: Path, bands: Sequence[str]) -> None:
    """Bring the sorted blocks together, some cells of all of them at a time."""
    files = sorted(runs.glob("*.arrow"), key=lambda p: int(p.stem))
    tables = [pa.ipc.open_file(pa.memory_map(str(file))).read_all() for file in files]
    cells = [table["cell"].to_numpy() for table in tables]
    ids, counts = _counted(cells)
    # Whole cells, as many as make up a piece of work.
    piece = np.cumsum(counts) // _MERGED_ROWS
    edges = ids[np.searchsorted(piece, np.unique(piece))]
    schema = max((table.schema for table in tables), key=len)
    with pq.ParquetWriter(path, schema, compression="zstd") as writer:
        for n, low in enumerate(edges):
            high = edges[n + 1] if n + 1 < edges.size else np.iinfo(np.int64).max
            parts = []
            for table, cell in zip(tables, cells, strict=True):
                first, last = np.searchsorted(cell, [low, high])
                parts.append(table.slice(first, last - first))
            rows = pa.concat_tables(parts, promote_options="default")
            order = np.lexsort((rows["bright"].to_numpy(), rows["cell"].to_numpy()))
            writer.write_table(rows.take(pa.array(order)).combine_chunks(), _GROUP_ROWS)


def _counted(cells: Sequence[Ints]) -> tuple[Ints, Ints]:
    """The cells that hold any star, ascending, and how many each holds, run by run: all stars'
    cells together would take memory by their number.
    """
    ids, counts = np.empty(0, np.int64), np.empty(0, np.int64)
    for run in cells:
        more, each = np.unique(run, return_counts=True)
        ids, place = np.unique(np.concatenate([ids, more]), return_inverse=True)
        counts = np.bincount(place, np.concatenate([counts, each])).astype(np.int64)
    return ids, counts


def _as_stars(rows: pa.Table, page: AtlasPage) -> StarTable:
    def numbers(name: str) -> Floats:
        return np.asarray(rows[name].to_numpy(), float)

    parallax, notes = numbers("parallax"), rows["note"]
    return StarTable(
        tuple(rows["name"].to_pylist()), numbers("ra"), numbers("dec"), numbers("pm_ra"),
        numbers("pm_dec"), page.epoch_yr,
        {band: Band(numbers(f"mag_{band}"), numbers(f"err_{band}")) for band in page.bands},
        np.asarray(rows["variable"].to_numpy(), bool),
        np.nan_to_num(parallax) if np.isfinite(parallax).any() else None,
        None if notes.null_count == len(notes) else tuple(notes.fill_null("").to_pylist()),
    )  # fmt: skip
