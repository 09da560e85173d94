"""Campaigns as the core sees them: the plan in force, the sorted night, what was made of it."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from dataclasses import asdict, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon import __version__
from narrow_beacon.core.curve.earth import Site as Place
from narrow_beacon.core.curve.points import AS_MEASURED
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.kits import KitWord
from narrow_beacon.core.transform_wish import USUAL_WISH, GivenTerm, TransformWish
from narrow_beacon.plan import Plan, Vetting
from narrow_beacon.plan_keys import RadiusRule
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import load
from narrow_beacon.reduce.names import fingerprint
from narrow_beacon.reduce.sources import marked_variables
from narrow_beacon.store.fields import save_catalogue, star_table
from narrow_beacon.store.kits import kits_of, kits_to_json
from narrow_beacon.store.models import (
    Campaign,
    Catalogue,
    ChainRecord,
    Job,
    Kit,
    Site,
)
from narrow_beacon.store.points import points_of
from narrow_beacon.store.reporting import Reporting, kept_text, reporting_json, reporting_of
from narrow_beacon.store.sequences import sequence_from_json, sequence_to_json
from narrow_beacon.store.sources import sources_of
from narrow_beacon.store.targets import KeptTarget, with_targets
from narrow_beacon.store.vetting import vetting_of, vetting_to_json

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
        watching=False, shelf=False,
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
    campaign.leave_out = list(plan.leave_out)
    campaign.picks = {chain: dict(keys) for chain, keys in plan.picks.items()}
    campaign.library = str(plan.library.resolve()) if plan.library else None
    campaign.epoch_yr = plan.epoch_yr
    campaign.bands = dict(plan.bands)
    campaign.pattern = plan.pattern
    if any(word != KitWord() for word in plan.kits.said.values()):
        campaign.kits = kits_to_json(plan.kits)
    campaign.measuring = measuring_of(plan)
    if plan.vetting != Vetting():
        campaign.vetting = vetting_to_json(plan.vetting)
    campaign.wanted_comparison = list(plan.comparison)
    campaign.wanted_check = plan.checks[0] if plan.checks else None
    campaign.wanted_more_checks = list(plan.checks[1:]) or None
    others = [KeptTarget.of(wish) for wish in plan.beside]
    campaign.targets = [None, *(asdict(one) for one in others)] if others else None
    own = plan.base / plan.layout
    campaign.layout = str(own.resolve()) if own.is_file() else plan.layout
    campaign.doubtful = plan.doubtful
    if plan.report_fields:
        campaign.reporting = reporting_json(Reporting(fields=dict(plan.report_fields)))
    campaign.floor = plan.floor
    if plan.points != AS_MEASURED:
        campaign.points = asdict(plan.points)
    if plan.sequence is not None:
        campaign.sequence = sequence_to_json(plan.sequence, plan.sequence_file, {})
    if plan.transform != USUAL_WISH:
        campaign.transform = wish_to_json(plan.transform)
    campaign.cone_url = plan.cone_url
    campaign.sources = _sources_said(plan)
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
        stars, _ = marked_variables(plan.stars, plan.sources)
        record = save_catalogue(session, stars, path.name, str(path), file_sha256(path))
        campaign.catalogue_id = record.id


def _sources_said(plan: Plan) -> dict[str, Any] | None:
    """What a plan says of catalogues beside one file or one service."""
    stars, known = plan.sources.stars, plan.sources.variables
    atlas = any(source.kind == "atlas" for source in stars)
    if len(stars) < 2 and not atlas and not known and not plan.sources.merge and not plan.columns:
        return None
    return {
        "stars": [vars(source) for source in stars],
        "variables": [vars(source) for source in known],
        "merge": plan.sources.merge,
        "columns": dict(plan.columns),
    }


def measuring_of(plan: Plan) -> dict[str, Any]:
    """A plan's radius and sky ring, as a campaign keeps them."""
    return {
        "radius_px": plan.radius.pixels,
        "radius_fwhm": plan.radius.widths,
        "annulus": list(plan.annulus),
        "annulus_in_pixels": plan.annulus_in_pixels,
    }


