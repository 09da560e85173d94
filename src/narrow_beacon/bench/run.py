"""Run benchmarks by name and say which aims were met."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from narrow_beacon import __version__
from narrow_beacon.bench.cameras import print_cameras
from narrow_beacon.bench.colours import print_colours
from narrow_beacon.bench.combine import print_combine
from narrow_beacon.bench.crowd import print_crowd
from narrow_beacon.bench.evenings import print_evenings
from narrow_beacon.bench.fields import print_fields
from narrow_beacon.bench.figures import FIGURES
from narrow_beacon.bench.large import print_large
from narrow_beacon.bench.match import print_match
from narrow_beacon.bench.names import LONG
from narrow_beacon.bench.nights import print_demo, print_plain
from narrow_beacon.bench.page import print_page
from narrow_beacon.bench.pulls import print_pulls
from narrow_beacon.bench.rough import print_rough
from narrow_beacon.bench.series import print_series
from narrow_beacon.bench.sky import print_sky
from narrow_beacon.bench.soak import bench_soak
from narrow_beacon.bench.sorting import print_sorting
from narrow_beacon.bench.speed import (
    print_growth,
    print_masters,
    print_start,
    print_steps,
    print_throughput,
)
from narrow_beacon.bench.stars import print_stars
from narrow_beacon.bench.steady import print_steady
from narrow_beacon.bench.transform import print_transform
from narrow_beacon.bench.vet import print_vet
from narrow_beacon.bench.watch import print_watch

BENCHES: dict[str, Callable[[], bool]] = {
    "speed": print_steps,
    "sky": print_sky,
    "stars": print_stars,
    "night": print_throughput,
    "masters": print_masters,
    "start": print_start,
    "growth": print_growth,
    "evenings": print_evenings,
    "pulls": print_pulls,
    "crowd": print_crowd,
    "steady": print_steady,
    "fields": print_fields,
    "match": print_match,
    "plain": print_plain,
    "demo": print_demo,
    "transform": print_transform,
    "rough": print_rough,
    "cameras": print_cameras,
    "colours": print_colours,
    "combine": print_combine,
    "vet": print_vet,
    "series": print_series,
    "page": print_page,
    "large": print_large,
    "sorting": print_sorting,
    "soak": bench_soak,
    "watch": print_watch,
}


def run_benches(names: Sequence[str], out: Path | None = None) -> int:
    """Run the named benchmarks, or all; 0 if every aim was met, 1 if not, 2 for a wrong name. What
    was measured goes to ``out`` as JSON.
    """
    unknown = [name for name in names if name not in BENCHES]
    if unknown:
        print(f"no benchmark {', '.join(unknown)}; there are {', '.join(BENCHES)}")
        return 2
    verdicts: dict[str, bool] = {}
    for name in names or [name for name in BENCHES if name not in LONG]:
        begin = time.perf_counter()
        verdicts[name] = bool(BENCHES[name]())
        print(f"  ({name} took {time.perf_counter() - begin:.0f} s)\n")
        if out is not None:  # after each: all of them take most of an hour
            told = {"figures": FIGURES.as_json(), "met": verdicts, "version": __version__}
            out.write_text(json.dumps(told, ensure_ascii=False, indent=1) + "\n", encoding="utf-8")
    for name, met in verdicts.items():
        print(f"{name}: {'every aim met' if met else 'AN AIM WAS MISSED'}")
    return 0 if all(verdicts.values()) else 1
