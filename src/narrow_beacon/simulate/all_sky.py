"""A made-up sky from pole to pole, dense towards the plane of a galaxy, and exposures of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.simulate.fields import SimulatedField
from narrow_beacon.simulate.pointing import Pointing

_POLE = (192.9, 27.1)
"""Of the made-up galaxy, right ascension and declination in degrees."""
_EVEN_SHARE = 0.5
_DISK_DEG = 15.0
_MAGNITUDE_SLOPE = 0.3


@dataclass(frozen=True)
class WholeSky:
    """Stars of the whole sky, brightest first: positions in degrees and magnitudes."""

    ra_deg: np.ndarray
    dec_deg: np.ndarray
    magnitude: np.ndarray


def make_whole_sky(seed: int, stars: int, faintest: float = 12.5) -> WholeSky:
    """``stars`` stars, half of them spread evenly, half towards the galaxy's plane."""
    rng = np.random.default_rng([seed, 91])
    even = int(stars * _EVEN_SHARE)
    z = rng.uniform(-1, 1, even)
    latitude = np.clip(rng.laplace(0.0, _DISK_DEG, stars - even), -85.0, 85.0)
    lat = np.concatenate([np.arcsin(z), np.radians(latitude)])
    lon = rng.uniform(0, 2 * np.pi, stars)
    pole = np.radians(90.0 - _POLE[1]), np.radians(_POLE[0])
    x, y, z = np.cos(lat) * np.cos(lon), np.cos(lat) * np.sin(lon), np.sin(lat)
    x, z = x * np.cos(pole[0]) + z * np.sin(pole[0]), -x * np.sin(pole[0]) + z * np.cos(pole[0])
    x, y = x * np.cos(pole[1]) - y * np.sin(pole[1]), x * np.sin(pole[1]) + y * np.cos(pole[1])
    # In quickly drawn order of brightness: the n-th brightest of N is 0.3 dex a magnitude down.
    magnitude = faintest + np.log10((np.arange(stars) + 1.0) / stars) / _MAGNITUDE_SLOPE
    return WholeSky(np.degrees(np.arctan2(y, x)) % 360.0, np.degrees(np.arcsin(z)), magnitude)


def expose(sky: WholeSky, seed: int, least_deg: float, most_deg: float) -> SimulatedField:
    """An exposure anywhere on the sky, its short side from ``least_deg`` to ``most_deg``.

    One star in ten is missed, a fifth of the detections is false, positions err by 0.2 px and
    brightness by 0.3 mag; the faintest star that is seen is up to a magnitude brighter than the
    catalogue's. The field's catalogue is left empty.
    """
    rng = np.random.default_rng([seed, 92])
    shape = (int(rng.integers(800, 2100)), int(rng.integers(800, 2100)))
    short = float(np.exp(rng.uniform(np.log(least_deg), np.log(most_deg))))
    ra0 = float(rng.uniform(0, 360))
    dec0 = float(np.degrees(np.arcsin(rng.uniform(-0.9999, 0.9999))))
    pointing = Pointing(
        ra0, dec0, short * 3600.0 / min(shape), float(rng.uniform(0, 360)), bool(rng.integers(2)),
        shape, float(rng.uniform(0, 2.0)) if short < 6 else 0.0,
    )  # fmt: skip
    faintest = float(sky.magnitude[-1]) - float(rng.uniform(0.0, 1.0))
    reach = 0.6 * short * float(np.hypot(*shape)) / min(shape) + 0.1
    rows = np.flatnonzero((np.abs(sky.dec_deg - dec0) < reach) & (sky.magnitude < faintest))
    cosine = np.sin(np.radians(sky.dec_deg[rows])) * np.sin(np.radians(dec0)) + np.cos(
        np.radians(sky.dec_deg[rows])
    ) * np.cos(np.radians(dec0)) * np.cos(np.radians(sky.ra_deg[rows] - ra0))
    rows = rows[cosine > np.cos(np.radians(reach))]
    x, y = pointing.pixels(sky.ra_deg[rows], sky.dec_deg[rows])
    inside = (x > 0) & (x < shape[1] - 1) & (y > 0) & (y < shape[0] - 1)
    inside &= rng.random(x.size) > 0.1
    x, y, m = x[inside], y[inside], sky.magnitude[rows][inside]
    fakes = round(x.size / 4)
    x = np.concatenate([x + rng.normal(0, 0.2, x.size), rng.uniform(0, shape[1] - 1, fakes)])
    y = np.concatenate([y + rng.normal(0, 0.2, y.size), rng.uniform(0, shape[0] - 1, fakes)])
    m = np.concatenate([m + rng.normal(0, 0.3, m.size), rng.choice(m, fakes) if fakes else []])
    order = np.argsort(m, kind="stable")
    nothing = np.empty(0)
    return SimulatedField(x[order], y[order], nothing, nothing, pointing)
