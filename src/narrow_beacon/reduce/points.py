"""The observer's rules for points, and trends taken out of them, on the curves of all filters."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.curve.points import (
    AS_MEASURED,
    PointsWish,
    ruled_out,
    trend_of,
    without_trend,
)
from narrow_beacon.core.remarks import Remark
from narrow_beacon.reduce.curves import FilterCurve

Beside = Callable[[FilterCurve], Mapping[str, Floats]]
"""By quantity its values on a curve's exposures; the place comes as "x" and "y"."""


def as_wished(
    curves: Sequence[FilterCurve], wish: PointsWish, beside: Beside, nights: Sequence[int]
) -> list[FilterCurve]:
    """The curves as the observer wants their points; ``nights`` are numbers by index."""
    if wish == AS_MEASURED:
        return list(curves)
    return [_as_wished(curve, wish, beside, nights) for curve in curves]


def _as_wished(
    curve: FilterCurve, wish: PointsWish, beside: Beside, nights: Sequence[int]
) -> FilterCurve:
    if wish.takes_out and curve.check is not None:
        values = dict(beside(curve)) if wish.take_out else {}
        own = [nights[index] for index in curve.indices] if wish.nights_alike else None
        trend = trend_of(curve.check, values, own)
        if trend is not None:
            standard = curve.standard
            if standard is not None:
                known = np.nan_to_num(trend.magnitude)
                standard = replace(
                    standard, magnitude=standard.magnitude - known,
                    uncertainty=np.hypot(standard.uncertainty, np.nan_to_num(trend.uncertainty)),
                )  # fmt: skip
            curve = replace(
                curve, target=without_trend(curve.target, trend), standard=standard,
                checks=tuple(without_trend(star, trend) for star in curve.checks),
            )  # fmt: skip
    return replace(curve, target=ruled_out(curve.target, curve.check, wish))


def taken_words(curve: FilterCurve, wish: PointsWish) -> str:
    """What was taken out of a curve, or why nothing was; nothing where none was asked for."""
    if not wish.takes_out:
        return ""
    what = [*wish.take_out, *(["nights' means"] if wish.nights_alike else [])]
    taken = curve.target.taken_mag
    if taken is None:
        why = "no check star" if curve.check is None else "too few good points of the check star"
        return f"nothing taken out: {why}"
    return f"{', '.join(what)} taken out, by up to {1000 * np.abs(taken).max():.1f} mmag"


def points_remarks(curves: Sequence[FilterCurve], wish: PointsWish) -> list[Remark]:
    """Words on every filter whose magnitudes were changed, or could not be."""
    return [
        Remark(
            "curve", f"{curve.filter}: {words}", curve.filter,
            "it is what the check star follows; what the target does in the same way goes with it",
            "leave it out under Points in Curve, or [points] in a plan",
        )
        for curve in curves
        if (words := taken_words(curve, wish))
    ]  # fmt: skip
