"""Patterns of the whole sky's bright stars, kept on disk: for exposures of which nothing is known.

Of each cell of the sky the few brightest patterns of each of some sizes are kept, with their codes
in a byte a number, listed by where the code lies in the space of codes. Files are mapped, not read:
a search touches what it needs. Fields whose short side is ``SMALLEST_FIELD_DEG`` or more are found
where the catalogue has stars enough on them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.atlas import Atlas
from narrow_beacon.core.catalogue.sky_index import unit_vectors
from narrow_beacon.core.disk import replaced_folder
from narrow_beacon.core.place.patterns import (
    SPREAD,
    Cells,
    brightest_per_cell,
    cells_of,
    neighbours_within,
    put_pattern,
    stars_between,
)

PATTERNS = "patterns"
"""Their folder's name in that of their atlas."""
SMALLEST_FIELD_DEG = 0.4
_SPANS_DEG = (0.18, 0.405, 0.91, 2.05, 4.6, 10.4, 23.4)
"""A step of 2.25 apart: an image's patterns span a range of 3.4, so one level of 1.5 is in it."""
_STARS_PER_CELL = 5
_PATTERNS_PER_CELL = 3
_INNER = 4
_BINS = 24
_CODE_STEP = 1.0 / 256.0
_TOLERANCE = 0.014
"""As for patterns whose codes are kept whole, and half of a step more."""
_MOST_ALIKE = 400_000
_STRIP_STARS = 60_000
_PARTS = ("stars", "cells", "starts", "patterns", "codes", "offsets")


@dataclass(frozen=True)
class SkyLevel:
    """One size of patterns: stars cell after cell, and patterns listed by their codes' bins."""

    span_deg: float
    vectors: Floats
    cells: Cells
    pattern_stars: Ints
    codes: Ints
    offsets: Ints

    def alike(self, codes: Floats) -> tuple[Ints, Ints, Floats]:
        """Pairs of codes (rows, 4) and patterns that are alike: row, pattern, distance."""
        rows = np.empty(_MOST_ALIKE, np.int64)
        which = np.empty(_MOST_ALIKE, np.int64)
        distance = np.empty(_MOST_ALIKE)
        count = _alike(codes, self.codes, self.offsets, rows, which, distance)
        return rows[:count], which[:count], distance[:count]


class SkyPatterns:
    """The patterns of an atlas, mapped from its folder; levels from the largest down."""

    def __init__(self, folder: Path) -> None:
        self.levels = [_opened(folder / f"{span:g}", span) for span in reversed(_SPANS_DEG)
                       if (folder / f"{span:g}").is_dir()]  # fmt: skip


def build_sky_patterns(
    atlas: Atlas, folder: Path, told: Callable[[float], None] = lambda _: None
) -> SkyPatterns:
    """Find and keep an atlas's patterns; ``told`` hears of the share that is done."""
    with replaced_folder(folder) as scratch:
        vectors: Floats = _brightest(_pieces(atlas), _SPANS_DEG[0])
        for number, span in enumerate(_SPANS_DEG):
            told(number / len(_SPANS_DEG))
            vectors = vectors[brightest_per_cell(vectors, span, _STARS_PER_CELL)]
            _build_level(vectors, span, scratch / f"{span:g}")
    return SkyPatterns(folder)


def _pieces(atlas: Atlas) -> Iterator[tuple[Floats, Floats]]:
    for ra, dec, bright in atlas.positions():
        yield unit_vectors(ra, dec).astype(np.float32), bright.astype(np.float32)


def _brightest(pieces: Iterator[tuple[Floats, Floats]], span: float) -> Floats:
    """The brightest stars of each cell, brightest first; of each piece only its own are held."""
    found, light = [], []
    for vectors, bright in pieces:
        order = np.argsort(bright, kind="stable")
        chosen = order[brightest_per_cell(vectors[order], span, _STARS_PER_CELL)]
        found.append(vectors[chosen])
        light.append(bright[chosen])
    order = np.argsort(np.concatenate(light), kind="stable")
    return np.concatenate(found)[order]


