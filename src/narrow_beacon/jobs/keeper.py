"""Where a job's walk keeps its results: in the records, and in files of the data folder that are
named by their content. A job that was interrupted finds its pieces again and does only the rest.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import replace
from pathlib import Path
from typing import Any

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.remarks import Remark
from narrow_beacon.jobs.census_files import write_groups
from narrow_beacon.jobs.keeper_masters import KeepsMasters
from narrow_beacon.jobs.proposals import (
    apply_limits,
    places_of,
    propose,
    restore_reasonless,
    set_proposal,
)
from narrow_beacon.reduce.codec import quality_from_json, quality_to_json
from narrow_beacon.reduce.context import ExposureJob, Probed
from narrow_beacon.reduce.light import Measured
from narrow_beacon.reduce.looking import Looked
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.reduce.night_looks import NightLooks, Reference, match_to_json
from narrow_beacon.reduce.prepare import Prepared, ResultPrints
from narrow_beacon.reduce.settle import Settled, Wanted
from narrow_beacon.reduce.solutions import solution_to_json
from narrow_beacon.reduce.tasks import WRONG_KIND, ExposureResult
from narrow_beacon.store.campaigns import queue_job
from narrow_beacon.store.census_columns import CensusTable
from narrow_beacon.store.files import placements_of, some_files, told_of
from narrow_beacon.store.measured import filter_table, filters_measured
from narrow_beacon.store.measured_light import MeasuredInTables
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    CensusFile,
    NightFile,
    PlacementRecord,
)
from narrow_beacon.store.pieces import (
    read_looked,
    read_probed,
    write_looked,
    write_piece,
    write_probed,
)
from narrow_beacon.store.placements import placement_of
from narrow_beacon.store.remarks import write_remarks
from narrow_beacon.store.since import tell_measured
from narrow_beacon.store.targets import Asked, KeptTarget, targets_of


class RecordKeeper(KeepsMasters):
    """Keeps what a walk makes of a campaign in its records."""

    def looked(self, prints: Mapping[int, str]) -> dict[int, Looked]:
        folder = self._work.folder("looks")
        paths = {index: folder / f"{name}.npz" for index, name in prints.items()}
        return {index: read_looked(path) for index, path in paths.items() if path.exists()}

    def keep_looked(self, looked: Mapping[str, Looked]) -> None:
        for name, own in looked.items():
            write_looked(self._work.folder("looks") / f"{name}.npz", own)

    def open_groups(self, jobs: Sequence[ExposureJob]) -> Set[str]:
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            reference = campaign.reference or {}
            # Where the observer chose another reference, all are matched to it.
            own = reference.get("file") if reference.get("by") == "observer" else None
            more = () if own is None else ("match",)
            told = told_of(session, campaign, "id", "placed_with", *more)
        ids = {job.index: self._ids[job.frame.name] for job in jobs}
        if reference.get("file") not in ids.values():
            return {job.group for job in jobs}
        closed = {
            number
            for number, placed_with, *match in told
            if placed_with and (own is None or (match[0] or {}).get("to") == own)
        }
        return {job.group for job in jobs if ids[job.index] not in closed}

    def reference(self, jobs: Sequence[ExposureJob], groups: Set[str]) -> int | None:
        with self._work.store.session() as session:
            wanted = self._work.campaign(session).reference or {}
        found = next((job for job in jobs if self._ids[job.frame.name] == wanted.get("file")), None)
        if found is None or wanted.get("by") == "observer":
            return found.index if found else None
        # Chosen by the program: it stays while exposures are matched to it that stay as they are.
        return None if found.group in groups else found.index

    def keep_looks(
        self,
        jobs: Sequence[ExposureJob],
        prints: Mapping[int, str],
        looked: Mapping[int, Looked],
        looks: NightLooks,
        groups: Set[str],
    ) -> None:
        ids = {job.index: self._ids[job.frame.name] for job in jobs}
        own = [job for job in jobs if job.group in groups]
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            files = some_files(session, [ids[job.index] for job in own])
            for job in own:
                file = files[ids[job.index]]
                _write_look(file, job.index, prints[job.index], looked[job.index], looks, ids)
            if looks.reference is not None:
                campaign.reference = _reference(campaign.reference, looks.reference, ids)
            restore_reasonless(
                session, campaign, [f for f in files.values() if not f.placed_with],
                {ids[index]: words for index, words in looks.reasons.items()},
            )  # fmt: skip
            apply_limits(session, campaign, list(files.values()))
            campaign.revision += 1
        in_use = set(prints.values())
        for old in self._work.folder("looks").glob("*.npz"):
            if old.stem not in in_use:
                old.unlink(missing_ok=True)

    def probed(self, name: str) -> Probed | None:
        path = self._work.folder("probes") / f"{name}.json"
        return read_probed(path) if path.exists() else None

    def keep_probed(self, name: str, probed: Probed) -> None:
        write_probed(self._work.folder("probes") / f"{name}.json", probed)

    def stale(self, ready: Prepared, prints: ResultPrints, *, census: bool) -> set[int]:
        made = prints.measured if census else prints.placed
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            without = [
                {"id": self._id(ready, index), "trouble": words}
                for index, frame in enumerate(ready.exposures)
                if (words := ready.bands.without.get(frame.filter or ""))
            ]
            if without:
                session.execute(update(NightFile), without)
            with_what = "measured_with" if census else "placed_with"
            told = {
                number: (kept, trouble)
                for number, kept, trouble in told_of(session, campaign, "id", with_what, "trouble")
            }
            groups = self._groups(session)
        stale = set()
        for job in ready.jobs:
            kept, trouble = told[self._id(ready, job.index)]
            lost = census and not trouble and job.group not in groups
            lost = lost and not self._piece(made[job.index]).exists()
            if lost or kept != _result_print(made[job.index], prints, trouble):
                stale.add(job.index)
        return stale

    def _groups(self, session: Session) -> set[str]:
        found = session.scalars(
            select(CensusFile).where(CensusFile.campaign_id == self._work.campaign_id)
        )
        return {record.group_name for record in found if Path(record.path).exists()}

    def _piece(self, name: str) -> Path:
        return self._work.folder("parts") / f"{name}.stars"

    def _id(self, ready: Prepared, index: int) -> int:
        return self._ids[ready.exposures[index].name]

    def keep_results(
        self,
        ready: Prepared,
        prints: ResultPrints,
        results: Sequence[ExposureResult],
        *,
        census: bool,
    ) -> None:
        for result in results:
            if result.census is not None:
                write_piece(self._piece(prints.measured[result.index]), result.census)
        ids = {result.index: self._id(ready, result.index) for result in results}
        with self._work.store.session() as session:
            files = some_files(session, list(ids.values()))
            session.execute(delete(PlacementRecord).where(PlacementRecord.file_id.in_(files)))
            for result in results:
                file = files[ids[result.index]]
                _write_placed(session, file, result)
                placed, measured = prints.placed[result.index], prints.measured[result.index]
                file.placed_with = _result_print(placed, prints, file.trouble)
                if census:
                    file.measured_with = _result_print(measured, prints, file.trouble)
                if result.reason:
                    self._work.reporter.fail(f"{file.name}: {result.reason}")

    def keep_measured(self, ready: Prepared, prints: ResultPrints) -> None:
        ids = {job.index: self._id(ready, job.index) for job in ready.jobs}
        write_groups(self._work, ready, prints, ids, self._piece)
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            campaign.constants = dict(ready.constants)
            campaign.cameras = {
                name: {**vars(use.camera), "linear_limit_adu": use.linear_limit_adu}
                for name, use in ready.context.chains.items()
            }
            tell_measured(session, campaign, self._in_force)

    def measured(self, ready: Prepared) -> Measured:
        index_of = {self._id(ready, job.index): job.index for job in ready.jobs}
        found = []
        places: dict[int, tuple[CensusTable, int]] = {}
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            placements = placements_of(session, campaign)
            qualities = {
                number: quality
                for number, quality, trouble, by in told_of(
                    session, campaign, "id", "quality", "trouble", "aside_by"
                )
                if not trouble and by != "observer" and number in placements
            }
            for name in filters_measured(session, campaign.id):
                table = filter_table(session, campaign.id, name)
                for at, number in enumerate(table.file_ids if table else ()):
                    if table is None or number not in qualities or number not in index_of:
                        continue
                    places[index_of[number]] = table, at
                    found.append(
                        ExposureResult(
                            index_of[number], None, quality_from_json(qualities[number]),
                            placement_of(placements[number]), None,
                        )
                    )  # fmt: skip
        return MeasuredInTables(sorted(found, key=lambda result: result.index), places)

    def solutions(self, exposures: Sequence[Frame]) -> dict[int, Solution]:
        with self._work.store.session() as session:
            placed = {
                number: placement_of(record).solution
                for number, record in placements_of(session, self._work.campaign(session)).items()
            }
        return {
            index: placed[self._ids[frame.name]]
            for index, frame in enumerate(exposures)
            if self._ids[frame.name] in placed
        }

    def set_aside(self, ready: Prepared) -> dict[int, str]:
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            told = told_of(session, campaign, "id", "aside_reason", "aside_by")
            aside = {number: reason for number, reason, by in told if by}
        return {
            job.index: aside[number]
            for job in ready.jobs
            if (number := self._id(ready, job.index)) in aside
        }

    def no_sky(self) -> set[str]:
        with self._work.store.session() as session:
            told = told_of(session, self._work.campaign(session), "name", "trouble")
            return {name for name, trouble in told if (trouble or "").startswith(WRONG_KIND)}

    def wanted(self, ready: Prepared) -> Wanted:
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            if self._overtaken(campaign):
                return Wanted(beside=tuple(Wanted() for _ in ready.field.beside))
            kept = targets_of(campaign)
            first, *beside = (
                _wanted(session, kept[place], ready.field.stars)
                for place in places_of(campaign, ready)
            )
            return replace(first, beside=tuple(beside))

    def keep_settled(self, ready: Prepared, settled: Settled, *, accept: bool) -> None:
        ids = {job.index: self._id(ready, job.index) for job in ready.jobs}
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            overtaken = self._overtaken(campaign)
            propose(session, campaign, ready, settled, ids, accept=accept, casts=not overtaken)
            if overtaken == "targets":
                queue_job(session, campaign, "settle")

    def _overtaken(self, campaign: Campaign) -> str:
        """What the observer asked for anew since this job began, so that its casts are of other
        stars: "targets" or "catalogue"; else nothing.
        """
        then, now = self._asked, Asked.of(campaign)
        if then is None or then == now:
            return ""
        return "targets" if then.catalogue == now.catalogue else "catalogue"

    def keep_remarks(self, step: str, remarks: Iterable[Remark]) -> None:
        with self._work.store.session() as session:
            write_remarks(session, self._work.campaign_id, step, remarks)
            self._work.campaign(session).revision += 1


def _wanted(session: Session, target: KeptTarget, stars: StarTable) -> Wanted:
    """The parts that the observer gave for a target, or those that a plan wants."""
    cast = session.get(CastRecord, target.cast_id) if target.cast_id else None
    if cast is not None and not cast.automatic:
        return Wanted(tuple(cast.comparison), cast.checks)
    comparison, checks = (
        tuple(row for name in names if (row := stars.find(name)) is not None)
        for names in (target.comparison, target.checks)
    )
    return Wanted(comparison, checks)


def _reference(
    kept: Mapping[str, Any] | None, chosen: Reference, ids: Mapping[int, int]
) -> dict[str, Any]:
    """The record of a reference: as it was where that was given."""
    number = ids[chosen.index]
    if chosen.given and kept and kept["file"] == number:
        return dict(kept)
    return {"file": number, "by": "program", "words": chosen.words}


def _write_look(
    file: NightFile,
    index: int,
    name: str,
    looked: Looked,
    looks: NightLooks,
    ids: Mapping[int, int],
) -> None:
    file.looked_with = name
    file.match = match_to_json(looks, index, ids)
    file.evidence = dict(looks.evidence.get(index, {}))
    if file.placed_with:
        return  # what was seen when it was placed says more
    file.quality = quality_to_json(looked.quality) if looked.quality else None
    file.trouble = looked.trouble
    set_proposal(file, looks.reasons.get(index, ""))


def _result_print(made_of: str, prints: ResultPrints, trouble: str) -> str:
    """What could not be placed may be with another hint; what was placed stays where it is."""
    return fingerprint(made_of, prints.hint) if trouble else made_of


def _write_placed(session: Session, file: NightFile, result: ExposureResult) -> None:
    file.trouble = result.reason or ""
    file.quality = quality_to_json(result.quality) if result.quality else None
    if result.placement:
        p = result.placement
        session.add(
            PlacementRecord(
                file_id=file.id,
                solution=solution_to_json(p.solution),
                matched=p.matched,
                compared=p.compared,
                residual_px=p.residual_px,
                false_log10=p.false_log10,
                how=p.how,
            )
        )
