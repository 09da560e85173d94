"""What an exposure looks like: the quality of its stars and of its sky."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.compiled import njit
from narrow_beacon.core.arrays import Flags
from narrow_beacon.core.correct.flat_verdict import plane_and_radial
from narrow_beacon.core.stars.background import Background
from narrow_beacon.core.stars.profile import StarProfile

_LEAST_MESH = 4


@dataclass(frozen=True)
class Quality:
    """What an exposure looks like, placed or not; not a number where that is not known."""

    fwhm_px: float
    elongation: float
    stars: int
    sky_adu_per_px: float
    noise_adu: float
    slope: float = float("nan")
    """Of the sky, from side to side over the middle's value."""
    corners: float = float("nan")
    """Of the sky, less the middle, over the middle's value."""
    angle_deg: float = float("nan")
    """The direction in which stars are drawn out, from +x towards +y, 0 to 180."""
    saturated: float = float("nan")
    """Share of pixels at or beyond the linear limit."""
    noise_ratio: float = float("nan")
    """The background's noise over what gain, read noise and level say."""
    trails: tuple[tuple[float, float, float, float], ...] = ()
    """x and y of the ends of every trail, 0-based pixels."""


def quality_of(
    profile: StarProfile | None, stars: int, background: Background, saturated: float
) -> Quality:
    """The quality of an exposure from what was found on it."""
    slope, corners = _even(background)
    return Quality(
        fwhm_px=profile.fwhm_px if profile else float("nan"),
        elongation=profile.elongation if profile else float("nan"),
        stars=stars,
        sky_adu_per_px=background.median_sky_adu,
        noise_adu=background.median_noise_adu,
        angle_deg=profile.angle_deg if profile else float("nan"),
        saturated=saturated,
        slope=slope,
        corners=corners,
    )


def reference_score(quality: Quality, most_stars: int) -> float:
    """How good an exposure serves as the standard of others: the number of its stars, at most
    ``most_stars``, over the area that each takes (width² × elongation); 0 where it has none.
    """
    score = min(quality.stars, most_stars) / (quality.fwhm_px**2 * quality.elongation)
    return float(score) if np.isfinite(score) else 0.0


def flagged_share(flags: Flags, flag: np.uint8) -> float:
    """The share of pixels (height, width) that carry a flag."""
    return float(_count(flags, flag)) / flags.size


def _even(background: Background) -> tuple[float, float]:
    """Slope and corners of the sky; not a number where there is too little of it."""
    rows, columns = background.sky_adu.shape
    if min(rows, columns) < _LEAST_MESH or background.median_sky_adu < background.median_noise_adu:
        return float("nan"), float("nan")
    y, x = np.meshgrid(
        (np.arange(rows) + 0.5) * 2 / rows - 1, (np.arange(columns) + 0.5) * 2 / columns - 1,
        indexing="ij",
    )  # fmt: skip
    slope, _, corners = plane_and_radial(background.sky_adu.astype(float), x, y)
    return slope, corners


@njit(cache=True, nogil=True)
def _count(flags, flag):  # type: ignore[no-untyped-def]
    found = 0
    for row in range(flags.shape[0]):
        for column in range(flags.shape[1]):
            if flags[row, column] & flag:
                found += 1
    return found
