"""Campaigns as the core sees them: the plan in force, the sorted night, what was made of it."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from uuid import uuid4

from sqlalchemy import select
from sqlalchemy.orm import Session, undefer

from narrow_beacon.core.curve.time import Site as Place
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.frames.sort import Correction, Frame, RawFile, SortedNight
from narrow_beacon.plan import Plan, RadiusRule
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import dump, load
from narrow_beacon.reduce.names import chain_name, fingerprint, group_name
from narrow_beacon.reduce.sorting import SortedFiles, sort_raw_files
from narrow_beacon.store.fields import save_catalogue, star_table
from narrow_beacon.store.models import (
    Campaign,
    Catalogue,
    CensusFile,
    ChainRecord,
    Job,
    Kit,
    Night,
    NightFile,
    Site,
)

AWAY = "not there now; was it moved, or is its disk away? What is known of it is kept"
"""Why a file that was read before takes no part."""
OF_HEADERS = "headers"
"""The name of a site that the files' headers gave."""


def now() -> datetime:
    """The moment, UTC, as the records keep it."""
    return datetime.now(UTC).replace(tzinfo=None)


def new_campaign(session: Session, name: str, folders: Sequence[Path]) -> Campaign:
    """A campaign of which only the folders are known."""
    campaign = Campaign(
        name=name, created=now(), folders=[str(folder) for folder in folders],
        wanted_comparison=[], remarks=[], constants={}, picks={}, bands={}, archived=False,
    )  # fmt: skip
    session.add(campaign)
    session.flush()
    return campaign


def take_plan(session: Session, campaign: Campaign, plan: Plan) -> None:
    """Take over what a plan says: folders, catalogue, site, kit, target, cast."""
    campaign.folders = [str(folder.resolve()) for folder in plan.folders]
    campaign.target_name = plan.target_name or ""
    campaign.target_ra_deg, campaign.target_dec_deg = plan.target_ra_deg, plan.target_dec_deg
    campaign.target_sure = bool(plan.target_name or plan.target_ra_deg is not None)
    campaign.default_filter = plan.default_filter
    campaign.library = str(plan.library.resolve()) if plan.library else None
    campaign.epoch_yr = plan.epoch_yr
    campaign.bands = dict(plan.bands)
    campaign.measuring = measuring_of(plan)
    campaign.wanted_comparison = list(plan.comparison)
    campaign.wanted_check = plan.check
    own = plan.base / plan.layout
    campaign.layout = str(own.resolve()) if own.is_file() else plan.layout
    campaign.cone_url = plan.cone_url
    if plan.site:
        site = Site(
            name=f"{plan.site.latitude_deg:.2f}° {plan.site.longitude_deg:.2f}°",
            latitude_deg=plan.site.latitude_deg,
            longitude_deg=plan.site.longitude_deg,
            elevation_m=plan.site.elevation_m,
        )
        session.add(site)
        session.flush()
        campaign.site_id = site.id
    kit = Kit(
        name="kit of the plan",
        gain_e_per_adu=plan.gain_e_per_adu,
        read_noise_e=plan.read_noise_e,
        linear_limit_adu=plan.linear_limit_adu,
        aperture_m=plan.aperture_m,
        scale_arcsec_per_px=plan.scale_arcsec_per_px,
        timestamp=plan.timestamp,
        clock_offset_s=plan.clock_offset_s,
    )
    session.add(kit)
    session.flush()
    campaign.kit_id = kit.id
    if plan.stars is not None and plan.catalogue_file is not None:
        path = plan.catalogue_file
        record = save_catalogue(session, plan.stars, path.name, str(path), file_sha256(path))
        campaign.catalogue_id = record.id


def measuring_of(plan: Plan) -> dict[str, Any]:
    """A plan's radius and sky ring, as a campaign keeps them."""
    return {
        "radius_px": plan.radius.pixels,
        "radius_fwhm": plan.radius.widths,
        "annulus": list(plan.annulus),
        "annulus_in_pixels": plan.annulus_in_pixels,
    }


