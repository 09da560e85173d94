"""Where a light curve turns: peaks of the smoothed curve that stand out of its noise."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints

GAP_D = 0.2
"""Without points for longer than this another night begins."""
_SCALES = (1.5, 3.0, 6.0, 12.0)
"""Widths of the smoothing, in usual distances between points."""
_SURE = 5.0
_LEAST = 7
_CORE, _ENDS = 0.55, 0.9
_MOST = 1500
"""Points of a night beyond which they are taken together by twos, threes …"""


@dataclass(frozen=True)
class Turn:
    """A peak: about when; how far the values fall on either side; the ends of its ``core``, the
    upper half of the smaller fall, and its ``ends``, nearly all of each side's own.
    """

    time_d: float
    drops: tuple[float, float]
    core: tuple[float, float]
    ends: tuple[float, float]
    sure: float


def find_turns(t_d: Floats, value: Floats, sigma: Floats) -> list[Turn]:
    """The peaks of values (points, in order of time), night by night: those that rise over both
    sides by five times the smoothed curve's noise.
    """
    cuts = np.flatnonzero(np.diff(t_d) > GAP_D) + 1
    found = []
    for at in np.split(np.arange(t_d.size), cuts):
        if at.size >= _LEAST:
            found += _of_night(t_d[at], value[at], sigma[at])
    return found


def _of_night(t: Floats, value: Floats, sigma: Floats) -> list[Turn]:
    every = -(-t.size // _MOST)
    if every > 1:
        whole = t.size // every * every
        t, value, sigma = (
            part[:whole].reshape(-1, every).mean(axis=1) for part in (t, value, sigma)
        )
        sigma = sigma / np.sqrt(every)
    # Single wild points are no turn: each is held against the middle of five.
    window = np.lib.stride_tricks.sliding_window_view(np.pad(value, 2, mode="edge"), 5)
    middle = np.median(window, axis=1)
    away = np.abs(value - middle)
    limit = 4.0 * np.maximum(1.4826 * np.median(away), sigma)
    keep = away <= limit
    t, value, sigma = t[keep], value[keep], sigma[keep]
    if t.size < _LEAST:
        return []
    usual = float(np.median(np.diff(t)))
    turns: list[Turn] = []
    for scale in _SCALES:
        if scale * usual > 0.25 * np.ptp(t):
            break
        smooth, noise = _smoothed(t, value, sigma, scale * usual)
        left = (value - smooth) / sigma
        noise = noise * max(1.0, 1.4826 * float(np.median(np.abs(left))))
        turns += _peaks(t, smooth, noise)
    return _best(turns)


def _smoothed(t: Floats, value: Floats, sigma: Floats, width: float) -> tuple[Floats, Floats]:
    """Local straight lines, weighted by distance and noise, and their noise (points)."""
    apart = t[None, :] - t[:, None]
    w = np.exp(-0.5 * (apart / width) ** 2) / sigma[None, :] ** 2
    s0, s1, s2 = (np.sum(w * apart**k, axis=1) for k in range(3))
    room = np.maximum(s0 * s2 - s1**2, 1e-12 * s0 * np.maximum(s2, 1e-30))
    weight = w * (s2[:, None] - s1[:, None] * apart) / room[:, None]
    return weight @ value, np.sqrt((weight**2) @ sigma**2)


def _peaks(t: Floats, smooth: Floats, noise: Floats) -> list[Turn]:
    top: Ints = np.flatnonzero((smooth[1:-1] > smooth[:-2]) & (smooth[1:-1] >= smooth[2:])) + 1
    found = []
    for at in top:
        higher = np.flatnonzero(smooth > smooth[at])
        left = int(higher[higher < at].max(initial=-1)) + 1
        right = int(higher[higher > at].min(initial=smooth.size))
        before, after = smooth[left : at + 1], smooth[at:right]
        drops = (float(smooth[at] - before.min()), float(smooth[at] - after.min()))
        error = float(np.hypot(noise[at], noise[left:right].max()))
        sure = min(drops) / error
        if sure < _SURE:
            continue
        low = left + int(before.argmin()), at + int(after.argmin())
        core = tuple(_reach(t, smooth, at, end, smooth[at] - _CORE * min(drops)) for end in low)
        ends = tuple(
            _reach(t, smooth, at, end, smooth[at] - _ENDS * drop)
            for end, drop in zip(low, drops, strict=True)
        )  # fmt: skip
        found.append(Turn(float(t[at]), drops, core, ends, sure))  # type: ignore[arg-type]
    return found


def _reach(t: Floats, smooth: Floats, at: int, end: int, level: float) -> float:
    """The time at which the curve first falls to a level on the way from a peak to an end."""
    step = 1 if end > at else -1
    for i in range(at + step, end + step, step):
        if smooth[i] <= level:
            high, low = smooth[i - step], smooth[i]
            share = (high - level) / max(high - low, 1e-12)
            return float(t[i - step] + share * (t[i] - t[i - step]))
    return float(t[end])


def _best(turns: list[Turn]) -> list[Turn]:
    """Of those that are one turn seen at several scales, the surest."""
    kept: list[Turn] = []
    for turn in sorted(turns, key=lambda one: -one.sure):
        if all(
            turn.core[1] < other.core[0] or turn.core[0] > other.core[1]
            or not (_inside(turn.time_d, other) or _inside(other.time_d, turn))
            for other in kept
        ):  # fmt: skip
            kept.append(turn)
    return sorted(kept, key=lambda one: one.time_d)


def _inside(time: float, turn: Turn) -> bool:
    return turn.ends[0] <= time <= turn.ends[1]
