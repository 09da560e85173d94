"""Compile the numerical kernels into their cache, so that the first night does not wait."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np


def warm() -> None:
    """Run every compiled kernel once on a small made-up image."""
    from astropy.io import fits

    from narrow_beacon.core.correct.apply import Workspace, correct, make_chain
    from narrow_beacon.core.correct.combine import combine
    from narrow_beacon.core.frames.fits_file import read_image
    from narrow_beacon.core.frames.pyramid import halve, measure_brightness, to_words
    from narrow_beacon.core.measure.aperture import mask_stars, measure_apertures
    from narrow_beacon.core.place.solve import Solver
    from narrow_beacon.core.stars.trails import find_trails
    from narrow_beacon.reduce.tasks import see

    rng = np.random.default_rng(1)
    y, x = np.mgrid[0:200, 0:240].astype(float)
    image = rng.normal(300.0, 5.0, x.shape)
    places = rng.uniform(20, 180, (40, 2))
    for n, (cx, cy) in enumerate(places):
        image += 8000.0 / (n + 1) * np.exp(-((x - cx) ** 2 + (y - cy) ** 2) / 4.0)
    image[100, :] += 60.0
    with tempfile.TemporaryDirectory() as name:
        paths = [Path(name) / f"{kind}.fits" for kind in ("words", "values")]
        fits.PrimaryHDU(image.round().astype(np.uint16)).writeto(paths[0])
        fits.PrimaryHDU(image.astype(np.float32)).writeto(paths[1])
        sources = [read_image(path).source for path in paths]
        combine([sources[0]] * 5, Path(name))
        defects = np.zeros(image.shape, np.uint8)
        defects[50, 50] = 1
        space = Workspace.of_shape(*image.shape)
        for source in sources:
            pixels, flags = correct(source, make_chain(None, None, defects), 7000.0, space)
        to_words(halve(pixels), measure_brightness(pixels))
        seen = see(pixels, flags, 3.3)
        find_trails(pixels, seen.found.block_means, seen.background, 3.3)
        masked = np.zeros_like(flags)
        stars = seen.stars
        mask_stars(flags, masked, stars.x_px, stars.y_px, np.full(len(stars), 4.0))
        measure_apertures(
            pixels,
            flags,
            masked,
            stars.x_px,
            stars.y_px,
            np.array([2.0, 4.0]),
            (6.0, 9.0),
            *seen.background.at(stars.x_px, stars.y_px),
        )
        ra, dec = 10.0 + places[:, 0] / 3600.0, places[:, 1] / 3600.0
        Solver(ra, dec).place(places[:, 0], places[:, 1], image.shape)


if __name__ == "__main__":
    warm()
