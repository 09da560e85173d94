"""What the observer sets of a campaign: each change one action, by name, that can be taken back."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from pathlib import Path
from typing import Any

from pydantic import BaseModel
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.frames.fits_file import file_sha256
from narrow_beacon.core.frames.header_values import sexagesimal_deg
from narrow_beacon.core.report.layout import read_layout
from narrow_beacon.plan_keys import annulus_radii, radius_rule
from narrow_beacon.reduce.field import find_target
from narrow_beacon.reduce.sources import marked_variables
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.campaigns import Settings
from narrow_beacon.server.state import shared
from narrow_beacon.store.actions import Change, act, new_cast
from narrow_beacon.store.campaigns import plan_of, queue_job
from narrow_beacon.store.fields import save_catalogue
from narrow_beacon.store.models import Campaign, CastRecord, Catalogue, Kit, Site
from narrow_beacon.store.reporting import KEPT, kept_text
from narrow_beacon.store.sequences import stars_of
from narrow_beacon.store.sources import sources_of
from narrow_beacon.store.targets import without_casts


def change_settings(session: Session, campaign: Campaign, body: Settings) -> None:
    """Change what was sent; what follows from it is out of date then and says so."""
    target = _target(session, campaign, body)
    catalogue = _catalogue(session, campaign, body)
    cast, lacking = _cast_of(session, campaign, target, catalogue)
    changed = {
        "name": {"name": body.name} if body.name else {},
        "target": target | cast,
        "site": _replacement(session, Site, campaign.site_id, body.site),
        "kit": _replacement(session, Kit, campaign.kit_id, body.kit),
        "filter of files without one": _unless_absent(body, "default_filter"),
        "colour pattern": _unless_absent(body, "pattern"),
        "library of masters": _library(body),
        "bands": {} if body.bands is None else {"bands": body.bands},
        "epoch of the catalogue": _unless_absent(body, "epoch_yr"),
        "radius and sky ring": _measuring(body),
        "layout": _layout(body),
        "doubtful points in reports": {} if body.doubtful is None else {"doubtful": body.doubtful},
        "correlated noise in the uncertainties": (
            {} if body.floor is None else {"floor": body.floor}
        ),
        "catalogue": catalogue,
    }
    words = ", ".join(name for name, values in changed.items() if any(
        getattr(campaign, field) != value for field, value in values.items()
    ))  # fmt: skip
    changes = [
        Change("campaign", campaign.id, field, value)
        for values in changed.values()
        for field, value in values.items()
    ]
    # A target that the catalogue lacks is added, and measured with the next census.
    touched = ["target"] if lacking else []
    act(session, campaign, f"changed {words}", changes, touched=touched)
    if body.folders is not None:
        _change_folders(session, campaign, body.folders)
    if body.archived is not None:
        kept = "archived it" if body.archived else "took it out of the archive"
        act(session, campaign, kept, [Change("campaign", campaign.id, "archived", body.archived)])
    if body.shelf is not None and body.shelf != bool(campaign.shelf):
        words = "took from the shelf" if body.shelf else "took from the shelf no more"
        act(session, campaign, words, [Change("campaign", campaign.id, "shelf", body.shelf)])
        queue_job(session, campaign, "masters")
    if body.watching is not None and body.watching != bool(campaign.watching):
        words = "watched the folders" if body.watching else "watched the folders no more"
        act(session, campaign, words, [Change("campaign", campaign.id, "watching", body.watching)])
        if not body.watching and campaign.cast_id:
            # What was measured while it came is measured as any other night in the end.
            queue_job(session, campaign, "census")
    if target and campaign.cast_id:
        queue_job(session, campaign, "settle")
    campaign.revision += 1


def _unless_absent(body: Settings, name: str) -> dict[str, Any]:
    """A setting that was sent, also where it was emptied."""
    return {name: getattr(body, name) or None} if name in body.model_fields_set else {}


def _library(body: Settings) -> dict[str, Any]:
    if not body.library:
        return _unless_absent(body, "library")
    folder = shared().folders.check(body.library)
    if not folder.is_dir():
        raise Problem(422, "Not a folder", f"{folder} is a file; name the folder of the masters.")
    return {"library": str(folder)}


def _layout(body: Settings) -> dict[str, Any]:
    if body.layout is None:
        return {}
    layout = body.layout
    if layout.startswith(KEPT):
        with shared().store.session() as session:
            kept_text(session, layout)
        return {"layout": layout}
    if "/" in layout:
        layout = str(shared().folders.check(layout))
    read_layout(layout, Path("/"))
    return {"layout": layout}


def _measuring(body: Settings) -> dict[str, Any]:
    if body.measuring is None:
        return {}
    try:
        radius = radius_rule(body.measuring.radius)
        annulus = annulus_radii(list(body.measuring.annulus))
    except ValueError as error:
        raise Problem(422, "Radius or ring not understood", f"{error}.") from error
    values = {
        "radius_px": radius.pixels,
        "radius_fwhm": radius.widths,
        "annulus": list(annulus),
        "annulus_in_pixels": body.measuring.annulus_in_pixels,
    }
    return {"measuring": values}


def _change_folders(session: Session, campaign: Campaign, wanted: list[str]) -> None:
    """Add or take out folders, as one action that can be undone; their files' records stay."""
    known = set(campaign.folders)
    new = [text if text in known else str(shared().folders.check(text)) for text in wanted]
    new = list(dict.fromkeys(new))
    added = [Path(f).name for f in new if f not in known]
    gone = [Path(f).name for f in campaign.folders if f not in new]
    words = [f"added the folder {name}" for name in added]
    words += [f"took out the folder {name}" for name in gone]
    changes = [Change("campaign", campaign.id, "folders", new)]
    act(session, campaign, "; ".join(words) or "kept the folders", changes)
    queue_job(session, campaign, "sort")


