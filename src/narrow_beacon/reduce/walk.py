"""The way from raw files to curves: one sequence of named steps, which command line, jobs and
Python walk alike.
"""

from __future__ import annotations

import math
import os
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import cached_property
from pathlib import Path

import numpy as np

from narrow_beacon.core.curve.time import exposure_times
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.remarks import Remark, gathered
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.chains import BuiltChains, build_chains
from narrow_beacon.reduce.context import ExposureJob, Probed
from narrow_beacon.reduce.dealing import in_tasks, some_at_a_time
from narrow_beacon.reduce.field import field_of, position_of
from narrow_beacon.reduce.flat_remarks import flat_remarks
from narrow_beacon.reduce.group_remarks import group_remarks
from narrow_beacon.reduce.keeper import Keeper
from narrow_beacon.reduce.kit import constants_of
from narrow_beacon.reduce.kit_frames import KIT_LOST, KitShown, kit_frames, look_at_kit
from narrow_beacon.reduce.looking import (
    Looked,
    look_context,
    look_exposures,
    look_print,
)
from narrow_beacon.reduce.masters import (
    MasterFile,
    build_masters,
    library_masters,
)
from narrow_beacon.reduce.names import chain_name, group_name
from narrow_beacon.reduce.night_files import NightFiles
from narrow_beacon.reduce.night_looks import judge_looks
from narrow_beacon.reduce.prepare import (
    Prepared,
    ResultPrints,
    prepare,
    probe_picks,
    probe_print,
    probed_of,
    result_prints,
    runs_of,
    with_groups,
)
from narrow_beacon.reduce.progress import Progress, Silent
from narrow_beacon.reduce.settle import Settled, settle
from narrow_beacon.reduce.settle_remarks import bright_sky_remarks
from narrow_beacon.reduce.sorting import SortedFiles, sort_raw_files
from narrow_beacon.reduce.tasks import (
    ExposureResult,
    Probe,
    measure_exposures,
    place_exposures,
    probe,
)
from narrow_beacon.reduce.vet import Moments
from narrow_beacon.reduce.workers import Pool, Workers, begun, core_count
from narrow_beacon.rescue import Rescue


class NoExposuresError(BeaconError):
    """There is nothing to measure."""


