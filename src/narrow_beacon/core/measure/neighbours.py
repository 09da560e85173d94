"""Everything that shines beside the stars that are measured, each with its light."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints
from narrow_beacon.core.measure.blends import Pair, light_of_both, seconds_of
from narrow_beacon.core.stars.detect import Detections
from narrow_beacon.core.stars.nearest import nearest, owners_of

_SAME_STAR_FWHM = 0.8
ONE_STAR_FWHM = 0.3
"""Stars of the catalogue that are nearer to one another are measured as one."""
TOLD_APART_FWHM = 1.0
"""Stars nearer to one another are found as one."""


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
