"""Calibrated differential magnitudes of target and check star on every exposure of a filter."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints, median_of_known
from narrow_beacon.core.curve.ensemble import Ensemble
from narrow_beacon.core.curve.steadiness import LEAST_POINTS, Steadiness, judge_steadiness
from narrow_beacon.core.measure.collection import DOUBTFUL_MAG, DOUBTFUL_SIGMA, FilterCensus
from narrow_beacon.core.measure.flags import FLAG_WORDS, SPOILED, StarFlag, flag_words
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.core.measure.noise import POGSON

GOOD, DOUBTFUL = "good", "doubtful"
"""States of a point; what is set aside is no point."""
TREND = "trend "
"""Before what is said of a point that something was taken out of."""
LIMIT_SNR = 3.0
"""A star that gives less light than so many times its noise is not seen: its light has a limit."""
_NEIGHBOUR_SIGMA, _NEIGHBOUR_MAG = 3.0, 0.005
_UNSEEN = "unseen companion"
CORE_STEP = RADII_FWHM.index(0.9)
"""The radius within which a star's light is its own, whatever stands beside it."""
_UNSEEN_SIGMA, _UNSEEN_MAG = 5.0, 0.004
_LEAST_LIKE = 3
_BY_NEIGHBOURS = int(StarFlag.NEIGHBOUR)
_GUESSED_WORDS = tuple(
    (int(flag), FLAG_WORDS[flag])
    for flag in (StarFlag.BAD_PIXEL, StarFlag.COSMIC_RAY, StarFlag.ODD_LIGHT)
)
"""Bits and words of what is guessed, in the order of the bits."""


@dataclass(frozen=True)
class StarCurve:
    """One star over a filter's exposures: magnitudes, uncertainties, instrumental, flags; how much
    of each may be off by what was guessed, and how much brighter it is for its neighbours' light.

    Where the star is not seen there is no magnitude but a limit, at three times the noise above
    what was measured.
    """

    magnitude: Floats
    uncertainty: Floats
    instrumental: Floats
    flags: Ints
    guessed_mag: Floats
    neighbour_mag: Floats
    limit_mag: Floats
    unseen_mag: Floats
    """How much brighter each magnitude is for a companion that no one sees apart, by how the star's
    light grows over the night beside that of the comparison stars; 0 where there is none."""
    taken_mag: Floats | None = None
    """What was taken out of each magnitude, because the check star follows it."""
    ruled: Mapping[int, tuple[str, ...]] = field(default_factory=dict)
    """Exposures that the observer's rules make doubtful, and why."""

    @property
    def noted(self) -> Ints:
        """The exposures of which ``words`` says something."""
        some = (self.flags != 0) | (self.unseen_mag != 0)
        if self.taken_mag is not None:
            some |= self.taken_mag != 0
        some[list(self.ruled)] = True
        return np.flatnonzero(some)

    @property
    def steadiness(self) -> Steadiness:
        """How steady the star is over all of its exposures."""
        return judge_steadiness(self.magnitude, self.uncertainty)

    @property
    def doubtful(self) -> Bools:
        """Where a magnitude may be off by more than its uncertainty says, (exposures)."""
        change = self.neighbour_mag - _middle(self.neighbour_mag, np.isfinite(self.magnitude))
        noise = np.sqrt(np.maximum(self.uncertainty**2 - change**2, 0.0))
        sigma = np.nan_to_num(noise, nan=np.inf)
        guessed = self.guessed_mag > np.maximum(DOUBTFUL_SIGMA * sigma, DOUBTFUL_MAG)
        theirs = np.abs(self.neighbour_mag) + np.abs(self.unseen_mag)
        others = theirs > np.maximum(_NEIGHBOUR_SIGMA * sigma, _NEIGHBOUR_MAG)
        spoiled = (self.flags & int(SPOILED)) > 0
        found: Bools = guessed | others | spoiled
        found[list(self.ruled)] = True
        return found

    def words(self, at: int) -> list[str]:
        """The flags of one exposure, with what they may cost in mmag where that can be said."""
        flags = int(self.flags[at])
        found = flag_words(flags)
        costs = {}
        if flags & _BY_NEIGHBOURS:
            costs[FLAG_WORDS[StarFlag.NEIGHBOUR]] = self.neighbour_mag[at]
        guessed = next((word for bit, word in _GUESSED_WORDS if flags & bit), None)
        if guessed:
            costs[guessed] = self.guessed_mag[at]
        if self.unseen_mag[at]:
            found.append(_UNSEEN)
            costs[_UNSEEN] = self.unseen_mag[at]
        said = [_with_cost(word, costs.get(word)) for word in found]
        if self.taken_mag is not None and self.taken_mag[at]:
            said.append(f"{TREND}{1000 * self.taken_mag[at]:+.1f} mmag taken out")
        return [*said, *self.ruled.get(at, ())]


