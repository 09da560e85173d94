"""What of a star's light falls into the aperture and the ring of another star."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import ANY_ORDER, njit
from narrow_beacon.core.arrays import Bools, Floats, Ints, flat
from narrow_beacon.core.measure.neighbours import ONE_STAR_FWHM, TOLD_APART_FWHM, Neighbours
from narrow_beacon.core.measure.spread import REACH_FWHM, Spread
from narrow_beacon.core.stars.nearest import pairs_within

_MATTERS = 3e-4
"""Share of a star's light below which a neighbour is passed over."""
_MATTERS_CLOSE = 0.02
_CLIPPED_SIGMA = 3.0
_TURNS = 8
_ANGLES = 32
_RING_RADII = 10
_NODE_STEPS = 8
_PIECE_PX = 0.4


@dataclass(frozen=True)
class Overlaps:
    """Where light of one star falls on another: ``star`` (pairs) of the census, ``other`` (pairs)
    of its neighbours, how far they are apart, and the ``share`` (pairs, radii) of the neighbour's
    light that is in the star's aperture sums, after what it adds to the ring is taken off with the
    sky; ``through_ring`` (pairs, radii) is that alone, as a positive number.
    """

    star: Ints
    other: Ints
    gap_px: Floats
    share: Floats
    through_ring: Floats

    @property
    def both_ways(self) -> Floats:
        """What comes in by the aperture and what goes off by the ring, together: an error of the
        profile may be in either, and does not cancel as they do.
        """
        return np.abs(self.share + self.through_ring) + self.through_ring

    def light(self, flux_adu: Floats, stars: int) -> Floats:
        """The neighbours' light in each star's sums, (stars, radii), for ``flux_adu`` (neighbours)
        of each.
        """
        light = np.zeros((stars, self.share.shape[1]))
        _add_light(self.star, self.other, self.share, flat(flux_adu), light)
        return light


@njit(cache=True, nogil=True)
def _add_light(star, other, share, fluxes, light):  # type: ignore[no-untyped-def]
    for p in range(star.size):
        flux = fluxes[other[p]]
        for k in range(share.shape[1]):
            light[star[p], k] += flux * share[p, k]


def overlaps(
    x_px: Floats,
    y_px: Floats,
    own_adu: Floats,
    noise_adu: Floats,
    beside: Neighbours,
    spread: Spread,
    radii_px: Floats,
    annulus_px: tuple[float, float],
    fwhm_px: float,
) -> Overlaps:
    """Which neighbours' light falls on which stars, and what share of it, at each radius.

    ``own_adu`` (stars) is each star's own light; neighbours that matter less than 0.03% of it are
    passed over. ``noise_adu`` (stars) is the sky's a pixel, beyond three times which the ring's
    clipping leaves out what a neighbour adds.
    """
    radii = np.asarray(radii_px, float)
    nothing, no_share = np.empty(0, int), np.empty((0, radii.size))
    if not x_px.size or not beside.x_px.size:
        return Overlaps(nothing, nothing, np.empty(0), no_share, no_share)
    one, other, gap = pairs_within(x_px, y_px, beside.x_px, beside.y_px, REACH_FWHM * fwhm_px)
    count = _that_matter(
        one, other, gap, beside.star, flat(beside.flux_adu), flat(own_adu), spread.seen,
        spread.step_px, float(radii[-1]), ONE_STAR_FWHM * fwhm_px,
    )  # fmt: skip
    one, other, gap = one[:count], other[:count], gap[:count]
    if not one.size:
        return Overlaps(nothing, nothing, np.empty(0), no_share, no_share)
    clipped = _CLIPPED_SIGMA * noise_adu[one] / np.maximum(beside.flux_adu[other], 1e-9)
    aperture, ring = _shares(
        gap, beside.masked_px[other], clipped, spread.seen, spread.step_px, radii, *annulus_px
    )
    return Overlaps(one, other, gap, aperture - ring, ring)


