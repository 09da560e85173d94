"""Which exposures are worth a magnitude: focus, guiding, cloud, trails, saturation."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.curve.cast import Cast
from narrow_beacon.core.measure.census import StarFlag
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.reduce.tasks import ExposureResult

WIDE_RATIO = 1.6
ELONGATED = 1.45
CLOUDY = 0.5
THIN_CLOUD = 0.85
WRONG_FIELD = "wrong field"
_ROBUST_LIMIT = 5.0


def out_of_focus(results: Sequence[ExposureResult]) -> dict[int, str]:
    """Reasons by exposure index, for results of one group (a night in one filter)."""
    widths = np.array([r.quality.fwhm_px if r.quality else np.nan for r in results])
    stretches = np.array([r.quality.elongation if r.quality else np.nan for r in results])
    if not np.isfinite(widths).any():
        return {}
    usual = float(np.nanmedian(widths))
    spread = 1.4826 * float(np.nanmedian(np.abs(widths - usual)))
    usual_stretch = float(np.nanmedian(stretches))
    reasons = {}
    for result, width, stretch in zip(results, widths, stretches, strict=True):
        if width > WIDE_RATIO * usual and width - usual > _ROBUST_LIMIT * spread:
            reasons[result.index] = (
                f"out of focus: stars are {width:.1f} px wide, {usual:.1f} px on the others"
            )
        elif stretch > max(ELONGATED, 1.25 * usual_stretch):
            reasons[result.index] = (
                f"stars are drawn out: elongation {stretch:.2f}, {usual_stretch:.2f} on the others"
            )
    return reasons


def off_target(results: Sequence[ExposureResult], ra_deg: float, dec_deg: float) -> dict[int, str]:
    """Reasons by exposure index for exposures on which a position of the sky is not."""
    reasons = {}
    for result in results:
        if result.placement:
            words = outside(result.placement.solution, ra_deg, dec_deg)
            if words:
                reasons[result.index] = words
    return reasons


def outside(solution: Solution, ra_deg: float, dec_deg: float) -> str:
    """How far a position is outside of an exposure, in words; nothing where it is inside."""
    x, y = solution.pixel(np.array([ra_deg]), np.array([dec_deg]))
    height, width = solution.shape
    if 0 <= x[0] <= width - 1 and 0 <= y[0] <= height - 1:
        return ""
    away = np.hypot(
        max(-x[0], x[0] - width + 1, 0.0), max(-y[0], y[0] - height + 1, 0.0)
    ) * solution.scale_arcsec_per_px / 60.0  # fmt: skip
    if not np.isfinite(away):
        return f"{WRONG_FIELD}: the target is on another part of the sky"
    return f"{WRONG_FIELD}: the target is {away:.1f}′ outside the frame"


def cloudy(indices: Sequence[int], transparency: Floats) -> dict[int, str]:
    """Reasons by exposure index for exposures with less than half of the night's best light."""
    return {
        index: f"cloud: {share:.0%} of the clear night's light comes through"
        for index, share in zip(indices, transparency, strict=True)
        if share < CLOUDY
    }


def spoiled_cast(
    indices: Sequence[int], census: FilterCensus, step: int, cast: Cast, names: Sequence[str]
) -> dict[int, str]:
    """Reasons by exposure index where a star of the cast can't be measured."""
    flags = census.flags(step)
    reasons: dict[int, str] = {}
    roles = [(cast.target, "target")]
    roles += [(cast.check, "check star")] if cast.check is not None else []
    roles += [(row, "comparison star") for row in cast.comparison]
    words = (
        (StarFlag.TRAIL, "trail through the {role} {name}"),
        (StarFlag.SATURATED, "the {role} {name} is saturated"),
    )
    for row, role in roles:
        column = census.column(row)
        if column is None:
            continue
        for flag, text in words:
            sentence = text.format(role=role, name=names[row])
            for at in np.flatnonzero(flags[:, column] & int(flag)).tolist():
                reasons.setdefault(indices[at], sentence)
    column = census.column(cast.target)
    for at, index in enumerate(indices):
        if column is None or not np.isfinite(census.counts_adu[at, column, step]):
            reasons.setdefault(index, f"the target {names[cast.target]} could not be measured")
        elif flags[at, column] & int(StarFlag.EDGE):
            reasons.setdefault(index, f"the target {names[cast.target]} is at the edge")
    return reasons
