"""Where a job's walk keeps its results: in the records, and in files of the data folder that are
named by their content. A job that was interrupted finds its pieces again and does only the rest.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.correct.masters import MasterFacts
from narrow_beacon.core.frames.frame import Correction, Frame, RawFile
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.remarks import Remark
from narrow_beacon.jobs.census_files import write_groups
from narrow_beacon.jobs.proposals import (
    apply_limits,
    places_of,
    propose,
    restore_reasonless,
    set_proposal,
)
from narrow_beacon.jobs.work import Work
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.chains import BuiltChains
from narrow_beacon.reduce.codec import dump, load, quality_from_json, quality_to_json
from narrow_beacon.reduce.context import ExposureJob, Probed
from narrow_beacon.reduce.field import Field
from narrow_beacon.reduce.flat_remarks import FlatsCompared
from narrow_beacon.reduce.keeper import Keeper
from narrow_beacon.reduce.light import Measured
from narrow_beacon.reduce.looking import Looked, NightLooks, Reference, match_to_json
from narrow_beacon.reduce.masters import MasterFile
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.reduce.prepare import Prepared, ResultPrints
from narrow_beacon.reduce.settle import Settled, Wanted
from narrow_beacon.reduce.solutions import solution_to_json
from narrow_beacon.reduce.sorting import SortedFiles
from narrow_beacon.reduce.tasks import WRONG_KIND, ExposureResult
from narrow_beacon.store.campaigns import (
    OF_CALIBRATION,
    calibration_print,
    changed_after_measuring,
    now,
    plan_of,
)
from narrow_beacon.store.census_columns import CensusTable
from narrow_beacon.store.fields import save_catalogue
from narrow_beacon.store.files import (
    add_raw_files,
    known_files,
    listed_files,
    placements_of,
    some_files,
    state_of,
    told_of,
    write_sorted,
)
from narrow_beacon.store.kits import kits_of, kits_to_json
from narrow_beacon.store.measured import filter_table, filters_measured
from narrow_beacon.store.measured_light import MeasuredInTables
from narrow_beacon.store.models import (
    CastRecord,
    CensusFile,
    ChainRecord,
    DefectMap,
    MasterRecord,
    NightFile,
    PlacementRecord,
)
from narrow_beacon.store.pieces import (
    read_looked,
    read_probed,
    write_looked,
    write_piece,
    write_probed,
    write_text,
)
from narrow_beacon.store.placements import placement_of
from narrow_beacon.store.remarks import write_remarks
from narrow_beacon.store.shelf import lasting_masters
from narrow_beacon.store.targets import KeptTarget, targets_of


class RecordKeeper(Keeper):
    """Keeps what a walk makes of a campaign in its records."""

    def __init__(self, work: Work) -> None:
        self._work = work
        self.gate = work.gate
        self._ids: dict[str, int] = {}

    def plan(self) -> Plan:
        with self._work.store.session() as session:
            plan = plan_of(session, self._work.campaign(session), self._work.folder("exports"))
        if plan.library is not None:
            self.gate.check(plan.library)
        return plan

    def folder(self, what: str) -> Path:
        return self._work.folder(what)

    # Files.

    def fresh(self, paths: Sequence[Path]) -> list[Path]:
        with self._work.store.session() as session:
            known = {
                file.path: (file.size, file.modified_ns)
                for file in listed_files(session, self._work.campaign(session))
                if not file.away
            }
        changed = [path for path in paths if known.get(str(path)) != state_of(path)]
        return [path for path in changed if not self._work.holds(path)]

    def keep_files(self, read: Sequence[tuple[Path, RawFile]]) -> None:
        with self._work.store.session() as session:
            add_raw_files(session, self._work.campaign(session), read)

    def keep_missing(self, paths: Sequence[Path]) -> None:
        there = {str(path) for path in paths}
        with self._work.store.session() as session:
            other = [
                {"id": file.id, "away": not file.away}
                for file in listed_files(session, self._work.campaign(session))
                if file.away == (file.path in there)
            ]
            if other:
                session.execute(update(NightFile), other)

    def files(self) -> tuple[list[RawFile], dict[str, Correction]]:
        with self._work.store.session() as session:
            known = known_files(session, self._work.campaign(session))
        self._ids = known.ids
        return known.raws, known.words

    def keep_sorted(self, files: SortedFiles) -> None:
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            write_sorted(session, campaign, files, self._ids)
            campaign.revision += 1

    def keep_first_look(self, files: SortedFiles) -> None:
        self.keep_sorted(files)
        self._work.reporter.changed()

    # Masters, chains, field.

    def shelf(self) -> list[MasterFile]:
        with self._work.store.session() as session:
            return lasting_masters(session, self._work.campaign(session))

    def masters_known(self) -> Mapping[Path, MasterFacts]:
        own = select(MasterRecord).where(MasterRecord.campaign_id == self._work.campaign_id)
        with self._work.store.session() as session:
            return {Path(r.path): load(MasterFacts, r.facts) for r in session.scalars(own)}

    def flats_compared(self, name: str) -> FlatsCompared | None:
        path = self._work.folder("flats") / f"{name}.json"
        return load(FlatsCompared, path.read_text()) if path.exists() else None

    def keep_flats_compared(self, name: str, found: FlatsCompared) -> None:
        write_text(self._work.folder("flats") / f"{name}.json", dump(found))

    def keep_masters(self, masters: Sequence[MasterFile]) -> None:
        with self._work.store.session() as session:
            known = {
                record.path: record
                for record in session.scalars(
                    select(MasterRecord).where(MasterRecord.campaign_id == self._work.campaign_id)
                )
            }
            for master in masters:
                path, facts = str(master.path), dump(master.facts)
                made = datetime.fromtimestamp(master.path.stat().st_mtime, UTC)
                record = known.pop(path, None)
                if record is None:
                    record = MasterRecord(campaign_id=self._work.campaign_id, path=path)
                    session.add(record)
                record.label, record.facts = master.facts.label, facts
                record.made = made.replace(tzinfo=None)
            for gone in known.values():
                session.delete(gone)
        there = {master.path for master in masters}
        for file in self._work.folder("masters").glob("*.fits"):
            if file not in there:
                file.unlink()

    def keep_chains(self, chains: BuiltChains) -> None:
        number = self._work.campaign_id
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            old = session.scalars(
                select(ChainRecord).where(ChainRecord.campaign_id == number)
            ).all()
            before = {record.name: record.fingerprint for record in old}
            others = any(chains.prints.get(name) != kept for name, kept in before.items())
            reports = {name: dump(report) for name, report in chains.reports.items()}
            same = {
                r.name
                for r in old
                if (r.report, r.fingerprint) == (reports.get(r.name), chains.prints.get(r.name))
            }
            gone = [record.id for record in old if record.name not in same]
            session.execute(delete(DefectMap).where(DefectMap.chain_id.in_(gone)))
            session.execute(delete(ChainRecord).where(ChainRecord.id.in_(gone)))
            for name, report in chains.reports.items():
                if name in same:
                    continue
                record = ChainRecord(
                    campaign_id=number, name=name, report=reports[name],
                    fingerprint=chains.prints[name],
                )  # fmt: skip
                session.add(record)
                session.flush()
                path = str(Path(report.folder) / "defects.npy")
                session.add(DefectMap(chain_id=record.id, path=path, count=report.defects))
            if campaign.kits is None:
                # From now on it stays, whatever is said in the kits' other campaigns.
                campaign.kits = kits_to_json(kits_of(session, campaign), taken=True)
            changed_after_measuring(session, campaign, ["masters"] if others else [])
            frames = told_of(session, campaign, *OF_CALIBRATION)
            campaign.masters_with = calibration_print(campaign, frames)
            campaign.revision += 1
        # What was in force until now is kept too: an image of it may just be made.
        in_use = {name[:16] for name in (*chains.prints.values(), *before.values())}
        for folder in self._work.folder("chains").iterdir():
            if folder.name not in in_use:
                shutil.rmtree(folder, ignore_errors=True)

    def keep_field(self, field: Field) -> None:
        with self._work.store.session() as session:
            campaign = self._work.campaign(session)
            if campaign.catalogue_id is not None and not field.added:
                return
            looked_up = campaign.catalogue_id is None
            name = " and ".join(field.origins) or "catalogue"
            name = f"{campaign.name} with target" if field.added else name
            origin = "" if field.added else campaign.cone_url or ""
            fetched = now() if looked_up else None
            stars = field.stars
            campaign.catalogue_id = save_catalogue(session, stars, name, origin, fetched=fetched).id

    # Exposures.

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
        return self._work.folder("parts") / f"{name}.npz"

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
        with self._work.store.session() as session:
            for result in results:
                file = session.get_one(NightFile, self._id(ready, result.index))
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
            campaign.changed_since = ""

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
            kept = targets_of(campaign)
            first, *beside = (
                _wanted(session, kept[place], ready.field.stars)
                for place in places_of(campaign, ready)
            )
            return replace(first, beside=tuple(beside))

    def keep_settled(self, ready: Prepared, settled: Settled, *, accept: bool) -> None:
        ids = {job.index: self._id(ready, job.index) for job in ready.jobs}
        with self._work.store.session() as session:
            propose(session, self._work.campaign(session), ready, settled, ids, accept=accept)

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
    session.execute(delete(PlacementRecord).where(PlacementRecord.file_id == file.id))
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
