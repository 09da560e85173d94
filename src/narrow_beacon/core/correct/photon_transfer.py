"""Gain and read noise of the camera from pairs of flats and pairs of bias frames.

gain = ((mean₁ + mean₂) − (bias₁ + bias₂)) / (var(flat₁ − flat₂) − var(bias₁ − bias₂)), the photon
transfer method (Janesick 2001, Scientific Charge-Coupled Devices, SPIE).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.frames.steps import step_of

_PATCH = 64
_REACH = 256
_MOST_PAIRS = 2
FRAMES_OF_NOISE = 2 * _MOST_PAIRS
"""So many flats and bias frames tell the noise."""
_MOST_IN_ALL = 24
_LEAST_STEPS = 0.5
"""The least scatter in steps of the frames' values: else most may be equal, and it is none."""
_BENT = 0.08
"""Share by which the variance may depart from a straight line before a sensor counts as no longer
linear; that of a pair over a quarter of a million pixels is known to 1%."""


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
    bias_pairs = [_pair(biases, i) for i in range(0, min(len(biases) - 1, FRAMES_OF_NOISE), 2)]
    bias_sum = float(np.median([np.median(a) + np.median(b) for a, b in bias_pairs]))
    step = step_of(bias_pairs[0][0])
    bias_variance = float(np.median([_difference_variance(a, b, step) for a, b in bias_pairs]))
    gains = []
    for i in range(0, min(len(flats) - 1, FRAMES_OF_NOISE), 2):
        first, second = _pair(flats, i)
        # Flats of a twilight differ in level: scale the second to the first before differencing.
        half = bias_sum / 2
        factor = (np.median(first) - half) / (np.median(second) - half)
        variance = _difference_variance(first - half, (second - half) * factor, step)
        photons = variance - bias_variance * (1 + factor**2) / 2
        # var(a − f·b) = (a + f²·b)/g with f·b = a: the photon part is a·(1 + f)/g.
        signal = float((np.median(first) - half) * (1 + factor))
        if photons > 0:
            gains.append(signal / photons)
    if not gains:
        return None
    gain = float(np.median(gains))
    return CameraNoise(gain, gain * _read_noise(bias_variance / 2, step), len(gains))


@dataclass(frozen=True)
class TransferPoint:
    """A pair of flats: their level above bias and the variance of single pixels of one of them, in
    ADU and ADU², both as the median over patches.
    """

    level_adu: float
    variance_adu2: float
    filter: str


@dataclass(frozen=True)
class PhotonTransfer:
    """Levels and variances of pairs of flats, and what they say of the camera: variance =
    read_noise² + level / gain. ``linear_to_adu`` is the raw level up to which they follow that;
    ``bends`` says whether brighter ones do not, so that it is the end of the linear range.
    """

    points: tuple[TransferPoint, ...]
    bias_adu: float
    noise: CameraNoise
    linear_to_adu: float
    bends: bool


def photon_transfer(flats: Sequence[Frame], biases: Sequence[Frame]) -> PhotonTransfer | None:
    """The photon-transfer picture of a camera's flats of all filters and nights; None without two
    flats of a kind and two bias frames.

    Of every filter and night pairs of consecutive flats are taken, from the first to the last, at
    most 24 in all. Raises UnreadableFileError.
    """
    biases, flats = ([f for f in some if min(f.shape) >= _PATCH] for some in (biases, flats))
    if len(biases) < 2:
        return None
    first, second = _pair(biases, 0)
    bias = float(np.median(first) + np.median(second)) / 2.0
    step = step_of(first)
    bias_variance = _difference_variance(first, second, step) / 2.0
    points = []
    for frames in _series(flats):
        for one, other in frames:
            a, b = _centre(one) - bias, _centre(other) - bias
            level_a, level_b = float(np.median(a)), float(np.median(b))
            if min(level_a, level_b) <= 0:
                continue
            factor = level_a / level_b
            # var(a - f b) = v_a + f² v_b, with v = bias variance + level / gain for each.
            own = _difference_variance(a, b * factor, step) - bias_variance * (1.0 + factor**2)
            photons = own / (1.0 + factor)
            points.append(TransferPoint(level_a, bias_variance + photons, one.filter or ""))
    points.sort(key=lambda point: point.level_adu)
    gains = [p.level_adu / (p.variance_adu2 - bias_variance) for p in points
             if p.variance_adu2 > bias_variance]  # fmt: skip
    if not gains:
        return None
    # The dimmer half, where no camera bends; of few all.
    gain = float(np.median(gains[: max(2, (len(gains) + 1) // 2)]))
    straight = [
        abs((p.variance_adu2 - bias_variance) * gain / p.level_adu - 1.0) < _BENT for p in points
    ]
    end = straight.index(False) if False in straight else len(points)
    noise = CameraNoise(gain, gain * _read_noise(bias_variance, step), len(points))
    top = points[max(end - 1, 0)].level_adu + bias
    return PhotonTransfer(tuple(points), bias, noise, top, end < len(points))


def _read_noise(variance_adu2: float, step_adu: float) -> float:
    """Read noise in ADU by a bias frame's variance, without what rounding adds."""
    return float(np.sqrt(max(variance_adu2 - step_adu**2 / 12.0, 0.0)))


def _series(flats: Sequence[Frame]) -> list[list[tuple[Frame, Frame]]]:
    """Pairs of consecutive flats of each filter, night and exposure time."""
    kinds: dict[tuple[object, ...], list[Frame]] = defaultdict(list)
    for frame in sorted(flats, key=lambda f: str(f.mid_utc)):
        kinds[frame.filter, frame.night, frame.shape].append(frame)
    pairs = [[(f[i], f[i + 1]) for i in range(0, len(f) - 1, 2)] for f in kinds.values()]
    most = max(1, _MOST_IN_ALL // max(1, len(pairs)))
    return [
        [some[i] for i in sorted({round(i) for i in np.linspace(0, len(some) - 1, most)})]
        for some in pairs
        if some
    ]


def _pair(frames: Sequence[Frame], index: int) -> tuple[Plane, Plane]:
    return _centre(frames[index]), _centre(frames[index + 1])


def _centre(frame: Frame) -> Plane:
    middle = [slice(max(0, size // 2 - _REACH), size // 2 + _REACH) for size in frame.shape]
    pixels = read_pixels(frame.source)[middle[0], middle[1]]
    known = np.isfinite(pixels)
    return pixels if known.all() else np.where(known, pixels, np.median(pixels[known]))


def _difference_variance(first: Plane, second: Plane, step_adu: float) -> float:
    """Robust variance of the difference of frames whose values come in steps: the median over
    patches of clipped variances.
    """
    rows, columns = (size // _PATCH for size in first.shape)
    difference = (first - second)[: rows * _PATCH, : columns * _PATCH]
    patches = difference.reshape(rows, _PATCH, columns, _PATCH).swapaxes(1, 2)
    values = patches.reshape(rows * columns, -1)
    values = values - np.median(values, axis=1, keepdims=True)
    scatter = 1.4826 * np.median(np.abs(values), axis=1, keepdims=True)
    limit = 5 * np.maximum(scatter, _LEAST_STEPS * step_adu) + 1e-6
    return float(np.median(np.nanvar(np.where(np.abs(values) < limit, values, np.nan), axis=1)))
