"""Rough nights: everything that spoils single magnitudes, planted at random around one target."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.plain import DEC_DEG, RA_DEG, TARGET, write_plain_night
from narrow_beacon.simulate.sky import Sky, add_star

SHAPE = (400, 400)
EXPOSURES = 40
_SCALE_ARCSEC = 1.16
_FWHM_PX = 3.0


def write_rough_night(folder: Path, seed: int) -> dict[str, Any]:
    """Write a rough night and return its truth.

    Strikes by cosmic rays, hot and dead pixels, a bad column, guiding that wanders over them,
    trails, cloud, seeing that comes and goes, now and then a target at the end of the linear range,
    and beside every second target a neighbour that is fainter or much brighter, catalogued or not.
    """
    rng = np.random.default_rng([seed, 91])
    camera = Camera(
        seed, SHAPE, hot_share=0.005, dead_share=0.0005, cosmic_per_s=float(rng.uniform(0.1, 0.6)),
        bad_column=int(rng.integers(185, 215)) if rng.random() < 0.3 else None,
    )  # fmt: skip
    bright = float(rng.uniform(10.4, 14.0))
    near = _neighbour(rng) if rng.random() < 0.5 else None

    def change(sky: Sky) -> None:
        sky.true_mag["V"][sky.row(TARGET)] = bright
        sky.true_mag["B"][sky.row(TARGET)] = bright + 0.62
        if near is None:
            return
        away_px, angle, fainter, known = near
        away_deg = away_px * _SCALE_ARCSEC / 3600.0
        ra = RA_DEG + away_deg * np.sin(angle) / np.cos(np.radians(DEC_DEG))
        dec = DEC_DEG + away_deg * np.cos(angle)
        add_star(sky, rng, "Foxglove 99", ra, dec, bright + fainter, 0.6)
        if known == "unlisted":
            sky.uncatalogued.add("Foxglove 99")
        elif known == "without a magnitude":
            for band in sky.catalogue_mag.values():
                band[sky.row("Foxglove 99")] = np.nan

    return write_plain_night(
        folder, seed, exposures=EXPOSURES, shape=SHAPE, fwhm_px=_FWHM_PX, density=9000.0,
        troubles=_troubles(rng), camera=camera, change=change,
        walk_px=float(rng.choice([0.2, 0.6, 1.2])),
    )  # fmt: skip


def _neighbour(rng: np.random.Generator) -> tuple[float, float, float, str]:
    """Distance in pixels, direction, magnitudes fainter than the target, how it is catalogued."""
    return (
        float(rng.uniform(1.0, 8.0)) * _FWHM_PX, float(rng.uniform(0, 2 * np.pi)),
        float(rng.uniform(-4.0, 4.0)),
        str(rng.choice(["in full", "without a magnitude", "unlisted"])),
    )  # fmt: skip


def _troubles(rng: np.random.Generator) -> dict[int, dict[str, Any]]:
    seeing = np.exp(np.cumsum(rng.normal(0, 0.06, EXPOSURES)))
    width = np.clip(_FWHM_PX * seeing / np.median(seeing), 2.0, 6.0)
    shots: dict[int, dict[str, Any]] = {n: {"fwhm_px": float(width[n])} for n in range(EXPOSURES)}
    if rng.random() < 0.5:
        first = int(rng.integers(0, EXPOSURES - 10))
        for n in range(first, first + 10):
            shots[n]["transparency"] = float(rng.uniform(0.25, 1.0))
    for n in rng.choice(EXPOSURES, 3, replace=False).tolist():
        # Through the middle half, where target and cast are.
        shots[n]["trail"] = (
            float(rng.uniform(160, 240)), float(rng.uniform(160, 240)),
            float(rng.uniform(0, 180)), float(10 ** rng.uniform(2.0, 4.0)),
        )  # fmt: skip
    return shots
