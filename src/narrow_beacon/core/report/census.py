"""The census as a Parquet file: a row per star and exposure, sorted by star, then by time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.flags import FLAG_WORDS

_STARS_PER_GROUP, _ROWS_PER_GROUP = 200, 150_000
_REPEATED = ["exposure", "star", "filter", "flags", "jd_utc", "radius_px.list.element"]
"""Columns of few values: lists of different numbers only take their time to look through."""

_SCHEMA = pa.schema(
    [
        ("exposure", pa.dictionary(pa.int32(), pa.string())),
        ("star", pa.dictionary(pa.int32(), pa.string())),
        ("filter", pa.dictionary(pa.int32(), pa.string())),
        ("jd_utc", pa.float64()),
        ("x_px", pa.float64()),
        ("y_px", pa.float64()),
        ("sky_adu_per_px", pa.float64()),
        ("peak_adu", pa.float64()),
        ("flags", pa.int32()),
        ("radius_px", pa.list_(pa.float32())),
        ("counts_adu", pa.list_(pa.float64())),
        ("uncertainty_adu", pa.list_(pa.float32())),
    ],
    metadata={
        "flags": ", ".join(f"{int(flag)} {word}" for flag, word in FLAG_WORDS.items()),
        "pixels": "the centre of the first pixel is (1, 1)",
    },
)


@dataclass(frozen=True)
class MeasuredExposure:
    """An exposure's census with what its rows need: name, filter, time, radius for the flags, and
    where its pixels are among those of the file: the first one's column and row, and the step.
    """

    name: str
    filter: str
    jd_utc: float
    radius_px: float
    census: ExposureCensus
    first: tuple[float, float] = (0.0, 0.0)
    step: int = 1


def write_census(
    exposures: Sequence[MeasuredExposure],
    stars: StarTable,
    path: Path,
    looked_at: Callable[[], None] = lambda: None,
) -> None:
    """Write all exposures of a reduction; some stars at a time, to keep memory low. Calls
    ``looked_at`` whenever it has read some of all exposures.
    """
    names = pa.array([exposure.name for exposure in exposures])
    filters = sorted({exposure.filter for exposure in exposures})
    order = np.argsort([exposure.jd_utc for exposure in exposures], kind="stable")
    rows = np.unique(np.concatenate([exposure.census.rows for exposure in exposures]))
    by_name = sorted(rows.tolist(), key=lambda row: stars.names[row])
    star_names = pa.array([stars.names[row] for row in by_name])
    flags = [e.census.flags_at(e.radius_px).astype(np.uint16) for e in exposures]
    each = min(max(_ROWS_PER_GROUP // len(exposures), 1), _STARS_PER_GROUP)
    temporary = path.with_suffix(".part")
    with pq.ParquetWriter(
        temporary, _SCHEMA, compression="zstd", use_dictionary=_REPEATED
    ) as writer:
        for first in range(0, len(by_name), each):
            group = by_name[first : first + each]
            writer.write_table(
                _group(exposures, flags, order, group, first, names, star_names, filters)
            )
            looked_at()
    temporary.replace(path)


def _group(
    exposures: Sequence[MeasuredExposure],
    flags: Sequence[np.ndarray],
    order: np.ndarray,
    group: Sequence[int],
    first: int,
    names: pa.Array,
    star_names: pa.Array,
    filters: Sequence[str],
) -> pa.Table:
    wanted = np.asarray(group)
    at_of, star_of = [], []
    for item in (exposures[index].census for index in order):
        at = np.minimum(np.searchsorted(item.rows, wanted), item.rows.size - 1)
        hit = np.flatnonzero(item.rows[at] == wanted)
        star_of.append(hit)
        at_of.append(at[hit])
    star = np.concatenate(star_of)
    exposure = np.repeat(order, [hit.size for hit in star_of])
    sort = np.argsort(star, kind="stable")  # time order is kept within a star
    star, exposure = star[sort], exposure[sort]

    def gather(values: Sequence[np.ndarray]) -> np.ndarray:
        own = [values[index][at] for index, at in zip(order, at_of, strict=True)]
        return np.concatenate(own)[sort]

    censuses = [item.census for item in exposures]
    steps = censuses[0].radii_px.size
    offsets = pa.array(np.arange(0, (star.size + 1) * steps, steps, dtype=np.int32))

    def lists(values: np.ndarray, kind: pa.DataType) -> pa.Array:
        return pa.ListArray.from_arrays(offsets, pa.array(values.reshape(-1), type=kind))

    def coded(codes: np.ndarray, words: pa.Array) -> pa.Array:
        return pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int32)), words)

    filter_code = np.array([filters.index(item.filter) for item in exposures])
    jd = np.array([item.jd_utc for item in exposures])
    begin, step = np.array([e.first for e in exposures]), np.array([e.step for e in exposures])
    radii = np.stack([e.step * e.census.radii_px for e in exposures])
    columns = [
        coded(exposure, names),
        coded(star + first, star_names),
        coded(filter_code[exposure], pa.array(filters)),
        pa.array(jd[exposure]),
        pa.array(begin[exposure, 0] + step[exposure] * gather([c.x_px for c in censuses]) + 1.0),
        pa.array(begin[exposure, 1] + step[exposure] * gather([c.y_px for c in censuses]) + 1.0),
        pa.array(gather([census.sky_adu_per_px for census in censuses])),
        pa.array(gather([census.peak_adu for census in censuses])),
        pa.array(gather(flags).astype(np.int32)),
        lists(radii[exposure], pa.float32()),
        lists(gather([census.counts_adu for census in censuses]), pa.float64()),
        lists(gather([census.uncertainty_adu for census in censuses]), pa.float32()),
    ]
    return pa.Table.from_arrays(columns, schema=_SCHEMA)
