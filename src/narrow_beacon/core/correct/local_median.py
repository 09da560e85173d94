"""The median of the pixels around each pixel, compiled: many times quicker than a general filter."""

from __future__ import annotations

import numpy as np
from numba import njit

from narrow_beacon.core.arrays import Plane


def local_median(image: Plane) -> Plane:
    """Median of the 5 × 5 pixels about each pixel (height, width), fewer at the edges.
    Of an even number of pixels it is the upper of the two in the middle.
    """
    out = np.empty_like(image, dtype=np.float32)
    _filter(np.ascontiguousarray(image, dtype=np.float32), out)
    return out


@njit(cache=True, nogil=True)
def _filter(image, out):  # type: ignore[no-untyped-def]
    height, width = image.shape
    window = np.empty(25, np.float32)
    for y in range(height):
        y0, y1 = max(0, y - 2), min(height, y + 3)
        for x in range(width):
            x0, x1 = max(0, x - 2), min(width, x + 3)
            count = 0
            for yy in range(y0, y1):
                for xx in range(x0, x1):
                    window[count] = image[yy, xx]
                    count += 1
            k = count // 2
            low, high = 0, count - 1
            while low < high:
                pivot = window[(low + high) // 2]
                i, j = low, high
                while i <= j:
                    while window[i] < pivot:
                        i += 1
                    while window[j] > pivot:
                        j -= 1
                    if i <= j:
                        window[i], window[j] = window[j], window[i]
                        i += 1
                        j -= 1
                if k <= j:
                    high = j
                elif k >= i:
                    low = i
                else:
                    break
            out[y, x] = window[k]
