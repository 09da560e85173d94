"""The step in which a camera's values come: 1 ADU, or more where a converter of 8, 12 or 14 bits
fills words of 16.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_MOST_STEP = 256
_SAMPLE = 20000


def step_of(pixels: NDArray[np.generic]) -> float:
    """What all differences between the values of an image are multiples of, in its unit; 1 where
    that is more than any converter's step, 0 where they are no whole numbers.
    """
    values = pixels.reshape(-1)
    sample = values[:: max(1, values.size // _SAMPLE)].astype(np.float64)
    sample = np.unique(sample[np.isfinite(sample)])
    whole = np.rint(sample).astype(np.int64)
    if not np.array_equal(whole, sample):
        return 0.0
    step = int(np.gcd.reduce(np.diff(whole))) if whole.size > 1 else 1
    return float(step) if step <= _MOST_STEP else 1.0
