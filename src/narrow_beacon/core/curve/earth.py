"""How the Earth stands at a moment: time scales, its turn, and where an observer on it is.

ERFA's routines (the IAU's Standards of Fundamental Astronomy) with the leap seconds and the Earth
orientation that come as a data package of Astropy's: nothing is downloaded. Called directly, since
Astropy's own layer over them takes longer to load than a night's times take to compute.
"""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from pathlib import Path

import erfa
import numpy as np
from astropy_iers_data import IERS_A_FILE, IERS_LEAP_SECOND_FILE

from narrow_beacon.core.arrays import Floats, Ints

DAY_S = 86400.0
_MJD_JD = 2400000.5
# With this height above the equator an observer stands in the middle of the Earth (ERFA's WGS84).
_TO_CENTRE_M = -6378137.0


@dataclass(frozen=True)
class Site:
    """Where the telescope stands; east longitudes are positive."""

    latitude_deg: float
    longitude_deg: float
    elevation_m: float = 0.0


@dataclass(frozen=True)
class Moments:
    """Moments in UTC as Julian dates in two parts, each (moments); their sum loses 40 µs."""

    day: Floats
    part: Floats

    def jd(self) -> Floats:
        """Julian dates in one number."""
        return np.asarray(self.day + self.part)

    def later(self, seconds: Floats) -> Moments:
        """The moments some seconds later, leap seconds counted."""
        with _quiet():
            day, part = erfa.utctai(self.day, self.part)
            return Moments(*erfa.taiutc(day, part + seconds / DAY_S))

    def terrestrial(self) -> tuple[Floats, Floats]:
        """Terrestrial time, as Julian dates in two parts."""
        with _quiet():
            return erfa.taitt(*erfa.utctai(self.day, self.part))

    def barycentric(self, site: Site | None) -> tuple[Floats, Floats]:
        """Barycentric dynamical time at a site (None: the centre of the Earth), in two parts."""
        day, part = self.terrestrial()
        place = np.zeros(3)
        if site:
            place = erfa.gd2gc(1, *_geodetic(site))
        turn = np.mod(
            self.part + _orientation(self.jd() - _MJD_JD)[2] / DAY_S + self.day - 0.5, 1.0
        )
        rate = erfa.dtdb(
            day, part, turn, np.radians(site.longitude_deg if site else 0.0),
            np.hypot(place[0], place[1]) / 1000.0, place[2] / 1000.0,
        )  # fmt: skip
        return day, part + rate / DAY_S


def moments_of(times: Sequence[datetime]) -> Moments:
    """Moments of UTC, to the microsecond."""
    parts = np.array(
        [(t.year, t.month, t.day, t.hour, t.minute, t.second, t.microsecond) for t in times]
    ).reshape(-1, 7).T  # fmt: skip
    with _quiet():
        return Moments(*erfa.dtf2d("UTC", *parts[:5], parts[5] + parts[6] * 1e-6))


def moments_at(jd_utc: Floats) -> Moments:
    """Moments of Julian dates in UTC."""
    jd = np.asarray(jd_utc, float)
    day = np.floor(jd - 0.5) + 0.5
    return Moments(day, jd - day)


@dataclass(frozen=True)
class Stand:
    """Where an observer is at some moments: ``barycentric_au`` and ``heliocentric_au`` (moments, 3)
    from the barycentre and from the Sun, in au on the axes of the ICRS.
    """

    barycentric_au: Floats
    heliocentric_au: Floats
    _astrom: np.ndarray

    def altitude_rad(self, ra_rad: Floats, dec_rad: Floats) -> Floats:
        """Altitudes without refraction of stars at ICRS positions."""
        return self._above(*erfa.atciqz(ra_rad, dec_rad, self._astrom))

    def altitude_towards(self, direction: Floats) -> Floats:
        """Altitudes without refraction or aberration of directions (moments, 3), in radians."""
        along = np.einsum("...ij,...j->...i", self._astrom["bpn"], direction)
        return self._above(*erfa.c2s(along))

    def _above(self, ra_rad: Floats, dec_rad: Floats) -> Floats:
        return np.pi / 2.0 - np.asarray(erfa.atioq(ra_rad, dec_rad, self._astrom)[1])


