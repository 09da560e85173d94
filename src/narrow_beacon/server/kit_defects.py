"""Where an exposure's defects are seen, and what another threshold would make of them."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Flags, Plane
from narrow_beacon.core.correct.apply import DEFECT
from narrow_beacon.core.correct.defects import (
    DefectRule,
    defects_said,
    deviations,
    deviations_on_sky,
    find_defects,
    sky_threshold,
)
from narrow_beacon.core.correct.masters import MasterFacts, read_master
from narrow_beacon.core.errors import UnreadableFileError
from narrow_beacon.core.frames.frame import Frame
from narrow_beacon.reduce.chain_planes import own_pixels, pixels_marked, sky_of
from narrow_beacon.reduce.chains import ChainReport
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.state import campaign_of, file_of, shared
from narrow_beacon.store.campaigns import chains_of
from narrow_beacon.store.files import frame_of
from narrow_beacon.store.kits import kits_of
from narrow_beacon.store.models import Campaign, MasterRecord, NightFile

_EXPOSURES = 5


@dataclass(frozen=True)
class Seen:
    """An exposure and what shows its defects: its chain's dark, or the median of some exposures
    where it has none, in the exposure's own pixels; ``rule`` is the kit's.
    """

    frame: Frame
    dark: Plane | None
    sky: Plane | None
    rule: DefectRule

    @property
    def threshold(self) -> float:
        """The threshold in force."""
        return self.rule.threshold if self.sky is None else sky_threshold(self.rule)

    def deviations(self) -> Plane:
        """By how many robust standard deviations every pixel departs, to either side."""
        if self.sky is not None:
            return np.abs(deviations_on_sky(self.sky))
        if self.dark is not None:
            return np.abs(deviations(self.dark))
        return np.zeros(self.frame.shape, np.float32)

    def defects(self, threshold: float) -> Flags:
        """The defects (height, width), were the threshold another."""
        found = find_defects(self.dark, None, self.frame.shape, threshold)
        if self.sky is not None:
            found[self.deviations() > threshold] = DEFECT
        return np.ascontiguousarray(found | pixels_marked(self.rule, self.frame), np.uint8)


def seen_on(session: Session, campaign: Campaign, file: NightFile) -> Seen:
    """What shows an exposure's defects. Raises Problem where it is none now."""
    frame = frame_of(session, campaign, file)
    if frame is None:
        raise Problem(409, "No exposure", "It takes no part now.")
    dark = _dark_of(session, campaign, chains_of(session, campaign).get(file.chain or ""))
    sky = None
    if dark is None:
        like = session.scalars(
            select(NightFile)
            .where(
                NightFile.campaign_id == campaign.id, NightFile.chain == file.chain,
                NightFile.part == "exposure",
            )
            .order_by(NightFile.mid_utc, NightFile.id)
        ).all()  # fmt: skip
        middle = max(0, len(like) // 2 - _EXPOSURES // 2)
        frames = [frame_of(session, campaign, one) for one in like[middle : middle + _EXPOSURES]]
        with tempfile.TemporaryDirectory(prefix="beacon-defects-") as scratch:
            sky = sky_of([one for one in frames if one is not None], Path(scratch))
    rule = defects_said(kits_of(session, campaign).word(*frame.known_as))
    return Seen(frame, None if dark is None else own_pixels(dark, frame), sky, rule)


def _dark_of(session: Session, campaign: Campaign, chain: ChainReport | None) -> Plane | None:
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


def tried_defects(number: int, threshold: float) -> Flags:
    """The defects of an exposure's chain (height, width), were the threshold another."""
    with shared().store.session() as session:
        file = file_of(session, number)
        seen = seen_on(session, campaign_of(session, file.campaign_id), file)
    return seen.defects(threshold)
