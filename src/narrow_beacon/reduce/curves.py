"""From the censuses of one filter to its light curve: cast, radius, vetting, magnitudes."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from dataclasses import field as field_of

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints, evenly
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.cast import Cast, rank_candidates, settle_cast
from narrow_beacon.core.curve.colour_terms import ColourTerms
from narrow_beacon.core.curve.ensemble import LEAST_TESTED, Ensemble
from narrow_beacon.core.curve.field_stars import FieldStars, correlated_noise
from narrow_beacon.core.curve.light_curve import (
    CORE_STEP,
    Growths,
    StarCurve,
    scatter_by_radius,
    star_curve,
    transparency,
)
from narrow_beacon.core.curve.standard import StandardSeries
from narrow_beacon.core.curve.zero_points import ensemble_of, witness_rows
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.flags import StarFlag
from narrow_beacon.core.measure.growth import RADII_FWHM, RadiusChoice, choose_radius
from narrow_beacon.core.stars.troubles import USUAL_RULES
from narrow_beacon.reduce.light import FilterLight
from narrow_beacon.reduce.vet import cloudy, spoiled_cast

DEFAULT_STEP = RADII_FWHM.index(1.6)
_LIKE_MAG = 1.5
_LEAST_FOR_FLOOR = 3
_MOST_LOOKED_AT = 1000


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
    checks: tuple[StarCurve, ...]
    """Of the cast's check stars."""
    transparency: Floats
    set_aside: Mapping[int, str]
    terms: ColourTerms | None = None
    """How it depends on colour and air, where that was looked into."""
    standard: StandardSeries | None = None
    """The target on the standard scale, where that can be told."""
    field: FieldStars | None = None
    """All stars, where they were looked at."""
    floor_mag: float = float("nan")
    """The night's correlated noise by the comparison and check stars."""
    floored: bool = False
    """Whether the points' uncertainties hold it."""

    @property
    def check(self) -> StarCurve | None:
        """Of the first check star."""
        return self.checks[0] if self.checks else None


@dataclass(frozen=True)
class FilterSeries:
    """Exposures of one filter in order of time: their indices in the night, groups and airmass."""

    filter: str
    band: str
    indices: tuple[int, ...]
    groups: tuple[str, ...]
    airmass: Floats

    def take(self, keep: Bools) -> FilterSeries:
        """Some of the exposures only."""
        at = np.flatnonzero(keep).tolist()
        return replace(
            self, indices=tuple(self.indices[i] for i in at),
            groups=tuple(self.groups[i] for i in at), airmass=self.airmass[at],
        )  # fmt: skip

    def transparency(self, zero_point: Floats) -> Floats:
        """Share of light that comes through on each exposure, group by group."""
        result = np.full(len(self.indices), np.nan)
        number = {name: place for place, name in enumerate(dict.fromkeys(self.groups))}
        groups = np.fromiter(map(number.__getitem__, self.groups), np.int64, len(self.groups))
        order = np.argsort(groups, kind="stable")
        ends = np.searchsorted(groups[order], np.arange(len(number) + 1))
        for first, end in zip(ends[:-1].tolist(), ends[1:].tolist(), strict=True):
            at = order[first:end]
            result[at] = transparency(zero_point[at], self.airmass[at])
        return result


@dataclass(frozen=True)
class Roles:
    """What is known of who plays which part: rows of the target and, where they are given, of the
    comparison and check stars.
    """

    target: int
    comparison: tuple[int, ...] = ()
    checks: tuple[int, ...] = ()
    never: tuple[int, ...] = ()
    """Those that the program does not choose: other targets."""


@dataclass(frozen=True)
class Judged:
    """What is said of exposures, by index, before there is a curve: which are spoiled and why, and
    which take part whatever speaks against them; ``light`` is the share of the clear night's light
    from which on one is not cloudy.
    """

    spoiled: Mapping[int, str] = field_of(default_factory=dict)
    keep: Set[int] = frozenset()
    light: float = USUAL_RULES.light


UNJUDGED = Judged()


class _Vetting:
    """A filter's exposures while they are vetted: those that are left, and why others are not."""

    def __init__(self, series: FilterSeries, light: FilterLight, keep: Set[int]) -> None:
        self.series, self.light, self._keep = series, light, keep
        self.set_aside: dict[int, str] = {}

    def drop(self, reasons: Mapping[int, str]) -> bool:
        """Set exposures aside, but never all of them, and none that is kept; whether any was."""
        reasons = {index: words for index, words in reasons.items() if index not in self._keep}
        keep = np.array([index not in reasons for index in self.series.indices])
        if keep.all() or not keep.any():
            return False
        self.set_aside |= {i: reasons[i] for i in self.series.indices if i in reasons}
        self.series, self.light = self.series.take(keep), self.light.take(np.flatnonzero(keep))
        return True


def looked_at(count: int) -> Ints:
    """Of a filter's exposures those, over all nights alike, by which stars and the kit are told:
    more of them say nothing new, and a campaign can have a hundred times as many.
    """
    return evenly(count, _MOST_LOOKED_AT)


