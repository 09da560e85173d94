"""Magnitudes on the standard scale: the zero points of stars reduced by their own colours, and the
target by its colour, known or measured in two filters.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.colour_terms import ColourTerms
from narrow_beacon.core.curve.ensemble import Ensemble, Rates, solve_ensemble
from narrow_beacon.core.curve.zero_points import rates_of
from narrow_beacon.core.measure.collection import FilterCensus

NEAR_D = 0.1
"""Between exposures of the other filter that a colour is interpolated over, in days."""
ALONE_D = 0.02
"""How far from a single exposure of the other filter its magnitude still stands, in days."""


@dataclass(frozen=True)
class Air:
    """Airmass of the target on exposures, and of comparison stars (exposures, stars)."""

    target: Floats
    stars: Floats


@dataclass(frozen=True)
class ColourlessSeries:
    """The target in one filter as a star of the colour ``zero_colour`` would be: ``magnitude`` and
    ``uncertainty`` (exposures). ``per_colour`` is what each magnitude of colour more adds.
    """

    jd: Floats
    magnitude: Floats
    uncertainty: Floats
    per_colour: Floats
    zero_colour: float
    ensemble: Ensemble


@dataclass(frozen=True)
class StandardSeries:
    """Magnitudes on the standard scale (exposures) with uncertainties; NaN where there is no
    colour. ``colour`` and ``colour_uncertainty`` (exposures) are those used; ``common_mag`` is the
    offset, the same for all of them, that the coefficient's uncertainty leaves.
    """

    magnitude: Floats
    uncertainty: Floats
    colour: Floats
    colour_uncertainty: Floats
    common_mag: float


def colourless(
    census: FilterCensus,
    step: int,
    stars: StarTable,
    terms: ColourTerms,
    rows: Sequence[int],
    target: tuple[Floats, Floats],
    jd: Floats,
    air: Air,
) -> ColourlessSeries | None:
    """The target's magnitudes with zero points that hold for one colour: every comparison star
    (``rows``, of which ``air.stars`` has the airmass) is brought to it by its own colour, and to
    the target's airmass by its own. ``target`` is its instrumental magnitude with the uncertainty
    (exposures). None where no comparison star's colour is known.
    """
    colour = terms.index.of(stars)[list(rows)]
    known = np.flatnonzero(np.isfinite(colour))
    if terms.transform is None or known.size == 0:
        return None
    named = [rows[i] for i in known.tolist()]
    colour = colour[known]
    zero_colour = float(np.mean(colour))
    away = colour - zero_colour
    few = census.at_radius(step, np.searchsorted(census.rows, sorted(named)))
    columns = np.searchsorted(few.rows, named)
    rates = rates_of(few, 0, columns)
    first = 0.0 if terms.extinction is None else terms.extinction.value
    own, theirs = np.nan_to_num(air.target), np.nan_to_num(air.stars[:, known])
    # What the air does to a star beyond what it does to one of the middle colour, where the target
    # is.
    dims = (
        first * (theirs - own[:, None]) - (terms.at(theirs) - terms.transform.value) * away[None, :]
    )
    brighter = 10.0 ** (0.4 * dims)
    reduced = Rates(rates.rate * brighter, rates.uncertainty * brighter, rates.per_rate)
    of = stars.bands[terms.band]
    slope = terms.transform.value
    sigma = np.sqrt(
        np.maximum(
            of.uncertainty[named] ** 2 + (slope * terms.index.uncertainty(stars)[named]) ** 2
            - 2.0 * slope * terms.index.shared(stars, terms.band)[named], 1e-8,
        )
    )  # fmt: skip
    ensemble = solve_ensemble(
        reduced, few.usable(0)[:, columns], of.magnitude[named] - slope * away, sigma
    )
    magnitude, noise = target
    total = np.sqrt(noise**2 + ensemble.extra_mag**2 + ensemble.zero_point_uncertainty**2)
    return ColourlessSeries(
        jd, magnitude + ensemble.zero_point, total, terms.at(own), zero_colour, ensemble
    )


def with_colour(
    series: ColourlessSeries, terms: ColourTerms, colour: float, uncertainty: float
) -> StandardSeries:
    """By a colour that is known, and the same all the time: its uncertainty is common to all."""
    away = colour - series.zero_colour
    there = np.isfinite(series.magnitude)
    slope = terms.transform.uncertainty if terms.transform else 0.0
    usual = float(np.median(series.per_colour)) if there.any() else 0.0
    return StandardSeries(
        series.magnitude + series.per_colour * away, series.uncertainty,
        np.where(there, colour, np.nan), np.where(there, uncertainty, np.nan),
        float(np.hypot(away * slope, usual * uncertainty)),
    )  # fmt: skip


def with_other(
    series: ColourlessSeries,
    terms: ColourTerms,
    other: ColourlessSeries,
    other_terms: ColourTerms,
    sure: Bools,
    nights: Sequence[int],
    other_nights: Sequence[int],
) -> StandardSeries:
    """By the target's own colour, from its magnitudes in the index's other filter, interpolated in
    time between the exposures before and after of the same night; ``sure`` says which of these
    count.

    Both filters' magnitudes and the colour are solved for together (the colour enters both), and
    the uncertainty is that of the solution.
    """
    bluer = terms.band == terms.index.bluer
    sign = 1.0 if bluer else -1.0
    theirs, their_variance = _interpolated(series, other, sure, nights, other_nights)
    mine, per_theirs = series.per_colour, _per_colour_then(series, other, other_terms)
    # colour = ± (mine − theirs), each of them at that colour.
    below = 1.0 - sign * (mine - per_theirs)
    with np.errstate(invalid="ignore", divide="ignore"):
        colour = (
            sign * (series.magnitude - theirs)
            - sign * (mine * series.zero_colour - per_theirs * other.zero_colour)
        ) / below
        own, of_other = 1.0 + sign * mine / below, -sign * mine / below
    variance = series.uncertainty**2
    away = colour - series.zero_colour
    slopes = [t.transform.uncertainty if t.transform else 0.0 for t in (terms, other_terms)]
    there = np.isfinite(colour)
    common = 0.0
    if there.any():
        middle = int(np.flatnonzero(there)[there.sum() // 2])
        usual = float(np.median(away[there]))
        theirs_away = float(np.median(colour[there])) - other.zero_colour
        common = float(
            np.hypot(own[middle] * usual * slopes[0], of_other[middle] * theirs_away * slopes[1])
        )
    return StandardSeries(
        series.magnitude + mine * away,
        np.sqrt(own**2 * variance + of_other**2 * their_variance),
        colour, np.sqrt(variance + their_variance) / np.abs(below), common,
    )  # fmt: skip


def _per_colour_then(
    series: ColourlessSeries, other: ColourlessSeries, terms: ColourTerms
) -> Floats:
    """What a colour adds in the other filter at this one's moments: its airmass has hardly
    changed since the nearest exposure.
    """
    nearest = np.abs(other.jd[None, :] - series.jd[:, None]).argmin(axis=1)
    return other.per_colour[nearest]


def _interpolated(
    series: ColourlessSeries,
    other: ColourlessSeries,
    sure: Bools,
    nights: Sequence[int],
    other_nights: Sequence[int],
) -> tuple[Floats, Floats]:
    """The other filter's magnitudes and variances at this one's moments: between the two exposures
    about each, or of the only one that is near; NaN without.
    """
    found, variance = np.full(series.jd.size, np.nan), np.full(series.jd.size, np.nan)
    good = sure & np.isfinite(other.magnitude) & np.isfinite(other.uncertainty)
    night, other_night = np.array(nights), np.array(other_nights)
    for name in np.unique(night):
        at, of = np.flatnonzero(night == name), np.flatnonzero(good & (other_night == name))
        if of.size == 0:
            continue
        of = of[np.argsort(other.jd[of], kind="stable")]
        t, m, v = other.jd[of], other.magnitude[of], other.uncertainty[of] ** 2
        for i in at:
            after = int(np.searchsorted(t, series.jd[i]))
            if 0 < after < t.size and t[after] - t[after - 1] < NEAR_D:
                share = float((series.jd[i] - t[after - 1]) / (t[after] - t[after - 1]))
                found[i] = (1.0 - share) * m[after - 1] + share * m[after]
                variance[i] = (1.0 - share) ** 2 * v[after - 1] + share**2 * v[after]
                continue
            near = min((k for k in (after - 1, after) if 0 <= k < t.size),
                       key=lambda k: abs(t[k] - series.jd[i]))  # fmt: skip
            if abs(t[near] - series.jd[i]) < ALONE_D:
                found[i], variance[i] = m[near], v[near]
    return found, variance
