"""What each kind of job does: sort, masters, place, census, and all of it with the curve.

Every step keeps what it made, with a fingerprint of what it was made from, so that a job that was
interrupted finds its pieces again and does only the rest.
"""

from __future__ import annotations

import contextlib
import os
import pickle
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.sky_index import SkyIndex
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.time import Times, exposure_times
from narrow_beacon.core.errors import BeaconError, CatalogueError
from narrow_beacon.core.frames.sort import Frame, RawFile, list_files
from narrow_beacon.jobs.progress import Reporter
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.calibrate import (
    ChainReport,
    MasterFile,
    build_chain,
    build_masters,
    chain_name,
    flat_remarks,
)
from narrow_beacon.reduce.context import Context, ExposureJob, GroupSettings
from narrow_beacon.reduce.field import search_around, stars_of_plan
from narrow_beacon.reduce.kit import KitConstants
from narrow_beacon.reduce.prepare import (
    bands_of,
    chain_calls,
    jobs_of,
    make_context,
    probe_picks,
    runs_of,
    settings_of,
    target_place,
)
from narrow_beacon.reduce.tasks import (
    ExposureResult,
    measure_exposures,
    place_exposures,
    probe,
    read_raw_files,
)
from narrow_beacon.reduce.vet import out_of_focus
from narrow_beacon.reduce.workers import Pool
from narrow_beacon.store.campaigns import (
    CampaignNights,
    add_raw_file,
    chains_of,
    files_of,
    fingerprint,
    now,
    plan_of,
    refresh_files,
    sort_files,
)
from narrow_beacon.store.census import read_census_table, write_census_table
from narrow_beacon.store.codec import dump, quality_from_json, quality_to_json, solution_to_json
from narrow_beacon.store.database import Store
from narrow_beacon.store.fields import save_catalogue
from narrow_beacon.store.models import (
    Campaign,
    CensusFile,
    ChainRecord,
    DefectMap,
    MasterRecord,
    NightFile,
    PlacementRecord,
)

_FILES_PER_TASK = 4
_METHOD = "1"
"""Changes when a newer version would place or measure differently."""


class NotReadyError(BeaconError):
    """A step that needs an earlier one; says which, and what to do."""


@dataclass
class Work:
    """One job's surroundings: records, pool, progress."""

    store: Store
    pool: Pool
    campaign_id: int
    reporter: Reporter
    cancelled: Callable[[], bool]

    def folder(self, *parts: str) -> Path:
        """A folder of this campaign below the data folder."""
        return self.store.folder(f"campaign-{self.campaign_id}", *parts)

    def campaign(self, session: Session) -> Campaign:
        """The campaign's record."""
        return session.get_one(Campaign, self.campaign_id)


def sort_folders(work: Work) -> None:
    """Read every file below the campaign's folders that is new or has changed; sort them all."""
    with work.store.session() as session:
        campaign = work.campaign(session)
        folders = [Path(folder) for folder in campaign.folders]
        known = {f.path: (f.size, f.modified_ns) for f in files_of(session, campaign)}
    paths = list_files(folders)
    fresh = [path for path in paths if known.get(str(path)) != _state(path)]
    calls = [
        ([(path, path.name) for path in fresh[i : i + _FILES_PER_TASK]],)
        for i in range(0, len(fresh), _FILES_PER_TASK)
    ]
    work.reporter.start("reading headers", len(paths), len(paths) - len(fresh))

    def keep(part: tuple[list[str], list[RawFile]]) -> None:
        names, raws = part
        with work.store.session() as session:
            campaign = work.campaign(session)
            for name, raw in zip(names, raws, strict=True):
                add_raw_file(session, campaign, Path(name), raw)
        work.reporter.advance(len(raws))

    work.pool.map(_read_with_paths, calls, keep)
    with work.store.session() as session:
        campaign = work.campaign(session)
        gone = set(known) - {str(path) for path in paths}
        for file in files_of(session, campaign):
            if file.path in gone:
                file.raw = dump(
                    RawFile(file.name, "", None, None, "no longer there; was it moved?")
                )
        nights = refresh_files(session, campaign)
        _take_target_from_headers(campaign, nights)
        campaign.revision += 1


def _read_with_paths(paths: Sequence[tuple[Path, str]]) -> tuple[list[str], list[RawFile]]:
    return [str(path) for path, _ in paths], read_raw_files(paths)


def _state(path: Path) -> tuple[int, str]:
    try:
        status = path.stat()
    except OSError:
        return 0, ""
    return status.st_size, str(status.st_mtime_ns)


def _take_target_from_headers(campaign: Campaign, nights: CampaignNights) -> None:
    """Where the telescope pointed, and at what, until the observer says what the target is."""
    if campaign.target_sure or campaign.target_ra_deg is not None:
        return
    for frame in nights.night.exposures:
        facts = frame.facts
        if facts.ra_deg and facts.dec_deg:
            campaign.target_name = facts.object_name.value if facts.object_name else ""
            campaign.target_ra_deg = facts.ra_deg.value
            campaign.target_dec_deg = facts.dec_deg.value
            return


