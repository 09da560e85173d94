"""What an exposure looks like, in numbers that correction should lower: noise, hot pixels,
gradient, rows that stand out.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.correct.flat_verdict import large_scale
from narrow_beacon.core.correct.local_median import local_median

_STEP, _ROWS = 3, 256
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
    known = _without_gaps(pixels)
    level = local_median(known)
    sample = known[::_STEP, ::_STEP] - level[::_STEP, ::_STEP]
    sample -= np.median(sample)
    noise = 1.4826 / _LEFT * float(np.median(np.abs(sample)))
    slope, _, corners = large_scale(known, _BLOCK)
    return Appearance(
        noise, _hot(known, level, noise), 100 * slope, 100 * corners, _banding(known, noise)
    )


def _without_gaps(pixels: Plane) -> Plane:
    """The pixels, of which what has no value has the usual one."""
    gaps = ~np.isfinite(pixels)
    return np.where(gaps, np.nanmedian(pixels), pixels) if gaps.any() else pixels


def _hot(known: Plane, level: Plane, noise: float) -> int:
    # In a bright star's light single pixels stand out by its own noise.
    dark = np.median(level[::_STEP, ::_STEP]) + _HOT_Z * noise
    hot = [
        np.argwhere((some - own > _HOT_Z * noise) & (own < dark)) + np.array([first, 0])
        for first, some, own in _blocks(known, level)
    ]
    y, x = np.concatenate(hot).T
    inner = (y > 0) & (y < known.shape[0] - 1) & (x > 0) & (x < known.shape[1] - 1)
    y, x = y[inner], x[inner]
    if not y.size:
        return 0

    def excess(dy: int, dx: int) -> Floats:
        at = (y + dy, x + dx)
        return np.asarray(known[at] - level[at])

    sides = np.max([excess(-1, 0), excess(1, 0), excess(0, -1), excess(0, 1)], axis=0)
    return int(np.sum(sides < _ALONE * excess(0, 0)))


def _blocks(*planes: Plane) -> Iterator[tuple[Any, ...]]:
    """Some rows of planes of one size at a time, after the number of the first: what is made of
    them is small beside the planes.
    """
    for first in range(0, planes[0].shape[0], _ROWS):
        yield first, *(plane[first : first + _ROWS] for plane in planes)


def _banding(pixels: Plane, noise: float) -> float:
    """Scatter of the rows' medians about those beside them, beyond what noise makes of it."""
    medians = np.concatenate([np.median(some, axis=1) for _, some in _blocks(pixels)])
    own = medians[1:-1] - 0.5 * (medians[:-2] + medians[2:])
    scatter = 1.4826 * float(np.median(np.abs(own - np.median(own)))) / np.sqrt(1.5)
    expected = _MEDIAN_SCATTER * noise / np.sqrt(pixels.shape[1])
    return float(np.sqrt(max(scatter**2 - expected**2, 0.0)))
