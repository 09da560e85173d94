"""Time of each step on one exposure over what the machine cannot beat, and a night's throughput.

The floor is reading the bytes and one fused pass of conversion and correction. All figures come
from one run, the steps in turn and each the median of several repeats.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np

from narrow_beacon.bench.figures import FIGURES, Figure
from narrow_beacon.core.correct.apply import Workspace, correct, make_chain
from narrow_beacon.core.frames.fits_file import file_sha256, read_image, read_words
from narrow_beacon.core.measure.census import Apertures, Image, Places, take_census
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.core.measure.noise import CameraConstants, Exposed
from narrow_beacon.core.place.follow import follow
from narrow_beacon.core.place.solve import Hint, Solver
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.core.stars.detect import detect
from narrow_beacon.core.stars.profile import measure_profile, total_light
from narrow_beacon.core.stars.strikes import mark_strikes
from narrow_beacon.core.stars.trails import find_trails
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.headers import FrameInfo, spelling_words, write_frame
from narrow_beacon.simulate.pointing import Pointing
from narrow_beacon.simulate.render import add_stars

SHAPE = (2048, 2048)
REPEATS = 15
_FRAMES = 50
_COUNTS = (20, 100, 1000, 5000)
_IMPORTS = "import narrow_beacon.cli, narrow_beacon.reduce.run, narrow_beacon.plan"


@dataclass(frozen=True)
class Case:
    """An exposure that is timed: how large, with how many stars, and how it is stored."""

    name: str
    shape: tuple[int, int]
    stars: int
    wrapping: str = "plain"
    aim_floors: float | None = None
    aim_ms: float | None = None


CASES = (
    Case("2048 × 2048, 1,000 stars", (2048, 2048), 1000, aim_floors=4.0),
    Case("2048 × 2048, tile-compressed", (2048, 2048), 1000, "tiled"),
    Case("4096 × 4096, 5,000 stars", (4096, 4096), 5000, aim_floors=5.0),
    Case("512 × 512, 300 stars", (512, 512), 300, aim_ms=12.0),
)


def exposure_steps(folder: Path, case: Case = CASES[0]) -> dict[str, float]:
    """Median seconds of each step for one exposure at 12 radii."""
    steps = _steps(folder, case)
    times: dict[str, list[float]] = {name: [] for name in steps}
    for _ in range(REPEATS):
        for name, step in steps.items():
            begin = time.perf_counter()
            step()
            times[name].append(time.perf_counter() - begin)
    return {name: float(np.median(values)) for name, values in times.items()}


def _steps(folder: Path, case: Case) -> dict[str, Callable[[], object]]:
    rng = np.random.default_rng(3)
    height, width = case.shape
    camera = Camera(3, case.shape)
    pointing = Pointing(120.0, 40.0, 1.2, 31.0, False, case.shape, 2.0)
    x, y = rng.uniform(5, width - 6, case.stars), rng.uniform(5, height - 6, case.stars)
    electrons = 10 ** rng.uniform(3.0, 5.2, case.stars)
    ra, dec = (np.asarray(v) for v in pointing.wcs().all_pix2world(x, y, 0))
    light = np.full(case.shape, 90.0, np.float32)
    add_stars(light, x, y, electrons, 3.0)
    path = folder / "exposure.fits"
    info = FrameInfo("exposure", "V", datetime(2026, 9, 1, 22), 60.0, -10.0, 120.0, 40.0)
    write_frame(path, camera.read(rng, light, 60.0), spelling_words(info), case.wrapping)
    source = read_image(path).source
    # Masters as a night has them: the camera's own bias, dark and flat, its hot pixels marked.
    dark = camera.dark_rate * 60.0 / camera.gain_e_per_adu
    offset = (camera.bias_pattern + dark).astype(np.float32)
    defects = (dark > np.median(dark) + 5.0 * camera.read_noise_e).astype(np.uint8)
    chain = make_chain(offset, camera.throughput(), defects)
    clean = make_chain(offset, camera.throughput(), np.zeros(case.shape, np.uint8))
    space = Workspace.of_shape(height, width)
    order = np.argsort(-electrons)
    solver = Solver(ra[order], dec[order])
    magnitudes = -2.5 * np.log10(electrons[order])
    noise = CameraConstants(1.3, 7.1, 0.05, 0.28, 100.0, 1.8, 0.001)

    pixels, flags = correct(source, chain, 52000.0, space)
    background = measure_background(pixels)
    found = detect(pixels, background, 3.0)
    stars = found.stars
    sky, pixel_noise = background.at(stars.x_px, stars.y_px)
    profile = measure_profile(pixels, flags, stars, sky, 3.0)
    assert profile is not None
    sure = stars.snr > 15.0
    error = stars.position_error_px(3.0)
    first = solver.place(
        stars.x_px, stars.y_px, case.shape, Hint(120.0, 40.0, 1.0, (1.1, 1.3)), error
    )
    radii = np.array(RADII_FWHM) * 3.0
    placement = follow(solver, first.solution, stars.x_px, stars.y_px, error)
    assert placement is not None
    solution = placement.solution

    def census() -> None:
        rows, px, py = solver.in_frame(solution)
        take_census(
            Image(pixels, flags, background, stars, profile),
            Places(rows, px, py, magnitudes[rows]), Apertures(3.0, radii, (10.5, 16.5)),
            Exposed(60.0, 1.2), noise,
        )  # fmt: skip

    steps: dict[str, Callable[[], object]] = {
        "floor: read and one pass": lambda: correct(source, clean, 1e9, space),
        "read and correct": lambda: correct(source, chain, 52000.0, space),
        "background": lambda: measure_background(pixels),
        "find stars": lambda: detect(pixels, background, 3.0),
        "star width": lambda: measure_profile(pixels, flags, stars, sky, 3.0),
        "place": lambda: follow(solver, first.solution, stars.x_px, stars.y_px, error),
        "cosmic rays": lambda: mark_strikes(
            pixels,
            flags,
            stars.x_px[sure],
            stars.y_px[sure],
            total_light(stars, profile)[sure],
            sky[sure],
            pixel_noise[sure],
            1.3,
            profile,
        ),
        "trails": lambda: find_trails(pixels, found.block_means, background, 3.0),
        "census": census,
        "(header, once)": lambda: read_image(path),
        "(SHA-256, once)": lambda: file_sha256(path),
    }
    return steps


def print_steps() -> bool:
    """Print the steps of every case, their sum over the floor; True if within the aims."""
    for case in CASES:
        print(f"One exposure, {case.name}, {len(RADII_FWHM)} radii, one core")
        with tempfile.TemporaryDirectory() as folder:
            steps = exposure_steps(Path(folder), case)
        floor = 1000.0 * steps["floor: read and one pass"]
        for name, value in steps.items():
            FIGURES.add(Figure("speed", name, 1000.0 * value, "ms", floor))
        own = [name for name in steps if not name.startswith(("floor", "("))]
        total = 1000.0 * sum(steps[name] for name in own)
        aim = case.aim_ms if case.aim_floors is None else case.aim_floors * floor
        FIGURES.add(Figure("speed", f"sum, {case.name}", total, "ms", floor, aim))
    return FIGURES.met("speed")


def print_masters() -> bool:
    """Print what a master of 50 frames costs over reading them once."""
    from narrow_beacon.core.correct.masters import build_master
    from narrow_beacon.core.frames.frame import Frame, TimeRule
    from narrow_beacon.core.frames.sort import inspect_file

    print("A master of 50 bias frames of 2048 × 2048, one core")
    with tempfile.TemporaryDirectory() as name:
        folder, camera, rng = Path(name), Camera(4, SHAPE), np.random.default_rng(5)
        dark = np.zeros(SHAPE, np.float32)
        for number in range(_FRAMES):
            info = FrameInfo("bias", "", datetime(2026, 9, 1, 20), 0.0, -10.0)
            adu = camera.read(rng, dark, 0.0, cosmic_per_s=0.0)
            write_frame(folder / f"bias-{number:02d}.fits", adu, spelling_words(info))
        paths = sorted(folder.glob("*.fits"))
        found = [inspect_file(path, path.name, None, TimeRule()) for path in paths]
        frames = [one for one in found if isinstance(one, Frame)]
        pixels = np.empty(SHAPE, np.uint16)
        reading, building = [], []
        for _ in range(3):
            begin = time.perf_counter()
            for frame in frames:
                read_words(frame.source, pixels)
            middle = time.perf_counter()
            build_master(frames, folder)
            reading.append(middle - begin)
            building.append(time.perf_counter() - middle)
    floor = 1000.0 * min(reading)
    FIGURES.add(Figure("masters", "reading them once", floor, "ms"))
    FIGURES.add(Figure("masters", "the master", 1000.0 * min(building), "ms", floor))
    return FIGURES.met("masters")


def print_start() -> bool:
    """Print how long one small exposure takes from command to result, and the command's start."""
    from narrow_beacon.simulate.plain import write_plain_night

    print("One exposure of 512 × 512, from command to result")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_plain_night(folder, 6, exposures=1, shape=(512, 512), calibration=5)
        command = [sys.executable, "-m", "narrow_beacon.cli"]
        for words, arguments, aim in (
            ("start-up (imports of a reduction)", ["-c", _IMPORTS], 1.0),
            ("from command to result", None, 2.5),
        ):
            call = [sys.executable, *arguments] if arguments else [
                *command, "reduce", str(folder / "plan.toml"), "--workers", "1"
            ]  # fmt: skip
            took = []
            for _ in range(5):
                begin = time.perf_counter()
                subprocess.run(call, capture_output=True, check=False)
                took.append(time.perf_counter() - begin)
            FIGURES.add(Figure("start", words, float(np.median(took)), "s", aim=aim))
    return FIGURES.met("start")


