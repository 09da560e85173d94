"""Corrected exposures and what is seen on them, before anything is known of the sky."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Flags, Plane
from narrow_beacon.core.correct.apply import SATURATED, SPIKE, Workspace, correct
from narrow_beacon.core.correct.dark_place import Misplaced, misplaced_dark
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.frames.fits_file import read_stored, read_words
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.frames.physical import physical
from narrow_beacon.core.measure.noise import expected_noise_adu
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.stars.background import Background, measure_background
from narrow_beacon.core.stars.detect import Detections, Found, detect, likely_width
from narrow_beacon.core.stars.profile import StarProfile, measure_profile, total_light
from narrow_beacon.core.stars.quality import Quality, flagged_share, quality_of
from narrow_beacon.core.stars.strikes import mark_strikes
from narrow_beacon.core.stars.trails import Trail, find_trails
from narrow_beacon.reduce.context import SECOND, ChainUse, Context, ExposureJob, load_chain

_SURE_SNR = 15.0
_LOST_ZERO_ADU = -16384.0
"""No dark is that much brighter than an exposure of the sky."""


class NotCorrectedError(BeaconError):
    """The chain of an exposure could not be made."""


@dataclass(frozen=True)
class Seen:
    """What detection gives of a corrected exposure."""

    pixels: Plane
    flags: Flags
    background: Background
    found: Found
    profile: StarProfile | None
    quality: Quality
    trails: tuple[Trail, ...] = ()

    @property
    def stars(self) -> Detections:
        """The stars found."""
        return self.found.stars


@lru_cache(maxsize=3)
def workspace(height: int, width: int, number: int = 0) -> Workspace:
    """What exposures of a size are corrected in; the same every time."""
    return Workspace.of_shape(height, width)


def look(context: Context, job: ExposureJob, guess_px: float | None) -> Seen:
    """Correct an exposure and find what is on it, for stars about ``guess_px`` wide, of whatever
    width where that is None. Raises UnreadableFileError, NotCorrectedError.
    """
    pixels, flags = corrected(context, job)
    if guess_px is None:
        step = context.chains[job.chain].camera.step_adu
        guess_px = likely_width(pixels, measure_background(pixels, step_adu=step))
    return see_of(context, job, pixels, flags, guess_px)


def see_of(
    context: Context, job: ExposureJob, pixels: Plane, flags: Flags, guess_px: float
) -> Seen:
    """What is on the corrected pixels of an exposure, its noise against what its camera says.
    Raises NotCorrectedError where they count from another zero than what was taken off.
    """
    camera = context.chains[job.chain].camera
    seen = see(pixels, flags, guess_px, 1.0 / job.frame.source.step, camera.step_adu)
    if seen.quality.sky_adu_per_px < _LOST_ZERO_ADU:
        raise NotCorrectedError(
            f"not corrected: its sky is {seen.quality.sky_adu_per_px:.0f} ADU, so far below zero "
            "that the file counts from another zero than its masters; does its header lack "
            "BZERO = 32768?"
        )
    expected = expected_noise_adu(seen.quality.sky_adu_per_px, job.frame.exposure_s, camera)
    trails = tuple(find_trails(pixels, seen.found.block_means, seen.background, guess_px))
    quality = replace(
        seen.quality, noise_ratio=seen.quality.noise_adu / expected,
        trails=tuple(trail.ends for trail in trails),
    )  # fmt: skip
    return replace(seen, quality=quality, trails=trails)


def corrected(context: Context, job: ExposureJob, *, second: bool = False) -> tuple[Plane, Flags]:
    """Corrected pixels and their flags; of the ``second`` set of a colour that has two."""
    space = workspace(*job.frame.shape, int(second))
    use = context.chains[job.chain]
    if use.problem:
        raise NotCorrectedError(f"not corrected: {use.problem}")
    source = job.frame.second if second else job.frame.source
    assert source is not None
    return correct(source, load_chain(planes_of(use, second)), use.linear_limit_adu, space)


def misplaced_of(context: Context, job: ExposureJob) -> Misplaced | None:
    """What an exposure's hot pixels say against the dark that is taken off it."""
    source = job.frame.source
    offset = load_chain(context.chains[job.chain].folder).offset_adu
    if not source.plain_16_bit:
        raw = source.cut(read_stored(source))
        return misplaced_dark(lambda y, x: np.nan_to_num(raw[y, x]), offset)
    space = workspace(*job.frame.shape)
    words = source.cut(read_words(source, space.words_of(source.stored_shape)))
    return misplaced_dark(lambda y, x: physical(words[y, x].view(">i2"), source.scale), offset)


def seen_clean(
    context: Context, job: ExposureJob, solution: Solution, *, second: bool = False
) -> tuple[Seen, Solution]:
    """A corrected exposure with its cosmic rays on bright stars marked, and its solution; of the
    ``second`` set of a colour's pixels where it has two. The pixels stay in the workspace.
    """
    use, settings = context.chains[job.chain], context.groups[job.group]
    pixels, flags = corrected(context, job, second=second)
    step = use.camera.step_adu
    seen = see(pixels, flags, settings.fwhm_px, 1.0 / job.frame.source.step, step)
    mark_cosmic_rays(seen, use.camera.gain_e_per_adu)
    if not second:
        return seen, solution
    dx, dy = sets_of(job.frame)[1]
    return seen, replace(solution, x0_px=solution.x0_px - dx, y0_px=solution.y0_px - dy)


def planes_of(use: ChainUse, second: bool) -> str:
    """The folder of a chain's planes, of the ``second`` set of a colour's pixels if asked for."""
    return str(Path(use.folder) / SECOND) if second else use.folder


def see(
    pixels: Plane, flags: Flags, guess_px: float, pixel_px: float = 1.0, step_adu: float = 0.0
) -> Seen:
    """Background, stars and star width of corrected pixels; marks spikes in ``flags``. The side of
    a pixel that sees light is ``pixel_px``, over the distance from one to the next; values come in
    steps of ``step_adu``.
    """
    background = measure_background(pixels, step_adu=step_adu)
    found = detect(pixels, background, guess_px)
    for x, y in found.spikes:
        flags[max(y - 1, 0) : y + 2, max(x - 1, 0) : x + 2] |= SPIKE
    stars = found.stars
    sky, _ = background.at(stars.x_px, stars.y_px)
    profile = measure_profile(pixels, flags, stars, sky, guess_px, pixel_px)
    saturated = flagged_share(flags, SATURATED)
    quality = quality_of(profile, len(stars), background, saturated)
    return Seen(pixels, flags, background, found, profile, quality)


def sets_of(frame: Frame) -> tuple[tuple[float, float], ...]:
    """Where the sets of pixels of a colour lie against its first."""
    if not frame.channel:
        return ()
    if frame.second is None:
        return ((0.0, 0.0),)
    (x, y), (u, v), step = frame.source.first, frame.second.first, frame.source.step
    return (0.0, 0.0), ((u - x) / step, (v - y) / step)


def mark_cosmic_rays(seen: Seen, gain_e_per_adu: float) -> None:
    """Mark what struck bright stars in the exposure's flags."""
    if seen.profile is None:
        return
    bright = seen.stars.take(seen.stars.snr > _SURE_SNR)
    sky, noise = seen.background.at(bright.x_px, bright.y_px)
    mark_strikes(
        seen.pixels, seen.flags, bright.x_px, bright.y_px,
        total_light(bright, seen.profile), sky, noise, gain_e_per_adu, seen.profile,
    )  # fmt: skip
