"""From the curves of all filters to the standard scale: coefficients from the field's stars or as
given, and the target's colour from two filters, from the plan or from the catalogue.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.bands import in_order
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.colour_terms import (
    Coefficient,
    ColourIndex,
    ColourTerms,
    exposures_for_terms,
    fit_colour_terms,
)
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.ensemble import LEAST_TESTED
from narrow_beacon.core.curve.standard import (
    Air,
    ColourlessSeries,
    StandardSeries,
    colourless,
    with_colour,
    with_other,
)
from narrow_beacon.core.curve.time import airmasses
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.remarks import Remark
from narrow_beacon.core.transform_wish import TransformWish
from narrow_beacon.reduce.curves import FilterCurve

_LEAST_SLOPE = 0.02
USUAL_TERM = 0.08
"""What a filter's coefficient is like where nothing says, mag per mag of colour."""


@dataclass(frozen=True)
class Observed:
    """Of all exposures, by index: Julian date, airmass of the target, and a number of the night."""

    jd: Floats
    airmass: Floats
    nights: tuple[int, ...]
    site: Site | None = None


def index_of(
    band: str, measured: Sequence[str], known: Sequence[str], said: str = ""
) -> ColourIndex | None:
    """The colour that a band's transformation hangs on: what is ``said``, else of two measured
    bands that are neighbours, else B − V or another pair of the catalogue's ``known`` bands; None
    where it has only one.
    """
    if said:
        bluer, _, redder = said.partition("-")
        if bluer.strip() in known and redder.strip() in known:
            return ColourIndex(bluer.strip(), redder.strip())
    own = [name for name in in_order(measured) if name in known]
    if band in own and len(own) > 1:
        at = max(own.index(band), 1)
        return ColourIndex(own[at - 1], own[at])
    all_known = in_order(known)
    if {"B", "V"} <= set(all_known) and band in ("B", "V", "R", "I", "U"):
        return ColourIndex("B", "V")
    if band not in all_known:
        return ColourIndex(*all_known[:2]) if len(all_known) > 1 else None
    at = max(all_known.index(band), 1)
    return ColourIndex(all_known[at - 1], all_known[at]) if len(all_known) > 1 else None


def terms_of(
    curve: FilterCurve,
    whole: FilterCensus,
    step: int,
    stars: StarTable,
    moments: Observed,
    index: ColourIndex,
    groups: Sequence[str],
) -> ColourTerms:
    """A filter's terms from the stars of its census: at the usual radius (``step``) whatever is
    chosen, since they are the kit's and the air's. ``whole`` has the ``exposures_for_terms`` of the
    curve's, ``groups`` are those of all of them.
    """
    airmass = moments.airmass[list(curve.indices)]
    some = exposures_for_terms(airmass.size)
    found = fit_colour_terms(
        whole, step, stars, curve.band, index, airmass[some], [groups[at] for at in some],
        (curve.cast.target,),
    )  # fmt: skip
    if some.size == airmass.size or found.air is None:
        return found
    return replace(found, air=found.air.among(airmass, some))


def with_given(found: ColourTerms, filter_name: str, wish: TransformWish) -> ColourTerms:
    """The terms with what the observer gives for a filter. A coefficient given together with its
    change with airmass holds outside the air, else it holds as it is.
    """
    first, second = wish.extinction.get(filter_name), wish.second_order.get(filter_name)
    if first is not None:
        found = replace(found, extinction=Coefficient(first, 0.0))
    if second is not None:
        found = replace(found, second_order=Coefficient(second, 0.0))
    given = wish.given.get(filter_name)
    if given is not None and given.index not in ("", found.index.name):
        why = f"the coefficient given is against {given.index}, which the catalogue does not have"
        return replace(found, transform=None, why=why)
    if given is not None:
        at_mean = given.coefficient - (second or 0.0) * found.airmass
        found = replace(found, transform=Coefficient(at_mean, given.uncertainty), why="")
    return found


