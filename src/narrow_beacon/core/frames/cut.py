"""Is the lower end of the values cut off? A camera whose offset is too low gives 0 for all that
noise takes below it: the mean of a dark sky then is too high, and its scatter too small.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_EVERY = 16
_LEAST, _LEAST_ALONE = 0.01, 0.003


def cut_share(pixels: NDArray[np.generic]) -> float:
    """The share of raw pixels (height, width) that are 0, where enough of these have others beside
    and above or below them that are not; else 0: whole rows and columns, and borders, see no light
    or are bad.
    """
    count = max(0, (len(pixels) - 3) // _EVERY + 1)
    below, zero, above = (pixels[n::_EVERY][:count] == 0 for n in range(3))
    if zero.size == 0 or zero.shape[1] < 3:
        return 0.0
    inside = zero[:, 1:-1]
    beside = ~(zero[:, :-2] & zero[:, 2:])
    alone = inside & beside & ~(below & above)[:, 1:-1]
    share = float(inside.mean())
    return share if share >= _LEAST and alone.mean() >= _LEAST_ALONE else 0.0
