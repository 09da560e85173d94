"""Starlight on the sensor: pixel-integrated Moffat profiles and trails."""

from __future__ import annotations

import numpy as np

from narrow_beacon.compiled import njit

MOFFAT_BETA = 2.5
# Gauss–Legendre nodes and weights of order 3 on a pixel of width 1.
_NODES = np.array([-0.3872983346207417, 0.0, 0.3872983346207417])
_WEIGHTS = np.array([5.0, 8.0, 5.0]) / 18.0


def moffat_alpha(fwhm_px: float) -> float:
    """The Moffat α of a width for β = 2.5."""
    return fwhm_px / (2.0 * np.sqrt(2.0 ** (1.0 / MOFFAT_BETA) - 1.0))


def add_stars(
    image: np.ndarray, x_px: np.ndarray, y_px: np.ndarray, electrons: np.ndarray, fwhm_px: float
) -> None:
    """Add stars of given total electrons at 0-based positions to an image, in place.

    Each is drawn as far out as a pixel gets more than 0.02 electrons.
    """
    _stamp(image, x_px, y_px, electrons, moffat_alpha(fwhm_px), _NODES, _WEIGHTS)


@njit(cache=True)
def _stamp(image, xs, ys, fluxes, alpha, nodes, weights):  # type: ignore[no-untyped-def]
    height, width = image.shape
    norm = 1.5 / (np.pi * alpha * alpha)  # (β − 1) / πα²
    for n in range(xs.size):
        peak = fluxes[n] * norm
        if peak <= 0.0:
            continue
        reach = alpha * np.sqrt(max((peak / 0.02) ** 0.4 - 1.0, 0.0)) + 2.0
        reach = min(max(reach, 4.0 * alpha), 400.0)
        for y in range(max(0, int(ys[n] - reach)), min(height, int(ys[n] + reach) + 2)):
            for x in range(max(0, int(xs[n] - reach)), min(width, int(xs[n] + reach) + 2)):
                dx, dy = x - xs[n], y - ys[n]
                if dx * dx + dy * dy > reach * reach:
                    continue
                total = 0.0
                for j in range(3):
                    v = (dy + nodes[j]) ** 2
                    for i in range(3):
                        u = 1.0 + ((dx + nodes[i]) ** 2 + v) / (alpha * alpha)
                        total += weights[i] * weights[j] / (u * u * np.sqrt(u))
                image[y, x] += peak * total


def add_rings(
    image: np.ndarray, x_px: np.ndarray, y_px: np.ndarray, electrons: np.ndarray,
    radius_px: float, fwhm_px: float,
) -> None:  # fmt: skip
    """Add stars far out of focus, in place: even discs with a hole of 0.4 of their radius, their
    edges softened by the air.
    """
    height, width = image.shape
    reach = int(radius_px + 2.0 * fwhm_px) + 2
    soft = fwhm_px / 2.3548
    for x, y, light in zip(x_px, y_px, electrons, strict=True):
        x0, y0 = int(np.rint(x)), int(np.rint(y))
        yy, xx = np.mgrid[y0 - reach : y0 + reach + 1, x0 - reach : x0 + reach + 1]
        r = np.hypot(xx - x, yy - y)
        disc = 1.0 / (1.0 + np.exp((r - radius_px) / (0.55 * soft)))
        hole = 1.0 / (1.0 + np.exp((r - 0.4 * radius_px) / (0.55 * soft)))
        stamp = disc - hole
        stamp *= light / stamp.sum()
        inside = (yy >= 0) & (yy < height) & (xx >= 0) & (xx < width)
        image[yy[inside], xx[inside]] += stamp[inside]


def add_trail(
    image: np.ndarray,
    through: tuple[float, float],
    angle_deg: float,
    electrons_per_px: float,
    fwhm_px: float,
) -> None:
    """Add a straight trail across the whole image through a point, in place."""
    height, width = image.shape
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    angle = np.radians(angle_deg)
    away = (x - through[0]) * np.sin(angle) - (y - through[1]) * np.cos(angle)
    sigma = fwhm_px / 2.3548
    image += (
        electrons_per_px / (sigma * np.sqrt(2 * np.pi)) * np.exp(-0.5 * (away / sigma) ** 2)
    ).astype(image.dtype)


def shadow(shape: tuple[int, ...], angle_deg: float, begins: float) -> np.ndarray:
    """Share of light (height, width) that passes something before the telescope, far out of focus:
    it comes in from a direction and begins so many halves of the short side from the middle.
    """
    height, width = shape
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    angle, half = np.radians(angle_deg), min(height, width) / 2
    along = ((x - width / 2) * np.cos(angle) + (y - height / 2) * np.sin(angle)) / half
    return (0.03 + 0.97 / (1.0 + np.exp((along - begins) / 0.06))).astype(np.float32)
