"""Combine exposures of one field, on common pixels, into one of their total exposure time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy
from numpy.typing import NDArray

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.correct.combine import median_over_mean
from narrow_beacon.core.kits import CLIPPED, MEAN, MEDIAN

KAPPA = 4.5
"""Standard deviations of its own noise by which a value may depart before it is rejected."""
_LEAST_TO_REJECT = 3
_OF_RANGE = 0.6
"""Share of what neighbouring pixels differ by that a value may depart beside: seeing changes the
cores of stars from one exposure to the next."""
_BLOCK_BYTES = 32_000_000


@dataclass(frozen=True)
class Layer:
    """What one exposure brings: the share of the reference's starlight that it received, the noise
    and level of a pixel of its sky, in its own ADU.
    """

    share: float
    noise_adu: float
    sky_adu: float

    @property
    def weight(self) -> float:
        """Inverse variance of its values on the reference's scale, where the sky dominates."""
        return (self.share / self.noise_adu) ** 2


@dataclass(frozen=True)
class Combination:
    """Exposures combined: ADU of all of them together, (height, width), NaN where none reaches.

    ``rejected`` counts the values left out at each pixel, ``rejected_share`` is theirs among all.
    ``gain_e_per_adu`` and ``read_noise_e`` describe the noise of the result as a camera's would.
    """

    plane: Plane
    rejected: NDArray[np.uint16]
    rejected_share: float
    gain_e_per_adu: float
    read_noise_e: float


class PlaneFile:
    """A plane (height, width) in a file, of which rows are read when they are asked for: mapped
    into memory, all layers of a night would count as the program's own.
    """

    def __init__(self, path: Path, plane: Plane) -> None:
        self.shape = plane.shape
        self._path = path
        np.ascontiguousarray(plane, np.float32).tofile(path)

    def __getitem__(self, rows: slice) -> Plane:
        """Rows from the slice's start to its stop."""
        width = self.shape[1]
        first, last, _ = rows.indices(self.shape[0])
        found = np.fromfile(
            self._path, np.float32, (last - first) * width, offset=4 * width * first
        )
        return found.reshape(last - first, width)


def combine_layers(
    planes: Sequence[Plane | PlaneFile], layers: Sequence[Layer], gain_e_per_adu: float, method: str
) -> Combination:
    """Combine ``planes`` (height, width) on common pixels, each less its own sky; NaN is unknown.

    Each is brought to the reference's starlight, weighted by its inverse variance, and the result
    holds as many ADU as all of them together. With ``method`` CLIPPED what departs from the median
    by more than KAPPA of its own noise is left out, the range of the neighbours allowed for; MEAN
    leaves nothing out, MEDIAN takes the middle value. Memory does not grow with their number where
    the planes are files.
    """
    shape = planes[0].shape
    shares = np.array([layer.share for layer in layers])
    variances = np.array([layer.noise_adu**2 for layer in layers]) / shares**2
    photons = 1.0 / (gain_e_per_adu * shares)
    weights = np.array([layer.weight for layer in layers])
    weights /= weights.mean()
    clips = method == CLIPPED and len(planes) >= _LEAST_TO_REJECT
    middle = np.empty(shape, np.float32)
    if method != MEAN:
        for rows, block in _blocks(planes, shares):
            _medians(block, middle[rows])
    rejected = np.zeros(shape, np.uint16)
    plane = middle if method == MEDIAN else np.empty(shape, np.float32)
    known = lost = 0
    if method != MEDIAN:
        reach = np.zeros(shape, np.float32)
        if clips:
            filled = np.nan_to_num(middle)
            reach = np.float32(_OF_RANGE) * (
                scipy.ndimage.maximum_filter(filled, 3) - scipy.ndimage.minimum_filter(filled, 3)
            )
        kappa = KAPPA if clips else np.inf
        for rows, block in _blocks(planes, shares):
            counts = _means(
                block, middle[rows], reach[rows], variances, photons, weights, kappa, plane[rows],
                rejected[rows],
            )  # fmt: skip
            known, lost = known + counts[0], lost + counts[1]
    total = float(shares.sum())
    used = np.ones_like(weights) if method == MEDIAN else weights
    sky = _sky_of(used, shares, layers)
    if method == MEDIAN:
        gain, variance = _noise_of_median(shares, variances, gain_e_per_adu)
    else:
        gain, variance = _noise_of_mean(weights, shares, variances, gain_e_per_adu)
    plane *= np.float32(total)
    plane += np.float32(sky)
    read_noise = float(np.sqrt(max(gain**2 * variance - gain * max(sky, 0.0), 0.0)))
    return Combination(plane, rejected, lost / max(known, 1), gain, read_noise)


