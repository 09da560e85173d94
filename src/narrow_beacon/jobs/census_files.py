"""The censuses of a night in one filter as one file: new pieces join what the file has."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from narrow_beacon.jobs.work import Work
from narrow_beacon.reduce.context import ExposureJob
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.reduce.prepare import Prepared, ResultPrints, by_group
from narrow_beacon.store.census import (
    headings_of,
    take_from_table,
    write_census_table,
)
from narrow_beacon.store.census_columns import write_columns
from narrow_beacon.store.census_runs import Heading, SortedCensuses
from narrow_beacon.store.files import told_of
from narrow_beacon.store.models import CensusFile, NightFile
from narrow_beacon.store.pieces import read_piece


def write_groups(
    work: Work,
    ready: Prepared,
    prints: ResultPrints,
    ids: Mapping[int, int],
    piece: Callable[[str], Path],
) -> None:
    """Write every group whose pieces are others than its file has; groups that are no more go, and
    whatever is in none any more, since its folder was taken out, counts as not measured.
    """
    groups = by_group(ready.jobs)
    made = {
        name: fingerprint([(ids[job.index], prints.measured[job.index]) for job in jobs])
        for name, jobs in groups.items()
    }
    with work.store.session() as session:
        there = {
            (record.group_name, record.fingerprint)
            for record in _records(session, work.campaign_id)
            if Path(record.path).exists()
        }
        told = told_of(session, work.campaign(session), "id", "trouble")
        troubled = {number for number, trouble in told if trouble}
    todo = [one for one in made.items() if one not in there]
    work.reporter.start("writing the census", len(groups), len(groups) - len(todo))
    joining = _Joining(work, ready, prints, ids, piece, frozenset(troubled))
    for name, new in todo:
        joining.write(name, groups[name], new)
        work.reporter.advance()
    with work.store.session() as session:
        kept = set()
        for record in _records(session, work.campaign_id):
            if record.group_name in groups:
                kept.add(record.path)
            else:
                session.delete(record)
        measured = select(NightFile.id).where(
            NightFile.campaign_id == work.campaign_id, NightFile.measured_with != ""
        )
        without = sorted(set(session.scalars(measured)) - set(ids.values()))
        if without:
            nothing = [{"id": number, "measured_with": ""} for number in without]
            session.execute(update(NightFile), nothing)
    for path in work.folder("census").iterdir():
        if str(path.with_suffix(".parquet")) not in kept:
            path.unlink()
    for path in work.folder("parts").iterdir():
        path.unlink()
    for path in work.folder("scratch").glob("context-*"):
        path.unlink()


def _records(session: Session, campaign: int) -> Sequence[CensusFile]:
    return session.scalars(select(CensusFile).where(CensusFile.campaign_id == campaign)).all()


@dataclass(frozen=True)
class _Joining:
    """Joins the pieces of groups into their files; exposures in trouble have none."""

    work: Work
    ready: Prepared
    prints: ResultPrints
    ids: Mapping[int, int]
    piece: Callable[[str], Path]
    troubled: frozenset[int]

    def write(self, group: str, jobs: Sequence[ExposureJob], made: str) -> None:
        """The file of a group that is ``made`` of these exposures."""
        settings = self.ready.context.groups[group]
        plain = re.sub(r"[^A-Za-z0-9.-]+", "-", group).strip("-")
        path = self.work.folder("census") / f"{plain}-{made[:12]}.parquet"
        with self.work.store.session() as session:
            record = session.scalars(
                select(CensusFile).where(
                    CensusFile.campaign_id == self.work.campaign_id, CensusFile.group_name == group
                )
            ).first()
            old = Path(record.path) if record and Path(record.path).exists() else None
            there = {head.file_id: head for head in headings_of(old)} if old else {}
            members, lost = 0, []
            with SortedCensuses(path.parent) as censuses:
                again: dict[int, Heading] = {}
                for job in jobs:
                    number, kept = self.ids[job.index], self.piece(self.prints.measured[job.index])
                    if number in self.troubled:
                        continue
                    if kept.exists():
                        one, seconds = read_piece(kept), job.frame.exposure_s
                        head = Heading(number, seconds, one.radii_px, one.noise)
                        censuses.add(members, head, one.records)
                    elif number in there:
                        again[members] = replace(there[number], exposure_s=job.frame.exposure_s)
                    else:
                        lost.append(number)
                        continue
                    members += 1
                if old:
                    take_from_table(censuses, old, again)
                if members:
                    write_census_table(path, censuses)
                    write_columns(path, censuses)
            if lost:  # they are measured again the next time
                whole = update(NightFile).where(NightFile.id.in_(lost))
                session.execute(whole.values(measured_with=""))
            if record is None:
                record = CensusFile(campaign_id=self.work.campaign_id, group_name=group)
                session.add(record)
            record.filter = jobs[0].frame.filter or ""
            record.path, record.fingerprint = str(path), made
            record.exposures, record.fwhm_px = members, settings.fwhm_px
            record.annulus_px = list(settings.annulus_px)
