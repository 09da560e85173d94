"""The least scatter that a star's differential magnitudes can have, from the simulator's truth: its
own photons, sky, dark current, read noise and scintillation in the aperture that was used, and the
same of the comparison stars in the zero points.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.parquet as pq
from numpy.typing import NDArray

from narrow_beacon.core.measure.noise import POGSON
from narrow_beacon.core.measure.overlap import pixel_overlap
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.night import APERTURE_M, ZERO_POINT, Place
from narrow_beacon.simulate.render import add_stars
from narrow_beacon.simulate.sky import Sky

_RING = (3.5, 5.5)
_CLOSE, _FAR = 3.0, 7.0
_CLOSE_MAG, _FAR_MAG = 6.0, 3.5
_BRIGHT_MAG = 0.02
_CLIP = 5.0

Values = NDArray[np.float64]


@dataclass(frozen=True)
class AirAndGlass:
    """What lies between the stars and the sensor: the camera's colour terms, and by filter k′ and
    k″.
    """

    camera: Camera
    colour_terms: Mapping[str, float]
    extinction: Mapping[str, tuple[float, float]]


@dataclass(frozen=True)
class _Shots:
    """Of the exposures of a filter (exposures): what is true of them."""

    airmass: Values
    transparency: Values
    exposure_s: Values
    fwhm_px: Values
    radius_px: Values


def scatter_over_ideal(
    outcome: Outcome, curve: FilterCurve, folder: Path, truth: list[dict[str, Any]], sky: Sky,
    through: AirAndGlass,
) -> Values:  # fmt: skip
    """Of bright stars that stand alone and are on all exposures (stars): the scatter of their
    magnitudes over the ideal. ``truth`` (exposures) is the simulator's of the curve's exposures,
    ``folder`` has the census that was written.
    """
    files = [outcome.night.exposures[i].file for i in curve.indices]
    table = pq.read_table(
        folder / "census.parquet",
        columns=["exposure", "star", "x_px", "y_px", "sky_adu_per_px", "flags", "radius_px",
                 "counts_adu"],
        filters=[("filter", "=", curve.filter)],
    ).to_pydict()  # fmt: skip
    place = {file: at for at, file in enumerate(files)}
    stars = sorted(set(table["star"]))
    column = {name: at for at, name in enumerate(stars)}
    step = curve.choice.step
    shape = (len(files), len(stars))
    counts, x, y, level, radius = (np.full(shape, np.nan) for _ in range(5))
    for n, file in enumerate(table["exposure"]):
        if file in place and not table["flags"][n]:
            cell = place[file], column[table["star"][n]]
            counts[cell], radius[cell] = table["counts_adu"][n][step], table["radius_px"][n][step]
            x[cell], y[cell] = table["x_px"][n] - 1.0, table["y_px"][n] - 1.0
            level[cell] = table["sky_adu_per_px"][n]
    of = {
        name: np.array([one[name] for one in truth], float)
        for name in ("airmass", "transparency", "exposure_s", "fwhm_px")
    }
    shots = _Shots(**of, radius_px=np.nanmedian(radius, axis=1))
    rows = np.array([sky.row(name) for name in stars])
    instrumental, ideal = _true(rows, curve.filter, shots, sky, through, x, y, level)
    comparison = [column[outcome.stars.names[row]] for row in curve.cast.comparison]
    weight = curve.ensemble.weight / curve.ensemble.weight.sum()
    expected_zero = -(instrumental[:, comparison] * weight).sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        seen = -2.5 * np.log10(counts / shots.exposure_s[:, None])
    off = seen + curve.ensemble.zero_point[:, None] - instrumental - expected_zero[:, None]
    spread = np.sqrt(ideal**2 + 1.0 / np.nansum(ideal[:, comparison] ** -2.0, axis=1)[:, None])
    for at, own in enumerate(comparison):
        # Its own light is no part of what it is held against.
        others = np.delete(np.array(comparison), at)
        left = -curve.ensemble.residual_mag[:, at]
        mine = np.delete(weight, at) / np.delete(weight, at).sum()
        model = instrumental[:, own] - (instrumental[:, others] * mine).sum(axis=1)
        zero = (instrumental[:, comparison] * weight).sum(axis=1)
        off[:, own] = left - (model - (instrumental[:, own] - zero))
        spread[:, own] = np.sqrt(
            ideal[:, own] ** 2 + 1.0 / np.nansum(ideal[:, others] ** -2.0, axis=1)
        )
    whole = np.isfinite(off).all(axis=0) & (np.median(spread, axis=0) < _BRIGHT_MAG)
    whole &= _alone(rows, sky, curve.filter, x, y, float(np.median(shots.fwhm_px)))
    whole[column[outcome.stars.names[curve.cast.target]]] = False
    pull = (off - off.mean(axis=0)) / spread
    pull[np.abs(pull) > _CLIP] = np.nan
    return np.asarray(np.sqrt(np.nansum(pull**2, axis=0) / (np.isfinite(pull).sum(axis=0) - 1)))[
        whole
    ]


def _true(
    rows: Any, filter_name: str, shots: _Shots, sky: Sky, through: AirAndGlass,
    x: Values, y: Values, level_adu: Values,
) -> tuple[Values, Values]:  # fmt: skip
    """Instrumental magnitudes without noise, but for a constant, and their ideal scatter in mag,
    both (exposures, stars).
    """
    camera = through.camera
    magnitude = sky.true_mag[filter_name][rows][None, :]
    colour = (sky.true_mag["B"] - sky.true_mag["V"])[rows][None, :]
    first, second = through.extinction[filter_name]
    seen = magnitude - through.colour_terms.get(filter_name, 0.0) * colour
    seen = seen + (first + second * colour) * shots.airmass[:, None]
    seen = seen - 2.5 * np.log10(shots.transparency)[:, None]
    electrons = 10 ** (0.4 * (ZERO_POINT[filter_name] - seen)) * shots.exposure_s[:, None]
    height, width = camera.shape
    ys, xs = np.nan_to_num(np.rint(y)), np.nan_to_num(np.rint(x))
    response = camera.throughput()[
        np.clip(ys, 0, height - 1).astype(int), np.clip(xs, 0, width - 1).astype(int)
    ]
    enclosed = np.array(
        [_enclosed(w, r) for w, r in zip(shots.fwhm_px, shots.radius_px, strict=True)]
    )
    light = electrons * response * enclosed[:, None]
    pixels = np.pi * shots.radius_px**2
    ring = np.pi * (_RING[1] ** 2 - _RING[0] ** 2) * shots.fwhm_px**2
    dark = camera.dark_e_per_s * shots.exposure_s
    a_pixel = level_adu * camera.gain_e_per_adu * response
    a_pixel = a_pixel + (dark + camera.read_noise_e**2 + camera.gain_e_per_adu**2 / 12)[:, None]
    twinkle = (
        1e-5 * 1.5**2 * APERTURE_M ** (-4 / 3) / shots.exposure_s * shots.airmass**3
        * np.exp(-2 * Place().elevation_m / 8000.0)
    )  # fmt: skip
    variance = light + (pixels * (1.0 + pixels / ring))[:, None] * a_pixel
    variance = variance + twinkle[:, None] * light**2
    return seen, POGSON * np.sqrt(variance) / light


def _enclosed(fwhm_px: float, radius_px: float) -> float:
    """The share of a star's light within an aperture."""
    size = 2 * int(np.ceil(radius_px)) + 5
    image = np.zeros((size, size), np.float32)
    middle = size // 2
    add_stars(image, np.array([float(middle)]), np.array([float(middle)]), np.array([1e6]), fwhm_px)
    share = sum(
        pixel_overlap(float(i - middle), float(j - middle), radius_px) * float(image[j, i])
        for j in range(size) for i in range(size)
    )  # fmt: skip
    return share / 1e6


def _alone(
    rows: Any, sky: Sky, filter_name: str, x: Values, y: Values, fwhm_px: float
) -> NDArray[np.bool_]:
    """Whether nothing stands beside a star (stars), on the first exposure on which it is seen."""
    first = np.isfinite(x).argmax(axis=0)
    at = np.arange(rows.size)
    px, py = x[first, at], y[first, at]
    magnitude = sky.true_mag[filter_name][rows]
    found = np.ones(rows.size, bool)
    for n in range(rows.size):
        apart = np.hypot(px - px[n], py - py[n]) / fwhm_px
        fainter = magnitude - magnitude[n]
        beside = ((apart < _CLOSE) & (fainter < _CLOSE_MAG)) | (
            (apart < _FAR) & (fainter < _FAR_MAG)
        )
        beside[n] = False
        found[n] = not beside.any()
    return found
