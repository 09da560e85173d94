"""Campaigns, their settings, and how their stages stand."""

from __future__ import annotations

from pathlib import Path

from apiflask import APIBlueprint
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from narrow_beacon import __version__
from narrow_beacon.core.words import counted
from narrow_beacon.plan import PlanError, read_plan
from narrow_beacon.reduce.field import band_of
from narrow_beacon.server.next_step import next_step
from narrow_beacon.server.night import target_position
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.campaigns import (
    ActionOut,
    AppState,
    CampaignName,
    CampaignOut,
    CastOut,
    CatalogueOut,
    FollowedTarget,
    KitValues,
    Measuring,
    NewCampaign,
    NightOut,
    Progress,
    RecipeOut,
    RemarkOut,
    SeenIn,
    SequenceOut,
    Settings,
    SiteValues,
    Target,
)
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.standard import TransformSaid
from narrow_beacon.server.settings import change_settings
from narrow_beacon.server.stages import stages_of
from narrow_beacon.server.state import campaign_of, changing, shared, sight
from narrow_beacon.server.watching import watch_of
from narrow_beacon.store.actions import next_redo, next_undo
from narrow_beacon.store.campaigns import (
    new_campaign,
    queue_job,
    take_plan,
    wish_of,
    wish_to_json,
)
from narrow_beacon.store.delete import delete_campaign, remove_made_files
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    Catalogue,
    Job,
    Kit,
    LogEntry,
    Night,
    NightFile,
    Recipe,
    Site,
    Star,
)
from narrow_beacon.store.remarks import remarks_of
from narrow_beacon.store.sequences import stars_of
from narrow_beacon.store.shelf import SHELF, leave_on_shelf
from narrow_beacon.store.sources import sources_of
from narrow_beacon.store.targets import front_place, targets_of

blueprint = APIBlueprint("campaigns", __name__)
PLAN_NAME = "plan.toml"


@blueprint.get("/api/state")
@blueprint.output(AppState)
def app_state() -> AppState:
    """What there is: campaigns, folders, the running job."""
    state = shared()
    with state.store.session() as session:
        nights: dict[int, list[str]] = {}
        for night in session.scalars(select(Night).order_by(Night.evening)):
            nights.setdefault(night.campaign_id, []).append(night.evening)
        campaigns = [
            CampaignName(
                id=c.id, name=c.name, nights=nights.get(c.id, []), archived=bool(c.archived)
            )
            for c in session.scalars(select(Campaign).order_by(Campaign.id))
        ]
    running = state.runner.progress
    return AppState(
        version=__version__,
        campaigns=campaigns,
        folders=[str(path) for path in state.folders.allowed],
        cone_url=state.cone_url,
        demo_folder=str(state.demo_folder or ""),
        progress=Progress(**vars(running)) if running else None,
    )


@blueprint.post("/api/campaigns")
@blueprint.input(NewCampaign, arg_name="body")
@blueprint.output(CampaignOut)
def create(body: NewCampaign) -> CampaignOut:
    """A new campaign on some folders; a plan beside the files fills in what it says."""
    state = shared()
    folders = [state.folders.check(text) for text in body.folders]
    with state.store.session() as session:
        campaign = new_campaign(session, body.name, folders)
        kit = Kit(name="kit")
        session.add(kit)
        session.flush()
        campaign.kit_id = kit.id
        plan = next(
            (
                plan
                for folder in folders
                for plan in (folder / PLAN_NAME, folder.parent / PLAN_NAME)
                if state.folders.allows(plan) and plan.is_file()
            ),
            None,
        )
        if plan:
            try:
                take_plan(session, campaign, read_plan(plan, state.folders.gate))
            except PlanError as error:
                raise Problem(422, "The plan cannot be used", "; ".join(error.mistakes)) from error
            campaign.folders = [str(folder) for folder in folders if folder != plan.parent] or (
                campaign.folders
            )
        if folders:
            kind = "reduce" if body.reduce else "sort"
            queue_job(session, campaign, kind)
        result = describe(session, campaign)
    state.events.publish("changed", campaign=result.id)
    state.runner.wake()
    return result


