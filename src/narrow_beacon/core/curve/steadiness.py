"""Does a star vary? Its scatter against what its uncertainties lead one to expect."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats

VARIES_CHI2 = 3.0
VARIES_MAG = 0.006


@dataclass(frozen=True)
class Steadiness:
    """Robust scatter and the median uncertainty, reduced χ² about the mean, the excess scatter."""

    scatter_mag: float
    expected_mag: float
    reduced_chi2: float
    excess_mag: float
    points: int

    @property
    def varies(self) -> bool:
        """True where both the significance and the size of the excess say so."""
        return self.reduced_chi2 > VARIES_CHI2 and self.excess_mag > VARIES_MAG


def judge_steadiness(residual_mag: Floats, uncertainty_mag: Floats) -> Steadiness:
    """Steadiness of one star from magnitudes about any constant, with uncertainties (exposures).

    NaN entries don't count. Fewer than 5 points: nothing can be said, and the star passes.
    """
    good = np.isfinite(residual_mag) & np.isfinite(uncertainty_mag) & (uncertainty_mag > 0)
    r, s = residual_mag[good], uncertainty_mag[good]
    if r.size < 5:
        return Steadiness(float("nan"), float("nan"), 1.0, 0.0, int(r.size))
    weight = 1.0 / s**2
    left = r - np.sum(weight * r) / np.sum(weight)
    # A single wild point is an accident, not variability.
    centre = np.median(left)
    spread = max(1.4826 * float(np.median(np.abs(left - centre))), float(np.median(s)))
    keep = np.abs(left - centre) < 6.0 * spread
    left, weight = left[keep], weight[keep]
    left = left - np.sum(weight * left) / np.sum(weight)
    chi2 = float(np.sum(weight * left**2) / max(left.size - 1, 1))
    scatter = float(np.std(left, ddof=1)) if left.size > 1 else 0.0
    excess = float(np.sqrt(max(scatter**2 - float(np.mean(1.0 / weight)), 0.0)))
    return Steadiness(scatter, float(np.median(s)), chi2, excess, int(left.size))
