"""The observatory's report layouts: read, tried on the curve at hand, kept."""

from __future__ import annotations

from pathlib import Path

from apiflask import APIBlueprint
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.report.layout import (
    LayoutError,
    layout_text,
    parse_layout,
    reported,
    shipped_layouts,
)
from narrow_beacon.core.report.render import preview_report
from narrow_beacon.reduce.curve_points import curve_points
from narrow_beacon.reduce.report_facts import report_facts
from narrow_beacon.server.outcome import curves_told
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.report import LayoutIn, LayoutText, LayoutTried, TextIn
from narrow_beacon.server.state import campaign_of, shared
from narrow_beacon.store.campaigns import now as this_moment
from narrow_beacon.store.models import Campaign, KeptLayout
from narrow_beacon.store.reporting import KEPT, kept_text

blueprint = APIBlueprint("layouts", __name__)
_SHOWN_LINES = 60
_MOST_KEPT = 200


@blueprint.get("/api/campaigns/<int:number>/layout")
@blueprint.output(LayoutText)
def layout(number: int) -> LayoutText:
    """The text of the layout that a campaign reports in."""
    with shared().store.session() as session:
        name = campaign_of(session, number).layout or "plain"
        own = name.startswith(KEPT)
        text = kept_text(session, name) if own else layout_text(name, Path("/"))
        return LayoutText(name=Path(name.removeprefix(KEPT)).stem, text=text, own=own)


@blueprint.post("/api/campaigns/<int:number>/layout/try")
@blueprint.input(TextIn, arg_name="body")
@blueprint.output(LayoutTried)
def try_layout(number: int, body: TextIn) -> LayoutTried:
    """What the report would be in a layout that is being written, or its mistakes."""
    with shared().store.session() as session:
        try:
            tried = parse_layout(body.text, "")
        except LayoutError as error:
            words = str(error).removeprefix("layout : ")
            return LayoutTried(mistakes=words.split("; "), preview="")
        told, _ = curves_told(session, campaign_of(session, number))
        points = reported(curve_points(told), told.plan.doubtful, tried)
        lines, _ = preview_report(tried, points, report_facts(told), _SHOWN_LINES)
    return LayoutTried(mistakes=[], preview="\n".join(lines))


@blueprint.put("/api/layouts")
@blueprint.input(LayoutIn, arg_name="body")
@blueprint.output(Done)
def keep_layout(body: LayoutIn) -> Done:
    """Keep a layout for all campaigns, in place of one of its name. Raises Problem where it has
    mistakes.
    """
    name = body.name.strip()
    if name in shipped_layouts():
        words = f"“{name}” comes along with the program: give yours another name."
        raise Problem(409, "The name is taken", words)
    try:
        parse_layout(body.text, name)
    except LayoutError as error:
        raise Problem(422, "Not a layout", f"{error}.") from error
    with shared().store.session() as session:
        record = _named(session, name)
        if record is None:
            if len(session.scalars(select(KeptLayout.id)).all()) >= _MOST_KEPT:
                raise Problem(409, "Too many layouts", f"There can be {_MOST_KEPT}.")
            session.add(KeptLayout(name=name, text=body.text, changed=this_moment()))
        else:
            record.text, record.changed = body.text, this_moment()
    return Done(words=f"“{name}” is kept, for all campaigns.")


@blueprint.delete("/api/layouts/<name>")
@blueprint.output(Done)
def delete_layout(name: str) -> Done:
    """Delete a layout of the observatory's own that no campaign reports in."""
    with shared().store.session() as session:
        record = _named(session, name)
        if record is None:
            raise Problem(404, "No such layout", "It may have been deleted in another tab.")
        users = session.scalars(select(Campaign.name).where(Campaign.layout == f"{KEPT}{name}"))
        used = users.first()
        if used is not None:
            words = f"{used} reports in it: choose another layout there first."
            raise Problem(409, "The layout is in use", words)
        session.delete(record)
    return Done(words=f"“{name}” is deleted.")


def _named(session: Session, name: str) -> KeptLayout | None:
    return session.scalars(select(KeptLayout).where(KeptLayout.name == name)).first()
