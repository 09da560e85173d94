"""What the program puts forward: exposures to set aside, a cast, the radii; never over the
observer's own word.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.curve.time import exposure_times
from narrow_beacon.core.stars.limits import LIMIT
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.codec import quality_from_json
from narrow_beacon.reduce.looking import unmatched_words
from narrow_beacon.reduce.prepare import Prepared
from narrow_beacon.reduce.settle import Settled
from narrow_beacon.reduce.vet import Moments, lights_from, outside, spoiled_looks
from narrow_beacon.store.actions import Change, act, new_cast, new_recipe
from narrow_beacon.store.campaigns import place_of
from narrow_beacon.store.files import files_of
from narrow_beacon.store.models import Campaign, CastRecord, NightFile, PlacementRecord, Recipe
from narrow_beacon.store.placements import solution_of
from narrow_beacon.store.vetting import rules_of

_OF_CAST = ("trail", "cosmic ray", "the ", "none of")
"""Reasons that hang on the cast, and not on what an exposure looks like, begin so."""


def propose_by_looks(session: Session, campaign: Campaign) -> None:
    """Put forward what the looks of exposures speak against, by the rules in force, and what does
    not show the target; reasons that hang on the cast stay.
    """
    files = [f for f in files_of(session, campaign) if f.part == "exposure"]
    elsewhere = off_field(session, campaign)
    reasons = looks_reasons(session, campaign, files)
    found: dict[int, str] = {}
    for file in files:
        own = elsewhere.get(file.id, "") or reasons.get(file.id, "")
        before = file.aside_reason if file.aside_by == "program" else file.proposal
        found[file.id] = own or (before if before.startswith(_OF_CAST) else "")
        set_proposal(file, found[file.id])
    restore_reasonless(session, campaign, files, {i: words for i, words in found.items() if words})
    campaign.revision += 1


def looks_reasons(
    session: Session, campaign: Campaign, files: Sequence[NightFile]
) -> dict[int, str]:
    """What speaks against exposures by their looks, as they are known, by file."""
    groups: dict[str, list[NightFile]] = {}
    for file in sorted(files, key=lambda file: (file.mid_utc or datetime.min, file.name)):
        if file.quality and file.mid_utc and file.aside_by != "observer" and not file.trouble:
            groups.setdefault(file.group_name, []).append(file)
    rules, site = rules_of(campaign).rules, place_of(session, campaign)
    position = None
    if campaign.target_ra_deg is not None and campaign.target_dec_deg is not None:
        position = campaign.target_ra_deg, campaign.target_dec_deg
    reasons: dict[int, str] = {}
    for own in groups.values():
        mids = [file.mid_utc for file in own if file.mid_utc]
        jd = exposure_times(mids, *(position or (0.0, 0.0)), None).jd_utc
        moments = Moments(jd, np.full(jd.size, np.nan), position or (0.0, 0.0), site)
        lights = lights_from([file.evidence or {} for file in own])
        qualities = [quality_from_json(file.quality) for file in own]
        reasons |= spoiled_looks([file.id for file in own], qualities, lights, moments, rules)
        for file in own:
            problem = (file.match or {}).get("problem")
            if problem and not file.placed_with:
                words = unmatched_words(problem, (file.quality or {}).get("stars") or 0)
                reasons.setdefault(file.id, words)
    return reasons


def off_field(session: Session, campaign: Campaign) -> dict[int, str]:
    """Words on exposures that are placed where the target is not, by file."""
    if not campaign.target_sure or campaign.target_ra_deg is None:
        return {}
    assert campaign.target_dec_deg is not None
    placed = session.scalars(
        select(PlacementRecord)
        .join(NightFile, NightFile.id == PlacementRecord.file_id)
        .where(NightFile.campaign_id == campaign.id)
    )
    return {
        record.file_id: words
        for record in placed
        if (words := outside(solution_of(record), campaign.target_ra_deg, campaign.target_dec_deg))
    }


def set_proposal(file: NightFile, reason: str) -> None:
    """Put a reason forward, unless the observer decided on this exposure."""
    undecided = not file.kept and not file.aside_by and not file.trouble
    file.proposal = reason if undecided else ""


def propose(
    session: Session,
    campaign: Campaign,
    ready: Prepared,
    settled: Settled,
    ids: Mapping[int, int],
    *,
    accept: bool,
) -> None:
    """Take cast and radii from what was settled, as far as the observer left them to the program,
    and put its reasons to set exposures aside forward, or with ``accept`` do as they say.
    """
    if settled.cast is not None:
        _take_cast(session, campaign, ready, settled)
        _take_radii(session, campaign, settled)
    reasons = {ids[index]: reason for index, reason in settled.set_aside.items()}
    files = [file for file in files_of(session, campaign) if file.part == "exposure"]
    evidence = {ids[index]: dict(own) for index, own in settled.evidence.items()}
    known = settled.cast is not None
    limited = []
    for file in files:
        file.evidence = evidence.get(file.id, file.evidence)
        words = reasons.get(file.id, "")
        if words.startswith(LIMIT):
            limited.append((file, words))
            words = ""
        elif not words and not known:
            words = file.proposal
        set_proposal(file, words)
    if known:
        restore_reasonless(session, campaign, files, reasons)
        set_aside_by_limits(session, campaign, limited)
    if accept:
        accept_proposals(session, campaign, files)
    for index, words in settled.to_consider.items():
        file = next(file for file in files if file.id == ids[index])
        if not file.proposal:
            set_proposal(file, words)
    campaign.revision += 1


def set_aside_by_limits(
    session: Session, campaign: Campaign, limited: Sequence[tuple[NightFile, str]]
) -> None:
    """Set aside what lies beyond the observer's limits, as one action."""
    changes = []
    for file, words in limited:
        if file.aside_by or file.kept:
            continue
        changes += [
            Change("file", file.id, "aside_by", "limit"),
            Change("file", file.id, "aside_reason", words),
            Change("file", file.id, "proposal", ""),
        ]
    if changes:
        act(session, campaign, f"set aside {counted(len(limited), 'exposure')} by limits", changes)


