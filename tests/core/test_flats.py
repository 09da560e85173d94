"""Flats against flats: good ones are alike, and what is wrong with others is found and measured."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.ndimage import maximum_filter

from builders import star_image
from narrow_beacon.core.correct.defects import (
    USUAL_DEFECTS,
    DefectRule,
    deviations,
    deviations_on_sky,
    find_defects,
    sky_threshold,
)
from narrow_beacon.core.correct.flat_verdict import judge_flats
from narrow_beacon.core.correct.lean import Lean
from narrow_beacon.core.curve.tilt import Tilt, fit_tilt
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


def test_a_defect_rule_marks_parts_of_columns_and_rows_of_the_file() -> None:
    rule = DefectRule(8.0, ((10, 0, 1, 40), (0, 5, 64, 1), (60, 30, 10, 10)))
    mask = rule.mask((40, 64))
    assert mask[:, 10].all()
    assert mask[5].all()
    assert mask[30:, 60:].all()
    assert mask.sum() == 40 + 64 - 1 + 10 * 4
    # Of an image that begins after 8 columns of overscan.
    assert rule.mask((40, 56), (8, 0))[:, 2].all()


def test_the_threshold_decides_what_is_hot() -> None:
    rng = np.random.default_rng(2)
    dark = rng.normal(100, 2.0, (96, 96)).astype(np.float32)
    dark[40, 40], dark[60, 20], dark[10, 70] = 130.0, 300.0, 60.0
    deviation = deviations(dark)
    assert deviation[40, 40] == pytest.approx(15, rel=0.25)
    for threshold, found in ((8.0, 3), (30.0, 1), (200.0, 0)):
        assert find_defects(dark, None, dark.shape, threshold).sum() == found


@pytest.mark.parametrize("fwhm_px", [1.6, 2.0, 4.0])
def test_hot_pixels_are_seen_on_exposures_and_stars_are_not_taken_for_them(fwhm_px: float) -> None:
    rng = np.random.default_rng(6)
    shape, noise_adu = (400, 400), 8.0
    x, y = rng.uniform(5, 394, (2, 150))
    counts = 10.0 ** rng.uniform(2.5, 5.0, 150)
    # Guided so well that every star stays on its pixels: the worst that can be.
    frames = [star_image(shape, x, y, counts, fwhm=fwhm_px, sigma=noise_adu, seed=n)
              for n in range(5)]  # fmt: skip
    light = np.median(frames, axis=0) - 200.0
    hot = (rng.integers(5, 395, 40), rng.integers(5, 395, 40))
    clear = maximum_filter(light, 5)[hot] < 3.0 * noise_adu
    assert clear.sum() > 20
    for image in frames:
        image[hot] += 200.0
    z = deviations_on_sky(np.median(frames, axis=0).astype(np.float32))
    found = np.abs(z) > sky_threshold(USUAL_DEFECTS)
    assert found[hot][clear].all()
    found[hot] = False
    assert found.sum() == 0
    assert sky_threshold(DefectRule(25.0)) == 25.0


@pytest.mark.parametrize("moved", ["flip", "turn", "drift", "still"])
def test_stars_that_cross_the_frame_tell_how_a_flat_leans(moved: str) -> None:
    rng = np.random.default_rng(5)
    shape, lean = (400, 600), Lean(0.03, -0.02)
    x, y = rng.uniform(60, 540, 80), rng.uniform(60, 340, 80)
    share = np.linspace(-0.5, 0.5, 40)[:, None]
    angle = {"flip": np.pi * (share > 0), "turn": share}.get(moved, 0.0 * share)
    away = {"drift": 200.0, "still": 4.0}.get(moved, 0.0) * share
    dx, dy = x - 299.5, y - 199.5
    x = 299.5 + dx * np.cos(angle) - dy * np.sin(angle) + away
    y = 199.5 + dx * np.sin(angle) + dy * np.cos(angle) - 0.2 * away
    light = 10 ** rng.uniform(4.0, 5.5, 80) * rng.uniform(0.8, 1.0, (40, 1))
    light[20:, 3] *= 0.5  # one that varies
    noise = np.sqrt(light)
    tilt = Tilt(lean.across_mag, lean.up_mag, 0.0, 0, shape)
    counts = light * 10 ** (-0.4 * tilt.at(x, y)) + rng.normal(0, noise)
    found = fit_tilt(counts, noise, x, y, shape)
    if moved in ("drift", "still"):  # what carries all of them alike is in the zero points
        assert found is None
        return
    assert found is not None
    assert found.error_mag < 0.002
    assert found.across_mag == pytest.approx(0.03, abs=4 * found.error_mag)
    assert found.up_mag == pytest.approx(-0.02, abs=4 * found.error_mag)
    assert fit_tilt(counts[:0], noise[:0], x[:0], y[:0], shape) is None
    even = fit_tilt(light + rng.normal(0, noise), noise, x, y, shape)
    assert even is None
    # What straightens the flat takes off just that.
    flat = lean.straightened(None, shape)
    up, across = np.mgrid[: shape[0], : shape[1]]
    assert -2.5 * np.log10(flat) == pytest.approx(tilt.at(across, up), abs=1e-5)


def test_a_lean_is_two_numbers() -> None:
    assert Lean.of("63.1, −2") == Lean(0.0631, -0.002)
    assert Lean.of(Lean(0.0631, -0.002).text) == Lean(0.0631, -0.002)
    for text in ("", "63", "a, b", "1e9, 0", "nan, 0"):
        with pytest.raises(ValueError, match="must be like"):
            Lean.of(text)
