"""Patterns of four stars, coded by numbers that shift, turn and scale do not change.

Two stars A, B span the pattern; C and D lie in the circle over AB. In the frame where A is 0 and
B is 1 of the complex plane, the positions of C and D are the code. The idea is described by Lang
et al. (2010, AJ 139, 1782).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.sky_index import sky_cells

STARS_PER_CELL = 6
SPREAD = 1.5
"""Longest over shortest span of the patterns of one level."""
CODE_TOLERANCE = 0.012
_INNER = 4
_BINS, _NEAREST = 32, 3
_MOST_QUADS = 3_000_000


@dataclass(frozen=True)
class Quads:
    """Codes (quads, 4) and the rows of A, B, C, D (quads, 4)."""

    codes: Floats
    stars: Ints


def image_quads(x_px: Floats, y_px: Floats, shortest_px: float, longest_px: float) -> Quads:
    """Patterns among stars on an image, given brightest first, with spans in a range."""
    room = x_px.size * x_px.size * _INNER * (_INNER - 1) // 2 + 1
    codes, stars = np.empty((room, 4)), np.empty((room, 4), np.int64)
    count = _image_quads(x_px, y_px, shortest_px, longest_px, codes, stars)
    return Quads(codes[:count], stars[:count])


class Cells(NamedTuple):
    """Stars that stand cell after cell of the sky: the ``ids`` of those that hold any, ascending,
    and where each one's stars start, brightest first; the last start is the end of all.
    """

    size_deg: float
    ids: Ints
    starts: Ints


@dataclass(frozen=True)
class Level:
    """Patterns of catalogue stars with spans from ``span_deg`` to ``SPREAD`` times that."""

    span_deg: float
    vectors: Floats
    """Unit vectors of the stars chosen for this level, cell after cell."""
    cells: Cells
    quads: Quads
    """In the order of their codes' bins."""
    offsets: Ints
    """Where each bin's patterns begin."""

    @property
    def pattern_stars(self) -> Ints:
        """Rows of A, B, C, D in ``vectors``, (patterns, 4)."""
        return self.quads.stars

    def alike(self, codes: Floats) -> tuple[Ints, Ints, Floats]:
        """Pairs of codes (rows, 4) and patterns that are alike: row, pattern, distance; of each
        code the nearest few.
        """
        distance = np.full((codes.shape[0], _NEAREST), np.inf)
        which = np.zeros(distance.shape, np.int64)
        _nearest_codes(codes, self.quads.codes, self.offsets, which, distance)
        row, column = np.nonzero(np.isfinite(distance))
        return row, which[row, column], distance[row, column]


