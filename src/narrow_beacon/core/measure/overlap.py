"""The exact area of overlap between a circle and a pixel.

Within a quadrant the overlap is a polygon and one circular segment. The area of the segment over
a chord c of a circle of radius r is r²·S(c / 2r) with S(x) = arcsin x − x·√(1 − x²), whose power
series 2·Σ C(2n, n)/4ⁿ · x^(2n+3)/(2n + 3) converges fast for the short chords inside a pixel.
"""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit


@njit(cache=True, nogil=True, inline="always")
def _segment(x):  # type: ignore[no-untyped-def]
    q = x * x
    if q > 0.15:
        x = min(x, 1.0)
        return np.arcsin(x) - x * np.sqrt(max(1.0 - x * x, 0.0))
    series = 2 / 3 + q * (
        1 / 5 + q * (3 / 28 + q * (5 / 72 + q * (35 / 704 + q * (63 / 1664 + q * 0.03007812))))
    )
    return x * q * series


@njit(cache=True, nogil=True)
def _quadrant(x0, y0, x1, y1, r):  # type: ignore[no-untyped-def]
    """Overlap of the rectangle [x0, x1] × [y0, y1], all ≥ 0, with the circle about the origin."""
    r2 = r * r
    if x0 * x0 + y0 * y0 >= r2:
        return 0.0
    if x1 * x1 + y1 * y1 <= r2:
        return (x1 - x0) * (y1 - y0)
    # Left of xa the arc runs above the rectangle, right of xb below it.
    if x0 * x0 + y1 * y1 < r2:
        xa = np.sqrt(r2 - y1 * y1)
        ya = y1
    else:
        xa = x0
        ya = np.sqrt(r2 - x0 * x0)
    if x1 * x1 + y0 * y0 < r2:
        xb = x1
        yb = np.sqrt(r2 - x1 * x1)
    else:
        xb = np.sqrt(r2 - y0 * y0)
        yb = y0
    dx, dy = xb - xa, ya - yb
    chord = np.sqrt(dx * dx + dy * dy)
    area = (xa - x0) * (y1 - y0) + dx * (0.5 * (ya + yb) - y0)
    return area + r2 * _segment(0.5 * chord / r)


@njit(cache=True, nogil=True)
def pixel_overlap(x, y, r):  # type: ignore[no-untyped-def]
    """Area of the unit pixel centred on (x, y) that lies in a circle of radius r about (0, 0)."""
    x, y = abs(x), abs(y)
    x0, x1, y0, y1 = x - 0.5, x + 0.5, y - 0.5, y + 0.5
    if x0 >= 0.0 and y0 >= 0.0:
        return _quadrant(x0, y0, x1, y1, r)
    if x0 >= 0.0:
        return _quadrant(x0, 0.0, x1, y1, r) + _quadrant(x0, 0.0, x1, -y0, r)
    if y0 >= 0.0:
        return _quadrant(0.0, y0, x1, y1, r) + _quadrant(0.0, y0, -x0, y1, r)
    return (
        _quadrant(0.0, 0.0, x1, y1, r)
        + _quadrant(0.0, 0.0, -x0, y1, r)
        + _quadrant(0.0, 0.0, x1, -y0, r)
        + _quadrant(0.0, 0.0, -x0, -y0, r)
    )
