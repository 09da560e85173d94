"""What an exposure looks like, in numbers that correction should lower: noise, hot pixels,
gradient, rows that stand out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.flat_verdict import large_scale
from narrow_beacon.core.correct.local_median import local_median

_STEP = 3
_HOT_Z = 8.0
_ALONE = 0.3
"""Of a hot pixel's excess, up to which its neighbours' may be: a star's is more."""
_BLOCK = 32
_MEDIAN_SCATTER = 1.2533
_LEFT = 0.964
"""Of white noise what its middle half shows over the local median, in which each pixel has a part;
from four million made-up pixels."""


@dataclass(frozen=True)
class Appearance:
    """Noise of sky pixels in ADU; pixels that stand alone by 8 times that; the sky's slope from
    side to side and its corners over its middle, in percent; scatter of the rows' own levels
    beyond noise, in ADU.
    """

    noise_adu: float
    hot: int
    slope: float
    corners: float
    banding_adu: float


def look_at(pixels: Plane) -> Appearance:
    """The numbers of an exposure (height, width)."""
    known = np.where(np.isfinite(pixels), pixels, np.nanmedian(pixels))
    level = local_median(known)
    excess = known - level
    sample = excess[::_STEP, ::_STEP]
    noise = 1.4826 / _LEFT * float(np.median(np.abs(sample - np.median(sample))))
    slope, _, corners = large_scale(known, _BLOCK)
    return Appearance(
        noise, _hot(excess, level, noise), 100 * slope, 100 * corners, _banding(known, noise)
    )


def _hot(excess: Plane, level: Plane, noise: float) -> int:
    # In a bright star's light single pixels stand out by its own noise.
    dark = level < np.median(level[::_STEP, ::_STEP]) + _HOT_Z * noise
    hot = np.argwhere(((excess > _HOT_Z * noise) & dark)[1:-1, 1:-1])
    if not hot.size:
        return 0
    y, x = hot[:, 0] + 1, hot[:, 1] + 1
    sides = np.max([excess[y - 1, x], excess[y + 1, x], excess[y, x - 1], excess[y, x + 1]], axis=0)
    return int(np.sum(sides < _ALONE * excess[y, x]))


def _banding(pixels: Plane, noise: float) -> float:
    """Scatter of the rows' medians about those beside them, beyond what noise makes of it."""
    medians = np.median(pixels, axis=1)
    own = medians[1:-1] - 0.5 * (medians[:-2] + medians[2:])
    scatter = 1.4826 * float(np.median(np.abs(own - np.median(own)))) / np.sqrt(1.5)
    expected = _MEDIAN_SCATTER * noise / np.sqrt(pixels.shape[1])
    return float(np.sqrt(max(scatter**2 - expected**2, 0.0)))
