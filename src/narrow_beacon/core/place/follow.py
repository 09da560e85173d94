"""Place the next exposure from the last one's solution: find the shift, then fit."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, middle
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Placement, Solver

_VOTERS = 80
_BIN_PX = 4.0
_NEAR, _FAR = 0.04, 0.35
"""Of the shorter side: as far as exposures drift, and as far as two of them still share stars."""
_LEAST_VOTES = 8
_LEAST_MATCHED = 0.5
"""Solutions by patterns match more of the stars that either could; where a catalogue allows no
more, following is not worth its risk."""
_UNEVEN_SIGMA = 3.0


def follow(
    solver: Solver,
    last: Solution,
    x_px: Floats,
    y_px: Floats,
    error_px: Floats | None = None,
    *,
    keep_distortion: bool = True,
) -> Placement | None:
    """The placement of an image whose camera moved little or turned by half since ``last``.

    Star positions are 0-based pixels, brightest first. None where neither fits; the caller then
    solves from patterns.
    """
    before, turned = "from the exposure before", "turned by 180°"
    attempts = (last, before, _NEAR), (last, before, _FAR), (last.turned_half(), turned, _FAR)
    for start, how, reach in attempts:
        shift = _shift(solver, start, x_px, y_px, reach * min(start.shape))
        if shift is None:
            continue
        moved = replace(start, x0_px=start.x0_px + shift[0], y0_px=start.y0_px + shift[1])
        keep = keep_distortion and start is last and last.sip_order > 1
        found = solver.verify(
            moved, x_px, y_px, 2, error_px=error_px, start_px=5.0, keep_distortion=keep
        )
        if found and _whole(*found, x_px, y_px):
            return replace(found[0], how=how)
    return None


def _whole(placement: Placement, matched: Bools, x: Floats, y: Floats) -> bool:
    """Whether most stars are matched, and all over the image. Where it was turned or its scale
    changed since, those of one part can be, and the rest is wrong.
    """
    if placement.matched < _LEAST_MATCHED * placement.compared:
        return False
    x, y = x[: matched.size], y[: matched.size]
    away = np.hypot(x - middle(x[matched]), y - middle(y[matched]))
    order = np.argsort(away, kind="stable")
    near, far = matched[order[: order.size // 2]], matched[order[order.size // 2 :]]
    share = matched.mean()
    error = np.sqrt(share * (1.0 - share) * (1.0 / near.size + 1.0 / far.size))
    return bool(near.mean() - far.mean() <= _UNEVEN_SIGMA * error)


def _shift(
    solver: Solver, start: Solution, x: Floats, y: Floats, reach: float
) -> tuple[float, float] | None:
    """The shift of at most ``reach`` pixels along either axis that most pairs of bright stars agree
    on; None where none stands out.
    """
    height, width = start.shape
    # As many catalogue stars over the enlarged frame as there are voters on the image.
    share = (height + 2 * reach) * (width + 2 * reach) / (height * width)
    most = int(_VOTERS * share)
    _, xs, ys = solver.in_frame(start, reach, most)
    dx = (x[:_VOTERS, None] - xs[None, :most]).ravel()
    dy = (y[:_VOTERS, None] - ys[None, :most]).ravel()
    near = (np.abs(dx) < reach) & (np.abs(dy) < reach)
    if near.sum() < _LEAST_VOTES:
        return None
    dx, dy = dx[near], dy[near]
    size = int(2 * reach / _BIN_PX) + 2
    i = ((dx + reach) / _BIN_PX).astype(int)
    j = ((dy + reach) / _BIN_PX).astype(int)
    votes = np.bincount(j * size + i, minlength=size * size).reshape(size, size)
    # A true shift may straddle bins: count each bin with its neighbours to the right and above.
    joined = votes[:-1, :-1] + votes[1:, :-1] + votes[:-1, 1:] + votes[1:, 1:]
    peak = int(np.argmax(joined))
    j0, i0 = divmod(peak, size - 1)
    if joined[j0, i0] < _LEAST_VOTES:
        return None
    x0, y0 = (i0 + 1) * _BIN_PX - reach, (j0 + 1) * _BIN_PX - reach
    close = (np.abs(dx - x0) < _BIN_PX) & (np.abs(dy - y0) < _BIN_PX)
    return middle(dx[close]), middle(dy[close])