class Walk:
    """The state of one reduction, filled in from step to step; each step is walked once, after
    those that it needs.
    """

    def __init__(self, keeper: Keeper, pool: Pool, progress: Progress | None = None) -> None:
        self.keeper, self.pool = keeper, pool
        self.progress = progress or Silent()
        self.plan = keeper.plan()
        self.live = False
        """Whether exposures are still to come, so that what is learned from a few of them stays."""
        self._files = NightFiles(keeper, self.plan, pool, self.progress)
        self._shown: dict[str, KitShown] = {}

    def to(self, step: str) -> None:
        """Walk on to a step, through all that it needs; folders are not read anew."""
        walked: dict[str, Callable[[], object]] = {
            "read": self.read, "sort": lambda: self.sorted, "masters": lambda: self.masters,
            "chains": lambda: self.chains, "look": self.look, "prepare": lambda: self.prepared,
            "probe": lambda: self.probed, "place": self.place, "census": self.census,
            "settle": lambda: self.settle(accept=False),
        }  # fmt: skip
        walked[step]()

    def read(self) -> None:
        """Read every file below the folders that is new or has changed."""
        self._files.read()

    @cached_property
    def sorted(self) -> SortedFiles:
        """What every file counts as."""
        files = sort_raw_files(self.plan, *self._files.named())
        self.plan = files.plan
        frames = (*files.night.exposures, *files.night.calibration)
        pixels = max((math.prod(f.source.stored_shape) for f in frames), default=0)
        self.pool.room_for(_BYTES_A_PIXEL * pixels)
        self.keeper.keep_sorted(files)
        self.keeper.keep_remarks("sort", files.remarks)
        return files

    @cached_property
    def masters(self) -> list[MasterFile]:
        """The masters, those of this walk and those of the library."""
        night = self.sorted.night
        self.progress.start("building masters", 0)
        made, remarks = build_masters(
            night.calibration, self.keeper.folder("masters"), self.keeper.folder("scratch"),
            self.pool, lambda _: self.progress.advance(), self.plan.kits,
            self.keeper.masters_known(),
        )  # fmt: skip
        longitude = self.plan.site.longitude_deg if self.plan.site else 0.0
        kept, problems = library_masters(
            self.plan.library, self.keeper.folder("masters"), longitude
        )
        kept += self.keeper.shelf()
        self.keeper.keep_masters([*made, *kept])
        differ = flat_remarks(
            made, self.pool, self.keeper.flats_compared, self.keeper.keep_flats_compared
        )
        self.keeper.keep_remarks("masters", [*remarks, *problems, *differ])
        return [*made, *kept]

    @cached_property
    def chains(self) -> BuiltChains:
        """How every kind of exposure is corrected. Raises NoExposuresError."""
        exposures = self.sorted.night.exposures
        if not exposures:
            raise NoExposuresError(
                "There are no exposures of the sky yet: point Intake to a folder."
            )
        masters = self.masters
        kinds = len({chain_name(frame) for frame in exposures})
        self.progress.start("preparing corrections", kinds)
        asked = kit_frames(self.sorted.night)
        kits = begun(self.pool, look_at_kit, [(frames,) for frames in asked.values()], KIT_LOST)
        chains = build_chains(
            exposures, masters, self.keeper.folder("chains"), self.plan.picks, self.pool,
            lambda _: self.progress.advance(), self.plan.kits,
        )  # fmt: skip
        self._shown = dict(zip(asked, kits(), strict=True))
        self.keeper.keep_chains(chains)
        self._remark_on(chains)
        return chains

    def _remark_on(self, chains: BuiltChains) -> None:
        """Remarks on the chains; one that corrects no exposure of the sky is nobody's trouble."""
        no_sky = self.keeper.no_sky()
        exposures = self.sorted.night.exposures
        used = {chain_name(frame) for frame in exposures if frame.name not in no_sky}
        found = [remark for remark in chains.remarks if remark.about in used]
        lost = sorted({*self.plan.picks} - {*chains.reports})
        found += [_no_chain(name, sorted(used)) for name in lost]
        self.keeper.keep_remarks("chains", gathered(found))

    def look(self) -> None:
        """Look at exposures and match them to one another, without a catalogue; what is up to date
        stays, and groups that are placed are left alone.
        """
        chains, night = self.chains, self.sorted.night
        constants = constants_of(
            self.plan, self.plan.site, night.exposures, chains.reports, self._shown
        )
        jobs = [
            ExposureJob(i, frame, chain_name(frame), group_name(frame), 2000.0)
            for i, frame in enumerate(night.exposures)
        ]
        prints = {
            job.index: look_print(job, constants.uses[job.chain], chains.prints[job.chain])
            for job in jobs
        }
        still_open = self.keeper.open_groups(jobs)
        reference = self.keeper.reference(jobs, still_open)
        seen = [job for job in jobs if job.group in still_open or job.index == reference]
        if not still_open:
            return
        looked = self.keeper.looked({job.index: prints[job.index] for job in seen})
        todo = [job for job in seen if job.index not in looked]
        self.progress.start("looking at the exposures", len(seen), len(seen) - len(todo))
        context = look_context(constants.uses).save(self.keeper.folder("scratch"))

        def keep(some: list[tuple[int, Looked]]) -> None:
            self.keeper.keep_looked({prints[index]: own for index, own in some})
            looked.update(some)
            self.progress.advance(len(some))

        calls = [(context, part) for part in in_tasks(todo, lambda job: job.frame.source.path)]
        with some_at_a_time(keep) as take:
            self.pool.each(look_exposures, calls, take, _LOOKED)
        self.progress.start("matching them", 0)
        position = position_of(self.plan, night.exposures)
        mids = [frame.mid_utc for frame in night.exposures if frame.mid_utc]
        times = exposure_times(mids, *(position or (0.0, 0.0)), self.plan.site)
        blank = np.full(times.jd_utc.size, np.nan)
        airmass = times.airmass if position and self.plan.site else blank
        moments = Moments(times.jd_utc, airmass, self.plan.site)
        looks = judge_looks(seen, looked, moments, self.plan.vetting, reference)
        self.keeper.keep_looks(seen, prints, looked, looks, still_open)
        self.keeper.keep_remarks("look", bright_sky_remarks(looks.reasons, self.plan.site))

    @cached_property
    def prepared(self) -> Prepared:
        """Field, bands, constants and jobs. Raises NoFieldError without a catalogue."""
        chains = self.chains
        night = self.sorted.night
        field = field_of(self.plan, night.exposures)
        self.keeper.keep_field(field)
        if field.origins:
            self.keeper.keep_remarks("field", field.looked_up)
        ready = prepare(self.plan, night, field, chains.reports, chains.prints, self._shown)
        self.keeper.keep_remarks("prepare", ready.remarks)
        return ready

    @cached_property
    def probed(self) -> Prepared:
        """With star width, reference solution and radii of each night, filter and kit."""
        ready = self.prepared
        picks = probe_picks(ready.jobs, live=self.live)
        prints = {name: probe_print(ready, jobs) for name, jobs in picks.items()}
        known = {name: self.keeper.probed(prints[name]) for name in picks}
        todo = [(name, job) for name, jobs in picks.items() if known[name] is None for job in jobs]
        self.progress.start("looking at a few exposures", len(todo))
        context = ready.context.save(self.keeper.folder("scratch"))
        said = self.pool.map(
            probe, [(context, job) for _, job in todo], lambda _: self.progress.advance(), _LOOKING
        )
        groups: dict[str, Probed] = {}
        for name in picks:
            own = [words for (group, _), words in zip(todo, said, strict=True) if group == name]
            kept = known[name]
            if kept is None:
                kept = probed_of(own)
                self.keeper.keep_probed(prints[name], kept)
            groups[name] = kept
        found = with_groups(ready, groups)
        self.keeper.keep_remarks("probe", group_remarks(found))
        return found

    @cached_property
    def prints(self) -> ResultPrints:
        """Names of what every exposure's results are made of."""
        return result_prints(self.probed)

    def place(self) -> None:
        """Place every exposure on the sky and measure its quality; what is up to date stays."""
        self._exposures("placing", census=False)

    def census(self) -> None:
        """The census of every exposure; what is up to date stays."""
        self._exposures("measuring", census=True)
        self.keeper.keep_measured(self.probed, self.prints)

    def _exposures(self, words: str, *, census: bool) -> None:
        ready, prints = self.probed, self.prints
        stale = self.keeper.stale(ready, prints, census=census)
        # A task stays whole: an exposure is placed from the one before it.
        runs = [run for run in runs_of(ready.jobs) if any(job.index in stale for job in run)]
        count = sum(len(run) for run in runs)
        self.progress.start(words, len(ready.jobs), len(ready.jobs) - count)
        if not runs:
            return
        context = ready.context.save(self.keeper.folder("scratch"))

        def keep(results: list[ExposureResult]) -> None:
            self.keeper.keep_results(ready, prints, results, census=census)
            self.progress.advance(len(results))

        task = measure_exposures if census else place_exposures
        with some_at_a_time(keep) as take:
            self.pool.each(task, [(context, run) for run in runs], take, _MEASURING)

    def settle(self, *, accept: bool) -> Settled:
        """Vet, choose cast and radii where they are not given; with ``accept`` what is doubtful is
        set aside at once.
        """
        ready = self.probed
        self.progress.start("making the curve", 0)
        measured = self.keeper.measured(ready)
        self._remark_on(self.chains)
        settled = settle(ready, measured, self.keeper.wanted(ready))
        self.keeper.keep_remarks("settle", settled.remarks)
        self.keeper.keep_settled(ready, settled, accept=accept)
        return settled


