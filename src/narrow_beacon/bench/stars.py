"""Detection against truth: how many of the faint stars are found, how many false ones; and where
bright stars stand once an exposure with a distorted field is placed.
"""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from narrow_beacon.core.errors import NotPlacedError
from narrow_beacon.core.place.solve import Hint, Solver
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.core.stars.detect import detect
from narrow_beacon.simulate.pointing import Pointing
from narrow_beacon.simulate.render import add_stars, moffat_alpha

_SHAPE = (1024, 1024)
_SKY_E, _READ_E, _FWHM_PX = 400.0, 8.0, 3.0
_FIELDS = 40
_AT_SNR = (6.7, 7.3)
_OPEN_SHARE, _CROWDED_SHARE = 0.95, 0.80
_CROWDED_WIDTHS = 5.0
_OPEN_STARS = 80
_FRAMES = 40
_DISTORTION = 0.02
_MEDIAN_PX, _CORNER_PX = 0.05, 0.15
_BRIGHT_SNR = 100.0


def _electrons(snr: np.ndarray) -> np.ndarray:
    """Electrons of stars of a signal to noise, by the best weights for their profile p: with the
    noise of the sky, of the camera and of their own light, σ² = s²/Σp² + F Σp³/(Σp²)².
    """
    stamp = np.zeros((61, 61))
    add_stars(stamp, np.array([30.0]), np.array([30.0]), np.array([1e6]), _FWHM_PX)
    p = stamp / 1e6
    square = float(np.sum(p**2))
    sky, own = (_SKY_E + _READ_E**2) / square, float(np.sum(p**3)) / square**2
    half = 0.5 * snr**2 * own
    return half + np.sqrt(half**2 + snr**2 * sky)


def _noisy(rng: np.random.Generator, light: np.ndarray) -> np.ndarray:
    electrons = rng.poisson(light + _SKY_E) + rng.normal(0, _READ_E, light.shape)
    return electrons.astype(np.float32)


def false_stars(seed: int) -> int:
    """Stars that are found where there are none."""
    rng = np.random.default_rng([seed, 61])
    image = _noisy(rng, np.zeros(_SHAPE))
    return len(detect(image, measure_background(image), _FWHM_PX).stars)


def found_share(seed: int, crowded: bool) -> tuple[int, int]:
    """How many of the stars with a signal to noise of 7 are found in a field, and how many there
    are: an open one, or one where the median neighbour is five star widths away.
    """
    rng = np.random.default_rng([seed, 62])
    density = np.log(2.0) / (np.pi * (_CROWDED_WIDTHS * _FWHM_PX) ** 2)
    count = int(density * _SHAPE[0] * _SHAPE[1]) if crowded else _OPEN_STARS
    x, y = rng.uniform(12, _SHAPE[1] - 13, count), rng.uniform(12, _SHAPE[0] - 13, count)
    # From signal to noise 5 on, rarer by 0.3 in the logarithm a magnitude.
    snr = 5.0 * rng.uniform(1e-4, 1.0, count) ** (-0.4 / 0.3)
    tested = rng.random(count) < 0.3
    snr[tested] = rng.uniform(*_AT_SNR, int(tested.sum()))
    light = np.zeros(_SHAPE)
    add_stars(light, x, y, _electrons(np.minimum(snr, 1e3)), _FWHM_PX)
    image = _noisy(rng, light)
    stars = detect(image, measure_background(image), _FWHM_PX).stars
    away, _ = cKDTree(np.stack([stars.x_px, stars.y_px], axis=1)).query(
        np.stack([x[tested], y[tested]], axis=1)
    )
    return int((away < 0.5 * _FWHM_PX).sum()), int(tested.sum())


@dataclass(frozen=True)
class Placed:
    """Distances in pixels of where the solution says that things are from where they are: of the
    bright stars (median), and in the four corners (worst); and of bright stars' measured places.
    """

    median_px: float
    corner_px: float
    centred_px: float


