"""Light curves of stars that repeat, as campaigns sample them: made-up shapes with known truth."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

KINDS = ("eclipsing", "pulsating", "two periods", "spotted")
_CLEAR = 0.5
"""The chance that a night is clear."""
Shape = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class SampledCurve:
    """Times in days, magnitudes and uncertainties (points), what repeats, and its range in mag."""

    kind: str
    time_d: np.ndarray
    magnitude: np.ndarray
    sigma_mag: np.ndarray
    periods_d: tuple[float, ...]
    amplitude_mag: float
    true_mag: np.ndarray


def nights_of(
    rng: np.random.Generator, nights: int, minutes: float, *, scattered: bool = False
) -> np.ndarray:
    """Times of exposures so many minutes apart, on nights of 3 to 8 hours each: on those that the
    weather leaves, every second in the mean; where they are ``scattered``, on any of a month.
    """
    if scattered:
        days = np.sort(rng.choice(np.arange(30), nights, replace=False))
    else:
        days = np.cumsum(rng.geometric(_CLEAR, nights))
    parts = []
    for day in days:
        begin, hours = 0.35 + rng.normal(0, 0.02), rng.uniform(3.0, 8.0)
        t = begin + np.arange(0.0, hours / 24.0, minutes / 1440.0)
        parts.append(day + t + rng.uniform(0, 0.2 * minutes / 1440.0, t.size))
    return np.concatenate(parts)


def shape_of(kind: str, rng: np.random.Generator) -> Shape:
    """Magnitude against phase, 0 to 1 from the faintest to the brightest, about."""
    if kind == "eclipsing":
        width, second = rng.uniform(0.04, 0.1), rng.uniform(0.3, 0.95)

        def eclipses(phase: np.ndarray) -> np.ndarray:
            first = np.exp(-0.5 * ((phase + 0.5) % 1.0 - 0.5) ** 2 / width**2)
            return first + second * np.exp(-0.5 * (phase % 1.0 - 0.5) ** 2 / width**2)

        return eclipses
    if kind == "pulsating":
        rise = rng.uniform(0.2, 0.45)

        def pulses(phase: np.ndarray) -> np.ndarray:
            p = phase % 1.0
            warped = np.where(p < rise, 0.5 * p / rise, 0.5 + 0.5 * (p - rise) / (1.0 - rise))
            return 0.5 + 0.5 * np.cos(2 * np.pi * warped)

        return pulses
    tilt, turn = rng.uniform(0.0, 0.35), rng.uniform(0, 2 * np.pi)

    def spots(phase: np.ndarray) -> np.ndarray:
        wave = np.sin(2 * np.pi * phase) + tilt * np.sin(4 * np.pi * phase + turn)
        return 0.5 + 0.5 * wave / (1.0 + tilt)

    return spots


def sampled_curve(seed: int, *, nights: int | None = None, scattered: bool = False) -> SampledCurve:
    """A campaign of 1 to 12 nights on a star of any kind, 0.005 to 0.3 mag; of a single night a
    star with two cycles or more in it.
    """
    rng = np.random.default_rng([seed, 17])
    kind = KINDS[int(rng.integers(len(KINDS)))]
    nights = nights or int(rng.integers(1, 13))
    t = nights_of(rng, nights, float(rng.uniform(1.5, 6.0)), scattered=scattered)
    longest = 0.6 if nights > 2 else 0.45 * float(np.ptp(t[t < np.floor(t[0]) + 1]))
    period = float(np.exp(rng.uniform(np.log(0.04), np.log(longest))))
    amplitude = float(np.exp(rng.uniform(np.log(0.005), np.log(0.3))))
    sigma = np.full(t.size, float(np.exp(rng.uniform(np.log(0.003), np.log(0.02)))))
    sigma *= rng.uniform(0.8, 1.3, t.size)
    true = amplitude * shape_of(kind, rng)((t - t[0]) / period + rng.uniform())
    periods: tuple[float, ...] = (period,)
    if kind == "two periods":
        other = period * float(rng.uniform(0.55, 0.8))
        true = true + 0.6 * amplitude * shape_of("spotted", rng)((t - t[0]) / other)
        periods = (period, other)
    noise = sigma * rng.standard_normal(t.size)
    return SampledCurve(kind, t, 12.0 + true + noise, sigma, periods, amplitude, true)


def red_noise(seed: int) -> SampledCurve:
    """Noise alone, white and half of the time slow as well: it forgets in some 20 minutes."""
    rng = np.random.default_rng([seed, 18])
    t = nights_of(rng, int(rng.integers(1, 9)), float(rng.uniform(1.5, 6.0)))
    sigma = np.full(t.size, 0.006)
    value = sigma * rng.standard_normal(t.size)
    if rng.random() < 0.5:
        slow, size = np.zeros(t.size), float(rng.uniform(0.3, 1.0)) * 0.006
        for n in range(t.size):
            kept = np.exp(-(t[n] - t[n - 1]) / 0.014) if n else 0.0
            slow[n] = kept * slow[n - 1] + np.sqrt(1 - kept**2) * size * rng.standard_normal()
        value = value + slow
    return SampledCurve("noise", t, 12.0 + value, sigma, (), 0.0, np.zeros(t.size))


@dataclass(frozen=True)
class Turning:
    """One night with one minimum or maximum of light, and when it is."""

    kind: str
    time_d: np.ndarray
    magnitude: np.ndarray
    sigma_mag: np.ndarray
    true_d: float
    turn: str


TURNS = ("partial", "total", "asymmetric", "pulse", "partly observed")


def turning(seed: int) -> Turning:
    """An eclipse, partial or total, an asymmetric one, a pulse, or one that was observed in part:
    its begin is missing.
    """
    rng = np.random.default_rng([seed, 19])
    kind = TURNS[seed % len(TURNS)]
    width = float(rng.uniform(0.02, 0.05))
    step = float(rng.uniform(1.0, 4.0)) / 1440.0
    middle = 2461000.4 + float(rng.uniform(-0.01, 0.01))
    begin = middle - 3.0 * width
    if kind == "partly observed":
        begin = middle - float(rng.uniform(0.4, 0.8)) * width
    t = np.arange(begin, middle + 3.0 * width, step)
    t = t + rng.uniform(0, 0.2 * step, t.size)
    z = (t - middle) / width
    if kind == "total":
        true = np.clip(1.35 - np.abs(z) ** 1.3, 0.0, 0.6)
    elif kind == "asymmetric":
        true = 0.4 * np.exp(-(np.where(z < 0, z / 0.7, z / 1.4) ** 2))
    elif kind == "pulse":
        true = -0.35 * np.exp(-(np.where(z < 0, z / 0.6, z / 1.7) ** 2))
    else:
        true = 0.5 * np.exp(-(z**2))
    sigma = np.full(t.size, float(rng.uniform(0.003, 0.02)))
    value = 12.0 + true + sigma * rng.standard_normal(t.size)
    return Turning(kind, t, value, sigma, middle, "maximum" if kind == "pulse" else "minimum")
