"""The dark that shows an exposure's defects, and what another threshold would make of it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Flags, Plane
from narrow_beacon.core.correct.defects import defects_said, find_defects
from narrow_beacon.core.correct.masters import MasterFacts, read_master
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.reduce.chains import ChainReport, own_pixels, pixels_marked
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.state import campaign_of, file_of, shared
from narrow_beacon.store.campaigns import chains_of
from narrow_beacon.store.files import frame_of
from narrow_beacon.store.kits import kits_of
from narrow_beacon.store.models import Campaign, MasterRecord


def dark_of(session: Session, campaign: Campaign, chain: ChainReport | None) -> Plane | None:
    """The master dark of a chain, whole; None where it has none."""
    if chain is None:
        return None
    for record in session.scalars(
        select(MasterRecord).where(MasterRecord.campaign_id == campaign.id)
    ):
        facts = load(MasterFacts, record.facts)
        if facts.key in chain.masters and facts.kind in ("dark", "flat dark"):
            try:
                return read_master(Path(record.path)).plane
            except UnreadableFileError as error:
                raise Problem(409, "The master cannot be read", str(error)) from error
    return None


def tried_defects(number: int, threshold: float, shape: tuple[int, int]) -> Flags:
    """The defects of an exposure's chain (height, width), were the threshold another."""
    with shared().store.session() as session:
        file = file_of(session, number)
        campaign = campaign_of(session, file.campaign_id)
        frame = frame_of(session, campaign, file)
        dark = dark_of(session, campaign, chains_of(session, campaign).get(file.chain or ""))
        kits = kits_of(session, campaign)
    if frame is None:
        raise Problem(409, "No exposure", "It takes no part now.")
    own = None if dark is None else own_pixels(dark, frame)
    rule = defects_said(kits.word(*frame.known_as))
    found = find_defects(own, None, shape, threshold) | pixels_marked(rule, frame)
    return np.ascontiguousarray(found, np.uint8)
