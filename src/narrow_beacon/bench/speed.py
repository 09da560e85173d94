"""Time of each step on one exposure over what the machine cannot beat, and a night's throughput.

The floor is reading the bytes and one fused pass of conversion and correction. All figures come
from one run, the steps in turn and each the median of several repeats.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from narrow_beacon.core.correct.apply import Workspace, correct, make_chain
from narrow_beacon.core.frames.fits_file import file_sha256, read_image
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
STARS = 1000
REPEATS = 15


def exposure_steps(folder: Path) -> dict[str, float]:
    """Median seconds of each step for one exposure of 2048 × 2048 with 1,000 stars at 12 radii."""
    rng = np.random.default_rng(3)
    camera = Camera(3, SHAPE)
    pointing = Pointing(120.0, 40.0, 1.2, 31.0, False, SHAPE, 2.0)
    x, y = rng.uniform(5, 2042, STARS), rng.uniform(5, 2042, STARS)
    electrons = 10 ** rng.uniform(3.0, 5.2, STARS)
    ra, dec = (np.asarray(v) for v in pointing.wcs().all_pix2world(x, y, 0))
    light = np.full(SHAPE, 90.0, np.float32)
    add_stars(light, x, y, electrons, 3.0)
    path = folder / "exposure.fits"
    from datetime import datetime

    info = FrameInfo("exposure", "V", datetime(2026, 9, 1, 22), 60.0, -10.0, 120.0, 40.0)
    write_frame(path, camera.read(rng, light, 60.0), spelling_words(info))
    source = read_image(path).source
    # Masters as a night has them: the camera's own bias, dark and flat, its hot pixels marked.
    dark = camera.dark_rate * 60.0 / camera.gain_e_per_adu
    offset = (camera.bias_pattern + dark).astype(np.float32)
    defects = (dark > np.median(dark) + 5.0 * camera.read_noise_e).astype(np.uint8)
    chain = make_chain(offset, camera.throughput(), defects)
    clean = make_chain(offset, camera.throughput(), np.zeros(SHAPE, np.uint8))
    space = Workspace.of_shape(*SHAPE)
    masked = np.zeros(SHAPE, np.uint8)
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
    first = solver.place(stars.x_px, stars.y_px, SHAPE, Hint(120.0, 40.0, 1.0, (1.1, 1.3)), error)
    radii = np.array(RADII_FWHM) * 3.0
    placement = follow(solver, first.solution, stars.x_px, stars.y_px, error)
    assert placement is not None
    solution = placement.solution

    def census() -> None:
        rows, px, py = solver.in_frame(solution)
        take_census(
            Image(pixels, flags, masked, background, stars, profile),
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
    times: dict[str, list[float]] = {name: [] for name in steps}
    for _ in range(REPEATS):
        for name, step in steps.items():
            begin = time.perf_counter()
            step()
            times[name].append(time.perf_counter() - begin)
    return {name: float(np.median(values)) for name, values in times.items()}


def print_steps() -> bool:
    """Print the steps, their sum over the floor and the peak memory; True if within the aim."""
    with tempfile.TemporaryDirectory() as folder:
        steps = exposure_steps(Path(folder))
    floor = steps["floor: read and one pass"]
    total = sum(value for name, value in steps.items() if not name.startswith(("floor", "(")))
    print(
        f"One exposure, {SHAPE[1]} × {SHAPE[0]}, {STARS} stars, {len(RADII_FWHM)} radii, one core"
    )
    for name, value in steps.items():
        print(f"  {name:<26} {1000 * value:7.2f} ms  {value / floor:5.2f} × floor")
    print(
        f"  {'sum of the steps':<26} {1000 * total:7.2f} ms  {total / floor:5.2f} × floor (aim 8)"
    )
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"  peak memory of this process {peak:.0f} MB")
    return total / floor <= 8.0


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


def print_throughput() -> bool:
    """Print the throughput of a night on two workers over one; True if within the aim of 1.8."""
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
        words = f"{seconds:6.1f} s, {exposures / seconds:5.2f} exposures a second"
        memory = f"peak memory {own:.0f} MB" + (f", {child:.0f} MB a worker" if workers > 1 else "")
        print(f"  {workers} worker{'s' if workers > 1 else ' '}: {words}, {memory}")
    same = outputs[1] == outputs[2]
    print(
        f"  throughput of two over one: {ratio:.2f} (aim 1.8); "
        f"same numbers: {'yes' if same else 'NO'}"
    )
    return ratio >= 1.8 and same