def print_growth() -> bool:
    """Print what an exposure costs in nights of more and more of them, on one worker."""
    from narrow_beacon.simulate.plain import write_plain_night

    print("Exposures of 512 × 512 in nights of more and more of them, one worker")
    costs = {}
    for count in _COUNTS:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            write_plain_night(
                folder, 7, exposures=count, shape=(512, 512), calibration=5, cadence_s=5.0,
                exposure_s=4.0,
            )  # fmt: skip
            done = subprocess.run(
                [sys.executable, "-c", _NIGHT, str(folder / "plan.toml"), "1"],
                capture_output=True, text=True, check=True,
            )  # fmt: skip
            seconds, own, _ = (float(word) for word in done.stdout.split())
        costs[count] = 1000.0 * seconds / count
        FIGURES.add(Figure("growth", f"{count:,} exposures, each", costs[count], "ms"))
        FIGURES.add(Figure("growth", f"{count:,} exposures, peak memory", own, "MB"))
    over = costs[_COUNTS[-1]] / costs[_COUNTS[1]]
    words = f"an exposure of {_COUNTS[-1]:,} over one of {_COUNTS[1]:,}"
    FIGURES.add(Figure("growth", words, over, "times", aim=1.1))
    return FIGURES.met("growth")


_NIGHT = """
import resource, sys, time
from pathlib import Path
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
plan = read_plan(Path(sys.argv[1]))
begin = time.perf_counter()
reduce_plan(plan, int(sys.argv[2]))
seconds = time.perf_counter() - begin
own = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
child = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
print(seconds, own / 1024, child / 1024)
"""