def wish_of(campaign: Campaign) -> TransformWish:
    """What the observer says of the standard scale."""
    said = campaign.transform or {}
    return TransformWish(
        said.get("apply", True),
        {name: GivenTerm(**term) for name, term in said.get("given", {}).items()},
        said.get("extinction", {}), said.get("second_order", {}), said.get("colour"),
    )  # fmt: skip


def wish_to_json(wish: TransformWish) -> dict[str, Any]:
    """What ``wish_of`` reads."""
    return {**vars(wish), "given": {name: vars(term) for name, term in wish.given.items()}}


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
        leave_out=tuple(campaign.leave_out or ()),
        picks=campaign.picks,
        epoch_yr=campaign.epoch_yr,
        sources=sources_of(session, campaign),
        columns=(campaign.sources or {}).get("columns", {}),
        site=place_of(session, campaign, of_headers=False),
        bands=campaign.bands or {},
        transform=wish_of(campaign),
        pattern=campaign.pattern,
        kits=kits_of(session, campaign),
        vetting=vetting_of(session, campaign),
        radius=RadiusRule(measuring["radius_px"], measuring["radius_fwhm"]),
        annulus=(measuring["annulus"][0], measuring["annulus"][1]),
        annulus_in_pixels=measuring["annulus_in_pixels"],
        output=output,
        layout=campaign.layout,
        layout_text=kept_text(session, campaign.layout),
        report_fields=reporting_of(campaign).fields,
        doubtful=bool(campaign.doubtful),
        floor=bool(campaign.floor),
        points=points_of(campaign),
    )
    plan = with_targets(campaign, plan)
    if campaign.sequence:
        plan = replace(plan, sequence=sequence_from_json(campaign.sequence))
    if campaign.catalogue_id:
        catalogue = session.get_one(Catalogue, campaign.catalogue_id)
        origin = Path(catalogue.origin)
        plan = replace(
            plan,
            stars=star_table(session, campaign.catalogue_id),
            # Known variables were marked when the stars were read.
            sources=replace(plan.sources, variables=()),
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


def queue_job(
    session: Session, campaign: Campaign, kind: str, wish: dict[str, Any] | None = None
) -> Job:
    """Long work that is to be done; what waits already is not queued twice."""
    # Locked: a job that begins meanwhile would not see what this session changes.
    waiting = (
        select(Job)
        .where(Job.campaign_id == campaign.id, Job.kind == kind, Job.state == "waiting")
        .with_for_update()
    )
    job = session.scalars(waiting).first()
    if job is None:
        job = Job(campaign_id=campaign.id, kind=kind, failures=[], created=now(), wish=wish)
        session.add(job)
        session.flush()
        session.info["queued"] = True  # for whoever commits and then wakes the runner
    return job


OF_CALIBRATION = ("part", "kind", "filter", "exposure_s", "night_id", "sha256")
"""What ``calibration_print`` looks at."""


def calibration_print(campaign: Campaign, files: Iterable[Any]) -> str:
    """Fingerprint of the calibration frames as they are sorted now, and of what was picked; and the
    program's version, with which it is another.

    ``files`` are records, or rows with ``OF_CALIBRATION``.
    """
    name = fingerprint(
        campaign.picks,
        *sorted(
            repr((file.sha256, file.kind, file.filter, file.exposure_s, file.night_id))
            for file in files
            if file.part == "calibration"
        ),
    )
    return f"{name} {__version__}"


def changed_words(made_with: str) -> str:
    """What is not as it was when a campaign's masters were made, by what ``calibration_print`` was
    then: the program, or the frames and what was picked.
    """
    version = made_with.partition(" ")[2]
    if version == __version__:
        return "what the masters are made of"
    if not version:  # kept by a program that did not say so yet
        return "the program, or what the masters are made of,"
    return f"the program ({version} then, {__version__} now)"


def chains_of(session: Session, campaign: Campaign) -> dict[str, ChainReport]:
    """The chains as built, by name."""
    records = session.scalars(select(ChainRecord).where(ChainRecord.campaign_id == campaign.id))
    return {record.name: load(ChainReport, record.report) for record in records}
