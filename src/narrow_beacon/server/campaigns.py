"""Campaigns, their settings, and how their stages stand."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Any

from apiflask import APIBlueprint
from pydantic import BaseModel
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from narrow_beacon import __version__
from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.frames.header import sexagesimal_deg
from narrow_beacon.plan import PlanError, read_plan
from narrow_beacon.server.night import target_position
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.campaigns import (
    AppState,
    CampaignName,
    CampaignOut,
    CastOut,
    CatalogueOut,
    KitValues,
    NewCampaign,
    NightOut,
    Progress,
    RecipeOut,
    Settings,
    SiteValues,
    Target,
)
from narrow_beacon.server.stages import stages_of
from narrow_beacon.server.state import campaign_of, changing, shared
from narrow_beacon.store.actions import Change, act, next_redo, next_undo
from narrow_beacon.store.campaigns import new_campaign, queue_job, take_plan
from narrow_beacon.store.fields import save_catalogue, star_table
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    Catalogue,
    Kit,
    Night,
    NightFile,
    Recipe,
    Site,
    Star,
)

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
            CampaignName(id=c.id, name=c.name, nights=nights.get(c.id, []))
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
            (p for f in folders for p in (f / PLAN_NAME, f.parent / PLAN_NAME) if p.is_file()), None
        )
        if plan:
            try:
                take_plan(session, campaign, read_plan(plan))
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
    state = shared()
    with changing(number) as (session, campaign):
        if body.folders is not None:
            campaign.folders = [str(state.folders.check(text)) for text in body.folders]
            queue_job(session, campaign, "sort")
        changed = {
            "name": {"name": body.name} if body.name else {},
            "target": _target(session, campaign, body),
            "site": _replacement(session, Site, campaign.site_id, body.site),
            "kit": _replacement(session, Kit, campaign.kit_id, body.kit),
            "filter of files without one": {}
            if body.default_filter is None
            else {"default_filter": body.default_filter or None},
            "catalogue": _catalogue(session, body),
        }
        words = ", ".join(name for name, values in changed.items() if values)
        act(
            session, campaign, f"changed {words}",
            [
                Change("campaign", campaign.id, field, value)
                for values in changed.values()
                for field, value in values.items()
            ],
        )  # fmt: skip
        campaign.revision += 1
        return describe(session, campaign)


def _replacement(
    session: Session, kind: type[Site] | type[Kit], old: int | None, given: BaseModel | None
) -> dict[str, Any]:
    """A new record where it differs from the old one, which is never edited."""
    before = session.get(kind, old) if old else None
    values = given.model_dump() if given else {}
    if all(before and getattr(before, name) == value for name, value in values.items()):
        return {}
    record = kind(name=kind.__tablename__, **values)
    session.add(record)
    session.flush()
    return {f"{kind.__tablename__}_id": record.id}


def _catalogue(session: Session, body: Settings) -> dict[str, Any]:
    """Other stars need another cast."""
    values: dict[str, Any] = {}
    if body.cone_url is not None:
        values["cone_url"] = body.cone_url or None
        if body.cone_url:
            values |= {"catalogue_id": None, "cast_id": None}
    if body.catalogue_file:
        path = shared().folders.check(body.catalogue_file)
        stars = read_catalogue(path)
        record = save_catalogue(session, stars, path.name, str(path), file_sha256(path))
        session.flush()
        values |= {"catalogue_id": record.id, "cast_id": None}
    return values


def _target(session: Session, campaign: Campaign, body: Settings) -> dict[str, Any]:
    values: dict[str, Any] = {}
    if body.target_name is not None:
        values = {"target_name": body.target_name, "target_sure": bool(body.target_name)}
        if campaign.catalogue_id and not (body.target_ra and body.target_dec):
            stars = star_table(session, campaign.catalogue_id)
            with contextlib.suppress(CatalogueError):
                row = stars.row(body.target_name)
                values["target_ra_deg"] = float(stars.ra_deg[row])
                values["target_dec_deg"] = float(stars.dec_deg[row])
    if body.target_ra and body.target_dec:
        try:
            ra = sexagesimal_deg(body.target_ra, hours=True)
            dec = sexagesimal_deg(body.target_dec, hours=False)
        except ValueError as error:
            raise Problem(
                422, "Position not understood", f"{error}: 22 41 02.6, +38 12 44."
            ) from error
        if not (0 <= ra <= 360 and -90 <= dec <= 90):
            raise Problem(422, "Position not on the sky", f"{ra:g}°, {dec:g}°")
        values |= {"target_ra_deg": ra, "target_dec_deg": dec, "target_sure": True}
    return values


def describe(session: Session, campaign: Campaign) -> CampaignOut:
    """A campaign as the page needs it."""
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
        catalogue=CatalogueOut(
            name=catalogue.name,
            origin=Path(catalogue.origin).name if catalogue.sha256 else catalogue.origin,
            stars=session.scalar(
                select(func.count()).select_from(Star).where(Star.catalogue_id == catalogue.id)
            )
            or 0,
            bands=catalogue.bands,
        )
        if catalogue
        else None,
        cone_url=campaign.cone_url,
        cast=cast_out(cast) if cast else None,
        recipe=recipe_out(recipe) if recipe else None,
        layout=campaign.layout or "plain",
        stages=stages_of(session, campaign),
        nights=[NightOut(id=night.id, evening=night.evening) for night in nights],
        filters=[name for name, _ in filters],
        remarks=campaign.remarks,
        constants=campaign.constants,
        undo=last.words if last else None,
        redo=undone.words if undone else None,
    )


def cast_out(cast: CastRecord) -> CastOut:
    """A cast as the page needs it."""
    return CastOut(
        version=cast.version, target=cast.target, comparison=cast.comparison,
        check=cast.check_star, reasons=cast.reasons, dropped=cast.dropped,
    )  # fmt: skip


def recipe_out(recipe: Recipe) -> RecipeOut:
    """A recipe as the page needs it."""
    return RecipeOut(
        version=recipe.version, steps=recipe.steps, automatic=recipe.automatic,
        annulus_fwhm=(recipe.annulus_inner_fwhm, recipe.annulus_outer_fwhm),
    )  # fmt: skip
