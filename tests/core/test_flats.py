"""Flats against flats: good ones are alike, and what is wrong with others is found and measured."""

from __future__ import annotations

import numpy as np
import pytest

from narrow_beacon.core.correct.flat_verdict import judge_flats
from narrow_beacon.simulate.camera import Camera, Dust

SHAPE = (384, 512)
CAMERA = Camera(5, SHAPE)
ELECTRONS = 26_000.0 * 12
"""Photo-electrons behind a master of 12 flats at 20,000 ADU."""


def flat(seed: int, dust: tuple[Dust, ...] = (), change: np.ndarray | float = 1.0) -> np.ndarray:
    """A master flat, relative to 1, with the noise of its photons."""
    light = CAMERA.throughput(dust) * change
    noisy = light + np.random.default_rng(seed).normal(0, 1, SHAPE) * np.sqrt(light / ELECTRONS)
    return (noisy / np.median(noisy)).astype(np.float32)


GRAIN = Dust(240.0, 190.0, 18.0, 0.05)


def test_good_flats_are_alike_and_as_noisy_as_photons_allow() -> None:
    for seed in range(40):
        verdict = judge_flats(flat(2 * seed), flat(2 * seed + 1), (ELECTRONS, ELECTRONS))
        assert verdict.alike, verdict.words
        assert verdict.scatter == pytest.approx(verdict.expected, rel=0.08)


@pytest.mark.parametrize(("dx", "dy"), [(4.0, 0.0), (-2.6, 3.3), (7.5, -6.2), (54.3, -29.6)])
def test_a_shadow_that_moved_is_found_with_its_shift(dx: float, dy: float) -> None:
    moved = Dust(GRAIN.x_px + dx, GRAIN.y_px + dy, GRAIN.radius_px, GRAIN.depth)
    verdict = judge_flats(flat(1, (moved,)), flat(2, (GRAIN,)))
    (shift,) = verdict.shifts
    assert shift.dx_px == pytest.approx(dx, abs=0.5)
    assert shift.dy_px == pytest.approx(dy, abs=0.5)
    assert np.hypot(shift.x_px - GRAIN.x_px, shift.y_px - GRAIN.y_px) < 12 + np.hypot(dx, dy)


def test_dust_that_came_has_no_shift() -> None:
    verdict = judge_flats(flat(1, (GRAIN,)), flat(2))
    assert verdict.changes
    assert not verdict.shifts
    assert verdict.words[0].startswith("dust")


def test_gradients_and_corners_are_told_apart() -> None:
    y, x = np.mgrid[-1.0 : 1.0 : SHAPE[0] * 1j, -1.0 : 1.0 : SHAPE[1] * 1j]
    tilted = judge_flats(flat(1, change=1.0 + 0.01 * x), flat(2))
    assert tilted.slope == pytest.approx(0.02, rel=0.05)
    assert min(tilted.slope_deg, 360 - tilted.slope_deg) < 3
    assert abs(tilted.radial) < 0.001
    stray = judge_flats(flat(1, change=1.0 + 0.015 * (x**2 + y**2) / 2), flat(2))
    assert stray.radial == pytest.approx(0.015, rel=0.06)
    assert "corners 1.5% brighter" in " ".join(stray.words)


def test_a_flat_of_too_few_photons_is_said_to_be_noisy() -> None:
    verdict = judge_flats(flat(1), flat(2), (9 * ELECTRONS, 9 * ELECTRONS))
    assert "noisier than photons allow" in " ".join(verdict.words)
