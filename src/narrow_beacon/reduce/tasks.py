"""The work on single exposures, as run by the workers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Flags, Floats, Ints, Plane
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.correct.apply import SPIKE, Workspace, correct
from narrow_beacon.core.correct.flat_verdict import plane_and_radial
from narrow_beacon.core.errors import BeaconError, NotPlacedError, UnreadableFileError
from narrow_beacon.core.frames.fits_file import file_sha256, image_of, read_stored
from narrow_beacon.core.frames.frame import Frame, RawFile
from narrow_beacon.core.frames.header import KINDS
from narrow_beacon.core.frames.levels import levels_of
from narrow_beacon.core.frames.sort import read_raws
from narrow_beacon.core.measure.census import (
    Apertures,
    ExposureCensus,
    Image,
    Places,
    align,
    pair_up,
    take_census,
)
from narrow_beacon.core.measure.noise import Exposed
from narrow_beacon.core.place.follow import follow
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Hint, Placement, Solver
from narrow_beacon.core.stars.background import Background, measure_background
from narrow_beacon.core.stars.detect import (
    FIRST_GUESS_FWHM_PX,
    RING_WIDTHS,
    WIDE_PX,
    Detections,
    Found,
    detect,
    likely_width,
)
from narrow_beacon.core.stars.profile import StarProfile, measure_profile
from narrow_beacon.core.stars.strikes import mark_strikes
from narrow_beacon.core.stars.trails import Trail, find_trails
from narrow_beacon.reduce.context import (
    SECOND,
    ChainUse,
    Context,
    ExposureJob,
    Nudges,
    load_chain,
    load_context,
    solver_of,
)
from narrow_beacon.reduce.faults import words_of

WRONG_KIND = "wrong kind"
"""What is said of an exposure that shows no sky begins so."""
CATALOGUE = "a star catalogue"
"""What is said of a file without an image that can be a catalogue begins so."""
_TABLES = (".vot", ".votable", ".xml", ".ecsv", ".csv", ".fits", ".fit")
_MOST_TABLE_BYTES = 60_000_000
_LEAST_STARS = 7
_LEAST_MESH = 4
_MARGIN_PX = 4.0
_HINT_ERROR_DEG = 1.0
_SCALE_TOLERANCE = 0.06
_FLAT_LIKE_ADU = 3000.0
_SURE_SNR = 15.0
_NUDGED_FWHM = 0.5
"""Catalogue positions are not farther off than that, or it is another star."""


class NotCorrectedError(BeaconError):
    """The chain of an exposure could not be made."""


@dataclass(frozen=True)
class Quality:
    """What an exposure looks like, placed or not."""

    fwhm_px: float
    elongation: float
    stars: int
    sky_adu_per_px: float
    noise_adu: float
    slope: float = float("nan")
    """Of the sky, from side to side over the middle's value."""
    corners: float = float("nan")
    """Of the sky, less the middle, over the middle's value."""


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


def read_raw_files(paths: Sequence[tuple[Path, str]], *, hashed: bool = True) -> list[RawFile]:
    """What each image in each of several files says of itself, calibration frames with what their
    pixels show; ``hashed`` as in ``read_raws``.
    """
    return [raw for path, name in paths for raw in _read(path, name, hashed)]


def hash_files(paths: Sequence[Path]) -> list[tuple[Path, str]]:
    """The SHA-256 of each of several files; those that cannot be read are left out."""
    found = []
    for path in paths:
        try:
            found.append((path, file_sha256(path)))
        except OSError:
            continue  # what is wrong with it is said where it is used
    return found


def _read(path: Path, name: str, hashed: bool) -> list[RawFile]:
    try:
        return [
            _or_catalogue(raw, path) if raw.source is None else _with_levels(raw)
            for raw in read_raws(path, name, hashed=hashed)
        ]
    except Exception as error:
        return [RawFile(name, "", None, None, words_of(error, "reading", name))]


