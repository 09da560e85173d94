"""Where a camera stops: the level at which its pixels pile up, found from the frames themselves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.frames.steps import step_of

RANGES_ADU = (4095.0, 16383.0, 65535.0)
"""The highest values of converters of 12, 14 and 16 bits."""
_NEAR = 0.002
_LEAST_PILE = 3
_LEAST_FRAMES = 2
_FULL_PILE = 20
_LEAST_LEVEL_ADU = 1000.0
"""No camera stops below but one of 8 bits; a frame without any light is no sign of it."""
_EIGHT_BITS_ADU = 255.0


@dataclass(frozen=True)
class Top:
    """The upper end of a frame: its highest value, how many pixels are within 0.2% of it and how
    many in the next 0.2%, the step in which its values come, and the most that its file can hold
    (infinite where that says nothing of the camera).
    """

    highest_adu: float
    at_top: int
    below: int
    step_adu: float
    most_adu: float = float("inf")


def look_at_top(pixels: Plane, most_adu: float = float("inf")) -> Top:
    """The upper end of raw pixels (height, width), whose file can hold ``most_adu``."""
    values = pixels.reshape(-1)
    if not (values.size and np.isfinite(np.max(values))):
        values = values[np.isfinite(values)]
    if not values.size:
        return Top(0.0, 0, 0, 0.0, most_adu)
    highest = float(np.max(values))
    if highest < min(_LEAST_LEVEL_ADU, most_adu) and highest != _EIGHT_BITS_ADU:
        return Top(highest, 0, 0, step_of(values), most_adu)
    near = values[values >= (1.0 - 2.0 * _NEAR) * highest]
    at_top = int(np.count_nonzero(near >= (1.0 - _NEAR) * highest))
    below = near.size - at_top
    return Top(highest, at_top, below, step_of(values), most_adu)


def clipping_level(tops: Sequence[Top]) -> float | None:
    """The level at which pixels pile up, in ADU; None where no frame shows one.

    Two frames have to end at the same level with a pile, or one with a large one: a star that is
    merely bright has one pixel at its peak, and another on each frame.
    """
    level = max((top.highest_adu for top in tops), default=0.0)
    ending = [top for top in tops if top.highest_adu >= (1.0 - _NEAR) * level]
    piled = [top for top in ending if top.at_top >= _LEAST_PILE and top.at_top > 2 * top.below]
    sure = len(piled) >= _LEAST_FRAMES or any(top.at_top >= _FULL_PILE for top in piled)
    return level if sure and level > 0 else None


def converter_range(tops: Sequence[Top]) -> float:
    """The highest value that the converter can give: the smallest range that holds all that was
    seen and of which something reaches the upper three quarters, in the step in which values come;
    no more than the files can hold.
    """
    step = min((top.step_adu for top in tops), default=1.0)
    highest = max((top.highest_adu for top in tops), default=0.0)
    most = min((top.most_adu for top in tops), default=float("inf"))
    largest = RANGES_ADU[-1]
    if step > 1.0:
        return min(float(np.floor(largest / step) * step), most)
    fits = (r for r in RANGES_ADU if 0.25 * r < highest <= r)
    return min(next(fits, max(largest, highest)), most)
