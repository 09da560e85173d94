"""Plate solving over many simulated fields: how many are placed, is any placed wrongly?"""

from __future__ import annotations

import time
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.errors import NotPlacedError
from narrow_beacon.core.place.solve import Hint, Solver
from narrow_beacon.core.place.whole_sky import SkySolver
from narrow_beacon.simulate.fields import SimulatedField, VariedField, make_varied_field

FIELDS = 1000
FOREIGN = 300
SOLVABLE = 8
"""Stars in common from which on a field can be placed: four make a pattern, the others have to tell
that it is no chance, to one in a thousand million.
"""
_WRONG_PX = 5.0
_WANTED_SHARE = 0.995
_TIMED = 400
_GOOD_MS, _BLIND_S = 20.0, 0.3


@dataclass(frozen=True)
class FieldResult:
    """One field: placed or not, the largest error over the frame in pixels, seconds taken."""

    placed: bool
    error_px: float
    seconds: float


def solve_field(
    field: SimulatedField, solver: Solver | SkySolver | None = None, hint: Hint | None = None
) -> FieldResult:
    """Solve a field, without a hint with none at all, and compare with the truth."""
    solver = solver or Solver(field.ra_deg, field.dec_deg)
    begin = time.perf_counter()
    try:
        placement = solver.place(field.x_px, field.y_px, field.pointing.shape, hint)
    except NotPlacedError:
        return FieldResult(False, float("nan"), time.perf_counter() - begin)
    seconds = time.perf_counter() - begin
    height, width = field.pointing.shape
    x, y = (
        v.ravel() for v in np.meshgrid(np.linspace(0, width - 1, 5), np.linspace(0, height - 1, 5))
    )
    ra, dec = (np.asarray(v) for v in field.pointing.wcs().all_pix2world(x, y, 0))
    found_x, found_y = placement.solution.pixel(ra, dec)
    error = np.hypot(found_x - x, found_y - y)
    return FieldResult(True, float(np.max(np.where(np.isfinite(error), error, 1e9))), seconds)


@dataclass(frozen=True)
class VariedResult:
    """A varied field: what was known of it, whether it can be placed, whether it was and how, and
    the seconds of a second try, when the catalogue's patterns are known.
    """

    seed: int
    known: str
    solvable: bool
    result: FieldResult


def _known(varied: VariedField) -> str:
    if varied.position is None:
        return "scale alone" if varied.scales else "nothing"
    assert varied.scales is not None
    return "good hint" if varied.scales[1] / varied.scales[0] < 1.1 else "poor hint"


def varied_result(seed: int, *, timed: bool = False) -> VariedResult:
    """Place one varied field with what is known of it, and compare with the truth."""
    varied = make_varied_field(seed)
    field = varied.field
    solver = Solver(field.ra_deg, field.dec_deg)
    ra, dec, error = varied.position or (None, None, 1.0)
    hint = Hint(ra, dec, error, varied.scales)
    result = solve_field(field, solver, hint)
    if timed:
        result = solve_field(field, solver, hint)
    return VariedResult(seed, _known(varied), varied.common >= SOLVABLE, result)


def _foreign(seed: int) -> bool:
    """Whether a field is placed in the catalogue of another one, of like depth and size; every
    third one has no stars at all, but false detections.
    """
    field = make_varied_field(seed).field
    other = make_varied_field(seed + 100_000).field
    if seed % 3 == 0:
        rng = np.random.default_rng(seed)
        height, width = field.pointing.shape
        count = int(rng.integers(10, 1500))
        field = replace(
            field, x_px=rng.uniform(0, width, count), y_px=rng.uniform(0, height, count)
        )
    if other.ra_deg.size < SOLVABLE:
        return False
    return solve_field(field, Solver(other.ra_deg, other.dec_deg)).placed


def print_fields() -> bool:
    """Place all fields and print the outcome; True if every aim was met."""
    with ProcessPoolExecutor() as pool:
        own = list(pool.map(varied_result, range(FIELDS), chunksize=5))
        taken = sum(pool.map(_foreign, range(FOREIGN), chunksize=5))
    able = [r for r in own if r.solvable]
    placed = sum(r.result.placed for r in able)
    wrong = [r.seed for r in own if r.result.placed and r.result.error_px > _WRONG_PX]
    print(
        f"{FIELDS} fields over the whole sky, 0.3″ to 60″ a pixel, any turn and hand, up to half of"
    )
    print("the detections false, catalogues deeper or shallower, hints from good to none")
    print(
        f"  placed {placed} of {len(able)} with {SOLVABLE} stars in common or more "
        f"({placed / len(able):.2%}, aim {_WANTED_SHARE:.1%}), wrongly {len(wrong)} (aim 0) {wrong}"
    )
    missed = [r.seed for r in able if not r.result.placed]
    print(f"  not placed: {missed}")
    print(f"{FOREIGN} starless or with the catalogue of another part of the sky")
    print(f"  refused {FOREIGN - taken} (aim all)")
    # By themselves, one after the other, on one core.
    times: dict[str, list[float]] = defaultdict(list)
    for seed in range(_TIMED):
        one = varied_result(seed, timed=True)
        if one.result.placed:
            times[one.known].append(one.result.seconds)
    for known, seconds in times.items():
        print(
            f"  time with {known}: median {1e3 * np.median(seconds):.0f} ms, "
            f"95% under {1e3 * np.percentile(seconds, 95):.0f} ms, of {len(seconds)}"
        )
    good, blind = (float(np.median(times[known])) for known in ("good hint", "nothing"))
    quick = 1e3 * good < _GOOD_MS and blind < _BLIND_S
    print(f"  aims: good hint under {_GOOD_MS:g} ms, blind within 12° under {_BLIND_S:g} s")
    return placed >= _WANTED_SHARE * len(able) and not wrong and not taken and quick