def make_curve(
    series: FilterSeries,
    light: FilterLight,
    stars: StarTable,
    roles: Roles,
    fixed_step: int | None,
    judged: Judged = UNJUDGED,
) -> FilterCurve:
    """The curve of one filter from what was measured on its exposures, in order of time.

    Exposures are vetted twice: by what they look like, as ``judged``, then by what the first zero
    points and the settled cast say of them. Raises NotMeasurableError where no cast can be found.
    """
    band = series.band
    vetting = _Vetting(series, light, judged.keep)
    vetting.drop(judged.spoiled)
    step = DEFAULT_STEP if fixed_step is None else fixed_step

    def settle() -> tuple[Cast, Ensemble]:
        return settle_cast(
            _judged_stars(vetting.light, step, stars, band, roles), step, stars, band,
            roles.target, roles.comparison, roles.checks, roles.never,
        )  # fmt: skip

    def spoiled() -> dict[int, str]:
        own = vetting.light.of_stars(cast.rows)
        return spoiled_cast(vetting.series.indices, own, step, cast, stars.names)

    cast, ensemble = settle()
    share = vetting.series.transparency(ensemble.zero_point)
    if vetting.drop(spoiled() | cloudy(vetting.series.indices, share, judged.light)):
        cast, ensemble = settle()
    own = vetting.light.of_stars(cast.rows)
    choice = judge_radii(own, stars, band, cast, step, fixed_step)
    if choice.step != step:
        step = choice.step
        cast, ensemble = settle()
    if vetting.drop(spoiled()):
        known = _judged_stars(vetting.light, step, stars, band, roles)
        ensemble = ensemble_of(known, step, stars, band, cast.comparison)
    words = f"none of the comparison stars could be measured in {band}"
    lost = np.array(vetting.series.indices)[~np.isfinite(ensemble.zero_point)]
    vetting.drop(dict.fromkeys(lost.tolist(), words))
    curve = _curve(vetting.series, _needed(vetting.light, stars, cast), stars, cast, choice)
    return replace(curve, set_aside=vetting.set_aside)


def _judged_stars(
    light: FilterLight, step: int, stars: StarTable, band: str, roles: Roles
) -> FilterCensus:
    """The stars among which a cast is chosen, at a radius: all of them, and of more exposures than
    are ``looked_at`` those that have a part or could have one by these.
    """
    some = looked_at(len(light))
    if some.size == len(light):
        return light.at(step)
    seen = light.take(some).alone(step)
    given = {roles.target, *roles.comparison, *roles.checks}
    ranked = rank_candidates(seen, 0, stars, band, roles.target, given | set(roles.never))
    rows = given | {candidate.row for candidate in ranked}
    return light.at(step, rows | set(witness_rows(seen, stars, sorted(rows))))


def needed_rows(cast: Cast, stars: StarTable, seen: Callable[[], FilterCensus]) -> Ints:
    """Which stars make the curve of a cast: its own, and where these are too few to test one
    another their witnesses among those ``seen``, which are all at the widest radius.
    """
    few = len(cast.comparison) < LEAST_TESTED
    return np.array(sorted({*cast.rows, *(witness_rows(seen(), stars, cast.rows) if few else ())}))


def needed_steps(step: int) -> tuple[int, ...]:
    """At which radii a curve at one of them looks at its stars."""
    return tuple(sorted({CORE_STEP, step}))


def _needed(light: FilterLight, stars: StarTable, cast: Cast) -> FilterCensus:
    def seen() -> FilterCensus:
        return light.take(looked_at(len(light))).alone(light.radii - 1)

    return light.of_stars(needed_rows(cast, stars, seen))


def _curve(
    series: FilterSeries, census: FilterCensus, stars: StarTable, cast: Cast, choice: RadiusChoice
) -> FilterCurve:
    """A curve by the stars that ``needed_rows`` names, which the census holds."""
    step = choice.step
    ensemble = ensemble_of(census, step, stars, series.band, cast.comparison)

    like = Growths(census, step, cast.comparison)

    def star(row: int) -> StarCurve:
        return star_curve(census, step, ensemble, row, like)

    return FilterCurve(
        filter=series.filter,
        band=series.band,
        indices=series.indices,
        census=census,
        cast=cast,
        ensemble=ensemble,
        choice=choice,
        target=star(cast.target),
        checks=tuple(star(row) for row in cast.checks),
        transparency=series.transparency(ensemble.zero_point),
        set_aside={},
    )


def curve_of_cast(
    series: FilterSeries, light: FilterLight, stars: StarTable, cast: Cast, step: int
) -> FilterCurve:
    """The curve of one filter for a cast and a radius that are settled, from what was measured
    alone; nothing is vetted. Raises NotMeasurableError as ``known_cast`` does.
    """
    few = known_cast(series, light.rows, stars, cast)
    return curve_of_few(series, _needed(light, stars, few), stars, few, step)


