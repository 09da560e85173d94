"""Census tables of one night and filter as Parquet: sorted by star, then by time.

A row per star and exposure; the radii, which all stars of an exposure share, stand in the file's
metadata. The server reads them by star and radius from columns beside them
(``store.census_columns``).
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.store.census_runs import (
    LISTS,
    SCALARS,
    Heading,
    Measured,
    SortedCensuses,
    empty_records,
)

_READ_ROWS = 32768


def write_census_table(path: Path, censuses: SortedCensuses) -> None:
    """Write exposures, some stars at a time: a group of rows of the file each."""
    heads = censuses.in_time
    notes = {
        "file_ids": [head.file_id for head in heads],
        "exposure_s": [head.exposure_s for head in heads],
        "radii_px": [head.radii_px.tolist() for head in heads],
        "noise": [head.noise.tolist() for head in heads],
    }
    scratch = path.with_suffix(".new")
    with scratch.open("wb") as file:
        writer = None
        for _, records in censuses.blocks():
            table = _table(records)
            if writer is None:
                schema = table.schema.with_metadata({"narrow_beacon": json.dumps(notes)})
                writer = pq.ParquetWriter(
                    file, schema, compression="zstd", use_dictionary=["star", "exposure"]
                )
            writer.write_table(table.cast(writer.schema), table.num_rows)
        assert writer is not None
        writer.close()
        file.flush()
        os.fsync(file.fileno())
    scratch.replace(path)


def _table(records: np.ndarray) -> pa.Table:
    columns = {
        name: pa.array(np.ascontiguousarray(records[name]))
        for name in ("star", "exposure", *SCALARS)
    }
    for name in LISTS:
        flat = pa.array(np.ascontiguousarray(records[name]).reshape(-1))
        columns[name] = pa.FixedSizeListArray.from_arrays(flat, records[name].shape[1])
    return pa.table(columns)


def headings_of(path: Path) -> list[Heading]:
    """What all stars of each exposure of a file share, in order of time."""
    notes = json.loads(pq.read_schema(path).metadata[b"narrow_beacon"])
    noise = notes.get("noise", [[1.0, 1.0]] * len(notes["file_ids"]))
    return [
        Heading(number, seconds, np.array(radii, float), np.array(both, float))
        for number, seconds, radii, both in zip(
            notes["file_ids"], notes["exposure_s"], notes["radii_px"], noise, strict=True
        )
    ]


def take_from_table(censuses: SortedCensuses, path: Path, heads: Mapping[int, Heading]) -> None:
    """Have ``censuses`` take exposures of a file, by their places in time, under these headings."""
    if not heads:
        return
    by_number = {head.file_id: at for at, head in heads.items()}
    places = np.array([by_number.get(head.file_id, -1) for head in headings_of(path)])
    radii = next(iter(heads.values())).radii_px.size
    file = pq.ParquetFile(path, memory_map=True)
    for batch in file.iter_batches(_READ_ROWS):
        at = places[batch["exposure"].to_numpy()]
        there = at >= 0
        records = empty_records(int(there.sum()), radii)
        records["exposure"] = at[there]
        for name in ("star", *SCALARS):
            records[name] = batch[name].to_numpy()[there]
        for name in LISTS:
            if name in batch.schema.names:  # but for an older census, until it is measured again
                flat = batch[name].flatten().to_numpy(zero_copy_only=False)
                values = flat.reshape(there.size, -1)[there]
                records[name][:, : values.shape[1]] = values
        censuses.add_records(records)
    censuses.headings.update(heads)


def read_census_table(path: Path) -> list[Measured]:
    """What ``write_census_table`` wrote, to the last bit."""
    with SortedCensuses(path.parent) as censuses:
        heads = headings_of(path)
        take_from_table(censuses, path, dict(enumerate(heads)))
        records = np.concatenate([some for _, some in censuses.blocks()])
    order = np.argsort(records["exposure"], kind="stable")  # an exposure's stars keep their order
    ends = np.searchsorted(records["exposure"][order], np.arange(1, len(heads)))
    return [
        Measured(
            head.file_id, head.exposure_s,
            ExposureCensus(
                rows=records["star"][own].astype(np.int64), radii_px=head.radii_px,
                noise=head.noise, **{name: records[name][own] for name in (*SCALARS, *LISTS)},
            ),
        )
        for head, own in zip(heads, np.split(order, ends), strict=True)
    ]  # fmt: skip
