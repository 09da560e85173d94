"""Times of exposures: JD(UTC), HJD(UTC), BJD(TDB), and the airmass that goes with them.

Light travel times by ERFA's ephemeris; barycentric Julian date in TDB as Eastman et al. (2010,
PASP 122, 935) ask for. Airmass: Pickering (2002, DIO 12, 1, 20).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.earth import (
    DAY_S,
    Site,
    earth_au,
    moments_at,
    moments_of,
    seen_from_the_centre,
    stand_of,
)

_MJD_EPOCH, _MJD_JD = datetime(1858, 11, 17), 2400000.5
# Light crosses an astronomical unit (IAU 2012 B2) in that time.
_AU_S = 149597870700.0 / 299792458.0


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
    moments = moments_of(mid_utc)
    nodes, of, weight = _nodes(moments.jd() - _MJD_JD)
    stand = stand_of(moments_at(nodes + _MJD_JD), site)
    ra, dec = np.radians(ra_deg), np.radians(dec_deg)
    star = np.array([np.cos(dec) * np.cos(ra), np.cos(dec) * np.sin(ra), np.sin(dec)])
    helio_s, bary_s = (
        ((au @ star * _AU_S)[of] * weight).sum(axis=1)
        for au in (stand.heliocentric_au, stand.barycentric_au)
    )
    day, part = moments.barycentric(site)
    airmass = np.full(len(mid_utc), np.nan)
    if site:
        sine = (np.sin(stand.altitude_rad(ra, dec))[of] * weight).sum(axis=1)
        airmass = _airmass_at(sine)
    return Times(
        moments.jd(),
        moments.later(helio_s).jd(),
        np.asarray(day + (part + bary_s / DAY_S)),
        airmass,
    )


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
    ra, dec = seen_from_the_centre(float(jd.mean()), np.radians(ra_deg), np.radians(dec_deg))
    days = jd - _J2000_JD
    turn = 2.0 * np.pi * ((0.7790572732640 + 0.00273781191135448 * days + days % 1.0) % 1.0)
    hour = turn[:, None] + np.radians(site.longitude_deg) - ra[None, :]
    latitude = np.radians(site.latitude_deg)
    return _airmass_at(
        np.sin(latitude) * np.sin(dec) + np.cos(latitude) * np.cos(dec) * np.cos(hour)
    )


def _airmass_at(sine: Floats) -> Floats:
    """Airmass by the sine of the altitude without refraction."""
    altitude_deg = np.degrees(np.arcsin(np.clip(sine, -1.0, 1.0)))
    return pickering_airmass(apparent_altitude(altitude_deg))


def places_at(stars: StarTable, year: float) -> tuple[Floats, Floats]:
    """Right ascension and declination in degrees of stars as they are seen from the Earth at a
    Julian year: with proper motion, and with parallax where the catalogue has it.
    """
    return stars.at_epoch(year, None if stars.parallax_mas is None else earth_au(year))


def julian_year(moment: datetime) -> float:
    """The Julian year of a moment, for proper motions."""
    days = (moment - datetime(2000, 1, 1, 12)).total_seconds() / 86400.0
    return 2000.0 + days / 365.25
