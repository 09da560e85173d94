"""How a filter's magnitudes depend on the stars' colours and on the air: transformation and
extinction, from the field's own stars.

A star of colour C at airmass X has, on an exposure with zero point Z,

    M − inst = Z + T·(C − C₀) − k′·(X − X₀) − k″·X·(C − C₀)

with M and C as the catalogue has them (Hardie 1962, in Astronomical Techniques, ch. 8). The stars'
mean offsets against their colours give T at the mean airmass, how these offsets change with airmass
gives k″, and the zero points against airmass give k′.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints, evenly, median_of_known
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.regression import Line, fit_line, pair_slopes
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.noise import POGSON
from narrow_beacon.core.words import counted

LEAST_STARS = 6
MOST_UNCERTAINTY = 0.04
"""A coefficient that is less sure than this is none: it would cost as much as it brings."""
_LEAST_SPAN = 0.3
"""Of the airmass over all exposures, for extinction to be fitted."""
_MOST_STARS, _LEAST_OF_MANY, _MOST_MEASURES = 200, 60, 1_000_000
"""The brightest stars tell the coefficients: fewer of them where a campaign is long."""
_MOST_EXPOSURES = 8000
"""More of them say nothing new: of a hundred nights these are eighty each."""
_LOOKED_AT = 40
"""Exposures by which the brightest stars are told."""
_LEAST_PRESENT = 0.6
_LEAST_SNR = 20.0
_MOST_NEIGHBOUR_MAG, _MOST_CHANGE_MAG = 0.02, 0.005
_SURE_SECOND = 3.0
_LEAST_SIGMA_MAG = 1e-4
_ROUNDS = 12
_MOST_PAIRED = 200
"""Exposures of a group of which every two are held together."""


@dataclass(frozen=True)
class ColourIndex:
    """A colour: the magnitude in ``bluer`` less that in ``redder``."""

    bluer: str
    redder: str

    @property
    def name(self) -> str:
        """As plans have it: "B-V"."""
        return f"{self.bluer}-{self.redder}"

    @property
    def words(self) -> str:
        """As sentences have it: "B − V"."""
        return f"{self.bluer} − {self.redder}"

    def of(self, stars: StarTable) -> Floats:
        """The catalogue's colours (stars); NaN where a magnitude is missing."""
        return stars.bands[self.bluer].magnitude - stars.bands[self.redder].magnitude

    def uncertainty(self, stars: StarTable) -> Floats:
        """The uncertainties of ``of`` (stars), in mag."""
        return np.hypot(stars.bands[self.bluer].uncertainty, stars.bands[self.redder].uncertainty)

    def shared(self, stars: StarTable, band: str) -> Floats:
        """The covariance of ``of`` with the magnitude in a band (stars), in mag²: they share its
        error where the colour is made of it.
        """
        sign = float(band == self.bluer) - float(band == self.redder)
        return sign * stars.bands[band].uncertainty ** 2


@dataclass(frozen=True)
class Coefficient:
    """A number with its uncertainty; ``fitted`` on so many stars or exposures, 0 where it was
    given.
    """

    value: float
    uncertainty: float
    fitted: int = 0


@dataclass(frozen=True)
class NightAir:
    """Extinction curves: zero points ``zero`` by all stars against ``airmass``, and which were
    ``used`` (exposures); k′ by group, of those whose own airmass tells it.
    """

    zero: Floats
    airmass: Floats
    used: Bools
    nights: Mapping[str, Coefficient]

    def fitted(self, groups: Sequence[str]) -> Floats:
        """The zero points of each group's own line (exposures, which are of ``groups``); NaN where
        it has none.
        """
        line = np.full(self.zero.size, np.nan)
        names = np.array(groups)
        for name, own in self.nights.items():
            at = np.flatnonzero((names == name) & self.used)
            middle = float(np.mean(self.zero[at] + own.value * self.airmass[at]))
            whole = names == name
            line[whole] = middle - own.value * self.airmass[whole]
        return line

    def among(self, airmass: Floats, some: Ints) -> NightAir:
        """The same where more exposures, of an ``airmass`` each, have these as ``some`` of them."""
        zero, used = np.full(airmass.size, np.nan), np.zeros(airmass.size, bool)
        zero[some], used[some] = self.zero, self.used
        return NightAir(zero, airmass, used, self.nights)


