"""The work on single exposures, as run by the workers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Flags, Plane
from narrow_beacon.core.correct.apply import SPIKE, Workspace, correct
from narrow_beacon.core.errors import NotPlacedError, UnreadableFileError
from narrow_beacon.core.frames.fits_file import read_pixels
from narrow_beacon.core.frames.header import KINDS
from narrow_beacon.core.frames.sort import (
    Frame,
    LeftOut,
    RawFile,
    TimeRule,
    levels_of,
    read_raw,
    settle,
)
from narrow_beacon.core.measure.census import ExposureCensus, take_census
from narrow_beacon.core.place.follow import follow
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Hint, Placement, Solver
from narrow_beacon.core.stars.background import Background, measure_background
from narrow_beacon.core.stars.detect import Detections, Found, detect
from narrow_beacon.core.stars.profile import StarProfile, measure_profile
from narrow_beacon.core.stars.strikes import mark_strikes
from narrow_beacon.core.stars.trails import Trail, find_trails
from narrow_beacon.reduce.context import (
    Context,
    ExposureJob,
    GroupSettings,
    load_chain,
    load_context,
    solver_of,
)

FIRST_GUESS_FWHM_PX = 3.5
_LEAST_STARS = 7
_MARGIN_PX = 4.0
_HINT_ERROR_DEG = 1.0
_SCALE_TOLERANCE = 0.06
_FLAT_LIKE_ADU = 3000.0
_SURE_SNR = 15.0


@dataclass(frozen=True)
class Quality:
    """What an exposure looks like, placed or not."""

    fwhm_px: float
    elongation: float
    stars: int
    sky_adu_per_px: float
    noise_adu: float


@dataclass(frozen=True)
class ExposureResult:
    """One exposure after the census; ``reason`` says why it was set aside, where it was."""

    index: int
    reason: str | None
    quality: Quality | None
    placement: Placement | None
    census: ExposureCensus | None


@dataclass(frozen=True)
class Seen:
    """What detection gives of a corrected exposure."""

    pixels: Plane
    flags: Flags
    background: Background
    found: Found
    profile: StarProfile | None
    quality: Quality

    @property
    def stars(self) -> Detections:
        """The stars found."""
        return self.found.stars


def inspect_files(
    paths: Sequence[tuple[Path, str]], default_filter: str | None, rule: TimeRule
) -> list[Frame | LeftOut]:
    """Read what each of several files is; a dark or bias with stars on it is left out."""
    return [settle(raw, default_filter, rule) for raw in read_raw_files(paths)]


def read_raw_files(paths: Sequence[tuple[Path, str]]) -> list[RawFile]:
    """What each of several files says of itself, calibration frames with what their pixels show."""
    return [_with_levels(read_raw(path, name)) for path, name in paths]


def _with_levels(raw: RawFile) -> RawFile:
    kind = raw.facts.kind.value if raw.facts and raw.facts.kind else ""
    if raw.source is None or kind not in KINDS or kind == "exposure":
        return raw
    try:
        pixels = read_pixels(raw.source)
    except UnreadableFileError as error:
        return replace(raw, problem=str(error))
    count = 0
    if kind != "flat":
        stars = detect(pixels, measure_background(pixels), FIRST_GUESS_FWHM_PX).stars
        count = int((stars.snr > _SURE_SNR).sum())
    return replace(raw, levels=levels_of(pixels), sky_stars=count)


@lru_cache(maxsize=2)
def _workspace(height: int, width: int) -> tuple[Workspace, Flags]:
    return Workspace.of_shape(height, width), np.zeros((height, width), np.uint8)


def look(context: Context, job: ExposureJob, guess_px: float) -> Seen:
    """Correct an exposure and find what is on it. Raises UnreadableFileError."""
    space, _ = _workspace(*job.frame.shape)
    chain = load_chain(context.chains[job.chain])
    pixels, flags = correct(job.frame.source, chain, context.linear_limit_adu, space)
    return see(pixels, flags, guess_px)


def see(pixels: Plane, flags: Flags, guess_px: float) -> Seen:
    """Background, stars and star width of corrected pixels; marks spikes in ``flags``."""
    background = measure_background(pixels)
    found = detect(pixels, background, guess_px)
    for x, y in found.spikes:
        flags[max(y - 1, 0) : y + 2, max(x - 1, 0) : x + 2] |= SPIKE
    stars = found.stars
    sky, _ = background.at(stars.x_px, stars.y_px)
    profile = measure_profile(pixels, flags, stars, sky, guess_px)
    quality = Quality(
        fwhm_px=profile.fwhm_px if profile else float("nan"),
        elongation=profile.elongation if profile else float("nan"),
        stars=len(stars),
        sky_adu_per_px=background.median_sky_adu,
        noise_adu=background.median_noise_adu,
    )
    return Seen(pixels, flags, background, found, profile, quality)


def hint_of(context: Context, frame: Frame) -> Hint:
    """What header and plan say of where the exposure is."""
    facts = frame.facts
    ra = facts.ra_deg.value if facts.ra_deg else context.target_ra_deg
    dec = facts.dec_deg.value if facts.dec_deg else context.target_dec_deg
    scale = context.scale_arcsec_per_px
    tolerance = _SCALE_TOLERANCE
    if scale is None and facts.scale_arcsec_per_px:
        scale, tolerance = facts.scale_arcsec_per_px.value, 2 * _SCALE_TOLERANCE
    scales = (scale * (1 - tolerance), scale * (1 + tolerance)) if scale else None
    return Hint(ra, dec, _HINT_ERROR_DEG, scales)


def place_exposure(
    context: Context, solver: Solver, job: ExposureJob, seen: Seen, last: Solution | None
) -> Placement:
    """Place an exposure from the last solution, else from patterns. Raises NotPlacedError."""
    stars = seen.stars
    if len(stars) < _LEAST_STARS:
        raise NotPlacedError(_few_stars(seen))
    error = stars.position_error_px(seen.profile.fwhm_px if seen.profile else FIRST_GUESS_FWHM_PX)
    if last is not None:
        placement = follow(solver, last, stars.x_px, stars.y_px, error)
        if placement:
            return placement
    hint = hint_of(context, job.frame)
    return solver.place(stars.x_px, stars.y_px, job.frame.shape, hint, error)


def _few_stars(seen: Seen) -> str:
    quality = seen.quality
    if quality.sky_adu_per_px > _FLAT_LIKE_ADU:
        return (
            f"wrong kind: an even light of {quality.sky_adu_per_px:.0f} ADU and "
            f"{quality.stars} stars, as on a flat"
        )
    if abs(quality.sky_adu_per_px) < 0.5 * quality.noise_adu:
        return f"wrong kind: neither sky nor stars ({quality.stars} found), as on a dark or bias"
    return f"unplaceable: only {quality.stars} stars were found; cloud, or a closed shutter"


def probe(context_path: str, job: ExposureJob) -> tuple[Quality | None, Placement | None]:
    """Look at an exposure to learn its group's star width and a reference solution."""
    context = load_context(context_path)
    solver, _ = solver_of(context_path)
    try:
        seen = look(context, job, FIRST_GUESS_FWHM_PX)
        if seen.profile and abs(seen.profile.fwhm_px - FIRST_GUESS_FWHM_PX) > 1.0:
            seen = look(context, job, seen.profile.fwhm_px)
        placement = place_exposure(context, solver, job, seen, None)
    except (UnreadableFileError, NotPlacedError):
        return None, None
    return seen.quality, placement