def make_masters(work: Work) -> None:
    """Build masters and the chains that correct each kind of exposure."""
    with work.store.session() as session:
        campaign = work.campaign(session)
        nights = sort_files(session, campaign)
    if not nights.night.exposures:
        raise NotReadyError("There are no exposures of the sky yet: point Intake to a folder.")
    work.reporter.start("building masters", 0)
    masters = build_masters(
        nights.night.calibration,
        work.folder("masters"),
        work.folder("scratch"),
        work.pool,
        lambda _: work.reporter.advance(),
        reuse=True,
    )
    remarks = flat_remarks(masters)
    with work.store.session() as session:
        session.execute(delete(MasterRecord).where(MasterRecord.campaign_id == work.campaign_id))
        for master in masters:
            session.add(
                MasterRecord(
                    campaign_id=work.campaign_id,
                    label=master.facts.label,
                    path=str(master.path),
                    facts=dump(master.facts),
                    made=now(),
                )
            )
    _build_chains(work, nights, masters, remarks)


def _build_chains(
    work: Work, nights: CampaignNights, masters: Sequence[MasterFile], remarks: Sequence[str]
) -> None:
    calls = chain_calls(nights.night.exposures, masters, work.folder("chains"))
    # A folder per set of masters: an image or a census that is being made keeps its planes.
    prints = {
        call[0].name: fingerprint(
            call[0], [m.facts.inputs for m in masters], [f.sha256 for f in call[2]]
        )
        for call in calls
    }
    calls = [
        (plan, masters, examples, work.folder("chains") / prints[plan.name][:16])
        for plan, _, examples, _ in calls
    ]
    work.reporter.start("preparing corrections", len(calls))
    reports = work.pool.map(build_chain, calls, lambda _: work.reporter.advance())
    with work.store.session() as session:
        old = select(ChainRecord.id).where(ChainRecord.campaign_id == work.campaign_id)
        session.execute(delete(DefectMap).where(DefectMap.chain_id.in_(old)))
        session.execute(delete(ChainRecord).where(ChainRecord.campaign_id == work.campaign_id))
        for report in reports:
            record = ChainRecord(
                campaign_id=work.campaign_id,
                name=report.name,
                report=dump(report),
                fingerprint=prints[report.name],
            )
            session.add(record)
            session.flush()
            session.add(
                DefectMap(
                    chain_id=record.id,
                    path=str(Path(report.folder) / "defects.npy"),
                    count=report.defects,
                )
            )
        campaign = work.campaign(session)
        campaign.remarks = list(remarks)
        campaign.revision += 1


@dataclass(frozen=True)
class Prepared:
    """A campaign ready to be placed or measured."""

    plan: Plan
    nights: CampaignNights
    stars: StarTable
    target: int
    chains: dict[str, ChainReport]
    chain_prints: dict[str, str]
    times: Times
    context: Context
    jobs: tuple[ExposureJob, ...]
    constants: dict[str, str]
    remarks: tuple[str, ...]
    without_band: dict[int, str]
    target_known: bool
    """False where ``target`` only stands for the middle of the field."""

    @cached_property
    def exposures(self) -> Sequence[Frame]:
        """Exposures in order of time."""
        return self.nights.night.exposures

    def file_id(self, index: int) -> int:
        """The record of an exposure."""
        return self.nights.ids[self.exposures[index].name]


def prepare(work: Work) -> Prepared:
    """Read what placing and measuring need. Raises NotReadyError."""
    with work.store.session() as session:
        campaign = work.campaign(session)
        nights = sort_files(session, campaign)
        exposures = nights.night.exposures
        if not exposures:
            raise NotReadyError("There are no exposures of the sky yet: point Intake to a folder.")
        if campaign.catalogue_id is None and campaign.cone_url is None:
            raise NotReadyError(
                "No catalogue yet: name a file or a cone search service in Intake, so that the "
                "exposures can be placed on the sky."
            )
        plan = plan_of(session, campaign)
        remarks: list[str] = []
        if plan.stars is None:
            plan = _search_catalogue(session, campaign, plan, exposures)
        stars, target, target_known = _target(campaign, plan, exposures, remarks)
        if plan.stars is not None and len(stars) > len(plan.stars):
            # The target itself was added: keep it with the others.
            record = save_catalogue(session, stars, f"{campaign.name} with target", "", "")
            campaign.catalogue_id = record.id
        chains = chains_of(session, campaign)
        prints = {
            record.name: record.fingerprint
            for record in session.scalars(
                select(ChainRecord).where(ChainRecord.campaign_id == campaign.id)
            )
        }
    if not {chain_name(frame) for frame in exposures} <= set(chains):
        raise NotReadyError("The masters are not up to date: build them in Correct first.")
    bands, without = bands_of(exposures, stars)
    unknown = {
        nights.ids[frame.name]: without[frame.filter or ""]
        for frame in exposures
        if (frame.filter or "") in without
    }
    mids = [frame.mid_utc for frame in exposures if frame.mid_utc]
    times = exposure_times(mids, *target_place(stars, target, mids), plan.site)
    kit = KitConstants(plan, plan.site, nights.night)
    context = make_context(plan, stars, target, bands, exposures, chains, kit)
    return Prepared(
        plan, nights, stars, target, chains, prints, times, context,
        tuple(jobs_of(exposures, bands, times)), kit.constants, (*remarks, *kit.remarks), unknown,
        target_known,
    )  # fmt: skip


