"""What a campaign's reports say and hold back, the observatory's own layouts, and what became of
points that were handed out.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.report.layout import LayoutError
from narrow_beacon.store.models import Campaign, KeptLayout, Point, Reduction, Report

KEPT = "kept:"
"""Before the name of a layout of the observatory's own."""
Key = tuple[int, str]
"""A point by its file's number and its filter."""


@dataclass(frozen=True)
class Reporting:
    """The observer's own fields, which points go out, and those that are held back, by star."""

    fields: Mapping[str, str] = field(default_factory=dict)
    scope: str = "all"
    held: Mapping[str, Sequence[Sequence[Any]]] = field(default_factory=dict)

    def held_of(self, star: str) -> set[Key]:
        """The points of a star that are held back."""
        return {(int(number), str(name)) for number, name in self.held.get(star, ())}


def reporting_of(campaign: Campaign) -> Reporting:
    """What the campaign says of its reports."""
    return Reporting(**campaign.reporting) if campaign.reporting else Reporting()


def reporting_json(reporting: Reporting) -> dict[str, Any]:
    """As the campaign keeps it."""
    return asdict(reporting)


def kept_text(session: Session, layout: str) -> str:
    """The text of a layout of the observatory's own; nothing for another. Raises LayoutError where
    it is not there any more.
    """
    if not layout.startswith(KEPT):
        return ""
    name = layout.removeprefix(KEPT)
    record = session.scalars(select(KeptLayout).where(KeptLayout.name == name)).first()
    if record is None:
        raise LayoutError(f"the layout “{name}” was deleted: choose another")
    return record.text


@dataclass(frozen=True)
class HandedOut:
    """A point as it last went out, and in which report."""

    report: int
    cast_id: int
    recipe_id: int
    version: str
    magnitude: float
    uncertainty: float
    jd_utc: float


def handed_out(session: Session, campaign: Campaign, star: str, value: str) -> dict[Key, HandedOut]:
    """By point, what the recipients have of a star in a magnitude (``value``)."""
    found: dict[Key, HandedOut] = {}
    reports = session.scalars(
        select(Report).where(Report.campaign_id == campaign.id).order_by(Report.id)
    )
    for report in reports:
        made = session.get_one(Reduction, report.reduction_id)
        if (made.star or star) != star or (report.value or value) != value:
            continue
        for point in session.scalars(select(Point).where(Point.reduction_id == made.id)):
            found[point.file_id, point.filter] = HandedOut(
                report.id, made.cast_id, made.recipe_id, made.version,
                point.magnitude, point.uncertainty, point.jd_utc,
            )  # fmt: skip
        for number, name in report.deleted or ():
            found.pop((int(number), str(name)), None)
    return found
