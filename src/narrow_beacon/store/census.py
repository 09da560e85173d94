"""Census tables of one night and filter as Parquet: sorted by star, then by time.

A row per star and exposure; the radii, which all stars of an exposure share, stand in the file's
metadata. Loaded, they become arrays over exposures, stars and radii.
"""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.collection import BY_STAR, FilterCensus

_SCALARS = ("x_px", "y_px", "sky_adu_per_px", "peak_adu")
_LISTS = {name: pa.float64() if name == "counts_adu" else pa.float32() for name in BY_STAR}


@dataclass(frozen=True)
class CensusTable:
    """Exposures (records' numbers, in order of time) by stars (catalogue rows, ascending).

    ``x_px`` … ``peak_adu`` are (exposures, stars), NaN where a star was not measured.
    """

    file_ids: tuple[int, ...]
    x_px: Floats
    y_px: Floats
    sky_adu_per_px: Floats
    peak_adu: Floats
    census: FilterCensus
    prints: tuple[str, ...] = ()
    """Which files it is made of, and what these were made from."""

    def exposure(self, index: int) -> ExposureCensus:
        """The census of one exposure, of the stars that were measured on it."""
        at = np.flatnonzero(np.isfinite(self.x_px[index]))
        whole = self.census
        return ExposureCensus(
            rows=whole.rows[at], radii_px=whole.radii_px[index],
            noise=whole.noise[index],
            **{name: getattr(self, name)[index, at] for name in _SCALARS},
            **{name: getattr(whole, name)[index, at] for name in BY_STAR},
        )  # fmt: skip


def write_census_table(path: Path, exposures: Sequence[tuple[int, float, ExposureCensus]]) -> None:
    """Write (record's number, exposure time, census) of exposures, given in order of time."""
    rows = np.concatenate([census.rows for _, _, census in exposures])
    order_in_time = np.concatenate(
        [np.full(census.rows.size, at) for at, (_, _, census) in enumerate(exposures)]
    )
    sort = np.lexsort((order_in_time, rows))
    columns = [
        pa.array(rows[sort].astype(np.int32)),
        pa.array(order_in_time[sort].astype(np.int32)),
    ]
    fields = [pa.field("star", pa.int32()), pa.field("exposure", pa.int32())]
    for name in _SCALARS:
        values = np.concatenate([getattr(census, name) for _, _, census in exposures])
        columns.append(pa.array(values[sort].astype(float)))
        fields.append(pa.field(name, pa.float64()))
    for name, kind in _LISTS.items():
        values = np.concatenate([getattr(census, name) for _, _, census in exposures])[sort]
        flat = pa.array(values.reshape(-1).astype(kind.to_pandas_dtype()))
        columns.append(pa.FixedSizeListArray.from_arrays(flat, values.shape[1]))
        fields.append(pa.field(name, columns[-1].type))
    notes = {
        "file_ids": [number for number, _, _ in exposures],
        "exposure_s": [seconds for _, seconds, _ in exposures],
        "radii_px": [census.radii_px.tolist() for _, _, census in exposures],
        "noise": [census.noise.tolist() for _, _, census in exposures],
    }
    schema = pa.schema(fields, metadata={"narrow_beacon": json.dumps(notes)})
    scratch = path.with_suffix(".new")
    with scratch.open("wb") as file:
        pq.write_table(pa.Table.from_arrays(columns, schema=schema), file, compression="zstd")
        file.flush()
        os.fsync(file.fileno())
    scratch.replace(path)


def read_census_table(path: Path) -> CensusTable:
    """What ``write_census_table`` wrote."""
    table = pq.read_table(path, memory_map=True)
    notes = json.loads(table.schema.metadata[b"narrow_beacon"])
    star, at = table["star"].to_numpy(), table["exposure"].to_numpy()
    rows, column = np.unique(star, return_inverse=True)
    count = len(notes["file_ids"])

    def scalar(name: str) -> Floats:
        result = np.full((count, rows.size), np.nan)
        result[at, column] = table[name].to_numpy()
        return result

    def lists(name: str) -> np.ndarray:
        if name not in table.column_names:  # an older census, until it is measured again
            return np.zeros((count, rows.size, len(notes["radii_px"][0])), np.float32)
        chunk = table[name].combine_chunks()
        kind = _LISTS[name].to_pandas_dtype()
        values = chunk.flatten().to_numpy(zero_copy_only=False).reshape(len(chunk), -1)
        result = np.full((count, rows.size, values.shape[1]), np.nan, kind)
        result[at, column] = values
        return result

    census = FilterCensus(
        rows.astype(np.int64),
        np.array(notes["exposure_s"], float),
        np.array(notes["radii_px"], float),
        **{name: lists(name) for name in BY_STAR},
        noise=np.array(notes.get("noise", [[1.0, 1.0]] * count), float),
    )
    x, y, sky, peak = (scalar(name) for name in _SCALARS)
    return CensusTable(tuple(notes["file_ids"]), x, y, sky, peak, census)


def join_tables(tables: Sequence[CensusTable]) -> CensusTable:
    """The tables of several nights in one filter as one, in the order given."""
    if len(tables) == 1:
        return tables[0]
    rows: Ints = np.unique(np.concatenate([table.census.rows for table in tables]))
    places = [np.searchsorted(rows, table.census.rows) for table in tables]

    def wide(parts: Sequence[np.ndarray]) -> np.ndarray:
        wider = []
        for part, at in zip(parts, places, strict=True):
            whole = np.full((part.shape[0], rows.size, *part.shape[2:]), np.nan, part.dtype)
            whole[:, at] = part
            wider.append(whole)
        return np.concatenate(wider)

    parts = [table.census for table in tables]
    census = FilterCensus(
        rows,
        np.concatenate([part.exposure_s for part in parts]),
        np.concatenate([part.radii_px for part in parts]),
        **{name: wide([getattr(part, name) for part in parts]) for name in BY_STAR},
        noise=np.concatenate([part.noise for part in parts]),
    )
    x, y, sky, peak = (wide([getattr(table, name) for table in tables]) for name in _SCALARS)
    file_ids = tuple(number for table in tables for number in table.file_ids)
    return CensusTable(file_ids, x, y, sky, peak, census)
