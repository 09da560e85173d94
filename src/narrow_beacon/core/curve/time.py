"""Times of exposures: JD(UTC), HJD(UTC), BJD(TDB), and the airmass that goes with them.

Light travel times by Astropy with the ephemeris that it carries; barycentric Julian date in TDB
as Eastman et al. (2010, PASP 122, 935) ask for. Airmass: Pickering (2002, DIO 12, 1, 20).
"""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache

import numpy as np
from astropy import units
from astropy.coordinates import CIRS, AltAz, EarthLocation, SkyCoord, get_body_barycentric
from astropy.table import QTable
from astropy.time import Time, TimeDelta
from astropy.utils import iers

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.table import StarTable

# Nothing is downloaded: tables come with the package, and an old one costs microseconds here.
iers.conf.auto_download = False
iers.conf.auto_max_age = None
iers.conf.iers_degraded_accuracy = "ignore"
_MJD_EPOCH, _MJD_JD = datetime(1858, 11, 17), 2400000.5


@dataclass(frozen=True)
class Site:
    """Where the telescope stands; east longitudes are positive."""

    latitude_deg: float
    longitude_deg: float
    elevation_m: float = 0.0

    def location(self) -> EarthLocation:
        """The site for Astropy."""
        return EarthLocation.from_geodetic(
            self.longitude_deg * units.deg,
            self.latitude_deg * units.deg,
            self.elevation_m * units.m,
        )


@dataclass(frozen=True)
class Times:
    """Times in days and airmass of a set of exposures, each (exposures)."""

    jd_utc: Floats
    hjd_utc: Floats
    bjd_tdb: Floats
    airmass: Floats


def exposure_times(
    mid_utc: Sequence[datetime], ra_deg: float, dec_deg: float, site: Site | None
) -> Times:
    """Times of mid-exposures for a star at a position (ICRS, degrees).

    Without a site the centre of the Earth stands in (within 0.022 s) and airmass is NaN.
    """
    if not mid_utc:
        return Times(*(np.empty(0) for _ in range(4)))
    location = site.location() if site else EarthLocation.from_geocentric(0, 0, 0, unit=units.m)
    days = np.array([(moment - _MJD_EPOCH).total_seconds() / 86400.0 for moment in mid_utc])
    nodes, of, weight = _nodes(days)
    orientation = earth_orientation(nodes[0], nodes[-1])
    with warnings.catch_warnings(), iers.earth_orientation_table.set(orientation):
        warnings.simplefilter("ignore")
        star = SkyCoord(ra_deg * units.deg, dec_deg * units.deg, frame="icrs")
        then = Time(nodes, format="mjd", scale="utc", location=location)
        early_s = np.stack(
            [then.light_travel_time(star, kind, ephemeris="builtin").to_value(units.s)
             for kind in ("heliocentric", "barycentric")]
        )  # fmt: skip
        height = np.full(nodes.size, np.nan)
        if site:
            seen = star.transform_to(AltAz(obstime=then, location=location))
            height = np.sin(np.asarray(seen.alt.rad))
        helio_s, bary_s = (early_s[:, of] * weight).sum(axis=2)
        time = Time(list(mid_utc), format="datetime", scale="utc", location=location)
        jd_utc = np.asarray(time.jd)
        helio = (time + TimeDelta(helio_s, format="sec")).jd
        bary = (time.tdb + TimeDelta(bary_s, format="sec")).jd
    sine = np.clip((height[of] * weight).sum(axis=1), -1.0, 1.0)
    airmass = pickering_airmass(apparent_altitude(np.degrees(np.arcsin(sine))))
    return Times(jd_utc, np.asarray(helio), np.asarray(bary), airmass)


def heliocentric(bjd_tdb: Floats, ra_deg: float, dec_deg: float) -> Floats:
    """Heliocentric Julian dates in UTC of barycentric ones in TDB, for a star at a position (ICRS,
    degrees) as it is seen from the centre of the Earth (within 0.022 s).
    """
    wanted = np.asarray(bjd_tdb, float)
    # When the light was on the Earth: in UTC, by steps that each come 10⁴ times nearer.
    jd = wanted.copy()
    for _ in range(3):
        moments = [_MJD_EPOCH + timedelta(days=float(one - _MJD_JD)) for one in jd]
        times = exposure_times(moments, ra_deg, dec_deg, None)
        jd = jd + (wanted - times.bjd_tdb)
    return times.hjd_utc + (wanted - times.bjd_tdb)


_NODE_D = 1.0 / 72.0


def _nodes(days: Floats) -> tuple[Floats, Ints, Floats]:
    """Moments every twenty minutes about some days (MJD), and for each day (days, 4) which of them
    it lies between and by what weights: a cubic through four of them.

    The Earth's turn and orbit are smooth: the sine of an altitude comes out to 2e-6, light travel
    to less than a microsecond, and a long campaign costs no more than its nights.
    """
    cell = np.floor(days / _NODE_D).astype(np.int64)
    about = cell[:, None] + np.arange(-1, 3)
    nodes = np.unique(about)
    t = days / _NODE_D - cell
    weight = np.stack(
        [-t * (t - 1) * (t - 2) / 6, (t + 1) * (t - 1) * (t - 2) / 2, -(t + 1) * t * (t - 2) / 2,
         (t + 1) * t * (t - 1) / 6], axis=1,
    )  # fmt: skip
    return nodes * _NODE_D, np.searchsorted(nodes, about), weight


