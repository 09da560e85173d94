"""What an exposure looks like, in numbers that correction should lower: noise, hot pixels,
gradient, rows that stand out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.flat_verdict import plane_and_radial
from narrow_beacon.core.correct.local_median import local_median

_STEP = 3
_HOT_Z = 8.0
_ALONE = 0.3
"""Of a hot pixel's excess, up to which its neighbours' may be: a star's is more."""
_BLOCK = 32
_MEDIAN_SCATTER = 1.2533


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
    excess = known - local_median(known)
    sample = excess[::_STEP, ::_STEP]
    noise = 1.4826 * float(np.median(np.abs(sample - np.median(sample))))
    rows, columns = (size // _BLOCK for size in known.shape)
    blocks = known[: rows * _BLOCK, : columns * _BLOCK].reshape(rows, _BLOCK, columns, _BLOCK)
    sky = np.median(blocks.swapaxes(1, 2).reshape(rows, columns, -1), axis=2)
    y, x = np.meshgrid(np.linspace(-1, 1, rows), np.linspace(-1, 1, columns), indexing="ij")
    slope, _, corners = plane_and_radial(sky.astype(float), x, y)
    return Appearance(
        noise, _hot(excess, noise), 100 * slope, 100 * corners, _banding(known, noise)
    )


def _hot(excess: Plane, noise: float) -> int:
    middle = excess[1:-1, 1:-1]
    hot = np.argwhere(middle > _HOT_Z * noise)
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
