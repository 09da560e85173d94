"""Positions on the sky as unit vectors, and an index to search them by."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

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


class SkyIndex:
    """Search stars by position."""

    def __init__(self, ra_deg: Floats, dec_deg: Floats) -> None:
        self.vectors = unit_vectors(ra_deg, dec_deg)
        self._tree = cKDTree(self.vectors)

    def within(self, ra_deg: float, dec_deg: float, radius_deg: float) -> Ints:
        """Rows within a circle, in order of row."""
        centre = unit_vectors(ra_deg, dec_deg)
        near = self.vectors @ centre >= np.cos(np.radians(min(radius_deg, 180.0)))
        return np.flatnonzero(near)

    def nearest(self, ra_deg: float, dec_deg: float) -> tuple[int, float]:
        """The nearest star's row and its distance in degrees."""
        centre = unit_vectors(ra_deg, dec_deg)
        chord, row = self._tree.query(centre)
        return int(row), float(np.degrees(2 * np.arcsin(min(chord / 2, 1.0))))
