"""Does a flat lean? Stars that a meridian flip or a turn of the field carried across the frame, one
this way and another that way, are as bright on either side, if the flat was even.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, evenly
from narrow_beacon.core.measure.noise import POGSON

_MOST_EXPOSURES, _MOST_STARS, _LEAST_STARS = 100, 300, 10
_LEAST_SEEN = 0.6
"""Of the exposures, that a star has to be on."""
_LEAST_MOVED = 0.05
"""Of the frame; by less no tilt that a flat has matters."""
_UNSURE_MAG, _NOISE_MAG = 0.05, 0.003
_SEEN_SHARE = 0.01
"""Of what is known of the direction in which stars moved most: less is nothing."""
_ROUNDS, _SWEEPS, _CLIP = 6, 12, 4.0
_SURE, _LEAST_MAG = 5.0, 0.004


@dataclass(frozen=True)
class Tilt:
    """By how many magnitudes stars measure fainter from the left edge of a frame (height, width) to
    the right, and from the bottom to the top, how unsure the larger of them is, and by how many
    stars.
    """

    across_mag: float
    up_mag: float
    error_mag: float
    stars: int
    shape: tuple[int, int]

    @property
    def size_mag(self) -> float:
        """From edge to edge in the direction in which it is largest."""
        return float(np.hypot(self.across_mag, self.up_mag))

    def at(self, x_px: Floats, y_px: Floats) -> Floats:
        """By how much stars at 0-based places measure fainter than in the frame's middle."""
        u, v = _of_frame(x_px, y_px, self.shape)
        return np.asarray(self.across_mag * u + self.up_mag * v)


def fit_tilt(
    counts_adu: Floats, uncertainty_adu: Floats, x_px: Floats, y_px: Floats, shape: tuple[int, int]
) -> Tilt | None:
    """The tilt that stars (exposures, stars) show on a frame (height, width); None where it is less
    than five of its errors or 4 mmag, as wherever they moved too little to tell.

    Weighted least squares of m = M(star) + Z(exposure) + a·u + b·v, in which means of stars and
    exposures are taken out by turns; the errors are those of sums over stars, whose measures are
    not independent of one another (Liang & Zeger 1986, Biometrika 73, 13).
    """
    some = evenly(counts_adu.shape[0], _MOST_EXPOSURES)
    if some.size < 3:
        return None
    with np.errstate(invalid="ignore", divide="ignore"):
        light = np.where(counts_adu[some] > 0, counts_adu[some], np.nan)
        sigma = np.hypot(POGSON * uncertainty_adu[some] / light, _NOISE_MAG)
        magnitude = -2.5 * np.log10(light)
    known = np.isfinite(magnitude) & np.isfinite(x_px[some]) & (sigma < _UNSURE_MAG)
    often = np.flatnonzero(known.mean(axis=0) >= _LEAST_SEEN)
    if often.size < _LEAST_STARS:
        return None
    brightest = often[np.argsort(np.nanmedian(magnitude[:, often], axis=0), kind="stable")]
    chosen = np.sort(brightest[:_MOST_STARS])
    known, magnitude, sigma = known[:, chosen], magnitude[:, chosen], sigma[:, chosen]
    u, v = _of_frame(x_px[some][:, chosen], y_px[some][:, chosen], shape)
    if max(_moved(u, known), _moved(v, known)) < _LEAST_MOVED:
        return None
    for _ in range(_ROUNDS):
        weight = np.where(known, sigma**-2.0, 0.0)
        left, *places = (
            _freed(np.where(known, values, 0.0), weight) for values in (magnitude, u, v)
        )
        design = np.stack(places, axis=-1)
        normal = np.einsum("es,esi,esj->ij", weight, design, design)
        # What carried all stars alike is in the zero points, and can't be told.
        inverse = np.linalg.pinv(normal, _SEEN_SHARE, hermitian=True)
        slopes = inverse @ np.einsum("es,esi,es->i", weight, design, left)
        left = left - design @ slopes
        usual = 1.4826 * float(np.median(np.abs(left[known])))
        now = known & (np.abs(left) < _CLIP * np.maximum(usual, sigma))
        if np.array_equal(now, known):
            break
        known = now
    pulls = np.einsum("es,esi,es->si", weight, design, left)
    error = np.sqrt(np.diag(inverse @ (pulls.T @ pulls) @ inverse)).max()
    tilt = Tilt(
        float(slopes[0]), float(slopes[1]), float(error), int(known.any(axis=0).sum()), shape
    )
    return tilt if tilt.size_mag > max(_SURE * tilt.error_mag, _LEAST_MAG) else None


def _moved(places: Floats, known: Bools) -> float:
    """How far most stars went."""
    far = np.where(known, places, -np.inf).max(axis=0) - np.where(known, places, np.inf).min(axis=0)
    return float(np.median(far))


def _of_frame(x_px: Floats, y_px: Floats, shape: tuple[int, int]) -> tuple[Floats, Floats]:
    return (x_px + 0.5) / shape[1] - 0.5, (y_px + 0.5) / shape[0] - 0.5


def _freed(values: Floats, weight: Floats) -> Floats:
    """Values (exposures, stars) less the weighted means of stars and of exposures."""
    by_star, by_exposure = (np.maximum(weight.sum(axis=axis), 1e-30) for axis in (0, 1))
    for _ in range(_SWEEPS):
        values = values - (weight * values).sum(axis=0) / by_star
        values = values - ((weight * values).sum(axis=1) / by_exposure)[:, None]
    return np.where(weight > 0, values, 0.0)
