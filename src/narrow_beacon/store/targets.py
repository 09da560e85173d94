"""The targets of a campaign: the one in front, whom the campaign's own fields hold, and others."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from narrow_beacon.plan import Plan, TargetWish
from narrow_beacon.store.models import Campaign

FieldValues = dict[str, Any]


@dataclass(frozen=True)
class KeptTarget:
    """A target with its cast, radii and colour; ``comparison`` and ``checks`` are names that a plan
    wants.
    """

    name: str = ""
    ra_deg: float | None = None
    dec_deg: float | None = None
    sure: bool = False
    colour: float | None = None
    cast_id: int | None = None
    recipe_id: int | None = None
    comparison: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()

    @classmethod
    def of(cls, wish: TargetWish) -> KeptTarget:
        """One that a plan names."""
        return cls(
            wish.name or "", wish.ra_deg, wish.dec_deg, True, wish.colour,
            comparison=wish.comparison, checks=wish.checks,
        )  # fmt: skip

    @property
    def wish(self) -> TargetWish:
        """As a plan says it."""
        return TargetWish(
            self.name or None, self.ra_deg, self.dec_deg, self.colour, self.comparison, self.checks
        )


@dataclass(frozen=True)
class Asked:
    """What a campaign is asked to find: its targets, and the catalogue that numbers their stars."""

    targets: tuple[TargetWish, ...]
    catalogue: tuple[Any, ...]

    @classmethod
    def of(cls, campaign: Campaign) -> Asked:
        """As the campaign says it now."""
        sources = json.dumps(campaign.sources or {}, sort_keys=True)
        return cls(
            tuple(target.wish for target in targets_of(campaign)),
            (campaign.catalogue_id, campaign.cone_url or "", sources, campaign.epoch_yr),
        )


def in_front(campaign: Campaign) -> KeptTarget:
    """The target that every screen is about."""
    checks = [campaign.wanted_check] if campaign.wanted_check else []
    return KeptTarget(
        campaign.target_name or "", campaign.target_ra_deg, campaign.target_dec_deg,
        bool(campaign.target_sure), (campaign.transform or {}).get("colour"), campaign.cast_id,
        campaign.recipe_id, tuple(campaign.wanted_comparison or ()),
        (*checks, *(campaign.wanted_more_checks or ())),
    )  # fmt: skip


def front_place(campaign: Campaign) -> int:
    """Where the target in front stands among all of them."""
    return (campaign.targets or [None]).index(None)


def targets_of(campaign: Campaign) -> list[KeptTarget]:
    """All targets in the order in which they were added; the first one vets the exposures."""
    return [
        in_front(campaign) if kept is None else _kept(kept) for kept in campaign.targets or [None]
    ]


def first_position(campaign: Campaign) -> tuple[float, float] | None:
    """Right ascension and declination in degrees of the first target, as they were given."""
    first = targets_of(campaign)[0]
    return None if first.ra_deg is None or first.dec_deg is None else (first.ra_deg, first.dec_deg)


def with_targets(campaign: Campaign, plan: Plan) -> Plan:
    """A plan with all targets of the campaign."""
    first, *beside = targets_of(campaign)
    return replace(
        plan.of_target(first.wish), target_sure=first.sure,
        beside=tuple(target.wish for target in beside),
    )  # fmt: skip


def front_values(campaign: Campaign, targets: Sequence[KeptTarget], place: int) -> FieldValues:
    """The campaign's fields that make ``targets`` its own, the one at ``place`` in front."""
    front = targets[place]
    kept = [None if at == place else asdict(one) for at, one in enumerate(targets)]
    values: FieldValues = {
        "targets": kept if len(kept) > 1 else None,
        "target_name": front.name,
        "target_ra_deg": front.ra_deg,
        "target_dec_deg": front.dec_deg,
        "target_sure": front.sure,
        "cast_id": front.cast_id,
        "recipe_id": front.recipe_id,
        "wanted_comparison": list(front.comparison),
        "wanted_check": front.checks[0] if front.checks else None,
        "wanted_more_checks": list(front.checks[1:]) or None,
    }
    if front.colour != (campaign.transform or {}).get("colour"):
        values["transform"] = {**(campaign.transform or {}), "colour": front.colour}
    return values


def put_target(campaign: Campaign, place: int, **values: Any) -> None:
    """Change what is kept of a target without an entry in the log: what the program chose."""
    if place == front_place(campaign):
        for field, value in values.items():
            setattr(campaign, field, value)
        return
    kept = list(campaign.targets or [])
    kept[place] = {**kept[place], **values}
    campaign.targets = kept


def without_casts(campaign: Campaign) -> list[Any] | None:
    """The other targets as they are kept where another catalogue numbers its stars anew."""
    kept = campaign.targets
    return kept and [one and {**one, "cast_id": None} for one in kept]


def _kept(said: dict[str, Any]) -> KeptTarget:
    lists = {name: tuple(said.get(name, ())) for name in ("comparison", "checks")}
    return KeptTarget(**{**said, **lists})
