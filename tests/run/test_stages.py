"""The stages of a reduction one by one: calibration chains, constants, vetting, fields, workers."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import numpy as np
import pytest

from builders import EVENING, filter_census, frame, noise, star_image, star_table, write_simple
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.correct.clipping import clipping_level, converter_range, look_at_top
from narrow_beacon.core.correct.masters import MasterFacts, read_master
from narrow_beacon.core.curve.cast import Cast
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.frames.frame import Frame, LeftOut, SortedNight, TimeRule
from narrow_beacon.core.frames.physical import Scale
from narrow_beacon.core.frames.sort import settle
from narrow_beacon.core.kits import Kits, KitWord
from narrow_beacon.core.measure.flags import StarFlag
from narrow_beacon.core.remarks import Remark, gathered
from narrow_beacon.plan import Plan
from narrow_beacon.plan_keys import RadiusRule
from narrow_beacon.processes import WorkerError
from narrow_beacon.reduce import night_files
from narrow_beacon.reduce.chain_plan import LEFT_OUT, MOST_OPTIONS, options_of, plan_chain, wanting
from narrow_beacon.reduce.chains import MadeOf, build_chain, build_chains
from narrow_beacon.reduce.context import Probed, load_chain, save_chain
from narrow_beacon.reduce.field import band_of, bands_of, field_of
from narrow_beacon.reduce.flat_remarks import FlatsCompared, flat_remarks
from narrow_beacon.reduce.keeper import Keeper
from narrow_beacon.reduce.kit import Constants, constants_of
from narrow_beacon.reduce.kit_frames import look_at_kits
from narrow_beacon.reduce.masters import MasterFile, build_masters, library_masters
from narrow_beacon.reduce.names import chain_name
from narrow_beacon.reduce.prepare import settings_of
from narrow_beacon.reduce.reading import read_raw_files
from narrow_beacon.reduce.sorting import SortedFiles
from narrow_beacon.reduce.vet import cloudy, spoiled_cast
from narrow_beacon.reduce.walk import Walk, worker_count
from narrow_beacon.reduce.workers import Workers, core_count
from narrow_beacon.rescue import Rescue
from narrow_beacon.simulate.camera import Camera, Dust
from pieces import die_at_two, hang_at_two, most_at_once, stretch_of_time

SHAPE = (96, 128)


@pytest.fixture
def camera() -> Camera:
    return Camera(3, SHAPE, hot_share=0.01)


def calibration(
    folder: Path, camera: Camera, *, darks_s: Sequence[float] = (60.0,), dust: tuple[Dust, ...] = ()
) -> list[Frame]:
    """Seven bias, seven darks of each length, seven flats, as inspected frames."""
    rng = np.random.default_rng(5)
    frames = [frame(folder, camera.read(rng, None, 0.0), "bias", exposure_s=0.0) for _ in range(7)]
    for seconds in darks_s:
        frames += [
            frame(folder, camera.read(rng, None, seconds), "dark", exposure_s=seconds)
            for _ in range(7)
        ]
    light = camera.throughput(dust) * np.float32(30000.0)
    frames += [
        frame(folder, camera.read(rng, light, 2.0), "flat", exposure_s=2.0) for _ in range(7)
    ]
    return frames


def sky_frame(folder: Path, camera: Camera, exposure_s: float = 60.0) -> Frame:
    rng = np.random.default_rng(8)
    light = camera.throughput() * np.float32(300.0)
    return frame(folder, camera.read(rng, light, exposure_s, cosmic_per_s=0), exposure_s=exposure_s)


def built(tmp_path: Path, camera: Camera, exposure: Frame, frames: list[Frame]):  # type: ignore[no-untyped-def]
    (tmp_path / "masters").mkdir()
    with Workers(1) as pool:
        masters, _ = build_masters(frames, tmp_path / "masters", tmp_path, pool)
    plan = plan_chain(chain_name(exposure), exposure, [m.facts for m in masters])
    return masters, build_chain(plan, masters, [exposure], tmp_path / "chain")


def corrected_flatness(report, exposure: Frame) -> float:  # type: ignore[no-untyped-def]
    """Scatter of the large-scale level of a corrected sky exposure, relative to the sky."""
    from narrow_beacon.core.correct.apply import Workspace, correct

    pixels, _ = correct(exposure.source, load_chain(report.folder), 5e4, Workspace.of_shape(*SHAPE))
    blocks = pixels.reshape(12, 8, 16, 8).mean(axis=(1, 3))
    return float(np.std(blocks) / np.mean(blocks))


def test_a_matching_dark_and_flat_make_the_sky_flat(tmp_path: Path, camera: Camera) -> None:
    exposure = sky_frame(tmp_path, camera)
    masters, report = built(tmp_path, camera, exposure, calibration(tmp_path, camera))
    assert [station.words.split(":")[0] for station in report.stations[:2]] == [
        "dark off",
        "divided by flat",
    ]
    assert len(report.masters) == 2
    # 64 pixels of 230 ADU with 14 ADU of noise each: 0.8%; the vignetting alone is 10%.
    assert corrected_flatness(report, exposure) < 0.012
    assert report.dark_adu_per_s == pytest.approx(0.06 / 1.3, rel=0.5)
    assert {m.facts.kind for m in masters} == {"bias", "dark", "flat"}
    flat = next(m for m in masters if m.facts.kind == "flat")
    assert flat.facts.made_with[0].startswith("bias")


def test_another_dark_can_be_picked_and_a_step_left_out(tmp_path: Path, camera: Camera) -> None:
    exposure = sky_frame(tmp_path, camera)
    masters, best = built(tmp_path, camera, exposure, calibration(tmp_path, camera))
    facts = [master.facts for master in masters]

    def chain(**picks: str):  # type: ignore[no-untyped-def]
        plan = plan_chain(chain_name(exposure), exposure, facts, picks)
        folder = tmp_path / f"chain-{len(list(tmp_path.iterdir()))}"
        return plan, build_chain(plan, masters, [exposure], folder)

    options = options_of(exposure, facts).told
    keys = {(option.step, option.label): option.key for option in options}
    assert len(keys) == len(set(keys.values())) == len(options)
    flat = next(key for (step, _), key in keys.items() if step == "flat")
    plan, report = chain(flat=flat)
    assert report.stations[1].words.startswith("divided by flat: picked by the observer")
    inputs_of = MadeOf(masters).inputs_of
    assert inputs_of(plan) == inputs_of(chain()[0])
    plan, report = chain(flat=LEFT_OUT)
    assert [station.kind for station in report.stations] == ["offset", "repair"]
    assert report.left_out == ("flat",)
    assert inputs_of(plan) != inputs_of(chain()[0])
    # Vignetting and dust stay where nothing is divided by the flat.
    assert corrected_flatness(report, exposure) > 0.03
    _, report = chain(dark=LEFT_OUT)
    assert report.stations[0].words.startswith("bias off")
    _, report = chain(dark="a dark of long ago")
    assert report.masters == best.masters
    assert any("is no longer there" in words for words in report.remarks)


def test_a_dark_of_another_length_is_scaled_by_its_pattern(tmp_path: Path, camera: Camera) -> None:
    exposure = sky_frame(tmp_path, camera, 90.0)
    _, report = built(tmp_path, camera, exposure, calibration(tmp_path, camera))
    station = next(s.words for s in report.stations if s.words.startswith("dark off, scaled"))
    factor = float(station.split("by ")[1].split()[0])
    assert factor == pytest.approx(1.5, abs=0.03)
    assert any("no dark within 2% of 90 s" in words for words in report.remarks)
    assert corrected_flatness(report, exposure) < 0.012


def test_a_dark_is_taken_off_as_it_is_without_a_bias(tmp_path: Path, camera: Camera) -> None:
    exposure = sky_frame(tmp_path, camera, 90.0)
    frames = [f for f in calibration(tmp_path, camera) if f.kind != "bias"]
    _, report = built(tmp_path, camera, exposure, frames)
    assert report.stations[0].words.startswith("dark off: dark 60 s −10 °C")
    assert any("dark current of 30 s more stays" in words for words in report.remarks)
    # Half of the dark's own pattern, but for what is hot enough to be repaired.
    thermal = 60.0 * camera.dark_rate / camera.gain_e_per_adu
    least, most = (0.5 * np.std(thermal[thermal < hot]) for hot in (100.0, 250.0))
    assert least < report.noise.left_adu < most + 1.5  # the master's own noise comes on top


def test_two_lengths_of_dark_do_without_a_bias(tmp_path: Path, camera: Camera) -> None:
    exposure = sky_frame(tmp_path, camera, 90.0)
    frames = [f for f in calibration(tmp_path, camera, darks_s=(20.0, 60.0)) if f.kind != "bias"]
    _, report = built(tmp_path, camera, exposure, frames)
    words = next(s.words for s in report.stations if "scaled by" in s.words)
    # (90 − 20) / (60 − 20) of what the one has more than the other.
    assert float(words.split("by ")[1].split()[0]) == pytest.approx(1.75, abs=0.05)


def test_a_short_dark_stands_in_for_a_bias(tmp_path: Path, camera: Camera) -> None:
    exposure = sky_frame(tmp_path, camera, 90.0)
    frames = [f for f in calibration(tmp_path, camera, darks_s=(1.0, 60.0)) if f.kind != "bias"]
    _, report = built(tmp_path, camera, exposure, frames)
    assert any("stands in for a bias" in station.words for station in report.stations)


def test_without_calibration_the_chain_changes_nothing_and_says_so(
    tmp_path: Path, camera: Camera
) -> None:
    exposure = sky_frame(tmp_path, camera)
    _, report = built(tmp_path, camera, exposure, [])
    assert [s.words for s in report.stations] == ["0 defects repaired from their neighbours"]
    assert any("neither dark nor bias" in words for words in report.remarks)
    assert any("not flat-fielded" in words for words in report.remarks)
    chain = load_chain(report.folder)
    assert not chain.offset_adu.any()
    assert np.all(chain.gain == 1)


def test_a_chain_comes_back_from_disk(tmp_path: Path) -> None:
    from narrow_beacon.core.correct.apply import make_chain

    flat = noise(SHAPE, 1.0, 0.02)
    flat[3, 4] = 0.0
    chain = make_chain(noise(SHAPE, 500, 3), flat, np.zeros(SHAPE, np.uint8))
    save_chain(chain, tmp_path / "c")
    again = load_chain(str(tmp_path / "c"))
    assert np.array_equal(chain.gain, again.gain)
    assert list(again.repairs) == [3 * 128 + 4]  # a pixel without response is a defect


def test_chains_are_named_by_what_makes_them_differ(tmp_path: Path) -> None:
    adu = np.full(SHAPE, 500, np.uint16)
    names = {
        chain_name(frame(tmp_path, adu, exposure_s=s, temperature_c=t, filter_name=f))
        for s, t, f in (
            (60, -10.1, "V"),
            (60, -9.9, "V"),
            (90, -10, "V"),
            (60, -3, "V"),
            (60, -10, "B"),
        )
    }
    kit = "gain 100, offset 30, Kittiwake 800, 128 × 96"
    assert names == {
        f"2026-10-12, V, 60 s, −10 °C, {kit}",
        f"2026-10-12, V, 90 s, −10 °C, {kit}",
        f"2026-10-12, V, 60 s, −3 °C, {kit}",
        f"2026-10-12, B, 60 s, −10 °C, {kit}",
    }


def test_moved_dust_is_told_between_nights_only(tmp_path: Path) -> None:
    camera = Camera(3, (256, 256))
    rng = np.random.default_rng(2)

    def flats(x: float, days: int) -> list[Frame]:
        light = camera.throughput((Dust(x, 120.0, 18.0, 0.08),)) * np.float32(40000.0)
        start = EVENING + timedelta(days=days)
        return [
            frame(
                tmp_path,
                camera.read(rng, light, 2.0, cosmic_per_s=0),
                "flat",
                exposure_s=2.0,
                start=start,
            )
            for _ in range(8)
        ]

    with Workers(1) as pool:
        masters, _ = build_masters([*flats(80.0, 0), *flats(150.0, 1)], tmp_path, tmp_path, pool)
        kept: dict[str, FlatsCompared] = {}
        remarks = flat_remarks(masters, pool, kept.get, kept.__setitem__)
        assert flat_remarks(masters[:1], pool) == []
    # What was compared once is not looked at again.
    for master in masters:
        master.path.unlink()
    assert flat_remarks(masters, NoPool(), kept.get) == remarks
    assert len(remarks) == 1
    assert "2 places differ" in remarks[0].words
    # A grain that takes 8% at its middle: 80 to 90 mmag, less where the flats are smoothed.
    assert 50 < float(remarks[0].matters.split()[2]) < 95


class NoPool:
    """A pool for what needs no task any more."""

    def map(self, task: object, calls: Sequence[object], *_: object, **__: object) -> list[object]:
        assert not calls
        return []

    start = map


def test_many_nights_need_no_task_once_all_is_there(tmp_path: Path, camera: Camera) -> None:
    """A job of a long campaign that has nothing to build asks the workers for nothing."""
    exposure = sky_frame(tmp_path, camera)
    frames = calibration(tmp_path, camera)
    folder = tmp_path / "chains"
    with Workers(1) as pool:
        first, _ = build_masters(frames, tmp_path, tmp_path, pool)
        chains = build_chains([exposure], first, folder, {}, pool)
    known = {master.path: master.facts for master in first}
    again, _ = build_masters(frames, tmp_path, tmp_path, NoPool(), known=known)
    assert again == first
    assert build_chains([exposure], again, folder, {}, NoPool()) == chains
    # One that was cut short is built anew.
    cut = first[0].path
    cut.write_bytes(cut.read_bytes()[:3000])
    with Workers(1) as pool:
        whole, _ = build_masters(frames, tmp_path, tmp_path, pool, known=known)
    assert whole == first
    assert np.isfinite(read_master(cut).plane).all()


def test_of_many_masters_the_nearest_are_told_and_what_is_picked(
    tmp_path: Path, camera: Camera
) -> None:
    exposure = sky_frame(tmp_path, camera)
    with Workers(1) as pool:
        masters, _ = build_masters(calibration(tmp_path, camera), tmp_path, tmp_path, pool)
    dark = next(m.facts for m in masters if m.facts.kind == "dark")
    nights = [EVENING.date() + timedelta(days=n) for n in range(-30, 31)]
    facts = [replace(dark, night=night.isoformat()) for night in nights]
    picked = facts[0].key
    found = options_of(exposure, facts, {"dark": picked})
    options = found.told
    assert found.more["dark"] == len(facts) - len(options)
    assert len(options) == MOST_OPTIONS + 1
    assert [option.key for option in options if option.picked] == [picked]
    near = {facts[30 + n].key for n in range(-11, 12)}
    assert near < {option.key for option in options}
    # It is taken, however many come nearer.
    plan = plan_chain("x", exposure, facts, {"dark": picked})
    assert (plan.dark.index, plan.lost) == (0, ())


def test_a_library_takes_masters_of_elsewhere_and_tells_what_is_none(tmp_path: Path) -> None:
    library, imports = tmp_path / "library", tmp_path / "imports"
    library.mkdir()
    imports.mkdir()
    adu = np.random.default_rng(1).normal(30000.0, 50.0, SHAPE)
    write_simple(library / "single.fits", np.full(SHAPE, 5, np.uint16), "dark")
    write_simple(library / "odd.fits", np.full(SHAPE, 5, np.uint16), NCOMBINE=9)
    write_simple(library / "V.fits", adu.astype(np.uint16), IMAGETYP="Master Flat", NCOMBINE=12)
    (library / "broken.fits").write_bytes(b"SIMPLE  = T")
    masters, problems = library_masters(library, imports)
    (flat,) = masters
    facts = flat.facts
    assert (facts.kind, facts.filter, facts.count) == ("flat", "V", 12)
    assert facts.level_adu == pytest.approx(30000.0, rel=1e-3)
    assert flat.path.parent == imports
    plane = read_master(flat.path).plane
    assert np.median(plane) == pytest.approx(1.0, abs=1e-4)
    assert plane.std() == pytest.approx(50.0 / 30000.0, rel=0.05)
    said = " ".join(problem.words for problem in problems)
    assert "single.fits: a single dark by its header and name; name its folder in Intake" in said
    assert "odd.fits: neither header nor name say whether it is a bias, a dark or a flat" in said
    assert "broken.fits" in said
    assert library_masters(None, imports) == ([], [])


@pytest.mark.parametrize(
    ("way", "clipped", "variance"),
    [
        # Of nine normal values: the mean's variance, and the median's (1.49 times as much).
        ("clipped", True, 1.0), ("mean", False, 1.0), ("median", False, 1.49),
    ],
)  # fmt: skip
def test_frames_are_combined_as_the_kits_rules_say(
    tmp_path: Path, way: str, clipped: bool, variance: float
) -> None:
    rng = np.random.default_rng(4)
    stack = rng.normal(1000.0, 20.0, (9, *SHAPE))
    stack[2, 30:40, 50:60] += 5000.0
    darks = [frame(tmp_path, image.astype(np.uint16), "dark") for image in stack]
    kits = Kits({darks[0].kit: KitWord(combine=way)})
    with Workers(1) as pool:
        (usual,), _ = build_masters(darks, tmp_path, tmp_path, pool)
        (master,), _ = build_masters(darks, tmp_path, tmp_path, pool, kits=kits)
    assert (master.path == usual.path) == (way == "clipped")
    assert master.facts.combined == way
    plane = read_master(master.path).plane
    struck = plane[30:40, 50:60] - 1000.0
    plane[30:40, 50:60] = 1000.0
    assert plane.std() == pytest.approx(20.0 / 3.0 * np.sqrt(variance), rel=0.04)
    # The mean keeps a ninth of a trail; clipped mean and median do without it.
    kept = 5000.0 / 9.0 if way == "mean" else 2.0
    assert struck.mean() == pytest.approx(kept, abs=5.0)
    assert (master.facts.clipped_share > 0.5 * 100 / (9 * plane.size)) == clipped
    prints = [
        MadeOf([one]).inputs_of(plan_chain("x", darks[0], [one.facts])) for one in (master, usual)
    ]
    assert (prints[0] == prints[1]) == (way == "clipped")


def test_a_dark_with_stars_on_it_is_left_out_and_a_true_one_is_not(tmp_path: Path) -> None:
    rng = np.random.default_rng(1)
    x, y = rng.uniform(20, 280, (2, 60))
    sky = star_image((300, 300), x, y, np.full(60, 3e4)).astype(np.uint16)
    dark = Camera(1, (300, 300), hot_share=0.01).read(rng, None, 300.0)
    paths = [
        (write_simple(tmp_path / name, adu, "dark"), name)
        for name, adu in (("s.fits", sky), ("d.fits", dark))
    ]
    shown, true = (settle(raw, None, TimeRule()) for raw in read_raw_files(paths))
    assert isinstance(shown, LeftOut)
    assert "stars are on it" in shown.reason
    assert isinstance(true, Frame)
    assert true.levels is not None
    assert true.levels.median_adu == pytest.approx(float(np.median(dark)), abs=2)


def plan(**changes: object) -> Plan:
    return Plan(**{"path": Path("/x/plan.toml"), "text": "", "folders": (), **changes})  # type: ignore[arg-type]


def test_constants_come_from_plan_header_measurement_or_a_stated_guess(
    tmp_path: Path, camera: Camera
) -> None:
    frames = calibration(tmp_path, camera)
    with_gain = frame(tmp_path, np.full(SHAPE, 500, np.uint16), EGAIN=1.31, SATURATE=50000)
    plain = frame(tmp_path, np.full(SHAPE, 500, np.uint16))

    def kit(exposure: Frame, given: Plan, calibration: list[Frame]) -> tuple[Constants, float]:
        night = SortedNight((exposure,), tuple(calibration), ())
        with Workers(1) as pool:
            chains = build_chains([exposure], [], tmp_path / "chains", {}, pool)
        made = constants_of(given, None, night.exposures, chains.reports, look_at_kits(night))
        return made, made.uses[chain_name(exposure)].camera.gain_e_per_adu

    def limit(made: Constants) -> float:
        return next(iter(made.uses.values())).linear_limit_adu

    told, gain = kit(with_gain, plan(gain_e_per_adu=2.0, aperture_m=0.2), frames)
    assert gain == 2.0
    # 16,000 pixels of two pairs: the variance, and with it the gain, is known to some 3%.
    doubt = next(r.words for r in told.remarks if "but the flats and bias frames say" in r.words)
    assert float(doubt.split()[-1]) == pytest.approx(1.3, rel=0.1)
    assert limit(told) == 50000
    read, gain = kit(with_gain, plan(), frames)
    assert gain == 1.31
    assert "from the header (EGAIN)" in read.words["gain_e_per_adu"]
    left_out = next(r for r in read.remarks if "scintillation is left out" in r.words)
    # Osborn's formula for 0.2 m, 60 s, airmass 1.5 at sea level: 1.5 × 10⁻²·⁵ × 0.2^(−2/3) ×
    # 60^(−1/2) × 1.5^1.5 = 3.29e-3, 3.6 mmag.
    assert left_out.matters.startswith("about 3.6 mmag an exposure")
    measured, gain = kit(plain, plan(), frames)
    assert gain == pytest.approx(1.3, rel=0.1)
    assert "measured from pairs" in measured.words["gain_e_per_adu"]
    guessed, gain = kit(plain, plan(), [])
    assert gain == 1.0
    assert any("the gain is not known; 1 e⁻/ADU is assumed" in r.words for r in guessed.remarks)
    assert limit(guessed) == pytest.approx(60000, rel=1e-3)
    assert all(r.stage == "intake" and r.matters and r.remedy for r in guessed.remarks)


def clipped_frame(level: float, count: int, seed: int = 0, brightest: float = 0.0) -> np.ndarray:
    """A frame with ``count`` pixels at a level, and perhaps one brighter."""
    pixels = np.rint(noise((120, 120), 800.0, 15.0, seed))
    pixels.ravel()[:count] = level
    pixels[60, 60] = max(brightest, pixels[60, 60])
    return pixels


def eight_bits(count: int, seed: int) -> np.ndarray:
    """A frame of 8 bits with ``count`` pixels at its end."""
    pixels = np.rint(noise((120, 120), 30.0, 2.0, seed))
    pixels.ravel()[:count] = 255.0
    return pixels


@pytest.mark.parametrize(
    ("frames", "level"),
    [
        ([clipped_frame(16383, 6, n) for n in range(3)], 16383),
        ([clipped_frame(4095, 40)], 4095),
        # Bright stars, each with one peak of its own.
        ([clipped_frame(800, 1, n, 15000 + 900 * n) for n in range(4)], None),
        ([clipped_frame(16383, 2)], None),
        ([clipped_frame(800, 1)], None),
        # Eight bits, also in words of 16.
        ([eight_bits(6, n) for n in range(3)], 255),
        ([eight_bits(1, n) for n in range(3)], None),
    ],
)
def test_a_camera_stops_where_pixels_pile_up(frames: list[np.ndarray], level: float | None) -> None:
    assert clipping_level([look_at_top(pixels) for pixels in frames]) == level


def test_the_range_of_a_converter_is_told_by_steps_and_by_what_it_gave() -> None:
    def full(*peaks: float, step: int = 1) -> float:
        frames = [step * np.rint(clipped_frame(800, 1, 1, p) / step) for p in peaks]
        return converter_range([look_at_top(pixels) for pixels in frames])

    assert full(12000) == 16383
    assert full(40000) == full(900) == 65535
    assert full(12000, step=4) == 65532
    assert converter_range([look_at_top(256.0 * eight_bits(1, 1))]) == 65280


@pytest.mark.parametrize(("bitpix", "bzero", "most"), [(8, 0, 255), (16, 0, 32767)])
def test_no_camera_gives_more_than_its_file_can_hold(bitpix: int, bzero: int, most: int) -> None:
    dim = look_at_top(eight_bits(1, 3), Scale(bitpix, 1.0, bzero, None).most)
    bright = look_at_top(0.9 * most * np.ones((9, 9)), Scale(bitpix, 1.0, bzero, None).most)
    assert converter_range([dim, bright]) == most
    assert Scale(16, 1.0, 32768.0, None).most == 65535
    assert Scale(-32, 1.0, 0.0, None).most == np.inf


def test_a_datamax_that_is_the_files_own_is_no_limit(tmp_path: Path) -> None:
    def limit(*values: float) -> float:
        frames = [
            frame(tmp_path, clipped_frame(800, 1, n, 12001).astype(np.uint16), DATAMAX=value)
            for n, value in enumerate(values)
        ]
        with Workers(1) as pool:
            chains = build_chains(frames, [], tmp_path / "chains", {}, pool)
        night = SortedNight(tuple(frames), (), ())
        uses = constants_of(plan(), None, night.exposures, chains.reports, look_at_kits(night)).uses
        return next(iter(uses.values())).linear_limit_adu

    assert limit(12001, 12001) == pytest.approx(15000, rel=1e-3)  # of a converter of 14 bits
    assert limit(12345, 12400) == pytest.approx(15000, rel=1e-3)  # another on each file
    assert limit(14000, 14000) == 14000


@pytest.mark.parametrize(("radius", "inner"), [(4.8, 10.5), (12.0, 24.48)])
def test_a_ring_that_an_aperture_reaches_into_moves_out(radius: float, inner: float) -> None:
    group = settings_of(plan(radius=RadiusRule(pixels=radius)), Probed(3.0, None))
    assert group.annulus_px == pytest.approx((inner, inner + 6.0))
    assert group.radii_px[-1] < group.annulus_px[0]


def test_each_kit_has_its_own_constants(tmp_path: Path) -> None:
    first = [frame(tmp_path, np.full(SHAPE, 501, np.uint16), EGAIN=1.3) for _ in range(3)]
    other = frame(tmp_path, np.full((64, 80), 501, np.uint16), EGAIN=0.4, INSTRUME="Fulmar 20")
    with Workers(1) as pool:
        chains = build_chains([*first, other], [], tmp_path / "chains", {}, pool)
    night = SortedNight((*first, other), (), ())
    made = constants_of(
        plan(linear_limit_adu=4e4), None, night.exposures, chains.reports, look_at_kits(night)
    )
    uses = {"Fulmar" in name: use for name, use in made.uses.items()}
    assert [uses[key].camera.gain_e_per_adu for key in (False, True)] == [1.3, 0.4]
    # What was given of the camera holds for the kit with most exposures alone.
    assert [uses[key].linear_limit_adu for key in (False, True)] == pytest.approx(
        [4e4, 6e4], rel=1e-3
    )
    assert any(r.about.startswith("Fulmar 20") and "60000 ADU" in r.words for r in made.remarks)
    assert any(r.words.startswith("2 kits took these exposures") for r in made.remarks)


def test_what_calibration_is_wanting_is_what_the_chains_will_lack(
    tmp_path: Path, camera: Camera
) -> None:
    exposure = sky_frame(tmp_path, camera, 90.0)
    frames = calibration(tmp_path, camera)
    _, report = built(tmp_path, camera, exposure, frames)
    said = wanting([exposure], frames)
    lacks = {w.lower() for w in said if not w.startswith("Still") and "more." not in w}
    assert any(w.startswith("Still to take: 15 darks of 90 s at −10 °C, 22 min") for w in said)
    assert any("7 frames make" in w and "faint stars are 7% noisier, 3% with" in w for w in said)
    assert lacks == {f"{words}.".lower() for words in report.remarks if "only 7" not in words}
    undated = [
        frame(tmp_path, camera.read(np.random.default_rng(1), None, 2.0) + 9000, "flat",
              exposure_s=2.0, DATE_OBS=None)
        for _ in range(3)
    ]  # fmt: skip
    assert undated[0].night == ""
    assert not any("flat-f" in w for w in wanting([exposure], [*frames[:7], *undated]))
    assert any("not flat-fielded" in w.lower() for w in wanting([exposure], frames[:7]))


@pytest.mark.parametrize(
    ("name", "band"),
    [
        ("V", "V"),
        ("Johnson V", "V"),
        ("V_2", "V"),
        ("b", "B"),
        ("Clear", "V"),
        ("L", "V"),
        ("TG", "V"),
        ("CV", "V"),
        ("g'", "V"),
        ("Ha", None),
        ("R", None),
        ("J", None),
    ],
)
def test_filters_find_their_band(name: str, band: str | None) -> None:
    assert band_of(name, star_table().bands) == band


def test_a_band_that_only_stands_in_is_said(tmp_path: Path) -> None:
    stars = star_table()
    stars = replace(stars, bands={"V": stars.bands["V"], "R": stars.bands["B"]})
    adu = noise((8, 8), 500.0, 5.0).astype(np.uint16)
    frames = [frame(tmp_path, adu, filter_name=name) for name in ("V", "r'", "Ha", "J")]
    found = bands_of(frames, stars, {})
    assert found.of == {"V": "V", "r": "R", "Ha": "R"}
    assert set(found.nominal) == {"r", "Ha"}
    assert "Sloan" in found.nominal["r"]
    assert "Johnson–Cousins" in found.nominal["r"]
    assert set(found.without) == {"J"}
    assert all("nominal" in r.matters for r in found.remarks if r.about in found.nominal)
    pictures = [frame(tmp_path, adu, filter_name=name) for name in ("L", "R", "G", "B")]
    assert "colour pictures" in bands_of(pictures, stars, {}).mixed


def test_the_observers_word_on_a_band_comes_first() -> None:
    stars = star_table()
    assert band_of("Clear", stars.bands, {"clear": "B"}) == "B"
    assert band_of("V", stars.bands, {"Johnson V": "B"}) == "B"
    assert band_of("Ha", stars.bands, {"Ha": "V"}) == "V"
    assert band_of("Ha", stars.bands, {"Ha": "K"}) is None


def test_the_target_is_found_by_position_then_by_name() -> None:
    table: StarTable = star_table()
    by_place = field_of(plan(stars=table, target_ra_deg=340.0402, target_dec_deg=38.0004), [])
    assert (by_place.target, by_place.remarks) == (2, ())
    by_name = plan(stars=table, target_name="sorrel 4", target_ra_deg=10.0, target_dec_deg=10.0)
    named = field_of(by_name, [])
    assert named.target == 3
    assert "has Sorrel 4 " in named.remarks[0].words
    # A star of another name stands at the position: its curve would go by the name of the first.
    other = plan(stars=table, target_name="Sorrel 4", target_ra_deg=340.0402, target_dec_deg=38.0)
    mixed = field_of(other, [])
    assert mixed.target == 2
    # Sorrel 4 is 0.02° · cos 38° = 56.7″ east of Sorrel 3, less the 0.6″ of the position.
    assert mixed.remarks[0].words.startswith("the catalogue has Sorrel 4 56.2″ from the position")
    assert mixed.remarks[0].words.endswith("Sorrel 3 is measured")
    new = plan(stars=table, target_name="Newcomer", target_ra_deg=340.05, target_dec_deg=38.01)
    field = field_of(new, [])
    assert field.target is not None
    assert field.added
    assert field.stars.names[field.target] == "Newcomer"
    assert np.isnan(field.stars.bands["V"].magnitude[field.target])
    assert field.stars.brightness_order()[-1] == field.target
    # Between two stars: 0.01° up and 0.01° · cos 38° to the side.
    assert ", 45.8″ away: Newcomer is measured there all the same" in field.remarks[0].words
    with pytest.raises(CatalogueError):
        table.row("Newcomer")  # the catalogue itself stays as it was


def test_where_the_telescope_pointed_is_no_target() -> None:
    pointed = plan(
        stars=star_table(), target_name="NE field", target_ra_deg=340.05, target_dec_deg=38.0,
        target_sure=False,
    )  # fmt: skip
    field = field_of(pointed, [])
    assert field.target is None
    assert field.remarks[0].stage == "cast"


def test_cloud_is_named_with_what_comes_through() -> None:
    reasons = cloudy([4, 5, 6], np.array([0.97, 0.31, np.nan]), 0.5)
    assert reasons == {5: "cloud: 31% of the clear night's light comes through"}


def test_a_spoiled_star_of_the_cast_sets_the_exposure_aside() -> None:
    bits = np.zeros((4, 4, 1), np.uint16)
    bits[0, 0] = StarFlag.TRAIL
    bits[1, 2] = StarFlag.SATURATED
    bits[2, 3] = StarFlag.TRAIL  # no star of the cast
    counts = np.ones((4, 4, 1))
    counts[3, 0] = np.nan
    census = filter_census(np.ones((4, 4)), np.full(4, 0.01), counts_adu=counts, flag_bits=bits)
    names = {0: "T", 1: "K", 2: "C", 3: "other"}
    reasons = spoiled_cast([10, 11, 12, 13], census, 0, Cast(0, (2,), (1,)), names)
    assert reasons == {
        10: "trail through the target T",
        11: "the comparison star C is saturated",
        13: "the target T could not be measured",
    }


def test_results_come_back_in_order_whatever_the_number_of_workers() -> None:
    calls = [(n,) for n in range(40)]
    for count in (1, 2):
        seen: list[int] = []
        with Workers(count) as pool:
            assert pool.map(_square, calls, seen.append) == [n * n for n in range(40)]
            assert pool.start(_square, 9)() == 81
            one_by_one: list[int] = []
            pool.each(_square, calls, one_by_one.append)
        assert sorted(seen) == sorted(one_by_one)
        assert sorted(seen) == [n * n for n in range(40)]
    assert core_count() >= 1


def test_no_more_tasks_run_at_once_than_there_is_memory_for() -> None:
    with Workers(2) as pool:
        pool.room_for(10**15)
        going = pool.start(stretch_of_time, 0.05)
        stretches = pool.map(stretch_of_time, [(0.05,)] * 4)
        assert most_at_once([going(), *stretches]) == 1
        pool.room_for(1)
        assert most_at_once(pool.map(stretch_of_time, [(0.2,)] * 4)) == 2


def _square(n: int) -> int:
    return n * n


def _fail(n: int) -> int:
    raise ValueError(f"task {n}")


def test_a_small_night_is_worth_one_process(tmp_path: Path) -> None:
    night = plan(folders=(tmp_path,))
    for number in range(3):
        with (tmp_path / f"{number}.fits").open("wb") as file:
            file.truncate(8_000_000)
    assert worker_count(night) == 1
    with (tmp_path / "3.fits").open("wb") as file:
        file.truncate(9_000_000)
    assert worker_count(night) == core_count()


def test_an_error_in_a_worker_reaches_the_caller() -> None:
    with Workers(2) as pool, pytest.raises(ValueError, match="task"):
        pool.map(_fail, [(1,), (2,)])


def test_master_files_of_alike_groups_do_not_overwrite_one_another(
    tmp_path: Path, camera: Camera
) -> None:
    rng = np.random.default_rng(0)
    frames = [
        frame(tmp_path, camera.read(rng, None, 60.0), "dark", GAIN=gain)
        for gain in (0, 100)
        for _ in range(3)
    ]
    (tmp_path / "m").mkdir()
    with Workers(1) as pool:
        made = build_masters(frames, tmp_path / "m", tmp_path, pool)
        masters: list[MasterFile] = made[0]
    assert len({master.path for master in masters}) == 2
    facts: list[MasterFacts] = [master.facts for master in masters]
    assert sorted(f.gain_setting or 0 for f in facts) == [0, 100]


def test_a_frame_that_went_away_is_missed_by_its_master_alone(
    tmp_path: Path, camera: Camera
) -> None:
    frames = calibration(tmp_path, camera)
    darks = [one for one in frames if one.kind == "dark"]
    Path(str(darks[3].source.path)).unlink()
    with Workers(1) as pool:
        masters, remarks = build_masters(frames, tmp_path, tmp_path, pool)
    counts = {master.facts.kind: master.facts.count for master in masters}
    assert counts == {"bias": 7, "dark": 6, "flat": 7}
    assert len(remarks) == 1
    assert darks[3].name in remarks[0].words


def test_masters_and_planes_are_named_by_what_they_are_made_of(
    tmp_path: Path, camera: Camera
) -> None:
    exposure = sky_frame(tmp_path, camera)
    frames = calibration(tmp_path, camera)
    (tmp_path / "m").mkdir()

    def made(some: list[Frame]) -> tuple[set[str], str]:
        with Workers(1) as pool:
            masters, _ = build_masters(some, tmp_path / "m", tmp_path, pool)
            chains = build_chains([exposure], masters, tmp_path / "chains", {}, pool)
        (report,) = chains.reports.values()
        return {master.path.name for master in masters}, report.folder

    names, folder = made(frames)
    planes = load_chain(folder).offset_adu.copy()
    fewer, other = made([f for f in frames if f is not frames[9]])  # a dark less
    assert len(names & fewer) == 2  # bias and flat stay
    assert other != folder
    assert not np.array_equal(load_chain(other).offset_adu, planes)
    # What was kept under a name in this process is still what the name says.
    assert made(frames) == (names, folder)
    assert np.array_equal(load_chain(folder).offset_adu, planes)


def _die(n: int) -> int:
    os._exit(7)


PIECES = Rescue(
    lambda call: [([n],) for n in call[0]],
    lambda call, words: [-call[0][0]],
    lambda parts: [n for part in parts for n in part],
    limit_s=1.0,
)


def _open_files(n: int) -> list[str]:
    folder = Path("/proc/self/fd")
    return [os.readlink(path) for path in folder.iterdir() if path.exists()]


def test_a_worker_that_dies_is_told_and_holds_nothing_of_its_parents(tmp_path: Path) -> None:
    held = tmp_path / "held"
    with held.open("w") as file, Workers(2) as pool:
        assert file.fileno() > 2
        for names in pool.map(_open_files, [(1,), (2,)]):
            assert str(held) not in names
        with pytest.raises(WorkerError, match=r"_die: the process that worked on it ended"):
            pool.map(_die, [(1,)])
        # The other one goes on, and another takes the place of the one that died.
        assert pool.map(_square, [(3,), (4,), (5,)]) == [9, 16, 25]


@pytest.mark.parametrize("how", [die_at_two, hang_at_two])
def test_one_bad_piece_costs_only_itself(how: Callable[[list[int]], list[int]]) -> None:
    with Workers(2) as pool:
        said = pool.map(how, [([1, 2, 3],), ([4, 5],)], rescue=PIECES)
    assert said == [[1, -2, 9], [16, 25]]


def test_the_same_said_of_many_things_is_said_once() -> None:
    few = [Remark("correct", f"only 4 frames in {n}", n, "noise", "more") for n in "ab"]
    many = [Remark("correct", f"dust on {n}", n, "mmag", "flats") for n in "abcde"]
    found = gathered([*few, *many])
    assert found[:2] == few
    assert len(found) == 3
    assert found[2].words == "5 times, with other names: dust on a"


def test_many_files_are_sorted_to_be_seen_before_they_are_named_by_their_content(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(night_files, "_SEEN_FIRST", 2)
    night = tmp_path / "night"
    night.mkdir()
    for n in range(3):
        write_simple(night / f"{n}.fits", np.full(SHAPE, 500 + n, np.uint16))
    (night / "again.fits").write_bytes((night / "1.fits").read_bytes())
    looks: list[SortedFiles] = []

    class Looking(Keeper):
        def keep_first_look(self, files: SortedFiles) -> None:
            looks.append(files)

    keeper = Looking(Plan(tmp_path / "p", "", (night,)), tmp_path / "m", tmp_path / "s")
    with Workers(1) as pool:
        walk = Walk(keeper, pool)
        walk.read()
    assert [len(look.night.exposures) for look in looks] == [4]
    assert all(frame.sha256 == "" for frame in looks[0].night.exposures)
    assert len(walk.sorted.night.exposures) == 3
    assert all(len(frame.sha256) == 64 for frame in walk.sorted.night.exposures)
    (twin,) = walk.sorted.night.left_out
    assert twin.reason.startswith("the same file as")


def test_files_that_a_stopped_walk_left_unnamed_are_named_before_they_are_used(
    tmp_path: Path,
) -> None:
    path = write_simple(tmp_path / "a.fits", np.full(SHAPE, 500, np.uint16))
    keeper = Keeper(Plan(tmp_path / "p", "", (tmp_path,)), tmp_path / "m", tmp_path / "s")
    (raw,) = read_raw_files([(path, "a.fits")], hashed=False)
    assert raw.sha256 == ""
    keeper.keep_files([(path, raw)])
    with Workers(1) as pool:
        (frame,) = Walk(keeper, pool).sorted.night.exposures
    assert frame.sha256 == file_sha256(path)
