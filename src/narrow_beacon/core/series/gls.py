"""The periodogram of waves: how much of a light curve's scatter a sine with a free mean takes away,
at each frequency.

Zechmeister & Kürster (2009, A&A 496, 577), with the sums of all frequencies at once (``sums``).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.series.sums import trigonometric_sums

_TINY = 1e-12


@dataclass(frozen=True)
class Periodogram:
    """``power`` (frequencies), from 0 to 1: the share of χ² that a wave takes away, at the
    multiples of ``step_per_d`` from ``first`` on; ``window`` (frequencies) is |Σ w exp(iωt)|², the
    spectral window: which peaks come of the sampling.
    """

    step_per_d: float
    first: int
    power: Floats
    window: Floats

    @property
    def frequency_per_d(self) -> Floats:
        """The frequencies in cycles a day."""
        return self.step_per_d * (self.first + np.arange(self.power.size))

    @property
    def tops(self) -> Ints:
        """Where it is higher than beside, the highest first."""
        inner = np.concatenate([[-1.0], self.power, [-1.0]])
        found = np.flatnonzero((self.power >= inner[:-2]) & (self.power > inner[2:]))
        return found[np.argsort(-self.power[found], kind="stable")]


@dataclass(frozen=True)
class Grid:
    """Frequencies, the multiples of ``step_per_d`` from ``first`` on, and the sums over the times
    (points) that hang on no value: one is made for all curves of the same times.
    """

    turns: Floats
    weight: Floats
    step_per_d: float
    first: int
    one: np.ndarray
    two: np.ndarray

    def periodogram(self, value: Floats) -> Periodogram:
        """Of values (points) at these times."""
        y = value - np.sum(self.weight * value)
        last = self.first + self.one.size - 1
        light = trigonometric_sums(self.turns, self.weight * y, last)[self.first :]
        power = _power(self.one, self.two, light, float(np.sum(self.weight * y**2)))
        return Periodogram(self.step_per_d, self.first, power, np.abs(self.one) ** 2)


def frequency_grid(
    t_d: Floats, sigma: Floats, lowest_per_d: float, highest_per_d: float,
    oversampling: float = 10.0,
) -> Grid:  # fmt: skip
    """Frequencies between two for times in days with uncertainties; ``oversampling`` steps to the
    width of a peak, one over the time spanned.
    """
    t = t_d - 0.5 * (t_d.min() + t_d.max())
    step = 1.0 / (oversampling * max(float(np.ptp(t)), _TINY))
    first = max(int(np.floor(lowest_per_d / step)), 1)
    last = max(int(np.ceil(highest_per_d / step)), first + 1)
    w = sigma**-2.0 / np.sum(sigma**-2.0)
    whole = trigonometric_sums(t * step, w, 2 * last)
    k = np.arange(first, last + 1)
    return Grid(t * step, w, step, first, whole[k], whole[2 * k])


def periodogram(
    t_d: Floats, value: Floats, sigma: Floats, lowest_per_d: float, highest_per_d: float
) -> Periodogram:
    """The periodogram of values (points) with uncertainties at times in days, between two
    frequencies.
    """
    return frequency_grid(t_d, sigma, lowest_per_d, highest_per_d).periodogram(value)


def power_at(t_d: Floats, value: Floats, sigma: Floats, frequency_per_d: Floats) -> Floats:
    """The same at any frequencies, each by itself."""
    w = sigma**-2.0 / np.sum(sigma**-2.0)
    y = value - np.sum(w * value)
    angle = 2.0 * np.pi * np.outer(np.atleast_1d(frequency_per_d), t_d - t_d.mean())
    c, s = np.cos(angle), np.sin(angle)
    # The double angle without a further cosine.
    two = 2.0 * (c * c) @ w - w.sum() + 2j * ((c * s) @ w)
    return _power(c @ w + 1j * (s @ w), two, (c + 1j * s) @ (w * y), float(np.sum(w * y**2)))


def _power(one: np.ndarray, two: np.ndarray, light: np.ndarray, scatter: float) -> Floats:
    """From Σ w e^{iωt}, Σ w e^{2iωt} and Σ w y e^{iωt}, the values' mean being 0."""
    c, s = one.real, one.imag
    cc = 0.5 * (1.0 + two.real) - c * c
    ss = 0.5 * (1.0 - two.real) - s * s
    cs = 0.5 * two.imag - c * s
    yc, ys = light.real, light.imag
    room = np.maximum(cc * ss - cs * cs, _TINY)
    power = (ss * yc**2 + cc * ys**2 - 2.0 * cs * yc * ys) / (max(scatter, _TINY**2) * room)
    return np.asarray(np.clip(power, 0.0, 1.0))
