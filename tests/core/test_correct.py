"""Correction: what the camera added comes off, and what cannot be corrected is repaired or said."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from astropy.io import fits

from builders import frame, noise, star_image, write_simple
from narrow_beacon.core.correct.apply import (
    DEFECT,
    SATURATED,
    Workspace,
    correct,
    make_chain,
    repair,
)
from narrow_beacon.core.correct.combine import combine
from narrow_beacon.core.correct.dark_place import misplaced_dark
from narrow_beacon.core.correct.dark_scale import fit_dark_scale
from narrow_beacon.core.correct.defect_file import marks_of_mask, read_marks, write_marks
from narrow_beacon.core.correct.defects import DefectRule, find_defects
from narrow_beacon.core.correct.fit import fit_of, grade_of, what_differs
from narrow_beacon.core.correct.flat_check import compare_flats
from narrow_beacon.core.correct.masters import (
    MasterFacts,
    build_master,
    group_calibration,
    read_master,
    write_master,
)
from narrow_beacon.core.correct.match import (
    choose_bias,
    choose_dark,
    choose_dark_to_scale,
    choose_flat,
    picked_master,
)
from narrow_beacon.core.correct.photon_transfer import measure_camera_noise, photon_transfer
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.fits_file import read_image
from narrow_beacon.core.kits import USUAL_RULES, Rules
from narrow_beacon.simulate.camera import Camera, Dust

SHAPE = (96, 128)


def master_facts(kind: str, **changes: object) -> MasterFacts:
    facts: dict[str, object] = {
        "kind": kind, "filter": "V" if kind == "flat" else None, "exposure_s": 60.0,
        "temperature_c": -10.0, "gain_setting": 100.0, "offset_setting": 30.0, "readout_mode": None,
        "binning": (1, 1), "shape": SHAPE, "night": "2026-10-12", "count": 15, "level_adu": 500.0,
        "clipped_share": 0.0, "inputs": (),
    }  # fmt: skip
    return MasterFacts(**{**facts, **changes})  # type: ignore[arg-type]


def sources(tmp_path: Path, images: list[np.ndarray], wrapping: str = "plain") -> list:  # type: ignore[type-arg]
    paths = [
        write_simple(tmp_path / f"c{n}.fits", im.astype(np.uint16), wrapping=wrapping)
        for n, im in enumerate(images)
    ]
    return [read_image(path).source for path in paths]


@pytest.mark.parametrize("wrapping", ["plain", "extension", "float"])
def test_clipped_mean_is_the_mean_without_the_outliers(tmp_path: Path, wrapping: str) -> None:
    rng = np.random.default_rng(3)
    images = [np.rint(rng.normal(1000, 6, SHAPE)) for _ in range(13)]
    clean = np.mean(images, axis=0)
    images[4][10:20, 30:40] += 5000  # a cosmic ray shower on one frame
    made = combine(sources(tmp_path, images, wrapping), tmp_path)
    hit = np.zeros(SHAPE, bool)
    hit[10:20, 30:40] = True
    # Without the hit frame 12 of 13 are left: the means differ by their noise, 6/√12/√13 ADU.
    assert np.abs(made.plane - clean)[hit].max() < 5 * 6 / np.sqrt(12 * 13) + 0.1
    # Four robust σ of 13 values clip a few values in ten thousand by chance.
    assert np.mean(np.abs(made.plane - clean)[~hit] > 1e-3) < 0.1
    assert made.clipped_share > 100 / (13 * images[0].size)


@pytest.mark.parametrize("count", [5, 6, 9, 14])
def test_frames_of_any_number_are_clipped_by_the_formula(tmp_path: Path, count: int) -> None:
    rng = np.random.default_rng(count)
    images = [np.rint(500.0 + 9.0 * rng.standard_t(2, SHAPE)) for _ in range(count)]
    made = combine(sources(tmp_path, images), tmp_path, kappa=3.0)
    values = np.array(images)
    away = np.abs(values - np.median(values, axis=0))
    # Half a step of the frames' values at the least.
    inside = away <= 3.0 * np.maximum(1.4826 * np.median(away, axis=0), 0.5)
    mean = np.sum(values * inside, axis=0) / inside.sum(axis=0)
    # The limit is told in 32 bits: a value that is just on it may fall to either side.
    assert np.mean(np.abs(made.plane - mean) > 1e-3) < 1e-3
    assert made.clipped_share == pytest.approx(1.0 - inside.mean(), abs=1e-4)


def test_few_frames_are_combined_by_their_median(tmp_path: Path) -> None:
    images = [np.full(SHAPE, value, float) for value in (100, 102, 900)]
    assert np.all(combine(sources(tmp_path, images), tmp_path).plane == 102)


@pytest.mark.parametrize("step", [1, 16])
def test_frames_in_coarse_steps_keep_their_mean(tmp_path: Path, step: int) -> None:
    """A pixel that rounds up on a third of the frames is a third of a step above the others'."""
    rng = np.random.default_rng(4)
    level = 300.0 + np.linspace(0.0, 1.0, SHAPE[1])
    images = [step * np.rint(rng.normal(level, 0.4, SHAPE)) for _ in range(16)]
    off = combine(sources(tmp_path, images), tmp_path).plane / step - level
    # Sixteen frames of 0.4 and the rounding's 0.3 leave 0.12 of a step; a mean over a column of
    # pixels is known to a hundredth, and rounding itself bends it by as much.
    assert off.std() < 0.15
    assert np.max(np.abs(off.mean(axis=0).reshape(-1, 8).mean(axis=1))) < 0.05