@blueprint.get("/api/campaigns/<int:number>")
@blueprint.output(CampaignOut)
def read(number: int) -> CampaignOut:
    """A campaign with what is in force and how its stages stand."""
    with shared().store.session() as session:
        return describe(session, campaign_of(session, number))


@blueprint.patch("/api/campaigns/<int:number>")
@blueprint.input(Settings, arg_name="body")
@blueprint.output(CampaignOut)
def change(number: int, body: Settings) -> CampaignOut:
    """Change settings, as one action; what follows from them is out of date then and says so."""
    with changing(number) as (session, campaign):
        change_settings(session, campaign, body)
        return describe(session, campaign)


@blueprint.delete("/api/campaigns/<int:number>")
@blueprint.output(Done)
def remove(number: int) -> Done:
    """Delete a campaign's records and what was made for it; raw files and uploads stay."""
    state = shared()
    with state.store.session() as session:
        campaign = campaign_of(session, number)
        name = campaign.name
        busy = select(Job.id).where(Job.campaign_id == number, Job.state == "running")
        if session.scalars(busy).first() is not None:
            raise Problem(409, "It is at work", f"Stop the job of {name} first, then delete it.")
        shelved = leave_on_shelf(session, campaign, state.store.folder(SHELF))
        delete_campaign(session, campaign)
    folder = state.store.folder(f"campaign-{number}")
    kept = remove_made_files(folder)
    state.events.publish("changed", campaign=number)
    words = f"Deleted {name}; no raw file was touched."
    if shelved:
        words += f" Its {counted(shelved, 'master stays', 'masters stay')} on the shelf."
    return Done(words=f"{words} What was uploaded is still in {kept}." if kept else words)


@blueprint.post("/api/campaigns/<int:number>/remarks/seen")
@blueprint.input(SeenIn, arg_name="body")
@blueprint.output(Done)
def mark_seen(number: int, body: SeenIn) -> Done:
    """Mark remarks as seen by the observer, or as not seen."""
    with changing(number) as (session, campaign):
        found = [r for r in remarks_of(session, number) if r.id in set(body.ids)]
        for record in found:
            record.seen = body.seen
        campaign.revision += 1
        return Done(words=f"{len(found)} marked as {'seen' if body.seen else 'not seen'}.")


