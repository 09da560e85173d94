"""How a star's light spreads on an exposure, wings and all, and what of it falls into the aperture
and the ring of another star.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.compiled import ANY_ORDER, njit
from narrow_beacon.core.arrays import Bools, Flags, Floats, Ints, Plane, flat
from narrow_beacon.core.correct.apply import SPOILED
from narrow_beacon.core.measure.blends import Pair, light_of_both, seconds_of
from narrow_beacon.core.stars.detect import Detections
from narrow_beacon.core.stars.nearest import nearest, owners_of, pairs_within
from narrow_beacon.core.stars.profile import StarProfile, total_light

REACH_FWHM = 14.0
_STEPS = 1024
_WING_FROM_FWHM, _WING_TO_FWHM, _WING_RINGS = 2.0, 8.0, 8
_WING_EDGES_FWHM = np.geomspace(_WING_FROM_FWHM, _WING_TO_FWHM, _WING_RINGS + 1)
_WING_STARS = 8
_HOLLOW_RINGS = 12
_WING_SIGNIFICANCE = 3.0
_MATTERS = 3e-4
"""Share of a star's light below which a neighbour is passed over."""
_SAME_STAR_FWHM = 0.8
ONE_STAR_FWHM = 0.3
"""Stars of the catalogue that are nearer to one another are measured as one."""
TOLD_APART_FWHM = 1.0
"""Stars nearer to one another are found as one."""
_MATTERS_CLOSE = 0.02
_CLIPPED_SIGMA = 3.0
_TURNS = 8
_ANGLES = 32
_RING_RADII = 10
_LEAST_SPREAD = 0.2
"""Of its middle, where stars are so narrow that two orders do not do."""
_NODE_STEPS = 8
_PIECE_PX = 0.4


@dataclass(frozen=True)
class Spread:
    """Surface brightness of a star of one ADU at ``step_px`` · (0, 1, 2, …) from its centre, as it
    falls on the sensor; ``seen`` as aperture sums see it, which pixels spread out further; its
    share of ``seen`` within any distance is in ``within``.
    """

    brightness: Floats
    step_px: float
    seen: Floats
    within: Floats

    def share(self, radius_px: float) -> float:
        """Share of the light within a radius of the centre."""
        return self._at(self.within, radius_px)

    def seen_at(self, radius_px: float) -> float:
        """Surface brightness at a distance from the centre, as aperture sums see it."""
        return self._at(self.seen, radius_px)

    def _at(self, values: Floats, radius_px: float) -> float:
        place = min(max(radius_px / self.step_px, 0.0), values.size - 1.0)
        at = min(int(place), values.size - 2)
        return float(values[at] + (place - at) * (values[at + 1] - values[at]))


def spread_of(
    profile: StarProfile, pixels: Plane, flags: Flags, stars: Detections, sky_adu: Floats,
    pixel_px: float = 1.0,
) -> Spread:  # fmt: skip
    """The profile that was fitted within two widths, and beyond it the wings as measured around the
    brightest stars, where they can be told from the sky.

    ``sky_adu`` is the sky at each star, ``pixel_px`` the side of a pixel that sees light, over the
    distance from one to the next.
    """
    fwhm = profile.fwhm_px
    step = REACH_FWHM * fwhm / _STEPS
    r = np.arange(_STEPS + 1) * step
    alpha = fwhm / (2.0 * np.sqrt(2.0 ** (1.0 / profile.beta) - 1.0))
    u = (r / alpha) ** 2
    brightness = (profile.beta - 1.0) / (np.pi * alpha**2) * (1.0 + u) ** -profile.beta
    # Spread once more by the pixel that sees it and by the one that an aperture cuts: to second
    # order a mean over a pixel is f + ∇²f / 24, of which ∇²f is that of a Moffat function.
    bend = 4.0 * profile.beta / alpha**2 * (pixel_px**2 + 1.0) / 24.0
    out = 1.0 + bend / (1.0 + u) * ((profile.beta + 1.0) * u / (1.0 + u) - 1.0)
    out = np.maximum(out, _LEAST_SPREAD)
    edges = fwhm * _WING_EDGES_FWHM
    if profile.hollow:  # no bell describes the inner part either
        edges = np.concatenate([fwhm * np.linspace(0.0, 1.9, _HOLLOW_RINGS), edges])
    bright = stars.take(np.arange(min(_WING_STARS, len(stars))))
    # Each star's light from its own pixels within two widths, of which the profile has a share; of
    # one out of focus or with spoiled pixels from what the filter took for it.
    core = _WING_FROM_FWHM * fwhm
    share = 1.0 - (1.0 + (core / alpha) ** 2) ** (1.0 - profile.beta)
    found = total_light(bright, profile)
    rings, errors = _wings(
        pixels, flags, bright.x_px, bright.y_px, found, sky_adu[: len(bright)], edges,
        0.0 if profile.hollow else core, share,
    )  # fmt: skip
    middle = 0.5 * (edges[1:] + edges[:-1])
    fitted = np.interp(middle, r, 0.5 * (1.0 + out) * brightness)  # as single pixels see it
    with np.errstate(invalid="ignore", divide="ignore"):
        sure = np.isfinite(rings) & (np.abs(rings - fitted) > _WING_SIGNIFICANCE * errors)
        factor = np.where(sure, np.clip(rings / fitted, 0.01, 30.0), 1.0)
    # From one ring to the next smoothly, and as at the last beyond it.
    first = 1.0 if edges[0] > 0 else factor[0]
    brightness *= np.interp(r, [0.9 * edges[0], *middle], [first, *factor])
    brightness, _ = _of_one_adu(brightness, r, profile.beta)
    return Spread(brightness, step, *_of_one_adu(brightness * out, r, profile.beta))