def standardise(
    curves: Sequence[FilterCurve],
    terms: Mapping[str, ColourTerms],
    stars: StarTable,
    moments: Observed,
    wish: TransformWish,
) -> list[FilterCurve]:
    """The curves with their magnitudes on the standard scale, where colours and coefficients are
    known.
    """
    if not wish.apply:
        return [replace(curve, terms=terms.get(curve.filter)) for curve in curves]
    series = {
        curve.filter: _colourless(curve, terms[curve.filter], stars, moments)
        for curve in curves
        if curve.filter in terms
    }
    return [
        replace(
            curve, terms=terms.get(curve.filter),
            standard=_standard(curve, curves, series, terms, stars, moments, wish),
        )
        for curve in curves
    ]  # fmt: skip


def _colourless(
    curve: FilterCurve, terms: ColourTerms, stars: StarTable, moments: Observed
) -> ColourlessSeries | None:
    if terms.transform is None:
        return None
    at, rows = list(curve.indices), list(curve.cast.comparison)
    own = moments.airmass[at]
    theirs = np.repeat(own[:, None], len(rows), axis=1)
    if moments.site is not None and terms.extinction is not None:
        target = [curve.cast.target]
        both = airmasses(
            moments.jd[at], stars.ra_deg[target + rows], stars.dec_deg[target + rows], moments.site
        )
        theirs = own[:, None] + both[:, 1:] - both[:, :1]
    ensemble = curve.ensemble
    noise = np.sqrt(
        np.maximum(
            curve.target.uncertainty**2 - ensemble.zero_point_uncertainty**2
            - ensemble.extra_mag**2, 0.0,
        )
    )  # fmt: skip
    found = colourless(
        curve.census, curve.choice.step, stars, terms, rows,
        (curve.target.instrumental, noise), moments.jd[at], Air(own, theirs),
    )  # fmt: skip
    if found is None or len(rows) >= LEAST_TESTED:
        return found
    # Too few to test one another: what other stars showed of their wandering holds here, too.
    more = ensemble.zero_point_uncertainty**2 - found.ensemble.zero_point_uncertainty**2
    wider = np.sqrt(found.uncertainty**2 + np.maximum(more, 0.0))
    return replace(found, uncertainty=wider)


def _standard(
    curve: FilterCurve,
    curves: Sequence[FilterCurve],
    series: Mapping[str, ColourlessSeries | None],
    terms: Mapping[str, ColourTerms],
    stars: StarTable,
    moments: Observed,
    wish: TransformWish,
) -> StandardSeries | None:
    own, mine = terms.get(curve.filter), series.get(curve.filter)
    if own is None or mine is None:
        return None
    fixed = None
    known = target_colour(own.index, curve.cast.target, stars, wish)
    if known is not None:
        fixed = with_colour(mine, own, *known)
    wanted = own.index.redder if own.band == own.index.bluer else own.index.bluer
    for other in curves:
        theirs = series.get(other.filter)
        if other.band != wanted or theirs is None or terms[other.filter].index != own.index:
            continue
        nights = [moments.nights[i] for i in curve.indices]
        measured = with_other(
            mine, own, theirs, terms[other.filter], ~other.target.doubtful, nights,
            [moments.nights[i] for i in other.indices],
        )  # fmt: skip
        return measured if fixed is None else _filled(measured, fixed)
    return fixed


def _filled(measured: StandardSeries, fixed: StandardSeries) -> StandardSeries:
    """What was measured, and by the known colour where no exposure of the other filter is near."""
    there = np.isfinite(measured.colour)
    if not there.any():
        return fixed
    return replace(
        measured,
        magnitude=np.where(there, measured.magnitude, fixed.magnitude),
        uncertainty=np.where(there, measured.uncertainty, fixed.uncertainty),
        colour=np.where(there, measured.colour, fixed.colour),
        colour_uncertainty=np.where(there, measured.colour_uncertainty, fixed.colour_uncertainty),
    )


