"""A camera: what it adds to light. Bias structure, dark current with hot pixels, a bad column,
vignetting, dust shadows, pixel response, saturation, read noise, cosmic rays.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from narrow_beacon.compiled import njit

_DOUBLING_C = 6.0
_REFERENCE_C = -10.0
_DIM_E, _BRIGHT_E = 30.0, 400.0
_MOST_DIM = 120
"""A count that 30 electrons give once in 10³⁰ draws: rounding ends the search there."""
_ONE_OVER = 1.0 / np.maximum(np.arange(_MOST_DIM + 1), 1)


@dataclass(frozen=True)
class Dust:
    """A dust shadow: a ring-shaped dimming at a place on the sensor."""

    x_px: float
    y_px: float
    radius_px: float
    depth: float


@dataclass
class Camera:
    """A sensor with fixed flaws, drawn from ``seed``. Frames come out as uint16 ADU."""

    seed: int
    shape: tuple[int, int]
    gain_e_per_adu: float = 1.3
    read_noise_e: float = 7.1
    bias_adu: float = 520.0
    linear_limit_adu: float = 52000.0
    full_adu: float = 62000.0
    dark_e_per_s: float = 0.06
    hot_share: float = 0.003
    bad_column: int | None = None
    dead_share: float = 0.0
    """Of the pixels that give a third of the light."""
    cosmic_per_s: float = 0.03
    """Strikes on the whole sensor."""
    overscan_px: int = 0
    """Columns beside the light, on the left, that show the electronics alone."""
    drift_adu: float = 0.0
    """Scatter of the slope of the bias from the first to the last row, from frame to frame."""
    banding_adu: float = 0.0
    """Scatter of the rows' own levels, new with every frame."""
    pattern: str = ""
    """The colours of 2 × 2 pixels of a colour sensor, row by row."""
    bias_pattern: np.ndarray = field(init=False, repr=False)
    dark_rate: np.ndarray = field(init=False, repr=False)
    response: np.ndarray = field(init=False, repr=False)
    vignetting: np.ndarray = field(init=False, repr=False)
    last_rows: np.ndarray = field(init=False, repr=False, default_factory=lambda: np.zeros(0))
    """What the rows of the last frame had on top of the bias, in ADU, where they wander."""
    _throughputs: dict[tuple[Dust, ...], np.ndarray] = field(
        init=False, repr=False, default_factory=dict
    )

    def __post_init__(self) -> None:
        rng = np.random.default_rng([self.seed, 77])
        height, width = self.shape
        y, x = np.mgrid[0:height, 0:width].astype(np.float32)
        columns = rng.normal(0, 1.5, width)
        self.bias_pattern = (
            self.bias_adu
            + columns[None, :]
            + 6.0 * (y / height - 0.5)
            + rng.normal(0, 0.4, self.shape)
        ).astype(np.float32)
        rate = self.dark_e_per_s * rng.gamma(4.0, 0.25, self.shape)
        hot = rng.random(self.shape) < self.hot_share
        rate[hot] += rng.exponential(1.0, hot.sum()) ** 2 * 2.0
        if self.bad_column is not None:
            rate[height // 5 :, self.bad_column] += 6.0
        self.dark_rate = rate.astype(np.float32)
        self.response = rng.normal(1.0, 0.008, self.shape).astype(np.float32)
        if self.dead_share:
            self.response[rng.random(self.shape) < self.dead_share] *= 0.33
        radius2 = ((x - 0.52 * width) ** 2 + (y - 0.47 * height) ** 2) / (width**2 + height**2)
        self.vignetting = (1.0 - 0.55 * radius2).astype(np.float32)

    def throughput(self, dust: tuple[Dust, ...] = ()) -> np.ndarray:
        """Relative sensitivity (height, width): response, vignetting, dust; shared, read only."""
        if dust in self._throughputs:
            return self._throughputs[dust]
        total = self.vignetting * self.response
        height, width = self.shape
        y, x = np.mgrid[0:height, 0:width].astype(np.float32)
        for grain in dust:
            r = np.hypot(x - grain.x_px, y - grain.y_px) / grain.radius_px
            shadow = grain.depth * np.exp(-(((r - 0.7) / 0.35) ** 2)) * (r < 2.0)
            total = total * (1.0 - shadow.astype(np.float32))
        total.setflags(write=False)
        self._throughputs[dust] = total
        return total

    def read(
        self,
        rng: np.random.Generator,
        photo_electrons: np.ndarray | None,
        exposure_s: float,
        temperature_c: float = _REFERENCE_C,
        cosmic_per_s: float | None = None,
    ) -> np.ndarray:
        """Expose and read out: expected photo-electrons (height, width) in, ADU out."""
        warmth = 2.0 ** ((temperature_c - _REFERENCE_C) / _DOUBLING_C)
        expected = self.dark_rate * np.float32(warmth * exposure_s)
        if photo_electrons is not None:
            expected = expected + photo_electrons
        electrons = _poisson(rng, expected)
        strikes = self.cosmic_per_s if cosmic_per_s is None else cosmic_per_s
        if strikes and exposure_s:
            _strike(rng, electrons, rng.poisson(strikes * exposure_s))
        electrons += rng.standard_normal(self.shape, np.float32) * np.float32(self.read_noise_e)
        adu = electrons / np.float32(self.gain_e_per_adu)
        # Past the linear limit the response bends, then it stops.
        bent = adu > np.float32(self.linear_limit_adu)
        over = adu[bent] - np.float32(self.linear_limit_adu)
        adu[bent] = self.linear_limit_adu + 0.7 * over
        adu += self.bias_pattern
        adu += np.float32(rng.normal(0, 0.25))
        if self.overscan_px:
            adu = self._beside_overscan(rng, adu)
        np.rint(adu, out=adu)
        return np.clip(adu, 0, self.full_adu, out=adu).astype(np.uint16)

    def _beside_overscan(self, rng: np.random.Generator, adu: np.ndarray) -> np.ndarray:
        """Rows whose level wanders, with the strip that shows it."""
        height = self.shape[0]
        run = np.linspace(-0.5, 0.5, height)
        rows = rng.normal(0, self.drift_adu) * run + rng.normal(0, 0.5 * self.drift_adu)
        rows = rows + rng.normal(0, self.banding_adu, height) if self.banding_adu else rows
        self.last_rows = rows
        noise = self.read_noise_e / self.gain_e_per_adu
        strip = self.bias_adu + rng.normal(0, noise, (height, self.overscan_px))
        whole = np.concatenate([strip.astype(np.float32), adu], axis=1)
        return whole + rows.astype(np.float32)[:, None]

    def sites(self, colour: str) -> np.ndarray:
        """Which pixels (height, width) see a colour, "R", "G" or "B"."""
        four = np.array([letter == colour for letter in self.pattern]).reshape(2, 2)
        height, width = self.shape
        return np.tile(four, (height // 2 + 1, width // 2 + 1))[:height, :width]

    def cards(self) -> dict[str, str]:
        """What its headers say of its sections and its colours."""
        if self.pattern:
            return {"BAYERPAT": self.pattern}
        if not self.overscan_px:
            return {}
        height, width = self.shape
        strip = self.overscan_px
        light = f"[{strip + 1}:{strip + width},1:{height}]"
        return {"BIASSEC": f"[1:{strip},1:{height}]", "DATASEC": light, "TRIMSEC": light}


def _poisson(rng: np.random.Generator, expected: np.ndarray) -> np.ndarray:
    """Poisson electrons as float32: exact below 30 electrons; above, the normal law with the
    gamma law's correction for the skewness, and from 400 on without it.
    """
    expected = np.ascontiguousarray(expected, np.float32)
    normal = rng.standard_normal(expected.shape, np.float32)
    dim = bool(expected.min(initial=_DIM_E) < _DIM_E)
    even = rng.random(expected.shape) if dim else np.empty((0, 0))
    _draw(expected.reshape(-1), normal.reshape(-1), even.reshape(-1))
    return normal


@njit(cache=True, nogil=True, error_model="numpy")
def _draw(expected, drawn, even):  # type: ignore[no-untyped-def]
    """Electrons in place of standard normal values (pixels), by evenly distributed values from 0 to
    1 where they are few: the first count that at least such a share of all draws does not exceed.
    """
    for n in range(expected.size):
        e = expected[n]
        if e < _DIM_E:
            count, chance = 0, np.exp(-np.float64(e))
            left = even[n] - chance
            while left > 0.0 and count < _MOST_DIM:
                count += 1
                chance *= e * _ONE_OVER[count]
                left -= chance
            drawn[n] = count
        else:
            z = drawn[n]
            value = e + np.sqrt(e) * z
            drawn[n] = np.rint(value + (z * z - 1.0) / 6.0) if e < _BRIGHT_E else value


def _strike(rng: np.random.Generator, electrons: np.ndarray, count: int) -> None:
    """Cosmic rays: short straight tracks."""
    height, width = electrons.shape
    for _ in range(count):
        x, y = rng.uniform(0, width), rng.uniform(0, height)
        angle, length = rng.uniform(0, np.pi), rng.exponential(1.5)
        charge = rng.uniform(400, 6000)
        steps = max(1, int(length * 2))
        for k in range(steps):
            i = int(x + np.cos(angle) * k / 2)
            j = int(y + np.sin(angle) * k / 2)
            if 0 <= i < width and 0 <= j < height:
                electrons[j, i] += charge / steps
