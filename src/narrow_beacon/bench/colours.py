"""Colour sensors: are the channels' magnitudes right, and as sure as they say?"""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.measure.noise import POGSON
from narrow_beacon.plan import read_plan
from narrow_beacon.reduce import reduce_plan
from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.simulate.camera import Camera
from narrow_beacon.simulate.plain import write_plain_night
from narrow_beacon.simulate.sky import Sky, add_red

_CHANNELS = {"red": "R", "green": "V", "blue": "B"}
_WIDTHS_PX = (2.0, 3.0, 4.0)
_SHAPE = (640, 640)
_STEPS = (6, 9)
"""Radii of 1.6 and 2.4 widths."""
_FAINTEST = 14.0
_PLAN = """
[colour_sensor]
channels = { red = "R", green = "V", blue = "B" }
"""


@dataclass(frozen=True)
class Channel:
    """Errors of a channel's magnitudes over stars and exposures, the exposures' zero points and
    colour terms taken off: scatter in their own uncertainties by radius, and the mean by star in
    mag, as a robust scatter over that which noise leaves.
    """

    pulls: tuple[float, ...]
    bias_mag: float


def channels_of(width_px: float, exposures: int = 20) -> dict[str, Channel]:
    """A night with a colour sensor and stars of some width, reduced, against the truth."""
    kept: list[Sky] = []

    def change(sky: Sky) -> None:
        add_red(sky)
        sky.variations.clear()
        kept.append(sky)

    with tempfile.TemporaryDirectory(prefix="beacon-colours-") as place:
        folder = Path(place)
        camera = Camera(41, _SHAPE, pattern="RGGB", hot_share=0.0, cosmic_per_s=0.0)
        write_plain_night(
            folder, 7, exposures=exposures, shape=_SHAPE, density=6000.0, calibration=10,
            fwhm_px=width_px, camera=camera, change=change, walk_px=0.9,
        )  # fmt: skip
        plan = folder / "plan.toml"
        plan.write_text(plan.read_text(encoding="utf-8") + _PLAN, encoding="utf-8")
        outcome = reduce_plan(read_plan(plan))
    return {name: _channel(outcome, kept[0], name, band) for name, band in _CHANNELS.items()}


def _channel(outcome: Outcome, sky: Sky, name: str, band: str) -> Channel:
    row_of = {star: row for row, star in enumerate(sky.names)}
    names = outcome.stars.names
    pulls: dict[int, list[float]] = {step: [] for step in _STEPS}
    errors: dict[int, list[float]] = {}
    for index, frame in enumerate(outcome.night.exposures):
        census = outcome.results[index].census
        if frame.filter != name or census is None:
            continue
        rows = [row_of[names[row]] for row in census.rows]
        true = sky.true_mag[band][rows]
        colour = (sky.true_mag["B"] - sky.true_mag["V"])[rows]
        for step in _STEPS:
            counts, sigma = census.counts_adu[:, step], census.uncertainty_adu[:, step]
            fit = (counts > 0) & (true < _FAINTEST) & (census.doubt_adu[:, step] < 0.3 * sigma)
            fit &= census.flags_at(float(census.radii_px[step])) == 0
            error = POGSON * sigma[fit] / counts[fit]
            left = _less_run(-2.5 * np.log10(counts[fit]) - true[fit], colour[fit], error)
            pulls[step] += (left / error).tolist()
            if step == _STEPS[0]:
                for row, value in zip(np.array(rows)[fit].tolist(), left.tolist(), strict=True):
                    errors.setdefault(row, []).append(value)
    means = [float(np.mean(some)) for some in errors.values() if len(some) > 5]
    bias = float(np.median(means)) if means else float("nan")
    return Channel(tuple(float(np.std(pulls[step])) for step in _STEPS), bias)


def _less_run(magnitudes: Floats, colour: Floats, error: Floats) -> Floats:
    """Less a zero point and a colour term, by weighted least squares; widened by the freedom that
    these took away.
    """
    basis = np.stack([np.ones_like(colour), colour], axis=1)
    fit = np.linalg.lstsq(basis / error[:, None], magnitudes / error, rcond=None)[0]
    freedom = np.sqrt(colour.size / max(colour.size - 2, 1))
    return np.asarray((magnitudes - basis @ fit) * freedom)


def print_colours() -> bool:
    """All widths; whether every aim was met."""
    print("Colour sensor: scatter of (measured − true)/σ at 1.6 and 2.4 widths (aim 0.9 to 1.1),")
    print("and the median star's mean error (aim 3 mmag)")
    met = True
    for width in _WIDTHS_PX:
        for name, channel in channels_of(width).items():
            good = all(0.9 <= pull <= 1.1 for pull in channel.pulls)
            good &= abs(channel.bias_mag) < 0.003
            met &= good
            shown = "  ".join(f"{pull:.3f}" for pull in channel.pulls)
            print(
                f"  {width:.0f} px  {name:<6} {shown}  {1000 * channel.bias_mag:+.2f} mmag"
                f"{'' if good else '   MISSED'}"
            )
    return met
