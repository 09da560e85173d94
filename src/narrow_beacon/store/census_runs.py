"""Censuses of many exposures sorted by star and time without all of them in memory.

Exposures are taken as they come, sorted a few megabytes at a time into an unnamed file and merged
from it some stars at a time (sorting by merging runs: Knuth 1998, The Art of Computer Programming
3, 5.4). What waits and what is merged are each bounded by ``RUN_BYTES``, however long the night.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.flags import StarFlag

SCALARS = ("x_px", "y_px", "sky_adu_per_px", "peak_adu")
LISTS = {
    "counts_adu": np.dtype("<f8"), "uncertainty_adu": np.dtype("<f4"),
    "near_px": np.dtype("<f4"), "doubt_adu": np.dtype("<f4"), "neighbour_adu": np.dtype("<f4"),
}  # fmt: skip
"""What each star has at every radius, but ``near_px``: by flag."""
RUN_BYTES = 16_000_000


@dataclass(frozen=True)
class Measured:
    """The census of one exposure, with the number of its record and its exposure time."""

    file_id: int
    exposure_s: float
    census: ExposureCensus


@dataclass(frozen=True)
class Heading:
    """What all stars of an exposure share: ``radii_px`` (radii), ``noise`` (2)."""

    file_id: int
    exposure_s: float
    radii_px: Floats
    noise: Floats


@dataclass(frozen=True)
class _Run:
    """Sorted records in the file: which stars, and where each of them begins among the records."""

    offset: int
    stars: Ints
    begins: Ints
    size: int

    def between(self, some: Ints) -> tuple[int, int]:
        """The records (begin, end) from the first to the last of some stars."""
        if not some.size:
            return 0, 0
        ends = np.searchsorted(self.stars, [some[0], some[-1] + 1])
        begin, end = (int(self.begins[at]) if at < self.stars.size else self.size for at in ends)
        return begin, end


class SortedCensuses:
    """Takes exposures in order of time, gives their stars in order of star and time.

    A record has ``star``, ``exposure`` (its place in time), ``SCALARS`` and ``LISTS``.
    """

    def __init__(self, folder: Path, exposures: Sequence[Measured] = ()) -> None:
        self._file = tempfile.TemporaryFile(dir=folder)  # noqa: SIM115
        self._runs: list[_Run] = []
        self._waiting: list[np.ndarray] = []
        self._waiting_bytes = 0
        self.headings: dict[int, Heading] = {}
        for at, one in enumerate(exposures):
            census = one.census
            head = Heading(one.file_id, one.exposure_s, census.radii_px, census.noise)
            self.add(at, head, records_of(census))

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:  # fmt: skip
        self._file.close()

    def add(self, at: int, head: Heading, records: np.ndarray) -> None:
        """Take the records of an exposure that is the ``at``-th in time."""
        self.headings[at] = head
        records["exposure"] = at
        self.add_records(records)

    def add_records(self, records: np.ndarray) -> None:
        """Take stars of exposures whose headings are given beside."""
        self._waiting.append(records)
        self._waiting_bytes += records.nbytes
        if self._waiting_bytes >= RUN_BYTES:
            self._sort()

    @property
    def in_time(self) -> list[Heading]:
        """The exposures in order of time."""
        return [self.headings[at] for at in sorted(self.headings)]

    @property
    def rows(self) -> Ints:
        """The stars, rows of the catalogue, ascending."""
        self._sort()
        return np.unique(np.concatenate([run.stars for run in self._runs])).astype(np.int64)

    def blocks(self) -> Iterator[tuple[Ints, np.ndarray]]:
        """Some stars (rows, ascending) after the other with their records by star and time."""
        rows = self.rows
        kind = record_kind(self.in_time[0].radii_px.size)
        each = max(1, RUN_BYTES // (kind.itemsize * len(self.headings)))
        for some in np.split(rows, range(each, rows.size, each)):
            found = np.concatenate([self._read(run, kind, some) for run in self._runs])
            yield some, found[np.lexsort((found["exposure"], found["star"]))]

    def _read(self, run: _Run, kind: np.dtype[Any], some: Ints) -> np.ndarray:
        begin, end = run.between(some)
        self._file.seek(run.offset + begin * kind.itemsize)
        return np.fromfile(self._file, kind, end - begin)

    def _sort(self) -> None:
        """Bring what waits to the file."""
        if not self._waiting:
            return
        records = np.concatenate(self._waiting)
        self._waiting, self._waiting_bytes = [], 0
        records = records[np.lexsort((records["exposure"], records["star"]))]
        stars, begins = np.unique(records["star"], return_index=True)
        self._file.seek(0, 2)
        self._runs.append(_Run(self._file.tell(), stars, begins, records.size))
        records.tofile(self._file)


def record_kind(radii: int) -> np.dtype[Any]:
    """The record of a star on an exposure."""
    lists = [
        (name, kind, (len(StarFlag) if name == "near_px" else radii,))
        for name, kind in LISTS.items()
    ]
    scalars = [(name, np.dtype("<f8")) for name in SCALARS]
    return np.dtype(
        [("star", "<i4"), ("exposure", "<i4"), *scalars, *lists], align=True
    )  # fmt: skip


def records_of(census: ExposureCensus) -> np.ndarray:
    """The stars of an exposure, whose place in time is not said yet."""
    records = np.zeros(census.rows.size, record_kind(census.radii_px.size))
    records["star"] = census.rows
    for name in (*SCALARS, *LISTS):
        records[name] = getattr(census, name)
    return records


def empty_records(count: int, radii: int) -> np.ndarray:
    """Records to be filled; no flag set."""
    records = np.zeros(count, record_kind(radii))
    records["near_px"] = np.inf
    return records
