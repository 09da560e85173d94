"""Delete a campaign: its records and what was made for it, and never a raw file."""

from __future__ import annotations

import shutil
from pathlib import Path

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    CensusFile,
    ChainRecord,
    DefectMap,
    Job,
    LogEntry,
    MasterRecord,
    Night,
    NightFile,
    PlacementRecord,
    Point,
    Recipe,
    Reduction,
    RemarkRecord,
    Report,
)

UPLOADS = "uploads"
"""The folder of files that were sent from the page: raw files, too."""


def delete_campaign(session: Session, campaign: Campaign) -> None:
    """Delete all records of a campaign; catalogues, sites and kits belong to the observatory."""
    number = campaign.id
    reductions = select(Reduction.id).where(Reduction.campaign_id == number)
    files = select(NightFile.id).where(NightFile.campaign_id == number)
    chains = select(ChainRecord.id).where(ChainRecord.campaign_id == number)
    session.execute(delete(Point).where(Point.reduction_id.in_(reductions)))
    session.execute(delete(PlacementRecord).where(PlacementRecord.file_id.in_(files)))
    session.execute(delete(DefectMap).where(DefectMap.chain_id.in_(chains)))
    for kind in (
        Report, Reduction, ChainRecord, MasterRecord, CensusFile, NightFile, Night, CastRecord,
        Recipe, Job, LogEntry, RemarkRecord,
    ):  # fmt: skip
        session.execute(delete(kind).where(kind.campaign_id == number))
    session.delete(campaign)


def remove_made_files(folder: Path) -> Path | None:
    """Delete what was made below a campaign's folder; the folder of its uploads, if there is one,
    stays and is returned.
    """
    for path in folder.iterdir():
        if path.name == UPLOADS:
            continue
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
    kept = folder / UPLOADS
    if kept.is_dir() and any(kept.iterdir()):
        return kept
    shutil.rmtree(folder, ignore_errors=True)
    return None
