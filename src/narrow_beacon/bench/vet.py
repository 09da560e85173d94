"""Are troubles found, each with its right name, and good exposures left alone?"""

from __future__ import annotations

import csv
import json
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
from narrow_beacon.reduce.walk import scratch_walk
from narrow_beacon.simulate.troubled import MAYBE, write_troubled_night

SEEDS = tuple(range(1, 31))
_ALLOWED = 300
_SAME = {"trail": ("trail",), "wrong field": ("wrong field", "unplaceable", "unmatched")}
_BEFORE_CAST = ("trail",)
"""Harms only where it goes through stars of the cast: not put forward before there is one."""


@dataclass(frozen=True)
class VetScore:
    """One night, looked at alone and reduced: exposures with a trouble and those that were named
    rightly, (file, planted, said) of the others, and good ones that were put forward.
    """

    seed: int
    planted: int
    named: int
    missed: tuple[tuple[str, str, str], ...]
    good: int
    needless: tuple[tuple[str, str], ...]


def vet_scores(seed: int) -> tuple[VetScore, VetScore]:
    """Make one troubled night; score its looks without a catalogue, and its reduction."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        truth = write_troubled_night(folder, seed)
        planted = {
            f"raw/{item['file']}": next(iter(item["troubles"]), "") for item in truth["exposures"]
        }
        plan = read_plan(folder / "plan.toml")
        with scratch_walk(plan, 1, None) as walk:
            walk.look()
            frames = walk.sorted.night.exposures
            looks = walk.keeper.looks
            seen = {frame.file: looks.reasons.get(i, "") for i, frame in enumerate(frames)}
        reduce_plan(plan, 1)
        with (folder / "out" / "exposures.csv").open(encoding="utf-8") as file:
            reduced = {row["file"]: row["reason"] for row in csv.DictReader(file)}
    alone = {f: t if t not in _BEFORE_CAST else "" for f, t in planted.items()}
    return _score(seed, alone, seen), _score(seed, planted, reduced)


def _score(seed: int, planted: dict[str, str], said: dict[str, str]) -> VetScore:
    missed, needless = [], []
    for file, trouble in planted.items():
        words = said.get(file, "")
        if trouble.startswith(MAYBE):
            continue
        if trouble and not words.startswith(_SAME.get(trouble, (trouble,))):
            missed.append((file, trouble, words))
        elif not trouble and words:
            needless.append((file, words))
    sure = [trouble for trouble in planted.values() if not trouble.startswith(MAYBE)]
    count = sum(bool(trouble) for trouble in sure)
    return VetScore(
        seed, count, count - len(missed), tuple(missed), len(sure) - count, tuple(needless)
    )


def print_vet(seeds: tuple[int, ...] = SEEDS) -> bool:
    """Thirty troubled nights; True if every trouble is named rightly and at most one good exposure
    in 300 is put forward.
    """
    with ProcessPoolExecutor() as pool:
        pairs = list(pool.map(vet_scores, seeds))
    good = True
    for title, scores in (
        ("looked at, without a catalogue", [pair[0] for pair in pairs]),
        ("reduced", [pair[1] for pair in pairs]),
    ):
        planted, named = sum(s.planted for s in scores), sum(s.named for s in scores)
        clean, needless = sum(s.good for s in scores), sum(len(s.needless) for s in scores)
        print(f"Troubled nights {title}: {len(scores)}")
        print(f"  named rightly {named} of {planted} planted (aim all)")
        kinds = Counter(trouble for s in scores for _, trouble, _ in s.missed)
        print(f"  missed: {json.dumps(kinds)}" if kinds else "  none missed")
        for score in scores:
            for file, trouble, words in score.missed[:5]:
                print(f"    seed {score.seed} {file}: {trouble}; said: {words[:110] or 'nothing'}")
            for file, words in score.needless[:3]:
                print(f"    seed {score.seed} {file}: good; said: {words[:110]}")
        print(f"  good ones put forward {needless} of {clean} (aim at most 1 in {_ALLOWED})")
        good &= named == planted and needless * _ALLOWED <= clean
    return good