def _or_catalogue(raw: RawFile, path: Path) -> RawFile:
    """A file without an image may be a table of stars: then that is what is said of it."""
    if path.suffix.lower() not in _TABLES or path.stat().st_size > _MOST_TABLE_BYTES:
        return raw
    try:
        stars = read_catalogue(path)
    except BeaconError:
        return raw
    words = f"{CATALOGUE} of {len(stars)} stars in {', '.join(stars.bands) or 'no band'}"
    return replace(raw, problem=f"{words}: name it in Intake to use it")


def _with_levels(raw: RawFile) -> RawFile:
    kind = raw.facts.kind.value if raw.facts and raw.facts.kind else ""
    if raw.source is None or kind not in KINDS or kind == "exposure":
        return raw
    try:
        stored = read_stored(raw.source)
        pixels = image_of(raw.source, stored)
    except (UnreadableFileError, OSError) as error:
        return replace(raw, problem=words_of(error, "reading", raw.name))
    count = 0
    if kind != "flat":
        stars = detect(pixels, measure_background(pixels), FIRST_GUESS_FWHM_PX).stars
        count = int((stars.snr > _SURE_SNR).sum())
    return replace(raw, levels=levels_of(pixels, raw.source.cut(stored)), sky_stars=count)


@lru_cache(maxsize=3)
def _workspace(height: int, width: int, number: int = 0) -> tuple[Workspace, Flags]:
    return Workspace.of_shape(height, width), np.zeros((height, width), np.uint8)


def look(context: Context, job: ExposureJob, guess_px: float | None) -> Seen:
    """Correct an exposure and find what is on it, for stars about ``guess_px`` wide, of whatever
    width where that is None. Raises UnreadableFileError.
    """
    pixels, flags = _corrected(context, job)
    if guess_px is None:
        guess_px = likely_width(pixels, measure_background(pixels))
    return see(pixels, flags, guess_px, 1.0 / job.frame.source.step)


def _corrected(context: Context, job: ExposureJob, *, second: bool = False) -> tuple[Plane, Flags]:
    """Corrected pixels and their flags; of the ``second`` set of a colour that has two."""
    space, _ = _workspace(*job.frame.shape, int(second))
    use = context.chains[job.chain]
    if use.problem:
        raise NotCorrectedError(f"not corrected: {use.problem}")
    source = job.frame.second if second else job.frame.source
    assert source is not None
    return correct(source, load_chain(_planes_of(use, second)), use.linear_limit_adu, space)


def seen_clean(
    context: Context, job: ExposureJob, solution: Solution, *, second: bool = False
) -> tuple[Seen, Solution]:
    """A corrected exposure with its cosmic rays on bright stars marked, and its solution; of the
    ``second`` set of a colour's pixels where it has two. The pixels stay in the workspace.
    """
    use, settings = context.chains[job.chain], context.groups[job.group]
    pixels, flags = _corrected(context, job, second=second)
    seen = see(pixels, flags, settings.fwhm_px, 1.0 / job.frame.source.step)
    _mark_strikes(seen, use.camera.gain_e_per_adu)
    if not second:
        return seen, solution
    dx, dy = _sets(job.frame)[1]
    return seen, replace(solution, x0_px=solution.x0_px - dx, y0_px=solution.y0_px - dy)


def _planes_of(use: ChainUse, second: bool) -> str:
    return str(Path(use.folder) / SECOND) if second else use.folder


def see(pixels: Plane, flags: Flags, guess_px: float, pixel_px: float = 1.0) -> Seen:
    """Background, stars and star width of corrected pixels; marks spikes in ``flags``. The side of
    a pixel that sees light is ``pixel_px``, over the distance from one to the next.
    """
    background = measure_background(pixels)
    found = detect(pixels, background, guess_px)
    for x, y in found.spikes:
        flags[max(y - 1, 0) : y + 2, max(x - 1, 0) : x + 2] |= SPIKE
    stars = found.stars
    sky, _ = background.at(stars.x_px, stars.y_px)
    profile = measure_profile(pixels, flags, stars, sky, guess_px, pixel_px)
    quality = Quality(
        fwhm_px=profile.fwhm_px if profile else float("nan"),
        elongation=profile.elongation if profile else float("nan"),
        stars=len(stars),
        sky_adu_per_px=background.median_sky_adu,
        noise_adu=background.median_noise_adu,
        **_even(background),
    )
    return Seen(pixels, flags, background, found, profile, quality)


