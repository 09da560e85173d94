"""Which stars of a field vary: more scatter than their like, neighbours in time that are alike, and
filters that agree.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, median_of_known
from narrow_beacon.core.series.periods import TooFewPointsError, find_periods

SUSPICIOUS = 5.0
"""From this significance on a star is put forward."""
_LEAST_POINTS = 8
_LEAST_STARS = 8
_LIKE = 31
_CLIP, _ISOLATED = 5.0, 3.0
_FEW = 2
_SEARCHED = 20
"""So many of the most suspicious are searched for a period: it takes a second for a long curve."""
_ROUNDS = 5
_PAIRED_D, _NEXT_D = 0.02, 0.1
_MOST_SIGMA_MAG = 0.25
_MOVED = 0.3


@dataclass(frozen=True)
class FieldLight:
    """All stars of a filter: magnitudes by the zero points and uncertainties (exposures, stars),
    NaN where there is nothing that can be trusted; times in days and star widths in pixels
    (exposures), names of the stars, their colours (NaN: not known), the share of measures that
    others' light touches, and by how much that may be wrong in mag (stars).
    """

    filter: str
    time_d: Floats
    magnitude: Floats
    uncertainty: Floats
    fwhm_px: Floats
    names: tuple[str, ...]
    colour: Floats
    touched: Floats
    beside_mag: Floats


@dataclass(frozen=True)
class Suspect:
    """A star that may vary, in the filter in which it shows most: its mean magnitude, its scatter
    and that of stars alike, by how many times its noise it stands out, the parts of that (scatter,
    runs, filters that agree), and its likely period (NaN where none was sought or found).
    """

    star: str
    filter: str
    magnitude: float
    scatter_mag: float
    expected_mag: float
    significance: float
    by_scatter: float
    by_runs: float
    by_filters: float
    period_d: float = float("nan")
    false_alarm: float = float("nan")


@dataclass(frozen=True)
class _Judged:
    """A filter's stars: departures in units of what is expected (exposures, stars), and figures by
    star.
    """

    light: FieldLight
    z: Floats
    magnitude: Floats
    scatter: Floats
    expected: Floats
    by_scatter: Floats
    by_runs: Floats


def survey(
    fields: Sequence[FieldLight], least: float = SUSPICIOUS, periods: bool = True
) -> list[Suspect]:
    """The stars that stand out by ``least`` or more, most suspicious first.

    By scatter: χ² against the scatter of stars alike in brightness, single wild points left out.
    By runs: whether a measure is like the next one. By filters: whether two filters depart together
    (Welch & Stetson 1993, AJ 105, 1813). Each is held against what it is for the field's stars, so
    that what all have in common makes none suspicious. What the stars share on an exposure, with
    their colour, is taken off first. With ``periods`` the first of them are searched for one.
    """
    judged = [_judge(light) for light in fields if light.time_d.size >= _LEAST_POINTS]
    agreeing = _agreeing(judged)
    best: dict[str, Suspect] = {}
    for one in judged:
        for at, name in enumerate(one.light.names):
            if not np.isfinite(one.by_scatter[at]):
                continue
            filters = agreeing.get(name, 0.0)
            parts = [max(float(v), 0.0) for v in (one.by_scatter[at], one.by_runs[at], filters)]
            suspect = Suspect(
                name, one.light.filter, float(one.magnitude[at]), float(one.scatter[at]),
                float(one.expected[at]), float(np.linalg.norm(parts)), *parts,
            )  # fmt: skip
            if suspect.significance > best.get(name, suspect).significance or name not in best:
                best[name] = suspect
    found = sorted(best.values(), key=lambda suspect: (-suspect.significance, suspect.star))
    found = [suspect for suspect in found if suspect.significance >= least]
    if not periods:
        return found
    first = [_with_period(suspect, judged) for suspect in found[:_SEARCHED]]
    return [*first, *found[_SEARCHED:]]


def _judge(light: FieldLight) -> _Judged:
    """How a filter's stars scatter, once what they share is taken off."""
    # What others' light may leave is no variation of the star's own.
    sigma = np.hypot(light.uncertainty, np.nan_to_num(np.abs(light.beside_mag)))
    sigma = np.where(np.isfinite(light.magnitude), sigma, np.nan)
    usual = median_of_known(sigma, axis=0)
    enough = np.isfinite(light.magnitude).sum(axis=0) >= max(_LEAST_POINTS, 0.3 * light.time_d.size)
    sigma = np.where(enough & (usual < _MOST_SIGMA_MAG), sigma, np.nan)
    mean = median_of_known(np.where(np.isfinite(sigma), light.magnitude, np.nan), axis=0)
    left: Floats = np.where(np.isfinite(sigma), light.magnitude - mean, np.nan)
    left = left - _shared(left, sigma, light.colour)
    left = left - median_of_known(left, axis=0)
    left = _without_seeing(left, light)
    count = np.isfinite(left).sum(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        z: Floats = np.asarray(left / sigma, float)
        # The middle of the squares, which a star's few wild points do not move.
        ratio = 1.4826 * median_of_known(np.abs(z), axis=0) * count / np.maximum(count - 0.8, 1)
    scale = _of_alike(mean, ratio)
    z = _without_wild(z / scale)
    z = np.where(np.isfinite(ratio), z, np.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        count = np.isfinite(z).sum(axis=0)
        middle = np.nansum(z, axis=0) / count
        free = np.maximum(np.isfinite(z).sum(axis=0) - 1, 1)
        chi2 = np.nansum((z - middle) ** 2, axis=0) / free
        # As a normal number (Wilson & Hilferty 1931, PNAS 17, 684).
        root = np.sqrt(2 / (9 * free))
        by_scatter = np.asarray((np.cbrt(chi2) - (1 - 2 / (9 * free))) / root, float)
        scatter = np.sqrt(np.nansum(np.where(np.isfinite(z), left, 0.0) ** 2, axis=0) / count)
    bad = ~np.isfinite(ratio)
    by_scatter, by_runs = np.where(bad, np.nan, by_scatter), _runs(z, light.time_d)
    return _Judged(
        light, z, mean, scatter, usual * scale, _among(by_scatter),
        _among(np.where(bad, np.nan, by_runs)),
    )  # fmt: skip


def _shared(left: Floats, sigma: Floats, colour: Floats) -> Floats:
    """What the stars of each exposure share, with its slope in colour (exposures, stars)."""
    known = np.isfinite(colour)
    tint = np.where(known, colour - (np.median(colour[known]) if known.any() else 0.0), 0.0)
    basis = np.stack([np.ones_like(tint), tint], axis=1)
    steady = np.maximum(1.4826 * median_of_known(np.abs(left), axis=0), 1e-4)
    result = np.zeros_like(left)
    for e in range(left.shape[0]):
        there = np.isfinite(left[e])
        if there.sum() < _LEAST_STARS:
            continue
        terms = 2 if known[there].sum() >= 2 * _LEAST_STARS else 1
        # A star that varies says little of what all share.
        weight = 1.0 / np.maximum(sigma[e, there], steady[there])
        own, value = basis[there, :terms] * weight[:, None], left[e, there] * weight
        keep = np.ones(value.size, bool)
        fit = np.zeros(terms)
        for _ in range(_ROUNDS):
            fit = np.linalg.lstsq(own[keep], value[keep], rcond=None)[0]
            away = np.abs(value - own @ fit)
            now = away < 3.0 * max(1.4826 * float(np.median(away[keep])), 0.5)
            if now.sum() < _LEAST_STARS or np.array_equal(now, keep):
                break
            keep = now
        result[e] = basis[:, :terms] @ fit
    return result


def _without_seeing(left: Floats, light: FieldLight) -> Floats:
    """Departures of stars that others' light touches, less what follows the star width."""
    width = light.fwhm_px - np.nanmedian(light.fwhm_px)
    result = left.copy()
    for s in np.flatnonzero(light.touched > _MOVED):
        there = np.isfinite(left[:, s]) & np.isfinite(width)
        if there.sum() < _LEAST_POINTS:
            continue
        own = np.stack([np.ones(there.sum()), width[there], width[there] ** 2], axis=1)
        keep = np.ones(own.shape[0], bool)
        fit = np.zeros(3)
        for _ in range(_ROUNDS):
            fit = np.linalg.lstsq(own[keep], left[there, s][keep], rcond=None)[0]
            away = np.abs(left[there, s] - own @ fit)
            keep = away < 4.0 * 1.4826 * float(np.median(away))
        result[there, s] = left[there, s] - own @ fit
    return result


def _of_alike(magnitude: Floats, ratio: Floats) -> Floats:
    """The middle of the ratios of stars alike in brightness (stars)."""
    order = np.argsort(np.where(np.isfinite(ratio), magnitude, np.inf), kind="stable")
    count = int(np.isfinite(ratio).sum())
    result = np.ones(ratio.size)
    for place in range(count):
        begin = max(0, min(place - _LIKE // 2, count - _LIKE))
        result[order[place]] = np.median(ratio[order[begin : begin + _LIKE]])
    return np.clip(result, 0.7, 10.0)


def _without_wild(z: Floats) -> Floats:
    """Single points far off whose neighbours in time are not, left out."""
    result = z.copy()
    for s in range(z.shape[1]):
        there = np.flatnonzero(np.isfinite(z[:, s]))
        values = z[there, s]
        if values.size < 3:
            continue
        before, after = np.append(0.0, values[:-1]), np.append(values[1:], 0.0)
        alone = (np.abs(before) < _ISOLATED) & (np.abs(after) < _ISOLATED)
        result[there[(np.abs(values) > _CLIP) & alone], s] = np.nan
        # Two in a row may be a trail or a ghost that passed: what varies shows in more.
        left = np.flatnonzero(np.isfinite(result[:, s]))
        if left.size > _LEAST_POINTS:
            worst = left[np.argsort(-np.abs(result[left, s]))[:_FEW]]
            result[worst[np.abs(result[worst, s]) > _CLIP], s] = np.nan
    return result


def _runs(z: Floats, time_d: Floats) -> Floats:
    """Whether a measure is like the next one, a normal number for noise (stars)."""
    result = np.full(z.shape[1], np.nan)
    for s in range(z.shape[1]):
        there = np.flatnonzero(np.isfinite(z[:, s]))
        pairs = np.diff(time_d[there]) < _NEXT_D
        if pairs.sum() < _LEAST_POINTS // 2:
            continue
        value = z[there, s] / max(1.0, float(np.std(z[there, s])))
        result[s] = float(np.sum((value[1:] * value[:-1])[pairs]) / np.sqrt(pairs.sum()))
    return result


def _among(values: Floats) -> Floats:
    """Figures in units of their scatter among the field's stars, where that is more than chance."""
    known = np.isfinite(values)
    if known.sum() < _LEAST_STARS:
        return values
    middle = float(np.median(values[known]))
    lower = values[known & (values <= middle)]
    # By the lower half: the upper one has those that vary.
    spread = float(np.sqrt(np.mean((lower - middle) ** 2)))
    return np.asarray((values - max(middle, 0.0)) / max(spread, 1.0))


def _agreeing(judged: Sequence[_Judged]) -> dict[str, float]:
    """Whether two filters depart together, by star: the surest pair of filters."""
    best: dict[str, float] = {}
    for a, one in enumerate(judged):
        for two in judged[a + 1 :]:
            near = np.searchsorted(two.light.time_d, one.light.time_d)
            near = np.clip(near, 1, two.light.time_d.size - 1)
            earlier = one.light.time_d - two.light.time_d[near - 1]
            near = near - (earlier < two.light.time_d[near] - one.light.time_d)
            close = np.abs(two.light.time_d[near] - one.light.time_d) < _PAIRED_D
            columns = {name: at for at, name in enumerate(two.light.names)}
            shared = [name for name in one.light.names if name in columns]
            if close.sum() < _LEAST_POINTS or not shared:
                continue
            mine = one.z[:, [one.light.names.index(name) for name in shared]][close]
            theirs = two.z[near[close]][:, [columns[name] for name in shared]]
            product = _tamed(mine) * _tamed(theirs)
            count = np.isfinite(product).sum(axis=0)
            with np.errstate(invalid="ignore", divide="ignore"):
                value = np.nansum(product, axis=0) / np.sqrt(count)
            value = _among(np.where(count >= _LEAST_POINTS // 2, value, np.nan))
            for name, sure in zip(shared, value, strict=True):
                if np.isfinite(sure):
                    best[name] = max(best.get(name, 0.0), float(sure))
    return best


def _tamed(z: Floats) -> Floats:
    with np.errstate(invalid="ignore", divide="ignore"):
        spread = np.sqrt(np.nansum(z**2, axis=0) / np.isfinite(z).sum(axis=0))
    return z / np.maximum(1.0, spread)


def _with_period(suspect: Suspect, judged: Sequence[_Judged]) -> Suspect:
    one = next(j for j in judged if j.light.filter == suspect.filter)
    at = one.light.names.index(suspect.star)
    there: Bools = np.isfinite(one.z[:, at])
    try:
        found = find_periods(
            one.light.time_d[there], one.light.magnitude[there, at],
            one.light.uncertainty[there, at],
        )  # fmt: skip
    except TooFewPointsError:
        return suspect
    if not found.peaks:
        return suspect
    first = found.peaks[0]
    return replace(suspect, period_d=first.period_d, false_alarm=first.false_alarm)
