"""A made-up patch of sky: stars with invented names, colours, motions, and stars that vary."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from astropy.io.votable import from_table
from astropy.table import Column, Table

EPOCH_YR = 2016.0
CATALOGUE_COLUMNS = (
    ("name", "meta.id;meta.main", ""),
    ("ra", "pos.eq.ra;meta.main", "deg"),
    ("dec", "pos.eq.dec;meta.main", "deg"),
    ("pm_ra", "pos.pm;pos.eq.ra", "mas/yr"),
    ("pm_dec", "pos.pm;pos.eq.dec", "mas/yr"),
    ("epoch", "time.epoch", "yr"),
    ("B_mag", "phot.mag;em.opt.B", "mag"),
    ("B_err", "stat.error;phot.mag;em.opt.B", "mag"),
    ("V_mag", "phot.mag;em.opt.V", "mag"),
    ("V_err", "stat.error;phot.mag;em.opt.V", "mag"),
    ("variable", "src.var", ""),
)
_RED_COLUMNS = (
    ("R_mag", "phot.mag;em.opt.R", "mag"), ("R_err", "stat.error;phot.mag;em.opt.R", "mag")
)  # fmt: skip
_RED_OF_COLOUR = 0.58
"""V − R over B − V, of all stars alike."""

Variation = Callable[[float, str], float]
"""Magnitudes to add at a Julian date in a filter."""


@dataclass
class Sky:
    """Stars with true magnitudes by band, and what the catalogue says of them.

    Positions are ICRS at ``EPOCH_YR``; ``catalogue_mag`` and ``catalogue_err`` by band.
    """

    names: list[str]
    ra_deg: np.ndarray
    dec_deg: np.ndarray
    pm_ra_mas_yr: np.ndarray
    pm_dec_mas_yr: np.ndarray
    true_mag: dict[str, np.ndarray]
    catalogue_mag: dict[str, np.ndarray]
    catalogue_err: dict[str, np.ndarray]
    known_variable: np.ndarray
    variations: dict[str, Variation] = field(default_factory=dict)
    uncatalogued: set[str] = field(default_factory=set)
    """Stars that shine but that the catalogue does not list."""

    def positions(self, year: float) -> tuple[np.ndarray, np.ndarray]:
        """Right ascension and declination in degrees at a Julian year."""
        years = year - EPOCH_YR
        dec = self.dec_deg + self.pm_dec_mas_yr * years / 3.6e6
        ra = self.ra_deg + self.pm_ra_mas_yr * years / 3.6e6 / np.cos(np.radians(self.dec_deg))
        return ra, dec

    def magnitudes(self, jd: float, band: str) -> np.ndarray:
        """True magnitudes of all stars at a Julian date."""
        magnitudes = self.true_mag[band].copy()
        for name, variation in self.variations.items():
            magnitudes[self.names.index(name)] += variation(jd, band)
        return magnitudes

    def row(self, name: str) -> int:
        """The row of a star."""
        return self.names.index(name)

    @property
    def columns(self) -> tuple[tuple[str, str, str], ...]:
        """The catalogue's columns: name, UCD, unit."""
        return CATALOGUE_COLUMNS + (_RED_COLUMNS if "R" in self.true_mag else ())

    def table(self) -> Table:
        """The catalogue as an observer would get it."""
        values = {
            "name": self.names, "ra": self.ra_deg, "dec": self.dec_deg,
            "pm_ra": self.pm_ra_mas_yr, "pm_dec": self.pm_dec_mas_yr,
            "epoch": np.full(len(self.names), EPOCH_YR),
            "B_mag": self.catalogue_mag["B"], "B_err": self.catalogue_err["B"],
            "V_mag": self.catalogue_mag["V"], "V_err": self.catalogue_err["V"],
            "variable": self.known_variable.astype(np.int16),
        }  # fmt: skip
        if "R" in self.true_mag:
            values |= {"R_mag": self.catalogue_mag["R"], "R_err": self.catalogue_err["R"]}
        listed = np.array([name not in self.uncatalogued for name in self.names])
        table = Table()
        for name, ucd, unit in self.columns:
            column = np.asarray(values[name])[listed]
            table[name] = Column(column, unit=unit or None, meta={"ucd": ucd})
        return table

    def write_votable(self, path: Path) -> None:
        """Write the catalogue as VOTable with UCDs."""
        votable = from_table(self.table())
        ucds = {name: ucd for name, ucd, _ in self.columns}
        for entry in votable.get_first_table().fields:
            entry.ucd = ucds[entry.name]
        votable.to_xml(str(path))


