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


@dataclass(frozen=True)
class VariedField:
    """A field with what is known of it beforehand: a hint (ra, dec, error in degrees), a range of
    scales in seconds of arc a pixel, each None where there is none; and how many of its detections
    are stars of the catalogue.
    """

    field: SimulatedField
    position: tuple[float, float, float] | None
    scales: tuple[float, float] | None
    common: int


_MOST_CATALOGUED = 120_000


def make_varied_field(seed: int) -> VariedField:
    """A field anywhere on the sky, of 0.3 to 60″ a pixel, any turn and hand, 8 to 5,000 detections
    of which up to half are false, a catalogue that is deeper or shallower than the exposure and
    reaches as far as 12°, and a hint that is good, poor (off by several fields, scale off by up to
    20%) or none.
    """
    rng = np.random.default_rng([seed, 57])
    shape = (int(rng.integers(500, 2100)), int(rng.integers(500, 2100)))
    scale = float(np.exp(rng.uniform(np.log(0.3), np.log(60.0))))
    size = scale * max(shape) / 3600.0
    ra0 = float(rng.uniform(0, 360))
    dec0 = float(np.degrees(np.arcsin(rng.uniform(-0.9999, 0.9999))))
    pointing = Pointing(
        ra0, dec0, scale, float(rng.uniform(0, 360)), bool(rng.integers(2)), shape,
        float(rng.uniform(0, 3.0)) if size < 8 else 0.0,
    )  # fmt: skip
    seen = float(np.exp(rng.uniform(np.log(8), np.log(2500))))
    depth = 10 ** rng.uniform(-0.5, 1.0)
    density = seen / (shape[0] * shape[1] * (scale / 3600.0) ** 2)
    most = float(np.sqrt(_MOST_CATALOGUED / (np.pi * density * max(depth, 1.0))))
    reach = float(min(12.0, max(most, 0.9 * size), 40.0 * size))
    ra, dec = _around(
        rng, ra0, dec0, reach + size, int(density * max(depth, 1.0) * np.pi * reach**2)
    )
    # The brighter a star, the rarer: by 0.3 in the logarithm a magnitude.
    rank = rng.permutation(ra.size)
    magnitude = np.log10((rank + 1.0) / ra.size) / 0.3
    order = np.argsort(magnitude)
    ra, dec, magnitude = ra[order], dec[order], magnitude[order]
    # The distortion's polynomials mean nothing far from the frame.
    cosine = np.sin(np.radians(dec)) * np.sin(np.radians(dec0)) + np.cos(np.radians(dec)) * np.cos(
        np.radians(dec0)
    ) * np.cos(np.radians(ra - ra0))
    near = cosine > np.cos(np.radians(min(size, 60.0)))
    on_image = near & (rank[order] < ra.size / max(depth, 1.0))
    listed = rank[order] < ra.size * min(depth, 1.0)
    x, y = pointing.pixels(ra[on_image], dec[on_image])
    inside = (x > 0) & (x < shape[1] - 1) & (y > 0) & (y < shape[0] - 1)
    inside &= rng.random(x.size) > 0.05
    known = listed[on_image][inside]
    x, y, m = x[inside], y[inside], magnitude[on_image][inside]
    fakes = round(x.size * float(rng.uniform(0.0, 1.0)))
    m = np.concatenate([m + rng.normal(0, 0.3, m.size), rng.choice(m, fakes) if m.size else []])
    x = np.concatenate([x + rng.normal(0, 0.2, x.size), rng.uniform(0, shape[1] - 1, fakes)])
    y = np.concatenate([y + rng.normal(0, 0.2, y.size), rng.uniform(0, shape[0] - 1, fakes)])
    by_light = np.argsort(m, kind="stable")
    field = SimulatedField(x[by_light], y[by_light], ra[listed], dec[listed], pointing)
    kind = rng.choice(["good", "poor", "scale alone", "none"], p=[0.35, 0.3, 0.15, 0.2])
    position, scales = None, None
    if kind == "good":
        position = *_beside(rng, ra0, dec0, 0.2 * size), max(size, 0.2)
        scales = (scale * 0.97, scale * 1.03)
    elif kind == "poor":
        position = *_beside(rng, ra0, dec0, 4.0 * size), max(size, 0.2)
        off = float(rng.uniform(0.85, 1.15))
        scales = (scale * off * 0.8, scale * off * 1.2)
    elif kind == "scale alone":
        scales = (scale * 0.95, scale * 1.05)
    return VariedField(field, position, scales, int(known.sum()))


def _beside(rng: np.random.Generator, ra: float, dec: float, away: float) -> tuple[float, float]:
    """A place some degrees beside another one."""
    angle = rng.uniform(0, 2 * np.pi)
    there = np.clip(dec + away * np.sin(angle), -90.0, 90.0)
    return float((ra + away * np.cos(angle) / np.cos(np.radians(dec))) % 360.0), float(there)


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
