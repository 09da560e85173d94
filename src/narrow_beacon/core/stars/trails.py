"""Find trails of satellites and aircraft: straight lines of light across an exposure.

A Hough transform of the bright blocks proposes lines; each is then judged at full resolution by
the median brightness along it against the lines beside it, which stars cannot fake.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.stars.background import Background
from narrow_beacon.core.stars.detect import _ramp

_BLOCK = 8
_ANGLES = 180
_BLOCK_SIGNIFICANCE = 4.0
_LEAST_SIGNIFICANCE = 12.0
_LEAST_LIT = 0.5
_PIECE_PX = 24.0
_CANDIDATES = 3


@dataclass(frozen=True)
class Trail:
    """A line from (x0, y0) to (x1, y1), 0-based pixels, and how far it stands above the noise."""

    x0_px: float
    y0_px: float
    x1_px: float
    y1_px: float
    significance: float

    def distance(self, x_px: Floats, y_px: Floats) -> Floats:
        """Distance of positions from the trail, in pixels."""
        dx, dy = self.x1_px - self.x0_px, self.y1_px - self.y0_px
        length2 = dx * dx + dy * dy
        along = (
            (np.asarray(x_px) - self.x0_px) * dx + (np.asarray(y_px) - self.y0_px) * dy
        ) / length2
        along = np.clip(along, 0.0, 1.0)
        return np.hypot(x_px - self.x0_px - along * dx, y_px - self.y0_px - along * dy)


def find_trails(pixels: Plane, background: Background, fwhm_px: float) -> list[Trail]:
    """Trails at least a third of the short side long on an image (height, width)."""
    height, width = pixels.shape
    blocks = np.empty((height // _BLOCK, width // _BLOCK), np.float32)
    _block_means(pixels, background.sky_adu, background.mesh_px, blocks)
    noise = background.median_noise_adu / _BLOCK
    y, x = np.nonzero(blocks > _BLOCK_SIGNIFICANCE * noise)
    if y.size < 10:
        return []
    reach = int(np.hypot(*blocks.shape)) + 2
    votes = np.zeros((_ANGLES, 2 * reach), np.int32)
    angles = np.arange(_ANGLES) * np.pi / _ANGLES
    _vote(x, y, np.cos(angles), np.sin(angles), reach, votes)
    # A line of n blocks has some 0.5 n + 10 votes beyond what scattered stars give it.
    expected = np.median(votes[votes > 0]) if votes.any() else 0.0
    trails: list[Trail] = []
    for _ in range(_CANDIDATES):
        k, r = np.unravel_index(np.argmax(votes), votes.shape)
        if votes[k, r] < 2 * expected + 0.25 * min(blocks.shape):
            break
        trail = _judge(pixels, background, angles[k], (r - reach + 0.5) * _BLOCK, fwhm_px)
        if trail:
            trails.append(trail)
        near = np.minimum(np.abs(np.arange(_ANGLES) - k), _ANGLES - np.abs(np.arange(_ANGLES) - k))
        votes[near < 4] = 0
    return trails


@njit(cache=True, nogil=True, fastmath=True)
def _block_means(pixels, sky, mesh_px, blocks):  # type: ignore[no-untyped-def]
    rows, columns = blocks.shape
    width = pixels.shape[1]
    level = np.empty(width, np.float32)
    sums = np.empty(width, np.float32)
    for j in range(rows):
        _ramp(sky, j * _BLOCK + _BLOCK // 2, mesh_px, level)
        for x in range(width):
            sums[x] = -_BLOCK * level[x]
        for dy in range(_BLOCK):
            row = pixels[j * _BLOCK + dy]
            for x in range(width):
                sums[x] += row[x]
        for i in range(columns):
            total = np.float32(0.0)
            for dx in range(_BLOCK):
                total += sums[i * _BLOCK + dx]
            blocks[j, i] = total / (_BLOCK * _BLOCK)


@njit(cache=True, nogil=True)
def _vote(xs, ys, cosines, sines, reach, votes):  # type: ignore[no-untyped-def]
    for n in range(xs.size):
        for k in range(cosines.size):
            votes[k, int(np.floor(xs[n] * cosines[k] + ys[n] * sines[k])) + reach] += 1


def _judge(
    pixels: Plane, background: Background, angle: float, offset_px: float, fwhm_px: float
) -> Trail | None:
    """Refine angle and offset on full pixels, then say where the line is lit."""
    best = None
    for fine in (2.0 * _BLOCK / _ANGLES, 0.02, 0.005):
        steps = np.linspace(-1, 1, 9)
        shift = _BLOCK * 1.5 if fine > 0.05 else 4.0 if fine > 0.01 else 1.5
        for d_angle in steps * fine * 0.5:
            for d_offset in np.linspace(-1, 1, 9 if fine > 0.05 else 5) * shift:
                line = _sample(pixels, background, angle + d_angle, offset_px + d_offset)
                if line is None:
                    continue
                score = float(np.median(line[2]))
                if best is None or score > best[0]:
                    best = (score, angle + d_angle, offset_px + d_offset)
        if best is None:
            return None
        _, angle, offset_px = best
    on = _sample(pixels, background, angle, offset_px)
    beside = [
        _sample(pixels, background, angle, offset_px + side * max(3.0 * fwhm_px, 8.0))
        for side in (-1, 1)
    ]
    if on is None:
        return None
    pieces = _pieces(on[2])
    base = [float(np.median(other[2])) for other in beside if other is not None]
    noise = background.median_noise_adu / np.sqrt(_PIECE_PX / 1.57)
    lit = pieces > 3.0 * noise + max([0.0, *base])
    first, last, filled = _longest(lit)
    length = (last - first) * _PIECE_PX
    if length < min(pixels.shape) / 3 or filled < _LEAST_LIT * (last - first):
        return None
    signal = float(np.median(pieces[first:last])) - (float(np.mean(base)) if base else 0.0)
    significance = signal / noise * np.sqrt(last - first)
    if significance < _LEAST_SIGNIFICANCE:
        return None
    a, b = int(first * _PIECE_PX), min(int(last * _PIECE_PX), on[0].size) - 1
    return Trail(float(on[0][a]), float(on[1][a]), float(on[0][b]), float(on[1][b]), significance)


def _sample(
    pixels: Plane, background: Background, angle: float, offset_px: float
) -> tuple[Floats, Floats, Floats] | None:
    """x, y and sky-subtracted value at each pixel step along a line."""
    height, width = pixels.shape
    reach = np.hypot(height, width)
    t = np.arange(-reach, reach)
    x = offset_px * np.cos(angle) - t * np.sin(angle)
    y = offset_px * np.sin(angle) + t * np.cos(angle)
    inside = (x >= 0) & (x <= width - 1) & (y >= 0) & (y <= height - 1)
    if inside.sum() < min(height, width) / 3:
        return None
    x, y = x[inside], y[inside]
    values = pixels[np.rint(y).astype(int), np.rint(x).astype(int)]
    return x, y, values - background.at(x, y)[0]


def _pieces(values: Floats) -> Floats:
    size = int(_PIECE_PX)
    count = max(1, values.size // size)
    return np.median(values[: count * size].reshape(count, -1), axis=1)


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
