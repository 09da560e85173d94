"""Several periods in one light curve: what is left when those that are known are taken off, and
which of those found next are only sums of them.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from narrow_beacon.core.arrays import Floats

_HARMONICS = 3
_MOST_ORDER = 3


def without_periods(
    t_d: Floats, value: Floats, sigma: Floats, periods_d: Sequence[float],
    harmonics: int = _HARMONICS,
) -> Floats:  # fmt: skip
    """Values (points) at times in days less what ``periods_d`` bring, each as a sum of harmonics,
    all fitted at once by weighted least squares; their mean stays.
    """
    if not periods_d:
        return np.asarray(value, float)
    phase = 2.0 * np.pi * (t_d - t_d.mean())
    columns = [np.ones_like(t_d)]
    # No more numbers than a third of the points can carry.
    each = max(1, min(harmonics, t_d.size // (6 * len(periods_d))))
    for period in periods_d:
        for h in range(1, each + 1):
            columns += [np.cos(h * phase / period), np.sin(h * phase / period)]
    basis = np.stack(columns, axis=1)
    fit = np.linalg.lstsq(basis / sigma[:, None], value / sigma, rcond=1e-9)[0]
    return np.asarray(value - basis[:, 1:] @ fit[1:])


def combination(frequency_per_d: float, known_per_d: Sequence[float], width_per_d: float) -> str:
    """Which sum of known frequencies a frequency is within ``width_per_d``: "f1 + f2", "2 f1 − f2",
    the simplest one; empty where it is none. (Lenz & Breger 2005, CoAst 146, 53, name them so.)
    """
    best, order = "", _MOST_ORDER + 2
    counts = np.arange(-_MOST_ORDER, _MOST_ORDER + 1)
    grids = np.meshgrid(*[counts] * min(len(known_per_d), 3), indexing="ij")
    for terms in zip(*(grid.ravel().tolist() for grid in grids), strict=True):
        size = sum(abs(n) for n in terms)
        if not 1 < size < min(order, _MOST_ORDER + 1):
            continue
        total = sum(n * f for n, f in zip(terms, known_per_d, strict=False))
        if total > 0 and abs(total - frequency_per_d) < width_per_d:
            best, order = _words(terms), size
    return best


def _words(terms: Sequence[int]) -> str:
    """As "2 f1 − f2", positive terms first."""
    parts = sorted(((n, at + 1) for at, n in enumerate(terms) if n), key=lambda part: part[0] < 0)
    text = ""
    for n, at in parts:
        sign = ("− " if n < 0 else "") if not text else (" − " if n < 0 else " + ")
        text += f"{sign}{'' if abs(n) == 1 else f'{abs(n)} '}f{at}"
    return text