def place_exposures(context_path: str, jobs: Sequence[ExposureJob]) -> list[ExposureResult]:
    """Look at and place consecutive exposures of one group, as ``measure_exposures`` does, without
    their censuses.
    """
    context = load_context(context_path)
    last = context.groups[jobs[0].group].reference
    results = []
    for job in jobs:
        _, result = _look_and_place(context_path, context, job, last)
        results.append(result)
        if result.placement:
            last = result.placement.solution
    return results


def measure_exposures(context_path: str, jobs: Sequence[ExposureJob]) -> list[ExposureResult]:
    """The census of consecutive exposures of one group; each is placed from the one before.

    The first starts at the group's reference solution, so that the result does not depend on how
    exposures are shared out.
    """
    context = load_context(context_path)
    last = context.groups[jobs[0].group].reference
    results = []
    for job in jobs:
        result = measure_exposure(context_path, context, job, last)
        results.append(result)
        if result.placement:
            last = result.placement.solution
    return results


def measure_exposure(
    context_path: str, context: Context, job: ExposureJob, last: Solution | None
) -> ExposureResult:
    """Correct, look, place and measure one exposure; never raises for what is on it."""
    seen, result = _look_and_place(context_path, context, job, last)
    if seen is None or result.placement is None or result.reason:
        return result
    solver, order = solver_of(context_path)
    settings = context.groups[job.group]
    solution = result.placement.solution
    return replace(result, census=_census(context, solver, order, job, settings, seen, solution))