def _build_level(vectors: Floats, span: float, folder: Path) -> None:
    """``vectors`` are the level's stars, brightest first."""
    if len(vectors) < 4:
        return
    quads, codes, bins = _patterns(vectors, span)
    if not len(quads):
        return
    order, cells = cells_of(vectors, span)
    place = np.empty(order.size, np.int32)
    place[order] = np.arange(order.size, dtype=np.int32)
    by_bin = np.argsort(bins, kind="stable")
    offsets = np.searchsorted(bins[by_bin], np.arange(_BINS**4 + 1))
    parts = {
        "stars": vectors[order].astype(np.float32), "cells": cells.ids,
        "starts": cells.starts.astype(np.int32),
        "patterns": place[quads[by_bin]], "codes": codes[by_bin],
        "offsets": offsets.astype(np.int32),
    }  # fmt: skip
    folder.mkdir()
    for name in _PARTS:
        np.save(folder / f"{name}.npy", parts[name])


def _packed(codes: Floats) -> tuple[Ints, Ints]:
    """Codes in bytes and the bins that they lie in: C and D lie in the circle over AB, so that all
    four numbers are from 0 to 1 once the second and fourth are shifted.
    """
    whole = np.clip(codes + np.array([0.0, 0.5, 0.0, 0.5]), 0.0, 1.0 - 1e-9)
    bins = (whole * _BINS).astype(np.int32)
    number = ((bins[:, 0] * _BINS + bins[:, 1]) * _BINS + bins[:, 2]) * _BINS + bins[:, 3]
    return (whole / _CODE_STEP).astype(np.uint8), number


def _opened(folder: Path, span: float) -> SkyLevel:
    stars, ids, starts, patterns, codes, offsets = (
        np.load(folder / f"{name}.npy", mmap_mode="r") for name in _PARTS
    )
    return SkyLevel(span, stars, Cells(span, ids, starts), patterns, codes, offsets)


def _patterns(vectors: Floats, span: float) -> tuple[Ints, Ints, Ints]:
    """The brightest patterns of each cell: rows of their stars, their codes and bins, strip after
    strip of declination, each seen with its neighbourhood.
    """
    dec = np.degrees(np.arcsin(np.clip(vectors[:, 2], -1, 1)))
    by_dec = np.argsort(dec, kind="stable")
    sorted_dec = dec[by_dec]
    edges = [-90.0]
    while edges[-1] < 90.0:
        at = np.searchsorted(sorted_dec, edges[-1]) + _STRIP_STARS
        reach = sorted_dec[at] if at < dec.size else 90.0
        # Whole bands of cells, so that no cell is in two strips.
        edges.append(min(90.0, -90.0 + span * (np.floor((reach + 90.0) / span) + 1)))
    nothing = np.empty((0, 4), np.int32), np.empty((0, 4), np.uint8), np.empty(0, np.int32)
    parts: list[tuple[Ints, Ints, Ints]] = [nothing]
    for low, high in pairwise(edges):
        margin = SPREAD * span * 1.01
        some = np.sort(by_dec[slice(*np.searchsorted(sorted_dec, [low - margin, high + margin]))])
        if some.size < 4:
            continue
        found, own = _strip(vectors[some].astype(float), span, low, high)
        parts.append((some[found].astype(np.int32), *_packed(own)))
    quads, codes, bins = (np.concatenate(column) for column in zip(*parts, strict=True))
    return quads, codes, bins


