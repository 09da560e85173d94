"""How bright a frame is, and whether that is what its kind and its like let one expect."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.steps import step_of

_LEVEL_STEP = 5  # every fifth row and column is enough for a frame's level
_LEVEL_DEPARTURE = 12.0  # robust standard deviations from the like frames
_LEAST_DEPARTURE_ADU = 8.0
_SCATTER_RATIO = 1.5
_ALL_ALIKE, _CLIPPED_SHARE = 0.999, 0.005
"""Shares of a frame's pixels at its highest value."""
_LEAST_CLIP_ADU = 1000.0
_DIM_FLAT = 0.2
_LEAST_LIKE = 3


@dataclass(frozen=True)
class Levels:
    """Median and robust scatter of a frame's pixels, in ADU, their highest value, and the share of
    them that has it.
    """

    median_adu: float
    scatter_adu: float
    highest_adu: float = float("nan")
    at_highest: float = 0.0
    step_adu: float = 0.0
    """In which the values come."""


def levels_of(pixels: Plane, as_read: Plane | None = None) -> Levels:
    """Level and scatter of a frame (height, width) from a sample of its pixels; their highest value
    ``as_read``, where something was taken off since.
    """
    sample = _sample(pixels)
    median = float(np.median(sample))
    top = sample if as_read is None else _sample(as_read)
    highest = float(np.max(top))
    return Levels(
        median, 1.4826 * float(np.median(np.abs(sample - median))), highest,
        float(np.mean(top == highest)), step_of(top),
    )  # fmt: skip


def _sample(pixels: Plane) -> Plane:
    sample = pixels[::_LEVEL_STEP, ::_LEVEL_STEP]
    known = np.isfinite(sample)
    if not known.any():
        raise UnreadableFileError("not one of its pixels has a value")
    return sample[known]


def unusable(levels: Levels, kind: str, linear_limit_adu: float | None) -> str | None:
    """Why a calibration frame shows nothing, or a flat is too bright to be one; None where it is
    fit for use.
    """
    if levels.at_highest > _ALL_ALIKE:
        return f"empty: all of its pixels are {levels.highest_adu:.0f} ADU"
    if kind != "flat":
        return None
    if linear_limit_adu is not None and levels.median_adu > linear_limit_adu:
        return (
            f"too bright for a flat: its level of {levels.median_adu:.0f} ADU is beyond the linear "
            f"limit of {linear_limit_adu:.0f} ADU"
        )
    if levels.at_highest > _CLIPPED_SHARE and levels.highest_adu > _LEAST_CLIP_ADU:
        return (
            f"clipped: {levels.at_highest:.0%} of its pixels are at its highest value, "
            f"{levels.highest_adu:.0f} ADU, where the camera gives no more"
        )
    return None


def odd_level(levels: Levels, kind: str, like: Sequence[Levels]) -> str | None:
    """Why a calibration frame is not what it is called, by the levels of its like; None where it
    may be, or where there are too few to tell.
    """
    if len(like) < _LEAST_LIKE:
        return None
    medians = np.array([other.median_adu for other in like])
    usual = float(np.median(medians))
    usual_scatter = float(np.median([other.scatter_adu for other in like]))
    level, scatter = levels.median_adu, levels.scatter_adu
    if kind == "flat":
        if level < _DIM_FLAT * usual:
            return (
                f"wrong kind or too dim: called a flat, but its level of {level:.0f} ADU is far "
                f"below the {usual:.0f} ADU of the other {len(like)}"
            )
        return None
    spread = 1.4826 * float(np.median(np.abs(medians - usual)))
    # Median and scatter of values in steps are steps themselves.
    step = levels.step_adu
    allowed = max(_LEAST_DEPARTURE_ADU, _LEVEL_DEPARTURE * spread, 1.5 * step)
    usual_least = max(usual_scatter, 1.0, step)
    if abs(level - usual) > allowed or scatter > _SCATTER_RATIO * usual_least:
        return (
            f"wrong kind: called a {kind}, but its level of {level:.0f} ± {scatter:.0f} ADU "
            f"is not the {usual:.0f} ± {usual_scatter:.0f} ADU of the other {len(like)}"
        )
    return None
