"""Gain and read noise of the camera from pairs of flats and pairs of bias frames.

gain = ((mean₁ + mean₂) − (bias₁ + bias₂)) / (var(flat₁ − flat₂) − var(bias₁ − bias₂)), the photon
transfer method (Janesick 2001, Scientific Charge-Coupled Devices, SPIE).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.frame import Frame

_PATCH = 64
_REACH = 256
_MOST_PAIRS = 2


@dataclass(frozen=True)
class CameraNoise:
    """Measured gain and read noise, with the number of pairs behind them."""

    gain_e_per_adu: float
    read_noise_e: float
    pairs: int


def measure_camera_noise(flats: Sequence[Frame], biases: Sequence[Frame]) -> CameraNoise | None:
    """Gain and read noise from consecutive pairs; None without two flats and two bias frames."""
    if len(flats) < 2 or len(biases) < 2:
        return None
    bias_pairs = [_pair(biases, i) for i in range(0, min(len(biases) - 1, 2 * _MOST_PAIRS), 2)]
    bias_sum = float(np.median([np.median(a) + np.median(b) for a, b in bias_pairs]))
    bias_variance = float(np.median([_difference_variance(a, b) for a, b in bias_pairs]))
    gains = []
    for i in range(0, min(len(flats) - 1, 2 * _MOST_PAIRS), 2):
        first, second = _pair(flats, i)
        # Flats of a twilight differ in level: scale the second to the first before differencing.
        half = bias_sum / 2
        factor = (np.median(first) - half) / (np.median(second) - half)
        variance = _difference_variance(first - half, (second - half) * factor)
        photons = variance - bias_variance * (1 + factor**2) / 2
        # var(a − f·b) = (a + f²·b)/g with f·b = a: the photon part is a·(1 + f)/g.
        signal = float((np.median(first) - half) * (1 + factor))
        if photons > 0:
            gains.append(signal / photons)
    if not gains:
        return None
    gain = float(np.median(gains))
    return CameraNoise(gain, gain * float(np.sqrt(bias_variance / 2)), len(gains))


def _pair(frames: Sequence[Frame], index: int) -> tuple[Plane, Plane]:
    return _centre(frames[index]), _centre(frames[index + 1])


def _centre(frame: Frame) -> Plane:
    middle = [slice(max(0, size // 2 - _REACH), size // 2 + _REACH) for size in frame.shape]
    pixels = read_pixels(frame.source)[middle[0], middle[1]]
    known = np.isfinite(pixels)
    return pixels if known.all() else np.where(known, pixels, np.median(pixels[known]))


def _difference_variance(first: Plane, second: Plane) -> float:
    """Robust variance of the difference: the median over patches of clipped variances."""
    rows, columns = (size // _PATCH for size in first.shape)
    difference = (first - second)[: rows * _PATCH, : columns * _PATCH]
    patches = difference.reshape(rows, _PATCH, columns, _PATCH).swapaxes(1, 2)
    values = patches.reshape(rows * columns, -1)
    values = values - np.median(values, axis=1, keepdims=True)
    limit = 5 * 1.4826 * np.median(np.abs(values), axis=1, keepdims=True) + 1e-6
    return float(np.median(np.nanvar(np.where(np.abs(values) < limit, values, np.nan), axis=1)))
