"""Solutions that patterns of four stars propose: those under which more stars coincide than chance
would have it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Protocol

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.place.judge import (
    ImageStars,
    PatternPairs,
    Verdict,
    as_solution,
    image_stars,
    judge,
)
from narrow_beacon.core.place.patterns import SPREAD, Cells, Quads, image_quads
from narrow_beacon.core.place.solution import Solution

_PATTERN_STARS = (18, 45, 130)
"""Of the brightest stars, how many make patterns: few at first, which is quick; more where many of
them are none, or are not in the catalogue.
"""
_JUDGE_STARS = 120
_SHORTEST, _LONGEST = 0.22, 0.75  # spans of image patterns in units of the short side
_FEW_STARS, _LONGEST_OF_FEW = 30, 0.7
"""In units of the diagonal: few stars may make no patterns but those as large as the image."""
_SMALLEST_SPAN_DEG = 0.008
_MOST_HYPOTHESES = 20000
_CHUNK = 1200


class PatternLevel(Protocol):
    """Patterns of catalogue stars with spans from ``span_deg`` to ``SPREAD`` times that."""

    @property
    def span_deg(self) -> float: ...
    @property
    def vectors(self) -> Floats: ...
    @property
    def cells(self) -> Cells: ...
    @property
    def pattern_stars(self) -> Ints:
        """Rows of A, B, C, D in ``vectors``, (patterns, 4)."""

    def alike(self, codes: Floats) -> tuple[Ints, Ints, Floats]:
        """Pairs of codes (rows, 4) and patterns that are alike: row, pattern, distance."""


def stages(count: int) -> list[int]:
    """How many of an image's stars make patterns, one try after the other."""
    return [
        stars for n, stars in enumerate(_PATTERN_STARS) if not n or _PATTERN_STARS[n - 1] < count
    ]


def span_of(number: int) -> float:
    """The shortest span, in degrees, of the patterns of a level."""
    return float(_SMALLEST_SPAN_DEG * SPREAD**number)


def spans_px(count: int, shape: tuple[int, int]) -> tuple[float, float]:
    """Shortest and longest span of the patterns of an image (height, width) with so many stars."""
    longest = _LONGEST * min(shape)
    if count < _FEW_STARS:
        longest = max(longest, _LONGEST_OF_FEW * float(np.hypot(*shape)))
    return _SHORTEST * min(shape), longest


def squared(shape: tuple[int, int], aspect: float) -> tuple[int, int]:
    """An image's height and width in pixels as wide as its own, which are ``aspect`` times as high
    as wide, that are square.
    """
    return max(round(shape[0] * aspect), 1), shape[1]


def level_numbers(scales: tuple[float, float], shape: tuple[int, int], count: int) -> list[int]:
    """Levels whose patterns fit an image (height, width) with so many stars at some scales, the
    largest first.
    """
    shortest, longest = spans_px(count, shape)

    def step(span: float) -> float:
        return float(np.log(max(span / _SMALLEST_SPAN_DEG, 1e-9)) / np.log(SPREAD))

    first = int(np.floor(step(shortest * scales[0] / 3600.0)))
    last = int(np.ceil(step(longest * scales[1] / 3600.0)))
    return [number for number in range(last, first - 1, -1) if number >= 0]


def promising(
    x_px: Floats,
    y_px: Floats,
    shape: tuple[int, int],
    levels: Iterable[PatternLevel],
    scales: tuple[float, float],
    pattern_stars: int,
    aspect: float = 1.0,
) -> Iterator[tuple[list[Solution], int]]:
    """The most promising solutions of an image (height, width; stars 0-based, brightest first)
    that levels propose, and how many hypotheses were looked at for them. Its pixels are
    ``aspect`` times as high as wide; ``scales`` are of their width.
    """
    if aspect != 1.0:
        square = squared(shape, aspect)
        y_px = (np.asarray(y_px) + 0.5) * aspect - 0.5
        for found, count in promising(x_px, y_px, square, levels, scales, pattern_stars):
            yield [solution.with_pixels_of(aspect, shape) for solution in found], count
        return
    smallest, largest = spans_px(x_px.size, shape)
    top, judged = slice(0, pattern_stars), slice(0, _JUDGE_STARS)
    image = image_stars(x_px[judged], y_px[judged], shape)
    for level in levels:
        shortest = max(smallest, level.span_deg * 3600 / scales[1])
        longest = min(largest, level.span_deg * SPREAD * 3600 / scales[0])
        if shortest >= longest:
            continue
        quads = image_quads(x_px[top], y_px[top], shortest, longest)
        for mirrored in (False, True):
            yield from _judge_level(x_px, y_px, image, level, quads, mirrored, scales)


def _judge_level(
    x_px: Floats,
    y_px: Floats,
    image: ImageStars,
    level: PatternLevel,
    quads: Quads,
    mirrored: bool,
    scales: tuple[float, float],
) -> Iterator[tuple[list[Solution], int]]:
    """Of one level, those of the most alike patterns first."""
    if quads.codes.shape[0] == 0:
        return
    image_row, sky_row, distance = level.alike(
        quads.codes * ([1, -1, 1, -1] if mirrored else [1, 1, 1, 1])
    )
    order = np.argsort(distance, kind="stable")[:_MOST_HYPOTHESES]
    shape = image.height, image.width
    share = min(0.9, image.x_px.size * np.pi * image.radius_px**2 / (shape[0] * shape[1]))
    for first in range(0, order.size, _CHUNK):
        some = order[first : first + _CHUNK]
        pairs = PatternPairs(
            level.vectors, level.cells, level.pattern_stars[sky_row[some]],
            quads.stars[image_row[some]], -1.0 if mirrored else 1.0,
        )  # fmt: skip
        verdict = judge(pairs, x_px, y_px, image, scales)
        yield _best(verdict, pairs.sign, shape, share), int((verdict.inside >= 0).sum())


def _best(verdict: Verdict, sign: float, shape: tuple[int, int], share: float) -> list[Solution]:
    """The solutions of pairs of patterns under which more stars coincide than by chance."""
    surprise = np.where(verdict.inside > 0, verdict.matched - 4 - share * verdict.inside, -1e9)
    surprise = surprise / np.sqrt(np.maximum(share * np.maximum(verdict.inside, 1), 0.3))
    best = np.argsort(-surprise, kind="stable")[:8]
    good = [i for i in best if surprise[i] > 3.5 and verdict.matched[i] >= 6]
    return [as_solution(verdict.transform(i), sign, shape) for i in good]