def test_the_fused_pass_is_the_formula(tmp_path: Path) -> None:
    raw = np.rint(noise(SHAPE, 3000, 300, 5)).astype(np.uint16)
    raw[7, 9] = 60000
    offset, flat = noise(SHAPE, 500, 3, 6), noise(SHAPE, 1.0, 0.05, 7)
    chain = make_chain(offset, flat, np.zeros(SHAPE, np.uint8))
    for wrapping in ("plain", "float"):
        source = read_image(
            write_simple(tmp_path / f"{wrapping}.fits", raw, wrapping=wrapping)
        ).source
        pixels, flags = correct(source, chain, 52000.0, Workspace.of_shape(*SHAPE))
        assert np.allclose(pixels, (raw - offset) / flat, rtol=2e-6)
        assert flags[7, 9] == SATURATED
        assert flags.sum() == SATURATED
    assert (pixels < 0).any() or raw.min() > 510  # nothing is clipped at zero


def test_negative_pixels_stay_negative(tmp_path: Path) -> None:
    source = read_image(write_simple(tmp_path / "a.fits", np.full(SHAPE, 90, np.uint16))).source
    chain = make_chain(np.full(SHAPE, 100, np.float32), None, np.zeros(SHAPE, np.uint8))
    assert np.all(correct(source, chain, 1e5, Workspace.of_shape(*SHAPE))[0] == -10)


def test_a_repaired_peak_of_a_star_is_right_to_a_few_percent() -> None:
    x, y = np.array([40.2, 90.0]), np.array([50.1, 40.4])
    image = star_image(SHAPE, x, y, np.array([3e5, 3e5]), sky=0.0, sigma=1.0)
    flags = np.zeros(SHAPE, np.uint8)
    damaged = image.copy()
    where = np.array([50 * 128 + 40, 40 * 128 + 90])
    damaged.reshape(-1)[where] = 9e4
    flags.reshape(-1)[where] = DEFECT
    repair(damaged, flags, where)
    ratio = damaged.reshape(-1)[where] / image.reshape(-1)[where]
    assert np.all(np.abs(ratio - 1) < 0.06)  # a median of the neighbours would be 40% off