def _target(
    campaign: Campaign, plan: Plan, exposures: Sequence[Frame], remarks: list[str]
) -> tuple[StarTable, int, bool]:
    """Stars, the target's row, and whether it is the target indeed."""
    assert plan.stars is not None
    if campaign.target_sure:
        return *stars_of_plan(plan, exposures, remarks), True
    with contextlib.suppress(CatalogueError):
        return plan.stars, plan.stars.row(campaign.target_name), True
    if plan.target_ra_deg is None or plan.target_dec_deg is None:
        raise NotReadyError(
            "Neither headers nor Intake say where the field is: give the target's name or position."
        )
    ra, dec = plan.stars.at_epoch(2000.0)
    row, _ = SkyIndex(ra, dec).nearest(plan.target_ra_deg, plan.target_dec_deg)
    remarks.append("the target is not known yet: click it in Cast and press T")
    return plan.stars, row, False


def _search_catalogue(
    session: Session, campaign: Campaign, plan: Plan, exposures: Sequence[Frame]
) -> Plan:
    if plan.target_ra_deg is None or plan.target_dec_deg is None:
        raise NotReadyError(
            "A cone search needs the target's position: give right ascension and declination in "
            "Intake."
        )
    stars = search_around(plan, exposures)
    record = save_catalogue(session, stars, "cone search", campaign.cone_url or "")
    campaign.catalogue_id = record.id
    return replace(plan, stars=stars)


def probe_groups(work: Work, ready: Prepared) -> Prepared:
    """Learn star width and a reference solution of each night and filter."""
    path = work.folder("scratch") / "probe-context"
    ready.context.save(path)
    picks = probe_picks(ready.jobs)
    work.reporter.start("looking at a few exposures", len(picks))
    probes = work.pool.map(
        probe, [(str(path), job) for job in picks], lambda _: work.reporter.advance()
    )
    settings = settings_of(ready.plan, picks, probes)
    return replace(ready, context=replace(ready.context, groups=settings))


def place_all(work: Work) -> None:
    """Place every exposure on the sky and measure its quality; what is up to date stays."""
    ready = probe_groups(work, prepare(work))
    _run_exposures(
        work, ready, place_exposures, _place_print, "placed_with", "placing", _keep_placed
    )
    _propose_by_looks(work)


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
    _propose_by_looks(work)
    with work.store.session() as session:
        campaign = work.campaign(session)
        campaign.constants = dict(ready.constants)
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
    prints = {job.index: print_of(ready, job) for job in ready.jobs}
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
                    file.placed_with = _place_print(ready, _job(ready, result.index))
                if result.reason:
                    work.reporter.fail(f"{file.name}: {result.reason}")
        work.reporter.advance(len(part))

    try:
        work.pool.map(task, [(str(path), run) for run in runs_of(todo)], done)
    finally:
        path.unlink(missing_ok=True)


def _job(ready: Prepared, index: int) -> ExposureJob:
    return next(job for job in ready.jobs if job.index == index)


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


def _propose_by_looks(work: Work) -> None:
    """Propose to set aside what is out of focus or drawn out, judged within night and filter."""
    with work.store.session() as session:
        campaign = work.campaign(session)
        groups: dict[tuple[int | None, str], list[NightFile]] = {}
        for file in files_of(session, campaign):
            if file.part == "exposure" and file.quality:
                groups.setdefault((file.night_id, file.filter), []).append(file)
        for files in groups.values():
            reasons = out_of_focus([_looks(file) for file in files])
            for file in files:
                set_proposal(file, reasons.get(file.id, ""))
        campaign.revision += 1


def set_proposal(file: NightFile, reason: str) -> None:
    """Put a reason forward, unless the observer decided on this exposure."""
    undecided = not file.kept and not file.aside_by and not file.trouble
    file.proposal = reason if undecided else ""


def _looks(file: NightFile) -> ExposureResult:
    return ExposureResult(file.id, None, quality_from_json(file.quality), None, None)
