"""Which catalogues serve a campaign: its own, else the observatory's."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.sources import Source, Sources
from narrow_beacon.store.models import Campaign, StarSource

CATALOGUES = "catalogues"
"""The folder, below that of the data, of atlases and of what services sent."""
_CELLS = "cells"


def source_records(session: Session, role: str | None = None) -> Sequence[StarSource]:
    """The observatory's catalogues in their order."""
    query = select(StarSource).order_by(StarSource.role, StarSource.position, StarSource.id)
    return session.scalars(query if role is None else query.where(StarSource.role == role)).all()


def sources_of(session: Session, campaign: Campaign) -> Sources:
    """The catalogues that serve a campaign where its own file does not: its own services, those of
    its plan, else the observatory's; and every table of variable stars.
    """
    said = campaign.sources or {}
    own = [Source(**one) for one in said.get("stars", ())]
    if campaign.cone_url and not own:
        own = [Source("service", campaign.cone_url, "", campaign.epoch_yr)]
    known = [Source(**one) for one in said.get("variables", ())]
    return Sources(
        tuple(own or _ready(session, "stars")),
        bool(said.get("merge", False)),
        (*known, *_ready(session, "variables")),
        cells_of_services(session) if "data" in session.info else None,
    )


def cells_of_services(session: Session) -> Path:
    """The folder where what services send is kept."""
    return Path(session.info["data"]) / CATALOGUES / _CELLS


def source_of(record: StarSource) -> Source:
    """A catalogue of the observatory, as the core takes it."""
    if record.kind == "service":
        return Source("service", record.place, record.name, record.epoch_yr, record.columns)
    return Source("atlas", record.folder, record.name)


def _ready(session: Session, role: str) -> list[Source]:
    return [source_of(r) for r in source_records(session, role) if r.state == "ready"]


def knows_stars(session: Session, campaign: Campaign) -> bool:
    """Whether it is said where a campaign's stars come from."""
    return campaign.catalogue_id is not None or bool(sources_of(session, campaign).stars)
