"""Judge pairs of patterns: if these stars were those, how many of the others would coincide?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.sky_index import CELL_BAND, positions
from narrow_beacon.core.place.patterns import Cells
from narrow_beacon.core.place.solution import Solution, project

_ARCSEC_RAD = 1.0 / 206264.806
_CELL_STARS = 8
_REACH = 3
_EARLY, _EARLY_MATCHED = 30, 5
"""Where so many of the sky's stars are on the image and fewer than so many coincide, those of the
pattern among them, the others are not looked at."""


class PatternPairs(NamedTuple):
    """Patterns of the sky and of the image that look alike: unit vectors of a level's stars, which
    of them make each pattern, the rows of its stars on the image, and −1 where the image is
    mirrored, else 1.
    """

    vectors: Floats
    cells: Cells
    sky_stars: Ints
    image_stars: Ints
    sign: float


class ImageStars(NamedTuple):
    """The brightest stars of an image of (height, width), listed by cells of ``cell_px``; two
    coincide within ``radius_px``.
    """

    x_px: Floats
    y_px: Floats
    grid: Ints
    cell_px: float
    radius_px: float
    height: int
    width: int


class Transform(NamedTuple):
    """From the image to the sky: the middle of a pattern's first two stars, unit vectors along and
    across, and plane = scale · pixel + shift in complex numbers.
    """

    middle: Floats
    along: Floats
    across: Floats
    scale: complex
    shift: complex


@dataclass(frozen=True)
class Verdict:
    """Of each pair: the level's stars about the pattern that are on the image, −1 where its scale
    is out of the question, how many of them coincide with stars there, and the transform.
    """

    inside: Ints
    matched: Ints
    middle: Floats
    along: Floats
    across: Floats
    linear: Floats

    def transform(self, pair: int) -> Transform:
        """The transform of a pair."""
        scale, shift = self.linear[pair]
        return Transform(
            self.middle[pair], self.along[pair], self.across[pair], complex(scale), complex(shift)
        )


def image_stars(x_px: Floats, y_px: Floats, shape: tuple[int, int]) -> ImageStars:
    """The stars of an image (height, width), 0-based and brightest first, ready to be compared."""
    radius = max(3.0, 0.008 * min(shape))
    cell = 2.0 * radius
    rows, columns = int(shape[0] / cell) + 2, int(shape[1] / cell) + 2
    grid = np.full((rows, columns, _CELL_STARS), -1, np.int64)
    for n in range(x_px.size):
        place = grid[int(max(y_px[n], 0) / cell), int(max(x_px[n], 0) / cell)]
        free = np.flatnonzero(place < 0)
        if free.size:
            place[free[0]] = n
    return ImageStars(x_px, y_px, grid, cell, radius, shape[0], shape[1])


def judge(
    pairs: PatternPairs,
    x_px: Floats,
    y_px: Floats,
    image: ImageStars,
    scales_arcsec: tuple[float, float],
) -> Verdict:
    """Look at every pair of patterns; ``x_px`` and ``y_px`` are the places of the image's stars
    that patterns are made of.
    """
    count = pairs.sky_stars.shape[0]
    verdict = Verdict(
        np.full(count, -1, np.int64), np.zeros(count, np.int64), np.empty((count, 3)),
        np.empty((count, 3)), np.empty((count, 3)), np.empty((count, 2), complex),
    )  # fmt: skip
    _judge(
        pairs, x_px + 1j * pairs.sign * y_px, image, scales_arcsec[0] * _ARCSEC_RAD,
        scales_arcsec[1] * _ARCSEC_RAD, verdict.inside, verdict.matched, verdict.middle,
        verdict.along, verdict.across, verdict.linear,
    )  # fmt: skip
    return verdict


def as_solution(transform: Transform, sign: float, shape: tuple[int, int]) -> Solution:
    """A linear solution about the middle of the image from a pattern's transform."""
    height, width = shape
    x0, y0 = (width - 1) / 2.0, (height - 1) / 2.0
    step = 0.25 * min(shape)
    points = np.array(
        [x0 + 1j * sign * y0, x0 + step + 1j * sign * y0, x0 + 1j * sign * (y0 + step)]
    )
    plane = transform.scale * points + transform.shift
    across, along = transform.across, transform.along
    vectors = transform.middle + plane.real[:, None] * along + plane.imag[:, None] * across
    ra, dec = positions(vectors)
    xi, eta = project(ra[1:], dec[1:], float(ra[0]), float(dec[0]))
    cd = np.array([[xi[0], xi[1]], [eta[0], eta[1]]]) / step
    return Solution.linear(float(ra[0]), float(dec[0]), x0, y0, cd, shape)


