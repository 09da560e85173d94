"""What the program puts forward: exposures to set aside, a cast, the radii; never over the
observer's own word.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.curve.earth import moments_of
from narrow_beacon.core.curve.time import exposure_times
from narrow_beacon.core.frames.colour import STEP
from narrow_beacon.core.stars.limits import LIMIT, Limit, limit_words
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.codec import quality_from_json
from narrow_beacon.reduce.night_looks import unmatched_words
from narrow_beacon.reduce.prepare import Prepared
from narrow_beacon.reduce.settle import Settled
from narrow_beacon.reduce.vet import Moments, lights_from, outside, spoiled_looks, values_of
from narrow_beacon.store.actions import Change, act, new_cast, new_recipe
from narrow_beacon.store.campaigns import place_of
from narrow_beacon.store.exposures import ExposureRow
from narrow_beacon.store.files import files_of
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    Night,
    NightFile,
    PlacementRecord,
    Recipe,
)
from narrow_beacon.store.placements import solution_of
from narrow_beacon.store.targets import first_position, put_target, targets_of
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
    told = {number: words for number, words in found.items() if words}
    restore_reasonless(session, campaign, files, told)
    apply_limits(session, campaign, files)
    campaign.revision += 1


def apply_limits(
    session: Session,
    campaign: Campaign,
    files: Sequence[NightFile],
    limits: tuple[Limit, ...] | None = None,
    with_it: Sequence[Change] = (),
) -> None:
    """Set aside what lies beyond limits, those in force or others, and take back what does no
    longer; ``with_it`` is changed in the same action.
    """
    limits = rules_of(campaign).limits if limits is None else limits
    changes, dropped, back = _limit_changes(limits, files, limit_values(session, campaign, files))
    does = [f"set aside {counted(dropped, 'exposure')}"] if dropped else []
    does += [f"restored {counted(back, 'exposure')}"] if back else []
    named = ", ".join(limit.words for limit in limits) or "none"
    words = f"{' and '.join(does) or 'changed'} by limits: {named}"
    act(session, campaign, words, [*with_it, *changes])


def limit_values(
    session: Session, campaign: Campaign, files: Sequence[NightFile | ExposureRow]
) -> dict[int, tuple[dict[str, float], str, str]]:
    """What limits are on, filter and night of each exposure, by its number."""
    known = [file for file in files if file.mid_utc]
    position, site = first_position(campaign), place_of(session, campaign)
    airmass = np.full(len(known), np.nan)
    if position is not None and known:
        mids = [file.mid_utc for file in known if file.mid_utc]
        airmass = exposure_times(mids, *position, site).airmass
    evenings = dict(
        session.execute(
            select(Night.id, Night.evening).where(Night.campaign_id == campaign.id)
        ).all()
    )
    found = {}
    for file, mass in zip(known, airmass, strict=True):
        step = STEP if file.parent_id is not None else 1
        light = float((file.evidence or {}).get("light", "nan"))
        values = values_of(quality_from_json(file.quality), step, light, float(mass))
        found[file.id] = values, file.filter, evenings.get(file.night_id or 0, "")
    return found


def _limit_changes(
    limits: tuple[Limit, ...],
    files: Sequence[NightFile],
    values: Mapping[int, tuple[dict[str, float], str, str]],
) -> tuple[list[Change], int, int]:
    """What limits change, how many exposures they set aside and how many they give back. What the
    observer or the program decided on stays.
    """
    changes = []
    dropped = back = 0
    for file in files:
        if file.id not in values or file.aside_by not in ("", "limit"):
            continue
        words = "" if file.kept or file.trouble else limit_words(limits, *values[file.id])
        if words == (file.aside_reason if file.aside_by == "limit" else ""):
            continue
        dropped += bool(words) and not file.aside_by
        back += not words
        changes += [
            Change("file", file.id, "aside_by", "limit" if words else ""),
            Change("file", file.id, "aside_reason", words),
        ]
        if words:
            changes.append(Change("file", file.id, "proposal", ""))
    return changes, dropped, back


def looks_reasons(
    session: Session, campaign: Campaign, files: Sequence[NightFile]
) -> dict[int, str]:
    """What speaks against exposures by their looks, as they are known, by file."""
    groups: dict[str, list[NightFile]] = {}
    for file in sorted(files, key=lambda file: (file.mid_utc or datetime.min, file.name)):
        if file.quality and file.mid_utc and file.aside_by != "observer" and not file.trouble:
            groups.setdefault(file.group_name, []).append(file)
    rules, site = rules_of(campaign).rules, place_of(session, campaign)
    reasons: dict[int, str] = {}
    for own in groups.values():
        mids = [file.mid_utc for file in own if file.mid_utc]
        jd = moments_of(mids).jd()
        moments = Moments(jd, np.full(jd.size, np.nan), site)
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
    position = first_position(campaign)
    if not targets_of(campaign)[0].sure or position is None:
        return {}
    placed = session.scalars(
        select(PlacementRecord)
        .join(NightFile, NightFile.id == PlacementRecord.file_id)
        .where(NightFile.campaign_id == campaign.id)
    )
    return {
        record.file_id: words
        for record in placed
        if (words := outside(solution_of(record), *position))
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
    casts: bool = True,
) -> None:
    """Take cast and radii from what was settled, as far as the observer left them to the program,
    and put its reasons to set exposures aside forward, or with ``accept`` do as they say; without
    ``casts`` only the latter.
    """
    places = places_of(campaign, ready) if casts else []
    for place, one in zip(places, (settled, *settled.beside), strict=False):
        if one.cast is not None:
            _take_cast(session, campaign, place, ready, one)
            _take_radii(session, campaign, place, one)
    # Limits are the observer's own: what lies beyond them is set aside, not put forward.
    reasons = {
        ids[index]: reason
        for index, reason in settled.set_aside.items()
        if not reason.startswith(LIMIT)
    }
    files = [file for file in files_of(session, campaign) if file.part == "exposure"]
    evidence = {ids[index]: dict(own) for index, own in settled.evidence.items()}
    known = settled.cast is not None
    for file in files:
        file.evidence = evidence.get(file.id, file.evidence)
        set_proposal(file, reasons.get(file.id, "" if known else file.proposal))
    if known:
        restore_reasonless(session, campaign, files, reasons)
        apply_limits(session, campaign, files)
    if accept:
        accept_proposals(session, campaign, files)
    to_consider = {ids[index]: words for index, words in settled.to_consider.items()}
    for file in files:
        if file.id in to_consider and not file.proposal:
            set_proposal(file, to_consider[file.id])
    campaign.revision += 1


def places_of(campaign: Campaign, ready: Prepared) -> list[int]:
    """Where the targets of a field stand among the campaign's, the first one first."""
    kept = targets_of(campaign)
    places = [0]
    for wish, _ in ready.field.beside:
        places.append(next(p for p, one in enumerate(kept) if p not in places and one.wish == wish))
    return places


