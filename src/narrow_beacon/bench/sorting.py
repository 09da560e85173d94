"""A large campaign's files, sorted from a warm cache: reading, hashing, interpreting, grouping."""

from __future__ import annotations

import os
import tempfile
import time
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from narrow_beacon.plan import Plan
from narrow_beacon.reduce.keeper import Keeper
from narrow_beacon.reduce.sorting import SortedFiles
from narrow_beacon.reduce.walk import Walk
from narrow_beacon.reduce.workers import Workers, core_count
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.headers import FrameInfo, spelling_words, write_frame

FILES_VARIABLE = "BEACON_SORTING_FILES"
_FILES = 2000
_SHAPE = (1448, 1448)
"""4.2 MB of 16-bit pixels."""
_AIM_S = 20.0
_EVENING = datetime(2026, 10, 12, 18, 0)
_CALIBRATION = ("bias", "dark", "flat")
_OF_EACH = 30


class _Told:
    """Counts what a walk says of how far it is."""

    def __init__(self) -> None:
        self.times = 0

    def start(self, words: str, total: int, done: int = 0) -> None:
        self.times += 1

    def advance(self, count: int = 1) -> None:
        self.times += 1


class _Looking(Keeper):
    """Notes when the files are sorted to be seen, before they are named by their content."""

    seen_s = 0.0
    seen = 0

    def keep_first_look(self, files: SortedFiles) -> None:
        self.seen_s = time.monotonic()
        self.seen = len(files.night.exposures) + len(files.night.calibration)


def print_sorting() -> bool:
    """Write the files, sort them twice, the second time from a warm cache; whether in time."""
    count = int(os.environ.get(FILES_VARIABLE, _FILES))
    with tempfile.TemporaryDirectory(prefix="beacon-sorting-") as place:
        folder = Path(place) / "night"
        folder.mkdir()
        _write(folder, count)
        size = sum(path.stat().st_size for path in folder.iterdir()) / count
        for which in ("first", "warm"):
            sorted_s, named_s, found, told = _sort(folder, Path(place) / which)
        print(
            f"{count} files of {size / 1e6:.1f} MB sorted in {sorted_s:.1f} s on {core_count()} "
            f"cores from a warm cache (aim {_AIM_S * count / _FILES:.0f} s), told {told} times; "
            f"{found} understood; named by their content, duplicates known, after {named_s:.1f} s"
        )
        return sorted_s <= _AIM_S * count / _FILES and found == count


def _sort(folder: Path, out: Path) -> tuple[float, float, int, int]:
    told = _Told()
    with Workers(core_count()) as pool:
        pool.map(_warm, [(0,), (1,)])  # processes that are there, as in an application that runs
        began = time.monotonic()
        keeper = _Looking(Plan(folder / "p", "", (folder,)), out, out)
        walk = Walk(keeper, pool, told)
        walk.read()
        night = walk.sorted.night
        named = time.monotonic() - began
    found = min(keeper.seen, len(night.exposures) + len(night.calibration))
    return keeper.seen_s - began, named, found, told.times


def _warm(_: int) -> int:
    return os.getpid()


def _write(folder: Path, count: int) -> None:
    rng = np.random.default_rng(1)
    camera = Camera(3, _SHAPE)
    kinds = [kind for kind in _CALIBRATION for _ in range(_OF_EACH)]
    kinds += ["exposure"] * (count - len(kinds))
    pixels = {kind: camera.read(rng, None, 60.0 if kind == "dark" else 0.0) for kind in set(kinds)}
    for number, kind in enumerate(kinds[:count]):
        start = _EVENING + timedelta(seconds=20 * number)
        info = FrameInfo(
            kind, "V" if kind in ("exposure", "flat") else "", start,
            0.0 if kind == "bias" else 15.0, -10.0, 340.0, 38.0, "", 100, 30,
        )  # fmt: skip
        adu = pixels[kind]
        adu[number % _SHAPE[0], number % _SHAPE[1]] += 1
        write_frame(folder / f"{kind}-{number:04d}.fits", adu, spelling_words(info))
