"""The demo scenario: two nights of a made-up eclipsing star from a small northern island, in two
filters, with everything in them that goes wrong on real nights.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from astropy.io import fits

from narrow_beacon.processes import Processes
from narrow_beacon.simulate.camera import Camera, Dust
from narrow_beacon.simulate.headers import (
    Spelling,
    spelling_capitals,
    spelling_short,
    spelling_words,
)
from narrow_beacon.simulate.night import (
    APERTURE_M,
    CalibrationShot,
    Scene,
    Shot,
    calibration_set,
    drifted,
    julian_day,
    write_truth,
)
from narrow_beacon.simulate.pointing import Pointing
from narrow_beacon.simulate.sky import Sky, add_star, eclipses, make_sky, sine

SEED = 114
TARGET = "Larkspur 114"
CHECK = "Larkspur 61"
COMPARISON = (
    "Larkspur 12", "Larkspur 27", "Larkspur 35", "Larkspur 48", "Larkspur 70", "Larkspur 83",
)  # fmt: skip
VARYING = "Larkspur 48"
SATURATED = "Larkspur 3"
RA_DEG, DEC_DEG = 340.2608333, 38.2122222
SHAPE = (768, 1024)
SCALE = 1.16
EXPOSURE_S = {"V": 60.0, "B": 90.0}
CADENCE_S = 285.0
PAIRS = 60
NIGHTS = (datetime(2026, 10, 12, 19, 40), datetime(2026, 10, 13, 19, 36))
MERIDIAN = datetime(2026, 10, 12, 21, 52)

# Name, V, B − V, east and north of the target in minutes of arc.
_CAST = (
    (TARGET, 12.35, 0.58, 0.0, 0.0),
    (CHECK, 12.55, 0.62, 3.1, -2.2),
    ("Larkspur 12", 11.9, 0.55, -4.2, 1.6),
    ("Larkspur 27", 12.2, 0.66, 2.4, 4.1),
    ("Larkspur 35", 12.7, 0.49, -2.8, -4.0),
    (VARYING, 12.4, 0.6, 5.2, 1.2),
    ("Larkspur 70", 12.1, 0.71, -5.6, -1.5),
    ("Larkspur 83", 12.9, 0.57, 0.8, -5.3),
    (SATURATED, 7.9, 0.9, -6.6, 4.6),
)


class Progress(Protocol):
    """Told how far the writing is."""

    def start(self, words: str, total: int) -> None:
        """A stage with so many frames begins."""

    def advance(self, count: int = 1) -> None:
        """Some frames are written."""


def demo_sky() -> Sky:
    """The invented field of Larkspur 114."""
    rng = np.random.default_rng(SEED)
    cos_dec = np.cos(np.radians(DEC_DEG))
    places = [(RA_DEG + e / 60 / cos_dec, DEC_DEG + n / 60) for *_, e, n in _CAST]
    clear = [(ra, dec, 25.0) for ra, dec in places]
    sky = make_sky(rng, "Larkspur", RA_DEG, DEC_DEG, 1.3, 2600.0, clear_about=clear)
    variations = {
        TARGET: eclipses(julian_day(NIGHTS[0]) + 0.085, 0.3519, (0.62, 0.41), 0.055),
        VARYING: sine(julian_day(NIGHTS[0]), 0.171, 0.035),
    }
    for (name, v, colour, _, _), (ra, dec) in zip(_CAST, places, strict=True):
        add_star(
            sky, rng, name, ra, dec, v, colour,
            known_variable=name == TARGET, variation=variations.get(name),
        )  # fmt: skip
    return sky


def demo_scene() -> Scene:
    """Sky, camera and place of the demo."""
    camera = Camera(SEED, SHAPE, bad_column=617)
    return Scene(demo_sky(), camera, seed=SEED, target=TARGET)


@dataclass
class _NightStyle:
    folder: str
    spelling: Spelling
    wrapping: dict[str, tuple[str, str]]
    dust: dict[str, tuple[Dust, ...]]
    pointing: Pointing


def _styles() -> list[_NightStyle]:
    first = Pointing(RA_DEG, DEC_DEG, SCALE, 92.4, False, SHAPE, 1.2)
    dust_v = Dust(300, 500, 22, 0.06)
    dust_b = Dust(720, 210, 26, 0.05)
    return [
        _NightStyle(
            "night-1",
            spelling_words,
            {"V": ("plain", ".fits"), "B": ("tiled", ".fits.fz")},
            {"V": (dust_v, Dust(820, 600, 18, 0.04)), "B": (dust_b,)},
            first,
        ),
        _NightStyle(
            "night-2",
            spelling_capitals,
            {"V": ("tiled", ".fits.fz"), "B": ("tiled", ".fits.fz")},
            # One grain on the V filter has moved, and a new one has settled on B.
            {"V": (replace(dust_v, x_px=365, y_px=470), Dust(820, 600, 18, 0.04)),
             "B": (dust_b, Dust(410, 330, 20, 0.06))},
            replace(first, rotation_deg=93.1),
        ),
    ]  # fmt: skip


def _transparency(night: int, pair: int) -> float:
    """Clear on the first night; on the second thin cloud comes and goes, and a thick bank."""
    if night == 0:
        return 1.0
    thick = {33: 0.30, 34: 0.12, 35: 0.07, 36: 0.25}
    if pair in thick:
        return thick[pair]
    return 1.0 - 0.1 * max(0.0, float(np.sin(pair / 6.0))) if 20 <= pair <= 50 else 1.0


def demo_shots() -> list[Shot]:
    """All exposures of both nights with their troubles."""
    rng = np.random.default_rng([SEED, 5])
    shots = []
    for night, (start, style) in enumerate(zip(NIGHTS, _styles(), strict=True)):
        walk = np.cumsum(rng.normal([0.06, -0.03], 0.2, (PAIRS, 2)), axis=0)
        for pair in range(PAIRS):
            for name in ("V", "B"):
                moment = start + timedelta(
                    seconds=CADENCE_S * pair
                    + (0.0 if name == "V" else 75.0)
                    + float(rng.uniform(0, 4))
                )
                moment = moment.replace(microsecond=moment.microsecond // 1000 * 1000)
                flipped = moment - timedelta(days=night) > MERIDIAN - timedelta(minutes=4 * night)
                jump = (38.0, -27.0) if night == 1 and pair >= 22 else (0.0, 0.0)
                pointing = drifted(
                    style.pointing, walk[pair, 0] + jump[0], walk[pair, 1] + jump[1], flipped
                )
                wrapping, ending = style.wrapping[name]
                if night == 0 and name == "V" and pair < 6:
                    # A capture program set up in other ways for the first exposures.
                    wrapping = ("extension", "long", "float")[pair % 3]
                seeing = 2.9 + 0.35 * np.sin(pair / 11.0 + night) + float(rng.normal(0, 0.05))
                shots.append(
                    Shot(
                        f"{style.folder}/larkspur-{name}-{pair + 1:03d}{ending}",
                        name,
                        moment,
                        EXPOSURE_S[name],
                        pointing,
                        seeing * (1.06 if name == "B" else 1.0),
                        transparency=_transparency(night, pair),
                        temperature_c=-10.0 + round(float(rng.normal(0, 0.1)), 2),
                        dust=style.dust[name],
                        wrapping=wrapping,
                        spelling=style.spelling,
                        object_name=TARGET,
                    )
                )
    return [_with_trouble(shot) for shot in shots]


def _with_trouble(shot: Shot) -> Shot:
    """The planted troubles of single exposures."""
    name = shot.file.rsplit(".fits", 1)[0]
    x, y = (
        float(value[0]) for value in shot.pointing.pixels(np.array([RA_DEG]), np.array([DEC_DEG]))
    )
    if name == "night-1/larkspur-V-017":
        return replace(
            shot,
            trail=(x + 1, y, 27.0, 3500.0),
            troubles=("trail through the target",),
            expected="set aside",
        )
    if name == "night-1/larkspur-B-041":
        # Passes far from every star of the cast.
        return replace(shot, trail=(60.0, 60.0, 141.0, 3000.0), troubles=("trail elsewhere",))
    if name == "night-1/larkspur-B-029":
        return replace(shot, fwhm_px=9.5, troubles=("out of focus",), expected="set aside")
    if name == "night-2/larkspur-V-011":
        away = replace(shot.pointing, dec_deg=shot.pointing.dec_deg + 0.42)
        return replace(shot, pointing=away, troubles=("wrong field",), expected="set aside")
    if name == "night-2/larkspur-B-015":
        return replace(
            shot, header_kind="dark", troubles=("called a dark in its header",), expected="left out"
        )
    if shot.transparency < 0.4:
        return replace(shot, troubles=("cloud",), expected="set aside")
    if shot.transparency < 0.97:
        return replace(shot, troubles=("thin cloud",))
    return shot


def demo_calibration() -> list[CalibrationShot]:
    """Calibration frames of both nights. No dark of 90 s anywhere, and one dark too warm."""
    shots = []
    for night, style in enumerate(_styles()):
        wrappings = {
            "bias": ("tiled", ".fits.fz"), "dark": ("tiled", ".fits.fz"),
            "flat": ("gzip", ".fits.gz") if night else ("tiled", ".fits.fz"),
        }  # fmt: skip
        shots += calibration_set(
            f"{style.folder}/calibration", NIGHTS[night] - timedelta(hours=2), (60.0,), ("V", "B"),
            dust=style.dust, spelling=spelling_words if night == 0 else spelling_short,
            wrapping=wrappings.__getitem__,
        )  # fmt: skip
    planted = []
    for shot in shots:
        if shot.file.startswith("night-1/calibration/dark-60s-09"):
            shot = replace(shot, temperature_c=-3.6, troubles=("too warm",), expected="calibration")
        if shot.file.startswith("night-1/calibration/flat-B-12"):
            shot = replace(
                shot, header_kind="exposure", troubles=("called an exposure in its header",),
                expected="set aside",
            )  # fmt: skip
        planted.append(shot)
    return planted


_scene: Scene | None = None


def _render(kind: str, shot: Any, folder: Path, number: int) -> dict[str, Any]:
    global _scene
    _scene = _scene or demo_scene()
    act: Callable[..., dict[str, Any]] = _scene.expose if kind == "exposure" else _scene.calibrate
    return act(shot, folder, number)


def write_demo(folder: Path, progress: Progress, workers: int | None = None) -> dict[str, Any]:
    """Write both nights, the catalogue, the plan and the truth into ``folder``; the truth."""
    folder.mkdir(parents=True, exist_ok=True)
    scene = demo_scene()
    calls: list[tuple[str, Any, Path, int]] = [
        ("exposure", shot, folder, n) for n, shot in enumerate(demo_shots())
    ]
    calls += [("calibration", shot, folder, n) for n, shot in enumerate(demo_calibration())]
    truth: dict[str, Any] = {
        "target": TARGET, "check": CHECK, "comparison": list(COMPARISON), "varying": VARYING,
        "saturated": SATURATED, "seed": SEED, "exposures": [], "calibration": [],
    }  # fmt: skip
    count = workers or len(os.sched_getaffinity(0))
    with Processes(count) as pool:
        progress.start("making the demo nights", len(calls))
        made = pool.map(_render, calls, lambda _: progress.advance())
    for call, item in zip(calls, made, strict=True):
        truth["exposures" if call[0] == "exposure" else "calibration"].append(item)
    scene.sky.write_votable(folder / "larkspur.vot")
    truth["other"] = _write_strays(folder)
    truth["stars"] = {
        name: {band: float(m[scene.sky.row(name)]) for band, m in scene.sky.true_mag.items()}
        for name, *_ in _CAST
    }
    (folder / "plan.toml").write_text(_PLAN, encoding="utf-8")
    write_truth(folder / "truth.json", truth)
    return truth


def _write_strays(folder: Path) -> list[dict[str, str]]:
    """Files that should not be there: leftovers, a broken one, a copy, a text file."""
    night = folder / "night-1"
    source = night / "larkspur-V-020.fits"
    data, header = fits.getdata(source, header=True)
    header["HISTORY"] = "dark subtracted, flat divided"
    leftover = night / "old" / "larkspur-V-020-done.fits"
    leftover.parent.mkdir()
    fits.PrimaryHDU(np.asarray(data, np.float32) - 500, header).writeto(leftover)
    raw = (night / "larkspur-V-021.fits").read_bytes()
    (night / "larkspur-V-061.fits").write_bytes(raw[: len(raw) * 3 // 5])
    shutil.copyfile(night / "larkspur-V-030.fits", night / "old" / "copy of 030.fits")
    (night / "notes.txt").write_text("Wind from the north. Flip at ten to ten.\n", encoding="utf-8")
    return [
        {"file": "night-1/old/larkspur-V-020-done.fits", "trouble": "processed leftover"},
        {"file": "night-1/larkspur-V-061.fits", "trouble": "cut short"},
        {"file": "night-1/old/copy of 030.fits", "trouble": "the same file twice"},
        {"file": "night-1/notes.txt", "trouble": "not FITS"},
    ]


_PLAN = f"""# Two nights of an eclipsing star. Paths are relative to this file.

[frames]
folder = ["night-1", "night-2"]

[catalogue]
file = "larkspur.vot"

[site]
latitude_deg = 61.2
longitude_deg = -9.4          # east positive
elevation_m = 140

[kit]
gain_e_per_adu = 1.3
read_noise_e = 7.1
linear_limit_adu = 52000
aperture_m = {APERTURE_M}
scale_arcsec_per_px = {SCALE}

[target]
name = "{TARGET}"
ra = "22 41 02.6"
dec = "+38 12 44"

[cast]
comparison = [{", ".join(f'"{name}"' for name in COMPARISON)}]
check = "{CHECK}"

[output]
folder = "out"
layout = "plain"
"""
