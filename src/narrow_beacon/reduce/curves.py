"""From the censuses of one filter to its light curve: cast, radius, vetting, magnitudes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.cast import Cast, ensemble_of, settle_cast
from narrow_beacon.core.curve.ensemble import Ensemble
from narrow_beacon.core.curve.light_curve import (
    StarCurve,
    scatter_by_radius,
    star_curve,
    transparency,
)
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.growth import RADII_FWHM, RadiusChoice, choose_radius
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.reduce.vet import cloudy, out_of_focus, spoiled_cast

DEFAULT_STEP = RADII_FWHM.index(1.6)
_LIKE_MAG = 1.5


@dataclass(frozen=True)
class FilterCurve:
    """The light curve of one filter; arrays run over ``indices``, the exposures measured."""

    filter: str
    band: str
    indices: tuple[int, ...]
    census: FilterCensus
    cast: Cast
    ensemble: Ensemble
    choice: RadiusChoice
    target: StarCurve
    check: StarCurve | None
    transparency: Floats
    set_aside: Mapping[int, str]


def make_curve(
    filter_name: str,
    band: str,
    results: Sequence[ExposureResult],
    groups: Mapping[int, str],
    exposure_s: Mapping[int, float],
    airmass: Mapping[int, float],
    stars: StarTable,
    target: int,
    comparison: Sequence[int],
    check: int | None,
    fixed_step: int | None,
) -> FilterCurve:
    """The curve of one filter from its measured exposures, in order of time.

    Exposures are vetted twice: by what they look like, then by what the first zero points and the
    settled cast say of them. Raises NotMeasurableError where no cast can be found.
    """
    set_aside: dict[int, str] = {}
    for group in dict.fromkeys(groups[result.index] for result in results):
        set_aside |= out_of_focus([r for r in results if groups[r.index] == group])
    kept = [r for r in results if r.index not in set_aside]
    if not kept:
        kept, set_aside = list(results), {}
    step = DEFAULT_STEP if fixed_step is None else fixed_step

    def collect(some: Sequence[ExposureResult]) -> FilterCensus:
        censuses = [r.census for r in some if r.census is not None]
        return FilterCensus.of(censuses, [exposure_s[r.index] for r in some])

    def settle(census: FilterCensus) -> tuple[Cast, Ensemble]:
        return settle_cast(census, step, stars, band, target, comparison, check)

    census = collect(kept)
    cast, ensemble = settle(census)
    indices = [r.index for r in kept]
    share = _transparency(indices, ensemble, groups, airmass)
    names = dict(enumerate(stars.names))
    worse = spoiled_cast(indices, census, step, cast, names) | cloudy(indices, share)
    if worse and len(worse) < len(kept):
        set_aside |= worse
        keep = np.array([i for i, r in enumerate(kept) if r.index not in worse])
        kept = [kept[i] for i in keep]
        indices = [r.index for r in kept]
        census = census.take(keep)
        cast, ensemble = settle(census)
    choice = judge_radii(census, stars, band, cast, step, fixed_step)
    if choice.step != step:
        step = choice.step
        cast, ensemble = settle(census)
    late = spoiled_cast(indices, census, step, cast, names)
    if late and len(late) < len(kept):
        set_aside |= late
        keep = np.array([i for i, r in enumerate(kept) if r.index not in late])
        indices = [indices[i] for i in keep]
        census = census.take(keep)
        ensemble = ensemble_of(census, step, stars, band, cast.comparison)
    lost = ~np.isfinite(ensemble.zero_point)
    if lost.any() and not lost.all():
        words = f"none of the comparison stars could be measured in {band}"
        set_aside |= {indices[i]: words for i in np.flatnonzero(lost).tolist()}
        keep = np.flatnonzero(~lost)
        indices = [indices[i] for i in keep.tolist()]
        census = census.take(keep)
        ensemble = ensemble_of(census, step, stars, band, cast.comparison)
    return FilterCurve(
        filter=filter_name,
        band=band,
        indices=tuple(indices),
        census=census,
        cast=cast,
        ensemble=ensemble,
        choice=choice,
        target=star_curve(census, step, ensemble, target),
        check=None if cast.check is None else star_curve(census, step, ensemble, cast.check),
        transparency=_transparency(indices, ensemble, groups, airmass),
        set_aside=set_aside,
    )


def curve_of_cast(
    filter_name: str,
    band: str,
    indices: Sequence[int],
    census: FilterCensus,
    groups: Mapping[int, str],
    airmass: Mapping[int, float],
    stars: StarTable,
    cast: Cast,
    step: int,
) -> FilterCurve:
    """The curve of one filter for a cast and a radius that are settled, from the census alone.

    Only the stars of the cast are looked at, so that a changed role answers at once; nothing is
    vetted. Comparison stars without a magnitude or a measurement are passed over. Raises
    NotMeasurableError where none is left.
    """
    known = stars.bands[band].magnitude
    rows = [
        row for row in cast.comparison if census.column(row) is not None and np.isfinite(known[row])
    ]
    if not rows:
        raise NotMeasurableError(
            f"no comparison star has both a {band} magnitude and a measurement in {filter_name}; "
            "give that role to another star"
        )
    wanted = {*rows, cast.target} | ({cast.check} if cast.check is not None else set())
    small = census.stars_only(np.array(sorted(wanted)))
    ensemble = ensemble_of(small, step, stars, band, rows)
    blank = np.full(census.radii_px.shape[1], np.nan)
    radius = float(np.median(census.radii_px[:, step]))
    return FilterCurve(
        filter=filter_name,
        band=band,
        indices=tuple(indices),
        census=small,
        cast=replace(cast, comparison=tuple(rows)),
        ensemble=ensemble,
        choice=RadiusChoice(step, blank, blank, f"{radius:.2f} px: chosen by the observer"),
        target=star_curve(small, step, ensemble, cast.target),
        check=None if cast.check is None else star_curve(small, step, ensemble, cast.check),
        transparency=_transparency(indices, ensemble, groups, airmass),
        set_aside={},
    )


def _transparency(
    indices: Sequence[int],
    ensemble: Ensemble,
    groups: Mapping[int, str],
    airmass: Mapping[int, float],
) -> Floats:
    result = np.full(len(indices), np.nan)
    names = np.array([groups[index] for index in indices])
    air = np.array([airmass[index] for index in indices])
    for name in np.unique(names):
        at = names == name
        result[at] = transparency(ensemble.zero_point[at], air[at])
    return result


def judge_radii(
    census: FilterCensus,
    stars: StarTable,
    band: str,
    cast: Cast,
    step: int,
    fixed_step: int | None,
) -> RadiusChoice:
    """What each radius of the census would give the cast, and the one that serves it best."""
    steps = census.radii_px.shape[1]
    column = census.column(cast.target)
    assert column is not None
    counts, sigma = census.counts_adu[:, column], census.uncertainty_adu[:, column]
    snr = np.array([float(np.nanmedian(counts[:, k] / sigma[:, k])) for k in range(steps)])
    rows = list(cast.comparison) + ([cast.check] if cast.check is not None else [])
    m = stars.bands[band].magnitude
    wanted = m[cast.target] if np.isfinite(m[cast.target]) else float(np.median(m[rows]))
    rows = [row for row in rows if np.isfinite(m[row])]
    like = [row for row in rows if abs(m[row] - wanted) < _LIKE_MAG]
    rows = like if len(like) >= 3 else rows
    if len(rows) < 3 or census.exposure_s.size < 6:
        scatter = np.full(steps, np.nan)
    else:
        ensembles = [ensemble_of(census, radius, stars, band, rows) for radius in range(steps)]
        scatter = scatter_by_radius(census, rows, ensembles)
    radii = np.median(census.radii_px, axis=0)
    if fixed_step is not None:
        return RadiusChoice(
            fixed_step, snr, scatter, f"{radii[fixed_step]:.2f} px: set in the plan"
        )
    return choose_radius(radii, snr, scatter)