def base_folder(campaign: Campaign) -> Path:
    """What the names of a campaign's files are relative to."""
    parents = [str(Path(folder).parent) for folder in campaign.folders]
    return Path(os.path.commonpath(parents)) if parents else Path("/")


def plan_of(session: Session, campaign: Campaign, output: Path = Path("out")) -> Plan:
    """The campaign's settings as the core's plan."""
    kit = session.get(Kit, campaign.kit_id) if campaign.kit_id else None
    measuring = campaign.measuring or measuring_of(Plan(Path(), "", ()))
    base = base_folder(campaign)
    plan = Plan(
        path=base / "campaign",
        text="",
        folders=tuple(Path(folder) for folder in campaign.folders),
        library=library_of(campaign),
        default_filter=campaign.default_filter,
        epoch_yr=campaign.epoch_yr,
        cone_url=campaign.cone_url,
        site=place_of(session, campaign, of_headers=False),
        target_name=campaign.target_name or None,
        target_ra_deg=campaign.target_ra_deg,
        target_dec_deg=campaign.target_dec_deg,
        target_sure=campaign.target_sure,
        bands=campaign.bands or {},
        radius=RadiusRule(measuring["radius_px"], measuring["radius_fwhm"]),
        annulus=(measuring["annulus"][0], measuring["annulus"][1]),
        annulus_in_pixels=measuring["annulus_in_pixels"],
        comparison=tuple(campaign.wanted_comparison),
        check=campaign.wanted_check,
        output=output,
        layout=campaign.layout,
    )
    if campaign.catalogue_id:
        catalogue = session.get_one(Catalogue, campaign.catalogue_id)
        origin = Path(catalogue.origin)
        plan = replace(
            plan,
            stars=star_table(session, campaign.catalogue_id),
            catalogue_file=origin if origin.is_file() else None,
        )
    if kit:
        plan = replace(
            plan,
            gain_e_per_adu=kit.gain_e_per_adu,
            read_noise_e=kit.read_noise_e,
            linear_limit_adu=kit.linear_limit_adu,
            aperture_m=kit.aperture_m,
            scale_arcsec_per_px=kit.scale_arcsec_per_px,
            timestamp=kit.timestamp,
            clock_offset_s=kit.clock_offset_s,
        )
    return plan


def library_of(campaign: Campaign) -> Path | None:
    """The folder of masters of earlier nights, where it is there."""
    folder = Path(campaign.library) if campaign.library else None
    return folder if folder and folder.is_dir() else None


def place_of(session: Session, campaign: Campaign, *, of_headers: bool = True) -> Place | None:
    """Where the telescope stands, where that is known; ``of_headers``: also where only the headers
    of its files say so.
    """
    if campaign.site_id is None:
        return None
    site = session.get_one(Site, campaign.site_id)
    if site.name == OF_HEADERS and not of_headers:
        return None
    return Place(site.latitude_deg, site.longitude_deg, site.elevation_m)


def _take_from_headers(session: Session, campaign: Campaign, plan: Plan) -> None:
    """What only the headers say of target and site, until the observer does."""
    if not campaign.target_name and campaign.target_ra_deg is None:
        campaign.target_name = plan.target_name or ""
        campaign.target_ra_deg, campaign.target_dec_deg = plan.target_ra_deg, plan.target_dec_deg
    known = session.get(Site, campaign.site_id) if campaign.site_id else None
    if plan.site is None or (known and known.name != OF_HEADERS):
        return
    values = vars(plan.site)
    if known is None or any(getattr(known, name) != value for name, value in values.items()):
        site = Site(name=OF_HEADERS, **values)
        session.add(site)
        session.flush()
        campaign.site_id = site.id


@dataclass(frozen=True)
class CampaignNights:
    """A campaign's files as the core sorts them; ``ids`` are their records' numbers by name."""

    night: SortedNight
    ids: dict[str, int]