def earth_orientation(first_mjd: float, last_mjd: float) -> iers.IERS:
    """Earth orientation about some days, from the table that comes with Astropy.

    Days outside of it get its nearest line, which errs by under a second of time in the Earth's
    turn: 2 µs of light travel.
    """
    days, values = _orientation_lines()
    wanted = np.arange(int(first_mjd) - 2, int(last_mjd) + 4)
    orientation = values[np.clip(wanted - days[0], 0, days.size - 1)]
    table = QTable()
    table["MJD"] = wanted.astype(float) * units.d
    table["PM_x"], table["PM_y"] = (
        orientation[:, 0] * units.arcsec,
        orientation[:, 1] * units.arcsec,
    )
    table["UT1_UTC"] = orientation[:, 2] * units.s
    table["dX_2000A"] = table["dY_2000A"] = np.zeros(wanted.size) * units.arcsec
    return iers.IERS(table)


@lru_cache(maxsize=1)
def _orientation_lines() -> tuple[Ints, Floats]:
    """Consecutive days (MJD) and their pole's x and y in seconds of arc and UT1 − UTC in s, read
    once in a process.

    Astropy reads all of the table's half a century in seconds; a fixed-width line a day is simple
    to pick (format: the table's own ReadMe).
    """
    days, values = [], []
    with open(iers.IERS_A_FILE, encoding="ascii") as file:
        for line in file:
            if not line[58:68].strip():
                break  # predictions end here
            days.append(int(float(line[7:15])))
            values.append((float(line[18:27]), float(line[37:46]), float(line[58:68])))
    return np.array(days), np.array(values)


def apparent_altitude(altitude_deg: Floats) -> Floats:
    """Altitude in degrees with refraction at sea level (Saemundsson 1986, Sky & Tel. 72, 70)."""
    h = np.maximum(altitude_deg, -1.0)
    return altitude_deg + 1.02 / 60.0 / np.tan(np.radians(h + 10.3 / (h + 5.11)))


def pickering_airmass(apparent_altitude_deg: Floats) -> Floats:
    """Airmass at an apparent altitude in degrees; NaN below the horizon."""
    h = np.where(apparent_altitude_deg > 0, apparent_altitude_deg, np.nan)
    return 1.0 / np.sin(np.radians(h + 244.0 / (165.0 + 47.0 * h**1.1)))


_J2000_JD = 2451545.0


def airmasses(jd_utc: Floats, ra_deg: Floats, dec_deg: Floats, site: Site) -> Floats:
    """Airmass of stars (ICRS positions) at moments, (moments, stars); NaN below the horizon.

    By the Earth's rotation angle (Capitaine et al. 2000, A&A 355, 398) and places of the middle of
    the time span, with refraction: good to a minute of arc, for differences between stars.
    """
    jd = np.asarray(jd_utc, float)
    middle = Time(float(jd.mean()), format="jd", scale="utc")
    with iers.earth_orientation_table.set(earth_orientation(middle.mjd, middle.mjd)):
        places = SkyCoord(ra_deg * units.deg, dec_deg * units.deg, frame="icrs").transform_to(
            CIRS(obstime=middle)
        )
    days = jd - _J2000_JD
    turn = 360.0 * ((0.7790572732640 + 0.00273781191135448 * days + days % 1.0) % 1.0)
    hour = np.radians(turn[:, None] + site.longitude_deg - np.asarray(places.ra.deg)[None, :])
    latitude, dec = np.radians(site.latitude_deg), np.radians(np.asarray(places.dec.deg))
    sine = np.sin(latitude) * np.sin(dec) + np.cos(latitude) * np.cos(dec) * np.cos(hour)
    return pickering_airmass(apparent_altitude(np.degrees(np.arcsin(np.clip(sine, -1.0, 1.0)))))


def places_at(stars: StarTable, year: float) -> tuple[Floats, Floats]:
    """Right ascension and declination in degrees of stars as they are seen from the Earth at a
    Julian year: with proper motion, and with parallax where the catalogue has it.
    """
    return stars.at_epoch(year, None if stars.parallax_mas is None else earth_au(year))


def earth_au(year: float) -> Floats:
    """Where the Earth is from the barycentre at a Julian year, (3), in au (ICRS)."""
    time = Time(year, format="jyear", scale="tdb")
    earth = get_body_barycentric("earth", time, ephemeris="builtin")
    return np.asarray(earth.xyz.to_value(units.au))


def julian_year(moment: datetime) -> float:
    """The Julian year of a moment, for proper motions."""
    days = (moment - datetime(2000, 1, 1, 12)).total_seconds() / 86400.0
    return 2000.0 + days / 365.25
