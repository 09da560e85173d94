"""Find trails of satellites and aircraft: straight lines of light across an exposure.

A Hough transform of the bright blocks proposes lines; each is then judged at full resolution by
the median brightness along it against the lines beside it, which stars cannot fake.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints, Plane, middle, middles, sort_few
from narrow_beacon.core.stars.background import Background

_BLOCK = 16
_ANGLES = 120
_BLOCK_SIGNIFICANCE = 4.0
_LEAST_LIT = 0.7
_LEAST_LENGTH = 0.45
_LEAST_PIECES, _ACROSS = 6, 0.9
"""Fewer lit pieces are chance where stars stand close; a smaller image has to be lit across."""
_MOST_UNEVEN = 0.35
_PIECE_PX = 24.0
_CANDIDATES = 3
_ALONG_RAD, _NEARLY_RAD = 0.004, 0.03
_OVER_BANDS = 5.0
"""So many times what rows, or columns, scatter by is a line along them brighter than they are."""
_BANDS_PX = 512
_LEAST_WIDE = 0.12
"""The share of its middle's light that a trail gives half a star's width beside it: 0.5 for stars
well sampled, 0.19 for the narrowest."""


@dataclass(frozen=True)
class Trail:
    """A line from (x0, y0) to (x1, y1), 0-based pixels, and how far it stands above the noise."""

    x0_px: float
    y0_px: float
    x1_px: float
    y1_px: float
    significance: float

    @property
    def ends(self) -> tuple[float, float, float, float]:
        """x and y of its two ends, to a tenth of a pixel."""
        ends = (self.x0_px, self.y0_px, self.x1_px, self.y1_px)
        x0, y0, x1, y1 = (round(float(value), 1) for value in ends)
        return x0, y0, x1, y1

    def distance(self, x_px: Floats, y_px: Floats) -> Floats:
        """Distance of positions from the trail, in pixels."""
        dx, dy = self.x1_px - self.x0_px, self.y1_px - self.y0_px
        length2 = dx * dx + dy * dy
        along = (
            (np.asarray(x_px) - self.x0_px) * dx + (np.asarray(y_px) - self.y0_px) * dy
        ) / length2
        along = np.clip(along, 0.0, 1.0)
        return np.hypot(x_px - self.x0_px - along * dx, y_px - self.y0_px - along * dy)

    def lies_on(self, other: Trail) -> bool:
        """Whether this is a piece of another trail."""
        ends = np.array([self.x0_px, self.x1_px]), np.array([self.y0_px, self.y1_px])
        return bool(np.max(other.distance(*ends)) < _BLOCK)


def find_trails(
    pixels: Plane, block_means: Plane, background: Background, fwhm_px: float
) -> list[Trail]:
    """Trails at least half of the short side long on an image (height, width).

    ``block_means`` are the means of its blocks of 8 × 8 pixels.
    """
    rows, columns = (size // 2 for size in block_means.shape)
    noise = background.median_noise_adu / _BLOCK
    y, x = _lit_blocks(
        block_means, background.sky_adu, background.mesh_px, _BLOCK_SIGNIFICANCE * noise
    )
    if y.size < 10:
        return []
    reach = int(np.hypot(rows, columns)) + 2
    votes = np.zeros((_ANGLES, 2 * reach), np.int32)
    angles = np.arange(_ANGLES) * np.pi / _ANGLES
    _vote(x, y, np.cos(angles), np.sin(angles), reach, votes)
    # What scattered stars give a line that runs across the middle, were they spread evenly.
    expected = y.size / float(np.hypot(rows, columns))
    trails: list[Trail] = []
    for _ in range(_CANDIDATES):
        k, r = np.unravel_index(np.argmax(votes), votes.shape)
        if votes[k, r] < 2.0 * expected + 0.25 * min(rows, columns):
            break
        trail = _judge(pixels, background, angles[k], (r - reach + 0.5) * _BLOCK, fwhm_px)
        if trail is None or any(trail.lies_on(other) for other in trails):
            votes[max(k - 2, 0) : k + 3] = 0
            continue
        trails.append(trail)
        # What this trail lit must not propose it again at another angle.
        rest = trail.distance((x + 0.5) * _BLOCK, (y + 0.5) * _BLOCK) > 1.5 * _BLOCK
        x, y = x[rest], y[rest]
        votes[:] = 0
        _vote(x, y, np.cos(angles), np.sin(angles), reach, votes)
    return trails


@njit(cache=True, nogil=True)
def _lit_blocks(means, sky, mesh_px, least):  # type: ignore[no-untyped-def]
    """Row and column of each block, of four of those whose means are given, that is brighter than
    the sky by ``least``.
    """
    rows, columns = means.shape[0] // 2, means.shape[1] // 2
    y, x, count = np.empty(rows * columns, np.int64), np.empty(rows * columns, np.int64), 0
    for row in range(rows):
        cell = sky[min(int((row + 0.5) * _BLOCK) // mesh_px, sky.shape[0] - 1)]
        for column in range(columns):
            j, i = 2 * row, 2 * column
            four = means[j, i] + means[j, i + 1] + means[j + 1, i] + means[j + 1, i + 1]
            level = cell[min(int((column + 0.5) * _BLOCK) // mesh_px, sky.shape[1] - 1)]
            if np.float64(four) / 4.0 - level > least:
                y[count], x[count] = row, column
                count += 1
    return y[:count], x[:count]


@njit(cache=True, nogil=True)
def _vote(xs, ys, cosines, sines, reach, votes):  # type: ignore[no-untyped-def]
    places = np.empty(xs.size, np.int32)
    x, y = xs.astype(np.float32), ys.astype(np.float32)
    for k in range(cosines.size):
        cosine, sine, row = np.float32(cosines[k]), np.float32(sines[k]), votes[k]
        for n in range(places.size):
            places[n] = np.int32(x[n] * cosine + y[n] * sine + np.float32(reach))
        for n in range(places.size):
            row[np.uint32(places[n])] += 1


def _judge(
    pixels: Plane, background: Background, angle: float, offset_px: float, fwhm_px: float
) -> Trail | None:
    """Refine a proposed line on full pixels, then say where it is lit."""
    for reach in (2.0 * _BLOCK, 6.0):
        refined = _straighten(pixels, background, angle, offset_px, reach)
        if refined is None:
            return None
        angle, offset_px = refined
    on = _sample(pixels, background, angle, offset_px)
    if on is None:
        return None
    beside = [
        _sample(pixels, background, angle, offset_px + side * max(3.0 * fwhm_px, 8.0))
        for side in (-1, 1)
    ]
    # A trail is brighter than both its sides, all along and evenly; starlight is not.
    sides = [_pieces(other[2]) for other in beside if other is not None]
    pieces = _pieces(on[2])
    sizes = [side.size for side in sides] + [pieces.size]
    pieces = pieces[: min(sizes)]
    excess = pieces - np.max([side[: min(sizes)] for side in sides] + [0.0 * pieces], axis=0)
    noise = background.median_noise_adu / np.sqrt(_PIECE_PX / 1.57)
    first, last, filled = _longest(excess > 4.0 * noise)
    length = (last - first) * _PIECE_PX
    if length < _LEAST_LENGTH * min(pixels.shape) or filled < _LEAST_LIT * (last - first):
        return None
    if filled < min(_LEAST_PIECES, round(_ACROSS * min(pixels.shape) / _PIECE_PX)):
        return None
    lit = excess[first:last][excess[first:last] > 4.0 * noise]
    usual = middle(lit)
    spread = 1.4826 * middle(np.abs(lit - usual))
    if spread > _MOST_UNEVEN * usual + 2.0 * noise:
        return None
    if _along_pixels(angle, _ALONG_RAD) and _one_pixel_wide(
        pixels, background, angle, offset_px, fwhm_px
    ):
        return None
    if _along_pixels(angle, _NEARLY_RAD) and usual < _OVER_BANDS * _bands_adu(pixels, angle):
        return None
    # What is lit up to the last whole piece is lit up to the edge.
    a = 0 if first <= 1 else int(first * _PIECE_PX)
    b = on[0].size - 1 if last >= pieces.size - 1 else int(last * _PIECE_PX) - 1
    significance = usual / noise * float(np.sqrt(filled))
    return Trail(float(on[0][a]), float(on[1][a]), float(on[0][b]), float(on[1][b]), significance)


def _along_pixels(angle: float, most_rad: float) -> bool:
    """Whether a line runs along a column or a row, but for so small an angle."""
    quarter = np.pi / 2
    return bool(abs((angle + quarter / 2) % quarter - quarter / 2) < most_rad)


def _bands_adu(pixels: Plane, angle: float) -> float:
    """What the rows or columns that a line runs along scatter by, one beside the other."""
    lines = pixels if abs(np.sin(angle)) > abs(np.cos(angle)) else pixels.T
    medians = np.median(lines[:, :: max(1, lines.shape[1] // _BANDS_PX)], axis=1)
    steps = np.diff(medians)
    return 1.4826 * middle(np.abs(steps - middle(steps))) / np.sqrt(2.0)


def _one_pixel_wide(
    pixels: Plane, background: Background, angle: float, offset_px: float, fwhm_px: float
) -> bool:
    """Whether a line has no light where a trail, as wide as stars are, has half of it: a bad column
    or row of the sensor.
    """
    half = max(0.5 * fwhm_px, 1.0)
    lines = (_sample(pixels, background, angle, offset_px + d) for d in (-half, 0.0, half))
    light = [middle(line[2]) if line is not None else 0.0 for line in lines]
    return max(light[0], light[2]) < _LEAST_WIDE * light[1]


def _straighten(
    pixels: Plane, background: Background, angle: float, offset_px: float, reach: float
) -> tuple[float, float] | None:
    """A better angle and offset: the brightest offset of each piece of the line, then a straight
    line through those by the median of slopes (Theil–Sen).
    """
    on = _sample(pixels, background, angle, offset_px)
    if on is None:
        return None
    size = int(_PIECE_PX)
    count = on[0].size // size
    shifts = np.arange(-reach, reach + 0.5)
    best = shifts[_brightest(pixels, on[0], on[1], shifts, np.cos(angle), np.sin(angle), count)]
    t = (np.arange(count) - (count - 1) / 2.0) * size
    one, other = _all_pairs(count)
    slope = middle((best[other] - best[one]) / (t[other] - t[one]))
    between = middle(best - slope * t)
    centre = count * size // 2
    x0 = on[0][centre] + between * np.cos(angle)
    y0 = on[1][centre] + between * np.sin(angle)
    # Along the line t grows by (−sin, cos); a slope turns the normal by −arctan(slope).
    turned = angle - np.arctan(slope)
    return turned, float(x0 * np.cos(turned) + y0 * np.sin(turned))


@lru_cache(maxsize=64)
def _all_pairs(count: int) -> tuple[Ints, Ints]:
    """The places of every two of so many."""
    one, other = np.triu_indices(count, 1)
    return one, other


@njit(cache=True, nogil=True)
def _brightest(pixels, xs, ys, shifts, cosine, sine, count):  # type: ignore[no-untyped-def]
    """For each piece of a line, which shift across it has the largest median."""
    height, width = pixels.shape
    size = int(_PIECE_PX)
    best, values = np.zeros(count, np.int64), np.empty(size, np.float32)
    for piece in range(count):
        most = np.float32(-np.inf)
        for s in range(shifts.size):
            brighter = 0
            # With half a pixel, so that the whole part is the nearest.
            across, up = shifts[s] * cosine + 0.5, shifts[s] * sine + 0.5
            for n in range(size):
                at = piece * size + n
                i = min(max(xs[at] + across, 0.0), width - 1.0)
                j = min(max(ys[at] + up, 0.0), height - 1.0)
                values[n] = pixels[np.uint32(j), np.uint32(i)]
                brighter += 1 if values[n] > most else 0
            if 2 * brighter < size:
                continue  # the median can't be larger
            sort_few(values)
            middle = np.float32(0.5) * (values[size // 2 - 1] + values[size // 2])
            if middle > most:
                most, best[piece] = middle, s
    return best


def _sample(
    pixels: Plane, background: Background, angle: float, offset_px: float
) -> tuple[Floats, Floats, Floats] | None:
    """x, y and sky-subtracted value at each pixel step along a line."""
    x, y, values = _along(
        pixels, background.sky_adu, background.mesh_px, float(np.cos(angle)), float(np.sin(angle)),
        float(offset_px),
    )  # fmt: skip
    return None if x.size < min(pixels.shape) / 3 else (x, y, values)


@njit(cache=True, nogil=True)
def _along(pixels, sky, mesh_px, cosine, sine, offset):  # type: ignore[no-untyped-def]
    height, width = pixels.shape
    rows, columns = sky.shape
    reach = np.hypot(float(height), float(width))
    most = int(np.ceil(2.0 * reach))
    xs, ys, values = np.empty(most), np.empty(most), np.empty(most)
    count = 0
    for n in range(most):
        t = n - reach
        x, y = offset * cosine - t * sine, offset * sine + t * cosine
        if 0.0 <= x <= width - 1 and 0.0 <= y <= height - 1:
            row, column = min(int(y) // mesh_px, rows - 1), min(int(x) // mesh_px, columns - 1)
            xs[count], ys[count] = x, y
            values[count] = pixels[int(np.rint(y)), int(np.rint(x))] - np.float64(sky[row, column])
            count += 1
    return xs[:count], ys[:count], values[:count]


def _pieces(values: Floats) -> Floats:
    size = int(_PIECE_PX)
    count = max(1, values.size // size)
    return middles(values[: count * size].reshape(count, -1))


def _longest(lit: np.ndarray) -> tuple[int, int, int]:
    """The stretch of pieces that holds the most light, gaps of one piece allowed."""
    best = (0, 0, 0)
    first = 0
    while first < lit.size:
        if not lit[first]:
            first += 1
            continue
        last = first
        gap = 0
        end = first
        while last < lit.size and gap <= 2:
            gap = 0 if lit[last] else gap + 1
            if lit[last]:
                end = last + 1
            last += 1
        filled = int(lit[first:end].sum())
        if filled > best[2]:
            best = (first, end, filled)
        first = last
    return best
