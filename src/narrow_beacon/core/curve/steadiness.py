"""Does a star vary? Its scatter against its uncertainties, and whether what is left hangs together
in time.

Only an isolated wild point is an accident; two side by side are what an eclipse or a flare is made
of, so nothing is hidden that is coherent in time. Slow changes below the scatter of the single
point are found by means over stretches of the night, of five lengths and at every place.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats

VARIES_CHI2 = 3.0
VARIES_MAG = 0.006
COHERENT_SIGMA = 5.0
COHERENT_MAG = 0.004
LEAST_POINTS = 5
_WILD = 6.0
_MOST_ACCIDENTS = 0.05
_STRETCHES = (0.04, 0.08, 0.16, 0.33, 0.5)
"""Of the points; 3 at the least."""


@dataclass(frozen=True)
class Steadiness:
    """Scatter and the median uncertainty, reduced χ² about the mean, the excess scatter, all
    without isolated accidents; ``coherent_mag`` is the mean of the stretch of time that sits
    farthest off the rest, ``coherent_sigma`` in units of its own uncertainty.
    """

    scatter_mag: float
    expected_mag: float
    reduced_chi2: float
    excess_mag: float
    points: int
    coherent_mag: float = 0.0
    coherent_sigma: float = 0.0

    @property
    def cannot_tell(self) -> bool:
        """True where there are too few points to say anything."""
        return self.points < LEAST_POINTS

    @property
    def varies(self) -> bool:
        """True where both the significance and the size of the excess say so, point by point or
        over a stretch of time.
        """
        return self.scatters or self.hangs_together

    @property
    def scatters(self) -> bool:
        """True where single points scatter by more than they should."""
        return self.reduced_chi2 > VARIES_CHI2 and self.excess_mag > VARIES_MAG

    @property
    def hangs_together(self) -> bool:
        """True where a stretch of time sits off the rest."""
        return self.coherent_sigma > COHERENT_SIGMA and self.coherent_mag > COHERENT_MAG


def judge_steadiness(
    residual_mag: Floats, uncertainty_mag: Floats, wander_mag: float = 0.0
) -> Steadiness:
    """Steadiness of one star from magnitudes about any constant, with uncertainties (exposures, in
    order of time). ``wander_mag`` is by how much the mean of a stretch may be off for a reason that
    all stars share: by what flats leave where the field drifts over the pixels.

    NaN entries don't count. Fewer than 5 points: nothing can be said, ``cannot_tell``.
    """
    good = np.isfinite(residual_mag) & np.isfinite(uncertainty_mag) & (uncertainty_mag > 0)
    r, s = residual_mag[good], uncertainty_mag[good]
    if r.size < LEAST_POINTS:
        return Steadiness(float("nan"), float("nan"), 1.0, 0.0, int(r.size))
    keep = ~_accidents(r, s)
    left, sigma = r[keep], s[keep]
    weight = 1.0 / sigma**2
    left = left - np.sum(weight * left) / np.sum(weight)
    chi2 = float(np.sum(weight * left**2) / max(left.size - 1, 1))
    scatter = float(np.std(left, ddof=1)) if left.size > 1 else 0.0
    excess = float(np.sqrt(max(scatter**2 - float(np.mean(sigma**2)), 0.0)))
    size, significance = _stretch(left, sigma, wander_mag)
    return Steadiness(
        scatter, float(np.median(sigma)), chi2, excess, int(left.size), size, significance
    )


def _accidents(r: Floats, s: Floats) -> Bools:
    """Wild points with none beside them on the same side, where they are few."""
    centre = np.median(r)
    spread = max(1.4826 * float(np.median(np.abs(r - centre))), float(np.median(s)))
    side = np.where(np.abs(r - centre) > _WILD * np.maximum(spread, s), np.sign(r - centre), 0.0)
    before = np.concatenate([[0.0], side[:-1]])
    after = np.concatenate([side[1:], [0.0]])
    alone = (side != 0) & (before != side) & (after != side)
    if alone.sum() > max(1.0, _MOST_ACCIDENTS * r.size):
        return np.zeros(r.size, bool)
    return alone


def _stretch(left: Floats, sigma: Floats, wander_mag: float) -> tuple[float, float]:
    """Mean of the stretch that is farthest off the mean of the rest, and how many of its own
    uncertainties that is.
    """
    weight = 1.0 / sigma**2
    sums = np.concatenate([[0.0], np.cumsum(weight * left)])
    weights = np.concatenate([[0.0], np.cumsum(weight)])
    size, best = 0.0, 0.0
    for length in sorted({max(3, round(share * left.size)) for share in _STRETCHES}):
        if length >= left.size - 2:
            continue
        inside = weights[length:] - weights[:-length]
        outside = weights[-1] - inside
        mean = (sums[length:] - sums[:-length]) / inside
        rest = (sums[-1] - (sums[length:] - sums[:-length])) / outside
        away = np.abs(mean - rest)
        significance = away / np.sqrt(1.0 / inside + 1.0 / outside + wander_mag**2)
        at = int(np.argmax(significance))
        if significance[at] > best:
            size, best = float(away[at]), float(significance[at])
    return size, best