def _even(background: Background) -> dict[str, float]:
    """How even the sky is; nothing where there is too little of it."""
    rows, columns = background.sky_adu.shape
    if min(rows, columns) < _LEAST_MESH or background.median_sky_adu < background.median_noise_adu:
        return {}
    y, x = np.meshgrid(
        (np.arange(rows) + 0.5) * 2 / rows - 1, (np.arange(columns) + 0.5) * 2 / columns - 1,
        indexing="ij",
    )  # fmt: skip
    slope, _, corners = plane_and_radial(background.sky_adu.astype(float), x, y)
    return {"slope": slope, "corners": corners}


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
    hint = hint_of(context, job)
    return solver.place(stars.x_px, stars.y_px, job.frame.shape, hint, error)


def _few_stars(seen: Seen) -> str:
    quality = seen.quality
    if quality.sky_adu_per_px > _FLAT_LIKE_ADU:
        return (
            f"{WRONG_KIND}: an even light of {quality.sky_adu_per_px:.0f} ADU and "
            f"{quality.stars} stars, as on a flat"
        )
    if abs(quality.sky_adu_per_px) < 0.5 * quality.noise_adu:
        return f"{WRONG_KIND}: neither sky nor stars ({quality.stars} found), as on a dark or bias"
    return f"unplaceable: only {quality.stars} stars were found; cloud, or a closed shutter"


@dataclass(frozen=True)
class Probe:
    """What one exposure of a group shows of it."""

    quality: Quality
    placement: Placement
    nudges: Nudges


def probe(context_path: str, job: ExposureJob) -> Probe | None:
    """Look at an exposure to learn its group's star width, a reference solution and where its
    bright stars stand; None where it can't be placed.
    """
    context = load_context(context_path)
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
    seen = _sharpened(job, seen, x, y)
    fwhm = seen.quality.fwhm_px if np.isfinite(seen.quality.fwhm_px) else FIRST_GUESS_FWHM_PX
    return Probe(
        seen.quality, placement, _nudges(placement.solution, order[rows], x, y, seen, fwhm)
    )


def _sharpened(job: ExposureJob, seen: Seen, x_px: Floats, y_px: Floats) -> Seen:
    """With the star width as it is about the places where the solution puts the stars: the centres
    of narrow stars that are seen on every second pixel alone are drawn towards these.
    """
    if not job.frame.channel or seen.profile is None:
        return seen
    fwhm = seen.profile.fwhm_px
    x, y = align(x_px, y_px, seen.stars, fwhm)
    here, at = pair_up(x, y, seen.stars, fwhm, _NUDGED_FWHM)
    if not here.size:
        return seen
    order = np.argsort(at)
    stars = replace(seen.stars.take(at[order]), x_px=x[here[order]], y_px=y[here[order]])
    sky, _ = seen.background.at(stars.x_px, stars.y_px)
    pixel_px = 1.0 / job.frame.source.step
    profile = measure_profile(seen.pixels, seen.flags, stars, sky, fwhm, pixel_px)
    if profile is None:
        return seen
    return replace(seen, profile=profile, quality=replace(seen.quality, fwhm_px=profile.fwhm_px))


def _nudges(
    solution: Solution, rows: Ints, x_px: Floats, y_px: Floats, seen: Seen, fwhm_px: float
) -> Nudges:
    """Where the bright stars were found, against where they should be."""
    x, y = align(x_px, y_px, seen.stars, fwhm_px)
    here, at = pair_up(x, y, seen.stars, fwhm_px, _NUDGED_FWHM)
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


def place_exposures(context_path: str, jobs: Sequence[ExposureJob]) -> list[ExposureResult]:
    """Look at and place consecutive exposures of one group, as ``measure_exposures`` does, without
    their censuses.
    """
    return _each(load_context(context_path), jobs, census=False)


