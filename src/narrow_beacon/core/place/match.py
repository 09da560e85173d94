"""Exposures matched to one another by their stars alone, without a catalogue.

The stars of one exposure stand for a catalogue: its pixels are laid on a small piece of a made-up
sky, and another exposure is placed there by patterns of four stars, whatever its shift, turn or
mirror, with the same strict bound on the chance of a false match as on the real sky.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.errors import NotPlacedError
from narrow_beacon.core.place.follow import follow
from narrow_beacon.core.place.solution import Solution, deproject, project
from narrow_beacon.core.place.solve import Hint, Placement, Solver

_RA_DEG, _DEC_DEG = 180.0, 0.0
_DEG_A_PX = 1.0 / 3600.0
_SCALES = (0.94, 1.06)
"""Scales of exposures of one telescope to one another: focus and air change them by less."""


@dataclass(frozen=True)
class Match:
    """Where the pixels of an exposure lie on the reference's, and why that can be trusted."""

    solution: Solution
    matched: int
    compared: int
    residual_px: float
    false_log10: float

    def to_reference(self, x_px: Floats, y_px: Floats) -> tuple[Floats, Floats]:
        """Places (0-based) on the reference."""
        return _pixels(*self.solution.sky(x_px, y_px))

    def from_reference(self, x_px: Floats, y_px: Floats) -> tuple[Floats, Floats]:
        """Places (0-based) of the reference on the exposure."""
        return self.solution.pixel(*_sky(x_px, y_px))

    @property
    def plane(self) -> tuple[float, ...]:
        """(a, b, c, d, e, f) for pixels near the middle: x on the reference = a x + b y + c, and
        y = d x + e y + f.
        """
        height, width = self.solution.shape
        x0, y0, reach = (width - 1) / 2, (height - 1) / 2, min(width, height) / 4
        x, y = self.to_reference(np.array([x0, x0 + reach, x0]), np.array([y0, y0, y0 + reach]))
        a, b = (x[1] - x[0]) / reach, (x[2] - x[0]) / reach
        d, e = (y[1] - y[0]) / reach, (y[2] - y[0]) / reach
        return tuple(float(v) for v in (a, b, x[0] - a * x0 - b * y0, d, e, y[0] - d * x0 - e * y0))

    @property
    def turn_deg(self) -> float:
        """How far it is turned against the reference, 0 to 360."""
        cd = self.solution.cd
        return float(np.degrees(np.arctan2(cd[1, 0], cd[0, 0])) % 360.0)

    @property
    def mirrored(self) -> bool:
        """Whether it is a mirror image of the reference."""
        return bool(np.linalg.det(self.solution.cd) < 0)


def _match_of(placed: Placement) -> Match:
    return Match(
        placed.solution, placed.matched, placed.compared, placed.residual_px, placed.false_log10
    )


class Matcher:
    """Matches exposures to a reference, given by its stars' places (0-based), brightest first."""

    def __init__(self, x_px: Floats, y_px: Floats) -> None:
        self._solver = Solver(*_sky(x_px, y_px))

    def match(
        self,
        x_px: Floats,
        y_px: Floats,
        shape: tuple[int, int],
        error_px: Floats | None = None,
        scales: tuple[float, float] = _SCALES,
        last: Match | None = None,
    ) -> Match:
        """Match an exposure (height, width) by its stars' places, brightest first, each with its
        uncertainty. ``scales``: its pixels' size in the reference's. ``last`` is how the exposure
        before it lies, which is tried first.

        Raises NotPlacedError, with what was tried, where no match can be trusted.
        """
        if last is not None and last.solution.shape == shape:
            near = follow(self._solver, last.solution, x_px, y_px, error_px)
            if near is not None:
                return _match_of(near)
        hint = Hint(scale_range=scales)
        try:
            found = self._solver.place(x_px, y_px, shape, hint, error_px)
        except NotPlacedError as error:
            words = str(error).replace("anywhere in the catalogue", "all of the reference")
            words = words.replace("″ a pixel", " of the reference’s pixels")
            raise NotPlacedError(words) from error
        size = found.solution.scale_arcsec_per_px
        if not scales[0] <= size <= scales[1]:
            raise NotPlacedError(
                f"only a match with pixels of {size:.3f} of the reference’s was found; the same "
                "telescope and camera were expected"
            )
        return _match_of(found)


def _sky(x_px: Floats, y_px: Floats) -> tuple[Floats, Floats]:
    x, y = np.asarray(x_px, float), np.asarray(y_px, float)
    return deproject(x * _DEG_A_PX, y * _DEG_A_PX, _RA_DEG, _DEC_DEG)


def _pixels(ra_deg: Floats, dec_deg: Floats) -> tuple[Floats, Floats]:
    xi, eta = project(ra_deg, dec_deg, _RA_DEG, _DEC_DEG)
    return xi / _DEG_A_PX, eta / _DEG_A_PX
