"""The standard scale: nights in two filters with cameras and air of their own colour dependence,
targets of any colour; and nights over a wide range of airmass.
"""

from __future__ import annotations

import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from pathlib import Path

import numpy as np

from narrow_beacon.bench.ideal import AirAndGlass, scatter_over_ideal
from narrow_beacon.core.curve.colour_terms import Coefficient
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.plain import START, TARGET, write_plain_night
from narrow_beacon.simulate.sky import Sky

_NIGHTS, _AIR_NIGHTS = 40, 12
_EXPOSURES = 60
_SHAPE = (640, 800)
_FILTERS = ("B", "V")
_USUAL_AIR = {"B": 0.26, "V": 0.15}
_LOW_START = datetime(2026, 9, 20, 23, 40)
"""From when on the field sinks from near the zenith to an airmass of 2.5 in eight hours."""
_LOW_CADENCE_S = 480.0
_MOST_BIAS_MMAG, _MOST_DRIFT_MMAG = 3.0, 2.0


@dataclass(frozen=True)
class Scored:
    """Of one filter of a night: magnitudes less the truth and uncertainties (exposures), on the
    standard scale and as they were; what the catalogue's errors make of the zero point; and each
    coefficient less the truth over its uncertainty.
    """

    filter: str
    error_mag: np.ndarray
    sigma_mag: np.ndarray
    raw_error_mag: np.ndarray
    airmass: np.ndarray
    common_mag: float
    catalogue_mag: float
    transform: float | None
    second_order: float | None
    extinction: float | None
    times: np.ndarray
    """Scatter over the ideal of bright stars that stand alone."""


def scored_night(seed: int, *, low: bool = False) -> list[Scored]:
    """Make and reduce a night, and compare; a ``low`` one sinks to an airmass of 2.5 and has a blue
    target among red comparison stars.
    """
    rng = np.random.default_rng([seed, 91])
    terms = {name: float(rng.uniform(-0.15, 0.15)) for name in _FILTERS}
    second = {"B": float(rng.uniform(-0.04, -0.01)), "V": float(rng.uniform(-0.005, 0.005))}
    air = {
        name: (_USUAL_AIR[name] * float(rng.uniform(0.8, 1.3)), second[name]) for name in _FILTERS
    }
    colour = -0.1 if low else float(rng.uniform(-0.2, 1.8))
    skies: list[Sky] = []
    camera = Camera(seed, _SHAPE, gain_e_per_adu=1.3)

    def change(sky: Sky) -> None:
        row = sky.row(TARGET)
        for magnitudes in (sky.true_mag, sky.catalogue_mag):
            magnitudes["B"][row] = magnitudes["V"][row] + colour
        sky.variations.pop(TARGET, None)
        if low:
            for name in sky.names[row + 1 :]:
                own = sky.row(name)
                redder = 0.5
                sky.true_mag["B"][own] += redder
                sky.catalogue_mag["B"][own] += redder
        skies.append(sky)

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        truth = write_plain_night(
            folder, seed, exposures=_EXPOSURES, shape=_SHAPE, filters=_FILTERS,
            fwhm_px=float(rng.uniform(2.4, 4.0)), density=float(rng.uniform(1500, 4500)),
            calibration=10, colour_terms=terms, extinction=air, change=change,
            camera=camera,
            cadence_s=_LOW_CADENCE_S if low else 150.0, start=_LOW_START if low else START,
        )  # fmt: skip
        outcome = reduce_plan(read_plan(folder / "plan.toml"), 1)
        true = {Path(one["file"]).name: one for one in truth["exposures"]}
        found = []
        for curve in outcome.curves:
            of = [true[Path(outcome.night.exposures[i].file).name] for i in curve.indices]
            times = scatter_over_ideal(
                outcome, curve, folder / "out", of, skies[0], AirAndGlass(camera, terms, air)
            )
            found.append(
                _scored(curve, np.array([one["target_mag"] for one in of]),
                        np.array([one["airmass"] for one in of]), skies[0], terms, air, times)
            )  # fmt: skip
    return found


def _scored(
    curve: FilterCurve, truth: np.ndarray, airmass: np.ndarray, sky: Sky,
    terms: dict[str, float], air: dict[str, tuple[float, float]], times: np.ndarray,
) -> Scored:  # fmt: skip
    found, standard = curve.terms, curve.standard
    assert found is not None
    first, second = air[curve.filter]
    good = ~curve.target.doubtful
    blank = np.full(truth.size, np.nan)
    error = (standard.magnitude if standard else blank) - truth
    sigma = standard.uncertainty if standard else blank
    rows = list(curve.cast.comparison)
    off = sky.catalogue_mag[curve.band][rows] - sky.true_mag[curve.band][rows]
    trust = 1.0 / (sky.catalogue_err[curve.band][rows] ** 2 + 1e-6)
    # T at the mean airmass; k' for a star of the colour that the zero points answer to.
    return Scored(
        curve.filter, error[good], sigma[good], (curve.target.magnitude - truth)[good],
        airmass[good],
        standard.common_mag if standard else float("nan"), float(np.average(off, weights=trust)),
        _pull(found.transform, terms[curve.filter] - second * found.airmass),
        _pull(found.second_order, second),
        _pull(found.extinction, first + second * found.colour), times,
    )  # fmt: skip


