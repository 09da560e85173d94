"""Two stars of the catalogue where one was found: which of its light is whose, by its centre.

The windowed centre of two stars as one lies where each draws it by its light within the window,

    p = f e^(−κ g² (1 − p)²) / (f e^(−κ g² (1 − p)²) + (1 − f) e^(−κ g² p²)),

p and f being the second's share of the way and of the light, g their distance in star widths. For a
Gaussian star in a window of its own width κ = 2 ln 2; for stars with wings it is a little less.
"""

from __future__ import annotations

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints
from narrow_beacon.core.stars.nearest import nearest, pairs_within

_KAPPA = 1.2
_TURNS = 12
_PLACE_FWHM = 0.03
"""By which catalogue and alignment may be wrong on where a star is, in star widths."""
_UNLIKE, _SEEN = 3.0, 2.0
_MOST_UNSURE = 0.25
_FAINTER_MAG = 3.5
"""Of 4% of the light a star is hardly drawn away."""


def centre_of(share: Floats, gap_fwhm: Floats) -> Floats:
    """Where between two stars the centre of both lies, 0 at the first and 1 at the second, for the
    second's ``share`` of their light.
    """
    place = np.array(share, float)
    for _ in range(_TURNS):
        first = (1.0 - share) * np.exp(-_KAPPA * (gap_fwhm * place) ** 2)
        second = share * np.exp(-_KAPPA * (gap_fwhm * (1.0 - place)) ** 2)
        place = second / (first + second)
    return place


def share_of(place: Floats, gap_fwhm: Floats) -> Floats:
    """The second star's share of the light by where the centre of both lies."""
    inside = np.clip(place, 0.0, 1.0 - 1e-9)
    odds = inside / (1.0 - inside) * np.exp(_KAPPA * gap_fwhm**2 * (1.0 - 2.0 * inside))
    return np.asarray(odds / (1.0 + odds))


def light_of_both(
    place: Floats, gap_fwhm: Floats, error_fwhm: Floats, expected: Floats, seen: Floats
) -> tuple[Floats, Floats]:
    """Light of first and second stars (pairs). The second has its share by the catalogue, but where
    the centre of both is so far from where that would have it that the catalogue's magnitudes, or
    the second star itself, can't be right: then it has what the centre says.

    ``place`` is where between the two the centre was found, to ``error_fwhm`` star widths;
    ``expected`` is the second's share by the catalogue (NaN where it says none), ``seen`` what the
    filter takes for the light of one star there.
    """
    sure = np.hypot(error_fwhm, _PLACE_FWHM) / gap_fwhm
    away = np.abs(place - centre_of(expected, gap_fwhm))
    unlike = ~(away <= _UNLIKE * sure) & (sure < _MOST_UNSURE)
    share = np.where(unlike, 0.0, np.nan_to_num(expected))
    told = unlike & (place > _SEEN * sure)
    share = np.where(told, share_of(place, gap_fwhm), share)
    # Beside the middle of the window either counts by less.
    at = centre_of(share, gap_fwhm)
    taken = (1.0 - share) * np.exp(-_KAPPA * (gap_fwhm * at) ** 2)
    taken += share * np.exp(-_KAPPA * (gap_fwhm * (1.0 - at)) ** 2)
    whole = seen / taken
    return (1.0 - share) * whole, share * whole


def beside_another(x_px: Floats, y_px: Floats, magnitudes: Floats, reach_px: float) -> Bools:
    """Which stars have another of the catalogue so near, and not so much fainter, that their
    centre is that of both.
    """
    one, other, _ = pairs_within(x_px, y_px, x_px, y_px, reach_px)
    with np.errstate(invalid="ignore"):
        matters = (one != other) & (magnitudes[other] - magnitudes[one] < _FAINTER_MAG)
    found = np.zeros(x_px.size, bool)
    found[one[matters]] = True
    return found


def seconds_of(
    x_px: Floats, y_px: Floats, owners: Ints, first: float, last: float
) -> tuple[Ints, Ints, Floats]:
    """Stars that are the only one beside one of the ``owners`` (places in x_px, y_px), between
    ``first`` and ``last`` pixels away: which they are, beside which of the owners (places among
    these), and how far away.
    """
    rest = np.setdiff1d(np.arange(x_px.size), owners)
    near, gap = nearest(x_px[rest], y_px[rest], x_px[owners], y_px[owners], last)
    beside = np.flatnonzero(near >= 0)
    alone = np.bincount(near[beside], minlength=owners.size)[near[beside]] == 1
    beside = beside[alone & (gap[beside] > first)]
    return rest[beside], near[beside], gap[beside]
