"""Is a flat any good? One flat over another should be noise; what is left is measured and named.

The ratio's scatter is held against what photons allow; a plane and a radial term tell of a gradient
of the light or of stray light; patches that stand out tell of dust, and where a dark and a bright
side lie together (an embossed shadow) the shift between the two flats is found by correlating them
about it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Plane, middle
from narrow_beacon.core.correct.flat_check import FlatChange, compare_flats
from narrow_beacon.core.weighted_fit import weighted_fit

_BIN = 16
_STEP = 3
_SLOPE_MATTERS = 0.004
_NOISY = 1.15
_SMOOTH_PX = 3.0
_WIDE_PX = 25.0
_REACH_PX = 14
_MARGIN_PX = 24
_LEAST_LIKENESS = 0.7
_JOIN_PX, _JOIN_SIZES = 40.0, 2.5
_LEAST_SHIFT_PX = 0.7


@dataclass(frozen=True)
class Shift:
    """How far what throws a shadow moved from the second flat to the first, and where."""

    x_px: float
    y_px: float
    dx_px: float
    dy_px: float


@dataclass(frozen=True)
class FlatVerdict:
    """What one flat over another shows. ``scatter`` is that of single pixels, ``expected`` what
    photons allow (NaN where unknown); ``slope`` and ``radial`` are the whole differences from one
    side to the other and from the middle to the corners.
    """

    scatter: float
    expected: float
    slope: float
    slope_deg: float
    radial: float
    changes: tuple[FlatChange, ...]
    shifts: tuple[Shift, ...]

    @property
    def alike(self) -> bool:
        """Whether the two are one flat but for noise."""
        return not self.words

    @property
    def words(self) -> tuple[str, ...]:
        """What is not noise, the worst first."""
        found = []
        if self.changes:
            worst = max(abs(change.change) for change in self.changes)
            count = len(self.changes)
            places = "1 place differs" if count == 1 else f"{count} places differ"
            found.append(f"dust: {places}, by up to {100 * worst:.1f}%")
        for shift in self.shifts:
            found.append(
                f"a shadow at x {shift.x_px:.0f} y {shift.y_px:.0f} moved by "
                f"{shift.dx_px:+.1f}, {shift.dy_px:+.1f} px".replace("-", "−")
            )
        if self.slope > _SLOPE_MATTERS:
            found.append(f"a gradient of {100 * self.slope:.1f}% towards {self.slope_deg:.0f}°")
        if abs(self.radial) > _SLOPE_MATTERS:
            side = "brighter" if self.radial > 0 else "darker"
            found.append(f"corners {100 * abs(self.radial):.1f}% {side}")
        if self.scatter > _NOISY * self.expected:
            found.append(
                f"noisier than photons allow: {100 * self.scatter:.2f}% a pixel, "
                f"{100 * self.expected:.2f}% expected"
            )
        return tuple(found)


def judge_flats(
    first: Plane, second: Plane, electrons: tuple[float, float] | None = None
) -> FlatVerdict:
    """What ``first`` / ``second`` (height, width; each relative to 1) shows; ``electrons`` are the
    photo-electrons a pixel behind each of them, all of its frames together.
    """
    ratio = np.where(second > 0.05, first / np.maximum(second, 0.05), np.nan)
    ratio = ratio / np.nanmedian(ratio[::_STEP, ::_STEP])
    slope, direction, radial = large_scale(ratio)
    changes = compare_flats(first, second)
    return FlatVerdict(
        scatter=_single_pixels(ratio),
        expected=float(np.sqrt(sum(1.0 / max(n, 1.0) for n in electrons)))
        if electrons
        else float("nan"),
        slope=slope, slope_deg=direction, radial=radial, changes=tuple(changes),
        shifts=tuple(_shifts(first, second, changes)),
    )  # fmt: skip


def _single_pixels(ratio: Plane) -> float:
    """Scatter of single pixels, robust, from differences of neighbours: free of what is wide."""
    apart = (ratio[:, 1:] - ratio[:, :-1])[::_STEP, ::_STEP]
    apart = apart[np.isfinite(apart)]
    return float(1.4826 * np.median(np.abs(apart - np.median(apart))) / np.sqrt(2.0))


def large_scale(ratio: Plane, block_px: int = _BIN) -> tuple[float, float, float]:
    """Plane and radial term of an image by the medians of its blocks: slope from side to side along
    its direction (degrees from +x towards +y), and corners less middle.
    """
    rows, columns = (size // block_px for size in ratio.shape)
    strips = ratio[: rows * block_px, : columns * block_px].reshape(
        rows, block_px, columns, block_px
    )
    # A strip at a time: all blocks laid side by side would be the image once more.
    values = np.array(
        [np.nanmedian(some.swapaxes(0, 1).reshape(columns, -1), axis=1) for some in strips]
    ).reshape(rows, columns)
    height, width = ratio.shape
    y, x = np.meshgrid(
        (np.arange(rows) + 0.5) * 2 * block_px / height - 1.0,
        (np.arange(columns) + 0.5) * 2 * block_px / width - 1.0,
        indexing="ij",
    )
    return plane_and_radial(values, x, y)


def plane_and_radial(values: Floats, x: Floats, y: Floats) -> tuple[float, float, float]:
    """Slope from side to side of values at places from −1 to 1, its direction in degrees from +x
    towards +y, and corners less middle; each over the middle's value. Robust: patches are left out.
    """
    basis = np.stack([np.ones_like(x), x, y, (x**2 + y**2) / 2.0], axis=-1).reshape(-1, 4)
    flat = values.ravel()
    keep = np.isfinite(flat)
    fit: Floats = np.zeros(4)
    for _ in range(4):
        fit = weighted_fit(basis, flat[:, None], keep.astype(float))[:, 0]
        left = flat - basis @ fit
        spread = 1.4826 * middle(np.abs(left[keep]))
        now = np.isfinite(flat) & (np.abs(left) < 4.0 * max(spread, 1e-6))
        if np.array_equal(now, keep):
            break
        keep = now
    fit = fit / fit[0]
    slope = 2.0 * float(np.hypot(fit[1], fit[2]))
    return slope, float(np.degrees(np.arctan2(fit[2], fit[1])) % 360.0), float(fit[3])


def _shifts(first: Plane, second: Plane, changes: Sequence[FlatChange]) -> list[Shift]:
    """The shift of every shadow that is in both flats: about patches that belong together."""
    groups: list[list[FlatChange]] = []
    for change in changes:
        near = [group for group in groups if any(_together(change, other) for other in group)]
        joined = [change, *(g for group in near for g in group)]
        groups = [group for group in groups if group not in near] + [joined]
    found = []
    for group in groups:
        shift = _shift_about(first, second, group)
        if shift is not None:
            found.append(shift)
    return found


def _together(one: FlatChange, other: FlatChange) -> bool:
    reach = max(_JOIN_PX, _JOIN_SIZES * max(one.size_px, other.size_px))
    return bool(np.hypot(one.x_px - other.x_px, one.y_px - other.y_px) < reach)


def _shift_about(first: Plane, second: Plane, group: Sequence[FlatChange]) -> Shift | None:
    """How far the pattern about a group of patches moved, by the greatest likeness of the two."""
    # Where the first is darker its shadow is now; where it is brighter the second's was.
    now, then = ([g for g in group if (g.change < 0) == dark] for dark in (True, False))
    guesses = [(0, 0)]
    if now and then:
        guesses.append((round(_mean(now, "x_px") - _mean(then, "x_px")),
                        round(_mean(now, "y_px") - _mean(then, "y_px"))))  # fmt: skip
    tries = [_likeness(first, second, now or then, guess) for guess in guesses]
    best, dx, dy = max(tries)
    if best < _LEAST_LIKENESS or np.hypot(dx, dy) < _LEAST_SHIFT_PX:
        return None
    return Shift(_mean(group, "x_px"), _mean(group, "y_px"), dx, dy)


def _mean(group: Sequence[FlatChange], name: str) -> float:
    return float(np.mean([getattr(change, name) for change in group]))


def _likeness(
    first: Plane, second: Plane, about: Sequence[FlatChange], guess: tuple[int, int]
) -> tuple[float, float, float]:
    """The greatest correlation of the two about some patches, and the shift that gives it, within
    reach of a guess; (−1, 0, 0) where there is none.
    """
    reach = max(g.size_px for g in about) + _MARGIN_PX
    pieces = []
    for size, name, by in ((first.shape[1], "x_px", guess[0]), (first.shape[0], "y_px", guess[1])):
        edge = _REACH_PX + 1
        low = max(int(min(getattr(g, name) for g in about) - reach), edge, edge + by)
        high = min(int(max(getattr(g, name) for g in about) + reach), size - edge, size - edge + by)
        pieces.append((low, high))
    (x0, x1), (y0, y1) = pieces
    if min(x1 - x0, y1 - y0) < 2 * _SMOOTH_PX + 8:
        return -1.0, 0.0, 0.0
    one = _shadows(first[y0:y1, x0:x1])
    rows = slice(y0 - guess[1] - _REACH_PX, y1 - guess[1] + _REACH_PX)
    two = _shadows(second[rows, x0 - guess[0] - _REACH_PX : x1 - guess[0] + _REACH_PX])
    side = 2 * _REACH_PX + 1
    likeness = np.array(
        [[_correlation(one, two[j : j + y1 - y0, i : i + x1 - x0]) for i in range(side)]
         for j in range(side)]
    )  # fmt: skip
    y, x = np.unravel_index(np.argmax(likeness), likeness.shape)
    if not (0 < y < side - 1 and 0 < x < side - 1):
        return -1.0, 0.0, 0.0
    dx = guess[0] - (x - _REACH_PX + _vertex(likeness[y, x - 1 : x + 2]))
    dy = guess[1] - (y - _REACH_PX + _vertex(likeness[y - 1 : y + 2, x]))
    return float(likeness[y, x]), float(dx), float(dy)


def _shadows(plane: Plane) -> Floats:
    """What dust does to a piece of a flat: noise smoothed away, the run of the light taken off."""
    from scipy.ndimage import gaussian_filter  # slow to load, and seldom needed

    cut = np.nan_to_num(plane.astype(float), nan=1.0)
    return np.asarray(gaussian_filter(cut, _SMOOTH_PX) / gaussian_filter(cut, _WIDE_PX) - 1.0)


def _correlation(one: Floats, two: Floats) -> float:
    a, b = one - one.mean(), two - two.mean()
    size = float(np.sqrt(np.sum(a * a) * np.sum(b * b)))
    return float(np.sum(a * b)) / size if size > 0 else 0.0


def _vertex(values: Floats) -> float:
    """Where a parabola through three values at −1, 0, 1 is highest."""
    low, middle, high = (float(v) for v in values)
    bend = low - 2.0 * middle + high
    return 0.5 * (low - high) / bend if bend < 0 else 0.0
