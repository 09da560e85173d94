"""Place and census: a task for every exposure, and only where something changed.

Every piece is kept with a fingerprint of what it was made from, so that a job that was interrupted
finds its pieces again and does only the rest.
"""

from __future__ import annotations

import os
import pickle
from collections.abc import Callable
from pathlib import Path

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from narrow_beacon.jobs.proposals import propose_by_looks
from narrow_beacon.jobs.ready import Prepared, prepare, probe_groups
from narrow_beacon.jobs.work import Work
from narrow_beacon.reduce.context import ExposureJob, GroupSettings
from narrow_beacon.reduce.prepare import runs_of
from narrow_beacon.reduce.tasks import ExposureResult, measure_exposures, place_exposures
from narrow_beacon.store.campaigns import files_of, fingerprint
from narrow_beacon.store.census import read_census_table, write_census_table
from narrow_beacon.store.codec import quality_to_json, solution_to_json
from narrow_beacon.store.models import CensusFile, NightFile, PlacementRecord

_METHOD = "1"
"""Changes when a newer version would place or measure differently."""


def place_all(work: Work) -> None:
    """Place every exposure on the sky and measure its quality; what is up to date stays."""
    ready = probe_groups(work, prepare(work))
    _run_exposures(
        work, ready, place_exposures, _place_print, "placed_with", "placing", _keep_placed
    )
    propose_by_looks(work)


def measure_all(work: Work) -> None:
    """The census of every exposure; what is up to date stays."""
    ready = probe_groups(work, prepare(work))
    parts = work.folder("parts")

    def keep(session: Session, file: NightFile, result: ExposureResult) -> None:
        _keep_placed(session, file, result)
        if result.census is not None:
            scratch = parts / f"{file.id}.new"
            scratch.write_bytes(pickle.dumps(result.census))
            scratch.replace(parts / f"{file.id}.census")

    _run_exposures(
        work, ready, measure_exposures, _census_print, "measured_with", "measuring", keep
    )
    work.reporter.start("writing the census", len(ready.context.groups))
    for group, settings in ready.context.groups.items():
        _write_group(work, ready, group, settings)
        work.reporter.advance()
    propose_by_looks(work)
    with work.store.session() as session:
        campaign = work.campaign(session)
        campaign.constants = dict(ready.constants)
        campaign.changed_since = ""
        flat = [words for words in campaign.remarks if words.startswith("dust moved")]
        campaign.remarks = list(dict.fromkeys([*flat, *ready.remarks]))


def _place_print(ready: Prepared, job: ExposureJob) -> str:
    return fingerprint(
        _METHOD, job.frame.sha256, ready.chain_prints[job.chain], len(ready.stars),
        ready.stars.names[0], ready.target, ready.context.scale_arcsec_per_px,
        ready.context.linear_limit_adu,
    )  # fmt: skip


def _census_print(ready: Prepared, job: ExposureJob) -> str:
    group = ready.context.groups[job.group]
    return fingerprint(
        _place_print(ready, job), group.radii_px, group.radii_follow_width, group.annulus_px,
        ready.context.cameras[job.chain], job.frame.exposure_s, round(job.airmass, 6),
    )  # fmt: skip


def _run_exposures(
    work: Work,
    ready: Prepared,
    task: Callable[..., list[ExposureResult]],
    print_of: Callable[[Prepared, ExposureJob], str],
    column: str,
    words: str,
    keep: Callable[[Session, NightFile, ExposureResult], None],
) -> None:
    """Run a task over all exposures whose result is missing or out of date."""
    path = (
        work.folder("scratch") / f"{column}-context-{fingerprint(work.reporter.progress.job)[:8]}"
    )
    ready.context.save(path)
    jobs = {job.index: job for job in ready.jobs}
    prints = {index: print_of(ready, job) for index, job in jobs.items()}
    with work.store.session() as session:
        campaign = work.campaign(session)
        have = {file.id: getattr(file, column) for file in files_of(session, campaign)}
        for number, reason in ready.without_band.items():
            session.get_one(NightFile, number).trouble = reason
    todo = [job for job in ready.jobs if have[ready.file_id(job.index)] != prints[job.index]]
    work.reporter.start(words, len(ready.jobs), len(ready.jobs) - len(todo))

    def done(part: list[ExposureResult]) -> None:
        with work.store.session() as session:
            for result in part:
                file = session.get_one(NightFile, ready.file_id(result.index))
                keep(session, file, result)
                setattr(file, column, prints[result.index])
                if column == "measured_with":
                    file.placed_with = _place_print(ready, jobs[result.index])
                if result.reason:
                    work.reporter.fail(f"{file.name}: {result.reason}")
        work.reporter.advance(len(part))

    try:
        work.pool.map(task, [(str(path), run) for run in runs_of(todo)], done)
    finally:
        path.unlink(missing_ok=True)


def _keep_placed(session: Session, file: NightFile, result: ExposureResult) -> None:
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


def _write_group(work: Work, ready: Prepared, group: str, settings: GroupSettings) -> None:
    """Join new pieces of a group with those that its Parquet file has; write it anew."""
    parts = work.folder("parts")
    jobs = [job for job in ready.jobs if job.group == group]
    prints = fingerprint([_census_print(ready, job) for job in jobs])
    path = work.folder("census") / f"{group.replace(' ', '-').replace('/', '_')}.parquet"
    with work.store.session() as session:
        record = session.scalars(
            select(CensusFile).where(
                CensusFile.campaign_id == work.campaign_id, CensusFile.group_name == group
            )
        ).first()
        if record and record.fingerprint == prints and Path(record.path).exists():
            return
        old = {}
        if record and Path(record.path).exists():
            table = read_census_table(Path(record.path))
            old = {number: table.exposure(i) for i, number in enumerate(table.file_ids)}
        members = []
        used = []
        for job in jobs:
            number = ready.file_id(job.index)
            if session.get_one(NightFile, number).trouble:
                continue
            piece = parts / f"{number}.census"
            if piece.exists():
                census = pickle.loads(piece.read_bytes())
                used.append(piece)
            elif number in old:
                census = old[number]
            else:
                session.get_one(NightFile, number).measured_with = ""
                continue
            members.append((number, job.frame.exposure_s, census))
        if members:
            write_census_table(path, members)
        if record is None:
            record = CensusFile(
                campaign_id=work.campaign_id, group_name=group, filter=jobs[0].frame.filter or ""
            )
            session.add(record)
        record.path, record.fingerprint = str(path), prints
        record.exposures, record.fwhm_px = len(members), settings.fwhm_px
    for piece in used:
        os.unlink(piece)