def catalogue_level(vectors: Floats, span_deg: float) -> Level | None:
    """Patterns of one size among catalogue stars (unit vectors, brightest first).

    The brightest few stars of each cell as large as the span take part, so that the pattern's
    density follows the field that it is meant for. None where there are too few.
    """
    chosen = brightest_per_cell(vectors, span_deg)
    if chosen.size < 4:
        return None
    v = vectors[chosen]
    chord = 2 * np.sin(np.radians(span_deg) / 2)
    starts, neighbours = neighbours_within(v, SPREAD * chord)
    pairs = neighbours.size // 2
    if pairs < 6:
        return None
    room = min(_MOST_QUADS, pairs * _INNER * (_INNER - 1) // 2)
    codes, stars = np.empty((room, 4)), np.empty((room, 4), np.int64)
    count = _catalogue_quads(v, starts, neighbours, chord, codes, stars)
    if count == 0:
        return None
    # From here on the stars stand cell after cell, so that those about a pattern lie together.
    order, cells = cells_of(v, span_deg)
    place = np.empty(order.size, np.int64)
    place[order] = np.arange(order.size)
    by_bin, offsets = _by_bin(codes[:count])
    quads = Quads(codes[by_bin], place[stars[by_bin]])
    return Level(span_deg, v[order], cells, quads, offsets)


@njit(cache=True, nogil=True)
def _bin(number):  # type: ignore[no-untyped-def]
    """The bin of one of a code's numbers, from 0 to 1."""
    return min(max(int(np.floor(number * _BINS)), 0), _BINS - 1)


@njit(cache=True, nogil=True)
def _by_bin(codes):  # type: ignore[no-untyped-def]
    """The order of codes bin after bin of their first three numbers, and where each begins."""
    count = codes.shape[0]
    bins = np.empty(count, np.int64)
    offsets = np.zeros(_BINS**3 + 1, np.int64)
    for n in range(count):
        first = _bin(codes[n, 0]) * _BINS + _bin(codes[n, 1] + 0.5)
        bins[n] = first * _BINS + _bin(codes[n, 2])
        offsets[bins[n] + 1] += 1
    for n in range(_BINS**3):
        offsets[n + 1] += offsets[n]
    filled, order = offsets.copy(), np.empty(count, np.int64)
    for n in range(count):
        order[filled[bins[n]]] = n
        filled[bins[n]] += 1
    return order, offsets


@njit(cache=True, nogil=True)
def _nearest_codes(codes, kept, offsets, which, distance):  # type: ignore[no-untyped-def]
    """Of each code the nearest of those kept, nearest first, among those within the tolerance."""
    for n in range(codes.shape[0]):
        c0, c1, c2, c3 = codes[n, 0], codes[n, 1] + 0.5, codes[n, 2], codes[n, 3]
        low2, high2 = _bin(c2 - CODE_TOLERANCE), _bin(c2 + CODE_TOLERANCE)
        for b0 in range(_bin(c0 - CODE_TOLERANCE), _bin(c0 + CODE_TOLERANCE) + 1):
            for b1 in range(_bin(c1 - CODE_TOLERANCE), _bin(c1 + CODE_TOLERANCE) + 1):
                first = (b0 * _BINS + b1) * _BINS
                for q in range(offsets[first + low2], offsets[first + high2 + 1]):
                    away2 = (
                        (kept[q, 0] - c0) ** 2 + (kept[q, 1] + 0.5 - c1) ** 2
                        + (kept[q, 2] - c2) ** 2 + (kept[q, 3] - c3) ** 2
                    )  # fmt: skip
                    away = np.sqrt(away2)
                    if away >= CODE_TOLERANCE or away >= distance[n, _NEAREST - 1]:
                        continue
                    at = _NEAREST - 1
                    while at > 0 and distance[n, at - 1] > away:
                        distance[n, at], which[n, at] = distance[n, at - 1], which[n, at - 1]
                        at -= 1
                    distance[n, at], which[n, at] = away, q


def neighbours_within(vectors: Floats, chord: float) -> tuple[Ints, Ints]:
    """Which others lie within a chord of each star (unit vectors): where each one's list starts,
    (stars + 1), and the lists one after the other, each ascending.
    """
    # Cubes as large as the chord, numbered so that those above one another follow.
    cube = np.floor((vectors + 1.0) / chord).astype(np.int64) + 1
    side = int(2.0 / chord) + 4
    number = (cube[:, 0] * side + cube[:, 1]) * side + cube[:, 2]
    order = np.argsort(number, kind="stable")
    pairs = order[_pairs(vectors[order], chord, number[order], side)]
    return _listed(pairs, vectors.shape[0])


@njit(cache=True, nogil=True)
def _pairs(vectors, chord, number, side):  # type: ignore[no-untyped-def]
    """Pairs of stars within a chord (pairs, 2); stars stand cube after cube. Each looks at what
    follows it in its own column of cubes, and at the four columns beside it that come later.
    """
    pairs = np.empty((8 * number.size + 8, 2), np.int64)
    beside = np.array([0, side, side * side - side, side * side, side * side + side])
    at = np.zeros(5, np.int64)
    count = 0
    for n in range(number.size):
        x, y, z = vectors[n, 0], vectors[n, 1], vectors[n, 2]
        for run in range(5):
            low, high = number[n] + beside[run] - 1, number[n] + beside[run] + 1
            while at[run] < number.size and number[at[run]] < low:
                at[run] += 1
            other = n + 1 if run == 0 else at[run]
            while other < number.size and number[other] <= high:
                dx, dy, dz = x - vectors[other, 0], y - vectors[other, 1], z - vectors[other, 2]
                if dx * dx + dy * dy + dz * dz <= chord * chord:
                    if count == pairs.shape[0]:
                        more = np.empty((2 * count, 2), np.int64)
                        for k in range(count):
                            more[k, 0], more[k, 1] = pairs[k, 0], pairs[k, 1]
                        pairs = more
                    pairs[count, 0], pairs[count, 1] = n, other
                    count += 1
                other += 1
    return pairs[:count]


@njit(cache=True, nogil=True)
def _listed(pairs, stars):  # type: ignore[no-untyped-def]
    """Lists of neighbours from unordered pairs: dealt out by the one, then in that order by the
    other, so that nothing has to be sorted.
    """
    starts = np.zeros(stars + 1, np.int64)
    for n in range(pairs.shape[0]):
        starts[pairs[n, 0] + 1] += 1
        starts[pairs[n, 1] + 1] += 1
    for n in range(stars):
        starts[n + 1] += starts[n]
    owners, filled = np.empty(starts[stars], np.int64), starts[:-1].copy()
    for n in range(pairs.shape[0]):
        for k in range(2):
            at = pairs[n, k]
            owners[filled[at]] = pairs[n, 1 - k]
            filled[at] += 1
    neighbours, filled = np.empty_like(owners), starts[:-1].copy()
    for star in range(stars):
        for k in range(starts[star], starts[star + 1]):
            owner = owners[k]
            neighbours[filled[owner]] = star
            filled[owner] += 1
    return starts, neighbours


def cells_of(vectors: Floats, size_deg: float) -> tuple[Ints, Cells]:
    """The order of stars (unit vectors, brightest first) cell after cell, and those cells."""
    cell = _cell_of(vectors, size_deg)
    order = np.argsort(cell, kind="stable")
    ids, starts = np.unique(cell[order], return_index=True)
    return order, Cells(size_deg, ids, np.append(starts, cell.size))


def _cell_of(vectors: Floats, size_deg: float) -> Ints:
    dec = np.degrees(np.arcsin(np.clip(vectors[:, 2], -1, 1)))
    turn = np.arctan2(vectors[:, 1], vectors[:, 0]) / (2.0 * np.pi) % 1.0
    return sky_cells(turn, dec, size_deg)


def brightest_per_cell(vectors: Floats, size_deg: float, stars: int = STARS_PER_CELL) -> Ints:
    """Rows of the brightest stars of each cell, in their order (unit vectors, brightest first)."""
    cell = _cell_of(vectors, size_deg)
    order = np.argsort(cell, kind="stable")
    sorted_cells = cell[order]
    first = np.searchsorted(sorted_cells, sorted_cells, side="left")
    rank = np.arange(cell.size) - first
    return np.sort(order[rank < stars])


@njit(cache=True, nogil=True)
def put_pattern(codes, stars, n, a, b, c, d, cx, cy, dx, dy):  # type: ignore[no-untyped-def]
    """Write a code in its one canonical form: C and D ordered, the pair nearer to A."""
    if cx + dx > 1.0:
        a, b = b, a
        cx, cy, dx, dy = 1.0 - cx, -cy, 1.0 - dx, -dy
    if cx > dx:
        c, d = d, c
        cx, cy, dx, dy = dx, dy, cx, cy
    codes[n, 0], codes[n, 1], codes[n, 2], codes[n, 3] = cx, cy, dx, dy
    stars[n, 0], stars[n, 1], stars[n, 2], stars[n, 3] = a, b, c, d


@njit(cache=True, nogil=True)
def _image_quads(x, y, shortest, longest, codes, stars):  # type: ignore[no-untyped-def]
    count = 0
    inner = np.empty(_INNER, np.int64)
    zx = np.empty(_INNER)
    zy = np.empty(_INNER)
    for a in range(x.size):
        for b in range(a + 1, x.size):
            ux, uy = x[b] - x[a], y[b] - y[a]
            size2 = ux * ux + uy * uy
            if size2 < shortest * shortest or size2 > longest * longest:
                continue
            found = 0
            for c in range(x.size):
                if c in (a, b):
                    continue
                px, py = x[c] - x[a], y[c] - y[a]
                # Inside the circle over AB the angle ACB is obtuse.
                if px * (px - ux) + py * (py - uy) >= 0.0:
                    continue
                inner[found] = c
                zx[found] = (px * ux + py * uy) / size2
                zy[found] = (py * ux - px * uy) / size2
                found += 1
                if found == _INNER:
                    break
            for i in range(found):
                for j in range(i + 1, found):
                    put_pattern(
                        codes, stars, count, a, b, inner[i], inner[j], zx[i], zy[i], zx[j], zy[j]
                    )
                    count += 1
    return count


@njit(cache=True, nogil=True)
def stars_between(v, a, b, neighbours, beyond, inner, zx, zy):  # type: ignore[no-untyped-def]
    """Fill in the first of the neighbours, before row ``beyond``, that lie in the circle over AB,
    and where they are in its frame; returns how many.
    """
    u = v[b] - v[a]
    m = v[a] + v[b]
    m /= np.sqrt(m[0] ** 2 + m[1] ** 2 + m[2] ** 2)
    e1 = u / np.sqrt(u[0] ** 2 + u[1] ** 2 + u[2] ** 2)
    e2x = m[1] * e1[2] - m[2] * e1[1]
    e2y = m[2] * e1[0] - m[0] * e1[2]
    e2z = m[0] * e1[1] - m[1] * e1[0]
    half = 0.5 * np.sum(u * e1) / (v[a, 0] * m[0] + v[a, 1] * m[1] + v[a, 2] * m[2])
    found = 0
    for c in neighbours:
        if c == b:
            continue
        if c >= beyond:
            break
        dot = 0.0
        for i in range(3):
            dot += (v[c, i] - v[a, i]) * (v[c, i] - v[b, i])
        if dot >= 0.0:
            continue
        dm = v[c, 0] * m[0] + v[c, 1] * m[1] + v[c, 2] * m[2]
        p1 = (v[c, 0] * e1[0] + v[c, 1] * e1[1] + v[c, 2] * e1[2]) / dm
        p2 = (v[c, 0] * e2x + v[c, 1] * e2y + v[c, 2] * e2z) / dm
        inner[found] = c
        zx[found] = (p1 + half) / (2 * half)
        zy[found] = p2 / (2 * half)
        found += 1
        if found == inner.size:
            break
    return found


@njit(cache=True, nogil=True)
def _catalogue_quads(v, starts, neighbours, chord, codes, stars):  # type: ignore[no-untyped-def]
    count = 0
    inner = np.empty(_INNER, np.int64)
    zx = np.empty(_INNER)
    zy = np.empty(_INNER)
    for a in range(v.shape[0]):
        for k in range(starts[a], starts[a + 1]):
            b = neighbours[k]
            if b <= a:
                continue
            u = v[b] - v[a]
            size2 = u[0] ** 2 + u[1] ** 2 + u[2] ** 2
            if size2 < chord * chord:
                continue
            found = stars_between(
                v, a, b, neighbours[starts[a] : starts[a + 1]], v.shape[0], inner, zx, zy
            )
            for i in range(found):
                for j in range(i + 1, found):
                    if count >= codes.shape[0]:
                        return count
                    put_pattern(
                        codes, stars, count, a, b, inner[i], inner[j], zx[i], zy[i], zx[j], zy[j]
                    )
                    count += 1
    return count
