"""The periodogram of any shape that repeats: how much of a light curve's scatter a sum of harmonics
takes away, at each frequency.

Fast χ² (Palmer 2009, ApJ 695, 496): the normal equations of all harmonics are made of the same sums
as those of one.
"""

from __future__ import annotations

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.series.gls import Periodogram
from narrow_beacon.core.series.sums import trigonometric_sums

_CHUNK = 8192
_RIDGE = 1e-4


def harmonic_periodogram(
    t_d: Floats, value: Floats, sigma: Floats, lowest_per_d: float, highest_per_d: float,
    harmonics: int, oversampling: float = 10.0,
) -> Periodogram:  # fmt: skip
    """The periodogram of values (points) with uncertainties at times in days, by a mean and so many
    ``harmonics`` of each frequency; ``oversampling`` steps to the width of the last one's peak.
    """
    t = t_d - 0.5 * (t_d.min() + t_d.max())
    step = 1.0 / (oversampling * harmonics * max(float(np.ptp(t)), 1e-12))
    first = max(int(np.floor(lowest_per_d / step)), 1)
    last = max(int(np.ceil(highest_per_d / step)), first + 1)
    w = sigma**-2.0 / np.sum(sigma**-2.0)
    y = value - np.sum(w * value)
    whole = trigonometric_sums(t * step, w, 2 * harmonics * last)
    light = trigonometric_sums(t * step, w * y, harmonics * last)
    scatter = max(float(np.sum(w * y**2)), 1e-24)
    power = np.empty(last - first + 1)
    for begin in range(first, last + 1, _CHUNK):
        k = np.arange(begin, min(begin + _CHUNK, last + 1))
        order = np.arange(2 * harmonics + 1)
        sums = whole[k[:, None] * order[None, :]]
        own = light[k[:, None] * order[None, 1 : harmonics + 1]]
        power[k - first] = _power(sums, own, harmonics) / scatter
    window = np.abs(whole[first : last + 1]) ** 2
    return Periodogram(step, first, np.clip(power, 0.0, 1.0), window)


def harmonic_power_at(
    t_d: Floats, value: Floats, sigma: Floats, frequency_per_d: Floats, harmonics: int
) -> Floats:
    """The same at any frequencies, each by itself."""
    w = sigma**-2.0 / np.sum(sigma**-2.0)
    y = value - np.sum(w * value)
    scatter = max(float(np.sum(w * y**2)), 1e-24)
    phases = np.exp(2j * np.pi * np.outer(np.atleast_1d(frequency_per_d), t_d - t_d.mean()))
    powers = np.ones((2 * harmonics + 1, *phases.shape), complex)
    for h in range(1, 2 * harmonics + 1):
        powers[h] = powers[h - 1] * phases
    sums = (powers @ w).T
    own = (powers[1 : harmonics + 1] @ (w * y)).T
    return np.asarray(np.clip(_power(sums, own, harmonics) / scatter, 0.0, 1.0))


def _power(sums: np.ndarray, light: np.ndarray, harmonics: int) -> Floats:
    """bᵀ A⁻¹ b of the normal equations at each frequency, from Σ w e^{ihωt} for h = 0 … 2H and
    Σ w y e^{ihωt} for h = 1 … H; the values' mean is 0.
    """
    count, size = sums.shape[0], 2 * harmonics + 1
    matrix, right = np.zeros((count, size, size)), np.zeros((count, size))
    matrix[:, 0, 0] = sums[:, 0].real
    for i in range(1, harmonics + 1):
        c, s = 2 * i - 1, 2 * i
        right[:, c], right[:, s] = light[:, i - 1].real, light[:, i - 1].imag
        matrix[:, 0, c] = matrix[:, c, 0] = sums[:, i].real
        matrix[:, 0, s] = matrix[:, s, 0] = sums[:, i].imag
        for j in range(1, harmonics + 1):
            total, apart = sums[:, i + j], sums[:, abs(i - j)]
            sine = apart.imag if i >= j else -apart.imag
            matrix[:, c, 2 * j - 1] = 0.5 * (apart.real + total.real)
            matrix[:, s, 2 * j] = 0.5 * (apart.real - total.real)
            matrix[:, s, 2 * j - 1] = 0.5 * (total.imag + sine)
            matrix[:, c, 2 * j] = 0.5 * (total.imag - sine)
    # Where times leave a term free, it is held down rather than let loose.
    matrix += _RIDGE * np.eye(size)
    solved = np.linalg.solve(matrix, right[:, :, None])[:, :, 0]
    return np.asarray((solved * right).sum(axis=1))