@njit(cache=True, nogil=True)
def _judge(  # type: ignore[no-untyped-def]
    pairs, z, image, lowest, highest, inside_image, coincide, middles, alongs, acrosses, linear
):
    """Fill in the parts of a verdict, for scales from ``lowest`` to ``highest`` radians a pixel."""
    vectors = pairs.vectors
    for n in range(pairs.sky_stars.shape[0]):
        va, vb = vectors[pairs.sky_stars[n, 0]], vectors[pairs.sky_stars[n, 1]]
        za, zb = z[pairs.image_stars[n, 0]], z[pairs.image_stars[n, 1]]
        m = va + vb
        m /= np.sqrt(np.sum(m * m))
        u = vb - va
        e1 = u / np.sqrt(np.sum(u * u))
        e2 = np.array([
            m[1] * e1[2] - m[2] * e1[1], m[2] * e1[0] - m[0] * e1[2], m[0] * e1[1] - m[1] * e1[0],
        ])  # fmt: skip
        half = np.sum(vb * e1) / np.sum(vb * m)
        a = 2.0 * half / (zb - za)
        b = -half - a * za
        scale = abs(a)
        if scale < lowest or scale > highest:
            continue
        for k in range(3):
            middles[n, k], alongs[n, k], acrosses[n, k] = m[k], e1[k], e2[k]
        linear[n, 0], linear[n, 1] = a, b
        inside, matched = _coincide(
            pairs.vectors, pairs.cells, pairs.sky_stars[n, 0], m, e1, e2, a, b, pairs.sign, image,
            scale,
        )  # fmt: skip
        inside_image[n] = inside
        coincide[n] = matched


@njit(cache=True, nogil=True)
def _coincide(  # type: ignore[no-untyped-def]
    vectors, cells, first, m, e1, e2, a, b, sign, image, scale
):
    """How many stars of the cells about a pattern's first star are on the image, and how many of
    them coincide with stars there.
    """
    inside = 0
    matched = 0
    diagonal = np.degrees(scale * np.hypot(image.width, image.height))
    reach = min(_REACH, int(np.ceil(diagonal / cells.size_deg)))
    dec0 = np.degrees(np.arcsin(min(max(vectors[first, 2], -1.0), 1.0)))
    band0 = int(np.floor((dec0 + 90.0) / cells.size_deg))
    turn0 = np.arctan2(vectors[first, 1], vectors[first, 0]) / (2.0 * np.pi) % 1.0
    for step in range(2 * reach + 1):
        # From the middle outwards.
        band = band0 + (step + 1) // 2 * (1 if step % 2 else -1)
        middle = np.radians((band + 0.5) * cells.size_deg - 90.0)
        columns = max(int(np.floor(360.0 * np.cos(middle) / cells.size_deg)), 1)
        if middle < -0.5 * np.pi or middle > 0.5 * np.pi:
            columns = 1
        wide = min(2 * reach + 1, columns)
        left = int(turn0 * columns) - wide // 2
        for k in range(wide):
            cell = band * CELL_BAND + (left + k) % columns
            at = np.searchsorted(cells.ids, cell)
            if at == cells.ids.size or cells.ids[at] != cell:
                continue
            for where in range(cells.starts[at], cells.starts[at + 1]):
                v = vectors[where]
                dm = v[0] * m[0] + v[1] * m[1] + v[2] * m[2]
                if dm <= 0.1:
                    continue
                p1 = (v[0] * e1[0] + v[1] * e1[1] + v[2] * e1[2]) / dm
                p2 = (v[0] * e2[0] + v[1] * e2[1] + v[2] * e2[2]) / dm
                w = (complex(p1, p2) - b) / a
                x, y = w.real, sign * w.imag
                if x < 0 or y < 0 or x > image.width - 1 or y > image.height - 1:
                    continue
                inside += 1
                if _hit(image, x, y):
                    matched += 1
                if inside == _EARLY and matched < _EARLY_MATCHED:
                    return inside, matched
    return inside, matched


@njit(cache=True, nogil=True)
def _hit(image, x, y):  # type: ignore[no-untyped-def]
    """Whether a star of the image is near a place."""
    grid = image.grid
    gx, gy = int(x / image.cell_px), int(y / image.cell_px)
    for j in range(max(gy - 1, 0), min(gy + 2, grid.shape[0])):
        for i in range(max(gx - 1, 0), min(gx + 2, grid.shape[1])):
            for k in range(grid.shape[2]):
                t = grid[j, i, k]
                if t < 0:
                    break
                away2 = (image.x_px[t] - x) ** 2 + (image.y_px[t] - y) ** 2
                if away2 < image.radius_px**2:
                    return True
    return False