def _with_cost(word: str, cost_mag: float | None) -> str:
    if cost_mag is None or not np.isfinite(cost_mag):
        return word
    mmag = abs(1000.0 * float(cost_mag))
    return f"{word} {mmag:.1f} mmag" if mmag < 10 else f"{word} {mmag:.0f} mmag"


def star_curve(
    census: FilterCensus, step: int, ensemble: Ensemble, row: int, like: Growths | None = None
) -> StarCurve:
    """A star's calibrated magnitudes; NaN where it or the zero point is missing. The growth of its
    light is held against that of the stars that are ``like`` it.

    The uncertainty holds the star's own noise, the ensemble's extra scatter, the zero point's and
    how much its neighbours' light changes over the night; the catalogue's common offset is not in
    it.
    """
    column = census.column(row)
    count = census.exposure_s.size
    if column is None:
        nothing, no = np.full(count, np.nan), np.zeros(count)
        return StarCurve(nothing, nothing, nothing, np.zeros(count, int), no, no, nothing, no)
    one = census.at_radius(step, np.array([column]))
    counts, noise = one.counts_adu[:, 0, 0], one.uncertainty_adu[:, 0, 0]
    seen = counts > LIMIT_SNR * noise
    magnitude, uncertainty = (values[:, 0] for values in one.magnitudes(0))
    own = np.where(seen, magnitude, np.nan)
    guessed, neighbour = (values[:, 0] for values in one.doubts(0))
    change = neighbour - _middle(neighbour, seen)
    total = np.sqrt(
        uncertainty**2 + ensemble.extra_mag**2
        + ensemble.zero_point_uncertainty**2 + change**2
    )  # fmt: skip
    most = (np.maximum(counts, 0.0) + LIMIT_SNR * noise) / census.exposure_s
    limit = np.where(seen | ~np.isfinite(counts), np.nan, -2.5 * np.log10(np.maximum(most, 1e-30)))
    return StarCurve(
        own + ensemble.zero_point, np.where(seen, total, np.nan), own,
        one.flags(0)[:, 0], np.where(seen, guessed, 0.0), np.where(seen, neighbour, 0.0),
        limit + ensemble.zero_point, np.full(count, like.unseen(column) if like else 0.0),
    )  # fmt: skip


def _middle(values: Floats, where: Bools) -> float:
    return float(np.median(values[where])) if where.any() else 0.0