def _of_one_adu(brightness: Floats, r: Floats, beta: float) -> tuple[Floats, Floats]:
    """A surface brightness of one ADU in all, and its share within each distance."""
    within = np.zeros(r.size)
    _add_rings(brightness, r, within)
    # What lies beyond the last step still counts as the star's.
    total = within[-1] + brightness[-1] * np.pi * r[-1] ** 2 / max(beta - 1.0, 0.5)
    return brightness / total, within / total


@njit(cache=True, nogil=True)
def _add_rings(brightness, r, within):  # type: ignore[no-untyped-def]
    """Fill in the light within each distance."""
    for n in range(1, r.size):
        inner, outer = r[n - 1] * brightness[n - 1], r[n] * brightness[n]
        within[n] = within[n - 1] + np.pi * (inner + outer) * (r[n] - r[n - 1])


@njit(cache=True, nogil=True)
def _wings(pixels, flags, xs, ys, fluxes, skies, edges, core, share):  # type: ignore[no-untyped-def]
    """Median surface brightness per ADU of stars in rings, and its uncertainty over the stars.
    Their light is what lies within ``core``, ``share`` of it all, where that is whole, else
    ``fluxes``.
    """
    height, width = pixels.shape
    rings = edges.size - 1
    each = np.full((xs.size, rings), np.nan)
    reach = int(edges[rings]) + 1
    values = np.empty((rings, (2 * reach + 1) ** 2))
    squares, inside2 = edges**2, (core + 0.5) ** 2
    # The ring in which each whole number of r² is, from which it is at most a few more.
    ring = np.searchsorted(squares, np.arange(squares[rings] + 1.0), side="right") - 1
    for n in range(xs.size):
        counts = np.zeros(rings, np.int64)
        inner, spoiled = 0.0, core <= 0.0
        for y in range(max(0, int(ys[n]) - reach), min(height, int(ys[n]) + reach + 1)):
            for x in range(max(0, int(xs[n]) - reach), min(width, int(xs[n]) + reach + 1)):
                r2 = (x - xs[n]) ** 2 + (y - ys[n]) ** 2
                if r2 < inside2:
                    # A pixel on the edge counts by about how much of it is inside.
                    part = min(core + 0.5 - np.sqrt(r2), 1.0)
                    inner += part * (pixels[y, x] - skies[n])
                    spoiled = spoiled or (flags[y, x] & SPOILED) != 0
                if r2 < squares[0] or r2 >= squares[rings] or flags[y, x] & SPOILED:
                    continue
                k = max(ring[int(r2)], 0)
                while r2 >= squares[k + 1]:
                    k += 1
                values[k, counts[k]] = pixels[y, x] - skies[n]
                counts[k] += 1
        light = fluxes[n] if spoiled or inner <= 0.0 else inner / share
        for k in range(rings):
            if counts[k] > 8:
                each[n, k] = np.median(values[k, : counts[k]]) / light
    middle, error = np.full(rings, np.nan), np.full(rings, np.inf)
    for k in range(rings):
        good = each[:, k][np.isfinite(each[:, k])]
        if good.size >= 3:
            middle[k] = np.median(good)
            spread = 1.4826 * np.median(np.abs(good - middle[k]))
            error[k] = 1.2533 * spread / np.sqrt(good.size)
    return middle, error


@dataclass(frozen=True)
class Neighbours:
    """Everything that shines beside the stars of a census: places, light in ADU, and that by the
    catalogue's magnitude (NaN without), the radius within which each is masked out of rings, which
    star of the census it is, −1 for none, and by how much its light may be that of another that was
    found as one with it.
    """

    x_px: Floats
    y_px: Floats
    flux_adu: Floats
    expected_adu: Floats
    masked_px: Floats
    star: Ints
    unsure_adu: Floats


