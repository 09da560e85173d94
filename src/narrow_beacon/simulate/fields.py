"""Star fields as lists of positions, without pixels: for plate solving by the hundred."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.simulate.pointing import Pointing


@dataclass(frozen=True)
class SimulatedField:
    """Detections (0-based pixels, brightest first), a catalogue around (brightest first) and the
    true pointing.
    """

    x_px: np.ndarray
    y_px: np.ndarray
    ra_deg: np.ndarray
    dec_deg: np.ndarray
    pointing: Pointing


def make_field(
    seed: int,
    *,
    size_deg: float | None = None,
    false_share: float = 1 / 3,
    stars: int | None = None,
) -> SimulatedField:
    """A field of 0.4° to 5° anywhere on the sky, any turn, mirrored or not.

    One star in ten is missed, positions err by 0.2 px, brightness by 0.3 mag, and a third of the
    detections are false. The catalogue is three fields wide and one magnitude deeper.
    """
    rng = np.random.default_rng([seed, 31])
    shape = (int(rng.integers(700, 1100)), int(rng.integers(700, 1400)))
    size = size_deg or float(np.exp(rng.uniform(np.log(0.4), np.log(5.0))))
    scale = size * 3600.0 / max(shape)
    ra0 = float(rng.uniform(0, 360))
    dec0 = float(np.degrees(np.arcsin(rng.uniform(-0.999, 0.999))))
    pointing = Pointing(
        ra0, dec0, scale, float(rng.uniform(0, 360)), bool(rng.integers(2)), shape,
        float(rng.uniform(0, 2.0)),
    )  # fmt: skip
    wanted = stars or int(rng.integers(40, 250))
    reach = 1.5 * size
    density = wanted / (shape[0] * shape[1] * (scale / 3600.0) ** 2)
    ra, dec = _around(rng, ra0, dec0, reach, int(2.0 * density * np.pi * reach**2))
    magnitude = np.log(rng.uniform(1e-3, 1.0, ra.size)) / (0.3 * np.log(10))
    order = np.argsort(magnitude)
    ra, dec, magnitude = ra[order], dec[order], magnitude[order]
    bright = magnitude < np.log10(0.5) / 0.3  # half of them are within reach of the exposure
    x, y = pointing.pixels(ra[bright], dec[bright])
    inside = (x > 0) & (x < shape[1] - 1) & (y > 0) & (y < shape[0] - 1)
    inside &= rng.random(x.size) > 0.1
    x, y, m = x[inside], y[inside], magnitude[bright][inside]
    count = x.size
    fakes = round(count * false_share / (1 - false_share))
    x = np.concatenate([x + rng.normal(0, 0.2, count), rng.uniform(0, shape[1] - 1, fakes)])
    y = np.concatenate([y + rng.normal(0, 0.2, count), rng.uniform(0, shape[0] - 1, fakes)])
    m = np.concatenate([m + rng.normal(0, 0.3, count), rng.choice(m, fakes) if count else []])
    order = np.argsort(m)
    return SimulatedField(x[order], y[order], ra, dec, pointing)


def _around(
    rng: np.random.Generator, ra0: float, dec0: float, radius_deg: float, count: int
) -> tuple[np.ndarray, np.ndarray]:
    """Positions spread evenly over a cap of the sphere."""
    z = rng.uniform(np.cos(np.radians(radius_deg)), 1.0, count)
    turn = rng.uniform(0, 2 * np.pi, count)
    s = np.sqrt(1 - z * z)
    cap = np.stack([s * np.cos(turn), s * np.sin(turn), z])
    lat, lon = np.radians(90.0 - dec0), np.radians(ra0)
    tilt = np.array([[np.cos(lat), 0, np.sin(lat)], [0, 1, 0], [-np.sin(lat), 0, np.cos(lat)]])
    swing = np.array([[np.cos(lon), -np.sin(lon), 0], [np.sin(lon), np.cos(lon), 0], [0, 0, 1]])
    x, y, z = swing @ tilt @ cap
    return np.degrees(np.arctan2(y, x)) % 360.0, np.degrees(np.arcsin(z))
