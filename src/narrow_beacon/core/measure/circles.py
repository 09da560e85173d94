"""Light within circles of a set of radii about a star, exact and without a branch.

Which pixels a circle surely holds, and which it may cut, is worked out once for all places that a
star can have in a quarter of its pixel; the other quarters are mirror images of it. A star's own
place then only says how much of each of the second kind lies within: by the formulas of
``overlap``, which give nothing for a pixel outside and all of one inside, so that every star takes
the same steps and the processor works on several pixels at once.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints, Plane
from narrow_beacon.core.measure.overlap import pixel_overlap

_LANES = 16
"""Pixels that are worked on together; the lists are filled up to whole numbers of these."""
_FAR = 1e4
_SMALL_PX = 1.5
"""Smaller circles bend too much within a pixel for the series of ``cut_areas``."""


@dataclass(frozen=True)
class Circles:
    """Pixels of a square patch, ``2 · half_px + 1`` a side and row by row, about a star that stands
    right of and above the middle of the patch's middle pixel by up to half a pixel.

    ``held`` are pixels in order of the first circle that surely holds them, those of circle k from
    ``held_from[k]`` on; ``cut`` are pixels that a circle may cut, with the same ``cut_from``. The
    rows of ``geometry`` (5, cut) are how many columns each is away from the middle, on which side
    (−1 or 1), the same for rows, and the circle's radius; a pixel of the middle column or row
    stands once for each side.
    """

    half_px: int
    held: Ints
    held_from: Ints
    cut: Ints
    cut_from: Ints
    geometry: Plane


def circles_of(radii_px: Floats) -> Circles:
    """The circles of a set of radii in pixels, ascending."""
    return _circles(tuple(float(radius) for radius in radii_px))


@lru_cache(maxsize=16)
def _circles(radii_px: tuple[float, ...]) -> Circles:
    radii = np.array(radii_px)
    half = int(np.ceil(radii[-1])) + 1
    held_from, cut_from = np.zeros(radii.size + 1, np.int64), np.zeros(radii.size + 1, np.int64)
    nothing = np.empty(0, np.int32), np.empty(0, np.int32), np.empty((5, 0), np.float32)
    _sort_pixels(radii, half, held_from, cut_from, *nothing)
    held_from = np.cumsum(held_from)
    cut_from = np.cumsum((cut_from + _LANES - 1) // _LANES * _LANES)
    held, cut = np.empty(held_from[-1], np.int32), np.zeros(cut_from[-1], np.int32)
    geometry = np.full((5, cut.size), _FAR, np.float32)  # what fills up is far outside its circle
    geometry[4] = 1.0
    _sort_pixels(radii, half, held_from.copy(), cut_from.copy(), held, cut, geometry)
    return Circles(half, held, held_from, cut, cut_from, geometry)


@njit(cache=True, nogil=True)
def _sort_pixels(radii, half, held_at, cut_at, held, cut, geometry):  # type: ignore[no-untyped-def]
    """List the pixels of each circle from ``held_at`` and ``cut_at`` on, which move on; where there
    is no room for them count them in the places that follow.
    """
    listed = held.size > 0
    shift = 0 if listed else 1
    for j in range(-half, half + 1):
        for i in range(-half, half + 1):
            place = (j + half) * (2 * half + 1) + i + half
            # From the star to the pixel's nearest and farthest corner, wherever the star is.
            near = np.hypot(max(i - 1.0, -0.5 - i, 0.0), max(j - 1.0, -0.5 - j, 0.0))
            far = np.hypot(max(1.0 - i, i + 0.5), max(1.0 - j, j + 0.5))
            for k in range(radii.size):
                if radii[k] >= far:
                    if listed:
                        held[held_at[k]] = place
                    held_at[k + shift] += 1
                    break
                if radii[k] <= near or radii[k] < _SMALL_PX:
                    continue
                for side in (-1, 1):
                    for over in (-1, 1):
                        if i * side < 0 or j * over < 0:
                            continue
                        if listed:
                            at = cut_at[k]
                            cut[at] = place
                            geometry[0, at], geometry[1, at] = abs(i), side
                            geometry[2, at], geometry[3, at] = abs(j), over
                            geometry[4, at] = radii[k]
                        cut_at[k + shift] += 1


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def cut_areas(geometry, fx, fy, areas):  # type: ignore[no-untyped-def]
    """How much of each pixel in the rows of ``Circles.geometry`` lies within its circle, (pixels),
    for a star at (fx, fy) from the middle of the patch, each 0 to 0.5; all 32-bit floats.

    The same formula as ``overlap``'s, for the part of the pixel in one quadrant about the star.
    """
    zero, half, quarter = np.float32(0.0), np.float32(0.5), np.float32(0.25)
    size = areas.size // _LANES * _LANES
    # One name for each row, from its beginning: else the compiler works on one pixel at a time.
    columns, sides, rows = geometry[0, :size], geometry[1, :size], geometry[2, :size]
    overs, radii, areas = geometry[3, :size], geometry[4, :size], areas[:size]
    for n in range(size):
        x, y, r = columns[n] - sides[n] * fx, rows[n] - overs[n] * fy, radii[n]
        # The rectangle [a, c] × [b, d] that the pixel has in this quadrant.
        a, b, c, d = max(x - half, zero), max(y - half, zero), x + half, y + half
        # Differences before squares: 32 bits hold those of far pixels only so.
        top = (r - d) * (r + d)
        over = top > a * a
        root = np.sqrt(max(top if over else (r - a) * (r + a), zero))
        xa = min(root, c) if over else a
        ya = d if over else max(root, b)
        right = (r - c) * (r + c)
        beyond = right > b * b
        foot = np.sqrt(max(right if beyond else (r - b) * (r + b), zero))
        xb = c if beyond else max(foot, a)
        yb = min(foot, d) if beyond else b
        dx, dy = xb - xa, ya - yb
        segment = quarter * (dx * dx + dy * dy)
        q = segment / (r * r)
        series = np.float32(2 / 3) + q * (np.float32(1 / 5) + q * (np.float32(3 / 28) + q * (
            np.float32(5 / 72) + q * (np.float32(35 / 704) + q * (np.float32(63 / 1664) + q * (
                np.float32(0.03007812) + q * np.float32(0.02464518)))))))  # fmt: skip
        area = (xa - a) * (d - b) + dx * (half * (ya + yb) - b)
        areas[n] = area + segment * np.sqrt(q) * series


@njit(cache=True, nogil=True)
def circle_sums(patch, half, radii, fx, fy, held, held_from, cut, cut_from, areas, sums):  # type: ignore[no-untyped-def]
    """Fill in the sum within each circle (radii) of a flat patch of 32-bit floats, by the areas of
    ``cut_areas``.
    """
    whole = 0.0
    for k in range(radii.size):
        # Four sums at once: each waits for its last one.
        s0 = s1 = s2 = s3 = np.float32(0.0)
        inside = held[held_from[k] : held_from[k + 1]]
        fours = inside.size // 4 * 4
        for n in range(0, fours, 4):
            s0 += patch[np.uint32(inside[n])]
            s1 += patch[np.uint32(inside[n + 1])]
            s2 += patch[np.uint32(inside[n + 2])]
            s3 += patch[np.uint32(inside[n + 3])]
        for n in range(fours, inside.size):
            s0 += patch[np.uint32(inside[n])]
        whole += np.float64(s0 + s1) + np.float64(s2 + s3)
        at, weights = cut[cut_from[k] : cut_from[k + 1]], areas[cut_from[k] : cut_from[k + 1]]
        s0 = s1 = s2 = s3 = np.float32(0.0)
        for n in range(0, at.size, 4):
            s0 += patch[np.uint32(at[n])] * weights[n]
            s1 += patch[np.uint32(at[n + 1])] * weights[n + 1]
            s2 += patch[np.uint32(at[n + 2])] * weights[n + 2]
            s3 += patch[np.uint32(at[n + 3])] * weights[n + 3]
        sums[k] = whole + (s0 + s1) + (s2 + s3)
        if radii[k] < _SMALL_PX:
            sums[k] += _small_light(patch, half, fx, fy, radii[k])


@njit(cache=True, nogil=True)
def _small_light(patch, half, fx, fy, radius):  # type: ignore[no-untyped-def]
    """Of a circle of less than 1.5 pixels, the light of pixels that it may cut."""
    total, reach = 0.0, min(half, 3)
    for j in range(-reach, reach + 1):
        for i in range(-reach, reach + 1):
            if np.hypot(max(1.0 - i, i + 0.5), max(1.0 - j, j + 0.5)) > radius:
                value = patch[(j + half) * (2 * half + 1) + i + half]
                total += value * pixel_overlap(i - fx, j - fy, radius)
    return total


@njit(cache=True, nogil=True, fastmath=True)
def highest_value(patch, half, radius, held, cut, geometry, first, last, fx, fy):  # type: ignore[no-untyped-def]
    """The highest value of a flat patch within the largest circle: of those that it holds, and of
    those from ``first`` to ``last`` that it cuts if their middle is inside; at least that of the
    star's own pixel.
    """
    h0 = h1 = h2 = h3 = patch[half * (2 * half + 1) + half]
    fours = held.size // 4 * 4
    for n in range(0, fours, 4):
        h0 = max(h0, patch[np.uint32(held[n])])
        h1 = max(h1, patch[np.uint32(held[n + 1])])
        h2 = max(h2, patch[np.uint32(held[n + 2])])
        h3 = max(h3, patch[np.uint32(held[n + 3])])
    for n in range(fours, held.size):
        h0 = max(h0, patch[np.uint32(held[n])])
    highest = max(max(h0, h1), max(h2, h3))
    columns, sides, rows, overs, radii = geometry
    for n in range(first, last):
        value = patch[np.uint32(cut[n])]
        if value > highest:
            x, y = columns[n] - sides[n] * fx, rows[n] - overs[n] * fy
            if x * x + y * y <= radii[n] * radii[n]:
                highest = value
    if radius < _SMALL_PX:
        for j in range(-1, 3):
            for i in range(-1, 3):
                if (i - fx) ** 2 + (j - fy) ** 2 <= radius * radius:
                    highest = max(highest, patch[(j + half) * (2 * half + 1) + i + half])
    return highest
