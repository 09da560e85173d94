"""Exposures matched to one another without a catalogue: how many, how well, any wrongly?"""

from __future__ import annotations

import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.errors import NotPlacedError
from narrow_beacon.core.place.match import Matcher
from narrow_beacon.simulate.pairs import SHAPE, Pair, make_pair

PAIRS = 500
FOREIGN = 100
WRONG_PX = 3.0


@dataclass(frozen=True)
class PairResult:
    """One pair: matched or not, the median and the largest error where both see the sky, in
    pixels, seconds taken.
    """

    matched: bool
    error_px: float
    worst_px: float
    seconds: float


def match_pair(pair: Pair) -> PairResult:
    """Match the second exposure to the first and compare with the truth."""
    begin = time.perf_counter()
    try:
        found = Matcher(pair.first.x_px, pair.first.y_px).match(
            pair.second.x_px, pair.second.y_px, SHAPE, pair.second.error_px
        )
    except NotPlacedError:
        return PairResult(False, float("nan"), float("nan"), time.perf_counter() - begin)
    seconds = time.perf_counter() - begin
    height, width = SHAPE
    x, y = (v.ravel() for v in np.meshgrid(np.linspace(0, width - 1, 17),
                                           np.linspace(0, height - 1, 13)))  # fmt: skip
    true_x, true_y = pair.on_first(x, y)
    both = (true_x > 0) & (true_x < width) & (true_y > 0) & (true_y < height)
    own_x, own_y = found.to_reference(x, y)
    error = np.hypot(own_x - true_x, own_y - true_y)[both]
    return PairResult(True, float(np.median(error)), float(error.max()), seconds)


def _own(seed: int) -> PairResult:
    return match_pair(make_pair(seed))


def _foreign(seed: int) -> PairResult:
    """The first of one pair and the second of another: nothing in common."""
    one, other = make_pair(seed), make_pair(seed + 50_000)
    return match_pair(Pair(one.first, other.second, one.turn, one.shift, one.overlap))


def print_match() -> bool:
    """Match all pairs and print the outcome; whether 99.5% are within 0.1 px and none is wrong."""
    with ProcessPoolExecutor() as pool:
        own = list(pool.map(_own, range(PAIRS), chunksize=5))
        foreign = list(pool.map(_foreign, range(FOREIGN), chunksize=5))
    good = sum(result.matched and result.error_px < 0.1 for result in own)
    wrong = sum(result.matched and result.worst_px > WRONG_PX for result in own)
    worst = max(result.worst_px for result in own if result.matched)
    seconds = [result.seconds for result in own]
    taken = sum(result.matched for result in foreign)
    print(f"{PAIRS} pairs that share 30% to all of the field, half of the stars on both; flips,")
    print("turns, mirrors, two in seven of the detections false")
    print(f"  within 0.1 px {good} ({good / PAIRS:.1%}, aim 99.5%), wrongly {wrong} (aim 0)")
    print(f"  worst place of the common field {worst:.2f} px; median {np.median(seconds):.3f} s, "
          f"worst {max(seconds):.2f} s")  # fmt: skip
    print(f"{FOREIGN} pairs with nothing in common: matched {taken} (aim 0)")
    return good >= 0.995 * PAIRS and wrong == 0 and taken == 0
