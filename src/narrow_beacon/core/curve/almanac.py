"""What stands in the sky over a night: Sun, Moon and target, in degrees above the horizon."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.curve.earth import Site, moments_at, moon_au, stand_of


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

    Positions by ERFA's ephemeris: right to a minute of arc, far better than a rail can show.
    """
    jd = np.asarray(jd_utc, float)
    moments = moments_at(jd)
    stand = stand_of(moments, site)
    sun = -stand.heliocentric_au
    middle = stand_of(moments, None)
    moon = moon_au(moments) + middle.barycentric_au - stand.barycentric_au
    lengths = np.linalg.norm(sun, axis=1) * np.linalg.norm(moon, axis=1)
    return SkyAbove(
        jd,
        np.degrees(stand.altitude_towards(sun)),
        np.degrees(stand.altitude_towards(moon)),
        np.degrees(stand.altitude_rad(np.radians(ra_deg), np.radians(dec_deg))),
        (1.0 - (sun * moon).sum(axis=1) / lengths) / 2.0,
    )
