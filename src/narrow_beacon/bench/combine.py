"""Exposures combined against the ideal: signal to noise of faint stars, their magnitudes, how
honest their uncertainties are, what is left of trails and cosmic rays; and memory for 300 of them.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.parquet as pq

from narrow_beacon.core.measure.flags import StarFlag
from narrow_beacon.core.place.combining import Layer, PlaneFile, combine_layers
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
from narrow_beacon.reduce.combining import combine_plan
from narrow_beacon.simulate.plain import write_plain_night
from narrow_beacon.simulate.sky import Sky

_NIGHTS = 24
_EXPOSURES = 20
_SHAPE = (768, 768)
_RADIUS = 5
"""Which of the census's radii: near the one that is best for faint stars."""
_FAINT = (5.0, 60.0)
"""Signal to noise, once combined, of the stars that count."""
_LEAST_SNR, _MOST_BIAS_MAG, _PULLS = 0.97, 2e-3, (0.93, 1.07)
_CLIP = 4.0
_STRUCK = int(StarFlag.COSMIC_RAY | StarFlag.TRAIL)
_MANY, _MANY_SHAPE, _MOST_MB = 300, (2048, 2048), 1500.0


@dataclass(frozen=True)
class Night:
    """Of the faint stars of one night: signal to noise over the ideal; magnitudes less those of the
    single exposures' sum; magnitudes less the truth and their uncertainties; and of the stars that
    a trail or cosmic ray was on, the same.
    """

    snr_share: np.ndarray
    beside_sum_mag: np.ndarray
    sum_sigma_mag: np.ndarray
    error_mag: np.ndarray
    sigma_mag: np.ndarray
    hit_error_mag: np.ndarray
    hit_sigma_mag: np.ndarray


def combined_night(seed: int) -> Night:
    """Make, combine and measure a night whose light varies, with a trail over it and many cosmic
    rays, and compare with the sum of the single exposures by the best weights.
    """
    rng = np.random.default_rng([seed, 71])
    skies: list[Sky] = []
    troubles: dict[int, dict[str, Any]] = {
        n: {"transparency": float(rng.uniform(0.5, 1.0)), "sky": float(rng.uniform(1.0, 2.0))}
        for n in range(_EXPOSURES)
    }
    trail = int(rng.integers(_EXPOSURES))
    troubles[trail]["trail"] = (384.0, 384.0, float(rng.uniform(0, 180)), 60.0)
    for n in range(_EXPOSURES):
        places = rng.uniform(20, 746, (90, 2))
        troubles[n]["strikes"] = tuple((float(x), float(y), 3000.0) for x, y in places)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_plain_night(
            folder, seed, exposures=_EXPOSURES, shape=_SHAPE, density=3000.0, calibration=24,
            walk_px=1.5, troubles=troubles, change=skies.append,
        )  # fmt: skip
        text = (folder / "plan.toml").read_text(encoding="utf-8")
        # The thin cloud takes part: it is what the weights are for.
        plan = folder / "plan.toml"
        plan.write_text(text + "\n[vet]\nlight = 0.2\nsky = 50.0\n", encoding="utf-8")
        reduce_plan(read_plan(plan), 1)
        combine_plan(read_plan(plan), folder / "deep", every=_EXPOSURES, workers=1)
        again = plan.read_text(encoding="utf-8").replace('"raw"', '"deep"')
        (folder / "deep.toml").write_text(again.replace('"out"', '"again"'), encoding="utf-8")
        reduce_plan(read_plan(folder / "deep.toml"), 1)
        single, deep = (_census(folder / part / "census.parquet") for part in ("out", "again"))
    return _scored(single, deep, skies[0])


def _census(path: Path) -> dict[str, list[tuple[float, float, float, int]]]:
    """Radius, counts, uncertainty and flags of every star on every exposure."""
    table = pq.read_table(path).to_pydict()
    found: dict[str, list[tuple[float, float, float, int]]] = {}
    columns = ("star", "radius_px", "counts_adu", "uncertainty_adu", "flags")
    for star, radius, counts, sigma, flags in zip(*(table[c] for c in columns), strict=True):
        found.setdefault(star, []).append((radius[_RADIUS], counts[_RADIUS], sigma[_RADIUS], flags))
    return found