def _take_cast(session: Session, campaign: Campaign, ready: Prepared, settled: Settled) -> None:
    old = session.get(CastRecord, campaign.cast_id) if campaign.cast_id else None
    if old is not None and not old.automatic:
        return
    cast, names = settled.cast, ready.field.stars
    assert cast is not None
    new = (cast.target, list(cast.comparison), cast.check)
    dropped = {str(names.row(d.name)): d.reason for d in cast.dropped}
    if old and new == (old.target, old.comparison, old.check_star) and dropped == old.dropped:
        return
    reasons = {str(names.row(name)): words for name, words in cast.reasons}
    record = new_cast(session, campaign, *new, reasons, dropped)
    record.automatic = True
    campaign.cast_id = record.id


def _take_radii(session: Session, campaign: Campaign, settled: Settled) -> None:
    old = session.get(Recipe, campaign.recipe_id) if campaign.recipe_id else None
    steps = settled.steps
    if old is not None and not old.automatic:
        steps = {**steps, **old.steps}
    if old is None or old.steps != steps:
        automatic = old is None or old.automatic
        campaign.recipe_id = new_recipe(session, campaign, steps, automatic).id


def restore_reasonless(
    session: Session, campaign: Campaign, files: Sequence[NightFile], reasons: Mapping[int, str]
) -> None:
    """Take exposures back that the program had set aside for a reason which holds no longer, and
    renew the words of others; as one action.
    """
    changes = []
    back = 0
    for file in files:
        if file.aside_by not in ("program", "limit") or reasons.get(file.id) == file.aside_reason:
            continue
        reason = reasons.get(file.id, "")
        back += not reason
        changes += [
            Change("file", file.id, "aside_by", file.aside_by if reason else ""),
            Change("file", file.id, "aside_reason", reason),
        ]
    if changes:
        what = f"restored {counted(back, 'exposure')}" if back else "renewed reasons"
        act(session, campaign, f"{what}: what spoke against them holds no longer", changes)


def accept_proposals(session: Session, campaign: Campaign, files: Sequence[NightFile]) -> int:
    """Set aside whatever is proposed among some files, as one action; how many."""
    some = [file for file in files if file.proposal]
    changes = []
    for file in some:
        changes += [
            Change("file", file.id, "aside_by", "program"),
            Change("file", file.id, "aside_reason", file.proposal),
            Change("file", file.id, "proposal", ""),
        ]
    if changes:
        act(session, campaign, f"set aside {counted(len(some), 'exposure')} as proposed", changes)
    return len(some)
