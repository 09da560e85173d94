"""How likely it is that chance gives as many coincidences as a solution has."""

from __future__ import annotations

import numpy as np

ACCEPT_LOG10 = -9.0
"""A solution is accepted only if the chance of a false one is below 10 to this power."""
FREE_COINCIDENCES = 4
"""Coincidences that a fit makes for itself: the stars of the pattern that proposed it."""


def false_chance_log10(matched: int, tried: int, share: float, hypotheses: int) -> float:
    """Upper bound on log₁₀ of the chance that some wrong solution has this many coincidences.

    ``tried`` stars were compared, each falls on another by chance with probability ``share``, and
    ``hypotheses`` solutions were looked at. Chernoff's bound on the binomial tail.
    """
    n = max(tried - FREE_COINCIDENCES, 1)
    k = matched - FREE_COINCIDENCES
    share = float(np.clip(share, 1e-9, 0.999))
    observed = min(k / n, 1.0)
    if observed <= share:
        return 0.0
    divergence = observed * np.log(observed / share)
    if observed < 1.0:
        divergence += (1 - observed) * np.log((1 - observed) / (1 - share))
    return float(min(0.0, -n * divergence / np.log(10.0) + np.log10(max(hypotheses, 1))))
