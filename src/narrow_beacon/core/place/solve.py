"""Plate solving: from star positions on an image to a place on the sky, or a refusal.

Patterns of four stars propose solutions; each is judged by how many other stars then coincide,
against what chance would give, and only a solution whose chance of being false is below a strict
bound is accepted.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints, middle
from narrow_beacon.core.catalogue.sky_index import SkyIndex
from narrow_beacon.core.errors import NotPlacedError
from narrow_beacon.core.place.chance import ACCEPT_LOG10, FREE_COINCIDENCES, false_chance_log10
from narrow_beacon.core.place.fit import fit_solution
from narrow_beacon.core.place.patterns import Level, catalogue_level
from narrow_beacon.core.place.propose import level_numbers, promising, span_of, squared, stages
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.stars.nearest import nearest
from narrow_beacon.core.words import counted

SCALE_RANGE_ARCSEC = (0.2, 75.0)
"""Scales tried where nothing is known, in seconds of arc a pixel."""
_FINAL_STARS = 300
_FOLLOW_STARS = 180
_FINEST_MATCH_PX = 2.0
_SQUARE = 0.06


@dataclass(frozen=True)
class Hint:
    """What is known beforehand: a position with its error, a range of scales, how high pixels may
    be over their width where they are no squares. All optional.
    """

    ra_deg: float | None = None
    dec_deg: float | None = None
    error_deg: float = 1.0
    scale_range: tuple[float, float] | None = None
    aspects: tuple[float, ...] = ()

    @property
    def shapes(self) -> tuple[float, ...]:
        """What is tried: squares last."""
        return (*self.aspects, 1.0)


@dataclass(frozen=True)
class Placement:
    """An accepted solution and why it can be trusted."""

    solution: Solution
    matched: int
    compared: int
    residual_px: float
    false_log10: float
    how: str

    @property
    def residual_arcsec(self) -> float:
        """Root-mean-square distance of matched stars from the catalogue, in seconds of arc."""
        return self.residual_px * self.solution.scale_arcsec_per_px


class Solver:
    """Places images within one catalogue, given brightest star first at the epoch of the night."""

    def __init__(self, ra_deg: Floats, dec_deg: Floats) -> None:
        self.ra_deg = np.asarray(ra_deg, float)
        self.dec_deg = np.asarray(dec_deg, float)
        self.index = SkyIndex(self.ra_deg, self.dec_deg)
        self._levels: dict[tuple[object, int], Level | None] = {}
        centre = self.index.vectors.mean(axis=0)
        centre /= max(float(np.linalg.norm(centre)), 1e-9)
        offsets = self.index.vectors - centre
        self._extent_deg = float(
            np.degrees(2 * np.arcsin(np.max(np.linalg.norm(offsets, axis=1)) / 2))
        )

    def place(
        self,
        x_px: Floats,
        y_px: Floats,
        shape: tuple[int, int],
        hint: Hint | None = None,
        error_px: Floats | None = None,
    ) -> Placement:
        """Place an image (height, width) from its star positions (0-based, brightest first).

        ``error_px`` is the uncertainty of each position; without it all weigh the same. Tries the
        hint's circle, a wider one, then the whole catalogue. Raises NotPlacedError that says what
        was tried.
        """
        hint = hint or Hint()
        if x_px.size < FREE_COINCIDENCES + 3:
            raise NotPlacedError(
                f"only {counted(x_px.size, 'star was', 'stars were')} found, too few to place it"
            )
        tried: dict[str, int] = {}
        # Few patterns everywhere come before many anywhere: most exposures need no more.
        for stars in stages(x_px.size):
            for rows, key, where in self._regions(hint):
                for scales, scale_words, aspect in _attempts(hint):
                    how = f"{where}, {scale_words}"
                    placement, count = self._solve(
                        x_px, y_px, error_px, shape, rows, key, scales, stars, aspect
                    )
                    if placement:
                        return replace(placement, how=how)
                    tried[how] = tried.get(how, 0) + count
        words = "; ".join(f"{how} ({count} patterns fitted)" for how, count in tried.items())
        raise NotPlacedError(f"no acceptable solution from {x_px.size} stars; tried {words}")

    def _regions(self, hint: Hint) -> Iterator[tuple[Ints, object, str]]:
        everything = np.arange(self.ra_deg.size)
        if hint.ra_deg is not None and hint.dec_deg is not None:
            last = -1
            for radius in (2.0 * hint.error_deg, 8.0 * hint.error_deg):
                rows = self.index.within(hint.ra_deg, hint.dec_deg, radius)
                if FREE_COINCIDENCES < rows.size < everything.size and rows.size != last:
                    key = (round(hint.ra_deg, 1), round(hint.dec_deg, 1), radius)
                    yield rows, key, f"within {radius:.2g}° of the hint"
                    last = rows.size
        yield everything, "all", "anywhere in the catalogue"

    def _level(self, rows: Ints, key: object, number: int) -> Level | None:
        name = (key, number)
        if name not in self._levels:
            self._levels[name] = catalogue_level(self.index.vectors[rows], span_of(number))
        return self._levels[name]

    def _solve(
        self,
        x_px: Floats,
        y_px: Floats,
        error_px: Floats | None,
        shape: tuple[int, int],
        rows: Ints,
        key: object,
        scales: tuple[float, float],
        pattern_stars: int,
        aspect: float,
    ) -> tuple[Placement | None, int]:
        hypotheses = 0
        levels = (
            level
            for number in level_numbers(scales, squared(shape, aspect), x_px.size)
            if span_of(number) <= 2 * self._extent_deg
            and (level := self._level(rows, key, number)) is not None
        )
        for found, count in promising(x_px, y_px, shape, levels, scales, pattern_stars, aspect):
            hypotheses += count
            for solution in found:
                verified = self.verify(solution, x_px, y_px, max(hypotheses, 1), error_px=error_px)
                if verified:
                    return verified[0], hypotheses
        return None, hypotheses

    def verify(
        self,
        solution: Solution,
        x_px: Floats,
        y_px: Floats,
        hypotheses: int,
        *,
        error_px: Floats | None = None,
        start_px: float | None = None,
        keep_distortion: bool = False,
    ) -> tuple[Placement, Bools] | None:
        """Refine a proposed solution and accept it, with which of the stars compared, the
        brightest, it has matched; None where it is refused.
        """
        shape, aspect = solution.shape, solution.aspect
        top = slice(0, _FOLLOW_STARS if keep_distortion else _FINAL_STARS)
        x, y = x_px[top], y_px[top]
        error = np.ones(x.size) if error_px is None else error_px[top]
        radius = start_px or max(4.0, 0.012 * min(shape))
        least_turns = 1 if keep_distortion else 3
        near = self._near(solution, x.size)
        order = 1
        for turn in range(8):
            pairs = self._pairs(solution, near, x, y, radius)
            if pairs is None or pairs[0].size < FREE_COINCIDENCES + 3:
                return None
            stars, rows, _ = pairs
            fit = fit_solution(
                x[stars], y[stars], self.ra_deg[rows], self.dec_deg[rows],
                error[stars], solution,
                # Which distortion is earned is asked once it can be seen, and at the end again.
                orders=(1, 1) if turn < 2 else (1, 4) if turn == 2 else (order, order),
                keep_distortion=keep_distortion,
            )  # fmt: skip
            solution = fit.solution
            order = solution.sip_order
            if radius <= _FINEST_MATCH_PX and turn >= least_turns:
                break
            radius = max(_FINEST_MATCH_PX, min(radius * 0.6, 4.0 * fit.residual_px + 0.5))
        if not keep_distortion:
            # A follower moved by a fraction of a pixel since its stars were paired.
            pairs = self._pairs(solution, near, x, y, _FINEST_MATCH_PX)
        if pairs is None:
            return None
        stars, rows, in_frame = pairs
        share = in_frame * np.pi * _FINEST_MATCH_PX**2 / (shape[0] * shape[1])
        log10 = false_chance_log10(stars.size, x.size, share, hypotheses)
        if log10 > ACCEPT_LOG10 or not _sane(solution, aspect):
            return None
        xs, ys = solution.pixel(self.ra_deg[rows], self.dec_deg[rows])
        away = np.hypot(xs - x[stars], ys - y[stars])
        core = away < max(4.0 * middle(away), 0.05)
        weight = np.where(core, 1.0 / error[stars] ** 2, 0.0)
        matched = np.zeros(x.size, bool)
        matched[stars] = True
        return Placement(
            solution, int(stars.size), int(min(x.size, in_frame)),
            float(np.sqrt(np.sum(weight * away**2) / np.sum(weight))), log10, "",
        ), matched  # fmt: skip

    def _near(self, solution: Solution, detections: int) -> Ints:
        """Catalogue rows on and around the image, brightest first, to the images' depth."""
        most = int(2.2 * detections) + 20
        rows, _, _ = self.in_frame(solution, 0.05 * min(solution.shape), most)
        return rows[:most]

    def _pairs(
        self, solution: Solution, near: Ints, x: Floats, y: Floats, radius: float
    ) -> tuple[Ints, Ints, int] | None:
        """Mutual nearest neighbours: rows of image stars, of catalogue stars, and how many
        catalogue stars of like depth are in the frame.
        """
        xs, ys = solution.pixel(self.ra_deg[near], self.dec_deg[near])
        height, width = solution.shape
        inside = (xs > -0.5) & (xs < width - 0.5) & (ys > -0.5) & (ys < height - 0.5)
        rows, xs, ys = near[inside], xs[inside], ys[inside]
        if rows.size < FREE_COINCIDENCES:
            return None
        there, _ = nearest(x, y, xs, ys, radius)
        stars = np.flatnonzero(there >= 0)
        back, _ = nearest(xs[there[stars]], ys[there[stars]], x, y, radius)
        stars = stars[back == stars]
        return stars, rows[there[stars]], int(rows.size)

    def in_frame(
        self, solution: Solution, margin_px: float = 0.0, most: int | None = None
    ) -> tuple[Ints, Floats, Floats]:
        """Catalogue rows on the image, brightest first, with their pixels (0-based).

        About ``most`` of them at the most, where that is enough.
        """
        ra, dec = solution.centre
        margin = margin_px * solution.scale_arcsec_per_px / 3600.0
        rows = self.index.within(ra, dec, min(1.05 * solution.radius_deg + margin, 60.0))
        if most is not None:
            rows = rows[: 2 * most]  # the circle about the frame is less than twice as large
        x, y = solution.pixel(self.ra_deg[rows], self.dec_deg[rows])
        height, width = solution.shape
        with np.errstate(invalid="ignore"):
            inside = (
                (x >= -0.5 - margin_px) & (x < width - 0.5 + margin_px)
                & (y >= -0.5 - margin_px) & (y < height - 0.5 + margin_px)
            )  # fmt: skip
        return rows[inside], x[inside], y[inside]