def _take_cast(
    session: Session, campaign: Campaign, place: int, ready: Prepared, settled: Settled
) -> None:
    kept = targets_of(campaign)[place].cast_id
    old = session.get(CastRecord, kept) if kept else None
    if old is not None and not old.automatic:
        return
    cast, names = settled.cast, ready.field.stars
    assert cast is not None
    new = (cast.target, list(cast.comparison), cast.checks)
    dropped = {str(names.row(d.name)): d.reason for d in cast.dropped}
    if old and new == (old.target, old.comparison, old.checks) and dropped == old.dropped:
        return
    reasons = {str(names.row(name)): words for name, words in cast.reasons}
    record = new_cast(session, campaign, *new, reasons, dropped)
    record.automatic = True
    put_target(campaign, place, cast_id=record.id)


def _take_radii(session: Session, campaign: Campaign, place: int, settled: Settled) -> None:
    kept = targets_of(campaign)[place].recipe_id
    old = session.get(Recipe, kept) if kept else None
    steps = settled.steps
    if old is not None and not old.automatic:
        steps = {**steps, **old.steps}
    if old is None or old.steps != steps:
        automatic = old is None or old.automatic
        recipe = new_recipe(session, campaign, steps, automatic)
        put_target(campaign, place, recipe_id=recipe.id)


def restore_reasonless(
    session: Session,
    campaign: Campaign,
    files: Sequence[NightFile],
    reasons: Mapping[int, str],
) -> None:
    """Take exposures back that the program had set aside for a reason which holds no longer, and
    renew the words of others; as one action.
    """
    changes = []
    back = 0
    for file in files:
        if file.aside_by != "program" or reasons.get(file.id) == file.aside_reason:
            continue
        reason = reasons.get(file.id, "")
        back += not reason
        changes += [
            Change("file", file.id, "aside_by", "program" if reason else ""),
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
