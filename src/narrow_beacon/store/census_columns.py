"""Censuses by star and radius, so that a curve reads only what it is made of.

Beside the Parquet file of a night and filter stands one with the same numbers as plain arrays, each
over (radii, stars, exposures): what a star has at one radius lies in one piece, and what all stars
have at one radius, too. It is made from the Parquet file when there is none, or one of an older
Parquet file.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.collection import BY_STAR, FilterCensus
from narrow_beacon.core.measure.flags import StarFlag
from narrow_beacon.store.census import headings_of, take_from_table
from narrow_beacon.store.census_runs import SCALARS, SortedCensuses

_MAGIC = b"BEACONC1"
_KINDS: dict[str, np.dtype[Any]] = {
    **dict.fromkeys(SCALARS, np.dtype("<f8")),
    "counts_adu": np.dtype("<f8"),
    "uncertainty_adu": np.dtype("<f4"),
    "flag_bits": np.dtype("<u2"),
    "doubt_adu": np.dtype("<f4"),
    "neighbour_adu": np.dtype("<f4"),
}
_BLOCK_STARS = 64
_HEAD_BYTES = 8192


@dataclass(frozen=True)
class _Part:
    """One night's file: where its arrays begin, and what all its stars share."""

    path: Path
    file_ids: Ints
    rows: Ints
    exposure_s: Floats
    radii_px: Floats
    noise: Floats
    offsets: dict[str, int]

    @contextmanager
    def arrays(self) -> Iterator[_Arrays]:
        """Its arrays, mapped as long as they are looked at: pages that are touched go again."""
        whole = np.memmap(self.path, np.uint8, "r")
        yield _Arrays(self, whole)
        del whole

    def ask_for(self, names: Sequence[str], steps: Sequence[int], own: Ints) -> None:
        """Have the disk bring what is about to be read of some stars (places, ascending) all at
        once: page by page, as a map is touched, a disk that has to be asked takes fifty times as
        long.
        """
        count, stars = self.file_ids.size, self.rows.size
        runs = np.split(own, np.flatnonzero(np.diff(own) != 1) + 1) if own.size else []
        bounds = [(int(run[0]), run.size) for run in runs]
        with self.path.open("rb") as file:
            for name in names:
                each = count * _KINDS[name].itemsize
                for step in (0,) if name in SCALARS else steps:
                    begin = self.offsets[name] + step * stars * each
                    for first, length in bounds:
                        os.posix_fadvise(
                            file.fileno(), begin + first * each, length * each,
                            os.POSIX_FADV_WILLNEED,
                        )  # fmt: skip


@dataclass(frozen=True)
class _Arrays:
    part: _Part
    whole: np.memmap

    def of(self, name: str) -> np.ndarray:
        """An array over (stars, exposures) or (radii, stars, exposures)."""
        shape: tuple[int, ...] = (self.part.rows.size, self.part.file_ids.size)
        if name not in SCALARS:
            shape = (self.part.radii_px.shape[1], *shape)
        begin, kind = self.part.offsets[name], _KINDS[name]
        size = int(np.prod(shape)) * kind.itemsize
        return np.asarray(self.whole[begin : begin + size].view(kind).reshape(shape))