_ARITHMETIC = """
import hashlib, time
block = bytes(32_000_000)
begin = time.perf_counter()
for _ in range(16):
    hashlib.sha256(block).digest()
print(time.perf_counter() - begin)
"""


def _both_cores() -> float:
    """How much more two processes of plain arithmetic get done than one: what the machine gives."""
    ratios = []
    for _ in range(3):
        took = []
        for count in (1, 2):
            ran = [
                subprocess.Popen([sys.executable, "-c", _ARITHMETIC], stdout=subprocess.PIPE)
                for _ in range(count)
            ]
            took.append(max(float(process.communicate()[0]) for process in ran))
        ratios.append(2.0 * took[0] / took[1])
    return float(np.median(ratios))


def print_throughput() -> bool:
    """Print the throughput of a night on two workers over one, beside what the machine gives to
    two; True if within the aim.
    """
    from narrow_beacon.simulate.plain import write_plain_night

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        exposures = 200
        write_plain_night(
            folder,
            5,
            exposures=exposures,
            shape=SHAPE,
            calibration=12,
            density=2000.0,
            cadence_s=90.0,
        )
        results: dict[int, tuple[float, float, float]] = {}
        outputs: dict[int, bytes] = {}
        for workers in (1, 2, 1, 2):
            done = subprocess.run(
                [sys.executable, "-c", _NIGHT, str(folder / "plan.toml"), str(workers)],
                capture_output=True, text=True, check=True,
            )  # fmt: skip
            seconds, own, child = (float(word) for word in done.stdout.split())
            before = results.get(workers, (np.inf, 0.0, 0.0))
            results[workers] = min(before, (seconds, own, child))
            outputs[workers] = (folder / "out" / "light_curve.csv").read_bytes()
    ratio = results[1][0] / results[2][0]
    print(f"A night of {exposures} exposures of {SHAPE[1]} × {SHAPE[0]} with 36 calibration frames")
    for workers, (seconds, own, child) in results.items():
        some = f"{workers} worker{'s' if workers > 1 else ''}"
        FIGURES.add(Figure("night", f"{some}, exposures a second", exposures / seconds, "1/s"))
        FIGURES.add(Figure("night", f"{some}, peak memory", own, "MB"))
        if workers > 1:
            FIGURES.add(Figure("night", "peak memory of a worker", child, "MB", aim=350.0))
    FIGURES.add(Figure("night", "two over one", ratio, "times", aim=1.85, least=True))
    FIGURES.add(Figure("night", "the same of SHA-256 alone", _both_cores(), "times"))
    same = outputs[1] == outputs[2]
    print(f"  same numbers: {'yes' if same else 'NO'}")
    return FIGURES.met("night") and same