def _look_and_place(
    context_path: str, context: Context, job: ExposureJob, last: Solution | None
) -> tuple[Seen | None, ExposureResult]:
    """One exposure up to its placement; its pixels stay in the workspace."""
    solver, _ = solver_of(context_path)
    settings = context.groups[job.group]
    try:
        seen = look(context, job, settings.fwhm_px)
    except UnreadableFileError as error:
        return None, ExposureResult(job.index, str(error), None, None, None)
    quality = seen.quality
    if quality.fwhm_px > 2.0 * settings.fwhm_px:
        # Very wide stars: the filter for sharp ones misses most of them.
        seen = see(seen.pixels, seen.flags, quality.fwhm_px)
        quality = seen.quality
    try:
        placement = place_exposure(context, solver, job, seen, last)
    except NotPlacedError as error:
        words = str(error)
        if not words.startswith(("wrong kind", "unplaceable")):
            words = f"unplaceable: {words}"
        return seen, ExposureResult(job.index, words, quality, None, None)
    reason = _wrong_field(context, placement)
    return seen, ExposureResult(job.index, reason, quality, placement, None)


def _mark_strikes(seen: Seen, gain_e_per_adu: float) -> None:
    if seen.profile is None:
        return
    bright = seen.stars.take(seen.stars.snr > _SURE_SNR)
    sky, noise = seen.background.at(bright.x_px, bright.y_px)
    mark_strikes(
        seen.pixels, seen.flags, bright.x_px, bright.y_px, bright.flux_adu, sky, noise,
        gain_e_per_adu, seen.profile,
    )  # fmt: skip


def _wrong_field(context: Context, placement: Placement) -> str | None:
    solution = placement.solution
    x, y = solution.pixel(np.array([context.target_ra_deg]), np.array([context.target_dec_deg]))
    height, width = solution.shape
    if 0 <= x[0] <= width - 1 and 0 <= y[0] <= height - 1:
        return None
    outside = np.hypot(
        max(-x[0], x[0] - width + 1, 0.0), max(-y[0], y[0] - height + 1, 0.0)
    ) * solution.scale_arcsec_per_px / 60.0  # fmt: skip
    if not np.isfinite(outside):
        return "wrong field: the target is on another part of the sky"
    return f"wrong field: the target is {outside:.1f}′ outside the frame"


def _census(
    context: Context,
    solver: Solver,
    order: np.ndarray,
    job: ExposureJob,
    settings: GroupSettings,
    seen: Seen,
    solution: Solution,
) -> ExposureCensus:
    rows, x, y = solver.in_frame(solution, margin_px=-_MARGIN_PX)
    table_rows = order[rows]
    sort = np.argsort(table_rows, kind="stable")
    table_rows, x, y = table_rows[sort], x[sort], y[sort]
    band = context.bands[job.frame.filter or ""]
    magnitudes = context.stars.bands[band].magnitude[table_rows]
    _mark_strikes(seen, context.cameras[job.chain].gain_e_per_adu)
    trails: list[Trail] = find_trails(
        seen.pixels, seen.found.block_means, seen.background, settings.fwhm_px
    )
    _, masked = _workspace(*job.frame.shape)
    radii = np.array(settings.radii_px)
    fwhm = seen.quality.fwhm_px if np.isfinite(seen.quality.fwhm_px) else settings.fwhm_px
    if settings.radii_follow_width:
        radii = radii / settings.fwhm_px * fwhm
    return take_census(
        seen.pixels, seen.flags, masked, table_rows, x, y, magnitudes, seen.background,
        seen.stars, trails,
        min(fwhm, 2.0 * settings.fwhm_px), radii, settings.annulus_px, job.frame.exposure_s,
        job.airmass, context.cameras[job.chain], load_chain(context.chains[job.chain]).gain,
    )  # fmt: skip