def measure_exposures(context_path: str, jobs: Sequence[ExposureJob]) -> list[ExposureResult]:
    """The census of consecutive exposures of one group; each is placed from the one before, the
    first from the group's reference solution.
    """
    return _each(load_context(context_path), jobs, census=True)


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
        seen = see(seen.pixels, seen.flags, quality.fwhm_px, 1.0 / job.frame.source.step)
        quality = seen.quality
    try:
        placement = place_exposure(context, solver, job, seen, last)
    except NotPlacedError as error:
        words = str(error)
        if not words.startswith((WRONG_KIND, "unplaceable")):
            words = f"unplaceable: {words}"
        return seen, ExposureResult(job.index, words, quality, None, None)
    if job.frame.channel:
        _, x, y = solver.in_frame(placement.solution)
        seen = _sharpened(job, seen, x, y)
    return seen, ExposureResult(job.index, None, seen.quality, placement, None)


def _mark_strikes(seen: Seen, gain_e_per_adu: float) -> None:
    if seen.profile is None:
        return
    bright = seen.stars.take(seen.stars.snr > _SURE_SNR)
    sky, noise = seen.background.at(bright.x_px, bright.y_px)
    mark_strikes(
        seen.pixels, seen.flags, bright.x_px, bright.y_px, bright.flux_adu, sky, noise,
        gain_e_per_adu, seen.profile,
    )  # fmt: skip


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
    x, y = _nudged(placement.solution, table_rows, x, y, settings.probed.nudges)
    band = context.bands[job.frame.filter or ""]
    magnitudes = context.stars.bands[band].magnitude[table_rows]
    places = Places(table_rows, x, y, magnitudes)
    fwhm = seen.quality.fwhm_px if np.isfinite(seen.quality.fwhm_px) else settings.fwhm_px
    census = _census_of(context, job, seen, places, fwhm)
    if job.frame.second is None:
        return census
    dx, dy = _sets(job.frame)[1]
    again = see(*_corrected(context, job, second=True), fwhm, 1.0 / job.frame.source.step)
    again = _sharpened(job, again, x - dx, y - dy)
    places = Places(table_rows, x - dx, y - dy, magnitudes)
    return census.added(_census_of(context, job, again, places, fwhm, second=True))


def _sets(frame: Frame) -> tuple[tuple[float, float], ...]:
    """Where the sets of pixels of a colour lie against its first."""
    if not frame.channel:
        return ()
    if frame.second is None:
        return ((0.0, 0.0),)
    (x, y), (u, v), step = frame.source.first, frame.second.first, frame.source.step
    return (0.0, 0.0), ((u - x) / step, (v - y) / step)


def _census_of(
    context: Context, job: ExposureJob, seen: Seen, places: Places, fwhm_px: float, *,
    second: bool = False,
) -> ExposureCensus:  # fmt: skip
    settings, use = context.groups[job.group], context.chains[job.chain]
    _mark_strikes(seen, use.camera.gain_e_per_adu)
    trails: list[Trail] = find_trails(
        seen.pixels, seen.found.block_means, seen.background, settings.fwhm_px
    )
    _, masked = _workspace(*job.frame.shape, int(second))
    widen = fwhm_px / settings.fwhm_px if settings.radii_follow_width else 1.0
    inner, outer = settings.annulus_px
    return take_census(
        Image(
            seen.pixels, seen.flags, masked, seen.background, seen.stars, seen.profile,
            tuple(trails), load_chain(_planes_of(use, second)).gain, _sets(job.frame),
            1.0 / job.frame.source.step,
        ),
        places,
        Apertures(
            min(fwhm_px, 2.0 * settings.fwhm_px), np.array(settings.radii_px) * widen,
            (inner * max(widen, 1.0), outer * max(widen, 1.0)),
        ),
        Exposed(job.frame.exposure_s, job.airmass, max(len(_sets(job.frame)), 1)),
        use.camera,
    )  # fmt: skip
