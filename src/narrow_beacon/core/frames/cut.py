"""Is the lower end of the values cut off? A camera whose offset is too low gives 0 for all that
noise takes below it: the mean of a dark sky then is too high, and its scatter too small.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_EVERY = 4
_LEAST = 0.01


def cut_share(pixels: NDArray[np.generic]) -> float:
    """The share of raw pixels (height, width) that are 0, where they lie all over the image; 0
    where there are few, or in some rows or columns alone: those see no light, or are bad.
    """
    zero = pixels[::_EVERY, ::_EVERY] == 0
    lines = min(float(np.median(zero.mean(axis=axis))) for axis in (0, 1)) if zero.size else 0.0
    return float(zero.mean()) if lines >= _LEAST else 0.0
