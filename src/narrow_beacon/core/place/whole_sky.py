"""Plate solving within an atlas: about the hint first, then anywhere on the sky by its patterns."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import product
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.catalogue.atlas import Atlas
from narrow_beacon.core.errors import CatalogueError, NotPlacedError
from narrow_beacon.core.place.chance import FREE_COINCIDENCES
from narrow_beacon.core.place.propose import promising, stages
from narrow_beacon.core.place.sky_patterns import PATTERNS, SkyPatterns
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import SCALE_RANGE_ARCSEC, Hint, Placement, Solver

_MOST_LOCAL = 60_000
_WIDER = 1.3
_KEPT = 16


class SkySolver:
    """Places images anywhere on the sky, with the stars of an atlas at a Julian year."""

    def __init__(self, atlas: Atlas, patterns: SkyPatterns | None, year: float) -> None:
        self._atlas = atlas
        self._patterns = patterns
        self._year = year
        self._local: dict[tuple[float, float, float], Solver] = {}

    @classmethod
    def of(cls, folder: Path, year: float) -> SkySolver:
        """The solver of an atlas's folder. Raises CatalogueError where it can't be read."""
        patterns = folder / PATTERNS
        return cls(Atlas(folder), SkyPatterns(patterns) if patterns.is_dir() else None, year)

    def about(self, ra_deg: float, dec_deg: float, radius_deg: float) -> Solver:
        """A solver of the stars within a circle. Raises CatalogueError where there are none."""
        key = (round(ra_deg, 2), round(dec_deg, 2), round(radius_deg, 2))
        if key not in self._local:
            while len(self._local) >= _KEPT:
                self._local.pop(next(iter(self._local)))
            stars = self._atlas.circle(ra_deg, dec_deg, radius_deg, _MOST_LOCAL)
            if len(stars) < FREE_COINCIDENCES + 3:
                raise CatalogueError(
                    f"the atlas has {len(stars)} stars within {radius_deg:.2g}° of {ra_deg:.3f}° "
                    f"{dec_deg:+.3f}°"
                )
            self._local[key] = Solver(*stars.at_epoch(self._year))
        return self._local[key]

    def place(
        self,
        x_px: Floats,
        y_px: Floats,
        shape: tuple[int, int],
        hint: Hint | None = None,
        error_px: Floats | None = None,
    ) -> Placement:
        """Place an image (height, width) from its star positions (0-based, brightest first).

        Raises NotPlacedError that says what was tried.
        """
        hint = hint or Hint()
        tried = []
        if self._atlas.page.rows <= _MOST_LOCAL:
            # All of it at once: fields that are smaller than the sky's patterns are found too.
            whole = self.about(0.0, 0.0, 180.0)
            return whole.place(x_px, y_px, shape, hint, error_px)
        if hint.ra_deg is not None and hint.dec_deg is not None:
            try:
                near = self.about(hint.ra_deg, hint.dec_deg, _reach(hint, shape))
                return near.place(x_px, y_px, shape, hint, error_px)
            except (NotPlacedError, CatalogueError) as error:
                tried.append(str(error))
        if self._patterns is None:
            raise NotPlacedError("; ".join(tried) or "no position to look at is known")
        placement, hypotheses = self._anywhere(x_px, y_px, shape, hint, error_px)
        if placement is not None:
            return placement
        tried.append(f"anywhere on the sky ({hypotheses} patterns fitted)")
        raise NotPlacedError(
            f"no acceptable solution from {x_px.size} stars; tried {'; '.join(tried)}"
        )

    def _anywhere(
        self,
        x_px: Floats,
        y_px: Floats,
        shape: tuple[int, int],
        hint: Hint,
        error_px: Floats | None,
    ) -> tuple[Placement | None, int]:
        assert self._patterns is not None
        hypotheses = 0
        ranges = [hint.scale_range] if hint.scale_range else []
        for count in stages(x_px.size):
            for scales, aspect in product([*ranges, SCALE_RANGE_ARCSEC], hint.shapes):
                for found, looked in promising(
                    x_px, y_px, shape, self._patterns.levels, scales, count, aspect
                ):
                    hypotheses += looked
                    for solver, solution in self._with_stars(found):
                        verified = solver.verify(
                            solution, x_px, y_px, max(hypotheses, 1), error_px=error_px
                        )
                        if verified:
                            return replace(verified[0], how="anywhere on the sky"), hypotheses
        return None, hypotheses

    def _with_stars(self, found: list[Solution]) -> Iterator[tuple[Solver, Solution]]:
        """Proposed solutions, each with a solver of the stars about it."""
        for solution in found:
            ra, dec = solution.centre
            try:
                yield self.about(ra, dec, _WIDER * solution.radius_deg + 0.05), solution
            except CatalogueError:
                continue


def _reach(hint: Hint, shape: tuple[int, int]) -> float:
    """How far about a hint the exposure may lie, with the exposure itself."""
    scale = hint.scale_range[1] if hint.scale_range else 4.0
    radius = float(np.hypot(*shape)) * scale / 7200.0
    return float(min(8.0 * hint.error_deg + radius, 30.0))
