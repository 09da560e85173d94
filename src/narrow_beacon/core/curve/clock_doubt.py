"""Can the clock and the site be right? Where field and Sun stood at the times of some exposures,
and the airmass that their headers give.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, evenly
from narrow_beacon.core.curve.almanac import sky_above
from narrow_beacon.core.curve.earth import Site
from narrow_beacon.core.curve.time import airmasses

_MOST = 30
"""So many exposures of a night say it as well as all."""
_LEAST = 3
_STEP_H, _REACH_H = 0.05, 12.0
_ALIKE, _ALIKE_RAD = 0.006, 0.012
"""By which airmasses that mean the same differ: by digits and formulas, and as those of places so
far apart do, the telescope's and the target's."""
_LEAST_SHIFT_H = 0.2
_BETTER, _AS_GOOD, _ALONE_H = 4.0, 3.0, 0.6
_STILL, _MOVES = 0.002, 0.02
_FEW = 0.1
"""Of a night, that may have gone on into the morning or until the field set."""
_DAY_DEG = -1.0
_DOWN_DEG = -1.0


@dataclass(frozen=True)
class ClockDoubt:
    """What can't be if time, site and place of the field are right. ``below`` of the ``exposures``
    have the field below the horizon, ``by_day`` the Sun above it; where their headers give another
    airmass, ``said`` and ``computed`` (NaN below the horizon) are those of the exposure on which
    they differ most. ``shift_h`` is what has to be added to the clock to agree with the headers;
    None where nothing does, or where several shifts do.
    """

    exposures: int
    below: int
    by_day: int
    said: float | None = None
    computed: float | None = None
    shift_h: float | None = None


def doubt_clock(
    jd_utc: Floats, said_airmass: Floats, ra_deg: float, dec_deg: float, site: Site
) -> ClockDoubt | None:
    """What speaks against the clock or the site of a night's exposures, that all show stars; None
    where nothing does.

    ``jd_utc`` and ``said_airmass`` (exposures) are of mid-exposure and of the headers, NaN where
    they don't say. A header's airmass that stays while the field moves is none.
    """
    jd, said = np.asarray(jd_utc, float), np.asarray(said_airmass, float)
    told = np.flatnonzero(np.isfinite(said))
    told = told[evenly(told.size, _MOST)]
    found = None
    if told.size >= _LEAST:
        found = _unlike(jd[told], said[told], ra_deg, dec_deg, site)
    if found is None and not any(_cannot_be(jd[evenly(jd.size, _MOST)], ra_deg, dec_deg, site)):
        return None
    below, by_day = _cannot_be(jd, ra_deg, dec_deg, site)
    if found is not None:
        return ClockDoubt(jd.size, below, by_day, *found)
    return ClockDoubt(jd.size, below, by_day) if below or by_day else None


def _cannot_be(jd: Floats, ra_deg: float, dec_deg: float, site: Site) -> tuple[int, int]:
    """On how many exposures the field is below the horizon and the Sun above it; 0 where they are
    few.
    """
    sky = sky_above(jd, ra_deg, dec_deg, site)
    counts = (int(np.sum(sky.target_deg < _DOWN_DEG)), int(np.sum(sky.sun_deg > _DAY_DEG)))
    below, by_day = (count if count > _FEW * jd.size else 0 for count in counts)
    return below, by_day


def _unlike(
    jd: Floats, said: Floats, ra_deg: float, dec_deg: float, site: Site
) -> tuple[float, float, float | None] | None:
    """The airmass as said and as computed where they differ most, and the shift in hours that
    brings both together; None where they agree already.
    """
    place = np.array([ra_deg]), np.array([dec_deg])
    # Along the vertical the airmass 1 / cos z changes by tan z / cos z a radian.
    allowed = _ALIKE + _ALIKE_RAD * said * np.sqrt(said**2 - 1.0)

    def away(shifts: Floats) -> tuple[Floats, Floats]:
        """Airmasses (shifts, exposures), and how far they are off in units of what is allowed;
        below the horizon is far off.
        """
        moments = jd[None, :] + shifts[:, None] / 24.0
        then = airmasses(moments.ravel(), *place, site)[:, 0].reshape(moments.shape)
        off = np.nan_to_num(np.abs(then - said) / allowed, nan=np.inf)
        return then, np.minimum(off, 100.0)

    (now,), (off,) = away(np.zeros(1))
    up = now[np.isfinite(now)]
    if np.ptp(said) < _STILL and (not up.size or np.ptp(up) > _MOVES):
        return None
    if np.median(off) <= 1.0:
        return None
    count = round(_REACH_H / _STEP_H)
    shifts = np.arange(-count, count + 1) * _STEP_H
    worst = int(np.argmax(off))
    median = np.median(away(shifts)[1], axis=1)
    return float(said[worst]), float(now[worst]), _shift(shifts, median, count)


def _shift(shifts: Floats, off: Floats, none: int) -> float | None:
    """The one shift that brings both together: the middle of those that do so about as well as any;
    None where two that are far apart do.
    """
    best = int(np.argmin(off))
    if off[best] > 1.0 or off[none] < _BETTER * off[best] or abs(shifts[best]) < _LEAST_SHIFT_H:
        return None
    good = shifts[off <= max(_AS_GOOD * off[best], 0.5 * min(off[none], 1.0))]
    return float(np.median(good)) if np.ptp(good) <= _ALONE_H else None
