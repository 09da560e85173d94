"""How much of a dark's pattern is in an exposure: the factor for a dark of another length."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.local_median import local_median

_SIGNIFICANT = 15.0
_LEAST_PIXELS = 30
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
    t = pattern.ravel()[hot].astype(float)
    d = _less_neighbours(raw_less_bias, hot).astype(float)
    keep = np.isfinite(d)
    factor = 0.0
    for _ in range(20):
        factor = float(np.sum(t[keep] * d[keep]) / np.sum(t[keep] ** 2))
        residual = d - factor * t
        spread = 1.4826 * float(np.median(np.abs(residual[keep] - np.median(residual[keep]))))
        now = np.isfinite(d) & (np.abs(residual) < 3.5 * max(spread, 1e-6))
        if np.array_equal(now, keep):
            break
        keep = now
    residual = (d - factor * t)[keep]
    uncertainty = float(np.std(residual) / np.sqrt(np.sum(t[keep] ** 2)))
    return DarkScale(factor, uncertainty, int(keep.sum()))


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