def neighbours_of(
    x_px: Floats,
    y_px: Floats,
    expected_adu: Floats,
    found: Detections,
    found_adu: Floats,
    saturated: Bools,
    mask_px: Floats,
    fwhm_px: float,
    moved_px: tuple[Floats, Floats] | None = None,
    varies: Bools | None = None,
) -> Neighbours:
    """The stars of the catalogue, and those found that it lacks. Where two of the catalogue were
    found as one, its centre says what is whose (``blends``); ``moved_px`` (stars) is how far x_px,
    y_px are from where the catalogue has them, ``varies`` (stars) which are known to vary.

    ``expected_adu`` (stars of the catalogue) is the light by the catalogue's magnitude, NaN where
    it gives none; ``found_adu`` and ``mask_px`` (stars found) are the light as found and the masks'
    radii, ``saturated`` says whose light is more than was found. Within a width of a star
    that was not found the ring's clipping sees to it. A star that neither was found nor has a
    magnitude has no light.
    """
    flux = np.asarray(found_adu, float)
    stars = np.fmax(expected_adu, 0.0)  # 0 for NaN
    masks = np.full(x_px.size, fwhm_px)
    unsure = np.zeros(x_px.size)
    other = np.ones(len(found), bool)
    if len(found) and x_px.size:
        near, away = nearest(x_px, y_px, found.x_px, found.y_px, _SAME_STAR_FWHM * fwhm_px)
        owner = owners_of(near, away, len(found))
        at = np.flatnonzero(owner >= 0)
        owners = owner[at]
        other[at] = False
        one = ~saturated[at]
        blended = _blended(
            (x_px - moved_px[0], y_px - moved_px[1]) if moved_px else (x_px, y_px),
            owners[one], at[one], expected_adu, found, flux, fwhm_px,
            np.zeros(x_px.size, bool) if varies is None else varies,
        )  # fmt: skip
        more = saturated[at] & (stars[owners] > flux[at])
        stars[owners] = np.where(more, stars[owners], flux[at])
        masks[owners] = mask_px[at]
        if blended.star.size:
            # What was found is neither's own: each has its part, where the catalogue has it.
            x_px, y_px, expected_adu = x_px.copy(), y_px.copy(), expected_adu.copy()
            x_px[blended.star], y_px[blended.star] = blended.x_px, blended.y_px
            stars[blended.star] = expected_adu[blended.star] = blended.flux_adu
            unsure[blended.star] = blended.unsure_adu
    return Neighbours(
        np.concatenate([x_px, found.x_px[other]]),
        np.concatenate([y_px, found.y_px[other]]),
        np.concatenate([stars, flux[other]]),
        np.concatenate([expected_adu, np.full(int(other.sum()), np.nan)]),
        np.concatenate([masks, mask_px[other]]),
        np.concatenate([np.arange(x_px.size), np.full(int(other.sum()), -1)]),
        np.concatenate([unsure, np.zeros(int(other.sum()))]),
    )


@dataclass(frozen=True)
class _Blended:
    """Stars of the catalogue that were found as one with another, each with its place and light."""

    star: Ints
    x_px: Floats
    y_px: Floats
    flux_adu: Floats
    unsure_adu: Floats


def _blended(
    places: tuple[Floats, Floats], owners: Ints, at: Ints, expected_adu: Floats, found: Detections,
    found_adu: Floats, fwhm_px: float, varies: Bools,
) -> _Blended:  # fmt: skip
    """Both stars of every two, of which one is the owner of what was found (``at``)."""
    x, y = places
    seconds, of, gap = seconds_of(x, y, owners, ONE_STAR_FWHM * fwhm_px, TOLD_APART_FWHM * fwhm_px)
    first, here = owners[of], at[of]
    dx, dy = x[seconds] - x[first], y[seconds] - y[first]
    along = (found.x_px[here] - x[first]) * dx + (found.y_px[here] - y[first]) * dy
    light = light_of_both(
        Pair(
            along / gap**2, found.position_error_px(fwhm_px)[here] / fwhm_px, gap / fwhm_px,
            expected_adu[first], expected_adu[seconds], found_adu[here],
            varies[seconds].astype(int) - varies[first].astype(int),
        )
    )  # fmt: skip
    star = np.concatenate([first, seconds])
    return _Blended(
        star, x[star], y[star], np.concatenate([light.first, light.second]),
        np.concatenate([light.unsure, light.unsure]),
    )  # fmt: skip


def no_brighter(beside: Neighbours, most_adu: Floats) -> Neighbours:
    """The same, where stars of the census are no brighter than ``most_adu`` (stars): a catalogue
    may have stars that are not there.
    """
    most = np.full(beside.star.size, np.inf)
    known = beside.star >= 0
    most[known] = most_adu[beside.star[known]]
    return replace(
        beside,
        flux_adu=np.minimum(beside.flux_adu, most),
        expected_adu=np.minimum(beside.expected_adu, most),
    )


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


@njit(cache=True, nogil=True)
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
        cosines[n, :many] = np.cos((np.arange(many) + 0.5) * np.pi / many)
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