def _sky_of(weights: Floats, shares: Floats, layers: Sequence[Layer]) -> float:
    """The level of the sky that belongs to the combined starlight."""
    own = np.array([layer.sky_adu for layer in layers]) / shares
    return float(shares.sum() * (weights * own).sum() / weights.sum())


def _noise_of_mean(
    weights: Floats, shares: Floats, variances: Floats, gain_e_per_adu: float
) -> tuple[float, float]:
    """The gain that gives stars their noise, and the variance of the sky in ADU² a pixel."""
    total, sum_of = shares.sum(), weights.sum()
    gain = gain_e_per_adu * sum_of**2 / (total * (weights**2 / shares).sum())
    return float(gain), float(total**2 * (weights**2 * variances).sum() / sum_of**2)


def _noise_of_median(
    shares: Floats, variances: Floats, gain_e_per_adu: float
) -> tuple[float, float]:
    """The same of a median: n/(2 Σ f)² of the n values' densities f at their common middle, for few
    what that leaves out taken off.
    """
    total, noisier = shares.sum(), shares.size * median_over_mean(shares.size)
    gain = gain_e_per_adu * np.sqrt(shares).sum() ** 2 / (noisier * total)
    return float(gain), float(noisier * total**2 / (1.0 / np.sqrt(variances)).sum() ** 2)


def _blocks(planes: Sequence[Plane | PlaneFile], shares: Floats):  # type: ignore[no-untyped-def]
    """Rows at a time, (count, rows, width), each plane over its share of the starlight."""
    height, width = planes[0].shape
    rows = max(1, min(height, _BLOCK_BYTES // (4 * width * len(planes))))
    for first in range(0, height, rows):
        part = slice(first, min(first + rows, height))
        block = np.empty((len(planes), part.stop - first, width), np.float32)
        for index, plane in enumerate(planes):
            np.multiply(plane[part], np.float32(1.0 / shares[index]), out=block[index])
        yield part, block


@njit(cache=True, nogil=True)
def _medians(block, out):  # type: ignore[no-untyped-def]
    count, rows, width = block.shape
    values = np.empty(count, np.float32)
    for y in range(rows):
        for x in range(width):
            known = 0
            for i in range(count):
                v = block[i, y, x]
                if np.isfinite(v):
                    values[known] = v
                    known += 1
            out[y, x] = np.median(values[:known]) if known else np.nan


@njit(cache=True, nogil=True)
def _means(block, middle, reach, variances, photons, weights, kappa, out, rejected):  # type: ignore[no-untyped-def]
    count, rows, width = block.shape
    known, lost = 0, 0
    for y in range(rows):
        for x in range(width):
            total, weight = 0.0, 0.0
            for i in range(count):
                v = block[i, y, x]
                if not np.isfinite(v):
                    continue
                known += 1
                if kappa < 1e9:
                    m = middle[y, x]
                    noise = np.sqrt(variances[i] + max(m, 0.0) * photons[i])
                    if abs(v - m) > kappa * noise + reach[y, x]:
                        rejected[y, x] += 1
                        lost += 1
                        continue
                total += weights[i] * v
                weight += weights[i]
            out[y, x] = total / weight if weight > 0.0 else np.nan
    return known, lost
