"""A campaign made ready to be placed or measured, or what is still missing."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.sky_index import SkyIndex
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.time import Times, exposure_times
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.frames.sort import Frame
from narrow_beacon.jobs.work import NotReadyError, Work
from narrow_beacon.plan import Plan
from narrow_beacon.reduce.calibrate import ChainReport, chain_name
from narrow_beacon.reduce.context import Context, ExposureJob
from narrow_beacon.reduce.field import search_around, stars_of_plan
from narrow_beacon.reduce.kit import KitConstants
from narrow_beacon.reduce.prepare import (
    bands_of,
    jobs_of,
    make_context,
    probe_picks,
    settings_of,
    target_place,
)
from narrow_beacon.reduce.tasks import probe
from narrow_beacon.store.campaigns import CampaignNights, chains_of, plan_of, sort_files
from narrow_beacon.store.fields import save_catalogue
from narrow_beacon.store.models import Campaign, ChainRecord


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
