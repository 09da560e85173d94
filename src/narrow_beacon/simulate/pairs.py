"""Pairs of exposures of one field as lists of stars: turned, shifted, mirrored, partly unlike."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

SHAPE = (1024, 1360)
_SEEN = 0.71
"""Share of the stars found on each: half of them on both."""
_FALSE = 0.4
"""False detections to each star that was found."""


@dataclass(frozen=True)
class Detected:
    """Stars found on an exposure, brightest first, with their uncertainties."""

    x_px: np.ndarray
    y_px: np.ndarray
    error_px: np.ndarray


@dataclass(frozen=True)
class Pair:
    """Two exposures (SHAPE) and what is true of them: ``turn`` (2, 2) about the middle, then
    ``shift`` bring pixels of the second onto the first.
    """

    first: Detected
    second: Detected
    turn: np.ndarray
    shift: np.ndarray
    overlap: float

    def on_first(self, x_px: np.ndarray, y_px: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Where pixels of the second lie on the first."""
        middle = np.array([(SHAPE[1] - 1) / 2, (SHAPE[0] - 1) / 2])
        there = (np.stack([x_px, y_px], axis=1) - middle) @ self.turn + middle + self.shift
        return there[:, 0], there[:, 1]


def make_pair(seed: int) -> Pair:
    """A pair that shares 30% to all of its field, of 60 to 600 stars an exposure: a flip of the
    mount, any turn or next to none; one in five is mirrored.
    """
    rng = np.random.default_rng([seed, 5])
    height, width = SHAPE
    overlap = float(rng.uniform(0.3, 1.0))
    kind = rng.random()
    angle = np.pi if kind < 0.25 else rng.uniform(0, 2 * np.pi) if kind < 0.6 else 0.02 * kind
    c, s = np.cos(angle), np.sin(angle)
    turn = np.array([[c, -s], [s, c]])
    if rng.random() < 0.2:
        turn = turn @ np.diag([-1.0, 1.0])
    towards = rng.uniform(0, 2 * np.pi)
    shift = 0.7 * (1.0 - overlap) * np.array([width * np.cos(towards), height * np.sin(towards)])
    count = int(rng.integers(60, 600) * 9 * width / height)
    stars = rng.uniform(-width, 2 * width, (count, 2))
    brightness = rng.exponential(1.0, count)
    middle = np.array([(width - 1) / 2, (height - 1) / 2])
    second = (stars - middle - shift) @ turn.T + middle
    return Pair(
        _found(rng, stars, brightness), _found(rng, second, brightness), turn, shift, overlap
    )


def _found(rng: np.random.Generator, places: np.ndarray, brightness: np.ndarray) -> Detected:
    height, width = SHAPE
    inside = np.all((places > 0) & (places < [width, height]), axis=1)
    inside &= rng.random(inside.size) < _SEEN
    places, brightness = places[inside], brightness[inside]
    error = 0.01 * 10.0 ** (0.2 * np.clip(5.0 - brightness, 0.0, 5.0))
    places = places + rng.normal(0, 1, places.shape) * error[:, None]
    false = int(_FALSE * len(places))
    places = np.vstack([places, rng.uniform(0, 1, (false, 2)) * [width, height]])
    brightness = np.append(brightness, rng.exponential(1.0, false))
    error = np.append(error, np.full(false, 0.1))
    order = np.argsort(-(brightness + rng.normal(0, 0.05, brightness.size)))
    return Detected(places[order, 0], places[order, 1], error[order])
