"""Which points a report holds, and how they differ from what was handed out before."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy.orm import Session

from narrow_beacon import __version__
from narrow_beacon.core.report.layout import Layout, reported
from narrow_beacon.core.report.light_curve import CurvePoint
from narrow_beacon.core.report.render import Facts, preview_report, render_report
from narrow_beacon.reduce.outcome import Told
from narrow_beacon.reduce.report_facts import report_facts
from narrow_beacon.server.curves import CurvesNow
from narrow_beacon.server.night import file_name
from narrow_beacon.server.schemas.report import ChangeOut
from narrow_beacon.store.models import Campaign
from narrow_beacon.store.reporting import HandedOut, Key, handed_out, reporting_of

SAME_MAG = 0.0005
"""Magnitudes nearer than that are the same: what reports round off."""


@dataclass(frozen=True)
class Going:
    """What a report holds: the points that go out, what it does with points that went out before,
    by exposure and filter ("replace", "delete"), and what its text is told from.
    """

    points: list[CurvePoint]
    actions: dict[tuple[str, str], str]
    layout: Layout
    rows: list[CurvePoint]
    facts: Facts

    @property
    def text(self) -> str:
        """All of it."""
        return render_report(self.layout, self.rows, self.facts)

    def preview(self, most: int) -> tuple[str, int]:
        """Its first lines, at most so many, and how many it has."""
        lines, count = preview_report(self.layout, self.rows, self.facts, most)
        return "\n".join(lines), count


def handed_before(
    session: Session, campaign: Campaign, now: CurvesNow, layout: Layout
) -> dict[Key, HandedOut]:
    """What recipients have of the target in front, in the layout's magnitude."""
    star = now.stars.names[now.cast.target]
    return handed_out(session, campaign, star, layout.magnitude)


def point_ids(now: CurvesNow) -> dict[tuple[str, str], int]:
    """Exposures' numbers by what a point says of its own: raw file and filter."""
    return {(file_name(file), file.filter): file.id for file in now.files}


def _differs(before: HandedOut, now: float) -> bool:
    return not abs(now - before.magnitude) <= SAME_MAG


def what_goes(
    campaign: Campaign, told: Told, now: CurvesNow, points: list[CurvePoint],
    layout: Layout, before: dict[Key, HandedOut],
) -> Going:  # fmt: skip
    """What goes out: of the good points, or the doubtful ones too, those of the scope that are not
    held back.
    """
    kept = reporting_of(campaign)
    ids = point_ids(now)
    held = kept.held_of(now.stars.names[now.cast.target])
    every = reported(points, told.plan.doubtful, layout)
    of = {(ids[p.exposure, p.filter], p.filter): p for p in every}
    chosen, actions = [], {}
    for key, point in of.items():
        last = before.get(key)
        changed = last is not None and _differs(last, getattr(point, layout.magnitude))
        if changed:
            actions[point.exposure, point.filter] = "replace"
        wanted = {"all": True, "new": last is None, "changed": changed}[kept.scope]
        if wanted and key not in held:
            chosen.append(point)
    gone = {k: v for k, v in before.items() if k not in of or k in held}
    taken_back: list[CurvePoint] = []
    if kept.scope == "changed" and "delete" in layout.actions:
        by_id = {(ids[p.exposure, p.filter], p.filter): p for p in points}
        for key, last in gone.items():
            own = by_id.get(key)
            if own is None:
                continue  # its file is not of the campaign any more
            was: dict[str, Any] = {
                layout.magnitude: last.magnitude, layout.uncertainty: last.uncertainty,
            }  # fmt: skip
            taken_back.append(replace(own, **was))
            actions[own.exposure, own.filter] = "delete"
    both = sorted([*chosen, *taken_back], key=lambda p: (p.jd_utc, p.filter, p.exposure))
    facts = replace(report_facts(told, each=layout.rows == "comparison"), actions=actions)
    return Going(chosen, actions, layout, both, facts)


def what_changed(
    campaign: Campaign, now: CurvesNow, points: list[CurvePoint], layout: Layout,
    before: dict[Key, HandedOut],
) -> list[ChangeOut]:  # fmt: skip
    """Point by point, what recipients have that is another now, and why."""
    ids = point_ids(now)
    going = {
        (ids[p.exposure, p.filter], p.filter): p
        for p in reported(points, bool(campaign.doubtful), layout)
    }
    held = reporting_of(campaign).held_of(now.stars.names[now.cast.target])
    found = []
    for key, last in sorted(before.items(), key=lambda item: item[1].jd_utc):
        point = going.get(key)
        value = None if point is None else float(getattr(point, layout.magnitude))
        if value is not None and key not in held and not _differs(last, value):
            continue
        found.append(
            ChangeOut(
                file_id=key[0], filter=key[1], jd_utc=last.jd_utc, before=last.magnitude,
                now=value, report=last.report, why=_why(last, now, key, held, value),
            )
        )  # fmt: skip
    return found


def _why(last: HandedOut, now: CurvesNow, key: Key, held: set[Key], value: float | None) -> str:
    if key in held:
        return "held back"
    if value is None:
        return "set aside, doubtful, or not measured any more"
    why = []
    if last.cast_id != now.cast.id:
        why.append("other comparison stars")
    if now.recipe is not None and last.recipe_id != now.recipe.id:
        why.append("another radius")
    if last.version != __version__:
        why.append("another version of the program")
    return ", ".join(why) or "measured anew"
