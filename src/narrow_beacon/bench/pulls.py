"""Are the quoted uncertainties right? Errors of aperture sums in units of them, and the exact
overlap of circles and pixels.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.measure.aperture import mask_stars, measure_apertures
from narrow_beacon.core.measure.noise import CameraConstants, aperture_uncertainty, scintillation
from narrow_beacon.core.measure.overlap import pixel_overlap
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.render import add_stars

RADII_PX = np.array([2.0, 3.0, 4.5, 6.0, 9.0])
ANNULUS_PX = (10.5, 16.5)
EXPOSURE_S = 60.0
AIRMASS = 1.4


@dataclass(frozen=True)
class Pulls:
    """Scatter and mean of (measured − expected) / σ by brightness class and radius."""

    electrons: tuple[float, ...]
    scatter: np.ndarray
    mean: np.ndarray


def measure_pulls(frames: int, seed: int = 8, grid: int = 8) -> Pulls:
    """Pulls of stars of five brightnesses over simulated frames, noise of every kind included."""
    rng = np.random.default_rng(seed)
    spacing = 44
    shape = (grid * spacing, grid * spacing)
    camera = Camera(seed, shape, hot_share=0.0)
    constants = CameraConstants(1.3, 7.1, 0.06, 0.28, 140.0, None)
    levels = (300.0, 2_000.0, 20_000.0, 200_000.0, 1_000_000.0)
    y, x = (v.ravel() * spacing + spacing / 2.0 for v in np.mgrid[0:grid, 0:grid].astype(float))
    electrons = np.array(levels)[np.arange(x.size) % len(levels)]
    flags = np.zeros(shape, np.uint8)
    masked = np.zeros(shape, np.uint8)
    pulls = []
    for _ in range(frames):
        px, py = x + rng.uniform(-0.5, 0.5, x.size), y + rng.uniform(-0.5, 0.5, x.size)
        clean = np.zeros(shape, np.float32)
        add_stars(clean, px, py, electrons, 3.0)
        twinkle = 1.0 + rng.normal(0, 1, x.size) * scintillation(0.28, EXPOSURE_S, AIRMASS, 140.0)
        light = np.full(shape, 95.0, np.float32)
        add_stars(light, px, py, electrons * twinkle, 3.0)
        adu = camera.read(rng, light, EXPOSURE_S, cosmic_per_s=0.0).astype(np.float32)
        adu -= camera.bias_pattern + camera.dark_rate * (EXPOSURE_S / camera.gain_e_per_adu)
        mask_stars(flags, masked, px, py, np.full(px.size, 9.0))
        sums = []
        for image in (adu, clean / camera.gain_e_per_adu):
            background = measure_background(image)
            sky, noise = background.at(px, py)
            sums.append(
                measure_apertures(image, flags, masked, px, py, RADII_PX, ANNULUS_PX, sky, noise)
            )
        measured, expected = sums
        sigma = aperture_uncertainty(
            expected.counts_adu, measured.sky_adu_per_px, measured.ring_pixels, RADII_PX,
            EXPOSURE_S, AIRMASS, constants,
        )  # fmt: skip
        pulls.append((measured.counts_adu - expected.counts_adu) / sigma)
    everything = np.stack(pulls)
    chosen = [everything[:, electrons == level] for level in levels]
    scatter = np.array([np.sqrt(np.mean(part**2, axis=(0, 1))) for part in chosen])
    mean = np.array([part.mean(axis=(0, 1)) for part in chosen])
    return Pulls(levels, scatter, mean)


def worst_overlap_error() -> float:
    """Largest error of summed overlaps against πr², and of single pixels against fine sampling."""
    rng = np.random.default_rng(2)
    worst = 0.0
    for radius in (0.3, 0.5, 0.9, 1.5, 2.0, 4.7, 9.6, 25.0):
        x, y = rng.uniform(-0.5, 0.5, 2)
        span = range(-int(radius) - 2, int(radius) + 3)
        total = sum(pixel_overlap(i - x, j - y, radius) for i in span for j in span)
        worst = max(worst, abs(total - np.pi * radius**2))
    return worst


def print_pulls() -> bool:
    """Print pulls and overlaps; True if pulls are within 10% of 1 and overlaps within 1e-6."""
    pulls = measure_pulls(300)
    print("Pulls of aperture sums: scatter of (measured − expected) / σ; aim 0.9 to 1.1")
    print("  electrons   " + "".join(f"{radius:>8.1f} px" for radius in RADII_PX))
    for level, row in zip(pulls.electrons, pulls.scatter, strict=True):
        print(f"  {level:>9.0f}   " + "".join(f"{value:>11.3f}" for value in row))
    print(f"  largest mean pull {np.abs(pulls.mean).max():.3f}")
    overlap = worst_overlap_error()
    print(f"Overlap of circle and pixels: largest error of an area {overlap:.1e} px² (aim 1e-6)")
    good = bool(np.all((pulls.scatter > 0.9) & (pulls.scatter < 1.1)))
    return good and overlap < 1e-6
