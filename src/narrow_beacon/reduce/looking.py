"""Exposures looked at before anything is known of the sky: what is on each. Needs neither a
catalogue nor a target.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from narrow_beacon.core.arrays import Floats, Plane
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.measure.aperture import mask_stars, measure_apertures
from narrow_beacon.core.stars.background import measure_background
from narrow_beacon.core.stars.detect import (
    FIRST_GUESS_FWHM_PX,
    RING_WIDTHS,
    WIDE_PX,
    WIDTHS_PX,
    likely_width,
)
from narrow_beacon.core.stars.quality import Quality
from narrow_beacon.reduce.context import ChainUse, Context, ContextFile, ExposureJob, load_context
from narrow_beacon.reduce.faults import words_of
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.reduce.seeing import NotCorrectedError, Seen, corrected, see_of
from narrow_beacon.reduce.tasks import LEAST_STARS, few_stars_words

KEPT_STARS = 400
_RADIUS_FWHM, _MASK_FWHM, _RING_FWHM = 1.8, 2.5, (3.5, 5.5)
_WIDTHS_FIT = (0.6, 1.4)
_ABOUT, _ROUND = 0.1, 1.3


@dataclass(frozen=True)
class StarList:
    """The brightest stars of an exposure, brightest first: places (0-based), their uncertainties,
    light in ADU a second, signal to noise.
    """

    x_px: Floats
    y_px: Floats
    error_px: Floats
    light: Floats
    snr: Floats


@dataclass(frozen=True)
class Looked:
    """One exposure as it looks: ``trouble`` says why it could not be looked at, or that it is no
    exposure of the sky.
    """

    quality: Quality | None
    stars: StarList | None
    trouble: str = ""


def look_context(uses: Mapping[str, ChainUse]) -> Context:
    """What exposures are looked at with: corrections and constants alone."""
    empty = np.empty(0)
    nothing = StarTable((), empty, empty, empty, empty, 2000.0, {}, np.empty(0, bool))
    return Context(nothing, "", {}, dict(uses), None, {})


def look_print(job: ExposureJob, use: ChainUse, chain_print: str) -> str:
    """The name of what an exposure's looks are told from."""
    return fingerprint(
        "look", job.frame.sha256, job.frame.part, chain_print, use.linear_limit_adu, use.camera,
        use.problem, job.frame.exposure_s,
    )  # fmt: skip


def look_exposures(
    context_file: ContextFile, jobs: Sequence[ExposureJob]
) -> list[tuple[int, Looked]]:
    """Look at several exposures, each by itself; as run by the workers."""
    context = load_context(context_file)
    return [(job.index, _look(context, job)) for job in jobs]


def _look(context: Context, job: ExposureJob) -> Looked:
    try:
        seen = _seen_well(context, job)
    except NotCorrectedError as error:
        return Looked(None, None, str(error))
    except Exception as error:
        return Looked(None, None, words_of(error, "reading", job.frame.name))
    trouble = few_stars_words(seen.quality) if len(seen.stars) < LEAST_STARS else ""
    step = context.chains[job.chain].camera.step_adu
    return Looked(seen.quality, _star_list(seen, job.frame.exposure_s, step), trouble)


def _fits(seen: Seen, guess_px: float) -> bool:
    """Whether the stars that were looked for at a width have about that width."""
    return _WIDTHS_FIT[0] < seen.quality.fwhm_px / guess_px < _WIDTHS_FIT[1]


def _seen_well(context: Context, job: ExposureJob) -> Seen:
    """An exposure looked at for stars of the width that they have: the usual one and what they turn
    out to have then, else that at which its brightest stars stand out most.
    """
    pixels, flags = corrected(context, job)
    as_corrected = flags.copy()

    def at(width: float) -> Seen:
        np.copyto(flags, as_corrected)  # without the spikes of another width
        return see_of(context, job, pixels, flags, width)

    seen = at(FIRST_GUESS_FWHM_PX)
    width = seen.quality.fwhm_px
    if _round(seen) and width < WIDE_PX:
        if abs(width / FIRST_GUESS_FWHM_PX - 1.0) < _ABOUT:
            return seen
        seen = at(width)
        if _round(seen) and _fits(seen, width):
            return seen
    step = context.chains[job.chain].camera.step_adu
    return _seen_at_any_width(pixels, step, at)


def _round(seen: Seen) -> bool:
    """Whether it shows stars as most exposures do: pieces of rings are no round ones."""
    return seen.quality.elongation < _ROUND


def _seen_at_any_width(pixels: Plane, step_adu: float, at: Callable[[float], Seen]) -> Seen:
    guess = likely_width(pixels, measure_background(pixels, step_adu=step_adu))
    seen = at(guess)
    if not _fits(seen, guess):
        best = 0.0
        for width in WIDTHS_PX:
            again = at(width)
            clear = float(np.median(again.stars.snr[:LEAST_STARS])) if len(again.stars) else 0.0
            if _fits(again, width) and clear > best:
                seen, best = again, clear
    width = seen.quality.fwhm_px
    if not np.isfinite(width):
        return seen
    return at(RING_WIDTHS * width if width >= WIDE_PX else width)


def _star_list(seen: Seen, exposure_s: float, step_adu: float) -> StarList:
    stars = seen.stars.take(np.arange(min(len(seen.stars), KEPT_STARS)))
    fwhm = seen.profile.fwhm_px if seen.profile else FIRST_GUESS_FWHM_PX
    sky, noise = seen.background.at(stars.x_px, stars.y_px)
    mask_stars(seen.flags, stars.x_px, stars.y_px, np.full(len(stars), _MASK_FWHM * fwhm))
    sums = measure_apertures(
        seen.pixels, seen.flags, stars.x_px, stars.y_px,
        np.array([_RADIUS_FWHM * fwhm]), (_RING_FWHM[0] * fwhm, _RING_FWHM[1] * fwhm), sky, noise,
        step_adu,
    )  # fmt: skip
    return StarList(
        stars.x_px, stars.y_px, stars.position_error_px(fwhm), sums.counts_adu[:, 0] / exposure_s,
        stars.snr,
    )  # fmt: skip
