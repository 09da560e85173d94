"""Troubled nights: every trouble that an observer vets for, planted once or more in one night."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
from astropy import units
from astropy.coordinates import AltAz, EarthLocation, get_body
from astropy.time import Time
from astropy.utils import iers

from narrow_beacon.simulate.night import Place
from narrow_beacon.simulate.plain import START, write_plain_night

EXPOSURES = 70
SHAPE = (400, 400)
CADENCE_S = 150.0
MAYBE = "maybe "
"""Begins the name of a trouble that is too slight to be missed."""
_FWHM_PX = 3.0
_EVENINGS = 60


def write_troubled_night(
    folder: Path, seed: int, *, exposures: int = EXPOSURES, clean: bool = False
) -> dict[str, Any]:
    """Write a night with troubles and return its truth, each exposure with the names of what was
    planted in it; a ``clean`` one has none, but seeing and guiding like the others.
    """
    rng = np.random.default_rng([seed, 101])
    seeing = np.exp(np.cumsum(rng.normal(0, 0.02, exposures)))
    width = np.clip(_FWHM_PX * seeing / np.median(seeing), 2.4, 3.9)
    shots: dict[int, dict[str, Any]] = {n: {"fwhm_px": float(width[n])} for n in range(exposures)}
    start = _dusk(rng, exposures)
    if not clean:
        _plant(rng, shots, width, _altitudes(start, exposures))
    return write_plain_night(
        folder, seed, exposures=exposures, shape=SHAPE, density=9000.0, cadence_s=CADENCE_S,
        calibration=8, start=start, troubles=shots, walk_px=0.2,
    )  # fmt: skip


def _plant(
    rng: np.random.Generator,
    shots: dict[int, dict[str, Any]],
    width: np.ndarray,
    altitudes: dict[str, np.ndarray],
) -> None:
    free = list(range(4, len(shots)))

    def claim(length: int, allowed: np.ndarray | None = None) -> list[int]:
        """A stretch that no other trouble has, with a clean exposure on either side."""
        starts = [
            n
            for n in free
            if all(m in free for m in range(n - 1, n + length + 1))
            and (allowed is None or allowed[n : n + length].all())
        ]
        if not starts:
            return []
        first = int(rng.choice(starts))
        for m in range(first - 1, first + length + 1):
            free.remove(m)
        return list(range(first, first + length))

    def plant(trouble: str, at: list[int], **values: Any) -> None:
        for n in at:
            shots[n] |= {"troubles": (trouble,), **values}

    dew = claim(int(rng.integers(10, 13)))
    for place, n in enumerate(dew):
        run = (place + 1) / len(dew)
        shots[n] |= {
            "transparency": _dewed(run),
            "fwhm_px": float(width[n] * (1 + 0.35 * run)), "troubles": (_dew_word(run),),
        }  # fmt: skip
    # The evening's first exposures: the Sun is not far below the horizon yet.
    for n in range(3):
        shots[n] |= {"troubles": ("twilight",), "sky": float(30 * 0.6**n)}
    if 3 in free:
        free.remove(3)
    moonlit = claim(4, (altitudes["moon"] > 4) & (altitudes["sun"] < -16))
    for n in moonlit:
        shots[n] |= {"troubles": ("moonlight",), "sky": float(rng.uniform(8, 16))}
    angle = float(rng.uniform(0, 2 * np.pi))
    length = float(rng.uniform(6, 11))
    drift = np.linspace(-0.5, 0.5, 12)[:, None] * length * np.array([np.cos(angle), np.sin(angle)])
    plant("tracking", claim(4), streak=tuple(map(tuple, drift.tolist())))
    plant(
        "obstruction", claim(3), shade=(float(rng.uniform(0, 360)), float(rng.uniform(-0.3, 0.3)))
    )
    for n in claim(5):
        shots[n] |= {"troubles": ("cloud",), "transparency": float(rng.uniform(0.08, 0.4))}
    for n in claim(1) + claim(1):
        turn = float(rng.uniform(0, np.pi))
        along = rng.normal(0, 1.0, 40)
        sway = (
            0.65
            * width[n]
            * (along / along.std())[:, None]
            * np.array([np.cos(turn), np.sin(turn)])
        )
        sway += rng.normal(0, 0.4, (40, 2))
        plant("wind", [n], streak=tuple(map(tuple, sway.tolist())))
    plant("out of focus", claim(2), fwhm_px=float(_FWHM_PX * rng.uniform(2.2, 3.2)))
    middle, light = SHAPE[0] / 2, float(rng.uniform(800, 5000))
    plant("trail", claim(1), trail=(middle + 1.0, middle - 1.0, float(rng.uniform(0, 180)), light))
    for n in claim(1):
        # A whole frame away, so that nothing of the target's is on it.
        shots[n] |= {"troubles": ("wrong field",), "off_px": 1.05 * SHAPE[0]}


def _dewed(run: float) -> float:
    """Share of light through a lens that dews over, ``run`` from 0 to 1."""
    return float(np.exp(-1.5 * run**1.3))


def _dew_word(run: float) -> str:
    """Dew is a trouble once it takes half of the light; a little before, it may be called one."""
    share = _dewed(run)
    return "dew" if share < 0.46 else MAYBE + "dew" if share < 0.6 else ""


def sky_altitudes(moments: list[datetime], place: Place) -> dict[str, np.ndarray]:
    """Altitudes in degrees of Sun and Moon at moments, from a place."""
    location = EarthLocation.from_geodetic(
        place.longitude_deg, place.latitude_deg, place.elevation_m
    )
    with iers.conf.set_temp("auto_download", False), iers.conf.set_temp("auto_max_age", None):
        time = Time(moments, scale="utc", location=location)
        frame = AltAz(obstime=time, location=location)
        above = {}
        for name in ("sun", "moon"):
            body = get_body(name, time, location, ephemeris="builtin")
            above[name] = np.asarray(body.transform_to(frame).alt.to_value(units.deg))
        return above


def _altitudes(start: datetime, exposures: int) -> dict[str, np.ndarray]:
    return sky_altitudes(
        [start + timedelta(seconds=CADENCE_S * n) for n in range(exposures)], Place()
    )


def _dusk(rng: np.random.Generator, exposures: int) -> datetime:
    """When a night begins in twilight and has the Moon up for some of its exposures later on."""
    for evening in rng.permutation(_EVENINGS).tolist():
        noon = (START + timedelta(days=evening)).replace(hour=16, minute=0)
        moments = [noon + timedelta(minutes=5 * n) for n in range(60)]
        down = np.flatnonzero(sky_altitudes(moments, Place())["sun"] < -8.0)
        start = moments[int(down[0])]
        up = _altitudes(start, exposures)
        if ((up["moon"] > 4) & (up["sun"] < -16)).sum() > 12:
            return start
    raise ValueError("no evening on which the Moon is up")