def placed(seed: int) -> Placed | None:
    """A frame with 2% of distortion, rendered, searched and placed; None where it is not placed."""
    rng = np.random.default_rng([seed, 63])
    half = float(np.hypot(*_SHAPE)) / 2
    pointing = Pointing(
        float(rng.uniform(0, 360)), float(rng.uniform(-80, 80)), 1.2, float(rng.uniform(0, 360)),
        bool(rng.integers(2)), _SHAPE, _DISTORTION * half,
    )  # fmt: skip
    count = int(rng.integers(250, 900))
    x, y = rng.uniform(0, _SHAPE[1] - 1, count), rng.uniform(0, _SHAPE[0] - 1, count)
    snr = np.minimum(8.0 * rng.uniform(1e-4, 1.0, count) ** (-0.4 / 0.3), 2e3)
    ra, dec = (np.asarray(v) for v in pointing.wcs().all_pix2world(x, y, 0))
    light = np.zeros(_SHAPE)
    add_stars(light, x, y, _electrons(snr), _FWHM_PX)
    image = _noisy(rng, light)
    background = measure_background(image)
    stars = detect(image, background, _FWHM_PX).stars
    error = stars.position_error_px(_FWHM_PX)
    order = np.argsort(-snr)
    # As exact as a modern catalogue: 0.02″.
    noise = rng.normal(0, 0.02 / 3600.0, (2, count))
    solver = Solver(ra[order] + noise[0] / np.cos(np.radians(dec[order])), dec[order] + noise[1])
    hint = Hint(pointing.ra_deg, pointing.dec_deg, 0.3, (1.1, 1.3))
    try:
        solution = solver.place(stars.x_px, stars.y_px, _SHAPE, hint, error).solution
    except NotPlacedError:
        return None
    bright = snr > _BRIGHT_SNR
    px, py = solution.pixel(ra[bright], dec[bright])
    cx, cy = np.array([0.0, 1, 0, 1]) * (_SHAPE[1] - 1), np.array([0.0, 0, 1, 1]) * (_SHAPE[0] - 1)
    corner = solution.pixel(*(np.asarray(v) for v in pointing.wcs().all_pix2world(cx, cy, 0)))
    away, _ = cKDTree(np.stack([stars.x_px, stars.y_px], axis=1)).query(
        np.stack([x[bright], y[bright]], axis=1)
    )
    return Placed(
        float(np.median(np.hypot(px - x[bright], py - y[bright]))),
        float(np.hypot(corner[0] - cx, corner[1] - cy).max()), float(np.median(away)),
    )  # fmt: skip


def print_stars() -> bool:
    """Print the figures; True if every aim was met."""
    with ProcessPoolExecutor() as pool:
        false = sum(pool.map(false_stars, range(_FIELDS)))
        shares = []
        for crowded in (False, True):
            parts = list(pool.map(found_share, range(_FIELDS), [crowded] * _FIELDS))
            shares.append(sum(p[0] for p in parts) / sum(p[1] for p in parts))
        frames = list(pool.map(placed, range(_FRAMES)))
    good = [frame for frame in frames if frame is not None]
    area = _SHAPE[0] * _SHAPE[1] / 2048**2
    rate = false / _FIELDS / area
    median = float(np.median([f.median_px for f in good]))
    corner = float(np.median([f.corner_px for f in good]))
    worst = max(f.corner_px for f in good)
    centred = float(np.median([f.centred_px for f in good]))
    print(f"Detection, stars {_FWHM_PX:g} px wide, Moffat wings of β = 2.5 (α "
          f"{moffat_alpha(_FWHM_PX):.2f} px)")  # fmt: skip
    print(f"  false stars on an exposure of 2048 × 2048: {rate:.2f} (aim 1 or fewer)")
    print(f"  of stars with signal to noise 7: {shares[0]:.1%} in an open field (aim "
          f"{_OPEN_SHARE:.0%}), {shares[1]:.1%} where the median neighbour is "
          f"{_CROWDED_WIDTHS:g} widths away (aim {_CROWDED_SHARE:.0%})")  # fmt: skip
    print(
        f"{_FRAMES} frames of 1024 × 1024 with {_DISTORTION:.0%} of distortion, {len(good)} placed"
    )
    print(f"  bright stars within {median:.3f} px in the median (aim {_MEDIAN_PX:g}), measured "
          f"within {centred:.3f} px")  # fmt: skip
    print(f"  corners within {corner:.3f} px in the median, {worst:.3f} px the worst (aim "
          f"{_CORNER_PX:g})")  # fmt: skip
    return (
        rate <= 1.0 and shares[0] >= _OPEN_SHARE and shares[1] >= _CROWDED_SHARE
        and len(good) == _FRAMES and median < _MEDIAN_PX and worst < _CORNER_PX
    )  # fmt: skip