def _pull(found: Coefficient | None, truth: float) -> float | None:
    return None if found is None else (found.value - truth) / found.uncertainty


def _tell_pulls(words: str, pulls: list[float | None]) -> bool:
    known = np.array([pull for pull in pulls if pull is not None])
    if not known.size:
        print(f"  {words}: none fitted")
        return False
    inside = float(np.mean(np.abs(known) < 2.0))
    print(f"  {words}: {known.size} of {len(pulls)} fitted, within 2 uncertainties {inside:.0%}, "
          f"scatter {known.std():.2f} of them")  # fmt: skip
    return inside >= 0.93


def print_transform() -> bool:
    """Print the figures; True if every aim was met."""
    with ProcessPoolExecutor() as pool:
        usual = [one for night in pool.map(scored_night, range(_NIGHTS)) for one in night]
        low = list(pool.map(partial(scored_night, low=True), range(100, 100 + _AIR_NIGHTS)))
    met = []
    print(f"{_NIGHTS} nights in B and V, coefficients −0.15 to 0.15, targets of B − V −0.2 to 1.8")
    done = [one for one in usual if np.isfinite(one.error_mag).any()]
    bias = np.array([1e3 * (np.nanmedian(one.error_mag) - one.catalogue_mag) for one in done])
    raw = np.array([1e3 * np.nanmedian(one.raw_error_mag) for one in usual])
    allowed = np.array([1e3 * one.common_mag for one in done])
    noise = np.array(
        [1e3 * np.nanmedian(one.sigma_mag) / np.sqrt(one.error_mag.size) for one in done]
    )
    print(f"  on the standard scale: {len(done)} of {len(usual)} curves")
    print(f"  off the truth, less what the comparison stars' catalogue errors make: rms "
          f"{np.sqrt(np.mean(bias**2)):.1f} mmag, mean {bias.mean():+.2f} (aim "
          f"{_MOST_BIAS_MMAG:g}); largest {np.abs(bias).max():.1f}; expected of coefficients and "
          f"noise {np.sqrt(np.mean(allowed**2 + noise**2)):.1f}; untransformed rms "
          f"{np.sqrt(np.mean(raw**2)):.0f}")  # fmt: skip
    met.append(
        bool(abs(bias.mean()) < _MOST_BIAS_MMAG and np.sqrt(np.mean(bias**2)) < _MOST_BIAS_MMAG)
    )
    pulls = np.concatenate(
        [(one.error_mag - np.nanmean(one.error_mag)) / one.sigma_mag for one in done]
    )
    pulls = pulls[np.isfinite(pulls)]
    spread = float(pulls[np.abs(pulls) < 5].std()) * np.sqrt(_EXPOSURES / (_EXPOSURES - 2.0))
    print(f"  pulls of the points about their mean {spread:.3f} (aim 0.93 to 1.07)")
    met.append(0.93 < spread < 1.07)
    times = np.concatenate([one.times for one in usual])
    print(f"  scatter of {times.size} isolated stars over the ideal: median "
          f"{np.median(times):.3f} (aim 0.97 to 1.05)")  # fmt: skip
    met.append(bool(0.97 < np.median(times) < 1.05))
    met.append(_tell_pulls("coefficients", [one.transform for one in usual]))
    print(
        f"{_AIR_NIGHTS} nights from the meridian down to airmass 2.5, a blue target among red stars"
    )
    met.append(_tell_pulls("extinction", [one.extinction for night in low for one in night]))
    met.append(
        _tell_pulls("its change with colour", [one.second_order for night in low for one in night])
    )
    for number in range(len(_FILTERS)):
        of = [night[number] for night in low if len(night) == len(_FILTERS)]
        seen = [one for one in of if np.isfinite(one.error_mag).any()]
        drift = np.array([_drift(one.error_mag, one.airmass) for one in seen])
        raws = np.array([_drift(one.raw_error_mag, one.airmass) for one in of])
        rms = np.sqrt(np.mean(drift**2))
        words = f"  in {of[0].filter}: drift over the night {drift.mean():+.2f} mmag in the mean"
        print(f"{words}, rms {rms:.1f} (aim {_MOST_DRIFT_MMAG:g}); before {raws.mean():+.1f}")
        met.append(bool(abs(drift.mean()) < _MOST_DRIFT_MMAG))
    return all(met)


def _drift(error_mag: np.ndarray, airmass: np.ndarray) -> float:
    """From the lowest to the highest airmass, in mmag, by a straight line."""
    good = np.isfinite(error_mag)
    slope = np.polyfit(airmass[good], error_mag[good], 1)[0]
    return float(1e3 * slope * np.ptp(airmass))
