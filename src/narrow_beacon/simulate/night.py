"""Nights: what was exposed when, with which troubles, rendered to raw files, and the truth."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
from astropy.io import fits

from narrow_beacon.simulate.camera import Camera, Dust
from narrow_beacon.simulate.headers import FrameInfo, Spelling, spelling_words, write_frame
from narrow_beacon.simulate.pointing import Pointing, airmass_at, altitude_deg
from narrow_beacon.simulate.render import add_rings, add_stars, add_trail, shadow
from narrow_beacon.simulate.sky import Sky

ZERO_POINT = {"V": 20.9, "B": 20.6, "R": 20.8}
"""Magnitude that gives one electron a second outside the atmosphere."""
SKY_MAG = {"V": 20.4, "B": 21.0, "R": 20.1}
EXTINCTION = {"V": (0.16, 0.0), "B": (0.28, -0.02), "R": (0.11, 0.0)}
"""First-order extinction, and its change with B − V."""
CHANNEL_BANDS = {"R": "R", "G": "V", "B": "B"}
"""What the colours of a colour sensor see: here just the standard bands."""
APERTURE_M = 0.28
_MARGIN_PX = 60.0


@dataclass(frozen=True)
class Place:
    """Latitude and longitude (east positive) in degrees, elevation in metres."""

    latitude_deg: float = 61.2
    longitude_deg: float = -9.4
    elevation_m: float = 140.0


@dataclass(frozen=True)
class Shot:
    """One exposure of the sky to be simulated, troubles and all."""

    file: str
    filter: str
    start_utc: datetime
    exposure_s: float
    pointing: Pointing
    fwhm_px: float
    ring_px: float = 0.0
    """Outer radius of stars far out of focus; 0 in focus."""
    transparency: float = 1.0
    trail: tuple[float, float, float, float] | None = None
    """x, y of a point on it (0-based), angle in degrees, electrons a pixel of length."""
    sky: float = 1.0
    """Light of the sky over that of a dark one."""
    streak: tuple[tuple[float, float], ...] = ((0.0, 0.0),)
    """Where the stars stood, in pixels from their places, for equal shares of the time."""
    shade: tuple[float, float] | None = None
    """Something before the frame: the direction from its middle in degrees, and how far from the
    middle it begins in halves of the short side."""
    strikes: tuple[tuple[float, float, float], ...] = ()
    """Cosmic rays: x, y (0-based) and electrons."""
    temperature_c: float = -10.0
    dust: tuple[Dust, ...] = ()
    header_kind: str = "exposure"
    wrapping: str = "plain"
    troubles: tuple[str, ...] = ()
    expected: str = "measured"
    spelling: Spelling = spelling_words
    object_name: str = ""


@dataclass(frozen=True)
class CalibrationShot:
    """One calibration frame to be simulated; flats have a level in ADU above the bias."""

    file: str
    kind: str
    start_utc: datetime
    exposure_s: float = 0.0
    filter: str | None = None
    level_adu: float = 0.0
    temperature_c: float = -10.0
    dust: tuple[Dust, ...] = ()
    header_kind: str | None = None
    wrapping: str = "plain"
    troubles: tuple[str, ...] = ()
    expected: str = "calibration"
    spelling: Spelling = spelling_words


@dataclass
class Scene:
    """A sky, a camera and a place; renders shots into a folder."""

    sky: Sky
    camera: Camera
    place: Place = field(default_factory=Place)
    seed: int = 1
    target: str = ""
    colour_terms: Mapping[str, float] = field(default_factory=dict)
    """By filter, what a star of B − V larger by 1 seems brighter by than in the standard band."""
    extinction: Mapping[str, tuple[float, float]] = field(default_factory=lambda: EXTINCTION)

    def expose(self, shot: Shot, folder: Path, number: int) -> dict[str, Any]:
        """Render an exposure to its file and return the truth of it."""
        rng = np.random.default_rng([self.seed, 1, number])
        mid = shot.start_utc + timedelta(seconds=shot.exposure_s / 2)
        jd = julian_day(mid)
        pointing = shot.pointing
        airmass = airmass_at(
            altitude_deg(
                mid,
                pointing.ra_deg,
                pointing.dec_deg,
                self.place.latitude_deg,
                self.place.longitude_deg,
            )
        )
        if self.camera.pattern:
            light = np.zeros(self.camera.shape, np.float32)
            for colour, band in CHANNEL_BANDS.items():
                seen = self.camera.sites(colour)
                light[seen] = self._light(replace(shot, filter=band), jd, airmass, rng)[seen]
        else:
            light = self._light(shot, jd, airmass, rng)
        light *= self.camera.throughput(shot.dust)
        adu = self.camera.read(rng, light, shot.exposure_s, shot.temperature_c)
        info = FrameInfo(
            shot.header_kind, shot.filter, shot.start_utc, shot.exposure_s, shot.temperature_c,
            pointing.ra_deg + rng.normal(0, 0.02), pointing.dec_deg + rng.normal(0, 0.02),
            shot.object_name,
        )  # fmt: skip
        self._write(folder / shot.file, adu, shot.spelling(info), shot.wrapping)
        row = self.sky.row(self.target)
        center = pointing.wcs().all_pix2world(
            [[(self.camera.shape[1] + 1) / 2, (self.camera.shape[0] + 1) / 2]], 1
        )[0]
        return {
            "file": shot.file,
            "kind": "exposure",
            "filter": shot.filter,
            "jd_utc": jd,
            "exposure_s": shot.exposure_s,
            "target_mag": float(self.sky.magnitudes(jd, shot.filter)[row]),
            "target_mags": {
                band: float(self.sky.magnitudes(jd, band)[row]) for band in self.sky.true_mag
            },
            "airmass": airmass,
            "transparency": shot.transparency,
            "fwhm_px": shot.fwhm_px,
            "pointing": {**asdict(pointing), "shape": list(pointing.shape)},
            "center_deg": [float(center[0]), float(center[1])],
            "troubles": list(shot.troubles),
            "expected": shot.expected,
        }

    def _light(self, shot: Shot, jd: float, airmass: float, rng: np.random.Generator) -> np.ndarray:
        """Expected photo-electrons (height, width) of sky, stars and trail."""
        light = np.full(self.camera.shape, self._sky_electrons(shot, rng), np.float32)
        x, y, electrons = self._starlight(shot, jd, airmass, rng)
        if shot.ring_px:
            add_rings(light, x, y, electrons, shot.ring_px, shot.fwhm_px)
        else:
            for dx, dy in shot.streak:
                add_stars(light, x + dx, y + dy, electrons / len(shot.streak), shot.fwhm_px)
        if shot.shade:
            light *= shadow(light.shape, *shot.shade)
        for px, py, charge in shot.strikes:
            light[int(py), int(px)] += charge
        if shot.trail:
            px, py, angle, strength = shot.trail
            add_trail(light, (px, py), angle, strength, shot.fwhm_px)
        return light

    def _write(self, path: Path, adu: np.ndarray, header: fits.Header, wrapping: str) -> None:
        header.update(self.camera.cards())
        write_frame(path, adu, header, wrapping)

    def _sky_electrons(self, shot: Shot, rng: np.random.Generator) -> float:
        area = shot.pointing.scale_arcsec**2
        rate = 10 ** (0.4 * (ZERO_POINT[shot.filter] - SKY_MAG[shot.filter])) * area
        cloud_glow = 1.0 + 0.5 * (1.0 - shot.transparency)
        return float(rate * shot.exposure_s * shot.sky * cloud_glow * rng.normal(1.0, 0.02))

    def _starlight(
        self, shot: Shot, jd: float, airmass: float, rng: np.random.Generator
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        year = 2000.0 + (jd - 2451545.0) / 365.25
        ra, dec = self.sky.positions(year)
        x, y = shot.pointing.pixels(ra, dec)
        height, width = self.camera.shape
        near = (
            (x > -_MARGIN_PX) & (x < width + _MARGIN_PX)
            & (y > -_MARGIN_PX) & (y < height + _MARGIN_PX)
        )  # fmt: skip
        magnitude = self.sky.magnitudes(jd, shot.filter)[near]
        colour = (self.sky.true_mag["B"] - self.sky.true_mag["V"])[near]
        first, second = self.extinction[shot.filter]
        seen = magnitude - self.colour_terms.get(shot.filter, 0.0) * colour
        dimmed = seen + (first + second * colour) * airmass
        electrons = 10 ** (0.4 * (ZERO_POINT[shot.filter] - dimmed)) * shot.exposure_s
        electrons *= shot.transparency
        relative = np.sqrt(
            1e-5 * 1.5**2 * APERTURE_M ** (-4 / 3) / shot.exposure_s * airmass**3
            * np.exp(-2 * self.place.elevation_m / 8000.0)
        )  # fmt: skip
        electrons *= np.maximum(rng.normal(1.0, relative, electrons.size), 0.0)
        return x[near], y[near], electrons

    def calibrate(self, shot: CalibrationShot, folder: Path, number: int) -> dict[str, Any]:
        """Render a calibration frame to its file and return the truth of it."""
        rng = np.random.default_rng([self.seed, 2, number])
        light = None
        if shot.kind == "flat":
            level = shot.level_adu * self.camera.gain_e_per_adu
            light = (self.camera.throughput(shot.dust) * np.float32(level)).astype(np.float32)
        adu = self.camera.read(rng, light, shot.exposure_s, shot.temperature_c, cosmic_per_s=0.01)
        info = FrameInfo(
            shot.header_kind or shot.kind, shot.filter, shot.start_utc, shot.exposure_s,
            shot.temperature_c,
        )  # fmt: skip
        self._write(folder / shot.file, adu, shot.spelling(info), shot.wrapping)
        return {
            "file": shot.file,
            "kind": shot.kind,
            "filter": shot.filter,
            "exposure_s": shot.exposure_s,
            "temperature_c": shot.temperature_c,
            "troubles": list(shot.troubles),
            "expected": shot.expected,
        }


def julian_day(moment: datetime) -> float:
    """Julian date (UTC) of a moment."""
    return (moment - datetime(2000, 1, 1, 12)).total_seconds() / 86400.0 + 2451545.0


def calibration_set(
    folder: str,
    start: datetime,
    darks_s: tuple[float, ...],
    filters: tuple[str, ...],
    *,
    bias: int = 15,
    darks: int = 15,
    flats: int = 12,
    level_adu: float = 30000.0,
    dust: dict[str, tuple[Dust, ...]] | None = None,
    spelling: Spelling = spelling_words,
    wrapping: Callable[[str], tuple[str, str]] = lambda kind: ("plain", ".fits"),
) -> list[CalibrationShot]:
    """Bias, darks and flats of a night; ``wrapping(kind)`` gives wrapping and file ending."""
    shots: list[CalibrationShot] = []

    def add(kind: str, name: str, **facts: Any) -> None:
        style, ending = wrapping(kind)
        moment = start + timedelta(seconds=20 * len(shots))
        path = f"{folder}/{name}{ending}"
        shots.append(
            CalibrationShot(path, kind, moment, wrapping=style, spelling=spelling, **facts)
        )

    for n in range(bias):
        add("bias", f"bias-{n + 1:02d}")
    for seconds in darks_s:
        for n in range(darks):
            add("dark", f"dark-{seconds:g}s-{n + 1:02d}", exposure_s=seconds)
    for name in filters:
        for n in range(flats):
            # A fading twilight: every flat has its own level.
            level = level_adu * 0.95**n
            add(
                "flat", f"flat-{name}-{n + 1:02d}", exposure_s=2.0, filter=name, level_adu=level,
                dust=(dust or {}).get(name, ()),
            )  # fmt: skip
    return shots


def write_truth(path: Path, document: dict[str, Any]) -> None:
    """Write the truth as JSON."""
    path.write_text(json.dumps(document, indent=1), encoding="utf-8")


def drifted(pointing: Pointing, dx_px: float, dy_px: float, half_turn: bool = False) -> Pointing:
    """The pointing moved by some pixels, and turned by half where the mount flipped."""
    angle = np.radians(pointing.rotation_deg)
    scale = pointing.scale_arcsec / 3600.0
    hand = -1.0 if pointing.mirrored else 1.0
    east = (-np.cos(angle) * hand * dx_px + np.sin(angle) * dy_px) * scale
    north = (np.sin(angle) * hand * dx_px + np.cos(angle) * dy_px) * scale
    return replace(
        pointing,
        ra_deg=pointing.ra_deg + east / np.cos(np.radians(pointing.dec_deg)),
        dec_deg=pointing.dec_deg + north,
        rotation_deg=(pointing.rotation_deg + (180.0 if half_turn else 0.0)) % 360.0,
    )
