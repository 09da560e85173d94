"""Run a plan: sort, build masters, probe, take the census, make the curves, write the report."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Protocol

import numpy as np

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.time import Site, Times, exposure_times
from narrow_beacon.core.errors import NotMeasurableError
from narrow_beacon.core.frames.sort import (
    Frame,
    LeftOut,
    SortedNight,
    TimeRule,
    list_files,
    night_of,
    sort_night,
)
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.calibrate import (
    ChainReport,
    MasterFile,
    build_chain,
    build_masters,
    flat_remarks,
    library_masters,
)
from narrow_beacon.reduce.context import Context, ExposureJob
from narrow_beacon.reduce.curves import FilterCurve, make_curve
from narrow_beacon.reduce.field import stars_of_plan
from narrow_beacon.reduce.kit import KitConstants
from narrow_beacon.reduce.prepare import (
    bands_of,
    chain_calls,
    fixed_step,
    jobs_of,
    make_context,
    probe_picks,
    runs_of,
    settings_of,
    target_place,
)
from narrow_beacon.reduce.tasks import (
    ExposureResult,
    inspect_files,
    measure_exposures,
    probe,
)
from narrow_beacon.reduce.workers import Pool, Workers, core_count

_FILES_PER_TASK = 4
_EXPOSURES_PER_TASK = 5
_PROBES = 3


class Progress(Protocol):
    """Told how far a reduction is."""

    def start(self, words: str, total: int) -> None:
        """A stage with so many pieces begins."""

    def advance(self, count: int = 1) -> None:
        """Some pieces of the stage are done."""


class _Silent:
    def start(self, words: str, total: int) -> None: ...

    def advance(self, count: int = 1) -> None: ...


@dataclass(frozen=True)
class Outcome:
    """What a reduction came to; ``write`` in outputs.py turns it into files."""

    plan: Plan
    stars: StarTable
    target: int
    night: SortedNight
    masters: tuple[MasterFile, ...]
    chains: dict[str, ChainReport]
    context: Context | None
    times: Times
    results: dict[int, ExposureResult]
    curves: tuple[FilterCurve, ...]
    set_aside: dict[int, str]
    remarks: tuple[str, ...]
    constants: dict[str, str]

    @property
    def measured(self) -> int:
        """The number of exposures with a magnitude."""
        return sum(int(np.isfinite(curve.target.magnitude).sum()) for curve in self.curves)


def reduce_plan(
    plan: Plan, workers: int | None = None, progress: Progress | None = None
) -> Outcome:
    """Reduce a night and write its output folder.

    Raises PlanError where the plan proves unusable on the way (a cone search that fails).
    """
    from narrow_beacon.reduce.outputs import write_outputs

    with (
        Workers(workers or core_count()) as pool,
        tempfile.TemporaryDirectory(prefix="narrow-beacon-") as scratch,
    ):
        outcome = _Run(plan, pool, Path(scratch), progress or _Silent()).run()
        write_outputs(outcome, pool)
        return outcome


class _Run:
    """The state of one reduction, filled in from stage to stage."""

    def __init__(self, plan: Plan, pool: Pool, scratch: Path, progress: Progress) -> None:
        self.plan = plan
        self.pool = pool
        self.scratch = scratch
        self.progress = progress
        self.remarks: list[str] = []
        self.constants: dict[str, str] = {}
        self.set_aside: dict[int, str] = {}
        self.site = plan.site

    def run(self) -> Outcome:
        night = self._sort()
        exposures = night.exposures
        stars, target = stars_of_plan(self.plan, exposures, self.remarks)
        bands = self._bands(exposures, stars)
        masters = self._masters(night)
        chains = self._chains(exposures, masters)
        mids = [frame.mid_utc for frame in exposures if frame.mid_utc]
        times = exposure_times(mids, *target_place(stars, target, mids), self.site)
        outcome = Outcome(
            self.plan, stars, target, night, tuple(masters), chains, None, times, {}, (),
            self.set_aside, (), self.constants,
        )  # fmt: skip
        if not exposures:
            return replace(outcome, remarks=(*self.remarks, "there are no exposures of the sky"))
        kit = KitConstants(self.plan, self.site, night)
        context = make_context(self.plan, stars, target, bands, exposures, chains, kit)
        self.constants |= kit.constants
        self.remarks += kit.remarks
        jobs = jobs_of(exposures, bands, times)
        context = self._probe(context, jobs)
        results = self._census(context, jobs, chains)
        curves = self._curves(context, jobs, results, stars, target, times)
        return replace(
            outcome,
            context=context,
            results=results,
            curves=tuple(curves),
            set_aside=self.set_aside,
            remarks=tuple(dict.fromkeys(self.remarks)),
        )

    def _sort(self) -> SortedNight:
        plan = self.plan
        output = plan.output.resolve()
        library = plan.library.resolve() if plan.library else None
        paths = [
            path
            for path in list_files(plan.folders)
            if output not in path.resolve().parents
            and (library is None or library not in path.resolve().parents)
        ]
        named = [(path, _relative(path, plan.base)) for path in paths]
        rule = TimeRule(
            plan.timestamp, plan.clock_offset_s, plan.site.longitude_deg if plan.site else 0.0
        )
        calls = [
            (named[i : i + _FILES_PER_TASK], plan.default_filter, rule)
            for i in range(0, len(named), _FILES_PER_TASK)
        ]
        self.progress.start("sorting files", len(named))
        found = self.pool.map(inspect_files, calls, lambda part: self.progress.advance(len(part)))
        if not named:
            folders = ", ".join(str(folder) for folder in plan.folders)
            self.remarks.append(f"no files below {folders}; check [frames] folder")
        items = [item for part in found for item in part]
        if plan.site is None:
            items = self._site_from_header(items)
        night = sort_night(items)
        if self.site is None and night.exposures:
            self.remarks.append(
                "no [site] in the plan: airmass and scintillation are unknown, "
                "BJD is for the centre of the Earth (within 0.022 s)"
            )
        return night

    def _site_from_header(self, items: list[Frame | LeftOut]) -> list[Frame | LeftOut]:
        """Take the site that headers give, where the plan has none, and name nights by it."""
        for item in items:
            if not isinstance(item, Frame):
                continue
            latitude, longitude = item.facts.latitude_deg, item.facts.longitude_deg
            if latitude and longitude:
                height = item.facts.elevation_m.value if item.facts.elevation_m else 0.0
                self.site = Site(latitude.value, longitude.value, height)
                words = f"{latitude.keyword}, {longitude.keyword}"
                self.remarks.append(f"no [site] in the plan: taken from the headers ({words})")
                break
        if self.site is None:
            return items
        east = self.site.longitude_deg
        return [
            replace(item, night=night_of(item.mid_utc, east))
            if isinstance(item, Frame) and item.mid_utc
            else item
            for item in items
        ]

    def _bands(self, exposures: Sequence[Frame], stars: StarTable) -> dict[str, str]:
        bands, without = bands_of(exposures, stars)
        self.remarks += without.values()
        for index, frame in enumerate(exposures):
            if (frame.filter or "") in without:
                self.set_aside[index] = without[frame.filter or ""]
        return bands

    def _masters(self, night: SortedNight) -> list[MasterFile]:
        folder = self.plan.output / "masters"
        folder.mkdir(parents=True, exist_ok=True)
        for old in folder.glob("*.fits"):
            old.unlink()
        self.progress.start("building masters", 0)
        made = build_masters(
            night.calibration, folder, self.scratch, self.pool, lambda _: self.progress.advance()
        )
        kept, problems = library_masters(self.plan.library)
        self.remarks += problems
        self.remarks += flat_remarks(made)
        return made + kept

    def _chains(
        self, exposures: Sequence[Frame], masters: Sequence[MasterFile]
    ) -> dict[str, ChainReport]:
        calls = chain_calls(exposures, masters, self.scratch)
        self.progress.start("preparing corrections", len(calls))
        reports = self.pool.map(build_chain, calls, lambda _: self.progress.advance())
        return {report.name: report for report in reports}

    def _probe(self, context: Context, jobs: Sequence[ExposureJob]) -> Context:
        """Learn star width and a reference solution for each night and filter."""
        path = self.scratch / "probe-context"
        context.save(path)
        picks = probe_picks(jobs)
        self.progress.start("probing", len(picks))
        probes = self.pool.map(
            probe, [(str(path), job) for job in picks], lambda _: self.progress.advance()
        )
        return replace(context, groups=settings_of(self.plan, picks, probes))

    def _census(
        self, context: Context, jobs: Sequence[ExposureJob], chains: dict[str, ChainReport]
    ) -> dict[int, ExposureResult]:
        path = self.scratch / "context"
        context.save(path)
        calls = [(str(path), run) for run in runs_of(jobs)]
        self.progress.start("measuring", len(jobs))
        parts = self.pool.map(
            measure_exposures, calls, lambda part: self.progress.advance(len(part))
        )
        results = {result.index: result for part in parts for result in part}
        for result in results.values():
            if result.reason:
                self.set_aside[result.index] = result.reason
        used = {job.chain for job in jobs if not results[job.index].reason}
        for name in dict.fromkeys(job.chain for job in jobs):
            if name in used:
                self.remarks += [f"{name}: {words}" for words in chains[name].remarks]
        return results

    def _curves(
        self,
        context: Context,
        jobs: Sequence[ExposureJob],
        results: dict[int, ExposureResult],
        stars: StarTable,
        target: int,
        times: Times,
    ) -> list[FilterCurve]:
        plan = self.plan
        comparison = [stars.row(name) for name in plan.comparison]
        check = stars.row(plan.check) if plan.check else None
        by_index = {job.index: job for job in jobs}
        curves: list[FilterCurve] = []
        names = sorted(context.bands, key=lambda name: -sum(j.frame.filter == name for j in jobs))
        self.progress.start("making the curve", len(names))
        for name in names:
            measured = [
                result
                for index, result in sorted(results.items())
                if by_index[index].frame.filter == name and result.census is not None
            ]
            self.progress.advance()
            if not measured:
                continue
            # The check star of the first filter is the check star of all.
            settled = check if check is not None else (curves[0].cast.check if curves else None)
            try:
                curve = make_curve(
                    name, context.bands[name], measured,
                    {job.index: job.group for job in jobs},
                    {job.index: job.frame.exposure_s for job in jobs},
                    {job.index: job.airmass for job in jobs},
                    stars, target, comparison, settled, fixed_step(plan),
                )  # fmt: skip
            except NotMeasurableError as error:
                self.remarks.append(str(error))
                for result in measured:
                    self.set_aside[result.index] = str(error)
                continue
            self.set_aside |= curve.set_aside
            self.remarks += [
                f"comparison star {d.name} dropped: {d.reason}" for d in curve.cast.dropped
            ]
            role = curve.cast.check
            if role is not None and curve.census.column(role) is None:
                self.remarks.append(f"check star {stars.names[role]}: on no exposure in {name}")
            curves.append(curve)
        return curves


def _relative(path: Path, base: Path) -> str:
    """The path as seen from the plan's folder; links keep the name that the observer gave."""
    return Path(os.path.relpath(path, base)).as_posix()