@contextmanager
def scratch_walk(plan: Plan, workers: int | None, progress: Progress | None) -> Iterator[Walk]:
    """A walk over a plan's files, read already, of which nothing is kept but what it writes."""
    with (
        Workers(workers or worker_count(plan)) as pool,
        tempfile.TemporaryDirectory(prefix="narrow-beacon-") as scratch,
    ):
        masters = Path(scratch) / "masters"
        masters.mkdir()
        walk = Walk(Keeper(plan, masters, Path(scratch)), pool, progress)
        walk.read()
        yield walk


_BYTES_A_PIXEL = 16
"""What a task takes beside what its process holds anyway: measured 13 on 61 million pixels."""
_SMALL_BYTES = 32_000_000
"""A night below it is reduced by one process before others have loaded what they need."""


def worker_count(plan: Plan) -> int:
    """How many processes a plan is worth: one for a small night, else all cores."""
    size = 0
    for folder in plan.folders:
        for place, _, names in os.walk(folder):
            for name in names:
                with suppress(OSError):
                    size += os.stat(os.path.join(place, name)).st_size
                if size > _SMALL_BYTES:
                    return core_count()
    return 1


def _no_chain(name: str, there: list[str]) -> Remark:
    return Remark(
        "correct", f"masters are picked for {name}, and no exposure is of that kind",
        matters="they are not used", remedy=f"pick them for one of: {'; '.join(there)}",
    )  # fmt: skip


_LOOKED = Rescue(
    lambda call: [(call[0], [job]) for job in call[1]],
    lambda call, words: [(call[1][0].index, Looked(None, None, words))],
    lambda parts: [one for part in parts for one in part],
)
_LOOKING: Rescue[Probe | None] = Rescue(
    lambda call: [call], lambda _call, _words: None, lambda parts: parts[0]
)
_MEASURING = Rescue(
    lambda call: [(call[0], [job]) for job in call[1]],
    lambda call, words: [ExposureResult(call[1][0].index, words, None, None, None)],
    lambda parts: [result for part in parts for result in part],
)
