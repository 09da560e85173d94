"""Images for the eye: 16-bit planes in a power-of-two pyramid, and how bright sky and stars are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Plane

TILE_PX = 1024
_SAMPLES = 60_000
_BINS = 96
_LOW_SIGMA, _HIGH_SIGMA = 3.0, 60.0
_TWO_SIGMA, _ALIKE = 0.02275, 0.3


@dataclass(frozen=True)
class Brightness:
    """Sky and noise of an image in ADU, a range that shows sky and stars, and a histogram.

    A value v becomes the word 1 + (v − ``offset``) / ``scale``; the word 0 has no value.
    """

    offset: float
    scale: float
    sky: float
    noise: float
    low: float
    high: float
    histogram: tuple[int, ...]
    histogram_low: float
    histogram_step: float


def measure_brightness(pixels: Plane, noise: float | None = None) -> Brightness:
    """The brightness of an image (height, width) from a sample of its pixels; by a ``noise`` that
    is known, where most of them are alike.
    """
    step = max(1, int(np.sqrt(pixels.size / _SAMPLES)))
    sample = pixels[::step, ::step]
    sample = sample[np.isfinite(sample)]
    lowest, highest = _reach(pixels)
    if sample.size == 0 or not highest > lowest:
        level = float(lowest) if np.isfinite(lowest) else 0.0
        return Brightness(
            level, 1.0, level, 1.0, level - 1.0, level + 1.0, (0,) * _BINS, level, 1.0
        )
    sky = _middle(sample)
    if noise is None:
        noise = _noise_below(sample, sky)
    noise = max(noise, 1e-6 * (abs(sky) + 1.0))
    scale = (highest - lowest) / 65000.0
    low, high = sky - _LOW_SIGMA * noise, sky + _HIGH_SIGMA * noise
    left = sky - 2.5 * _LOW_SIGMA * noise
    width = (sky + 1.6 * _HIGH_SIGMA * noise - left) / _BINS
    # A place below and one above take what lies outside.
    places = np.clip(np.floor((sample - left) / width), -1, _BINS).astype(np.int64) + 1
    counts = np.bincount(places, minlength=_BINS + 2)[1:-1]
    return Brightness(lowest, scale, sky, noise, low, high, tuple(counts.tolist()), left, width)


def _noise_below(sample: Plane, sky: float) -> float:
    """The scatter of a sample by the middle of its departures; where most values are alike, since
    they come in steps, by how far down the lowest in forty lie, which is two of it.
    """
    usual = 1.4826 * _middle(np.abs(sample - np.float32(sky)))
    low = 0.5 * (sky - float(np.quantile(sample, _TWO_SIGMA)))
    return low if usual < _ALIKE * low else usual


def to_words(pixels: Plane, brightness: Brightness) -> NDArray[np.uint16]:
    """The image as 16-bit words; see Brightness."""
    words: NDArray[np.uint16] = _to_words(
        pixels, np.float32(brightness.offset), np.float32(1.0 / brightness.scale)
    )
    return words


def halve(pixels: Plane) -> Plane:
    """Half as large: means of 2 × 2 pixels; an odd last row or column is left out."""
    half: Plane = _halve(pixels)
    return half


def level_count(height: int, width: int) -> int:
    """Levels of the pyramid until an image fits into one quarter of a tile."""
    levels = 1
    while max(height, width) >> levels >= TILE_PX // 4:
        levels += 1
    return levels


def _middle(values: Plane) -> float:
    return float(np.partition(values, values.size // 2)[values.size // 2])


def _reach(pixels: Plane) -> tuple[float, float]:
    """The lowest and the highest value of all pixels, passing over NaN; NaN without any."""
    low, high = _reach_by_column(pixels)
    low, high = low[low < np.inf], high[high > -np.inf]
    return (float(low.min()), float(high.max())) if low.size else (float("nan"), float("nan"))


@njit(cache=True, nogil=True)
def _reach_by_column(pixels):  # type: ignore[no-untyped-def]
    # By column, so that the inner loop has no result to wait for.
    width = pixels.shape[1]
    low, high = np.full(width, np.float32(np.inf)), np.full(width, np.float32(-np.inf))
    for y in range(pixels.shape[0]):
        row = pixels[y]
        for x in range(width):
            v = row[x]
            low[x] = v if v < low[x] else low[x]
            high[x] = v if v > high[x] else high[x]
    return low, high


@njit(cache=True, nogil=True)
def _to_words(pixels, offset, inverse):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    words = np.empty((height, width), np.uint16)
    for y in range(height):
        for x in range(width):
            v = (pixels[y, x] - offset) * inverse
            if v >= 0.0:
                words[y, x] = np.uint16(min(v + np.float32(1.5), np.float32(65535.0)))
            else:
                words[y, x] = np.uint16(1) if v < 0.0 else np.uint16(0)
    return words


@njit(cache=True, nogil=True)
def _halve(pixels):  # type: ignore[no-untyped-def]
    half = np.empty((pixels.shape[0] // 2, pixels.shape[1] // 2), np.float32)
    for y in range(half.shape[0]):
        halve_rows(pixels[2 * y], pixels[2 * y + 1], half[y])
    return half


@njit(cache=True, nogil=True)
def halve_rows(one, other, half):  # type: ignore[no-untyped-def]
    """Two rows of an image as one of half the width, in place."""
    quarter = np.float32(0.25)
    for x in range(half.size):
        half[x] = ((one[2 * x] + one[2 * x + 1]) + (other[2 * x] + other[2 * x + 1])) * quarter
