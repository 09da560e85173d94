"""The plain night: one filter, good weather, nothing wrong. For accuracy and for tests."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np

from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.night import (
    APERTURE_M,
    EXTINCTION,
    Scene,
    Shot,
    calibration_set,
    drifted,
    write_truth,
)
from narrow_beacon.simulate.pointing import Pointing
from narrow_beacon.simulate.sky import Sky, add_star, eclipses, make_sky

TARGET = "Foxglove 7"
RA_DEG, DEC_DEG = 341.2, 41.6
START = datetime(2026, 9, 20, 21, 10)


def plain_sky(seed: int, size_deg: float, *, density: float = 3000.0) -> Sky:
    """The plain night's sky: the target in the middle, ten good comparison stars around."""
    rng = np.random.default_rng([seed, 11])
    cos_dec = np.cos(np.radians(DEC_DEG))
    reach = 0.3 * size_deg
    cast = [(RA_DEG, DEC_DEG)]
    while len(cast) < 12:
        ra = RA_DEG + rng.uniform(-reach, reach) / cos_dec
        dec = DEC_DEG + rng.uniform(-reach, reach)
        if all(np.hypot((ra - a) * cos_dec, dec - d) > 0.1 * reach for a, d in cast):
            cast.append((ra, dec))
    clear = [(ra, dec, 30.0) for ra, dec in cast]
    sky = make_sky(
        rng, "Foxglove", RA_DEG, DEC_DEG, 2.2 * size_deg, density, sure_mag=0.003, clear_about=clear
    )
    add_star(
        sky, rng, TARGET, *cast[0], 12.6, 0.62, known_variable=True, sure_mag=0.01,
        variation=eclipses(2461000.31, 0.3137, (0.55, 0.33), 0.06),
    )  # fmt: skip
    for n, (ra, dec) in enumerate(cast[1:]):
        add_star(
            sky, rng, f"Foxglove {20 + n}", ra, dec, rng.uniform(11.9, 13.1),
            rng.uniform(0.5, 0.75), sure_mag=0.003,
        )  # fmt: skip
    return sky


def write_plain_night(
    folder: Path,
    seed: int,
    *,
    exposures: int = 80,
    shape: tuple[int, int] = (768, 1024),
    fwhm_px: float = 3.0,
    exposure_s: float = 60.0,
    calibration: int = 12,
    density: float = 3000.0,
    cadence_s: float = 150.0,
    troubles: Mapping[int, Mapping[str, Any]] | None = None,
    evening: int = 0,
    start: datetime = START,
    field_px: int | None = None,
    camera_seed: int | None = None,
    camera: Camera | None = None,
    change: Callable[[Sky], None] = lambda _: None,
    walk_px: float = 0.25,
    flip_at: int | None = None,
    flat_level_adu: float = 30000.0,
    filters: tuple[str, ...] = ("V",),
    colour_terms: Mapping[str, float] | None = None,
    extinction: Mapping[str, tuple[float, float]] | None = None,
) -> dict[str, Any]:
    """Write raw files, catalogue, plan and truth of a plain night; returns the truth.

    ``troubles`` gives other values to the fields of single shots, by their place in the night, and
    "off_px", by how much the telescope points beside the field.
    Nights of one field have the same seed and ``field_px`` (the side of the sky that is made, the
    longer side of the sensor by itself); ``evening`` counts their days. ``change`` may alter the
    sky, ``camera`` takes the place of the usual one, ``walk_px`` is how far the guiding wanders
    from one exposure to the next, ``flip_at`` the exposure from which on the mount is on the other
    side of the meridian. ``filters`` take turns, ``colour_terms`` are the camera's,
    ``extinction`` the air's where it is not the usual one.
    """
    folder.mkdir(parents=True, exist_ok=True)
    start += timedelta(days=evening)
    rng = np.random.default_rng([seed, 12, evening] if evening else [seed, 12])
    scale = 1.16
    sky = plain_sky(seed, (field_px or max(shape)) * scale / 3600.0, density=density)
    change(sky)
    camera = camera or Camera(seed if camera_seed is None else camera_seed, shape)
    scene = Scene(
        sky, camera, seed=seed + 1000 * evening, target=TARGET, colour_terms=colour_terms or {},
        extinction=extinction or EXTINCTION,
    )  # fmt: skip
    pointing = Pointing(
        RA_DEG, DEC_DEG, scale, float(rng.uniform(0, 360)), bool(rng.integers(2)), shape, 1.5
    )
    truth: dict[str, Any] = {"target": TARGET, "exposures": [], "calibration": []}
    calibration_shots = calibration_set(
        "calibration", start - timedelta(hours=2), (exposure_s,), filters,
        bias=calibration, darks=calibration, flats=calibration, level_adu=flat_level_adu,
    )  # fmt: skip
    for number, calibration_shot in enumerate(calibration_shots):
        truth["calibration"].append(scene.calibrate(calibration_shot, folder / "raw", number))
    walk = np.cumsum(rng.normal(0, walk_px, (exposures, 2)), axis=0)
    for n in range(exposures):
        moment = start + timedelta(seconds=cadence_s * n + float(rng.uniform(0, 5)))
        moment = moment.replace(microsecond=moment.microsecond // 1000 * 1000)
        seeing = fwhm_px * (1 + 0.05 * np.sin(n / 9.0)) * float(rng.normal(1, 0.015))
        said = dict((troubles or {}).get(n, {}))
        off_px = said.pop("off_px", 0.0)
        shot = Shot(
            f"foxglove-{n + 1:03d}.fits", filters[n % len(filters)], moment, exposure_s,
            drifted(
                pointing, walk[n, 0] + off_px, walk[n, 1], flip_at is not None and n >= flip_at
            ),
            seeing,
        )  # fmt: skip
        shot = replace(shot, **said)
        truth["exposures"].append(scene.expose(shot, folder / "raw", number=n))
    sky.write_votable(folder / "field.vot")
    (folder / "plan.toml").write_text(plain_plan(scale), encoding="utf-8")
    write_truth(folder / "truth.json", truth)
    return truth


def plain_plan(scale: float | None) -> str:
    """The plan of the plain night; without a scale the solver gets no hint of it."""
    hint = f"scale_arcsec_per_px = {scale}\n" if scale else ""
    return f"""[frames]
folder = "raw"

[catalogue]
file = "field.vot"

[site]
latitude_deg = 61.2
longitude_deg = -9.4
elevation_m = 140

[kit]
gain_e_per_adu = 1.3
read_noise_e = 7.1
linear_limit_adu = 52000
aperture_m = {APERTURE_M}
{hint}
[target]
name = "{TARGET}"

[output]
folder = "out"
"""
