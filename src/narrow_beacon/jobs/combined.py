"""The campaign of combined exposures: what is said of the one that they come from holds for it."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import select

from narrow_beacon.jobs.work import Work
from narrow_beacon.store.campaigns import new_campaign, queue_job
from narrow_beacon.store.models import Campaign

_TAKEN = (
    "target_name", "target_ra_deg", "target_dec_deg", "target_sure", "site_id", "kit_id",
    "catalogue_id", "cone_url", "sources", "sequence", "epoch_yr", "bands", "measuring", "layout",
    "doubtful", "floor", "points",
    "wanted_comparison", "wanted_check", "wanted_more_checks", "targets",
)  # fmt: skip


def campaign_of_combined(work: Work, folder: Path, each: str) -> str:
    """Make the campaign of a folder of combined exposures, or take up what is new there in one
    that there is; all of it is reduced then. Returns its name.
    """
    with work.store.session() as session:
        source = work.campaign(session)
        found = next(
            (c for c in session.scalars(select(Campaign)) if c.folders == [str(folder)]), None
        )
        if found is None:
            found = new_campaign(session, f"{source.name}, {each} each"[:120], [folder])
            for name in _TAKEN:
                setattr(found, name, getattr(source, name))
        queue_job(session, found, "reduce")
        return found.name
