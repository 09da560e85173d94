"""Census tables of one night and filter as Parquet: sorted by star, then by time.

A row per star and exposure; the radii, which all stars of an exposure share, stand in the file's
metadata. The server reads them by star and radius from columns beside them
(``store.census_columns``).
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

from narrow_beacon.core.measure.census import ExposureCensus

SCALARS = ("x_px", "y_px", "sky_adu_per_px", "peak_adu")
_LISTS = {
    "counts_adu": pa.float64(), "uncertainty_adu": pa.float32(), "near_px": pa.float32(),
    "doubt_adu": pa.float32(), "neighbour_adu": pa.float32(),
}  # fmt: skip


@dataclass(frozen=True)
class Measured:
    """The census of one exposure, with the number of its record and its exposure time."""

    file_id: int
    exposure_s: float
    census: ExposureCensus


def write_census_table(path: Path, exposures: Sequence[Measured]) -> None:
    """Write the censuses of exposures, given in order of time."""
    rows = np.concatenate([one.census.rows for one in exposures])
    order_in_time = np.concatenate(
        [np.full(one.census.rows.size, at) for at, one in enumerate(exposures)]
    )
    sort = np.lexsort((order_in_time, rows))
    columns = [
        pa.array(rows[sort].astype(np.int32)),
        pa.array(order_in_time[sort].astype(np.int32)),
    ]
    fields = [pa.field("star", pa.int32()), pa.field("exposure", pa.int32())]
    for name in SCALARS:
        values = np.concatenate([getattr(one.census, name) for one in exposures])
        columns.append(pa.array(values[sort].astype(float)))
        fields.append(pa.field(name, pa.float64()))
    for name, kind in _LISTS.items():
        values = np.concatenate([getattr(one.census, name) for one in exposures])[sort]
        flat = pa.array(values.reshape(-1).astype(kind.to_pandas_dtype()))
        columns.append(pa.FixedSizeListArray.from_arrays(flat, values.shape[1]))
        fields.append(pa.field(name, columns[-1].type))
    notes = {
        "file_ids": [one.file_id for one in exposures],
        "exposure_s": [one.exposure_s for one in exposures],
        "radii_px": [one.census.radii_px.tolist() for one in exposures],
        "noise": [one.census.noise.tolist() for one in exposures],
    }
    schema = pa.schema(fields, metadata={"narrow_beacon": json.dumps(notes)})
    scratch = path.with_suffix(".new")
    with scratch.open("wb") as file:
        pq.write_table(
            pa.Table.from_arrays(columns, schema=schema),
            file,
            compression="zstd",
            use_dictionary=["star", "exposure"],
        )
        file.flush()
        os.fsync(file.fileno())
    scratch.replace(path)


def read_census_table(path: Path) -> list[Measured]:
    """What ``write_census_table`` wrote, to the last bit."""
    table = pq.read_table(path, memory_map=True)
    notes = json.loads(table.schema.metadata[b"narrow_beacon"])
    at = table["exposure"].to_numpy()
    order = np.argsort(at, kind="stable")  # the stars of an exposure stay in their order
    ends = np.searchsorted(at[order], np.arange(1, len(notes["file_ids"])))
    parts = np.split(order, ends)
    radii = np.array(notes["radii_px"], float)

    def lists(name: str) -> np.ndarray:
        if name not in table.column_names:  # an older census, until it is measured again
            return np.zeros((at.size, radii.shape[1]), np.float32)
        chunk = table[name].combine_chunks()
        return np.asarray(chunk.flatten().to_numpy(zero_copy_only=False).reshape(at.size, -1))

    rows = table["star"].to_numpy().astype(np.int64)
    values = {name: table[name].to_numpy() for name in SCALARS}
    values |= {name: lists(name) for name in _LISTS}
    noise = np.array(notes.get("noise", [[1.0, 1.0]] * len(parts)), float)
    return [
        Measured(
            number, seconds,
            ExposureCensus(
                rows=rows[part], radii_px=radii[index], noise=noise[index],
                **{name: column[part] for name, column in values.items()},
            ),
        )
        for index, (number, seconds, part) in enumerate(
            zip(notes["file_ids"], notes["exposure_s"], parts, strict=True)
        )
    ]  # fmt: skip