def test_a_bad_column_is_filled_from_its_sides() -> None:
    ramp = np.tile(np.arange(128, dtype=np.float32), (96, 1))
    flags = np.zeros(SHAPE, np.uint8)
    flags[:, 60] = DEFECT
    damaged = np.where(flags, np.float32(9999), ramp)
    repair(damaged, flags, np.flatnonzero(flags))
    assert np.abs(damaged - ramp).max() < 1e-3


@pytest.mark.parametrize("true_scale", [0.5, 1.0, 1.5])
def test_the_scale_of_a_dark_is_found_from_its_pattern(true_scale: float) -> None:
    rng = np.random.default_rng(1)
    thermal = rng.normal(4, 1, (300, 400)).astype(np.float32)
    hot = rng.random(thermal.shape) < 0.004
    thermal[hot] += rng.exponential(300, int(hot.sum())).astype(np.float32)
    x, y = rng.uniform(20, 280, (2, 40))
    sky = star_image(thermal.shape, x, y, rng.uniform(1e3, 1e5, 40), sigma=9.0)
    fit = fit_dark_scale(sky + np.float32(true_scale) * thermal, thermal)
    assert fit is not None
    assert abs(fit.factor - true_scale) < max(4 * fit.uncertainty, 0.004)
    assert fit.uncertainty < 0.01


def test_a_dark_without_pattern_gives_no_scale() -> None:
    flat_dark = noise((200, 200), 4, 1)
    assert fit_dark_scale(noise((200, 200), 300, 9, 2), flat_dark) is None


def test_defects_are_hot_pixels_bad_columns_and_dead_pixels() -> None:
    dark = noise(SHAPE, 40, 1.5)
    dark[20, 30] += 900
    dark[25, 77] += 20  # warm, but steady: better subtracted
    dark[:, 101] += 25
    flat = noise(SHAPE, 1.0, 0.01, 2)
    flat[60, 10] = 0.2
    defects = find_defects(dark, flat, SHAPE)
    assert defects[20, 30]
    assert defects[60, 10]
    assert defects[:, 101].all()
    assert not defects[25, 77]
    assert defects.sum() == 96 + 2


def test_a_single_dark_in_whole_numbers_has_no_more_bad_columns_than_there_are() -> None:
    dark = np.round(noise((512, 512), 520, 6))
    dark[:, 101] += 12
    defects = find_defects(dark, None, (512, 512))
    assert defects[:, 101].all()
    assert defects.sum() == 512


@pytest.mark.parametrize("share", [0.003, 0.05, 0.5])
def test_steps_wider_than_the_noise_are_no_hot_pixels(share: float) -> None:
    """A camera of 8 bits: most pixels have the same value, the others are a step away."""
    pick = np.random.default_rng(3)
    darks = 4.0 + (pick.random((10, *SHAPE)) < share)
    darks[:, 40, 60] = 90.0
    dark = darks.mean(axis=0).astype(np.float32)
    assert np.argwhere(find_defects(dark, None, SHAPE)).tolist() == [[40, 60]]
    assert misplaced_dark(lambda y, x: darks[0][y, x], dark) is None
    exposure = 5.0 + (pick.random(SHAPE) < share)
    assert misplaced_dark(lambda y, x: exposure[y, x], dark) is None


def test_a_flat_with_a_moved_dust_grain_is_reported_and_noise_is_not() -> None:
    camera = Camera(5, (384, 512))
    rng = np.random.default_rng(0)

    def flat(dust: Dust) -> np.ndarray:
        made = camera.throughput((dust,)) * (1 + rng.normal(0, 0.002, camera.shape))
        return (made / np.median(made)).astype(np.float32)

    first, again = flat(Dust(150, 200, 20, 0.05)), flat(Dust(150, 200, 20, 0.05))
    moved = flat(Dust(210, 180, 20, 0.05))
    assert compare_flats(first, again) == []
    changes = compare_flats(moved, first)
    assert len(changes) == 2
    darker, brighter = sorted(changes, key=lambda change: change.change)
    assert np.hypot(darker.x_px - 211, darker.y_px - 181) < 6
    assert np.hypot(brighter.x_px - 151, brighter.y_px - 201) < 6