def _strip(v: Floats, span: float, low: float, high: float) -> tuple[Ints, Floats]:
    """Patterns whose brighter end lies from ``low`` to ``high``; stars are brightest first."""
    chord = 2 * np.sin(np.radians(span) / 2)
    starts, neighbours = neighbours_within(v, SPREAD * chord)
    if not neighbours.size:
        return np.empty((0, 4), np.int64), np.empty((0, 4))
    order, cells = cells_of(v, span)
    cell = np.empty(order.size, np.int64)
    cell[order] = np.repeat(np.arange(cells.ids.size), np.diff(cells.starts))
    dec = np.degrees(np.arcsin(np.clip(v[:, 2], -1, 1)))
    own = (dec >= low) & ((dec < high) | (high >= 90.0))
    faintest = np.full((cells.ids.size, _PATTERNS_PER_CELL), np.iinfo(np.int64).max)
    stars = np.zeros((cells.ids.size, _PATTERNS_PER_CELL, 4), np.int64)
    codes = np.zeros((cells.ids.size, _PATTERNS_PER_CELL, 4))
    _brightest_patterns(v, starts, neighbours, chord, cell, own, faintest, stars, codes)
    kept = faintest < np.iinfo(np.int64).max
    return stars[kept], codes[kept]


@njit(cache=True, nogil=True)
def _brightest_patterns(  # type: ignore[no-untyped-def]
    v, starts, neighbours, chord, cell, own, faintest, stars, codes
):
    """Of each cell the patterns whose faintest star is brightest."""
    inner = np.empty(_INNER, np.int64)
    zx = np.empty(_INNER)
    zy = np.empty(_INNER)
    code = np.empty((1, 4))
    four = np.empty((1, 4), np.int64)
    room = faintest.shape[1]
    for a in range(v.shape[0]):
        if not own[a]:
            continue
        at = cell[a]
        for k in range(starts[a], starts[a + 1]):
            b = neighbours[k]
            if b <= a:
                continue
            if b >= faintest[at, room - 1]:
                break  # neighbours come brightest first
            u = v[b] - v[a]
            size2 = u[0] ** 2 + u[1] ** 2 + u[2] ** 2
            if size2 < chord * chord:
                continue
            found = stars_between(
                v, a, b, neighbours[starts[a] : starts[a + 1]], faintest[at, room - 1],
                inner, zx, zy,
            )  # fmt: skip
            for i in range(found):
                for j in range(i + 1, found):
                    worst = max(b, inner[i], inner[j])
                    if worst >= faintest[at, room - 1]:
                        continue
                    put_pattern(code, four, 0, a, b, inner[i], inner[j], zx[i], zy[i], zx[j], zy[j])
                    n = room - 1
                    while n > 0 and faintest[at, n - 1] > worst:
                        faintest[at, n] = faintest[at, n - 1]
                        stars[at, n] = stars[at, n - 1]
                        codes[at, n] = codes[at, n - 1]
                        n -= 1
                    faintest[at, n] = worst
                    stars[at, n] = four[0]
                    codes[at, n] = code[0]


@njit(cache=True, nogil=True)
def _alike(codes, kept, offsets, rows, which, distance):  # type: ignore[no-untyped-def]
    """Look every code up in the bins that it is within the tolerance of; returns how many pairs."""
    count = 0
    low = np.empty(4, np.int64)
    high = np.empty(4, np.int64)
    s = np.empty(4)
    for n in range(codes.shape[0]):
        for i in range(4):
            s[i] = codes[n, i] + (0.5 if i % 2 else 0.0)
            low[i] = max(int(np.floor((s[i] - _TOLERANCE) * _BINS)), 0)
            high[i] = min(int(np.floor((s[i] + _TOLERANCE) * _BINS)), _BINS - 1)
        for b0 in range(low[0], high[0] + 1):
            for b1 in range(low[1], high[1] + 1):
                for b2 in range(low[2], high[2] + 1):
                    first = ((b0 * _BINS + b1) * _BINS + b2) * _BINS
                    for q in range(offsets[first + low[3]], offsets[first + high[3] + 1]):
                        away2 = 0.0
                        for i in range(4):
                            d = (kept[q, i] + 0.5) * _CODE_STEP - s[i]
                            away2 += d * d
                        if away2 < _TOLERANCE * _TOLERANCE:
                            if count == rows.size:
                                return count
                            rows[count], which[count] = n, q
                            distance[count] = np.sqrt(away2)
                            count += 1
    return count
