"""Stars of a catalogue as arrays, whatever file or service they came from."""

from __future__ import annotations

import difflib
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from narrow_beacon.core.arrays import Bools, Floats, Ints
from narrow_beacon.core.errors import CatalogueError

_MAS_DEG = 1.0 / 3.6e6
UNKNOWN_UNCERTAINTY_MAG = 0.02
"""Of magnitudes whose catalogue does not say how sure they are."""


@dataclass(frozen=True)
class Band:
    """Magnitudes in one band with standard uncertainties; NaN where the catalogue has none."""

    magnitude: Floats
    uncertainty: Floats


@dataclass(frozen=True)
class StarTable:
    """A star catalogue: positions (ICRS, at ``epoch_yr``), proper motions, magnitudes.

    ``pm_ra_mas_yr`` includes the factor cos δ. ``known_variable`` marks stars that the catalogue
    says vary.
    """

    names: tuple[str, ...]
    ra_deg: Floats
    dec_deg: Floats
    pm_ra_mas_yr: Floats
    pm_dec_mas_yr: Floats
    epoch_yr: float
    bands: dict[str, Band]
    known_variable: Bools

    def __len__(self) -> int:
        return len(self.names)

    @cached_property
    def _rows(self) -> dict[str, int]:
        return {_key(name): row for row, name in reversed(list(enumerate(self.names)))}

    def row(self, name: str) -> int:
        """The row of a star by name, case and spaces ignored. Raises CatalogueError."""
        row = self._rows.get(_key(name))
        if row is None:
            close = difflib.get_close_matches(name, self.names, n=3, cutoff=0.6)
            hint = f"; close names: {', '.join(close)}" if close else ""
            raise CatalogueError(f"no star “{name}” in the catalogue{hint}")
        return row

    def find(self, name: str) -> int | None:
        """The row of a star by name, case and spaces ignored; None where it is not there."""
        return self._rows.get(_key(name))

    def at_epoch(self, year: float) -> tuple[Floats, Floats]:
        """Right ascension and declination in degrees at a Julian year, proper motion applied.

        Motion is along the tangent, which for stars that move less than 10″ a year is right to
        0.01″ over a century unless they are within a degree of a pole.
        """
        years = year - self.epoch_yr
        dec = self.dec_deg + self.pm_dec_mas_yr * _MAS_DEG * years
        cos_dec = np.maximum(np.cos(np.radians(self.dec_deg)), 1e-6)
        ra = self.ra_deg + self.pm_ra_mas_yr * _MAS_DEG * years / cos_dec
        return ra % 360.0, np.clip(dec, -90.0, 90.0)

    def brightness_order(self) -> Ints:
        """Rows from brightest to faintest by the band that most stars have, others after."""
        if not self.bands:
            return np.arange(len(self))
        best = max(self.bands.values(), key=lambda band: int(np.isfinite(band.magnitude).sum()))
        usual = best.magnitude.copy()
        for band in self.bands.values():
            usual = np.where(np.isfinite(usual), usual, band.magnitude)
        return np.argsort(np.where(np.isfinite(usual), usual, np.inf), kind="stable")

    def with_star(self, name: str, ra_deg: float, dec_deg: float) -> StarTable:
        """The table with one more star, of unknown magnitudes and no known motion."""
        nothing = np.array([np.nan])
        return StarTable(
            (*self.names, name),
            np.append(self.ra_deg, ra_deg),
            np.append(self.dec_deg, dec_deg),
            np.append(self.pm_ra_mas_yr, 0.0),
            np.append(self.pm_dec_mas_yr, 0.0),
            self.epoch_yr,
            {
                band: Band(np.append(b.magnitude, nothing), np.append(b.uncertainty, nothing))
                for band, b in self.bands.items()
            },
            np.append(self.known_variable, True),
        )

    def take(self, rows: Ints) -> StarTable:
        """The table of some rows only."""
        return StarTable(
            tuple(self.names[row] for row in rows),
            self.ra_deg[rows],
            self.dec_deg[rows],
            self.pm_ra_mas_yr[rows],
            self.pm_dec_mas_yr[rows],
            self.epoch_yr,
            {n: Band(b.magnitude[rows], b.uncertainty[rows]) for n, b in self.bands.items()},
            self.known_variable[rows],
        )


def _key(name: str) -> str:
    return "".join(name.lower().split())