@pytest.mark.parametrize("step", [1, 8])
def test_gain_and_read_noise_are_measured_from_pairs(tmp_path: Path, step: int) -> None:
    """Also where values come in steps of half as much again as the read noise."""
    camera = Camera(2, (512, 512), gain_e_per_adu=1.7, read_noise_e=9.0, hot_share=0.0)
    rng = np.random.default_rng(4)

    def read(light: np.ndarray | None, seconds: float) -> np.ndarray:
        return camera.read(rng, light, seconds, cosmic_per_s=0) // step * step

    bias = [frame(tmp_path, read(None, 0.0), "bias") for _ in range(4)]
    light = camera.throughput() * np.float32(30000 * 1.7)
    # The second flat of each pair is fainter, as twilight makes it.
    flats = [
        frame(tmp_path, read(light * np.float32(f), 2.0), "flat") for f in (1.0, 0.9, 0.85, 0.8)
    ]
    found = measure_camera_noise(flats, bias)
    assert found is not None
    assert found.gain_e_per_adu == pytest.approx(1.7, rel=0.02)
    assert found.read_noise_e == pytest.approx(9.0, rel=0.03)


@pytest.mark.parametrize("full", [None, 30000.0])
def test_flats_of_all_levels_show_gain_read_noise_and_where_the_sensor_bends(
    tmp_path: Path, full: float | None
) -> None:
    rng = np.random.default_rng(8)
    gain, noise_e, shape = 1.7, 9.0, (256, 256)

    def read(electrons: float) -> np.ndarray:
        light = rng.poisson(electrons, shape) + rng.normal(0.0, noise_e, shape)
        if full:  # beyond it charge spills to the neighbours, which smooths the noise away
            spilled = 0.5 * light + 0.25 * (np.roll(light, 1, 0) + np.roll(light, -1, 0))
            light = np.where(electrons > full * gain, spilled, light)
        return np.rint(light / gain + 500.0).astype(np.uint16)

    bias = [frame(tmp_path, read(0.0), "bias") for _ in range(4)]
    levels = (4e3, 9e3, 15e3, 22e3, 28e3, 36e3)
    flats = [frame(tmp_path, read(level * gain), "flat", exposure_s=2.0)
             for level in levels for _ in range(2)]  # fmt: skip
    found = photon_transfer(flats, bias)
    assert found is not None
    assert [p.level_adu for p in found.points] == pytest.approx(levels, rel=0.01)
    assert found.noise.gain_e_per_adu == pytest.approx(gain, rel=0.03)
    assert found.noise.read_noise_e == pytest.approx(noise_e, rel=0.05)
    assert found.bends == (full is not None)
    assert found.linear_to_adu == pytest.approx(500.0 + (28e3 if full else 36e3), rel=0.01)
    assert photon_transfer(flats[:1], bias) is None
    assert photon_transfer(flats, bias[:1]) is None


def test_a_defect_map_goes_into_a_file_and_comes_back(tmp_path: Path) -> None:
    marks = ((3, 0, 1, 40), (0, 7, 60, 1), (20, 10, 4, 5), (50, 30, 1, 1))
    (tmp_path / "map.csv").write_text(write_marks(marks))
    assert read_marks(tmp_path / "map.csv") == marks
    mask = DefectRule(8.0, marks).mask((40, 60)) != 0
    write_simple(tmp_path / "map.fits", mask.astype(np.uint16))
    again = read_marks(tmp_path / "map.fits")
    assert np.array_equal(DefectRule(8.0, again).mask((40, 60)) != 0, mask)
    assert marks_of_mask(np.zeros((4, 4), bool)) == ()
    # A whole sensor is one rectangle, whatever its size.
    assert marks_of_mask(np.ones((300, 400), bool)) == ((0, 0, 400, 300),)
    for text, words in (
        ("1,2\n", "its first line must be x, y, width, height"),
        ("x,y\n1,two\n", "line 2: “1, two” is not x, y, width, height"),
        ("x,y\n0,4\n", "line 2: pixels count from 1"),
    ):
        (tmp_path / "wrong.csv").write_text(text)
        with pytest.raises(UnreadableFileError, match=r"wrong\.csv") as caught:
            read_marks(tmp_path / "wrong.csv")
        assert words in str(caught.value)
    with pytest.raises(UnreadableFileError, match="leave hot pixels to the threshold"):
        marks_of_mask(np.indices((400, 400)).sum(axis=0) % 2 == 0)


