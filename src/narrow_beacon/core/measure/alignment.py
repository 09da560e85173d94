"""Lay the places where a solution has the stars on the centres that they have on an exposure."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Bools, Floats, Ints
from narrow_beacon.core.stars.detect import Detections
from narrow_beacon.core.stars.nearest import nearest, owners_of
from narrow_beacon.core.weighted_fit import middle_of, solve

CENTRED_SNR = 30.0
"""Stars this bright have a centre of their own that can be told from where they should be."""
NUDGED_FWHM = 0.5
"""Catalogue positions are not farther off than that, or it is another star."""
_OFF_CENTRE_FWHM = 0.35
_SEARCHED_FWHM = 0.8
_PAIRS_TO_SHIFT, _PAIRS_TO_TURN = 3, 12


def pair_up(
    x_px: Floats, y_px: Floats, found: Detections, fwhm_px: float, reach_fwhm: float
) -> tuple[Ints, Ints]:
    """Stars that have a bright detection within reach, and which one; each belongs to the
    nearer.
    """
    bright = np.flatnonzero(found.snr > CENTRED_SNR)
    nothing = np.empty(0, int)
    if not bright.size or not x_px.size:
        return nothing, nothing
    at, away = nearest(x_px, y_px, found.x_px[bright], found.y_px[bright], reach_fwhm * fwhm_px)
    owners = owners_of(at, away, bright.size)
    hit = np.sort(owners[owners >= 0])
    return hit, bright[at[hit]]


def align(x_px: Floats, y_px: Floats, found: Detections, fwhm_px: float) -> tuple[Floats, Floats]:
    """Predicted places (0-based) laid on the centres of the bright stars that were found: moved,
    and turned and stretched a little where there are enough of them.
    """
    stars, at = pair_up(x_px, y_px, found, fwhm_px, _OFF_CENTRE_FWHM)
    if stars.size < _PAIRS_TO_SHIFT:
        return x_px.copy(), y_px.copy()
    away = np.stack([found.x_px[at] - x_px[stars], found.y_px[at] - y_px[stars]], axis=1)
    weight = 1.0 / found.position_error_px(fwhm_px)[at] ** 2
    centre = np.array([x_px[stars].mean(), y_px[stars].mean()])
    size = max(float(np.ptp(x_px[stars])), float(np.ptp(y_px[stars])), 1.0)
    terms = 3 if stars.size >= _PAIRS_TO_TURN else 1

    def basis(x: Floats, y: Floats) -> Floats:
        columns = [np.ones_like(x), (x - centre[0]) / size, (y - centre[1]) / size]
        return np.stack(columns[:terms], axis=1)

    fit: Floats = np.zeros((terms, 2))
    _agreed(basis(x_px[stars], y_px[stars]), away, weight, fit)
    shift = basis(x_px, y_px) @ fit
    return x_px + shift[:, 0], y_px + shift[:, 1]


@njit(cache=True, nogil=True)
def _agreed(own, away, weight, fit):  # type: ignore[no-untyped-def]
    """Fit shifts (stars, 2) by those that agree."""
    count = weight.size
    kept, used = np.ones(count, np.bool_), weight.copy()
    left, room = np.empty(count), np.empty(count)
    for _ in range(5):
        solve(own, away, used, fit)
        for n in range(count):
            dx, dy = away[n]
            for k in range(own.shape[1]):
                dx -= own[n, k] * fit[k, 0]
                dy -= own[n, k] * fit[k, 1]
            left[n] = np.hypot(dx, dy)
        limit = 3.5 * max(middle_of(left, kept, room), 0.01)
        now, same = 0, True
        for n in range(count):
            near = left[n] < limit
            now += near
            same = same and near == kept[n]
        if now < _PAIRS_TO_SHIFT or same:
            break
        for n in range(count):
            kept[n] = left[n] < limit
            used[n] = weight[n] if kept[n] else 0.0


def off_centre(x_px: Floats, y_px: Floats, found: Detections, fwhm_px: float) -> Bools:
    """Bright stars whose own centre is not where they are measured."""
    stars, at = pair_up(x_px, y_px, found, fwhm_px, _SEARCHED_FWHM)
    away = np.hypot(found.x_px[at] - x_px[stars], found.y_px[at] - y_px[stars])
    off = np.zeros(x_px.size, bool)
    off[stars[away > _OFF_CENTRE_FWHM * fwhm_px]] = True
    return off
