"""Are the hot pixels of what is taken off where the exposures have theirs? Some programs write the
rows of an image from the top, others from the bottom: a dark of one kind under exposures of the
other takes nothing off, and its flat falls upside down.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints, Plane, evenly, middle
from narrow_beacon.core.frames.steps import step_of

_SAMPLE = 20_000
_HOT_SIGMA, _SEEN_SIGMA = 8.0, 5.0
_MOST, _LEAST = 400, 15
_EDGE_PX = 2
_MISSING, _SURE, _THERE = 0.3, 0.08, 0.7
"""Of the hot pixels' light: what no colder sensor explains, how sure that has to be, and what they
show where they are."""

Values = Callable[[Ints, Ints], Floats]
"""The values of some pixels, by their rows and columns."""
Turn = Callable[[Ints, Ints, tuple[int, int]], tuple[Ints, Ints]]
_TURNS: dict[str, Turn] = {
    "upside down": lambda y, x, shape: (shape[0] - 1 - y, x),
    "mirrored left to right": lambda y, x, shape: (y, shape[1] - 1 - x),
    "turned by 180°": lambda y, x, shape: (shape[0] - 1 - y, shape[1] - 1 - x),
}


@dataclass(frozen=True)
class Misplaced:
    """Of so many hot pixels an exposure has the share ``shows`` of their light; ``turned`` says how
    they would lie on its own, empty where in no way.
    """

    count: int
    shows: float
    turned: str


def misplaced_dark(raw: Values, offset_adu: Plane) -> Misplaced | None:
    """What speaks against an offset plane (height, width) by the hot pixels of an exposure of the
    same shape, which gives its values ``raw`` as it was read; None where nothing does, or where too
    few are hot to tell.
    """
    height, width = offset_adu.shape
    y, x, light = _hot_pixels(offset_adu, _noise(raw, height, width))
    if light.size < _LEAST:
        return None
    shows, error = _share(raw, y, x, light)
    if not (shows <= _MISSING and error <= _SURE):  # nor where undefined pixels leave no number
        return None
    for words, turn in _TURNS.items():
        there, unsure = _share(raw, *turn(y, x, (height, width)), light)
        if there > _THERE and unsure < _SURE:
            return Misplaced(light.size, shows, words)
    return Misplaced(light.size, shows, "")


def _share(raw: Values, y: Ints, x: Ints, light: Floats) -> tuple[float, float]:
    """The share of the hot pixels' light that is there, by their middle, and its error."""
    shares = _above(raw, y, x) / light
    usual = middle(shares)
    spread = 1.4826 * middle(np.abs(shares - usual))
    return usual, float(1.2533 * spread / np.sqrt(shares.size))


def _hot_pixels(plane: Plane, noise_adu: float) -> tuple[Ints, Ints, Floats]:
    """Rows, columns and light above their neighbours of the hottest pixels, which an exposure of
    that noise would show.
    """
    values = plane.reshape(-1)[evenly(plane.size, _SAMPLE)].astype(float)
    usual = middle(values)
    spread = 1.4826 * middle(np.abs(values - usual))
    least = max(_HOT_SIGMA * spread, _SEEN_SIGMA * noise_adu)
    inside = plane[_EDGE_PX:-_EDGE_PX, _EDGE_PX:-_EDGE_PX]
    y, x = (at + _EDGE_PX for at in np.nonzero(inside > usual + least))
    light = _above(lambda j, i: plane[j, i], y, x)
    hottest = np.argsort(-light, kind="stable")[:_MOST]
    hottest = hottest[light[hottest] > least]
    return y[hottest], x[hottest], light[hottest]


def _noise(raw: Values, height: int, width: int) -> float:
    """Scatter of pixels about their neighbours, which stars hardly touch, or the step in which
    their values come.
    """
    at = evenly((height - 2 * _EDGE_PX) * (width - 2 * _EDGE_PX), _SAMPLE)
    y, x = (place + _EDGE_PX for place in np.divmod(at, width - 2 * _EDGE_PX))
    away = _above(raw, y, x)
    return max(1.4826 * middle(np.abs(away - middle(away))), step_of(raw(y, x)))


def _above(values: Values, y: Ints, x: Ints) -> Floats:
    """How far pixels are above the median of the eight about them."""
    around = [values(y + j, x + i) for j in (-1, 0, 1) for i in (-1, 0, 1) if i or j]
    return np.asarray(values(y, x) - np.median(np.array(around, float), axis=0))
