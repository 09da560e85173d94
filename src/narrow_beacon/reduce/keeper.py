"""Where a walk takes its inputs from and puts its results: in memory here, and what is too much for
that in a file without a name; in records elsewhere.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import replace
from pathlib import Path

from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.frames.frame import Correction, Frame, RawFile
from narrow_beacon.core.gate import OPEN, Gate
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.remarks import Remark
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.census_scratch import CensusScratch
from narrow_beacon.reduce.chains import BuiltChains
from narrow_beacon.reduce.context import ExposureJob, Probed
from narrow_beacon.reduce.field import Field
from narrow_beacon.reduce.flat_remarks import FlatsCompared
from narrow_beacon.reduce.light import Measured, MeasuredHere
from narrow_beacon.reduce.looking import Looked
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.reduce.night_looks import NightLooks
from narrow_beacon.reduce.prepare import Prepared, ResultPrints
from narrow_beacon.reduce.settle import Settled, Wanted
from narrow_beacon.reduce.sorting import SortedFiles
from narrow_beacon.reduce.tasks import WRONG_KIND, ExposureResult


class Keeper:
    """Keeps a walk's results, and masters in a folder.

    The records of the application override what is kept elsewhere, and what is there already.
    """

    gate: Gate = OPEN
    """Which files may be read."""

    def __init__(self, plan: Plan, masters: Path, scratch: Path) -> None:
        self._plan = plan
        self._masters, self._scratch = masters, scratch
        self._raws: dict[tuple[Path, str], RawFile] = {}
        self.remarks: dict[str, tuple[Remark, ...]] = {}
        self.results: dict[int, ExposureResult] = {}
        self._exposures: Sequence[Frame] = ()
        self._censuses: CensusScratch | None = None
        self.looks = NightLooks(None)

    def plan(self) -> Plan:
        """The settings in force."""
        return self._plan

    def folder(self, what: str) -> Path:
        """Where "masters", "chains" or "scratch" are written."""
        path = self._masters if what == "masters" else self._scratch / what
        path.mkdir(parents=True, exist_ok=True)
        return path

    # Files.

    def fresh(self, paths: Sequence[Path]) -> list[Path]:
        """Those of the files that are to be read; the others are known as they are."""
        known = {path for path, _ in self._raws}
        return [path for path in paths if path not in known]

    def keep_files(self, read: Sequence[tuple[Path, RawFile]]) -> None:
        """Files that were read."""
        self._raws |= {(path, raw.part): raw for path, raw in read}

    def keep_missing(self, paths: Sequence[Path]) -> None:
        """All files that are there now; known ones that are not among them have gone."""

    def follow_moved(self) -> bool:
        """Let what is known of files that were moved be known of them where they are now; whether
        there were any.
        """
        return False

    def files(self) -> tuple[list[RawFile], dict[str, Correction]]:
        """What is known of all files, and the observer's words by name."""
        return [self._raws[key] for key in sorted(self._raws)], {}

    def keep_sorted(self, files: SortedFiles) -> None:
        """What every file counts as."""
        self._exposures = files.night.exposures

    def keep_first_look(self, files: SortedFiles) -> None:
        """What every file counts as by its header, before it is known which are the same."""

    # Masters, chains, field.

    def shelf(self) -> list[MasterFile]:
        """Masters of other nights that are kept elsewhere than in the plan's library."""
        return []

    def masters_known(self) -> Mapping[Path, MasterFacts]:
        """Facts of masters that were built before, by their paths."""
        return {}

    def flats_compared(self, name: str) -> FlatsCompared | None:
        """What two flats said of each other, by the name of what that is told from."""
        return None

    def keep_flats_compared(self, name: str, found: FlatsCompared) -> None:
        """What they say, under that name."""

    def keep_masters(self, masters: Sequence[MasterFile]) -> None:
        """The masters that there are now."""

    def keep_chains(self, chains: BuiltChains) -> None:
        """The chains that there are now."""

    def keep_field(self, field: Field) -> None:
        """The stars in use."""

    # Exposures.

    def looked(self, prints: Mapping[int, str]) -> dict[int, Looked]:
        """What exposures look like, by index, where that is known under the name of what it is told
        from.
        """
        return {}

    def keep_looked(self, looked: Mapping[str, Looked]) -> None:
        """What some exposures look like, by the name of what it is told from."""

    def open_groups(self, jobs: Sequence[ExposureJob]) -> Set[str]:
        """Groups of which what exposures look like still says something: of those that are placed
        their places say more.
        """
        return {job.group for job in jobs}

    def reference(self, jobs: Sequence[ExposureJob], groups: Set[str]) -> int | None:
        """The index of the exposure that others are to be matched to: the observer wants it, or
        those of other groups than these are matched to it already.
        """
        return None

    def keep_looks(
        self,
        jobs: Sequence[ExposureJob],
        prints: Mapping[int, str],
        looked: Mapping[int, Looked],
        looks: NightLooks,
        groups: Set[str],
    ) -> None:
        """What exposures of some groups look like, and how they lie on one another; ``jobs`` has
        the reference, too, ``prints`` are those of all exposures.
        """
        self.looks = looks

    def probed(self, name: str) -> Probed | None:
        """What a group's probes said, by the name of what they are made of."""
        return None

    def keep_probed(self, name: str, probed: Probed) -> None:
        """What a group's probes said."""

    def stale(self, ready: Prepared, prints: ResultPrints, *, census: bool) -> set[int]:
        """Exposures whose result is missing or made of something else."""
        return {job.index for job in ready.jobs}

    def keep_results(
        self,
        ready: Prepared,
        prints: ResultPrints,
        results: Sequence[ExposureResult],
        *,
        census: bool,
    ) -> None:
        """Results of some exposures."""
        for result in results:
            if result.census is not None:
                kept = self._scratch_of_censuses().kept(result.census)
                result = replace(result, census=kept)
            self.results[result.index] = result

    def _scratch_of_censuses(self) -> CensusScratch:
        """Beside the masters, where there is room for what a night gives: temporary files may be in
        memory.
        """
        if self._censuses is None:
            self._censuses = CensusScratch(self.folder("masters"))
        return self._censuses

    def keep_measured(self, ready: Prepared, prints: ResultPrints) -> None:
        """All exposures are measured."""

    def measured(self, ready: Prepared) -> Measured:
        """All exposures that take part, as measured."""
        results = [self.results[index] for index in sorted(self.results)]
        return MeasuredHere(results, self.let_go)

    def let_go(self) -> None:
        """Have what was read of censuses leave memory, where it is much."""
        if self._censuses is not None:
            self._censuses.let_go()

    def solutions(self, exposures: Sequence[Frame]) -> dict[int, Solution]:
        """Where exposures are on the sky, by their place among all; of those that are placed."""
        return {
            index: result.placement.solution
            for index, result in self.results.items()
            if result.placement is not None
        }

    def set_aside(self, ready: Prepared) -> dict[int, str]:
        """Reasons of exposures that are set aside, by index, where that is kept."""
        return {}

    def no_sky(self) -> set[str]:
        """Names of files that turned out to be no exposures of the sky."""
        frames = self._exposures
        return {
            frames[index].name
            for index, result in self.results.items()
            if (result.reason or "").startswith(WRONG_KIND)
        }

    def wanted(self, ready: Prepared) -> Wanted:
        """Roles that are given already."""
        stars, plan = ready.field.stars, ready.plan

        def rows(names: Sequence[str]) -> tuple[int, ...]:
            return tuple(stars.row(name) for name in names)

        beside = [Wanted(rows(w.comparison), rows(w.checks)) for w, _ in ready.field.beside]
        return Wanted(rows(plan.comparison), rows(plan.checks), tuple(beside))

    def keep_settled(self, ready: Prepared, settled: Settled, *, accept: bool) -> None:
        """What the program proposes; with ``accept`` it is set aside at once."""

    def keep_remarks(self, step: str, remarks: Iterable[Remark]) -> None:
        """Remarks of a step, in place of those of its last time."""
        self.remarks[step] = tuple(dict.fromkeys(remarks))
