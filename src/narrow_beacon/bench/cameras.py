"""Cameras of every kind: how much of their own pattern is left after correction, and how well their
constants, hot pixels and flats are found out.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.correct.apply import Workspace, correct
from narrow_beacon.core.correct.dark_scale import fit_dark_scale
from narrow_beacon.core.correct.defects import find_defects
from narrow_beacon.core.correct.flat_verdict import judge_flats
from narrow_beacon.core.correct.local_median import local_median
from narrow_beacon.core.correct.photon_transfer import measure_camera_noise
from narrow_beacon.core.frames.frame import Frame, TimeRule
from narrow_beacon.core.frames.sort import inspect_file
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.context import load_chain
from narrow_beacon.reduce.keeper import Keeper
from narrow_beacon.reduce.walk import Walk
from narrow_beacon.reduce.workers import Workers
from narrow_beacon.simulate.camera import Camera, Dust
from narrow_beacon.simulate.headers import FrameInfo, spelling_words, write_frame

_SHAPE = (512, 512)
_EVENING = datetime(2026, 9, 20, 21, 0)
_SKY_E = 300.0
_MATCHED_AIM, _SCALED_AIM = 1.05, 1.15
_PAIRS, _TRIALS, _CAMERAS = 200, 400, 12
_FLAT_E = 26_000.0


@dataclass(frozen=True)
class Case:
    """A camera, and the darks that there are for its exposures of 60 s at −10 °C."""

    name: str
    camera: dict[str, Any]
    dark_s: float = 60.0
    dark_c: float = -10.0
    bias: int = 15
    exposure_c: float = -10.0
    aim: float = _MATCHED_AIM
    darks: int = 15
    cosmic: dict[str, float] = field(default_factory=lambda: {"cosmic_per_s": 0.0})


_COOLED: dict[str, Any] = {"read_noise_e": 6.0, "hot_share": 0.001, "dark_e_per_s": 0.02}
_WARM: dict[str, Any] = {
    "read_noise_e": 2.0,
    "gain_e_per_adu": 0.8,
    "dark_e_per_s": 0.8,
    "hot_share": 0.01,
}
CASES = (
    Case("cooled CCD, overscan, drifting bias", {**_COOLED, "overscan_px": 32, "drift_adu": 25.0}),
    Case("the same without bias frames, darks of 200 s",
         {**_COOLED, "overscan_px": 32, "drift_adu": 25.0}, dark_s=200.0, bias=0, aim=_SCALED_AIM),
    Case("read-out banding of 3 ADU", {**_COOLED, "overscan_px": 32, "banding_adu": 3.0}),
    Case("warm CMOS, matched darks", _WARM, exposure_c=15.0, dark_c=15.0),
    Case("warm CMOS, darks of 180 s", _WARM, exposure_c=15.0, dark_c=15.0, dark_s=180.0,
         aim=_SCALED_AIM),
    Case("warm CMOS, darks 6 °C colder", _WARM, exposure_c=15.0, dark_c=9.0, dark_s=120.0,
         aim=_SCALED_AIM),
)  # fmt: skip


def _write(folder: Path, name: str, camera: Camera, adu: np.ndarray, info: FrameInfo) -> Path:
    header = spelling_words(info)
    header.update(camera.cards())
    path = folder / f"{name}.fits"
    write_frame(path, adu, header)
    return path


def residual_ratio(case: Case, seed: int = 3) -> float:
    """Scatter of corrected sky over that of the same frame corrected by what is true of it."""
    camera = Camera(seed, _SHAPE, **{**case.camera, **case.cosmic})
    rng = np.random.default_rng(seed)
    light = camera.throughput() * np.float32(_SKY_E)
    with tempfile.TemporaryDirectory(prefix="beacon-cameras-") as place:
        folder = Path(place) / "raw"

        def take(kind: str, number: int, seconds: float, at_c: float, flat: bool = False) -> None:
            glow = camera.throughput() * np.float32(_FLAT_E) if flat else None
            adu = camera.read(rng, glow, seconds, at_c)
            start = _EVENING + timedelta(seconds=10 * number)
            name = f"{kind}-{number}".replace(" ", "")
            info = FrameInfo(kind, "V" if flat else None, start, seconds, at_c)
            _write(folder, name, camera, adu, info)

        for n in range(case.bias):
            take("bias", n, 0.0, case.exposure_c)
        for n in range(case.darks):
            take("dark", n, case.dark_s, case.dark_c)
        for n in range(12):
            take("flat", n, 2.0, case.exposure_c, flat=True)
        for n in range(5):
            adu = camera.read(rng, light, 60.0, case.exposure_c)
            rows = camera.last_rows
            info = FrameInfo("exposure", "V", _EVENING + timedelta(hours=1, minutes=n), 60.0,
                             case.exposure_c, 340.0, 38.0)  # fmt: skip
            path = _write(folder, f"sky-{n}", camera, adu, info)
        return _against_ideal(case, camera, path, adu, rows, folder, Path(place))


def _against_ideal(
    case: Case, camera: Camera, path: Path, adu: np.ndarray, rows: Floats, raw: Path, place: Path
) -> float:
    keeper = Keeper(Plan(raw / "plan", "", (raw,)), place / "masters", place)
    with Workers(1) as pool:
        (place / "masters").mkdir()
        walk = Walk(keeper, pool)
        walk.read()
        ((_, report),) = walk.chains.reports.items()
    frame = inspect_file(path, path.name, None, TimeRule())
    assert isinstance(frame, Frame)
    ours, flags = correct(
        frame.source, load_chain(report.folder), 1e9, Workspace.of_shape(*frame.shape)
    )
    warmth = 2.0 ** ((case.exposure_c + 10.0) / 6.0)
    dark = camera.dark_rate * warmth * 60.0
    own = adu[:, camera.overscan_px :].astype(float) - camera.bias_pattern
    if rows.size:
        own = own - rows[:, None]
    throughput = camera.throughput()
    ideal = (own - dark / camera.gain_e_per_adu) / (throughput / np.median(throughput))
    # Where a pixel's own dark noise is that of the sky; beyond it, it is a matter of defects.
    good = (flags == 0) & (dark < 10.0 * np.median(dark))
    good[:4], good[-4:] = False, False
    shown = (ours - np.median(ours))[good], (ideal - np.median(ideal))[good]
    return float(np.std(shown[0]) / np.std(shown[1]))


def factor_trials(count: int) -> tuple[int, float]:
    """How many of so many factors of a scaled dark are within twice their uncertainty of the truth,
    and the largest departure in units of it.
    """
    pulls = []
    for seed in range(count):
        rng = np.random.default_rng([seed, 5])
        camera = Camera(seed, (256, 256), cosmic_per_s=0.0, **_WARM)
        length, at_c = float(rng.choice([30.0, 60.0, 180.0])), float(rng.uniform(-10, 15))
        true = 60.0 / length * 2.0 ** ((15.0 - at_c) / 6.0)
        thermal = (
            np.mean([camera.read(rng, None, length, at_c) for _ in range(15)], axis=0)
            - np.mean([camera.read(rng, None, 0.0, at_c) for _ in range(15)], axis=0)
        ).astype(np.float32)
        sky = camera.read(rng, camera.throughput() * np.float32(_SKY_E), 60.0, 15.0)
        fit = fit_dark_scale(sky.astype(np.float32) - camera.bias_pattern, thermal)
        if fit is not None:
            pulls.append((fit.factor - true) / fit.uncertainty)
    found = np.abs(np.array(pulls))
    return int(np.sum(found < 2.0) + (count - found.size)), float(found.max())


def constants(count: int) -> tuple[float, float]:
    """The largest relative errors of gain and read noise of so many cameras."""
    worst = [0.0, 0.0]
    for seed in range(count):
        rng = np.random.default_rng([seed, 6])
        gain, noise = float(rng.uniform(0.3, 3.0)), float(rng.uniform(1.5, 12.0))
        camera = Camera(seed, _SHAPE, gain_e_per_adu=gain, read_noise_e=noise, cosmic_per_s=0.0)
        with tempfile.TemporaryDirectory(prefix="beacon-cameras-") as place:
            frames: dict[str, list[Frame]] = {"flat": [], "bias": []}
            for n in range(8):
                for kind in frames:
                    flat = kind == "flat"
                    level = np.float32(25000.0 * gain * 0.97**n)
                    glow = camera.throughput() * level if flat else None
                    adu = camera.read(rng, glow, 2.0 if flat else 0.0)
                    info = FrameInfo(kind, "V" if flat else None, _EVENING, 2.0, -10.0)
                    path = _write(Path(place), f"{kind}-{n}", camera, adu, info)
                    frame = inspect_file(path, path.name, None, TimeRule())
                    assert isinstance(frame, Frame)
                    frames[kind].append(frame)
            found = measure_camera_noise(frames["flat"], frames["bias"])
        assert found is not None
        worst[0] = max(worst[0], abs(found.gain_e_per_adu / gain - 1.0))
        worst[1] = max(worst[1], abs(found.read_noise_e / noise - 1.0))
    return worst[0], worst[1]


def hot_pixels(count: int, z: float = 8.0) -> tuple[int, int, float]:
    """Hot pixels above ``z`` in so many master darks, how many of them are found at that threshold,
    and what share of the good ones is taken for hot.
    """
    above = found = taken = good = 0
    for seed in range(count):
        rng = np.random.default_rng([seed, 7])
        camera = Camera(seed, _SHAPE, cosmic_per_s=0.0, **_WARM)
        master = np.mean([camera.read(rng, None, 60.0, 5.0) for _ in range(15)], axis=0)
        master = master.astype(np.float32)
        defects = find_defects(master, None, _SHAPE, hot_z=z)
        true = camera.dark_rate * np.float32(2.0 ** (15.0 / 6.0) * 60.0 / camera.gain_e_per_adu)
        own = true - local_median(true)
        excess = master - local_median(master)
        sigma = 1.4826 * float(np.median(np.abs(excess)))
        hot = own > (z + 1.0) * sigma  # by the truth, and not by a master's noise on the edge
        cold = own < (z - 3.0) * sigma
        above += int(hot.sum())
        found += int((defects[hot] > 0).sum())
        good += int(cold.sum())
        taken += int((defects[cold] > 0).sum())
    return above, found, taken / max(good, 1)


def flats(pairs: int) -> tuple[int, float]:
    """Alarms over so many pairs of good flats, and the largest error of a dust shift in px."""
    camera = Camera(9, _SHAPE)
    electrons = _FLAT_E * 12

    def flat(seed: int, dust: tuple[Dust, ...] = ()) -> np.ndarray:
        light = camera.throughput(dust)
        noise = np.random.default_rng([seed, 8]).normal(0, 1, _SHAPE)
        noisy = light + noise * np.sqrt(light / electrons)
        return (noisy / np.median(noisy)).astype(np.float32)

    alarms = sum(
        not judge_flats(flat(2 * n), flat(2 * n + 1), (electrons, electrons)).alike
        for n in range(pairs)
    )
    rng = np.random.default_rng(4)
    worst = 0.0
    for n in range(30):
        x, y = rng.uniform(120, 390, 2)
        radius, depth = rng.uniform(10, 24), rng.uniform(0.02, 0.08)
        dx, dy = rng.uniform(-8, 8, 2)
        if np.hypot(dx, dy) < 1.5:
            continue
        moved = Dust(x + dx, y + dy, radius, depth)
        verdict = judge_flats(
            flat(1000 + n, (moved,)), flat(2000 + n, (Dust(x, y, radius, depth),))
        )
        if not verdict.shifts:
            worst = float("inf")
            continue
        shift = verdict.shifts[0]
        worst = max(worst, abs(shift.dx_px - dx), abs(shift.dy_px - dy))
    return alarms, worst


def print_cameras() -> bool:
    """All of it; whether every aim was met."""
    met = True

    def say(words: str, good: bool) -> None:
        nonlocal met
        met = met and good
        print(f"  {words}{'' if good else '   MISSED'}")

    print("What correction leaves of a camera's pattern: scatter over that of an ideal correction")
    for case in CASES:
        ratio = residual_ratio(case)
        say(f"{case.name:<46} {ratio:.3f} (aim {case.aim})", ratio <= case.aim)
    checks: list[Callable[[], tuple[str, bool]]] = [_factors, _constants, _hot, _flats]
    for check in checks:
        say(*check())
    return met


def _factors() -> tuple[str, bool]:
    inside, worst = factor_trials(_TRIALS)
    words = (
        f"dark's factor within twice its uncertainty in {inside} of {_TRIALS}, worst {worst:.1f}"
    )
    return words, inside >= 0.95 * _TRIALS


def _constants() -> tuple[str, bool]:
    gain, noise = constants(_CAMERAS)
    words = f"{_CAMERAS} cameras: gain within {gain:.1%}, read noise within {noise:.1%} (aim 3%)"
    return words, max(gain, noise) < 0.03


def _hot() -> tuple[str, bool]:
    above, found, taken = hot_pixels(4)
    words = (
        f"hot pixels above 8 σ: {found} of {above} found; 1 in {1 / max(taken, 1e-9):,.0f} good "
        "ones taken (aim all, 1 in 20,000)"
    )
    return words, found == above and taken < 1 / 20000


def _flats() -> tuple[str, bool]:
    alarms, worst = flats(_PAIRS)
    words = f"{alarms} alarms over {_PAIRS} pairs of good flats; dust shifts within {worst:.2f} px"
    return words, alarms == 0 and worst < 0.5
