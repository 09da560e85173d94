"""Every star of the field over all exposures of a filter: its mean brightness, its scatter beside
its noise, what stands beside it, and how well it would serve as a comparison star.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import Any

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints, evenly, median_of_known
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.ensemble import Ensemble
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.noise import POGSON

_NOTHING_MAG = 1e-4
_CLIP = 5.0
_FAR_SNR = 3.0
_RUN, _LEAST_RUNS = 8, 5
_MOST_EXPOSURES, _STRETCH = 4096, 2 * _RUN


@dataclass(frozen=True)
class FieldStars:
    """Stars (stars) of one filter, by catalogue row. Magnitudes by the zero points of the
    comparison stars; ``present`` and ``spoiled`` are shares of the exposures, ``neighbour_mag`` how
    much brighter a star is for the light of others and ``change_mag`` how much that changes.
    ``points`` are good measures; ``alike`` is the correlation of a measure with the next one, by
    von Neumann's ratio (1941, Ann. Math. Stat. 12, 367): 0 for noise. ``correlated_mag`` is what
    means of eight measures in a row scatter beyond what the single ones' scatter lets one expect
    (Pont et al. 2006, MNRAS 373, 231): noise that more measures do not take away.
    """

    rows: Ints
    magnitude: Floats
    uncertainty_mag: Floats
    scatter_mag: Floats
    expected_mag: Floats
    points: Ints
    present: Floats
    spoiled: Floats
    neighbour_mag: Floats
    change_mag: Floats
    alike: Floats
    correlated_mag: Floats

    @property
    def times(self) -> Floats:
        """Scatter over what the noise lets one expect."""
        return np.asarray(self.scatter_mag / np.maximum(self.expected_mag, _NOTHING_MAG))


def exposures_of_field(count: int) -> Ints:
    """Of so many exposures of a filter, in order of time, those by which its field is told:
    stretches of consecutive ones over all nights alike, since each is held against the next. A
    campaign can have ten times as many, which say nothing new of what stars are like.
    """
    if count <= _MOST_EXPOSURES:
        return np.arange(count)
    first = evenly(count // _STRETCH, _MOST_EXPOSURES // _STRETCH) * _STRETCH
    found: Ints = (first[:, None] + np.arange(_STRETCH)).reshape(-1)
    return found


def field_stars(
    census: FilterCensus, step: int, ensemble: Ensemble, comparison: Sequence[int]
) -> FieldStars:
    """All stars of a census at a radius, by the zero points of the ensemble of ``comparison`` stars
    (rows); the scatter of each of these is that against the zero points of the others.
    """
    few = census.at_radius(step, np.arange(census.rows.size))
    usable, middle, away, noise, spread, good = _departures(few, ensemble)
    with np.errstate(invalid="ignore", divide="ignore"):
        weight = np.where(good, noise**-2.0, 0.0)
        total = weight.sum(axis=0)
        mean = middle * (1.0 + np.where(good, weight * away, 0.0).sum(axis=0) / total)
        seen = mean > 0
        magnitude = np.where(seen, -2.5 * np.log10(np.where(seen, mean, 1.0)), np.nan)
        expected = POGSON * median_of_known(np.where(usable, noise, np.nan), axis=0)
    points = usable.sum(axis=0)
    scatter = POGSON * spread * _few(points)
    for place, row in enumerate(comparison):
        at = few.column(row)
        if at is None:
            continue
        left = ensemble.residual_mag[:, place]
        left = left[np.isfinite(left)]
        if left.size > 2:
            scatter[at] = (
                1.4826 * float(np.median(np.abs(left - np.median(left)))) * _few(left.size)
            )
    _, others = few.doubts(0)
    measured = np.isfinite(few.counts_adu[:, :, 0])
    count = max(few.exposure_s.size, 1)
    return FieldStars(
        few.rows, magnitude, POGSON / np.sqrt(np.maximum(total, 1e-30)), scatter, expected,
        points, measured.mean(axis=0), (measured & ~few.usable(0)).sum(axis=0) / count,
        np.median(others, axis=0), np.std(others, axis=0), _alike(np.where(good, away, np.nan)),
        POGSON * _correlated(np.where(good, away, np.nan)),
    )  # fmt: skip


def correlated_noise(census: FilterCensus, step: int, ensemble: Ensemble) -> Floats:
    """The ``correlated_mag`` of ``field_stars`` alone."""
    few = census.at_radius(step, np.arange(census.rows.size))
    _, _, away, _, _, good = _departures(few, ensemble)
    return np.asarray(POGSON * _correlated(np.where(good, away, np.nan)))


def _departures(
    few: FilterCensus, ensemble: Ensemble
) -> tuple[Bools, Floats, Floats, Floats, Floats, Bools]:
    """Of stars at one radius: which measures are usable (exposures, stars), their usual light on
    the scale of the zero points (stars); by what part of it each measure departs, its noise
    (exposures, stars) and the measures' scatter (stars); and which of them are not astray.
    """
    usable: Bools = np.asarray(few.usable(0) & np.isfinite(ensemble.zero_point)[:, None])
    zero, doubt = ensemble.zero_point[:, None], ensemble.zero_point_uncertainty[:, None]
    # As light: a mean of magnitudes is off where stars are faint.
    to_scale = 10.0 ** (-0.4 * np.where(np.isfinite(zero), zero, 0.0)) / few.exposure_s[:, None]
    light = np.where(usable, few.counts_adu[:, :, 0] * to_scale, np.nan)
    own = np.where(usable, few.uncertainty_adu[:, :, 0] * to_scale, np.nan)
    middle = median_of_known(light, axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        noise = np.sqrt((own / middle) ** 2 + (np.hypot(doubt, ensemble.extra_mag) / POGSON) ** 2)
        away = light / middle - 1.0
        spread = 1.4826 * median_of_known(np.abs(away), axis=0)
        good = usable & (np.abs(away) < _CLIP * np.maximum(spread, median_of_known(noise, axis=0)))
    return usable, middle, away, noise, spread, np.asarray(good)


def joined_stars(parts: Sequence[FieldStars]) -> FieldStars:
    """The stars of several as one, in the order given."""
    return FieldStars(
        *(np.concatenate([getattr(part, f.name) for part in parts]) for f in fields(FieldStars))
    )


def _few(points: Any) -> Any:
    """What the median of distances from the median lacks of the scatter where there are few (Croux
    & Rousseeuw 1992, in Computational Statistics 1, 411).
    """
    return points / np.maximum(points - 0.8, 1.0)


def _alike(away: Floats) -> Floats:
    """1 − half of von Neumann's ratio, (stars): neighbours in time that are both known."""
    with np.errstate(invalid="ignore", divide="ignore"):
        step = np.diff(away, axis=0)
        pairs = np.isfinite(step).sum(axis=0)
        size = np.isfinite(away).sum(axis=0)
        mean = np.nansum(away, axis=0) / size
        variance = np.nansum((away - mean) ** 2, axis=0) / size
        ratio = np.nansum(step**2, axis=0) / pairs / variance
    return np.where(pairs > 1, 1.0 - 0.5 * ratio, np.nan)