def target_colour(
    index: ColourIndex, target: int, stars: StarTable, wish: TransformWish
) -> tuple[float, float] | None:
    """The target's colour and its uncertainty, as typed or as the catalogue has it; None."""
    if wish.colour is not None:
        return wish.colour, 0.0
    colour = float(index.of(stars)[target])
    if not np.isfinite(colour):
        return None
    return colour, float(index.uncertainty(stars)[target])


def standard_remarks(
    curves: Sequence[FilterCurve], stars: StarTable, wish: TransformWish
) -> list[Remark]:
    """Words where magnitudes stay on the instrument's own colour scale, or stand on less than a
    measured colour.
    """
    remarks = []
    for curve in curves:
        terms = curve.terms
        if not wish.apply or terms is None:
            continue
        colour = target_colour(terms.index, curve.cast.target, stars, wish)
        theirs = terms.index.of(stars)[list(curve.cast.comparison)]
        theirs = theirs[np.isfinite(theirs)]
        apart = abs(colour[0] - float(theirs.mean())) if colour and theirs.size else None
        if curve.standard is None:
            remarks.append(_untransformed(curve.filter, terms, apart))
            continue
        remarks += _assumed_colour(curve, terms, wish)
        if terms.line is not None and terms.transform is not None and terms.transform.fitted:
            used = np.isfinite(curve.standard.colour)
            if not used.any():
                continue
            middle = float(np.median(curve.standard.colour[used]))
            on = theirs
            if terms.stars is not None:
                on = terms.index.of(stars)[terms.stars][terms.line.used]
            if on.size and not on.min() - 0.1 <= middle <= on.max() + 0.1:
                remarks.append(
                    Remark(
                        "measure",
                        f"{terms.index.words} {middle:.2f} of the target lies outside of the "
                        f"{on.min():.2f} to {on.max():.2f} of the stars that the coefficient in "
                        f"{curve.filter} was fitted to",
                        curve.filter,
                        f"{1000 * curve.standard.common_mag:.0f} mmag and more, alike on all "
                        "points",
                        "measure the coefficient on a field with such stars, and give it",
                    )
                )
    return remarks


def _assumed_colour(curve: FilterCurve, terms: ColourTerms, wish: TransformWish) -> list[Remark]:
    """Words where one colour is taken for all of the target's points, and that matters."""
    used = curve.standard.colour if curve.standard else np.empty(0)
    used = used[np.isfinite(used)]
    slope = abs(terms.transform.value) if terms.transform else 0.0
    if not used.size or np.ptp(used) > 0 or slope < _LEAST_SLOPE:
        return []
    source = "given" if wish.colour is not None else "of the catalogue"
    return [
        Remark(
            "measure",
            f"the target's {terms.index.words} {used[0]:.2f}, {source}, is taken for all its "
            f"points in {curve.filter}",
            curve.filter,
            f"{100 * slope:.0f} mmag for each 0.1 mag that its colour differs or changes",
            "observe in two filters",
        )
    ]


def _untransformed(name: str, terms: ColourTerms, apart: float | None) -> Remark:
    why = terms.why or "the target's colour is not known"
    cost = "of the order of 0.1 mag where the target's colour is unlike the comparison stars'"
    if apart is not None:
        slope = abs(terms.transform.value) if terms.transform else USUAL_TERM
        cost = (
            f"about {1000 * slope * apart:.0f} mmag, alike on all points: the target's "
            f"{terms.index.words} is {apart:.2f} from the comparison stars'"
        )
    return Remark(
        "measure", f"magnitudes in {name} stay on the instrument's own colour scale: {why}", name,
        cost,
        "observe in two filters, give the target's colour or the kit's coefficient, or take "
        "comparison stars of the target's colour",
    )  # fmt: skip
