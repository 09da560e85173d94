"""A catalogue of millions of stars made into an atlas, and exposures of which nothing is known
placed anywhere on the sky by its patterns.
"""

from __future__ import annotations

import resource
import tempfile
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import csv

from narrow_beacon.bench.fields import SOLVABLE, solve_field
from narrow_beacon.core.catalogue.atlas import Atlas, build_atlas
from narrow_beacon.core.catalogue.files import stars_in_blocks
from narrow_beacon.core.place.sky_patterns import (
    PATTERNS,
    SMALLEST_FIELD_DEG,
    build_sky_patterns,
)
from narrow_beacon.core.place.whole_sky import SkySolver
from narrow_beacon.simulate.all_sky import WholeSky, expose, make_whole_sky

_STARS = 10_000_000
_FIELDS, _LARGEST_DEG = 200, 10.0
_WRONG_PX = 5.0
_MOST_MB, _MOST_S, _BLIND_S, _FOUND_MS = 200.0, 300.0, 3.0, 10.0
_TRUE_SHARE = 0.8
"""Of the detections of a simulated exposure that are stars."""


def _write(sky: WholeSky, path: Path) -> None:
    order = np.random.default_rng(0).permutation(_STARS)
    names = pa.array([f"Skerry {n}" for n in range(_STARS)])
    columns = {"id": names, "ra": sky.ra_deg[order], "dec": sky.dec_deg[order],
               "Vmag": sky.magnitude[order].round(3)}  # fmt: skip
    csv.write_csv(pa.table(columns), path)


def _megabytes(folder: Path) -> float:
    return sum(f.stat().st_size for f in folder.rglob("*") if f.is_file()) / 1e6


def _told(words: str, value: float, unit: str, aim: float) -> bool:
    print(f"  {words:<52} {value:8.1f} {unit} (aim {aim:g})")
    return value < aim


def print_sky() -> bool:
    """Print the figures; True if every aim was met."""
    with tempfile.TemporaryDirectory() as name:
        path, folder = Path(name) / "sky.csv", Path(name) / "atlas"
        sky = make_whole_sky(1, _STARS)
        _write(sky, path)
        print(f"A sky of {_STARS:,} stars, a CSV of {path.stat().st_size / 1e6:.0f} MB")
        begin = time.perf_counter()
        atlas = build_atlas(stars_in_blocks(path), folder, origin=path.name)
        patterns = build_sky_patterns(atlas, folder / PATTERNS)
        met = _told("atlas and patterns made in", time.perf_counter() - begin, "s", _MOST_S)
        met &= _told("the patterns hold", _megabytes(folder / PATTERNS), "MB", _MOST_MB)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3
        print(f"  {'memory at the peak, the made-up sky with it':<52} {peak:8.0f} MB")
        begin = time.perf_counter()
        for n in range(100):
            atlas.circle(3.6 * n, 1.7 * n - 85.0, 0.3)
        each = 10.0 * (time.perf_counter() - begin)
        met &= _told("the stars within 0.3° of a place found in", each, "ms", _FOUND_MS)
        return _blind(sky, atlas, SkySolver(atlas, patterns, 2000.0)) and met


def _blind(sky: WholeSky, atlas: Atlas, solver: SkySolver) -> bool:
    assert atlas.page.rows == _STARS
    solve_field(expose(sky, 0, 1.0, 2.0), solver)  # compiles, and maps what all need
    seconds, placed, wrong, able = [], 0, 0, 0
    for seed in range(_FIELDS):
        field = expose(sky, seed, SMALLEST_FIELD_DEG, _LARGEST_DEG)
        result = solve_field(field, solver)
        solvable = _TRUE_SHARE * field.x_px.size >= SOLVABLE
        able += solvable
        placed += solvable and result.placed
        wrong += result.placed and result.error_px > _WRONG_PX
        if result.placed:
            seconds.append(result.seconds)
    print(
        f"{_FIELDS} exposures anywhere, {SMALLEST_FIELD_DEG:g}° to {_LARGEST_DEG:g}°, of which "
        "nothing is known, on one core"
    )
    print(f"  placed {placed} of {able} with {SOLVABLE} stars or more, wrongly {wrong}")
    quick = _told("median", float(np.median(seconds)), "s", _BLIND_S)
    print(f"  95% under {np.percentile(seconds, 95):.2f} s")
    return quick and not wrong and placed >= 0.98 * able