def make_sky(
    rng: np.random.Generator,
    field_name: str,
    ra_deg: float,
    dec_deg: float,
    size_deg: float,
    stars_per_square_deg: float,
    *,
    brightest: float = 9.5,
    faintest: float = 17.5,
    sure_mag: float = 0.006,
    clear_about: list[tuple[float, float, float]] | None = None,
) -> Sky:
    """A square of sky with star counts that rise by 10^0.3 a magnitude.

    ``sure_mag`` is the catalogue's uncertainty for bright stars; it grows towards faint ones.
    ``clear_about`` lists (ra, dec, radius in seconds of arc) without stars, for cast stars.
    """
    count = int(rng.poisson(stars_per_square_deg * size_deg**2))
    half = size_deg / 2
    ra = ra_deg + rng.uniform(-half, half, count) / np.cos(np.radians(dec_deg))
    dec = dec_deg + rng.uniform(-half, half, count)
    slope = 0.3 * np.log(10)
    low, high = np.exp(slope * brightest), np.exp(slope * faintest)
    v = np.log(rng.uniform(low, high, count)) / slope
    colour = np.clip(rng.normal(0.75, 0.28, count), -0.1, 1.8)
    keep = np.ones(count, bool)
    for cra, cdec, radius in clear_about or []:
        away = np.hypot((ra - cra) * np.cos(np.radians(cdec)), dec - cdec) * 3600
        keep &= away > radius
    ra, dec, v, colour = ra[keep], dec[keep], v[keep], colour[keep]
    motion = rng.normal(0, 8.0, (2, ra.size)) + rng.standard_t(2, (2, ra.size)) * 4.0
    true = {"V": v, "B": v + colour}
    error = {band: sure_mag * (1 + 10 ** (0.4 * (m - 15.5))) for band, m in true.items()}
    catalogue = {band: m + rng.normal(0, error[band]) for band, m in true.items()}
    names = [f"{field_name} {1000 + n}" for n in range(ra.size)]
    return Sky(
        names, ra, dec, motion[0], motion[1], true, catalogue, error, np.zeros(ra.size, bool)
    )


def add_star(
    sky: Sky, rng: np.random.Generator, name: str, ra: float, dec: float, v: float, colour: float,
    *, sure_mag: float = 0.006, known_variable: bool = False, variation: Variation | None = None,
) -> None:  # fmt: skip
    """Put one more star into a sky, with a catalogue entry of its own."""
    sky.names.append(name)
    sky.ra_deg = np.append(sky.ra_deg, ra)
    sky.dec_deg = np.append(sky.dec_deg, dec)
    sky.pm_ra_mas_yr = np.append(sky.pm_ra_mas_yr, rng.normal(0, 8.0))
    sky.pm_dec_mas_yr = np.append(sky.pm_dec_mas_yr, rng.normal(0, 8.0))
    for band, m in (("V", v), ("B", v + colour)):
        sky.true_mag[band] = np.append(sky.true_mag[band], m)
        sky.catalogue_err[band] = np.append(sky.catalogue_err[band], sure_mag)
        sky.catalogue_mag[band] = np.append(sky.catalogue_mag[band], m + rng.normal(0, sure_mag))
    sky.known_variable = np.append(sky.known_variable, known_variable)
    if variation:
        sky.variations[name] = variation


def add_red(sky: Sky) -> None:
    """Magnitudes in R for all stars, as sure as those in V."""
    for magnitudes in (sky.true_mag, sky.catalogue_mag):
        v, b = magnitudes["V"], magnitudes["B"]
        magnitudes["R"] = v - _RED_OF_COLOUR * (b - v)
    sky.catalogue_err["R"] = sky.catalogue_err["V"].copy()


def eclipses(
    epoch_jd: float, period_d: float, depths: tuple[float, float], width: float
) -> Variation:
    """An eclipsing star: two dips a cycle, ``width`` in phase, with a little reflection between.

    The primary is 8% deeper in B.
    """

    def variation(jd: float, band: str) -> float:
        phase = ((jd - epoch_jd) / period_d) % 1.0
        bluer = 1.08 if band == "B" else 1.0
        total = 0.02 * (1 + np.cos(2 * np.pi * phase))
        for depth, centre in ((depths[0] * bluer, 0.0), (depths[1], 0.5)):
            away = abs((phase - centre + 0.5) % 1.0 - 0.5)
            total += depth * np.exp(-((away / width) ** 2.4))
        return float(total)

    return variation


def sine(epoch_jd: float, period_d: float, half_range: float) -> Variation:
    """A star that swings by ± ``half_range`` mag."""
    return lambda jd, _: float(half_range * np.sin(2 * np.pi * (jd - epoch_jd) / period_d))