def known_cast(series: FilterSeries, measured: Ints, stars: StarTable, cast: Cast) -> Cast:
    """A cast without the comparison stars that have no magnitude in a filter or are not among the
    rows ``measured``. Raises NotMeasurableError where none is left.
    """
    known = stars.bands[series.band].magnitude
    there = set(measured.tolist())
    rows = tuple(row for row in cast.comparison if row in there and np.isfinite(known[row]))
    if not rows:
        raise NotMeasurableError(
            f"no comparison star has both a {series.band} magnitude and a measurement in "
            f"{series.filter}; give that role to another star"
        )
    return replace(cast, comparison=rows)


def curve_of_few(
    series: FilterSeries, census: FilterCensus, stars: StarTable, cast: Cast, step: int
) -> FilterCurve:
    """The curve of a ``known_cast`` from a census that holds its ``needed_rows`` at its
    ``needed_steps`` and maybe nothing else, so that a changed role answers at once.
    """
    blank = np.full(census.radii_px.shape[1], np.nan)
    radius = float(np.median(census.radii_px[:, step]))
    words = f"{radius:.2f} px: chosen by the observer"
    return _curve(series, census, stars, cast, RadiusChoice(step, blank, blank, words))


def beside_curves(
    measured: Sequence[tuple[FilterSeries, FilterLight]],
    stars: StarTable,
    roles: Roles,
    fixed_step: Callable[[str], int | None],
) -> tuple[list[FilterCurve], dict[str, str]]:
    """The curves of another target in the field, which settle its cast and radii in each filter,
    and by filter why there is none. Nothing is vetted: the exposures are those that are left, and
    stars are told by those that are ``looked_at``.
    """
    curves: list[FilterCurve] = []
    problems: dict[str, str] = {}
    for series, light in measured:
        # The check stars of the first filter are those of all.
        own = replace(roles, checks=roles.checks or (curves[0].cast.checks if curves else ()))
        some = looked_at(len(series.indices))
        if some.size < len(series.indices):
            series = series.take(np.isin(np.arange(len(series.indices)), some))
            light = light.take(some)
        try:
            curves.append(
                make_curve(
                    series,
                    light,
                    stars,
                    own,
                    fixed_step(series.filter),
                    Judged(keep=frozenset(series.indices)),
                )
            )
        except NotMeasurableError as error:
            problems[series.filter] = str(error)
    return curves, problems


def joint_cast(curves: Sequence[FilterCurve]) -> Cast:
    """One cast for all filters: comparison stars that serve in each, else the first filter's."""
    first = curves[0].cast
    everywhere = tuple(
        row for row in first.comparison if all(row in curve.cast.comparison for curve in curves)
    )
    dropped = tuple(dict.fromkeys(d for curve in curves for d in curve.cast.dropped))
    return replace(first, comparison=everywhere or first.comparison, dropped=dropped)


def with_floor(curve: FilterCurve, *, added: bool) -> FilterCurve:
    """The curve with its correlated noise told: the root mean square, over comparison and check
    stars, of how much their means of some exposures scatter beyond noise; ``added`` to the
    uncertainties of target and check stars where it is wanted.
    """
    constant = np.array(sorted({*curve.cast.comparison, *curve.cast.checks}))
    each = correlated_noise(curve.census.stars_only(constant), curve.choice.step, curve.ensemble)
    each = each[np.isfinite(each)]
    if each.size < _LEAST_FOR_FLOOR:
        return curve
    floor = float(np.sqrt(np.mean(each**2)))
    if not added:
        return replace(curve, floor_mag=floor)

    def raised(star: StarCurve) -> StarCurve:
        return replace(star, uncertainty=np.hypot(star.uncertainty, floor))

    return replace(
        curve, target=raised(curve.target), checks=tuple(raised(star) for star in curve.checks),
        floor_mag=floor, floored=True,
    )  # fmt: skip


def doubted_cast(curve: FilterCurve, names: Sequence[str]) -> list[tuple[int, str]]:
    """Index and reason of exposures where a cosmic ray makes the target's or a check star's point
    doubtful.
    """
    flags = curve.census.flags(curve.choice.step)
    found = []
    checks = zip(curve.cast.checks, curve.checks, strict=True)
    for row, role, star in (
        (curve.cast.target, "target", curve.target),
        *((row, "check star", star) for row, star in checks),
    ):
        column = curve.census.column(row)
        if column is None:
            continue
        struck = (flags[:, column] & int(StarFlag.COSMIC_RAY)) > 0
        for at in np.flatnonzero(struck & star.doubtful).tolist():
            found.append(
                (
                    curve.indices[at],
                    f"cosmic ray on the {role} {names[row]}: its magnitude may be off by "
                    f"{1000 * star.guessed_mag[at]:.0f} mmag",
                )
            )
    return found


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
    rows = [*cast.comparison, *cast.checks]
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
        return RadiusChoice(fixed_step, snr, scatter, f"{radii[fixed_step]:.2f} px: as given")
    return choose_radius(radii, snr, scatter)