@dataclass(frozen=True)
class ColourTerms:
    """A filter's dependence on colour and air: ``transform`` is T, at ``airmass``; ``second_order``
    is k″ and ``extinction`` k′ for a star of the colour ``colour``, in mag an airmass. What could
    not be told is None, and ``why`` says why there is no T.
    """

    band: str
    index: ColourIndex
    transform: Coefficient | None
    second_order: Coefficient | None
    extinction: Coefficient | None
    airmass: float
    colour: float
    why: str = ""
    stars: Ints | None = None
    """Catalogue rows of the stars that could tell."""
    line: Line | None = None
    """Their mean offsets against colour."""
    sigma: Floats | None = None
    """How unsure these are (stars), with the catalogue's errors, in mag."""
    air: NightAir | None = None
    """Extinction night by night, where airmasses are known."""

    def at(self, airmass: Floats) -> Floats:
        """T − k″·(X − the mean airmass) on exposures: how a magnitude depends on colour there."""
        slope = 0.0 if self.transform is None else self.transform.value
        second = 0.0 if self.second_order is None else self.second_order.value
        away = np.nan_to_num(airmass - self.airmass)
        return np.asarray(slope - second * away)


@dataclass(frozen=True)
class _Offsets:
    """What stars (catalogue ``rows``) give beyond the catalogue: ``left`` and ``noise`` in mag
    (exposures, stars), NaN where there is nothing; ``zero`` (exposures).
    """

    rows: Ints
    left: Floats
    noise: Floats
    zero: Floats


def exposures_for_terms(count: int) -> Ints:
    """Of so many exposures those that tell a filter's terms, over all nights alike."""
    return evenly(count, _MOST_EXPOSURES)


def looked_at_for_terms(count: int) -> Ints:
    """Of so many exposures those by which the stars are chosen that tell the terms."""
    return evenly(count, _LOOKED_AT)