def _attempts(hint: Hint) -> Iterator[tuple[tuple[float, float], str, float]]:
    """Ranges of scales with words, and how high pixels are over their width."""
    ranges = [] if hint.scale_range is None else [hint.scale_range]
    for low, high in (*ranges, SCALE_RANGE_ARCSEC):
        known = (low, high) != SCALE_RANGE_ARCSEC
        words = f"scale {low:.3g}″" if known else f"any scale from {low:g}″"
        for aspect in hint.shapes:
            shapes = f", {aspect:.3g} times as high as wide" if aspect != 1.0 else ""
            yield (low, high), f"{words} to {high:.3g}″ a pixel{shapes}", aspect


def _sane(solution: Solution, aspect: float) -> bool:
    """Pixels are as high over their width as was taken for them, to 5%, and at right angles to 3°;
    distortion stays small.
    """
    square = 1.0 if abs(aspect - 1.0) < _SQUARE else aspect
    (a, b), (c, d) = (solution.cd / [1.0, square]).tolist()
    # The lengths and the area give the two singular values, how far a round spot is drawn out.
    half, area = 0.5 * (a * a + b * b + c * c + d * d), abs(a * d - b * c)
    most = half + math.sqrt(max(half * half - area * area, 0.0))
    if not most <= area * (1.0 + _SQUARE):
        return False
    if solution.sip_order > 1:
        height, width = solution.shape
        corners = np.array([-width / 2, width / 2]), np.array([-height / 2, height / 2])
        east, north = solution.distortion(*(corner.astype(float) for corner in corners))
        return bool(np.hypot(east, north).max() < 0.08 * max(solution.shape))
    return True
