"""How much of a dark's pattern is in an exposure: the factor for a dark of another length."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Plane
from narrow_beacon.core.correct.local_median import local_median

_SIGNIFICANT = 15.0
_LEAST_PIXELS = 30
_LINEAR_SHARES = (0.3, 0.5, 0.7)
"""Of the hottest pixel's signal, up to which others are taken to be linear; the first that leaves
enough of them."""
_MOST_PIXELS = 20000


@dataclass(frozen=True)
class DarkScale:
    """Factor k on (dark − bias), its standard uncertainty, and how many pixels gave it."""

    factor: float
    uncertainty: float
    pixels: int


def fit_dark_scale(raw_less_bias: Plane, thermal: Plane) -> DarkScale | None:
    """The k that leaves the least of ``thermal`` (dark − bias) in the exposure (height, width).

    Uses the pixels whose thermal signal stands well above their neighbours'; both images have
    their local median taken off, so that sky and stars drop out. None where the dark has too
    little pattern to tell.
    """
    pattern = thermal - local_median(thermal)
    scatter = 1.4826 * float(np.median(np.abs(pattern)))
    hot = np.flatnonzero(pattern.ravel() > _SIGNIFICANT * max(scatter, 1e-3))
    if hot.size < _LEAST_PIXELS:
        return None
    hot = hot[np.argsort(pattern.ravel()[hot])[::-1][:_MOST_PIXELS]]
    t = _less_neighbours(thermal, hot).astype(float)
    d = _less_neighbours(raw_less_bias, hot).astype(float)
    known = np.isfinite(d) & np.isfinite(t) & (t > 0)
    if known.sum() < _LEAST_PIXELS:
        return None
    # Begin where most agree: cosmic rays and stars are among them, and the hottest may be beyond
    # the sensor's linear range, in the dark or in the exposure.
    factor = float(np.median((d / np.where(known, t, 1.0))[known]))
    top = min(float(t[known].max()), float(d[known].max()) / max(factor, 1e-3))
    for share in _LINEAR_SHARES:
        below = known & (t < share * top)
        if below.sum() >= _LEAST_PIXELS:
            known = below
            factor = float(np.median((d / np.where(known, t, 1.0))[known]))
            break
    keep = known
    for _ in range(20):
        residual = d - factor * t
        expected = _variance(residual, t, keep)
        weight = 1.0 / expected
        now = known & (residual**2 < 16.0 * expected)
        if now.sum() < _LEAST_PIXELS:
            return None
        factor = float(np.sum((weight * t * d)[now]) / np.sum((weight * t * t)[now]))
        if np.array_equal(now, keep):
            break
        keep = now
    # From what the residuals are, not from what they would be if all pixels were alike (White
    # 1980, Econometrica 48, 817).
    share = (weight * t)[keep]
    reach = share * t[keep] / np.sum(share * t[keep])
    residual = (d - factor * t)[keep] / (1.0 - reach)
    # The scatter of few is itself unsure (Student).
    few = 1.0 / float(np.sum(reach**2))
    residual = residual * np.sqrt(few / max(few - 4.0, 1.0))
    uncertainty = float(np.sqrt(np.sum((share * residual) ** 2)) / np.sum(share * t[keep]))
    return DarkScale(factor, uncertainty, int(keep.sum()))


def _variance(residual: Floats, t: Floats, keep: Bools) -> Floats:
    """Variance of the residuals as a + b t: a hot pixel's own noise grows with what it holds."""
    middle = float(np.median(t[keep]))
    halves = [keep & (t < middle), keep & (t >= middle)]
    x = [float(np.mean(t[half])) for half in halves]
    y = [float(1.4826 * np.median(np.abs(residual[half]))) ** 2 for half in halves]
    slope = max((y[1] - y[0]) / max(x[1] - x[0], 1e-6), 0.0)
    floor = max(y[0] - slope * x[0], 0.05 * y[0], 1e-6)
    return floor + slope * np.maximum(np.nan_to_num(t), 0.0)


def _less_neighbours(image: Plane, where: np.ndarray) -> np.ndarray:
    """Values at flat indices less the median of the eight pixels around each; NaN at the edge."""
    height, width = image.shape
    y, x = np.divmod(where, width)
    inside = (y > 0) & (y < height - 1) & (x > 0) & (x < width - 1)
    result = np.full(where.size, np.nan)
    around = [
        image[y[inside] + dy, x[inside] + dx] for dy in (-1, 0, 1) for dx in (-1, 0, 1) if dy or dx
    ]
    result[inside] = image[y[inside], x[inside]] - np.median(around, axis=0)
    return result
