"""The work on single exposures, as run by the workers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from narrow_beacon.core.arrays import Floats, Ints, middle
from narrow_beacon.core.correct.dark_place import Misplaced
from narrow_beacon.core.errors import NotPlacedError, UnreadableFileError
from narrow_beacon.core.measure.alignment import CENTRED_SNR, NUDGED_FWHM, align, pair_up
from narrow_beacon.core.measure.blends import beside_another
from narrow_beacon.core.measure.census import Apertures, ExposureCensus, Image, Places, take_census
from narrow_beacon.core.measure.neighbours import TOLD_APART_FWHM
from narrow_beacon.core.measure.noise import Exposed
from narrow_beacon.core.place.follow import follow
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Hint, Placement, Solver
from narrow_beacon.core.stars.detect import (
    FIRST_GUESS_FWHM_PX,
    RING_WIDTHS,
    WIDE_PX,
    Detections,
)
from narrow_beacon.core.stars.nearest import nearest
from narrow_beacon.core.stars.quality import Quality
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.context import (
    Context,
    ContextFile,
    ExposureJob,
    Nudges,
    Strangers,
    load_chain,
    load_context,
    solver_of,
)
from narrow_beacon.reduce.faults import words_of
from narrow_beacon.reduce.seeing import (
    NotCorrectedError,
    Seen,
    corrected,
    look,
    mark_cosmic_rays,
    misplaced_of,
    planes_of,
    see_of,
    sets_of,
)

WRONG_KIND = "wrong kind"
"""What is said of an exposure that shows no sky begins so."""
LEAST_STARS = 7
_MARGIN_PX = 4.0
_HINT_ERROR_DEG = 1.0
_SCALE_TOLERANCE = 0.06
_FLAT_LIKE_ADU = 3000.0
STRANGE_FWHM = 0.8
"""A star found farther than that from every one of the catalogue is none of these."""
_MOST_STRANGERS = 100


@dataclass(frozen=True)
class ExposureResult:
    """One exposure after the census; ``reason`` says why it was set aside, where it was."""

    index: int
    reason: str | None
    quality: Quality | None
    placement: Placement | None
    census: ExposureCensus | None


def hint_of(context: Context, job: ExposureJob) -> Hint:
    """What header and plan say of where the exposure is; nothing where neither does."""
    facts = job.frame.facts
    ra, dec = context.hint_deg or (None, None)
    if facts.ra_deg and facts.dec_deg:
        ra, dec = facts.ra_deg.value, facts.dec_deg.value
    scale = context.chains[job.chain].scale_arcsec_per_px
    step = job.frame.source.step
    tolerance = _SCALE_TOLERANCE
    if scale is None and facts.scale_arcsec_per_px:
        scale, tolerance = facts.scale_arcsec_per_px.value, 2 * _SCALE_TOLERANCE
    scales = (step * scale * (1 - tolerance), step * scale * (1 + tolerance)) if scale else None
    return Hint(ra, dec, _HINT_ERROR_DEG, scales, facts.pixel_aspects)


def place_exposure(
    context: Context, solver: Solver, job: ExposureJob, seen: Seen, last: Solution | None
) -> Placement:
    """Place an exposure from the last solution, else from patterns. Raises NotPlacedError."""
    stars = seen.stars
    if len(stars) < LEAST_STARS:
        raise NotPlacedError(few_stars_words(seen.quality))
    error = stars.position_error_px(seen.profile.fwhm_px if seen.profile else FIRST_GUESS_FWHM_PX)
    if last is not None:
        placement = follow(solver, last, stars.x_px, stars.y_px, error)
        if placement:
            return placement
    hint = hint_of(context, job)
    return solver.place(stars.x_px, stars.y_px, job.frame.shape, hint, error)


def few_stars_words(quality: Quality) -> str:
    """Why an exposure shows too few stars to be placed."""
    if quality.sky_adu_per_px > _FLAT_LIKE_ADU:
        return (
            f"{WRONG_KIND}: an even light of {quality.sky_adu_per_px:.0f} ADU and "
            f"{quality.stars} stars, as on a flat"
        )
    if abs(quality.sky_adu_per_px) < 0.5 * quality.noise_adu:
        return f"{WRONG_KIND}: neither sky nor stars ({quality.stars} found), as on a dark or bias"
    few = counted(quality.stars, "star was", "stars were")
    return f"unplaceable: only {few} found; cloud, or a closed shutter"


@dataclass(frozen=True)
class Probe:
    """What one exposure of a group shows of it."""

    quality: Quality
    placement: Placement
    nudges: Nudges
    misplaced: Misplaced | None
    strangers: Strangers


def probe(context_file: ContextFile, job: ExposureJob) -> Probe | None:
    """Look at an exposure to learn its group's star width, a reference solution and where its
    bright stars stand; None where it can't be placed.
    """
    context = load_context(context_file)
    solver, order = solver_of(context, job.year)
    try:
        seen = look(context, job, None)
        if seen.profile:
            width = seen.profile.fwhm_px
            seen = look(context, job, RING_WIDTHS * width if width >= WIDE_PX else width)
        placement = place_exposure(context, solver, job, seen, None)
    except Exception as error:
        words_of(error, "looking at", job.frame.name)
        return None
    rows, x, y = solver.in_frame(placement.solution)
    fwhm = seen.quality.fwhm_px if np.isfinite(seen.quality.fwhm_px) else FIRST_GUESS_FWHM_PX
    band = context.stars.bands[context.bands[job.frame.filter or ""]]
    strangers = _strangers(
        placement.solution, order[rows], *align(x, y, seen.stars, fwhm),
        band.magnitude[order[rows]], seen.stars, fwhm,
    )  # fmt: skip
    # Two that were found as one stay where the catalogue has each.
    alone = ~beside_another(x, y, band.magnitude[order[rows]], TOLD_APART_FWHM * fwhm)
    rows, x, y = rows[alone], x[alone], y[alone]
    return Probe(
        seen.quality, placement, _nudges(placement.solution, order[rows], x, y, seen, fwhm),
        misplaced_of(context, job), strangers,
    )  # fmt: skip


def _strangers(
    solution: Solution, rows: Ints, x_px: Floats, y_px: Floats, magnitudes: Floats,
    found: Detections, fwhm_px: float,
) -> Strangers:  # fmt: skip
    """The brightest stars found where the catalogue has none, and which of its own are missing."""
    bright = np.flatnonzero(found.snr > CENTRED_SNR)
    at, _ = nearest(found.x_px[bright], found.y_px[bright], x_px, y_px, STRANGE_FWHM * fwhm_px)
    light = -2.5 * np.log10(found.flux_adu[bright])
    zero = magnitudes[at] - light
    known = (at >= 0) & np.isfinite(zero)
    strange = np.flatnonzero(at < 0)[:_MOST_STRANGERS]
    if not known.any() or not strange.size:
        return Strangers()
    here, _ = nearest(x_px, y_px, found.x_px, found.y_px, STRANGE_FWHM * fwhm_px)
    faint = magnitudes > float(np.max(light[known])) + middle(zero[known])
    vacant = np.sort(rows[(here < 0) & ~faint])
    ra, dec = solution.sky(found.x_px[bright[strange]], found.y_px[bright[strange]])
    magnitude = light[strange] + middle(zero[known])
    return Strangers(
        tuple(ra.tolist()), tuple(dec.tolist()), tuple(magnitude.tolist()), tuple(vacant.tolist())
    )


def _nudges(
    solution: Solution, rows: Ints, x_px: Floats, y_px: Floats, seen: Seen, fwhm_px: float
) -> Nudges:
    """Where the bright stars were found, against where they should be."""
    x, y = align(x_px, y_px, seen.stars, fwhm_px)
    here, at = pair_up(x, y, seen.stars, fwhm_px, NUDGED_FWHM)
    if not here.size:
        return Nudges()
    there, stars = solution.sky(x[here], y[here]), seen.stars
    found = solution.sky(stars.x_px[at], stars.y_px[at])
    east = (found[0] - there[0] + 180.0) % 360.0 - 180.0
    east = east * np.cos(np.radians(there[1])) * 3600.0
    north = (found[1] - there[1]) * 3600.0
    sort = np.argsort(rows[here], kind="stable")
    return Nudges(
        tuple(rows[here][sort].tolist()), tuple(east[sort].tolist()), tuple(north[sort].tolist())
    )


def _nudged(
    solution: Solution, rows: Ints, x_px: Floats, y_px: Floats, nudges: Nudges
) -> tuple[Floats, Floats]:
    """Places (0-based) of catalogue rows, ascending, with what is known of where they stand."""
    x, y = x_px.copy(), y_px.copy()
    known = np.array(nudges.rows, int)
    at = np.flatnonzero(np.isin(rows, known))
    if not at.size:
        return x, y
    of = np.searchsorted(known, rows[at])
    ra, dec = solution.sky(x[at], y[at])
    north = np.array(nudges.north_arcsec)[of] / 3600.0
    east = np.array(nudges.east_arcsec)[of] / 3600.0
    x[at], y[at] = solution.pixel(ra + east / np.cos(np.radians(dec)), dec + north)
    return x, y


def place_exposures(context_file: ContextFile, jobs: Sequence[ExposureJob]) -> list[ExposureResult]:
    """Look at and place consecutive exposures of one group, as ``measure_exposures`` does, without
    their censuses.
    """
    return _each(load_context(context_file), jobs, census=False)


def measure_exposures(
    context_file: ContextFile, jobs: Sequence[ExposureJob]
) -> list[ExposureResult]:
    """The census of consecutive exposures of one group; each is placed from the one before, the
    first from the group's reference solution.
    """
    return _each(load_context(context_file), jobs, census=True)


def _each(context: Context, jobs: Sequence[ExposureJob], census: bool) -> list[ExposureResult]:
    last = context.groups[jobs[0].group].reference
    results = []
    for job in jobs:
        try:
            seen, result = _look_and_place(context, job, last)
            if census and seen is not None and result.placement is not None:
                result = replace(result, census=_census(context, job, seen, result.placement))
        except Exception as error:
            words = words_of(error, "measuring", job.frame.name)
            result = ExposureResult(job.index, words, None, None, None)
        results.append(result)
        if result.placement:
            last = result.placement.solution
    return results


def _look_and_place(
    context: Context, job: ExposureJob, last: Solution | None
) -> tuple[Seen | None, ExposureResult]:
    """One exposure up to its placement; its pixels stay in the workspace."""
    solver, _ = solver_of(context, job.year)
    settings = context.groups[job.group]
    wide = settings.fwhm_px >= WIDE_PX
    try:
        seen = look(context, job, settings.fwhm_px * (RING_WIDTHS if wide else 1.0))
    except (NotCorrectedError, UnreadableFileError, OSError) as error:
        words = words_of(error, "reading", job.frame.name)
        return None, ExposureResult(job.index, words, None, None, None)
    quality = seen.quality
    if quality.fwhm_px > 2.0 * settings.fwhm_px:
        # Very wide stars: the filter for sharp ones misses most of them.
        seen = see_of(context, job, seen.pixels, seen.flags, quality.fwhm_px)
        quality = seen.quality
    try:
        placement = place_exposure(context, solver, job, seen, last)
    except NotPlacedError as error:
        words = str(error)
        if not words.startswith((WRONG_KIND, "unplaceable")):
            words = f"unplaceable: {words}"
        return seen, ExposureResult(job.index, words, quality, None, None)
    return seen, ExposureResult(job.index, None, seen.quality, placement, None)


def _census(context: Context, job: ExposureJob, seen: Seen, placement: Placement) -> ExposureCensus:
    """All catalogue stars of a placed exposure; of a colour that has two pixels in four, each set
    by itself, and the two added.
    """
    solver, order = solver_of(context, job.year)
    settings = context.groups[job.group]
    rows, x, y = solver.in_frame(placement.solution, margin_px=-_MARGIN_PX)
    table_rows = order[rows]
    sort = np.argsort(table_rows, kind="stable")
    table_rows, x, y = table_rows[sort], x[sort], y[sort]
    plain_x, plain_y = x, y
    x, y = _nudged(placement.solution, table_rows, x, y, settings.probed.nudges)
    moved = x - plain_x, y - plain_y
    band = context.bands[job.frame.filter or ""]
    magnitudes = context.stars.bands[band].magnitude[table_rows]
    varies = context.stars.known_variable[table_rows]
    places = Places(table_rows, x, y, magnitudes, moved, varies)
    fwhm = seen.quality.fwhm_px if np.isfinite(seen.quality.fwhm_px) else settings.fwhm_px
    census = _census_of(context, job, seen, places, fwhm)
    if job.frame.second is None:
        return census
    dx, dy = sets_of(job.frame)[1]
    again = see_of(context, job, *corrected(context, job, second=True), fwhm)
    places = Places(table_rows, x - dx, y - dy, magnitudes, moved, varies)
    return census.added(_census_of(context, job, again, places, fwhm, second=True))


def _census_of(
    context: Context, job: ExposureJob, seen: Seen, places: Places, fwhm_px: float, *,
    second: bool = False,
) -> ExposureCensus:  # fmt: skip
    settings, use = context.groups[job.group], context.chains[job.chain]
    mark_cosmic_rays(seen, use.camera.gain_e_per_adu)
    widen = fwhm_px / settings.fwhm_px if settings.radii_follow_width else 1.0
    inner, outer = settings.annulus_px
    return take_census(
        Image(
            seen.pixels, seen.flags, seen.background, seen.stars, seen.profile,
            seen.trails, load_chain(planes_of(use, second)).gain, sets_of(job.frame),
            1.0 / job.frame.source.step,
        ),
        places,
        Apertures(
            min(fwhm_px, 2.0 * settings.fwhm_px), np.array(settings.radii_px) * widen,
            (inner * max(widen, 1.0), outer * max(widen, 1.0)),
        ),
        Exposed(job.frame.exposure_s, job.airmass, max(len(sets_of(job.frame)), 1)),
        use.camera,
    )  # fmt: skip