class Growths:
    """How much brighter stars of a census are in an aperture than in their cores, against which a
    star is held that may have a companion; worked out once for all of them.
    """

    def __init__(self, census: FilterCensus, step: int, like: Sequence[int]) -> None:
        columns = [census.column(row) for row in like]
        others = [column for column in columns if column is not None]
        self.enough = step > CORE_STEP and len(others) >= _LEAST_LIKE
        if not self.enough:
            return

        def light(at: int) -> Floats:
            return np.asarray(census.at("counts_adu", at) - census.at("neighbour_adu", at))

        def variance(at: int) -> Floats:
            return np.asarray(census.at("uncertainty_adu", at).astype(float) ** 2)

        whole = light(step)
        with np.errstate(invalid="ignore", divide="ignore"):
            growth = 2.5 * np.log10(whole / light(CORE_STEP))
            self._noise = (variance(step) - variance(CORE_STEP)) / whole**2
        clean = census.usable(step) & np.isfinite(growth)
        self._growth = np.where(clean, growth, np.nan)
        self._usual = median_of_known(self._growth[:, others], axis=1)
        # Stars differ among themselves where the optics draw them differently across the field.
        theirs = median_of_known(self._growth[:, others] - self._usual[:, None], axis=0)
        theirs = theirs[np.isfinite(theirs)]
        self._differ = 1.4826 * float(np.median(np.abs(theirs - np.median(theirs))))

    def unseen(self, column: int) -> float:
        """By how much in mag a star's aperture holds more light over its core than other stars' do,
        the mean of the night; 0 where it is not sure or is what the star's known neighbours bring.
        """
        if not self.enough:
            return 0.0
        more = self._growth[:, column] - self._usual
        good = np.isfinite(more)
        if good.sum() < LEAST_POINTS:
            return 0.0
        each = POGSON**2 * np.maximum(self._noise[good, column], 0.0)
        mean = float(np.median(more[good]))
        spread = max(1.4826 * float(np.median(np.abs(more[good] - mean))), 1e-4)
        error = np.sqrt(max(float(np.mean(each)), spread**2) / good.sum())
        error = np.hypot(error, self._differ)
        return mean if mean > max(_UNSEEN_SIGMA * error, _UNSEEN_MAG) else 0.0


def scatter_by_radius(
    census: FilterCensus, rows: Sequence[int], ensembles: Sequence[Ensemble]
) -> Floats:
    """Median scatter (radii) of constant stars ``rows`` against zero points without them.

    ``ensembles`` (radii) are those of the same stars at each radius.
    """
    result = np.full(census.radii_px.shape[1], np.nan)
    for step, ensemble in enumerate(ensembles):
        verdicts = [
            judge_steadiness(ensemble.residual_mag[:, i], ensemble.noise_mag[:, i])
            for i in range(len(rows))
        ]
        scatters = [v.scatter_mag for v in verdicts if np.isfinite(v.scatter_mag)]
        if scatters:
            result[step] = float(np.median(scatters))
    return result


def _line(x: Floats, y: Floats) -> tuple[float, float]:
    """Slope and level at x = 0 of the straight line through points."""
    middle = x.mean()
    away = x - middle
    slope = float(away @ y) / float(away @ away)
    return slope, float(y.mean() - slope * middle)


def transparency(zero_point: Floats, airmass: Floats) -> Floats:
    """Share of light that comes through, against the best of the night at the same airmass.

    Extinction is fitted by the upper envelope of the zero points (exposures) against airmass.
    """
    good = np.isfinite(zero_point)
    result = np.full(zero_point.shape, np.nan)
    if not good.any():
        return result
    z = zero_point[good]
    x = np.where(np.isfinite(airmass[good]), airmass[good], 1.0)
    slope = 0.0
    if z.size >= 8 and np.ptp(x) > 0.15:
        keep = np.ones(z.size, bool)
        for _ in range(10):
            slope, level = _line(x[keep], z[keep])
            left = z - slope * x - level
            spread = max(1.4826 * float(np.median(np.abs(left[keep]))), 0.003)
            now = (left > -1.5 * spread) & (left < 4.0 * spread)
            if now.sum() < 5 or np.array_equal(now, keep):
                break
            keep = now
        # Extinction dims with airmass, and no clear night dims by more than this.
        slope = float(np.clip(slope, -1.0, 0.0))
    flat = z - slope * x
    best = np.percentile(flat, 85)
    result[good] = 10.0 ** (0.4 * (flat - best))
    return result
