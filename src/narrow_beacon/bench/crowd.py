"""Pairs of stars close together: what is left of one's light in the other's measure, and whether
the uncertainties say so.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.measure.census import Apertures, Image, Places, take_census
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.core.measure.noise import CameraConstants, Exposed
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.core.stars.detect import detect
from narrow_beacon.core.stars.profile import measure_profile
from narrow_beacon.simulate.render import add_stars

_GAIN, _SKY_E, _READ_E = 1.4, 140.0, 6.0
_SIDE, _GRID = 768, 7
_STEP = RADII_FWHM.index(1.6)
_MAG_OF_1E5 = 12.0
AIMS_MAG = {3.5: 0.005, 2.5: 0.015}


@dataclass(frozen=True)
class Pairs:
    """Errors in mag of stars with a neighbour ``gap_fwhm`` away that is ``fainter`` by so much,
    those of stars alone taken off, and in units of the uncertainties; ``raw`` are those where
    nothing is taken off. Arrays run over the frames' stars.
    """

    gap_fwhm: float
    fainter: float
    error_mag: Floats
    pull: Floats
    raw_mag: Floats

    @property
    def bias_mag(self) -> float:
        """The mean error."""
        return float(np.mean(self.error_mag))


def measure_pairs(gap_fwhm: float, fainter: float, frames: int, seed: int = 3) -> Pairs:
    """Pairs over simulated frames of different seeing, at all angles and places in the pixel."""
    rng = np.random.default_rng(seed)
    errors, pulls, raw = [], [], []
    for _ in range(frames):
        fwhm = float(rng.uniform(2.6, 4.5))
        spacing = _SIDE / _GRID
        middle = (np.arange(_GRID) + 0.5) * spacing
        x, y = (v.ravel() + rng.uniform(-3, 3, _GRID**2) for v in np.meshgrid(middle, middle))
        electrons = 10.0 ** rng.uniform(4.6, 5.4, x.size)
        pair = rng.permutation(x.size) < x.size // 2
        angle = rng.uniform(0, 2 * np.pi, x.size)
        also = np.flatnonzero(pair)
        x2, y2 = (
            v[also] + gap_fwhm * fwhm * turn(angle[also])
            for v, turn in ((x, np.cos), (y, np.sin))
        )  # fmt: skip
        more = electrons[also] * 10 ** (-0.4 * fainter)
        light = np.zeros((_SIDE, _SIDE), np.float32)
        places = np.append(x, x2), np.append(y, y2)
        every = np.append(electrons, more)
        add_stars(light, *places, every, fwhm)
        alone = np.zeros_like(light)
        add_stars(alone, x, y, electrons, fwhm)
        noisy = rng.poisson(light + _SKY_E) + rng.normal(0, _READ_E, light.shape)
        known = _MAG_OF_1E5 - 2.5 * np.log10(every / 1e5) + rng.normal(0, 0.05, every.size)
        census = _census(noisy, places, known, fwhm)
        free = _census(alone + np.float32(_SKY_E) + rng.normal(0, 0.1, light.shape), (x, y),
                       known[: x.size], fwhm)  # fmt: skip
        nothing = np.full(every.size, np.nan)
        as_is = _census(noisy, places, nothing, fwhm, only=x.size)
        true = free.counts_adu[:, _STEP]
        own = census.counts_adu[: x.size, _STEP]
        off = -2.5 * np.log10(own / true)
        sigma = 1.0857 * census.uncertainty_adu[: x.size, _STEP] / own
        usual = float(np.median(off[~pair]))
        errors.append(off[pair] - usual)
        pulls.append((off[pair] - usual) / sigma[pair])
        raw.append(-2.5 * np.log10(as_is.counts_adu[: x.size, _STEP] / true)[pair] - usual)
    return Pairs(gap_fwhm, fainter, *(np.concatenate(v) for v in (errors, pulls, raw)))


def _census(image, places, known, fwhm, only=None):  # type: ignore[no-untyped-def]
    pixels = np.asarray(image / _GAIN, np.float32)
    background = measure_background(pixels)
    flags = np.zeros(pixels.shape, np.uint8)
    found = detect(pixels, background, fwhm).stars
    sky, _ = background.at(found.x_px, found.y_px)
    profile = measure_profile(pixels, flags, found, sky, fwhm)
    x, y = (v[:only] for v in places)
    return take_census(
        Image(pixels, flags, background, found, profile),
        Places(np.arange(x.size), x, y, known[:only]),
        Apertures(fwhm, np.array(RADII_FWHM) * fwhm, (3.5 * fwhm, 5.5 * fwhm)),
        Exposed(60.0, 1.2),
        CameraConstants(_GAIN, _READ_E),
    )


def print_crowd() -> bool:
    """Print biases and pulls of pairs; True if the biases are within the aims."""
    print("Pairs of stars: bias of one beside the other, radius 1.6 widths; aim 5 and 15 mmag")
    good = True
    for gap in (5.0, 3.5, 2.5, 1.8, 1.2, 0.8, 0.5):
        for fainter in (1.5, 0.0, -1.5):
            pairs = measure_pairs(gap, fainter, 8)
            aim = AIMS_MAG.get(gap)
            good &= aim is None or fainter < 0 or abs(pairs.bias_mag) < aim
            as_is, scatter = np.mean(pairs.raw_mag), np.std(pairs.error_mag)
            print(
                f"  {gap:g} widths, {fainter:+.1f} mag: {1000 * pairs.bias_mag:+6.1f} mmag "
                f"({1000 * as_is:+.0f} where all is left in), scatter {1000 * scatter:.1f}, "
                f"pull {np.std(pairs.pull):.2f}".replace("-", "−")
            )
    return good