def files_of(session: Session, campaign: Campaign) -> Sequence[NightFile]:
    """All files below a campaign's folders, in order of path."""
    return session.scalars(
        select(NightFile)
        .where(NightFile.campaign_id == campaign.id, NightFile.part != "removed")
        .order_by(NightFile.path)
    ).all()


def files_with_headers(session: Session, campaign: Campaign) -> Sequence[NightFile]:
    """All files below a campaign's folders with what their headers say, in order of path."""
    folders = tuple(f"{folder.rstrip('/')}/" for folder in campaign.folders)
    files = session.scalars(
        select(NightFile)
        .options(undefer(NightFile.raw))
        .where(NightFile.campaign_id == campaign.id)
        .order_by(NightFile.path)
    ).all()
    return [file for file in files if file.path.startswith(folders)]


@dataclass(frozen=True)
class KnownFiles:
    """What is known of a campaign's files: as they were read, the observer's words, and their
    records' numbers, all by name.
    """

    raws: list[RawFile]
    words: dict[str, Correction]
    ids: dict[str, int]


def known_files(session: Session, campaign: Campaign) -> KnownFiles:
    """The files of a campaign as a walk sorts them."""
    base = base_folder(campaign)
    raws, words, ids = [], {}, {}
    for file in files_with_headers(session, campaign):
        name = Path(os.path.relpath(file.path, base)).as_posix()
        raw = replace(load(RawFile, file.raw), name=name)
        if file.away:
            raw = RawFile(name, "", None, None, AWAY)
        raws.append(raw)
        word = correction_of(file)
        if word:
            words[name] = word
        ids[name] = file.id
    return KnownFiles(raws, words, ids)


def sort_files(session: Session, campaign: Campaign) -> CampaignNights:
    """Sort the files by their headers and the observer's corrections."""
    known = known_files(session, campaign)
    plan = plan_of(session, campaign)
    return CampaignNights(sort_raw_files(plan, known.raws, known.words).night, known.ids)


def correction_of(file: NightFile) -> Correction | None:
    """The observer's word on a file, where there is one."""
    if not file.correction:
        return None
    values = dict(file.correction)
    if values.get("time_utc"):
        values["time_utc"] = datetime.fromisoformat(values["time_utc"])
    return Correction(**values)


def refresh_files(session: Session, campaign: Campaign) -> SortedFiles:
    """Sort anew and write down what every file is now."""
    known = known_files(session, campaign)
    files = sort_raw_files(plan_of(session, campaign), known.raws, known.words)
    write_sorted(session, campaign, files, known.ids)
    return files


def write_sorted(
    session: Session, campaign: Campaign, files: SortedFiles, ids: Mapping[str, int]
) -> None:
    """Write down what every file is; those below no folder of the campaign are out of it."""
    by_id = {
        file.id: file
        for file in session.scalars(select(NightFile).where(NightFile.campaign_id == campaign.id))
    }
    nights = {
        night.evening: night
        for night in session.scalars(select(Night).where(Night.campaign_id == campaign.id))
    }
    night = files.night
    for frame in (*night.exposures, *night.calibration):
        file = by_id[ids[frame.name]]
        if frame.night and frame.night not in nights:
            record = Night(campaign_id=campaign.id, evening=frame.night)
            session.add(record)
            session.flush()
            nights[frame.night] = record
        _write_frame(file, frame)
        file.night_id = nights[frame.night].id if frame.night else None
    for item in night.left_out:
        file = by_id[ids[item.name]]
        file.name, file.part, file.part_reason = item.name, "left out", item.reason
        file.kind, file.filter, file.sha256 = item.kind, item.filter, item.sha256
        file.chain = file.group_name = ""
    for number in by_id.keys() - set(ids.values()):
        by_id[number].part, by_id[number].part_reason = "removed", "its folder was taken out"
    used = {file.night_id for file in by_id.values() if file.part != "removed"}
    for record in nights.values():
        if record.id not in used:
            for file in by_id.values():
                file.night_id = None if file.night_id == record.id else file.night_id
            session.flush()
            session.delete(record)
    _take_from_headers(session, campaign, files.plan)
    campaign.files_stamp = uuid4().hex


