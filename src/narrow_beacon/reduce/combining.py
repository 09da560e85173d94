"""Runs of exposures combined into one each, deep enough for faint targets."""

from __future__ import annotations

import itertools
import tempfile
from collections import defaultdict
from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from narrow_beacon import __version__
from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.correct.apply import DEFECT, SPIKE
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.frames.header import COMBINED_HERE, REJECTED_KIND, keywords_of
from narrow_beacon.core.kits import CLIPPED, MEAN, MEDIAN
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.place.combining import KAPPA, Combination, Layer, PlaneFile, combine_layers
from narrow_beacon.core.place.resample import mapping_between, resample
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.context import ContextFile, ExposureJob, load_context
from narrow_beacon.reduce.corrected import raw_header, set_words
from narrow_beacon.reduce.faults import words_of
from narrow_beacon.reduce.light import Measured
from narrow_beacon.reduce.progress import Progress
from narrow_beacon.reduce.seeing import seen_clean
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.reduce.walk import Walk, scratch_walk

if TYPE_CHECKING:
    from astropy.io import fits

_DAY_S = 86400.0
_SHARE_STARS = 40
_SURE_SNR = 20.0
_LEAST_SHARE = 0.05
_WAYS = {
    CLIPPED: f"mean without what departs by more than {KAPPA:g} of its noise",
    MEAN: "mean", MEDIAN: "median",
}  # fmt: skip


_COMBINED, _REJECTED = "-combined.fits", "-rejected.fits"


@dataclass(frozen=True)
class CombinedRun:
    """One run of exposures: the file written, what went in, its mid-time weighted by light, its
    total exposure time, and the share of its values that was rejected.
    """

    written: str
    files: tuple[str, ...]
    jd_utc_mid: float
    exposure_s: float
    rejected_share: float


@dataclass(frozen=True)
class Member:
    """An exposure of a run, where it is, and what it brings."""

    job: ExposureJob
    solution: Solution
    layer: Layer

    @property
    def frame(self) -> Frame:
        """The exposure."""
        return self.job.frame


def combine_plan(
    plan: Plan, folder: Path, *, every: int | None = None, minutes: float | None = None,
    method: str = CLIPPED, workers: int | None = None, progress: Progress | None = None,
) -> tuple[list[CombinedRun], list[str]]:  # fmt: skip
    """Combine the exposures of a plan, ``every`` so many of a night and filter or those within
    ``minutes``, and write each run below ``folder``. Returns them, and words on what was left out.

    Exposures that a reduction would set aside take no part.
    """
    if (every is None) == (minutes is None):
        raise BeaconError("give either how many exposures make one, or how many minutes")
    folder.mkdir(parents=True, exist_ok=True)
    with scratch_walk(plan, workers, progress) as walk:
        if not walk.sorted.night.exposures:
            return [], ["there are no exposures of the sky"]
        walk.census()
        aside = walk.settle(accept=True).set_aside
        measured = walk.keeper.measured(walk.probed)
        return combine_walk(
            walk, folder, measured, aside, every=every, minutes=minutes, method=method
        )


def combine_walk(
    walk: Walk, folder: Path, measured: Measured, aside: Mapping[int, str], *,
    every: int | None, minutes: float | None, method: str, only: Set[str] = frozenset(),
) -> tuple[list[CombinedRun], list[str]]:  # fmt: skip
    """The same of a walk whose exposures are ``measured``, with the reasons, by index, of
    those that take no part; of some of them ``only``, by name, where any are given.
    """
    ready, results = walk.probed, {result.index: result for result in measured.results}
    failed = {r.index: r.reason for r in results.values() if r.reason}
    left = [
        f"{ready.exposures[index].name}: {reason}"
        for index, reason in sorted({**aside, **failed}.items())
        if not only or ready.exposures[index].name in only
    ]
    by_group: dict[str, list[ExposureJob]] = defaultdict(list)
    for job in ready.jobs:
        result = results.get(job.index)
        if only and job.frame.name not in only:
            continue
        if job.index not in aside and result is not None and result.placement is not None:
            by_group[job.group].append(job)
    runs: dict[str, list[ExposureJob]] = {}
    for jobs in by_group.values():
        first = jobs[0].frame
        begun = sum(name.startswith(f"{first.night}-{first.filter}-") for name in runs)
        for number, run in enumerate(_runs(jobs, every, minutes), begun + 1):
            runs[f"{first.night}-{first.filter}-{number:03d}".strip("-")] = run
    walk.progress.start("combining exposures", len(runs))
    scratch = walk.keeper.folder("scratch")
    context = ready.context.save(scratch)
    calls = []
    for name, run in runs.items():
        members = _members(run, results, measured, ready.context.groups[run[0].group].fwhm_px)
        limit = ready.context.chains[run[0].chain].linear_limit_adu
        calls.append((context, name, members, method, folder, scratch, limit))
    made = walk.pool.map(_combine_run, calls, lambda _: walk.progress.advance())
    left += [words for words in made if isinstance(words, str)]
    return [one for one in made if isinstance(one, CombinedRun)], left