def _correlated(away: Floats) -> Floats:
    """Scatter of means of ``_RUN`` measures in a row beyond that of as many single ones, (stars);
    NaN where there are fewer than five such means.
    """
    runs = away.shape[0] // _RUN
    if runs < _LEAST_RUNS:
        return np.full(away.shape[1], np.nan)
    blocks = away[: runs * _RUN].reshape(runs, _RUN, -1)
    count = np.isfinite(blocks).sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.nansum(blocks, axis=1) / count
        whole = count >= _RUN // 2
        mean = np.where(whole, mean, np.nan)
        left = blocks - mean[:, None, :]
        single = np.nansum(left**2, axis=(0, 1)) / (np.where(whole, count - 1, 0).sum(axis=0))
        white = single * np.nansum(np.where(whole, 1.0 / count, 0.0), axis=0) / whole.sum(axis=0)
        middle = np.nansum(mean, axis=0) / whole.sum(axis=0)
        spread = np.nansum((mean - middle) ** 2, axis=0) / (whole.sum(axis=0) - 1)
        found = np.sqrt(np.maximum(spread - white, 0.0))
    return np.where(whole.sum(axis=0) >= _LEAST_RUNS, found, np.nan)


@dataclass(frozen=True)
class Serving:
    """How well stars (stars) would serve a target as comparison stars: ``fainter`` and ``redder``
    than it, and ``score`` from 0 to 100.
    """

    fainter: Floats
    redder: Floats
    score: Floats


def serving(
    found: FieldStars, stars: StarTable, band: str, colour: Floats | None, target: int,
    *, own_colour: float | None = None, by_colour: bool = True,
) -> Serving:  # fmt: skip
    """The score is 100 / (1 + cost), the cost being

    1.5 a magnitude fainter than the target or 0.5 a magnitude brighter; 2 a magnitude of colour
    (4 where colours are not corrected for, not ``by_colour``); 10 a magnitude of the catalogue's
    uncertainty; 20 a magnitude of neighbours' light; 2 for each time that the scatter is beyond
    what the noise lets one expect; 2 for all exposures on which it is spoiled or missing.
    It is 0 for the target, for known variables and without a magnitude in the catalogue.
    """
    of = stars.bands[band]
    known = of.magnitude[found.rows]
    at = np.flatnonzero(found.rows == target)
    wanted = float(found.magnitude[at[0]]) if at.size else float(of.magnitude[target])
    fainter = known - wanted
    redder = np.full(found.rows.size, np.nan)
    if colour is not None:
        usual = colour[target] if own_colour is None else own_colour
        redder = colour[found.rows] - usual
    cost = np.where(fainter > 0, 1.5 * fainter, -0.5 * fainter)
    cost = cost + (2.0 if by_colour else 4.0) * np.nan_to_num(np.abs(redder), nan=0.5)
    cost = cost + 10.0 * of.uncertainty[found.rows] + 20.0 * np.abs(found.neighbour_mag)
    cost = cost + 2.0 * np.maximum(np.nan_to_num(found.times, nan=_FAR_SNR) - 1.0, 0.0)
    cost = cost + 2.0 * (1.0 - found.present + found.spoiled)
    score = np.where(np.isfinite(cost), 100.0 / (1.0 + cost), 0.0)
    no = stars.known_variable[found.rows] | (found.rows == target) | ~np.isfinite(known)
    return Serving(fainter, redder, np.where(no, 0.0, score))