def _scored(single: dict[str, Any], deep: dict[str, Any], sky: Sky) -> Night:
    true = {name: float(sky.true_mag["V"][row]) for row, name in enumerate(sky.names)}
    rows: list[tuple[str, float, float, float, float]] = []
    for star, (whole, *_) in deep.items():
        _, counts, sigma, flags = whole
        if star not in true or counts <= 0 or flags:
            continue
        parts = [p for p in single.get(star, []) if not p[3] & ~_STRUCK]
        if len(parts) < _EXPOSURES - 4:
            continue
        # Of the best weighted sum: every part's own signal to noise, from its light on the mean.
        ideal = float(np.sqrt(sum((p[1] / p[2]) ** 2 for p in parts if p[1] > 0)))
        magnitude = -2.5 * np.log10(counts) - true[star]
        summed = -2.5 * np.log10(max(sum(p[1] for p in parts) / len(parts), 1e-9))
        rows.append(
            (star, magnitude, 1.0857 * sigma / counts, counts / sigma / ideal,
             magnitude + true[star] - summed)
        )  # fmt: skip
    error, sigma, share, beside = (np.array([r[n] for r in rows]) for n in (1, 2, 3, 4))
    snr = 1.0857 / sigma
    faint, bright = (snr > _FAINT[0]) & (snr < _FAINT[1]), snr > 300
    error -= np.median(error[bright])
    hit = np.array([any(p[3] & _STRUCK for p in single[r[0]]) for r in rows], bool)
    clean = faint & ~hit
    beside -= np.median(beside[bright & ~hit])
    return Night(
        share[clean], beside[clean], sigma[clean], error[faint], sigma[faint],
        error[hit & faint], sigma[hit & faint],
    )  # fmt: skip


def memory_of_many() -> float:
    """Peak memory, in MB, of the process that combines 300 exposures of 2048 × 2048."""
    code = "import narrow_beacon.bench.combine as c; print(c.combine_many())"
    made = subprocess.run(
        [sys.executable, "-c", code], check=True, capture_output=True, text=True
    )  # fmt: skip
    return float(made.stdout.split()[-1])


def combine_many() -> float:
    """Combine layers that are files, as the product does, and return this process's peak memory."""
    with tempfile.TemporaryDirectory() as name:
        rng = np.random.default_rng(1)
        planes, layers = [], []
        base = rng.normal(0, 10, _MANY_SHAPE).astype(np.float32)
        for n in range(_MANY):
            shifted = np.roll(base, (37 * n, 91 * n), (0, 1))
            planes.append(PlaneFile(Path(name) / str(n), shifted))
            layers.append(Layer(1.0, 10.0, 100.0))
        combine_layers(planes, layers, 1.3, "clipped")
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e3


def print_combine() -> bool:
    """Print the figures; True if every aim was met."""
    with ProcessPoolExecutor() as pool:
        nights = list(pool.map(combined_night, range(_NIGHTS)))
    share = np.concatenate([n.snr_share for n in nights])
    error = np.concatenate([n.error_mag for n in nights])
    sigma = np.concatenate([n.sigma_mag for n in nights])
    hit = np.concatenate([n.hit_error_mag / n.hit_sigma_mag for n in nights])
    pull = error / sigma
    kept = pull[np.abs(pull - np.median(pull)) < _CLIP]
    # Its own uncertainty is half of that of the median's distance.
    spread = float(kept.std())
    beside = np.concatenate([n.beside_sum_mag for n in nights])
    weight = np.concatenate([n.sum_sigma_mag for n in nights]) ** -2.0
    bias = float(np.average(beside, weights=weight))
    doubt = float(np.sqrt(np.sum((weight * (beside - bias)) ** 2)) / weight.sum())
    of_truth = float(np.average(np.clip(error, -4 * sigma, 4 * sigma), weights=1 / sigma**2))
    wrong = float(np.mean(np.abs(hit) > 4))
    print(
        f"{_NIGHTS} nights of {_EXPOSURES} exposures combined; {error.size} measures of faint stars"
    )
    print(f"  signal to noise over the best weighted sum's: {np.median(share):.3f} in the median "
          f"(aim {_LEAST_SNR:g})")  # fmt: skip
    print(f"  magnitudes less the truth: {1e3 * of_truth:+.2f} mmag (aim "
          f"{1e3 * _MOST_BIAS_MAG:g}), less those of the sum {1e3 * bias:+.2f} ± "
          f"{1e3 * doubt:.2f}")  # fmt: skip
    print(f"  pulls spread by {spread:.3f} (aim {_PULLS[0]:g} to {_PULLS[1]:g})")
    print(f"  of {hit.size} that cosmic rays were on, {wrong:.1%} off by more than 4 sigma")
    peak = memory_of_many()
    print(f"{_MANY} layers of {_MANY_SHAPE[0]} × {_MANY_SHAPE[1]}: {peak:.0f} MB at the peak (aim "
          f"{_MOST_MB:g})")  # fmt: skip
    return bool(
        np.median(share) >= _LEAST_SNR and abs(of_truth) < _MOST_BIAS_MAG
        and _PULLS[0] < spread < _PULLS[1] and wrong < 0.01 and peak < _MOST_MB
    )  # fmt: skip