def stand_of(moments: Moments, site: Site | None) -> Stand:
    """Where an observer at a site (None: in the middle of the Earth) is at some moments."""
    pole_x, pole_y, ut1_utc = _orientation(moments.jd() - _MJD_JD)
    place = _geodetic(site) if site else (0.0, 0.0, _TO_CENTRE_M)
    with _quiet():
        astrom, _ = erfa.apco13(
            moments.day, moments.part, ut1_utc, *place, pole_x, pole_y, 0.0, 0.0, 0.0, 0.0
        )
    return Stand(astrom["eb"], astrom["eh"] * astrom["em"][..., None], astrom)


def seen_from_the_centre(jd: float, ra_rad: Floats, dec_rad: Floats) -> tuple[Floats, Floats]:
    """Right ascensions from the celestial intermediate origin, and declinations, of stars at ICRS
    positions as they are seen at a Julian date from the middle of the Earth, in radians.
    """
    astrom, _ = erfa.apci13(jd, 0.0)
    return erfa.atciqz(ra_rad, dec_rad, astrom)


def earth_au(year: float) -> Floats:
    """Where the Earth is from the barycentre at a Julian year (TDB), (3), in au (ICRS)."""
    return np.asarray(erfa.epv00(*erfa.epj2jd(year))[1]["p"])


def moon_au(moments: Moments) -> Floats:
    """Where the Moon is from the middle of the Earth, (moments, 3), in au on the ICRS's axes
    (Meeus 1998; good to 10″).
    """
    return np.asarray(erfa.moon98(*moments.terrestrial())["p"])


def _geodetic(site: Site) -> tuple[float, float, float]:
    return np.radians(site.longitude_deg), np.radians(site.latitude_deg), site.elevation_m


def _quiet() -> warnings.catch_warnings:
    """Without ERFA's warning that leap seconds of years to come are not known."""
    return warnings.catch_warnings(action="ignore", category=erfa.ErfaWarning)


_ARCSEC_RAD = np.pi / 180.0 / 3600.0


def _orientation(mjd: Floats) -> tuple[Floats, Floats, Floats]:
    """The pole's x and y in radians and UT1 − UTC in seconds at some days, each (moments).

    Days outside of the table get its nearest line, which errs by under a second of time in the
    Earth's turn: 2 µs of light travel.
    """
    days, pole_x, pole_y, ut1_utc = _orientation_lines()
    mjd = np.asarray(mjd, float)
    # A leap second is a step of a second in UT1 − UTC: taken out for going between two days.
    steps = np.cumsum(np.rint(np.diff(ut1_utc, prepend=ut1_utc[0])))
    then = np.clip(np.floor(mjd), days[0], days[-1]).astype(np.int64) - days[0]
    ut1 = np.interp(mjd, days, ut1_utc - steps) + steps[then]
    x, y = (np.interp(mjd, days, pole) * _ARCSEC_RAD for pole in (pole_x, pole_y))
    return x, y, ut1


@lru_cache(maxsize=1)
def _orientation_lines() -> tuple[Ints, Floats, Floats, Floats]:
    """Consecutive days (MJD), their pole's x and y in seconds of arc and UT1 − UTC in s, read once
    in a process (format: the table's own ReadMe).
    """
    data = Path(IERS_A_FILE).read_bytes()
    width = data.index(b"\n") + 1
    lines = np.frombuffer(data, np.uint8)[: len(data) // width * width].reshape(-1, width)

    def column(begin: int, end: int) -> np.ndarray:
        return np.ascontiguousarray(lines[:, begin:end]).view(f"S{end - begin}")[:, 0]

    told = np.char.strip(column(58, 68)) != b""
    count = told.size if told.all() else int(np.argmin(told))  # predictions end there
    mjd, x, y, ut1 = (
        column(*span)[:count].astype(float) for span in ((7, 15), (18, 27), (37, 46), (58, 68))
    )
    return mjd.astype(np.int64), x, y, ut1


def _tell_leap_seconds() -> None:
    rows = [
        (int(word[3]), int(word[2]), float(word[4]))
        for word in map(str.split, Path(IERS_LEAP_SECOND_FILE).read_text("ascii").splitlines())
        if len(word) == 5 and word[0] != "#"
    ]
    erfa.leap_seconds.update(
        np.array(rows, dtype=[("year", "i4"), ("month", "i4"), ("tai_utc", "f8")])
    )


_tell_leap_seconds()
