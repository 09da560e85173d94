"""Positions on the sky as unit vectors, and an index to search them by."""

from __future__ import annotations

import math

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints


def unit_vectors(ra_deg: Floats | float, dec_deg: Floats | float) -> Floats:
    """Unit vectors, (..., 3), of positions in degrees."""
    ra, dec = np.radians(ra_deg), np.radians(dec_deg)
    return np.stack([np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)], axis=-1)


def positions(vectors: Floats) -> tuple[Floats, Floats]:
    """Right ascension and declination in degrees of vectors (..., 3) of any length."""
    x, y, z = vectors[..., 0], vectors[..., 1], vectors[..., 2]
    return np.degrees(np.arctan2(y, x)) % 360.0, np.degrees(np.arctan2(z, np.hypot(x, y)))


def separation_deg(
    ra1: Floats | float, dec1: Floats | float, ra2: Floats | float, dec2: Floats | float
) -> Floats:
    """Angle between positions, in degrees, exact also for very small angles."""
    chord = np.linalg.norm(unit_vectors(ra1, dec1) - unit_vectors(ra2, dec2), axis=-1)
    return np.degrees(2.0 * np.arcsin(np.minimum(chord / 2.0, 1.0)))


CELL_BAND = 10_000_000
"""A cell's number is its band's times this, and its column."""


def sky_cells(turn: Floats, dec_deg: Floats, size_deg: float) -> Ints:
    """The cell of each position (right ascension from 0 to 1, declination in degrees): bands of
    declination cut into columns, so that all cells are about as large.
    """
    band = np.floor((dec_deg + 90.0) / size_deg).astype(np.int64)
    columns = _columns(band, size_deg)
    column = np.minimum((turn * columns).astype(np.int64), columns - 1)
    return band * CELL_BAND + column


def cells_about(
    ra_deg: float, dec_deg: float, radius_deg: float, size_deg: float
) -> list[tuple[int, int]]:
    """The runs of cells, first and last, that a circle can touch, in ascending order."""
    runs = []
    low, high = max(dec_deg - radius_deg, -90.0), min(dec_deg + radius_deg, 90.0)
    for band in range(int((low + 90.0) / size_deg), int((high + 90.0) / size_deg) + 1):
        columns = int(_columns(np.array([band]), size_deg)[0])
        half = _half_width(dec_deg, radius_deg, band * size_deg - 90.0, size_deg)
        start = band * CELL_BAND
        if half >= 180.0 or 2.0 * half / 360.0 * columns >= columns - 1:
            runs.append((start, start + columns - 1))
            continue
        first = int(np.floor((ra_deg - half) / 360.0 * columns))
        last = int(np.floor((ra_deg + half) / 360.0 * columns))
        if first < 0 or last >= columns:
            runs += [
                (start, start + last % columns),
                (start + first % columns, start + columns - 1),
            ]
        else:
            runs.append((start + first, start + last))
    return runs


def cell_circle(cell: int, size_deg: float) -> tuple[float, float, float]:
    """The middle of a cell, right ascension and declination, and the radius of the circle about it
    that holds all of the cell, in degrees.
    """
    band, column = divmod(cell, CELL_BAND)
    columns = int(_columns(np.array([band]), size_deg)[0])
    low = band * size_deg - 90.0
    high = min(low + size_deg, 90.0)
    if columns == 1:
        return 0.0, (90.0 if high >= 90.0 else -90.0), size_deg
    ra, dec = (column + 0.5) * 360.0 / columns, 0.5 * (low + high)
    corners = np.array([low, high])
    edge = np.full(2, column * 360.0 / columns)
    return ra, dec, float(separation_deg(edge, corners, ra, dec).max()) * (1.0 + 1e-6)


def _columns(band: Ints, size_deg: float) -> Ints:
    middle = np.radians((band + 0.5) * size_deg - 90.0)
    return np.maximum(np.floor(360.0 * np.cos(middle) / size_deg), 1).astype(np.int64)


def _half_width(dec_deg: float, radius_deg: float, low: float, size_deg: float) -> float:
    """Half of the right ascension in degrees that a circle covers in a band, or more."""
    if abs(dec_deg) + radius_deg >= 90.0:
        return 180.0
    # At its widest a circle reaches asin(sin r / cos δ) to either side.
    wide = np.degrees(np.arcsin(np.sin(np.radians(radius_deg)) / np.cos(np.radians(dec_deg))))
    return float(wide) + 1e-9


class SkyIndex:
    """Search stars by position."""

    def __init__(self, ra_deg: Floats, dec_deg: Floats) -> None:
        self.vectors = unit_vectors(ra_deg, dec_deg)

    def within(self, ra_deg: float, dec_deg: float, radius_deg: float) -> Ints:
        """Rows within a circle, in order of row."""
        # ``unit_vectors`` of one place, without its arrays: three times for every exposure.
        ra, dec = math.radians(ra_deg), math.radians(dec_deg)
        centre = np.array(
            [math.cos(dec) * math.cos(ra), math.cos(dec) * math.sin(ra), math.sin(dec)]
        )
        near = self.vectors @ centre >= math.cos(math.radians(min(radius_deg, 180.0)))
        return np.flatnonzero(near)

    def nearest(self, ra_deg: float, dec_deg: float) -> tuple[int, float]:
        """The nearest star's row and its distance in degrees."""
        away2 = np.sum((self.vectors - unit_vectors(ra_deg, dec_deg)) ** 2, axis=1)
        row = int(np.argmin(away2))
        chord = math.sqrt(float(away2[row]))
        return row, math.degrees(2.0 * math.asin(min(chord / 2.0, 1.0)))
