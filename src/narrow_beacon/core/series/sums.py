"""Sums of cosines and sines over uneven times at many frequencies at once."""

from __future__ import annotations

import numpy as np
from scipy.fft import next_fast_len, rfft

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats

_WIDTH = 8
"""Grid points over which a point is spread; the error is some 10⁻⁷ of the sum of amplitudes."""
_BETA = 2.3 * _WIDTH
_NODES = 40


def trigonometric_sums(turns: Floats, amplitude: Floats, most: int) -> np.ndarray:
    """Σ aⱼ exp(2πi k uⱼ) for k = 0 … ``most``, complex (most + 1); ``turns`` uⱼ are taken modulo 1.

    By spreading the points on a grid twice as fine as the fastest wave and a Fourier transform, the
    kernel "exponential of semicircle" of Barnett, Magland & af Klinteberg (2019, SIAM J. Sci.
    Comput. 41, C479): quick where Press & Rybicki (1989, ApJ 338, 277) interpolate, and surer.
    """
    size = next_fast_len(max(2 * (2 * most + 1), 4 * _WIDTH), real=True)
    grid = np.zeros(size)
    _spread(grid, np.asarray(turns, float) % 1.0, np.asarray(amplitude, float))
    # The transform has the opposite sign in its exponent.
    spectrum = np.conj(rfft(grid)[: most + 1])
    return np.asarray(spectrum / _transform(most, size))


def _transform(most: int, size: int) -> Floats:
    """The kernel's own transform at k = 0 … most: smooth, so that few values tell all."""
    some = np.linspace(0.0, most, min(most + 1, 2000))
    nodes, weights = np.polynomial.legendre.leggauss(_NODES)
    kernel = np.exp(_BETA * (np.sqrt(1.0 - nodes**2) - 1.0))
    half = _WIDTH / 2.0
    phases = 2.0 * np.pi * some[:, None] * (half * nodes)[None, :] / size
    values = half * (np.cos(phases) * kernel * weights).sum(axis=1)
    return np.asarray(np.interp(np.arange(most + 1), some, values))


@njit(cache=True, nogil=True)
def _spread(grid, turns, amplitude):  # type: ignore[no-untyped-def]
    size = grid.size
    half = _WIDTH / 2.0
    for j in range(turns.size):
        at = turns[j] * size
        first = int(np.ceil(at - half))
        for m in range(first, first + _WIDTH):
            z = (m - at) / half
            room = 1.0 - z * z
            if room > 0.0:
                grid[m % size] += amplitude[j] * np.exp(_BETA * (np.sqrt(room) - 1.0))
