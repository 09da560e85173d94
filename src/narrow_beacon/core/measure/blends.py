"""Two stars of the catalogue where one was found: which of its light is whose, by its centre.

The windowed centre of two stars as one lies where each draws it by its light within the window,

    p = f e^(−κ g² (1 − p)²) / (f e^(−κ g² (1 − p)²) + (1 − f) e^(−κ g² p²)),

p and f being the second's share of the way and of the light, g their distance in star widths. For a
Gaussian star in a window of its own width κ = 2 ln 2; for stars with wings it is a little less.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Bools, Floats, Ints, flat
from narrow_beacon.core.stars.nearest import nearest, pairs_within

_KAPPA = 1.2
_TURNS = 12
_PLACE_FWHM = 0.03
"""By which catalogue and alignment may be wrong on where a star is, in star widths."""
_UNLIKE = 3.0
_ROUNDS = 6
_MOST_UNSURE = 0.25
_FAINTER_MAG = 3.5
"""Of 4% of the light a star is hardly drawn away."""


def centre_of(share: Floats, gap_fwhm: Floats) -> Floats:
    """Where between two stars the centre of both lies, 0 at the first and 1 at the second, for the
    second's ``share`` of their light.
    """
    place = np.array(share, float)
    _draw(place, flat(gap_fwhm))
    return place


@njit(cache=True, nogil=True, error_model="numpy")
def _draw(places, gaps):  # type: ignore[no-untyped-def]
    """Shares made into places."""
    for n in range(places.size):
        share, gap = places[n], gaps[n]
        for _ in range(_TURNS):
            first = (1.0 - share) * np.exp(-_KAPPA * (gap * places[n]) ** 2)
            second = share * np.exp(-_KAPPA * (gap * (1.0 - places[n])) ** 2)
            places[n] = second / (first + second)


def share_of(place: Floats, gap_fwhm: Floats) -> Floats:
    """The second star's share of the light by where the centre of both lies."""
    inside = np.clip(place, 0.0, 1.0 - 1e-9)
    odds = inside / (1.0 - inside) * np.exp(_KAPPA * gap_fwhm**2 * (1.0 - 2.0 * inside))
    return np.asarray(odds / (1.0 + odds))


@dataclass(frozen=True)
class Pair:
    """Catalogue stars found as one (pairs): where between them the centre was ``found``, 0 at the
    first and 1 at the second, to ``error_fwhm`` star widths; their distance; the light of each by
    the catalogue, NaN where it says none; ``seen``, what the filter takes for the light of one star
    there; and ``varies``, −1 where only the first is known to vary, 1 where only the second is.
    """

    found: Floats
    error_fwhm: Floats
    gap_fwhm: Floats
    first: Floats
    second: Floats
    seen: Floats
    varies: Ints

    def whole(self, share: Floats) -> Floats:
        """The light of both, if the second has that share: beside the middle of the window either
        counts by less.
        """
        at = centre_of(share, self.gap_fwhm)
        taken = (1.0 - share) * np.exp(-_KAPPA * (self.gap_fwhm * at) ** 2)
        taken += share * np.exp(-_KAPPA * (self.gap_fwhm * (1.0 - at)) ** 2)
        return np.asarray(self.seen / taken)

    def away(self, share: Floats) -> Floats:
        """How far the centre is from where that share would have it, of the way."""
        return np.asarray(np.abs(self.found - centre_of(share, self.gap_fwhm)))


@dataclass(frozen=True)
class Shared:
    """Light of first and second stars (pairs), and by how much either may be wrong."""

    first: Floats
    second: Floats
    unsure: Floats


def light_of_both(pair: Pair) -> Shared:
    """The light of each. Of two constant stars each has its share by the catalogue; where one is
    known to vary, the other has its light by the catalogue and the one that varies the rest. If the
    centre is more than three of its errors from where that would have it, one varies after all or
    there is no second star: whichever of these brings it nearest to where it was found. If none
    does, the catalogue can't be right, and each has what the centre says.
    """
    sure = np.hypot(pair.error_fwhm, _PLACE_FWHM) / pair.gap_fwhm
    limit = np.where(sure < _MOST_UNSURE, _UNLIKE * sure, np.inf)
    none = np.zeros(pair.seen.size)
    first_varies, second_varies = none, none
    for _ in range(_ROUNDS):
        first_varies = np.clip(pair.second / pair.whole(first_varies), 0.0, 1.0)
        second_varies = np.clip(1.0 - pair.first / pair.whole(second_varies), 0.0, 1.0)
    both = pair.second / (pair.first + pair.second)
    shares = np.nan_to_num([both, first_varies, second_varies, none])
    away = np.array([pair.away(share) for share in shares])
    away[:3][~np.isfinite([both, first_varies, second_varies])] = np.inf
    at = np.arange(none.size)
    usual = np.choose(pair.varies + 1, [1, 0, 2])
    best = np.where(away[usual, at] <= limit, usual, np.argmin(away, axis=0))
    share = np.where(away[best, at] <= limit, shares[best, at], share_of(pair.found, pair.gap_fwhm))
    whole = pair.whole(share)
    return Shared(
        (1.0 - share) * whole, share * whole,
        np.maximum(np.minimum(pair.away(share), _UNLIKE * sure) - sure, 0.0) * whole,
    )  # fmt: skip


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