@njit(cache=True, nogil=True)
def _that_matter(one, other, gap, star_of, fluxes, own, seen, step, largest, one_star):  # type: ignore[no-untyped-def]
    """Put the pairs that matter before the others; how many they are."""
    count, last = 0, seen.size - 1
    for p in range(one.size):
        n, k, away = one[p], other[p], gap[p]
        if away <= one_star or star_of[k] == n:
            continue
        # The most that it can add: as if all of the aperture were as near as the nearest point.
        at = min(int(max(away - largest, 0.0) / step), last)
        most = min(seen[at] * np.pi * largest**2, 1.0) * fluxes[k]
        if most > _MATTERS * max(own[n], 1.0):
            one[count], other[count], gap[count] = n, k, away
            count += 1
    return count


def parted_light(
    over: Overlaps, beside: Neighbours, counts_adu: Floats, own_share: float, step: int,
    measured: Bools, fwhm_px: float,
) -> Floats:  # fmt: skip
    """The light in ADU of each neighbour, (neighbours), once what stars add to one another is told
    apart: that of ``measured`` (stars) from their own aperture sums ``counts_adu`` (stars) at the
    radius ``step``, of which a star alone would hold ``own_share``; of others as the catalogue has
    it, else as it was found, which may be the light of two.

    The sums are linear in the stars' light, so that they are solved by turns (Jacobi). Stars within
    a width of each other can't be told apart by apertures: the catalogue's brightness says which
    part each has of what was found.
    """
    own = np.flatnonzero(beside.star >= 0)
    flux = beside.flux_adu.copy()
    guessed = own[~measured[beside.star[own]] & np.isfinite(beside.expected_adu[own])]
    flux[guessed] = beside.expected_adu[guessed]
    shares = np.ascontiguousarray(over.share[:, step])
    close = over.gap_px < TOLD_APART_FWHM * fwhm_px
    weighty = shares * flux[over.other] > _MATTERS_CLOSE * np.maximum(
        own_share * flux[over.star], 1.0
    )
    apart = measured.copy()
    apart[over.star[close & weighty]] = False
    free = own[apart[beside.star[own]]]
    _part(over.star, over.other, shares, flat(counts_adu), own_share, free, beside.star, flux)
    return flux


@njit(cache=True, nogil=True, error_model="numpy")
def _part(star, other, shares, counts, own_share, free, star_of, flux):  # type: ignore[no-untyped-def]
    """Tell the light of the ``free`` neighbours by turns."""
    theirs = np.empty(counts.size)
    for _ in range(_TURNS):
        theirs[:] = 0.0
        for p in range(star.size):
            theirs[star[p]] += shares[p] * flux[other[p]]
        for n in free:
            flux[n] = max((counts[star_of[n]] - theirs[star_of[n]]) / own_share, 0.0)


@njit(inline="always")
def _few(rho, gap):  # type: ignore[no-untyped-def]
    """How many times the angles are halved: a sum of n of them about a circle of radius ρ errs by
    some (ρ / gap)²ⁿ of a neighbour's light, whose mean over far circles is as sure by few.
    """
    if rho < 0.45 * gap:
        return 2
    return 1 if rho < 0.75 * gap else 0


