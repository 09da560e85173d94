"""Shared builders: made-up frames, images and catalogues with known truth."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import numpy as np
from astropy.io import fits

from narrow_beacon.core.catalogue.table import Band, StarTable
from narrow_beacon.core.frames.fits_file import FitsImage, PixelSource
from narrow_beacon.core.frames.frame import Frame, RawFile, TimeRule
from narrow_beacon.core.frames.header import FrameFacts, interpret
from narrow_beacon.core.frames.sort import inspect_file
from narrow_beacon.core.measure.collection import FilterCensus
from narrow_beacon.core.measure.noise import POGSON
from narrow_beacon.simulate.headers import FrameInfo, spelling_words, write_frame
from narrow_beacon.simulate.render import add_stars

EVENING = datetime(2026, 10, 12, 20, 30)


def write_simple(
    path: Path,
    adu: np.ndarray,
    kind: str = "exposure",
    *,
    exposure_s: float = 60.0,
    filter_name: str | None = "V",
    temperature_c: float = -10.0,
    start: datetime = EVENING,
    wrapping: str = "plain",
    **cards: object,
) -> Path:
    """Write a frame with a usual header; ``cards`` change or (None) remove keywords."""
    header = spelling_words(
        FrameInfo(kind, filter_name, start, exposure_s, temperature_c, 340.0, 38.0)
    )
    for key, value in cards.items():
        name = key.replace("_", "-")
        if value is None:
            header.remove(name, ignore_missing=True)
        elif name == "HISTORY":
            header.add_history(str(value))
        else:
            header[name] = value
    write_frame(path, adu, header, wrapping)
    return path


def facts_of(
    cards: Mapping[str, object] | None = None, shape: tuple[int, int] = (48, 64), **more: object
) -> FrameFacts:
    """The facts of a header of just these cards ("_" for "-" in ``more``), over an image."""
    source = PixelSource(Path("a.fits"), 0, 0, *shape, 16, 1.0, 32768.0, None)
    plain = {**(cards or {}), **{key.replace("_", "-"): value for key, value in more.items()}}
    return interpret(FitsImage(plain, (), source))  # type: ignore[arg-type]


def raw_of(facts: FrameFacts, shape: tuple[int, int] = (48, 64)) -> RawFile:
    """A file that says just this."""
    source = PixelSource(Path("a.fits"), 0, 0, *shape, 16, 1.0, 32768.0, None)
    return RawFile("a.fits", "0", source, facts, "")


def frame_of(path: Path, rule: TimeRule | None = None) -> Frame:
    """The inspected frame of a file that is expected to be good."""
    item = inspect_file(path, path.name, None, rule or TimeRule())
    assert isinstance(item, Frame), item
    return item


def frame(tmp_path: Path, adu: np.ndarray, kind: str = "exposure", **facts: object) -> Frame:
    """Write and inspect a frame in one go, under a name of its own."""
    number = len(list(tmp_path.glob("*.fits")))
    return frame_of(write_simple(tmp_path / f"{kind}-{number}.fits", adu, kind, **facts))  # type: ignore[arg-type]


def noise(shape: tuple[int, int], level: float, sigma: float, seed: int = 0) -> np.ndarray:
    """Gaussian noise about a level, float32."""
    return np.random.default_rng(seed).normal(level, sigma, shape).astype(np.float32)


def star_image(
    shape: tuple[int, int],
    x: np.ndarray,
    y: np.ndarray,
    flux: np.ndarray,
    *,
    fwhm: float = 3.0,
    sky: float = 200.0,
    sigma: float = 8.0,
    seed: int = 0,
) -> np.ndarray:
    """An image of Moffat stars over a noisy sky, in ADU; photon noise at a gain of 1."""
    rng = np.random.default_rng(seed)
    light = np.zeros(shape, np.float32)
    add_stars(light, np.asarray(x, float), np.asarray(y, float), np.asarray(flux, float), fwhm)
    stars = rng.poisson(light).astype(np.float32)
    return stars + rng.normal(sky, sigma, shape).astype(np.float32)


def scattered(
    count: int, shape: tuple[int, int], seed: int = 1, gap: float = 14.0
) -> tuple[np.ndarray, np.ndarray]:
    """Positions at least ``gap`` pixels apart and 20 pixels from the edge."""
    rng = np.random.default_rng(seed)
    kept: list[tuple[float, float]] = []
    while len(kept) < count:
        x, y = rng.uniform(20, shape[1] - 20), rng.uniform(20, shape[0] - 20)
        if all((x - a) ** 2 + (y - b) ** 2 > gap**2 for a, b in kept):
            kept.append((x, y))
    return np.array([x for x, _ in kept]), np.array([y for _, y in kept])


def star_table(
    count: int = 5, *, magnitude: np.ndarray | None = None, **changes: object
) -> StarTable:
    """A small catalogue; ``changes`` replace fields."""
    v = np.linspace(11.0, 13.0, count) if magnitude is None else magnitude
    fields = {
        "names": tuple(f"Sorrel {n + 1}" for n in range(count)),
        "ra_deg": 340.0 + np.arange(count) * 0.02,
        "dec_deg": np.full(count, 38.0),
        "pm_ra_mas_yr": np.zeros(count),
        "pm_dec_mas_yr": np.zeros(count),
        "epoch_yr": 2016.0,
        "bands": {
            "B": Band(v + 0.6, np.full(count, 0.01)),
            "V": Band(v, np.full(count, 0.01)),
        },
        "known_variable": np.zeros(count, bool),
    }
    return StarTable(**{**fields, **changes})  # type: ignore[arg-type]


def header_of(**cards: object) -> fits.Header:
    """A header of just these cards."""
    header = fits.Header()
    for key, value in cards.items():
        header[key.replace("_", "-")] = value
    return header


def filter_census(
    magnitude: np.ndarray, sigma_mag: np.ndarray, *, exposure_s: float = 60.0, **changes: np.ndarray
) -> FilterCensus:
    """The census of instrumental magnitudes (exposures, stars) with their noise, at one radius and
    with nothing to flag; ``changes`` replace fields.
    """
    exposures, stars = magnitude.shape
    counts = (exposure_s * 10 ** (-0.4 * magnitude))[:, :, None]
    nothing = np.zeros_like(counts)
    made = FilterCensus(
        np.arange(stars), np.full(exposures, exposure_s), np.full((exposures, 1), 5.0), counts,
        counts * np.broadcast_to(sigma_mag, magnitude.shape)[:, :, None] / POGSON,
        np.zeros(counts.shape, np.uint16), nothing, nothing,
        np.tile([1e9, 1.0], (exposures, 1)),
    )  # fmt: skip
    return replace(made, **changes)
