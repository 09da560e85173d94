"""What the observer asks of the points of a curve beyond their measurement: which are doubtful by
rules, and what the check star follows taken out of all of them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.curve.light_curve import StarCurve
from narrow_beacon.core.measure.flags import FLAG_WORDS

QUANTITIES = ("airmass", "star width", "sky", "place")
"""What a trend may hang on; the place is the target's x and y on the sensor."""
_LEAST_POINTS, _POINTS_A_TERM = 10, 3
_CLIP, _ROUNDS = 4.0, 5


@dataclass(frozen=True)
class PointsWish:
    """Rules by which points are doubtful: an uncertainty above ``most_uncertainty_mag``, the first
    check star off its mean by more than ``check_off_sigma`` of its uncertainties, any of the flags
    ``without``. ``take_out`` are the QUANTITIES whose trend, as the check star shows it, is taken
    out of target and check stars; ``nights_alike`` takes out the check star's means of the nights.
    """

    most_uncertainty_mag: float | None = None
    check_off_sigma: float | None = None
    without: tuple[str, ...] = ()
    take_out: tuple[str, ...] = ()
    nights_alike: bool = False

    def __post_init__(self) -> None:
        unknown = [word for word in self.without if word not in FLAG_WORDS.values()]
        unknown += [word for word in self.take_out if word not in QUANTITIES]
        if unknown:
            known = ", ".join((*FLAG_WORDS.values(), *QUANTITIES))
            raise ValueError(f"{unknown[0]}: no such flag or quantity; there are {known}")

    @property
    def takes_out(self) -> bool:
        """Whether magnitudes change."""
        return bool(self.take_out) or self.nights_alike


AS_MEASURED = PointsWish()


@dataclass(frozen=True)
class Trend:
    """What is taken out of a curve, in mag (exposures), and how unsure that is; NaN where it can't
    be told.
    """

    magnitude: Floats
    uncertainty: Floats


def trend_of(
    check: StarCurve, values: Mapping[str, Floats], nights: Sequence[int] | None
) -> Trend | None:
    """What a check star's magnitudes follow: straight lines in ``values`` (exposures) and, where
    ``nights`` (exposures) are given, a constant for each night; its mean over all points is 0.

    Weighted least squares, without points that are four times as far off as is usual. None where
    there are fewer than ten good points or three for each term.
    """
    count = check.magnitude.size
    terms: list[Floats] = [np.ones(count)]
    if nights is not None:
        numbers = np.asarray(nights)
        terms = [(numbers == night).astype(float) for night in np.unique(numbers)]
    told = np.ones(count, bool)
    for one in values.values():
        told &= np.isfinite(one)
        middle, spread = float(np.nanmean(one)), float(np.nanstd(one))
        if spread > 1e-9 * max(abs(middle), 1.0):
            terms.append((one - middle) / spread)
    matrix = np.stack(terms, axis=1)
    good = told & np.isfinite(check.magnitude) & np.isfinite(check.uncertainty) & ~check.doubtful
    for _ in range(_ROUNDS):
        some = matrix[:, (matrix[good] != 0).any(axis=0)]
        if good.sum() < max(_LEAST_POINTS, _POINTS_A_TERM * some.shape[1]):
            return None
        weight = 1.0 / check.uncertainty[good]
        left, right = some[good] * weight[:, None], check.magnitude[good] * weight
        found = np.linalg.lstsq(left, right, rcond=None)[0]
        away = (check.magnitude - some @ found) / check.uncertainty
        # Wild points pull the first lines: what is usual now is the measure, at least the noise.
        usual = max(1.0, 1.4826 * float(np.median(np.abs(away[good]))))
        now = good & (np.abs(np.where(good, away, np.inf)) < _CLIP * usual)
        if (now == good).all():
            break
        good = now
    fitted = some @ found
    level = float(np.average(fitted[good], weights=weight**2))
    freedom = max(int(good.sum()) - some.shape[1], 1)
    wider = max(1.0, float((away[good] ** 2).sum()) / freedom)
    spread_of = np.linalg.pinv(left.T @ left) * wider
    sigma = np.sqrt(np.einsum("ij,jk,ik->i", some, spread_of, some))
    if nights is not None:  # one without a good point tells nothing of its own constant
        told &= np.isin(numbers, numbers[good])
    return Trend(np.where(told, fitted - level, np.nan), np.where(told, sigma, np.nan))


def without_trend(star: StarCurve, trend: Trend) -> StarCurve:
    """A star's curve with what was found taken out, and with what that costs in certainty; points
    where it can't be told stay as they were, and say so.
    """
    known = np.isfinite(trend.magnitude)
    own = np.where(known, trend.magnitude, 0.0)
    unsure = np.where(known, trend.uncertainty, 0.0)
    ruled = dict(star.ruled)
    for at in np.flatnonzero(~known & np.isfinite(star.magnitude)).tolist():
        ruled[at] = (*ruled.get(at, ()), "trend not known")
    return replace(
        star, magnitude=star.magnitude - own, uncertainty=np.hypot(star.uncertainty, unsure),
        limit_mag=star.limit_mag - own, taken_mag=own, ruled=ruled,
    )  # fmt: skip


def ruled_out(target: StarCurve, check: StarCurve | None, wish: PointsWish) -> StarCurve:
    """The target's curve with the points that the observer's rules make doubtful, and why."""
    ruled = dict(target.ruled)

    def mark(where: Ints, words: Sequence[str]) -> None:
        for at, why in zip(where.tolist(), words, strict=True):
            ruled[at] = (*ruled.get(at, ()), why)

    seen = np.isfinite(target.magnitude)
    if wish.most_uncertainty_mag is not None:
        wide = np.flatnonzero(seen & (target.uncertainty > wish.most_uncertainty_mag))
        words = f"uncertainty above {1000 * wish.most_uncertainty_mag:.3g} mmag"
        mark(wide, [words] * wide.size)
    if wish.check_off_sigma is not None and check is not None:
        away = (check.magnitude - np.nanmedian(check.magnitude)) / check.uncertainty
        off = np.flatnonzero(seen & (np.abs(np.nan_to_num(away)) > wish.check_off_sigma))
        mark(off, [f"check star off by {abs(away[at]):.1f} of its uncertainties" for at in off])
    for flag, word in FLAG_WORDS.items():
        if word in wish.without:
            there = np.flatnonzero(seen & ((target.flags & int(flag)) > 0))
            mark(there, [f"{word}, by rule"] * there.size)
    return replace(target, ruled=ruled)