def _cast_of(
    session: Session, campaign: Campaign, target: dict[str, Any], catalogue: dict[str, Any]
) -> tuple[dict[str, Any], bool]:
    """The cast for another target, and whether the catalogue lacks it: the census holds all stars,
    so that the parts just change.
    """
    if not target or catalogue or not campaign.catalogue_id:
        return {}, False
    stars = stars_of(session, campaign)
    plan = replace(
        plan_of(session, campaign),
        target_name=target.get("target_name", campaign.target_name) or None,
        target_ra_deg=target.get("target_ra_deg", campaign.target_ra_deg),
        target_dec_deg=target.get("target_dec_deg", campaign.target_dec_deg),
        target_sure=True,
    )
    row = find_target(plan, stars)
    old = session.get(CastRecord, campaign.cast_id) if campaign.cast_id else None
    if row is None:
        return {"cast_id": None}, True
    if old is None or row == old.target:
        return {}, False
    comparison = [star for star in old.comparison if star != row]
    checks = [star for star in old.checks if star != row]
    cast = new_cast(session, campaign, row, comparison, checks)
    cast.automatic = old.automatic
    return {"cast_id": cast.id}, False


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


def _catalogue(session: Session, campaign: Campaign, body: Settings) -> dict[str, Any]:
    """Other stars need another cast."""
    values: dict[str, Any] = {}
    said = dict(campaign.sources or {})
    if body.merge is not None:
        said["merge"] = body.merge
    if body.columns is not None:
        said["columns"] = body.columns
    if said != (campaign.sources or {}):
        values["sources"] = said
    if body.cone_url is not None:
        values["cone_url"] = body.cone_url or None
    anew = body.merge is not None and body.merge != (campaign.sources or {}).get("merge", False)
    file = _file_again(session, campaign, body)
    if body.cone_url or ((body.fetch_again or anew) and file is None):
        values |= {"catalogue_id": None, "cast_id": None, "targets": without_casts(campaign)}
    if file is not None:
        epoch = body.epoch_yr if "epoch_yr" in body.model_fields_set else campaign.epoch_yr
        stars = read_catalogue(file, epoch, said.get("columns") or {})
        stars, _ = marked_variables(stars, sources_of(session, campaign))
        record = save_catalogue(session, stars, file.name, str(file), file_sha256(file))
        session.flush()
        values |= {
            "catalogue_id": record.id, "cast_id": None, "targets": without_casts(campaign),
        }  # fmt: skip
    return values


def _file_again(session: Session, campaign: Campaign, body: Settings) -> Path | None:
    """The catalogue file to read: a new one, or the same where something else is said of it."""
    if body.catalogue_file:
        return shared().folders.check(body.catalogue_file)
    other = "epoch_yr" in body.model_fields_set or body.columns is not None or body.fetch_again
    if not other or not campaign.catalogue_id:
        return None
    # Another epoch of the same file: its stars stand elsewhere.
    origin = Path(session.get_one(Catalogue, campaign.catalogue_id).origin)
    return origin if origin.is_file() else None


def _target(session: Session, campaign: Campaign, body: Settings) -> dict[str, Any]:
    values: dict[str, Any] = {}
    if body.target_name is not None:
        values = {"target_name": body.target_name, "target_sure": bool(body.target_name)}
        if campaign.catalogue_id and not (body.target_ra and body.target_dec):
            stars = stars_of(session, campaign)
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
