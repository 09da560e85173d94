"""Straight lines through points that are unsure both ways, with outliers.

York et al. 2004 (Am. J. Phys. 72, 367) give the line of greatest likelihood where the errors of
both coordinates are known and hang together.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats

_ROUNDS = 30
_SETTLED = 1e-7
_CLIP = 4.0
_MOST_SCALE = 10.0


@dataclass(frozen=True)
class Line:
    """y = level + slope · (x − centre); ``used`` (points) took part, ``residual`` (points) is y
    less the line. ``scale`` says how many times larger than stated the errors are, at least 1; the
    uncertainties hold it.
    """

    slope: float
    slope_uncertainty: float
    level: float
    level_uncertainty: float
    centre: float
    used: Bools
    residual: Floats
    scale: float


def fit_line(
    x: Floats, y: Floats, x_sigma: Floats, y_sigma: Floats, covariance: Floats
) -> Line | None:
    """The line through points with errors in both coordinates and their ``covariance``; points more
    than four of their errors off take no part. None where fewer than three are left.
    """
    used: Bools = np.isfinite(x) & np.isfinite(y) & np.isfinite(x_sigma) & np.isfinite(y_sigma)
    if used.sum() < 3 or np.ptp(x[used]) <= 0:
        return None
    slope = float(np.median(pair_slopes(x[used], y[used])))
    first = y - slope * x
    first = np.abs(first - np.median(first[used]))
    used = used & (first <= _CLIP * 1.4826 * np.median(first[used]))
    line = None
    for _ in range(_ROUNDS):
        if used.sum() < 3 or np.ptp(x[used]) <= 0:
            return None
        last = slope
        line = _york(x, y, x_sigma**2, y_sigma**2, covariance, used, slope)
        slope = line.slope
        sigma = np.sqrt(_variance(x_sigma**2, y_sigma**2, covariance, slope))
        away = np.abs(line.residual) / sigma
        # By the middle of the distances, which a few outliers do not move.
        scale = float(np.clip(1.4826 * np.median(away[used]), 1.0, _MOST_SCALE))
        now: Bools = np.isfinite(away) & (away < _CLIP * scale)
        if np.array_equal(now, used) and abs(slope - last) < _SETTLED:
            break
        used = now
    assert line is not None
    chi2 = float(np.sum((line.residual[used] / sigma[used]) ** 2)) / max(int(used.sum()) - 2, 1)
    scale = float(np.clip(np.sqrt(chi2), 1.0, _MOST_SCALE))
    return Line(
        line.slope, scale * line.slope_uncertainty, line.level, scale * line.level_uncertainty,
        line.centre, used, line.residual, scale,
    )  # fmt: skip


def pair_slopes(x: Floats, y: Floats) -> Floats:
    """The slopes of all pairs of points: their median is a start that outliers do not tilt (Sen
    1968, J. Am. Stat. Assoc. 63, 1379).
    """
    i, j = np.triu_indices(x.size, 1)
    apart = x[j] - x[i]
    there = apart != 0
    return np.asarray((y[j] - y[i])[there] / apart[there])


def _variance(xx: Floats, yy: Floats, xy: Floats, slope: float) -> Floats:
    """Of a point's distance from the line along y."""
    return np.maximum(yy + slope**2 * xx - 2.0 * slope * xy, 1e-14)


def _york(
    x: Floats, y: Floats, xx: Floats, yy: Floats, xy: Floats, used: Bools, slope: float
) -> Line:
    """One round of York's iteration from a slope; ``xx``, ``yy``, ``xy`` are (co)variances."""
    weight = np.where(used, 1.0 / _variance(xx, yy, xy, slope), 0.0)
    total = weight.sum()
    mean_x = float(np.sum(weight[used] * x[used]) / total)
    mean_y = float(np.sum(weight[used] * y[used]) / total)
    u, v = x[used] - mean_x, y[used] - mean_y
    w, cxx, cyy, cxy = weight[used], xx[used], yy[used], xy[used]
    beta = w * (u * cyy + slope * v * cxx - (slope * u + v) * cxy)
    found = float(np.sum(w * beta * v) / np.sum(w * beta * u))
    adjusted = beta - float(np.sum(w * beta) / total)
    # Where the line passes each point: x as the line has it.
    spread = float(np.sum(w * adjusted**2))
    level = mean_y
    residual = y - level - found * (x - mean_x)
    return Line(
        found, float(1.0 / np.sqrt(spread)), level, float(1.0 / np.sqrt(total)), mean_x, used,
        residual, 1.0,
    )  # fmt: skip
