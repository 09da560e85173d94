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
        places[n] = _centre(places[n], gaps[n])


@njit(cache=True, nogil=True, error_model="numpy")
def _centre(share, gap):  # type: ignore[no-untyped-def]
    place = share
    for _ in range(_TURNS):
        first = (1.0 - share) * np.exp(-_KAPPA * (gap * place) ** 2)
        second = share * np.exp(-_KAPPA * (gap * (1.0 - place)) ** 2)
        place = second / (first + second)
    return place


def share_of(place: Floats, gap_fwhm: Floats) -> Floats:
    """The second star's share of the light by where the centre of both lies."""
    share = np.array(place, float)
    _share(share, flat(gap_fwhm))
    return share


@njit(cache=True, nogil=True)
def _share(places, gaps):  # type: ignore[no-untyped-def]
    """Places made into shares."""
    for n in range(places.size):
        places[n] = _share_at(places[n], gaps[n])


@njit(cache=True, nogil=True)
def _share_at(place, gap):  # type: ignore[no-untyped-def]
    inside = min(max(place, 0.0), 1.0 - 1e-9)
    odds = inside / (1.0 - inside) * np.exp(_KAPPA * gap**2 * (1.0 - 2.0 * inside))
    return odds / (1.0 + odds)


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
    light = np.empty((3, pair.seen.size))
    _part(
        flat(pair.found), flat(pair.error_fwhm), flat(pair.gap_fwhm), flat(pair.first),
        flat(pair.second), flat(pair.seen), flat(pair.varies), light,
    )  # fmt: skip
    return Shared(*light)


@njit(cache=True, nogil=True, error_model="numpy")
def _whole(share, gap, seen):  # type: ignore[no-untyped-def]
    """The light of both, if the second has that share: beside the middle of the window either
    counts by less.
    """
    at = _centre(share, gap)
    taken = (1.0 - share) * np.exp(-_KAPPA * (gap * at) ** 2)
    taken += share * np.exp(-_KAPPA * (gap * (1.0 - at)) ** 2)
    return seen / taken


@njit(cache=True, nogil=True)
def _between(value):  # type: ignore[no-untyped-def]
    """From 0 to 1, NaN as it is."""
    return 0.0 if value < 0.0 else 1.0 if value > 1.0 else value


@njit(cache=True, nogil=True, error_model="numpy")
def _part(found, errors, gaps, firsts, seconds, seen, varies, light):  # type: ignore[no-untyped-def]
    """Fill in ``light`` (3, pairs): of the first, of the second, and how unsure either is."""
    shares, away = np.empty(4), np.empty(4)
    for n in range(found.size):
        gap, first, second = gaps[n], firsts[n], seconds[n]
        sure = np.hypot(errors[n], _PLACE_FWHM) / gap
        limit = _UNLIKE * sure if sure < _MOST_UNSURE else np.inf
        # Both constant; the first varies; the second varies; there is no second.
        shares[0], shares[1], shares[2], shares[3] = second / (first + second), 0.0, 0.0, 0.0
        for _ in range(_ROUNDS):
            shares[1] = _between(second / _whole(shares[1], gap, seen[n]))
            shares[2] = _between(1.0 - first / _whole(shares[2], gap, seen[n]))
        for k in range(4):
            known = np.isfinite(shares[k])
            away[k] = abs(found[n] - _centre(shares[k], gap)) if known else np.inf
        usual = 0 if varies[n] == 0.0 else 1 if varies[n] < 0.0 else 2
        best = usual if away[usual] <= limit else np.argmin(away)
        share = shares[best] if away[best] <= limit else _share_at(found[n], gap)
        share = share if np.isfinite(share) else 0.0
        whole = _whole(share, gap, seen[n])
        off = min(abs(found[n] - _centre(share, gap)), _UNLIKE * sure)
        light[0, n], light[1, n] = (1.0 - share) * whole, share * whole
        light[2, n] = max(off - sure, 0.0) * whole


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
    other = np.ones(x_px.size, bool)
    other[owners] = False
    rest = np.flatnonzero(other)
    near, gap = nearest(x_px[rest], y_px[rest], x_px[owners], y_px[owners], last)
    beside = np.flatnonzero(near >= 0)
    only = np.bincount(near[beside], minlength=owners.size)[near[beside]] == 1
    beside = beside[only & (gap[beside] > first)]
    return rest[beside], near[beside], gap[beside]
