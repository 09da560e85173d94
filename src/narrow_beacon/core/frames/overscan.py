"""Overscan: the electronics' own level, read row by row with every frame.

A strip of n columns tells a row's level to the read noise over the root of n. That noise would go
into all pixels of the row alike, as stripes; so what is common to neighbouring rows is taken from
many of them, and of a single row's own departure only as much as is sure to be real (the Wiener
filter: variance of the departures over theirs and the noise's; Wiener 1949).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.frames.sections import Section
from narrow_beacon.core.frames.steps import step_of

_SMOOTH_ROWS = 33
_EDGE_COLUMNS = 2
"""Of a strip beside the light, in which charge trails."""
_LEAST_COLUMNS = 8
_CLIP = 4.0
_SURE = 4.0
"""Standard deviations of its own noise from which on the rows' jitter is real."""


@dataclass(frozen=True)
class Overscan:
    """What a frame's overscan shows: the level of every row of the light-sensitive part; level and
    drift of the smooth run from the first rows to the last, scatter of single rows about it beyond
    noise, and of single pixels, all in ADU.
    """

    rows_adu: Floats
    level_adu: float
    drift_adu: float
    banding_adu: float
    noise_adu: float


def measure_overscan(
    stored: NDArray[np.float32], strips: Sequence[Section], light: Section
) -> Overscan:
    """The overscan of stored pixels (height, width). Strips along rows give one level for all."""
    upright = [s for s in strips if s.height >= s.width]
    if not upright:
        values = np.concatenate(
            [stored[s.y : s.y + s.height, s.x : s.x + s.width].ravel() for s in strips]
        )
        middle = float(np.median(values))
        near = values[np.abs(values - middle) <= _limit(values, np.abs(values - middle))]
        level = float(near.mean())
        return Overscan(np.full(light.height, level), level, 0.0, 0.0, float(near.std()))
    means, counts, variances = _row_means(stored, upright, light)
    rows = np.arange(light.height) + light.y
    known = np.flatnonzero(counts > 0)
    # Rows beyond the strips take the level of the nearest that has one.
    means = np.interp(rows, rows[known], means[known])
    noise = float(np.sqrt(np.median(variances[known])))
    error = noise / np.sqrt(np.median(counts[known]))
    smooth = _smooth(means)
    own = means - smooth
    jitter = float(np.mean(own**2)) - error**2 * (1.0 - 1.0 / _SMOOTH_ROWS)
    if jitter < _SURE * error**2 * np.sqrt(2.0 / own.size):
        jitter = 0.0
    levels = smooth + own * jitter / (jitter + error**2) if jitter else smooth
    return Overscan(
        levels, float(np.median(smooth)), float(smooth[-1] - smooth[0]), float(np.sqrt(jitter)),
        noise,
    )  # fmt: skip


def _row_means(
    stored: NDArray[np.float32], strips: Sequence[Section], light: Section
) -> tuple[Floats, Floats, Floats]:
    """Clipped mean, number and variance of the overscan pixels of each row of the light."""
    parts = []
    for s in strips:
        first, last = s.x, s.x + s.width
        if s.width > _LEAST_COLUMNS:
            first += _EDGE_COLUMNS * (first >= light.x + light.width)
            last -= _EDGE_COLUMNS * (last <= light.x)
        values = np.full((light.height, last - first), np.nan, np.float32)
        low, high = max(s.y, light.y), min(s.y + s.height, light.y + light.height)
        if high > low:
            values[low - light.y : high - light.y] = stored[low:high, first:last]
        parts.append(values)
    values = np.concatenate(parts, axis=1).astype(np.float64)
    there = np.isfinite(values)
    if not there.any():
        raise ValueError("no row of the light-sensitive part has any overscan")
    some = there.any(axis=1)
    median = np.zeros(len(values))
    median[some] = np.nanmedian(values[some], axis=1)
    away = np.abs(values - median[:, None])
    kept = there & (away <= _limit(values, away))
    counts = kept.sum(axis=1).astype(float)
    means = np.where(kept, values, 0.0).sum(axis=1) / np.maximum(counts, 1.0)
    squares = np.where(kept, (values - means[:, None]) ** 2, 0.0).sum(axis=1)
    return means, counts, squares / np.maximum(counts - 1.0, 1.0)


def _limit(values: NDArray[np.floating], away: NDArray[np.floating]) -> float:
    """How far values may be ``away`` from their median; where they come in steps of more than
    their scatter, most are equal to it.
    """
    return _CLIP * max(1.4826 * float(np.nanmedian(away)), 0.5 * max(step_of(values), 1.0))


def _smooth(values: Floats) -> Floats:
    """A running straight line over some rows (Savitzky & Golay 1964, of order 1): a level that
    drifts steadily is followed to the ends.
    """
    from scipy.signal import savgol_filter

    window = min(_SMOOTH_ROWS, values.size - 1 + values.size % 2)
    return values if window < 3 else np.asarray(savgol_filter(values, window, 1, mode="interp"))


def take_off(pixels: Plane, overscan: Overscan) -> None:
    """Take the rows' levels off the light-sensitive pixels (height, width), in place."""
    pixels -= overscan.rows_adu.astype(np.float32)[:, None]