def describe(session: Session, campaign: Campaign) -> CampaignOut:
    """A campaign as the page needs it."""
    session.info["sight"] = sight()
    catalogue = session.get(Catalogue, campaign.catalogue_id) if campaign.catalogue_id else None
    site = session.get(Site, campaign.site_id) if campaign.site_id else None
    kit = session.get(Kit, campaign.kit_id) if campaign.kit_id else None
    cast = session.get(CastRecord, campaign.cast_id) if campaign.cast_id else None
    recipe = session.get(Recipe, campaign.recipe_id) if campaign.recipe_id else None
    filters = session.execute(
        select(NightFile.filter, func.count())
        .where(NightFile.campaign_id == campaign.id, NightFile.part == "exposure")
        .group_by(NightFile.filter)
        .order_by(func.count().desc(), NightFile.filter.desc())
    ).all()
    nights = session.scalars(
        select(Night).where(Night.campaign_id == campaign.id).order_by(Night.evening)
    )
    position = target_position(session, campaign)
    stages = stages_of(session, campaign)
    kits = session.scalars(
        select(NightFile.kit)
        .where(NightFile.campaign_id == campaign.id, NightFile.part == "exposure")
        .distinct()
    ).all()
    last, undone = next_undo(session, campaign), next_redo(session, campaign)
    return CampaignOut(
        id=campaign.id,
        name=campaign.name,
        revision=campaign.revision or 0,
        folders=campaign.folders,
        target=Target(
            name=campaign.target_name or "",
            ra_deg=position[0] if position else None,
            dec_deg=position[1] if position else None,
            sure=campaign.target_sure,
            row=cast.target if cast else None,
        ),
        targets=[
            FollowedTarget(name=one.name, place=place, in_front=place == front_place(campaign))
            for place, one in enumerate(targets_of(campaign))
        ],
        site=SiteValues(
            latitude_deg=site.latitude_deg,
            longitude_deg=site.longitude_deg,
            elevation_m=site.elevation_m,
        )
        if site
        else None,
        kit=KitValues(**{name: getattr(kit, name) for name in KitValues.model_fields})
        if kit
        else KitValues(),
        default_filter=campaign.default_filter,
        pattern=campaign.pattern,
        library=campaign.library,
        epoch_yr=campaign.epoch_yr,
        bands=campaign.bands or {},
        bands_found={
            name: band
            for name, _ in filters
            if catalogue and (band := band_of(name, catalogue.bands, campaign.bands))
        },
        measuring=_measuring_out(campaign),
        archived=bool(campaign.archived),
        catalogue=CatalogueOut(
            id=catalogue.id,
            name=catalogue.name,
            origin=Path(catalogue.origin).name if catalogue.sha256 else catalogue.origin,
            stars=session.scalar(
                select(func.count()).select_from(Star).where(Star.catalogue_id == catalogue.id)
            )
            or 0,
            bands=catalogue.bands,
            fetched=catalogue.fetched,
            path=catalogue.origin if catalogue.sha256 else "",
        )
        if catalogue
        else None,
        cone_url=campaign.cone_url,
        served_by=[source.words for source in sources_of(session, campaign).stars],
        merge=bool((campaign.sources or {}).get("merge")),
        columns=(campaign.sources or {}).get("columns", {}),
        sequence=_sequence_out(session, campaign),
        cast=cast_out(cast) if cast else None,
        recipe=recipe_out(recipe) if recipe else None,
        layout=campaign.layout or "plain",
        doubtful=bool(campaign.doubtful),
        floor=bool(campaign.floor),
        transform=TransformSaid(**wish_to_json(wish_of(campaign))),
        watch=watch_of(session, campaign),
        shelf=bool(campaign.shelf),
        stages=stages,
        nights=[NightOut(id=night.id, evening=night.evening) for night in nights],
        filters=[name for name, _ in filters],
        kits=sorted(kits),
        remarks=[
            RemarkOut(
                id=r.id,
                stage=r.stage,
                about=r.about,
                words=r.words,
                matters=r.matters,
                remedy=r.remedy,
                seen=r.seen,
            )
            for r in remarks_of(session, campaign.id)
        ],
        next=next_step(session, campaign, stages),
        constants=campaign.constants,
        undo=_action(last),
        redo=_action(undone),
    )


def _action(entry: LogEntry | None) -> ActionOut | None:
    if entry is None:
        return None
    return ActionOut(id=entry.id, words=entry.words, elsewhere=entry.page != sight().page)


def _measuring_out(campaign: Campaign) -> Measuring:
    kept = campaign.measuring
    if not kept:
        return Measuring()
    radius = "auto"
    if kept["radius_px"] is not None:
        radius = f"{kept['radius_px']:g}"
    elif kept["radius_fwhm"] is not None:
        radius = f"{kept['radius_fwhm']:g} fwhm"
    return Measuring(
        radius=radius, annulus=kept["annulus"], annulus_in_pixels=kept["annulus_in_pixels"]
    )


def _sequence_out(session: Session, campaign: Campaign) -> SequenceOut | None:
    said = campaign.sequence
    if not said or campaign.catalogue_id is None:
        return None
    stars = stars_of(session, campaign)
    assert stars.listed is not None
    found = {stars.names[row] for row in stars.listed.nonzero()[0].tolist()}
    return SequenceOut(
        file=said["path"], chart=said["chart"], columns=said["columns"], stars=len(said["names"]),
        missing=[name for name in said["names"] if name not in found],
    )  # fmt: skip


def cast_out(cast: CastRecord) -> CastOut:
    """A cast as the page needs it."""
    return CastOut(
        version=cast.version, target=cast.target, comparison=cast.comparison,
        checks=list(cast.checks), reasons=cast.reasons, dropped=cast.dropped,
        automatic=bool(cast.automatic),
    )  # fmt: skip


def recipe_out(recipe: Recipe) -> RecipeOut:
    """A recipe as the page needs it."""
    return RecipeOut(
        version=recipe.version, steps=recipe.steps, automatic=recipe.automatic,
    )  # fmt: skip
