"""What a campaign's observer says of its exposures: rules, limits, which are kept and which not."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from narrow_beacon.core.stars.limits import Limit
from narrow_beacon.core.stars.troubles import VetRules
from narrow_beacon.plan import Vetting
from narrow_beacon.store.models import Campaign, NightFile


def vetting_to_json(vetting: Vetting) -> dict[str, Any]:
    """What a plan says in [vet], as a campaign keeps it."""
    return {
        "rules": asdict(vetting.rules), "limits": [asdict(limit) for limit in vetting.limits],
        "keep": list(vetting.keep), "set_aside": dict(vetting.set_aside),
    }  # fmt: skip


def rules_of(campaign: Campaign) -> Vetting:
    """Rules and limits in force, and the names that a plan brought and no file had yet."""
    kept = campaign.vetting or {}
    return Vetting(
        VetRules(**kept.get("rules", {})),
        tuple(Limit(**limit) for limit in kept.get("limits", ())),
        tuple(kept.get("keep", ())), dict(kept.get("set_aside", {})),
    )  # fmt: skip


def vetting_of(session: Session, campaign: Campaign) -> Vetting:
    """All that the observer says of the campaign's exposures, single ones by their names."""
    rules = rules_of(campaign)
    said = session.execute(
        select(NightFile.name, NightFile.kept, NightFile.aside_reason).where(
            NightFile.campaign_id == campaign.id,
            or_(NightFile.kept, NightFile.aside_by == "observer"),
        )
    ).all()
    return replace(
        rules,
        keep=(*rules.keep, *(name for name, kept, _ in said if kept)),
        set_aside={**rules.set_aside, **{name: why for name, kept, why in said if not kept}},
    )


def take_over_names(session: Session, campaign: Campaign) -> None:
    """What a plan said of files by name is theirs from now on, once they are known."""
    said = campaign.vetting or {}
    keep, aside = set(said.get("keep", ())), dict(said.get("set_aside", {}))
    if not keep and not aside:
        return
    for file in session.scalars(
        select(NightFile).where(
            NightFile.campaign_id == campaign.id, NightFile.name.in_({*keep, *aside})
        )
    ):
        if file.name in keep:
            file.kept = True
        elif not file.aside_by:
            file.aside_by, file.aside_reason = "observer", aside[file.name]
        keep.discard(file.name)
        aside.pop(file.name, None)
    campaign.vetting = {**said, "keep": sorted(keep), "set_aside": aside}
