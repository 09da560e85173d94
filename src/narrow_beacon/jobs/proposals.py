"""What the program puts forward: exposures to set aside, a cast, the radii; never over the
observer's own word.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.words import counted
from narrow_beacon.jobs.work import Work
from narrow_beacon.reduce.codec import quality_from_json
from narrow_beacon.reduce.prepare import Prepared
from narrow_beacon.reduce.settle import Settled
from narrow_beacon.reduce.tasks import ExposureResult
from narrow_beacon.reduce.vet import out_of_focus, outside
from narrow_beacon.store.actions import Change, act, new_cast, new_recipe
from narrow_beacon.store.files import files_of
from narrow_beacon.store.models import Campaign, CastRecord, NightFile, PlacementRecord, Recipe
from narrow_beacon.store.placements import solution_of


def propose_by_looks(work: Work) -> None:
    """Propose to set aside what is out of focus or drawn out, judged within night and filter, and
    what does not show the target.
    """
    with work.store.session() as session:
        campaign = work.campaign(session)
        elsewhere = off_field(session, campaign)
        groups: dict[str, list[NightFile]] = {}
        for file in files_of(session, campaign):
            if file.part == "exposure" and file.quality:
                groups.setdefault(file.group_name, []).append(file)
        for files in groups.values():
            reasons = out_of_focus([_looks(file) for file in files])
            for file in files:
                set_proposal(file, elsewhere.get(file.id, "") or reasons.get(file.id, ""))
        campaign.revision += 1


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
    known = settled.cast is not None
    for file in files:
        set_proposal(file, reasons.get(file.id, "" if known else file.proposal))
    if known:
        restore_reasonless(session, campaign, files, reasons)
    if accept:
        accept_proposals(session, campaign, files)
    campaign.revision += 1


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


def _looks(file: NightFile) -> ExposureResult:
    return ExposureResult(file.id, None, quality_from_json(file.quality), None, None)