def _runs(
    jobs: Sequence[ExposureJob], every: int | None, minutes: float | None
) -> list[list[ExposureJob]]:
    """Consecutive exposures, so many or within so many minutes of the first; a last one that is
    not full is a run as well.
    """
    if every is not None:
        return [list(jobs[i : i + every]) for i in range(0, len(jobs), every)]
    assert minutes is not None
    first = jobs[0].frame.mid_utc
    assert first is not None

    def bin_of(job: ExposureJob) -> int:
        assert job.frame.mid_utc is not None
        return int((job.frame.mid_utc - first).total_seconds() // (60.0 * minutes))

    return [list(run) for _, run in itertools.groupby(jobs, key=bin_of)]


def _members(
    run: Sequence[ExposureJob],
    results: Mapping[int, ExposureResult],
    measured: Measured,
    fwhm_px: float,
) -> list[Member]:
    """The exposures of a run, the reference first: that with the most light for its width."""
    found = []
    for job in run:
        result, census = results[job.index], measured.census(job.index)
        assert result.placement is not None
        assert result.quality is not None
        assert census is not None
        found.append((job, result.placement.solution, result.quality, census))
    best = max(found, key=lambda one: one[2].stars / max(one[2].fwhm_px, 0.5 * fwhm_px) ** 2)
    members = []
    for job, solution, quality, census in [best, *(one for one in found if one is not best)]:
        share = _share(census, best[3])
        if not share > _LEAST_SHARE:
            continue
        layer = Layer(share, quality.noise_adu, quality.sky_adu_per_px)
        members.append(Member(job, solution, layer))
    return members


def _share(census: ExposureCensus, reference: ExposureCensus) -> float:
    """How much of the reference's starlight an exposure received, by the brightest stars."""
    _, here, there = np.intersect1d(census.rows, reference.rows, return_indices=True)
    own, other = census.counts_adu[here, -1], reference.counts_adu[there, -1]
    sure = other > _SURE_SNR * reference.uncertainty_adu[there, -1]
    sure &= (census.flags_at(census.radii_px[-1])[here] == 0) & (
        reference.flags_at(reference.radii_px[-1])[there] == 0
    )
    if sure.sum() < 3:
        sure = np.isfinite(own) & (other > 0)
    order = np.argsort(-other[sure])[:_SHARE_STARS]
    return float(np.median((own[sure] / other[sure])[order])) if sure.any() else float("nan")


def _combine_run(
    context_file: ContextFile, name: str, members: Sequence[Member], method: str, folder: Path,
    scratch: Path, linear_limit_adu: float,
) -> CombinedRun | str:  # fmt: skip
    """Combine and write one run; words where it cannot be. Never raises."""
    try:
        with tempfile.TemporaryDirectory(prefix="run-", dir=scratch) as own:
            return _run(context_file, name, members, method, folder, Path(own), linear_limit_adu)
    except Exception as error:
        return f"{name}: {words_of(error, 'combining', name)}"


def _run(
    context_file: ContextFile, name: str, members: Sequence[Member], method: str, folder: Path,
    scratch: Path, linear_limit_adu: float,
) -> CombinedRun:  # fmt: skip
    from astropy.io import fits
    from astropy.time import Time

    context = load_context(context_file)
    reference = members[0].solution
    planes: list[PlaneFile] = []
    layers: list[Layer] = []
    for member in members:
        sets = [False] if member.frame.second is None else [False, True]
        for second in sets:
            seen, shift = seen_clean(context, member.job, member.solution, second=second)
            height, width = reference.shape
            sky = np.float32(seen.background.median_sky_adu)
            bad = (seen.flags & (DEFECT | SPIKE)) != 0
            plane = resample(
                _level(seen.pixels, seen.background.sky_adu, float(sky)) - sky,
                bad.astype(np.uint8), mapping_between(reference, shift), (height, width),
            )  # fmt: skip
            planes.append(PlaneFile(scratch / f"{len(planes)}.plane", plane))
            layers.append(replace(member.layer, sky_adu=float(sky)))
    gain = context.chains[members[0].job.chain].camera.gain_e_per_adu
    made = combine_layers(planes, layers, gain, method)
    times = [member.frame.mid_utc for member in members]
    jd = Time([t for t in times if t is not None], scale="utc").jd
    light = np.array([m.layer.share * m.layer.weight * m.frame.exposure_s for m in members])
    mid = float(jd[0] + np.average(jd - jd[0], weights=light))
    exposure_s = float(sum(member.frame.exposure_s for member in members))
    path = folder / f"{name}{_COMBINED}"
    header = _header(members, method, made, mid, exposure_s, linear_limit_adu)
    _write(path, made.plane, header)
    about = fits.Header()
    about["IMAGETYP"] = (REJECTED_KIND, "values left out at each pixel")
    about["COMBINED"] = (path.name, "of which file")
    _write(path.with_name(f"{name}{_REJECTED}"), made.rejected, about)
    files = tuple(member.frame.file for member in sorted(members, key=lambda m: m.job.index))
    return CombinedRun(str(path), files, mid, exposure_s, made.rejected_share)


def map_of_rejected(path: Path) -> Path | None:
    """The map of what was left out of a combined exposure, beside it; None where there is none."""
    beside = path.with_name(path.name.replace(_COMBINED, _REJECTED))
    return beside if beside != path and beside.is_file() else None


def _level(pixels: Plane, sky_adu: Plane, level_adu: float) -> Plane:
    """With the sky's slopes taken off that differ from one exposure to the next: its plane."""
    rows, columns = sky_adu.shape
    if min(rows, columns) < 3:
        return pixels
    y, x = np.mgrid[-1 : 1 : rows * 1j, -1 : 1 : columns * 1j]
    terms = np.stack([np.ones(x.size), x.ravel(), y.ravel()], axis=1)
    _, a, b = np.linalg.lstsq(terms, sky_adu.ravel().astype(float) - level_adu, rcond=None)[0]
    height, width = pixels.shape
    slope = np.float32(a) * np.linspace(-1, 1, width, dtype=np.float32)[None, :]
    return pixels - slope - np.float32(b) * np.linspace(-1, 1, height, dtype=np.float32)[:, None]


def _write(path: Path, pixels: np.ndarray, header: fits.Header) -> None:
    from astropy.io import fits

    temporary = path.with_suffix(".part")
    fits.PrimaryHDU(pixels, header).writeto(temporary, overwrite=True)
    temporary.replace(path)


def _header(
    members: Sequence[Member], method: str, made: Combination, mid_jd: float, exposure_s: float,
    linear_limit_adu: float,
) -> fits.Header:  # fmt: skip
    """The reference's facts, those of the whole in place of its own, and what went in."""
    from astropy.time import Time

    reference = members[0]
    header = raw_header(reference.frame, reference.solution)
    gone = keywords_of(
        "exposure_s", "time", "gain_e_per_adu", "read_noise_e", "linear_limit_adu", "mosaic",
        "processed",
    )  # fmt: skip
    for key in [key for key in header if key in gone]:
        del header[key]
    middle = Time(mid_jd, format="jd", scale="utc").to_datetime(timezone=UTC)
    start: datetime = middle.replace(tzinfo=None) - timedelta(seconds=exposure_s / 2.0)
    total = sum(member.layer.share for member in members)
    header["EXPTIME"] = (exposure_s, "[s] all of them together")
    header["DATE-OBS"] = (start.isoformat(), "UTC, half of EXPTIME before the middle by light")
    header["FILTER"] = reference.frame.filter or ""
    header["EGAIN"] = (made.gain_e_per_adu, "[e-/adu] that gives the noise of stars")
    header["RDNOISE"] = (made.read_noise_e, "[e-] that gives the noise of the sky")
    header["LINLIMIT"] = (linear_limit_adu * total, "[adu] all of them together")
    header[COMBINED_HERE] = (len(members), "exposures combined by Narrow Beacon")
    header["COMBINED"] = (_WAYS[method], "how")
    header["REJECTED"] = (made.rejected_share, "share of the values that was left out")
    header["BUNIT"] = "adu"
    header["PROGRAM"] = f"Narrow Beacon {__version__}"
    set_words(
        header, "corrected, aligned by Lanczos's kernel of 3 lobes, flux kept, weighted by S/N"
    )
    for member in members:
        words = f"{Path(member.frame.file).name} {member.frame.sha256} x {member.layer.share:.4f}"
        set_words(header, words)
    return header
