"""Compile the numerical kernels into their cache, so that the first night does not wait."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from narrow_beacon import __version__

_TIMEOUT_S = 600.0


def warm() -> None:
    """Run a reduction's compiled kernels once on small made-up images, in parts side by side."""
    others = [
        subprocess.Popen([sys.executable, "-m", "narrow_beacon.warm", name]) for name in _PARTS
    ]
    if any([other.wait(_TIMEOUT_S) for other in others]):
        raise RuntimeError("the numerical kernels could not be compiled")


def warm_pixels() -> None:
    """The kernels of masters, correction and view."""
    from astropy.io import fits

    from narrow_beacon.core.correct.apply import Workspace, correct, make_chain
    from narrow_beacon.core.correct.combine import combine
    from narrow_beacon.core.correct.local_median import local_median
    from narrow_beacon.core.frames.fits_file import read_image, read_stored
    from narrow_beacon.core.frames.pyramid import halve, measure_brightness, to_words

    image, _ = _image()
    with tempfile.TemporaryDirectory() as name:
        paths = [Path(name) / f"{kind}.fits" for kind in ("words", "values", "tiles")]
        words = image.round().astype(np.uint16)
        fits.PrimaryHDU(words).writeto(paths[0])
        fits.PrimaryHDU(image.astype(np.float32)).writeto(paths[1])
        fits.CompImageHDU(words, compression_type="RICE_1").writeto(paths[2])
        sources = [read_image(path).source for path in paths]
        read_stored(sources[0])
        combine([sources[0]] * 5, Path(name))
        defects = np.zeros(image.shape, np.uint8)
        defects[50, 50] = 1
        space = Workspace.of_shape(*image.shape)
        for source in sources:
            pixels, _ = correct(source, make_chain(None, None, defects), 7000.0, space)
        to_words(halve(pixels), measure_brightness(pixels))
        local_median(pixels)


def warm_stars() -> None:
    """The kernels of detection and placing."""
    from narrow_beacon.core.place.solve import Solver
    from narrow_beacon.core.stars.trails import find_trails
    from narrow_beacon.reduce.seeing import see

    image, places = _image()
    pixels, flags = image.astype(np.float32), np.zeros(image.shape, np.uint8)
    seen = see(pixels, flags, 3.3)
    find_trails(pixels, seen.found.block_means, seen.background, 3.3)
    x, y = np.ascontiguousarray(places.T)
    Solver(10.0 + x / 3600.0, y / 3600.0).place(x, y, image.shape)


def warm_pixels_and_light() -> None:
    """Both, one after the other: by then what they share with detection was compiled beside them,
    which in a process of its own each would do for itself.
    """
    warm_pixels()
    warm_light()


def warm_light() -> None:
    """The kernels of a census and of zero points."""
    from narrow_beacon.core.correct.apply import DEFECT
    from narrow_beacon.core.measure.census import Apertures, Image, Places, take_census
    from narrow_beacon.core.measure.doubt import odd_growth
    from narrow_beacon.core.measure.noise import CameraConstants, Exposed
    from narrow_beacon.core.stars.background import measure_background
    from narrow_beacon.core.stars.detect import Detections
    from narrow_beacon.core.stars.profile import StarProfile
    from narrow_beacon.core.stars.strikes import mark_strikes

    image, places = _image()
    pixels, flags = image.astype(np.float32), np.zeros(image.shape, np.uint8)
    x, y = np.ascontiguousarray(places.T)
    flags[int(y[0]), int(x[0])] = DEFECT
    light, sky, noise, one = (np.full(x.size, value) for value in (1e4, 300.0, 5.0, 1.0))
    stars = Detections(x, y, light, 50.0 * one, light / 20.0, one, 0.0 * one, 1.4)
    profile, radii = StarProfile(3.3, 3.0, 1.0, 12), np.array([2.0, 4.0, 5.0, 6.0])
    mark_strikes(pixels, flags, x, y, light, sky, noise, 1.0, profile)
    take_census(
        Image(
            pixels, flags, measure_background(pixels), stars, profile,
            flat_gain=np.ones_like(pixels),
        ),
        Places(np.arange(x.size), x, y, np.linspace(10.0, 14.0, x.size)),
        Apertures(3.3, radii, (9.0, 14.0)), Exposed(60.0, 1.2),
        CameraConstants(1.0, 5.0, aperture_m=0.2),
    )  # fmt: skip
    growth = light[:, None] * np.linspace(0.5, 1.0, radii.size)
    odd_growth(growth, np.sqrt(growth), one > 0.0)
    warm_curve()


def warm_curve() -> None:
    """The kernels of zero points, and what the library behind them loads."""
    from narrow_beacon.core.curve.ensemble import Rates, solve_ensemble

    rate = 1e3 * np.linspace(0.9, 1.1, 6)[:, None] + 40.0 * np.sin(np.arange(24.0).reshape(6, 4))
    rates = Rates(rate, 0.001 * rate, np.full(6, 1e-3))
    solve_ensemble(rates, rate > 0.0, np.full(4, 12.0), np.full(4, 0.01))


def _image() -> tuple[np.ndarray, np.ndarray]:
    """Made-up stars and a trail on a noisy sky, and the stars' places."""
    rng = np.random.default_rng(1)
    y, x = np.mgrid[0:200, 0:240].astype(float)
    image = rng.normal(300.0, 5.0, x.shape)
    places = rng.uniform(20, 180, (40, 2))
    for n, (cx, cy) in enumerate(places):
        image += 8000.0 / (n + 1) * np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / 4.0)
    image[100, :] += 60.0
    return image, places


_PARTS = {"stars": warm_stars, "light": warm_pixels_and_light}


def warm_once(var: Path) -> None:
    """``warm`` where this version of program, Python and compiler has not run on this machine."""
    import numba

    made_by = f"{__version__} {sys.version} {numba.__version__}"
    note = var / "kernels-of"
    if not note.exists() or note.read_text() != made_by:
        warm()
        var.mkdir(parents=True, exist_ok=True)
        note.write_text(made_by)


if __name__ == "__main__":
    if sys.argv[1:]:
        _PARTS[sys.argv[1]]()
    else:
        warm()