@njit(cache=True, nogil=True)
def _shares(gaps, masks, clipped, brightness, step, radii, inner, outer):  # type: ignore[no-untyped-def]
    apertures, rings = np.empty((gaps.size, radii.size)), np.empty((gaps.size, radii.size))
    cosines = np.zeros((3, _ANGLES), np.float32)
    for n in range(3):
        many = _ANGLES >> n
        for k in range(many):
            cosines[n, k] = np.cos((k + 0.5) * np.pi / many)
    # Of 32 bits the processor takes twice as many at once; it errs by a millionth of the light.
    table = brightness.astype(np.float32)
    last, finer = brightness.size - 1, 1.0 / step
    # By the neighbour's distance alone, at nodes; between them by cubics.
    spacing = _NODE_STEPS * step
    nodes = _apertures_at(spacing, table, finer, radii, cosines)
    whole = np.empty(nodes.shape[0])
    for n in range(whole.size):
        whole[n] = _ring_of(n * spacing, 0.0, np.inf, table, finer, inner, outer, cosines)
    for p in range(gaps.size):
        gap = gaps[p]
        at = min(gap / spacing, nodes.shape[0] - 3.0)
        node = max(int(at), 1)
        f = at - node
        before, here, there, after = nodes[node - 1], nodes[node], nodes[node + 1], nodes[node + 2]
        close = max(max(gap - outer, inner - gap), 0.0)
        if close > masks[p] and brightness[min(int(close * finer), last)] < clipped[p]:
            # Nothing of the ring is left out.
            ring = whole[node] + f * (whole[node + 1] - whole[node])
        else:
            ring = _ring_of(gap, masks[p], clipped[p], table, finer, inner, outer, cosines)
        for m in range(radii.size):
            # Catmull and Rom's: the slope at a node is that between its neighbours.
            rise, next_rise = 0.5 * (there[m] - before[m]), 0.5 * (after[m] - here[m])
            jump = there[m] - here[m]
            bend = 3.0 * jump - 2.0 * rise - next_rise
            apertures[p, m] = here[m] + f * (
                rise + f * (bend + f * (rise + next_rise - 2.0 * jump))
            )
            rings[p, m] = np.pi * radii[m] ** 2 * ring
    return apertures, rings


@njit(cache=True, nogil=True, fastmath=ANY_ORDER)
def _ring_of(gap, mask, clipped, brightness, finer, inner, outer, cosines):  # type: ignore[no-untyped-def]
    """Mean light of a star in a ring ``gap`` away, where it is neither masked nor clipped, by
    tables of 32 bits.
    """
    last, half, per_px = np.int32(brightness.size - 1), np.float32(0.5), np.float32(finer)
    nearest, brightest = np.float32(mask), np.float32(clipped)
    nothing, one = np.float32(0.0), np.float32(1.0)
    total, count = 0.0, 0.0
    for j in range(_RING_RADII):
        rho = inner + (j + 0.5) * (outer - inner) / _RING_RADII
        few = _few(rho, gap)
        many = _ANGLES >> few
        far, twice = np.float32(rho * rho + gap * gap), np.float32(2.0 * rho * gap)
        light, seen = nothing, nothing
        for k in range(many):
            d = np.sqrt(far - twice * cosines[few, k])
            here = brightness[np.uint32(min(np.int32(d * per_px + half), last))]
            inside = (d > nearest) & (here < brightest)
            light += here if inside else nothing
            seen += one if inside else nothing
        total += light * rho / many
        count += seen * rho / many
    return total / count if count > 0.0 else 0.0


@njit(cache=True, nogil=True, fastmath=ANY_ORDER)
def _apertures_at(spacing, brightness, finer, radii, cosines):  # type: ignore[no-untyped-def]
    """Light of a star in apertures at multiples of ``spacing`` from it, (nodes, radii), by tables
    of 32 bits.
    """
    last, half, per_px = np.int32(brightness.size - 1), np.float32(0.5), np.float32(finer)
    nodes = np.empty(((brightness.size - 1) // _NODE_STEPS + 3, radii.size))
    for n in range(nodes.shape[0]):
        gap, light, begin = n * spacing, 0.0, 0.0
        for m in range(radii.size):
            # From each radius to the next.
            pieces = max(2, int((radii[m] - begin) / _PIECE_PX) + 1)
            width = (radii[m] - begin) / pieces
            for j in range(pieces):
                rho = begin + (j + 0.5) * width
                few = _few(rho, gap)
                far, twice = np.float32(rho * rho + gap * gap), np.float32(2.0 * rho * gap)
                many, mean = _ANGLES >> few, np.float32(0.0)
                for k in range(many):
                    d = np.sqrt(far - twice * cosines[few, k])
                    mean += brightness[np.uint32(min(np.int32(d * per_px + half), last))]
                light += 2.0 * np.pi * rho * width * mean / many
            begin = radii[m]
            nodes[n, m] = light
    return nodes