def test_a_master_comes_back_from_its_file_as_it_was(tmp_path: Path) -> None:
    group = [frame(tmp_path, noise(SHAPE, 500, 5, n).astype(np.uint16), "dark") for n in range(6)]
    master = build_master(group, tmp_path)
    write_master(master, tmp_path / "m.fit")
    again = read_master(tmp_path / "m.fit")
    assert again.facts == master.facts
    assert np.array_equal(again.plane, master.plane)
    assert [name for name, _ in again.facts.inputs] == [item.name for item in group]
    with fits.open(tmp_path / "m.fit") as hdus:  # for whoever reads it without this program
        history = "".join(hdus[0].header["HISTORY"])
    assert all(item.name in history and item.sha256 in history for item in group)


def test_flats_of_a_fading_twilight_weigh_alike_and_lose_their_signal(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    pattern = 1 + 0.1 * np.sin(np.arange(128) / 9.0)[None, :] * np.ones((96, 1))
    bias = build_master([frame(tmp_path, np.full(SHAPE, 800, np.uint16), "bias")] * 3, tmp_path)
    flats = [
        frame(
            tmp_path, (800 + rng.poisson(level * pattern)).astype(np.uint16), "flat", exposure_s=2.0
        )
        for level in (30000, 20000, 12000, 7000, 4000, 30000, 9000)
    ]
    made = build_master(flats, tmp_path, bias)
    assert np.std(made.plane / (pattern / np.median(pattern)) - 1) < 0.005
    assert made.facts.made_with == (bias.facts.key,)


def test_darks_are_grouped_by_temperature_and_exposure(tmp_path: Path) -> None:
    temperatures = (-10.1, -9.9, -10.0, -3.6)
    darks = [
        frame(tmp_path, noise(SHAPE, 500, 5, n).astype(np.uint16), "dark", temperature_c=t)
        for n, t in enumerate(temperatures)
    ]
    darks.append(frame(tmp_path, noise(SHAPE, 510, 5).astype(np.uint16), "dark", exposure_s=90.0))
    assert sorted(len(group) for group in group_calibration(darks)) == [1, 1, 3]


def test_the_right_masters_are_chosen_and_the_reason_is_given(tmp_path: Path) -> None:
    exposure = frame(tmp_path, np.full(SHAPE, 500, np.uint16))
    masters = [
        master_facts("dark", temperature_c=-3.0),
        master_facts("dark", night="2026-10-10"),
        master_facts("dark", exposure_s=90.0),
        master_facts("bias", gain_setting=0.0),
        master_facts("bias"),
        master_facts("flat", filter="B"),
        master_facts("flat", night="2026-09-01", count=4),
    ]
    dark = choose_dark(exposure, masters)
    assert dark.index == 1
    assert dark.reason == "15 darks of 60 s at −10 °C, 2 days apart"
    assert choose_bias(exposure, masters).index == 4
    flat = choose_flat(exposure, masters)
    assert flat.index == 6
    assert any("dust may have moved" in words for words in flat.remarks)
    assert any("only 4 frames" in words for words in flat.remarks)


def test_a_missing_dark_says_what_is_nearest_and_what_can_be_scaled(tmp_path: Path) -> None:
    exposure = frame(tmp_path, np.full(SHAPE, 500, np.uint16), exposure_s=120.0)
    masters = [master_facts("dark", exposure_s=30.0), master_facts("dark", exposure_s=60.0)]
    missing = choose_dark(exposure, masters)
    assert missing.index is None
    assert missing.reason == "no dark within 2% of 120 s at −10 °C; nearest: 60 s at −10 °C"
    assert choose_dark_to_scale(exposure, masters).index == 1


def test_a_picked_master_says_all_that_does_not_fit(tmp_path: Path) -> None:
    exposure = frame(tmp_path, np.full(SHAPE, 500, np.uint16))
    masters = [
        master_facts("flat", filter="B", count=1),
        master_facts("dark", gain_setting=7.0, offset_setting=9.0, readout_mode="fast"),
    ]
    flat = picked_master(exposure, masters, 0)
    assert flat.reason == "picked by the observer: 1 flat in B, same night"
    assert [words.split(" flat B")[0] for words in flat.remarks] == [
        "only 1 frame in",
        flat.remarks[1],
    ]
    assert flat.remarks[1] == "flat B of 2026-10-12: filter B for V"
    dark = picked_master(exposure, masters, 1)
    assert [words.split(": ")[1] for words in dark.remarks] == ["gain 7 for 100", "offset 9 for 30"]


@pytest.mark.parametrize(
    ("changes", "grade", "differs"),
    [
        ({}, "exact", ""),
        ({"temperature_c": -9.0, "exposure_s": 60.9}, "exact", ""),
        ({"exposure_s": 120.0}, "scaled", "120 s for 60 s"),
        ({"temperature_c": -4.0}, "scaled", "−4.0 °C for −10.0 °C"),
        ({"gain_setting": 7.0}, "poor", "gain 7 for 100"),
        ({"gain_setting": None, "offset_setting": None}, "exact", ""),
        ({"camera": "Fulmar 20"}, "poor", "camera Fulmar 20 for Tern 9"),
        ({"night": "2026-05-01"}, "poor", "164 days apart, more than the 60 that it lasts"),
        ({"shape": (9, 9)}, "poor", "pixels 9 × 9 for 60 × 40"),
    ],
)
def test_how_well_a_dark_fits_is_told_aspect_by_aspect(
    tmp_path: Path, changes: dict[str, object], grade: str, differs: str
) -> None:
    exposure = frame(tmp_path, np.full((40, 60), 500, np.uint16), INSTRUME="Tern 9")
    aspects = fit_of(exposure, master_facts("dark", **{"shape": (40, 60), **changes}), USUAL_RULES)
    assert (grade_of(aspects), what_differs(aspects)) == (grade, differs)
    # A kit's own rules: what was too old or too warm fits, and what was near enough does not.
    lax = Rules(0.5, 20.0, 400)
    assert grade_of(fit_of(exposure, master_facts("dark", shape=(40, 60), temperature_c=-4.0,
                                                  night="2026-05-01"), lax)) == "exact"  # fmt: skip
    strict = Rules(0.001, 0.1)
    near = master_facts("dark", shape=(40, 60), temperature_c=-9.0, exposure_s=60.9)
    assert grade_of(fit_of(exposure, near, strict)) == "scaled"
    assert choose_dark(exposure, [near]).index == 0
    assert choose_dark(exposure, [near], strict).index is None


def test_the_nearest_that_was_not_taken_is_named_with_why(tmp_path: Path) -> None:
    exposure = frame(tmp_path, np.full(SHAPE, 500, np.uint16))
    masters = [
        master_facts("bias", gain_setting=7.0, offset_setting=9.0),
        master_facts("bias", gain_setting=7.0, night="2026-10-01"),
        master_facts("flat", filter="B"),
    ]
    bias = choose_bias(exposure, masters)
    assert bias.index is None
    assert bias.reason == (
        "no bias that fits; nearest, not taken: 15 bias frames at −10 °C (gain 7 for 100)"
    )
    assert (
        "nearest, not taken: 15 flats in B (filter B for V)"
        in choose_flat(exposure, masters).reason
    )
    assert choose_flat(exposure, masters[:2]).reason == "no flat in V that fits"


def test_a_flat_belongs_to_the_angle_of_its_rotator(tmp_path: Path) -> None:
    exposure = frame(tmp_path, np.full(SHAPE, 500, np.uint16), ROTATANG=40.0, FOCUSPOS=1200)
    turned = master_facts("flat", rotator_deg=75.0)
    straight = master_facts("flat", rotator_deg=40.2, night="2026-10-10", focus_position=1300.0)
    assert choose_flat(exposure, [turned, straight]).index == 1
    only = choose_flat(exposure, [turned])
    assert only.index == 0
    assert any("camera turned by 35.0° against it" in words for words in only.remarks)
    # After a meridian flip some headers say so, and dust stays where it was.
    flipped = master_facts("flat", rotator_deg=220.0)
    assert grade_of(fit_of(exposure, flipped, USUAL_RULES)) == "exact"
    told = [aspect.words for aspect in fit_of(exposure, straight, USUAL_RULES)]
    assert "focuser at 1300 for 1200" in told
    flats = [
        frame(tmp_path, noise(SHAPE, 9000, 80, n).astype(np.uint16), "flat", ROTATANG=angle)
        for n, angle in enumerate((40.0, 40.1, 75.0))
    ]
    assert sorted(len(group) for group in group_calibration(flats)) == [1, 2]


@pytest.mark.parametrize(
    ("kind", "ending", "saturated"),
    [(np.int16, ".fits", True), (np.int16, ".fits.gz", True), (np.float32, ".fits", False)],
)
def test_only_words_of_16_bits_turn_over(
    tmp_path: Path, kind: type, ending: str, saturated: bool
) -> None:
    values = np.full((64, 64), 1000, kind)
    values[30, 20] = -20000
    path = tmp_path / f"a{ending}"
    fits.PrimaryHDU(values).writeto(path)
    space = Workspace.of_shape(64, 64)
    none = make_chain(None, None, np.zeros((64, 64), np.uint8))
    _, flags = correct(read_image(path).source, none, 60000.0, space)
    assert bool(flags[30, 20] & SATURATED) == saturated
    assert np.count_nonzero(flags) == int(saturated)


@pytest.mark.parametrize(
    ("lies", "share", "words"),
    [
        (lambda sky: sky, 1.0, None),
        (lambda sky: sky, 0.5, None),  # a little colder
        (lambda sky: sky, 0.1, ""),
        (lambda sky: np.roll(sky, 3, axis=0), 1.0, ""),
        (lambda sky: sky[::-1], 1.0, "upside down"),
        (lambda sky: sky[:, ::-1], 1.0, "mirrored left to right"),
        (lambda sky: sky[::-1, ::-1], 1.0, "turned by 180°"),
    ],
)
def test_a_dark_whose_hot_pixels_are_not_the_exposures_is_told(
    lies: Callable[[np.ndarray], np.ndarray], share: float, words: str | None
) -> None:
    rng = np.random.default_rng(8)
    dark = rng.normal(500.0, 2.0, (200, 240)).astype(np.float32)
    hot = tuple(rng.integers(3, side - 3, 60) for side in dark.shape)
    dark[hot] += rng.uniform(150.0, 900.0, 60).astype(np.float32)
    sky = rng.normal(800.0, 15.0, dark.shape)
    sky[60:70, 80:90] += 4000.0  # a star on some of them
    sky[hot] += share * (dark[hot] - 500.0)
    found = misplaced_dark(lambda y, x: lies(sky)[y, x], dark)
    assert (found.turned if found else None) == words
    # Without hot pixels, or without values, nothing can be told.
    assert misplaced_dark(lambda y, x: np.where(x > 5, np.nan, sky[y, x]), dark) is None
    assert misplaced_dark(lambda y, x: sky[y, x], np.full_like(dark, 500.0)) is None
