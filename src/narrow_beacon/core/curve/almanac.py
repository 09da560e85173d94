"""What stands in the sky over a night: Sun, Moon and target, in degrees above the horizon."""

from __future__ import annotations

import warnings
from dataclasses import dataclass

import numpy as np
from astropy import units
from astropy.coordinates import AltAz, SkyCoord, get_body
from astropy.time import Time
from astropy.utils import iers

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.curve.time import Site, earth_orientation


@dataclass(frozen=True)
class SkyAbove:
    """At moments jd_utc (moments): altitudes in degrees, and the lit share of the Moon."""

    jd_utc: Floats
    sun_deg: Floats
    moon_deg: Floats
    target_deg: Floats
    moon_lit: Floats


def sky_above(jd_utc: Floats, ra_deg: float, dec_deg: float, site: Site) -> SkyAbove:
    """Sun, Moon and a target (ICRS) over a site, without refraction.

    Positions by Astropy's built-in ephemeris: right to a minute of arc, far better than a rail
    can show.
    """
    jd = np.asarray(jd_utc, float)
    mjd = jd - 2400000.5
    orientation = earth_orientation(float(np.min(mjd)), float(np.max(mjd)))
    with warnings.catch_warnings(), iers.earth_orientation_table.set(orientation):
        warnings.simplefilter("ignore")
        location = site.location()
        time = Time(jd, format="jd", scale="utc", location=location)
        frame = AltAz(obstime=time, location=location)
        sun, moon = (
            get_body(name, time, location, ephemeris="builtin") for name in ("sun", "moon")
        )
        target = SkyCoord(ra_deg * units.deg, dec_deg * units.deg, frame="icrs")
        elongation = np.asarray(sun.separation(moon).radian)
        return SkyAbove(
            jd,
            np.asarray(sun.transform_to(frame).alt.deg),
            np.asarray(moon.transform_to(frame).alt.deg),
            np.asarray(target.transform_to(frame).alt.deg),
            (1.0 - np.cos(elongation)) / 2.0,
        )