@dataclass(frozen=True)
class CensusTable:
    """Nights in one filter: exposures (records' numbers, in the order of their files) by stars
    (``rows`` of the catalogue, ascending).
    """

    parts: tuple[_Part, ...]
    rows: Ints
    prints: tuple[str, ...] = ()
    """Which files it is made of, and what these were made from."""

    @cached_property
    def file_ids(self) -> tuple[int, ...]:
        return tuple(number for part in self.parts for number in part.file_ids.tolist())

    @cached_property
    def places(self) -> dict[int, int]:
        """Of each exposure's record, where it stands."""
        return {number: at for at, number in enumerate(self.file_ids)}

    def at_radius(
        self, step: int, exposures: Ints | None = None, rows: Ints | None = None
    ) -> FilterCensus:
        """All or some stars (rows, ascending) at one radius, on all or some exposures."""
        one = self._read([step], exposures, rows)
        return replace(one, radii_px=one.radii_px[:, step : step + 1])

    def of_stars(
        self, rows: Ints, exposures: Ints | None = None, steps: tuple[int, ...] = ()
    ) -> FilterCensus:
        """Some stars (rows, ascending; those that were measured) at some or all radii."""
        read = self._read(steps or range(self.radii), exposures, rows)
        return replace(read, steps=steps)

    @property
    def radii(self) -> int:
        """At how many radii stars were measured."""
        return int(self.parts[0].radii_px.shape[1])

    def blocks(self) -> Iterator[Ints]:
        """The stars' rows, some at a time: all of them can be more than memory holds."""
        yield from np.array_split(self.rows, max(1, -(-self.rows.size // _BLOCK_STARS)))

    def scalar(self, name: str, exposures: Ints | None = None, rows: Ints | None = None) -> Floats:
        """``x_px`` … ``peak_adu`` (exposures, stars), NaN where a star was not measured."""
        wanted = self._wanted(rows)
        pieces = self._pieces(exposures)
        result = np.full((sum(here.size for _, here, _ in pieces), wanted.size), np.nan)
        matched = [_matched(part.rows, wanted) for part, _, _ in pieces]
        for (part, _, _), (own, _) in zip(pieces, matched, strict=True):
            part.ask_for([name], (), own)
        for (part, here, there), (own, into) in zip(pieces, matched, strict=True):
            with part.arrays() as arrays:
                result[np.ix_(there, into)] = arrays.of(name)[np.ix_(own, here)].T
        return result

    def measured_rows(self, exposures: Ints) -> Ints:
        """The stars (rows, ascending) that were measured on some of the exposures."""
        found = np.zeros(self.rows.size, bool)
        pieces = self._pieces(exposures)
        for part, _, _ in pieces:
            part.ask_for(["x_px"], (), np.arange(part.rows.size))
        for part, here, _ in pieces:
            with part.arrays() as arrays:
                there = np.isfinite(arrays.of("x_px")[:, _as_slice(here)]).any(axis=1)
            found[np.searchsorted(self.rows, part.rows[there])] = True
        return self.rows[found]

    @cached_property
    def noise_ratios(self) -> Floats:
        """How many times noisier each exposure's sky is than the camera's constants say."""
        return np.concatenate([part.noise[:, 1] for part in self.parts])

    def exposure(self, index: int, rows: Ints | None = None) -> ExposureCensus:
        """The census of one exposure, of the stars that were measured on it, or of some (rows,
        ascending) of them; its flags hold at the census's radii.
        """
        part, here, _ = self._pieces(np.array([index]))[0]
        at = int(here[0])
        own, _ = _matched(part.rows, self._wanted(rows))
        # A whole exposure touches all of its night's file: asked for with the first of them.
        if rows is not None or part.path not in self._asked:
            part.ask_for([*SCALARS, *BY_STAR], range(self.radii), own)
        if rows is None:
            self._asked.add(part.path)
        with part.arrays() as arrays:
            there = own[np.isfinite(arrays.of("x_px")[own, at])]
            scalars = {name: arrays.of(name)[there, at] for name in SCALARS}
            lists = {name: arrays.of(name)[:, there, at].T for name in BY_STAR}
        radii = part.radii_px[at]
        bits = lists.pop("flag_bits")
        near = np.full((there.size, len(StarFlag)), np.inf, np.float32)
        for place in range(len(StarFlag)):
            inside = (bits >> place) & 1 > 0
            first = np.nextafter(radii[inside.argmax(axis=1)], 0.0, dtype=np.float32)
            near[:, place] = np.where(inside.any(axis=1), first, np.inf)
        return ExposureCensus(
            rows=part.rows[there], radii_px=radii, noise=part.noise[at], near_px=near,
            **scalars, **lists,
        )  # fmt: skip

    @cached_property
    def _asked(self) -> set[Path]:
        """Files that were asked for as a whole."""
        return set()

    def radii_px(self, index: int) -> Floats:
        """The radii of an exposure."""
        part, here, _ = self._pieces(np.array([index]))[0]
        return np.asarray(part.radii_px[int(here[0])])

    def seconds(self, index: int) -> float:
        """How long an exposure was."""
        part, here, _ = self._pieces(np.array([index]))[0]
        return float(part.exposure_s[here[0]])

    def _wanted(self, rows: Ints | None) -> Ints:
        return self.rows if rows is None else rows[np.isin(rows, self.rows)]

    def _pieces(self, exposures: Ints | None) -> list[tuple[_Part, Ints, Ints]]:
        """By part which of its exposures are wanted, and where they go."""
        ends = np.cumsum([part.file_ids.size for part in self.parts])
        wanted = np.arange(ends[-1]) if exposures is None else np.asarray(exposures)
        of = np.searchsorted(ends, wanted, side="right")
        found: list[tuple[_Part, Ints, Ints]] = []
        for number, part in enumerate(self.parts):
            there = np.flatnonzero(of == number)
            if there.size:
                found.append((part, wanted[there] - (ends[number] - part.file_ids.size), there))
        return found

    def _read(
        self, steps: Sequence[int], exposures: Ints | None, rows: Ints | None
    ) -> FilterCensus:
        wanted = self._wanted(rows)
        pieces = self._pieces(exposures)
        count = sum(here.size for _, here, _ in pieces)
        shape = (count, wanted.size, len(steps))
        lists: dict[str, Any] = {
            name: np.zeros(shape, _KINDS[name])
            if name == "flag_bits"
            else np.full(shape, np.nan, _KINDS[name])
            for name in BY_STAR
        }
        shared: dict[str, Any] = {
            "exposure_s": np.empty(count), "radii_px": np.empty((count, self.radii)),
            "noise": np.empty((count, 2)),
        }  # fmt: skip
        matched = [_matched(part.rows, wanted) for part, _, _ in pieces]
        for (part, _, _), (own, _) in zip(pieces, matched, strict=True):
            part.ask_for(BY_STAR, steps, own)
        for (part, chosen, there), (own, into) in zip(pieces, matched, strict=True):
            here, to = _as_slice(chosen), _as_slice(there)
            shared["exposure_s"][to] = part.exposure_s[here]
            shared["radii_px"][to] = part.radii_px[here]
            shared["noise"][to] = part.noise[here]
            whole_row = into.size == wanted.size
            with part.arrays() as arrays:
                for name in BY_STAR:
                    whole = arrays.of(name)
                    for place, step in enumerate(steps):
                        values = whole[step][own][:, here].T
                        if whole_row:
                            lists[name][to, :, place] = values
                        else:
                            lists[name][:, :, place][np.ix_(there, into)] = values
        return FilterCensus(rows=wanted, **shared, **lists)


def _as_slice(places: Ints) -> Ints | slice:
    """Places in a row as a slice, by which arrays are read much sooner."""
    if places.size and np.array_equal(places, np.arange(places[0], places[0] + places.size)):
        return slice(int(places[0]), int(places[0]) + places.size)
    return places


def _matched(own: Ints, wanted: Ints) -> tuple[Ints, Ints]:
    """Where the wanted rows stand among a part's own, and among the wanted."""
    _, here, there = np.intersect1d(own, wanted, assume_unique=True, return_indices=True)
    return here, there


def open_tables(paths: Sequence[Path], prints: tuple[str, ...] = ()) -> CensusTable:
    """The census tables of nights in one filter, in the order given. Raises OSError."""
    parts = tuple(_part_of(path) for path in paths)
    return CensusTable(parts, np.unique(np.concatenate([part.rows for part in parts])), prints)


def columns_path(path: Path) -> Path:
    """Where the columns of a Parquet file stand."""
    return path.with_suffix(".columns")


def _part_of(path: Path) -> _Part:
    stat = path.stat()
    made_of = [stat.st_size, stat.st_mtime_ns]
    part = _opened(columns_path(path), made_of)
    if part is None:
        with SortedCensuses(path.parent) as censuses:
            take_from_table(censuses, path, dict(enumerate(headings_of(path))))
            write_columns(path, censuses)
        part = _opened(columns_path(path), made_of)
    assert part is not None
    return part


def _opened(path: Path, made_of: list[int]) -> _Part | None:
    """The file's description; None where there is no such file, or one of other numbers."""
    try:
        with path.open("rb") as file:
            if file.read(8) != _MAGIC:
                return None
            head = json.loads(file.read(int.from_bytes(file.read(8), "little")))
            if head["of"] != made_of or path.stat().st_size != head["bytes"]:
                return None
            own = {}
            for name, kind, shape, offset in head["shared"]:
                file.seek(offset)
                own[name] = np.fromfile(file, kind, int(np.prod(shape))).reshape(shape)
    except (OSError, ValueError, KeyError):
        return None
    return _Part(path, offsets=head["offsets"], **own)


def write_columns(path: Path, censuses: SortedCensuses) -> None:
    """Write the columns beside the Parquet file ``path`` that holds the same exposures."""
    heads, rows = censuses.in_time, censuses.rows
    radii = np.stack([head.radii_px for head in heads]).astype(float)
    shared = {
        "file_ids": np.array([head.file_id for head in heads], np.int64), "rows": rows,
        "exposure_s": np.array([head.exposure_s for head in heads], float), "radii_px": radii,
        "noise": np.stack([head.noise for head in heads]).astype(float),
    }  # fmt: skip
    offset = _HEAD_BYTES
    described: list[tuple[str, str, list[int], int]] = []
    offsets: dict[str, int] = {}
    for name, values in shared.items():
        described.append((name, values.dtype.str, list(values.shape), offset))
        offset += -(-values.nbytes // 64) * 64
    for name, kind in _KINDS.items():
        offsets[name] = offset
        depth = 1 if name in SCALARS else radii.shape[1]
        offset += -(-depth * rows.size * len(heads) * kind.itemsize // 64) * 64
    stat = path.stat()
    head = json.dumps(
        {"of": [stat.st_size, stat.st_mtime_ns], "bytes": offset, "shared": described,
         "offsets": offsets}
    ).encode()  # fmt: skip
    scratch = columns_path(path).with_suffix(f".{os.getpid()}.new")
    with scratch.open("wb") as file:
        file.write(_MAGIC + len(head).to_bytes(8, "little") + head)
        for (_, _, _, begin), values in zip(described, shared.values(), strict=True):
            file.seek(begin)
            file.write(values.tobytes())
        first = 0
        for some, records in censuses.blocks():
            _write_stars(file, offsets, (first, some, rows.size), radii, records)
            first += some.size
        file.truncate(offset)
        file.flush()
        os.fsync(file.fileno())
    scratch.replace(columns_path(path))


def _write_stars(
    file: BinaryIO, offsets: dict[str, int], stars: tuple[int, Ints, int], radii: Floats,
    records: np.ndarray,
) -> None:  # fmt: skip
    """Write some stars: the place of the first, their rows, and how many there are in all."""
    first, some, count = stars
    place, at = np.searchsorted(some, records["star"]), records["exposure"]
    own = radii[at]
    for name, kind in _KINDS.items():
        for step in range(1 if name in SCALARS else radii.shape[1]):
            whole = np.full((some.size, len(radii)), 0 if kind.kind == "u" else np.nan, kind)
            if name == "flag_bits":
                bits = 1 << np.arange(records["near_px"].shape[1])
                whole[place, at] = (records["near_px"] < own[:, step, None]) @ bits
            else:
                whole[place, at] = records[name] if name in SCALARS else records[name][:, step]
            file.seek(offsets[name] + (step * count + first) * len(radii) * kind.itemsize)
            file.write(whole.tobytes())
