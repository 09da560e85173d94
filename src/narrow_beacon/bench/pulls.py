"""Are the quoted uncertainties right? Errors of aperture sums in units of them, with every kind of
masters, sky and star; and the exact overlap of circles and pixels.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.measure.aperture import ApertureSums, mask_stars, measure_apertures
from narrow_beacon.core.measure.noise import (
    CameraConstants,
    Exposed,
    Light,
    MastersNoise,
    aperture_uncertainty,
    scintillation,
)
from narrow_beacon.core.measure.overlap import pixel_overlap
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.render import add_rings, add_stars

AIRMASS = 1.4
_DARK_E_PER_S = 0.5
_LEVELS_E = (300.0, 2_000.0, 20_000.0, 200_000.0)


@dataclass(frozen=True)
class Condition:
    """What exposures are taken and corrected with. Numbers of frames of 0: that master is exact."""

    name: str
    exposure_s: float = 60.0
    sky_e: float = 95.0
    fwhm_px: float = 3.0
    ring_px: float = 0.0
    bias: int = 0
    darks: int = 0
    dark_s: float = 60.0
    scaled: bool = False
    flats: int = 0
    flat_e: float = 26_000.0
    aperture_m: float = 0.28
    electrons: tuple[float, ...] = _LEVELS_E

    @property
    def reach_px(self) -> float:
        """Half of the size of a star, about."""
        return max(self.ring_px, self.fwhm_px)

    @property
    def radii_px(self) -> Floats:
        """Radii to measure at."""
        return self.reach_px * np.array([0.7, 1.0, 1.5, 2.0, 3.0])


CONDITIONS = (
    Condition("exact masters"),
    Condition("matched dark of 15", darks=15),
    Condition("scaled dark, k = 0.3", bias=15, darks=15, dark_s=200.0, scaled=True),
    Condition("scaled dark, k = 2", bias=15, darks=15, dark_s=30.0, scaled=True),
    Condition("scaled dark, k = 5", bias=15, darks=15, dark_s=12.0, scaled=True),
    Condition("scaled dark, k = 10", bias=15, darks=15, dark_s=6.0, scaled=True),
    Condition("3 darks", darks=3),
    Condition("3 flats, dim", darks=15, flats=3, flat_e=5_000.0),
    Condition("undersampled, 1.3 px", fwhm_px=1.3, darks=15),
    Condition("far out of focus", ring_px=11.0, darks=15),
    Condition("bright sky", sky_e=20_000.0, darks=15, flats=12),
    Condition(
        "scintillation alone", exposure_s=5.0, aperture_m=0.1, darks=15, dark_s=5.0,
        electrons=(2e5, 4e5),
    ),
)  # fmt: skip


@dataclass(frozen=True)
class Pulls:
    """Scatter and mean of (measured − expected) / σ by brightness class and radius."""

    condition: Condition
    scatter: Floats
    mean: Floats

    @property
    def whole(self) -> float:
        """Scatter over all classes and radii."""
        return float(np.sqrt(np.mean(self.scatter**2)))


class _Bench:
    """A grid of stars under one condition: frames, masters, and what is measured of them."""

    def __init__(self, condition: Condition, seed: int, grid: int) -> None:
        self.condition = condition
        self.spacing = int(15 * condition.reach_px)
        self.shape = (grid * self.spacing, grid * self.spacing)
        self.camera = Camera(
            seed, self.shape, hot_share=0.0, dark_e_per_s=_DARK_E_PER_S, full_adu=1e7,
            linear_limit_adu=1e7,
        )  # fmt: skip
        self.rng = np.random.default_rng(seed)
        middle = self.spacing / 2.0
        self.y, self.x = (
            v.ravel() * self.spacing + middle for v in np.mgrid[0:grid, 0:grid].astype(float)
        )
        levels = condition.electrons
        self.electrons = np.array(levels)[np.arange(self.x.size) % len(levels)]

    def light(self, x: Floats, y: Floats, electrons: Floats) -> np.ndarray:
        """Starlight on the sensor."""
        image = np.zeros(self.shape, np.float32)
        if self.condition.ring_px:
            add_rings(image, x, y, electrons, self.condition.ring_px, self.condition.fwhm_px)
        else:
            add_stars(image, x, y, electrons, self.condition.fwhm_px)
        return image

    def mean_of(self, count: int, light: np.ndarray | None, exposure_s: float) -> np.ndarray:
        """The mean of frames, or of three and four their median, as masters are made."""
        frames = [
            self.camera.read(self.rng, light, exposure_s, cosmic_per_s=0.0).astype(np.float32)
            for _ in range(count)
        ]
        return np.asarray(np.median(frames, axis=0) if count < 5 else np.mean(frames, axis=0))

    def masters(self) -> tuple[np.ndarray, np.ndarray, MastersNoise]:
        """What is taken off, what is divided by, and the noise that both bring."""
        c, camera = self.condition, self.camera
        thermal = camera.dark_rate / camera.gain_e_per_adu
        offset = camera.bias_pattern + thermal * np.float32(c.exposure_s)
        noise = MastersNoise()
        share = {3: 1.35 / 3}.get(c.darks, 1.0 / c.darks if c.darks else 0.0)
        if c.scaled:
            k = c.exposure_s / c.dark_s
            bias = self.mean_of(c.bias, None, 0.0)
            offset = bias + k * (self.mean_of(c.darks, None, c.dark_s) - bias)
            noise = MastersNoise((1 - k) ** 2 / c.bias, k**2 * share, c.dark_s)
        elif c.darks:
            offset = self.mean_of(c.darks, None, c.exposure_s)
            noise = MastersNoise(0.0, share, c.exposure_s)
        flat = camera.response
        if c.flats:
            light = camera.response * np.float32(c.flat_e)
            flat = self.mean_of(c.flats, light, 0.0) - camera.bias_pattern
            flat = flat / np.float32(c.flat_e / camera.gain_e_per_adu)
            spread = 1.35 if c.flats == 3 else 1.0
            noise = replace(noise, flat_adu=c.flats / spread * c.flat_e / camera.gain_e_per_adu)
        return offset, flat, noise

    def pulls(self) -> Floats:
        """(measured − expected) / σ of every star at every radius, on one exposure with masters of
        its own.
        """
        c, camera = self.condition, self.camera
        x, y = (v + self.rng.uniform(-0.5, 0.5, v.size) for v in (self.x, self.y))
        twinkle = scintillation(c.aperture_m, c.exposure_s, AIRMASS, 140.0)
        brighter = 1.0 + self.rng.normal(0, 1, x.size) * twinkle
        clean = self.light(x, y, self.electrons) / np.float32(camera.gain_e_per_adu)
        light = self.light(x, y, self.electrons * brighter) + np.float32(c.sky_e)
        offset, flat, noise = self.masters()
        adu = camera.read(self.rng, light * camera.response, c.exposure_s, cosmic_per_s=0.0)
        image = np.asarray((adu.astype(np.float32) - offset) / flat, np.float32)
        measured, expected = (self.sums(image, x, y), self.sums(clean, x, y))
        constants = CameraConstants(
            camera.gain_e_per_adu, camera.read_noise_e, _DARK_E_PER_S, c.aperture_m, 140.0,
            noise.offset_e(camera.gain_e_per_adu, camera.read_noise_e, _DARK_E_PER_S),
            noise.flat(camera.gain_e_per_adu),
        )  # fmt: skip
        width = 1.13 * c.ring_px if c.ring_px else c.fwhm_px
        truth = Light(
            expected.counts_adu, measured.sky_adu_per_px, measured.ring_pixels, c.radii_px, width,
            np.ones(x.size),
        )  # fmt: skip
        sigma = aperture_uncertainty(truth, Exposed(c.exposure_s, AIRMASS), constants)
        return np.asarray((measured.counts_adu - expected.counts_adu) / sigma)

    def sums(self, image: np.ndarray, x: Floats, y: Floats) -> ApertureSums:
        """Aperture sums of the stars at their true places."""
        reach = self.condition.reach_px
        flags = np.zeros(self.shape, np.uint8)
        mask_stars(flags, x, y, np.full(x.size, 3.0 * reach))
        sky, scatter = measure_background(image).at(x, y)
        ring = (3.5 * reach, 5.5 * reach)
        return measure_apertures(image, flags, x, y, self.condition.radii_px, ring, sky, scatter)


def measure_pulls(condition: Condition, frames: int, seed: int = 8, grid: int = 8) -> Pulls:
    """Pulls of stars of several brightnesses over simulated frames under a condition."""
    bench = _Bench(condition, seed, grid)
    everything = np.stack([bench.pulls() for _ in range(frames)])
    chosen = [everything[:, bench.electrons == level] for level in condition.electrons]
    scatter = np.array([np.sqrt(np.mean(part**2, axis=(0, 1))) for part in chosen])
    mean = np.array([part.mean(axis=(0, 1)) for part in chosen])
    return Pulls(condition, scatter, mean)


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
    """Print pulls and overlaps; True if all pulls of every condition together are within 7% of 1,
    and overlaps within 1e-6.
    """
    print("Pulls of aperture sums: scatter of (measured − expected) / σ; aim 0.93 to 1.07")
    good = True
    for condition in CONDITIONS:
        pulls = measure_pulls(condition, 30, grid=6 if condition.ring_px else 8)
        good &= 0.93 < pulls.whole < 1.07
        print(
            f"  {condition.name:<22} {pulls.whole:.3f}   by brightness and radius "
            f"{np.min(pulls.scatter):.2f} to {np.max(pulls.scatter):.2f}, "
            f"largest mean {np.max(np.abs(pulls.mean)):.2f}"
        )
    overlap = worst_overlap_error()
    print(f"Overlap of circle and pixels: largest error of an area {overlap:.1e} px² (aim 1e-6)")
    return good and overlap < 1e-6