def telling_rows(
    few: FilterCensus, count: int, stars: StarTable, band: str, index: ColourIndex,
    without: Sequence[int],
) -> Ints:  # fmt: skip
    """The stars that tell a filter's terms: the brightest, on the exposures ``few`` of ``count`` at
    one radius, of those known in magnitude and colour and not known to vary; ``without`` are rows
    that take no part.
    """
    known = np.isfinite(stars.bands[band].magnitude) & np.isfinite(index.of(stars))
    known &= ~stars.known_variable
    columns = np.flatnonzero(known[few.rows] & ~np.isin(few.rows, list(without)))
    light = np.nan_to_num(few.counts_adu[:, columns, 0])
    brightest = np.argsort(-np.median(light, axis=0), kind="stable")
    most = min(_MOST_STARS, max(_LEAST_OF_MANY, _MOST_MEASURES // count))
    return np.sort(few.rows[columns[brightest[:most]]])


def fit_colour_terms(
    census: FilterCensus,
    step: int,
    stars: StarTable,
    band: str,
    index: ColourIndex,
    airmass: Floats,
    groups: Sequence[str],
    without: Sequence[int] = (),
) -> ColourTerms:
    """The terms of a filter from its census (exposures in order of time), by the stars whose
    magnitude and colour the catalogue knows; ``without`` are rows that take no part. ``groups``
    (exposures) tell nights and settings apart, each of which has extinction from its own zero
    points.
    """
    x = np.asarray(airmass, float)
    mean = float(np.nanmean(x)) if np.isfinite(x).any() else 1.0
    suitable = _suitable(census, step, stars, band, index, without)
    rows = suitable.rows
    if rows.size < LEAST_STARS:
        return ColourTerms(
            band, index, None, None, None, mean, 0.0,
            f"only {counted(rows.size, 'clean star has', 'clean stars have')} a sure {band} and "
            f"{index.words}; it takes {LEAST_STARS}",
        )  # fmt: skip
    offsets = _offsets(suitable, stars, band)
    colour, mine = index.of(stars)[offsets.rows], stars.bands[band].uncertainty[offsets.rows]
    own, spread = _means(offsets)
    sigma = np.hypot(mine, spread)
    line = fit_line(
        colour, own, index.uncertainty(stars)[offsets.rows], sigma,
        index.shared(stars, band)[offsets.rows],
    )  # fmt: skip
    if line is None or line.used.sum() < LEAST_STARS:
        return ColourTerms(
            band, index, None, None, None, mean, 0.0, "the stars do not agree on a line"
        )
    used = offsets.rows[line.used]
    # What the zero points answer to: the stars' colours, weighted as these are.
    weight = np.nansum(1.0 / (offsets.noise**2 + 1e-6), axis=0)
    middle = float(np.average(colour, weights=weight))
    second = _second_order(offsets, x, colour, line.used)
    first, used_for_it = _extinction(offsets.zero, x, groups)
    air = _night_air(offsets.zero, x, groups, used_for_it)
    if line.slope_uncertainty > MOST_UNCERTAINTY:
        low, high = np.percentile(colour[line.used], [5, 95])
        return ColourTerms(
            band, index, None, second, first, mean, middle,
            f"the coefficient would be {line.slope:+.3f} ± {line.slope_uncertainty:.3f}: "
            f"{used.size} stars of {index.words} {low:.2f} to {high:.2f} do not carry it",
            offsets.rows, line, sigma, air,
        )  # fmt: skip
    term = Coefficient(line.slope, line.slope_uncertainty, int(used.size))
    return ColourTerms(
        band, index, term, second, first, mean, middle, "", offsets.rows, line, sigma, air
    )


def _suitable(
    census: FilterCensus, step: int, stars: StarTable, band: str, index: ColourIndex,
    without: Sequence[int],
) -> FilterCensus:  # fmt: skip
    """The census, at one radius, of stars that are bright, clean, by themselves, known in magnitude
    and colour and not known to vary.
    """
    count = census.exposure_s.size
    at = np.arange(census.rows.size)
    seen = census.take(looked_at_for_terms(count)).at_radius(step, at)
    rows = telling_rows(seen, count, stars, band, index, without)
    few = census.at_radius(step, np.flatnonzero(np.isin(census.rows, rows)))
    usable = few.usable(0)
    _, sigma = few.magnitudes(0)
    snr = np.nan_to_num(median_of_known(np.where(usable, POGSON / sigma, np.nan), axis=0))
    _, others = few.doubts(0)
    alone = np.abs(np.median(others, axis=0)) < _MOST_NEIGHBOUR_MAG
    alone &= np.std(others, axis=0) < _MOST_CHANGE_MAG
    fits = alone & (usable.mean(axis=0) >= _LEAST_PRESENT) & (snr >= _LEAST_SNR)
    return few.at_radius(0, np.flatnonzero(fits))


def _offsets(census: FilterCensus, stars: StarTable, band: str) -> _Offsets:
    """Catalogue less instrumental magnitudes and less each exposure's zero point: zero points and
    the stars' means in turn, until they stand.
    """
    magnitude, sigma = census.magnitudes(0)
    usable = census.usable(0) & np.isfinite(magnitude)
    delta = stars.bands[band].magnitude[census.rows][None, :] - magnitude
    weight = np.where(usable, 1.0 / (np.nan_to_num(sigma, nan=1.0) ** 2 + 1e-6), 0.0)
    zero, star = np.zeros(delta.shape[0]), np.zeros(delta.shape[1])
    filled = np.where(usable, delta, 0.0)
    for _ in range(_ROUNDS):
        left = filled - zero[:, None] - star[None, :]
        # What is far off what is usual for its noise counts for little.
        tame = weight / np.maximum(1.0, np.abs(left) * np.sqrt(weight) / 3.0)
        total = tame.sum(axis=1)
        with np.errstate(invalid="ignore", divide="ignore"):
            zero = np.where(
                total > 0, (tame * (filled - star[None, :])).sum(axis=1) / total, np.nan
            )
        tame = np.where(np.isfinite(zero)[:, None], tame, 0.0)
        zero_filled = np.nan_to_num(zero)
        star = (tame * (filled - zero_filled[:, None])).sum(axis=0) / np.maximum(
            tame.sum(axis=0), 1e-30
        )
        # A common constant is free: it stays with the zero points.
        middle = float(np.median(star))
        star, zero = star - middle, zero_filled + middle
    reached = usable & (total > 0)[:, None]
    return _Offsets(
        census.rows, np.where(reached, delta - zero[:, None], np.nan),
        np.where(reached, sigma, np.nan), np.where(total > 0, zero, np.nan),
    )  # fmt: skip


def _means(offsets: _Offsets) -> tuple[Floats, Floats]:
    """Each star's mean offset and its uncertainty from the exposures (stars): its noise, or its own
    scatter where that is larger, as for one that varies.
    """
    there = np.isfinite(offsets.left)
    weight = np.where(there, 1.0 / (np.nan_to_num(offsets.noise, nan=1.0) ** 2 + 1e-6), 0.0)
    total = np.maximum(weight.sum(axis=0), 1e-30)
    mean = np.where(there, offsets.left, 0.0)
    mean = (weight * mean).sum(axis=0) / total
    away = np.where(there, offsets.left - mean, 0.0)
    count = np.maximum(there.sum(axis=0), 1)
    chi2 = (weight * away**2).sum(axis=0) / np.maximum(count - 1, 1)
    # One that varies is off its mean by as much as it varies, however many its exposures.
    varies = np.where(chi2 > 3.0, np.sqrt((weight * away**2).sum(axis=0) / total), 0.0)
    sigma = np.sqrt(np.maximum(chi2, 1.0) / total + varies**2)
    return mean, np.maximum(sigma, _LEAST_SIGMA_MAG)


def _second_order(
    offsets: _Offsets, airmass: Floats, colour: Floats, used: Bools
) -> Coefficient | None:
    """k″ from how every star's offset changes with airmass; None where the airmass does not change
    enough or the stars' colours do not tell.
    """
    known = np.isfinite(airmass)
    if known.sum() < 10 or np.ptp(airmass[known]) < _LEAST_SPAN:
        return None
    x = np.where(known, airmass - airmass[known].mean(), 0.0)
    there = np.isfinite(offsets.left) & known[:, None]
    weight = np.where(there, 1.0 / (np.nan_to_num(offsets.noise, nan=1.0) ** 2 + 1e-6), 0.0)
    total = np.maximum(weight.sum(axis=0), 1e-30)
    left = np.where(there, offsets.left, 0.0)
    centre = (weight * x[:, None]).sum(axis=0) / total
    mean = (weight * left).sum(axis=0) / total
    dx = x[:, None] - centre
    lever = np.maximum((weight * dx**2).sum(axis=0), 1e-30)
    slope = (weight * dx * (left - mean)).sum(axis=0) / lever
    after = left - mean - slope * dx
    chi2 = (weight * after**2).sum(axis=0) / np.maximum(there.sum(axis=0) - 2, 1)
    sigma = np.sqrt(np.maximum(chi2, 1.0) / lever)
    nothing = np.zeros(colour.size)
    line = fit_line(np.where(used, colour, np.nan), slope, nothing, sigma, nothing)
    if line is None or line.used.sum() < LEAST_STARS or line.slope_uncertainty > MOST_UNCERTAINTY:
        return None
    return Coefficient(-line.slope, line.slope_uncertainty, int(line.used.sum()))


def _night_air(
    zero: Floats, airmass: Floats, groups: Sequence[str], used: Bools
) -> NightAir | None:
    """Each group's own k′ from its own zero points; None where no airmass is known."""
    if not np.isfinite(airmass).any():
        return None
    names = np.array(groups)
    nights = {}
    for name in dict.fromkeys(groups):
        at = np.flatnonzero(names == name)
        own, mine = _extinction(zero[at], airmass[at], [name] * at.size)
        if own is not None:
            nights[name] = own
            used = used.copy()
            used[at] = mine
    return NightAir(zero, airmass, used, nights)


def _extinction(
    zero: Floats, airmass: Floats, groups: Sequence[str]
) -> tuple[Coefficient | None, Bools]:
    """k′ from zero points against airmass, each group with its own constant, and the exposures that
    told it; clouds, which only dim, are left out. None where the airmass does not change enough or
    too little is left.
    """
    good = np.isfinite(zero) & np.isfinite(airmass)
    names = np.array(groups)
    if good.sum() < 10 or np.ptp(airmass[good]) < _LEAST_SPAN:
        return None, good
    members = [np.flatnonzero(good & (names == name)) for name in dict.fromkeys(names[good])]
    some = [
        at[np.linspace(0, at.size - 1, min(at.size, _MOST_PAIRED)).astype(int)] for at in members
    ]
    pairs = [pair_slopes(airmass[at], zero[at]) for at in some]
    slopes = np.concatenate(pairs)
    if not slopes.size:
        return None, good
    slope = float(np.median(slopes))
    keep, lever, left = good, 0.0, zero
    for _ in range(_ROUNDS):
        left = _left(zero - slope * airmass, members, keep)
        spread = max(1.4826 * float(np.median(np.abs(left[keep]))), 0.001)
        keep = good & (left > -3.0 * spread) & (left < 4.0 * spread)
        dx, dz = (_left(values, members, keep, np.mean) for values in (airmass, zero))
        lever = float(np.sum(dx[keep] ** 2))
        if keep.sum() < 10 or lever <= 0:
            return None, good
        last, slope = slope, float(np.sum(dx[keep] * dz[keep]) / lever)
        left = dz - slope * dx
        if abs(slope - last) < 1e-6:
            break
    # Slow changes of the air make neighbours in time alike: as many are independent as runs last.
    rows = np.flatnonzero(keep)
    residual = left[rows]
    variance = float(np.mean(residual**2))
    lag = float(np.mean(residual[1:] * residual[:-1])) / max(variance, 1e-30)
    alike = (1.0 + max(lag, 0.0)) / max(1.0 - max(lag, 0.0), 0.02)
    sigma = float(np.sqrt(variance * alike / lever))
    return Coefficient(-slope, max(sigma, 1e-4), int(rows.size)), keep


def _left(
    values: Floats, members: Sequence[Ints], keep: Bools,
    middle: Callable[[Floats], np.floating] = np.median,
) -> Floats:  # fmt: skip
    """Values less the middle of each group's kept ones; NaN where a group has none."""
    left = np.full(values.size, np.nan)
    for at in members:
        kept = at[keep[at]]
        if kept.size:
            left[at] = values[at] - middle(values[kept])
    return left