def _write_frame(file: NightFile, frame: Frame) -> None:
    file.name = frame.name
    file.part = "exposure" if frame.kind == "exposure" else "calibration"
    if file.part == "calibration":
        # What was said of it as an exposure holds no longer.
        file.trouble = file.proposal = file.placed_with = file.measured_with = ""
    file.part_reason = ""
    file.kind, file.filter = frame.kind, frame.filter or ""
    file.exposure_s, file.mid_utc = frame.exposure_s, frame.mid_utc
    file.temperature_c, file.sha256 = frame.temperature_c, frame.sha256
    file.kit = frame.kit
    file.height, file.width = frame.shape
    exposure = frame.kind == "exposure"
    file.chain = chain_name(frame) if exposure else ""
    file.group_name = group_name(frame) if exposure else ""


def add_raw_files(
    session: Session, campaign: Campaign, raws: Sequence[tuple[Path, RawFile]]
) -> None:
    """Write down files that were read, in place of what was known of them before."""
    keys = [hashlib.sha256(str(path).encode()).hexdigest() for path, _ in raws]
    known = {
        file.path_sha256: file
        for file in session.scalars(
            select(NightFile).where(
                NightFile.campaign_id == campaign.id, NightFile.path_sha256.in_(keys)
            )
        )
    }
    for key, (path, raw) in zip(keys, raws, strict=True):
        try:
            status = path.stat()
            size, modified = status.st_size, str(status.st_mtime_ns)
        except OSError:
            size, modified = 0, ""
        file = known.get(key) or NightFile(
            campaign_id=campaign.id, path=str(path), path_sha256=key, name=raw.name,
            size=size, modified_ns=modified, raw="", correction={},
        )  # fmt: skip
        file.away = False
        file.raw, file.size, file.modified_ns, file.sha256 = dump(raw), size, modified, raw.sha256
        session.add(file)


def queue_job(session: Session, campaign: Campaign, kind: str) -> Job:
    """Long work that is to be done; what waits already is not queued twice."""
    # Locked: a job that begins meanwhile would not see what this session changes.
    waiting = (
        select(Job)
        .where(Job.campaign_id == campaign.id, Job.kind == kind, Job.state == "waiting")
        .with_for_update()
    )
    job = session.scalars(waiting).first()
    if job is None:
        job = Job(campaign_id=campaign.id, kind=kind, failures=[], created=now())
        session.add(job)
        session.flush()
        session.info["queued"] = True  # for whoever commits and then wakes the runner
    return job


def changed_after_measuring(session: Session, campaign: Campaign, what: Sequence[str]) -> None:
    """Note what a census was made with and what was changed since; nothing before there is one."""
    measured = select(CensusFile.id).where(CensusFile.campaign_id == campaign.id)
    if what and session.scalars(measured).first() is not None:
        known = campaign.changed_since.split(", ") if campaign.changed_since else []
        campaign.changed_since = ", ".join(dict.fromkeys([*known, *what]))


def calibration_print(campaign: Campaign, files: Iterable[Any]) -> str:
    """Fingerprint of the calibration frames as they are sorted now, and of what was picked.

    ``files`` are records, or rows with their part, kind, filter, exposure_s, night_id and sha256.
    """
    return fingerprint(
        campaign.picks,
        *sorted(
            repr((file.sha256, file.kind, file.filter, file.exposure_s, file.night_id))
            for file in files
            if file.part == "calibration"
        ),
    )


def chains_of(session: Session, campaign: Campaign) -> dict[str, ChainReport]:
    """The chains as built, by name."""
    records = session.scalars(select(ChainRecord).where(ChainRecord.campaign_id == campaign.id))
    return {record.name: load(ChainReport, record.report) for record in records}
