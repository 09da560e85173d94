"""Does a wrong magnitude go out as a good one? A hundred rough nights against their truth."""

from __future__ import annotations

import json
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from narrow_beacon.bench.compare import numbers, read_csv
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
from narrow_beacon.simulate.rough import write_rough_night

SEEDS = tuple(range(1, 101))
WRONG_SIGMA = 5.0


@dataclass(frozen=True)
class RoughScore:
    """Points of one rough night by state, and the good ones that are wrong: (file, how far off in
    their own uncertainties, in mag, flags).
    """

    seed: int
    given: int
    good: int
    doubtful: int
    wrong: tuple[tuple[str, float, float, str], ...]
    needlessly_doubtful: int
    problem: str = ""


def rough_score(seed: int) -> RoughScore:
    """Make, reduce and score one rough night.

    The catalogue's common offset is quoted apart from the uncertainty of a point, so that it is
    added to it here.
    """
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        truth = write_rough_night(folder, seed)
        reduce_plan(read_plan(folder / "plan.toml"), 1)
        given = len(truth["exposures"])
        if not (folder / "out" / "light_curve.csv").exists():
            return RoughScore(seed, given, 0, 0, (), 0, "no curve")
        by_file = {f"raw/{item['file']}": item["target_mag"] for item in truth["exposures"]}
        curve = [r for r in read_csv(folder / "out" / "light_curve.csv") if r["magnitude"]]
        provenance = json.loads((folder / "out" / "provenance.json").read_text(encoding="utf-8"))
    offset = provenance["filters"]["V"]["common_offset_uncertainty_mag"]
    error = numbers(curve, "magnitude") - np.array([by_file[row["exposure"]] for row in curve])
    sigma = np.hypot(numbers(curve, "uncertainty"), offset)
    good = np.array([row.get("state", "good") == "good" for row in curve], bool)
    off = np.abs(error) / sigma
    wrong = tuple(
        (curve[i]["exposure"], float(off[i]), float(error[i]), curve[i]["flags"])
        for i in np.flatnonzero(good & (off > WRONG_SIGMA))
    )
    return RoughScore(
        seed, given, int(good.sum()), int((~good).sum()), wrong,
        int(np.sum(~good & (off < 2.0))),
    )  # fmt: skip


def print_rough(seeds: tuple[int, ...] = SEEDS) -> bool:
    """A hundred rough nights; True if no good point is wrong."""
    with ProcessPoolExecutor() as pool:
        scores = list(pool.map(rough_score, seeds))
    print(f"Rough nights: {len(scores)}, {sum(s.given for s in scores)} exposures")
    for score in scores:
        if score.problem:
            print(f"  seed {score.seed}: {score.problem}")
        for file, off, error, flags in score.wrong[:4]:
            print(f"  seed {score.seed} {file}: {off:.1f} σ, {1000 * error:+.0f} mmag; {flags}")
        if len(score.wrong) > 4:
            print(f"  seed {score.seed}: and {len(score.wrong) - 4} more")
    good, wrong = sum(s.good for s in scores), sum(len(s.wrong) for s in scores)
    doubtful, needless = (
        sum(s.doubtful for s in scores), sum(s.needlessly_doubtful for s in scores),
    )  # fmt: skip
    print(f"  good {good}, doubtful {doubtful} ({needless} of them within 2 σ of the truth)")
    print(f"  good and wrong by more than {WRONG_SIGMA:g} σ: {wrong},"
          f" {10_000 * wrong / max(good, 1):.1f} in 10,000 (aim 0)")  # fmt: skip
    return wrong == 0
