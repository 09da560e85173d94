"""Stars of a catalogue as arrays, whatever file or service they came from."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass, replace
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
    parallax_mas: Floats | None = None
    """None where the catalogue says nothing of distances; 0 for the stars that have none."""
    notes: tuple[str, ...] | None = None
    """What else is known of each star: how it varies, where a catalogue says so."""
    listed: Bools | None = None
    """Which stars are of a sequence that is laid over the table; None without one."""
    other_names: tuple[str, ...] | None = None
    """The table's own names of those, by which they are found, too."""

    def __len__(self) -> int:
        return len(self.names)

    @cached_property
    def _rows(self) -> dict[str, int]:
        others = enumerate(self.other_names or ())
        known = {_key(name): row for row, name in others if name}
        return known | {_key(name): row for row, name in reversed(list(enumerate(self.names)))}

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

    def at_epoch(self, year: float, earth_au: Floats | None = None) -> tuple[Floats, Floats]:
        """Right ascension and declination in degrees at a Julian year, proper motion applied; and
        parallax, where ``earth_au``, (3), says how far the Earth stands from the barycentre (ICRS).

        Motion is along the tangent, which for stars that move less than 10″ a year is right to
        0.01″ over a century unless they are within a degree of a pole. Parallax: Seidelmann
        (1992, Explanatory Supplement, 3.316); positions are taken as the barycentre sees them.
        """
        years = year - self.epoch_yr
        east, north = self.pm_ra_mas_yr * years, self.pm_dec_mas_yr * years
        if earth_au is not None and self.parallax_mas is not None:
            x, y, z = earth_au
            a, d = np.radians(self.ra_deg), np.radians(self.dec_deg)
            east = east + self.parallax_mas * (x * np.sin(a) - y * np.cos(a))
            north = north + self.parallax_mas * (
                (x * np.cos(a) + y * np.sin(a)) * np.sin(d) - z * np.cos(d)
            )
        dec = self.dec_deg + north * _MAS_DEG
        cos_dec = np.maximum(np.cos(np.radians(self.dec_deg)), 1e-6)
        ra = self.ra_deg + east * _MAS_DEG / cos_dec
        return ra % 360.0, np.clip(dec, -90.0, 90.0)

    def moved_to(self, epoch_yr: float) -> StarTable:
        """The same stars with their positions at another epoch."""
        ra, dec = self.at_epoch(epoch_yr)
        return replace(self, ra_deg=ra, dec_deg=dec, epoch_yr=epoch_yr)

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
            None if self.parallax_mas is None else np.append(self.parallax_mas, 0.0),
            None if self.notes is None else (*self.notes, ""),
            None if self.listed is None else np.append(self.listed, False),
            None if self.other_names is None else (*self.other_names, ""),
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
            None if self.parallax_mas is None else self.parallax_mas[rows],
            None if self.notes is None else tuple(self.notes[row] for row in rows),
            None if self.listed is None else self.listed[rows],
            None if self.other_names is None else tuple(self.other_names[row] for row in rows),
        )


def joined(tables: Sequence[StarTable]) -> StarTable:
    """All stars of some tables one after the other, at the first one's epoch; a band that a table
    lacks is unknown there.
    """
    if len(tables) == 1:
        return tables[0]
    epoch = tables[0].epoch_yr
    moved = [t if t.epoch_yr == epoch else t.moved_to(epoch) for t in tables]
    bands = list(dict.fromkeys(band for table in moved for band in table.bands))
    parallaxes = [np.zeros(len(t)) if t.parallax_mas is None else t.parallax_mas for t in moved]
    notes = tuple(note for t in moved for note in (t.notes or ("",) * len(t)))
    return StarTable(
        tuple(name for table in moved for name in table.names),
        np.concatenate([t.ra_deg for t in moved]),
        np.concatenate([t.dec_deg for t in moved]),
        np.concatenate([t.pm_ra_mas_yr for t in moved]),
        np.concatenate([t.pm_dec_mas_yr for t in moved]),
        epoch,
        {
            band: Band(
                np.concatenate([_band(t, band).magnitude for t in moved]),
                np.concatenate([_band(t, band).uncertainty for t in moved]),
            )
            for band in bands
        },
        np.concatenate([t.known_variable for t in moved]),
        None if all(t.parallax_mas is None for t in moved) else np.concatenate(parallaxes),
        None if all(t.notes is None for t in moved) else notes,
    )


def _band(table: StarTable, band: str) -> Band:
    nothing = np.full(len(table), np.nan)
    return table.bands.get(band) or Band(nothing, np.full(len(table), UNKNOWN_UNCERTAINTY_MAG))


def _key(name: str) -> str:
    return "".join(name.lower().split())
