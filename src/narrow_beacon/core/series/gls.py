"""The periodogram of waves: how much of a light curve's scatter a sine with a free mean takes away,
at each frequency.

Zechmeister & Kürster (2009, A&A 496, 577), with the sums of all frequencies at once (``sums``).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats
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


def periodogram(
    t_d: Floats, value: Floats, sigma: Floats, lowest_per_d: float, highest_per_d: float,
    oversampling: float = 10.0,
) -> Periodogram:  # fmt: skip
    """The periodogram of values (points) with uncertainties at times in days, between two
    frequencies; ``oversampling`` steps to the width of a peak, one over the time spanned.
    """
    t = t_d - 0.5 * (t_d.min() + t_d.max())
    span = max(float(np.ptp(t)), _TINY)
    step = 1.0 / (oversampling * span)
    first = max(int(np.floor(lowest_per_d / step)), 1)
    last = max(int(np.ceil(highest_per_d / step)), first + 1)
    w = sigma**-2.0 / np.sum(sigma**-2.0)
    y = value - np.sum(w * value)
    turns = t * step
    whole = trigonometric_sums(turns, w, 2 * last)
    light = trigonometric_sums(turns, w * y, last)
    k = np.arange(first, last + 1)
    power = _power(whole[k], whole[2 * k], light[k], float(np.sum(w * y**2)))
    return Periodogram(step, first, power, np.abs(whole[k]) ** 2)


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
