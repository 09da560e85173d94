"""Report: preview, what keeps it from being handed in, exports, the record of them."""

from __future__ import annotations

import shutil
import tempfile
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import numpy as np
from apiflask import APIBlueprint
from flask import Response, send_file, send_from_directory
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon import __version__
from narrow_beacon.core.report.layout import (
    LayoutError,
    parse_layout,
    read_layout,
    reported,
    shipped_layouts,
)
from narrow_beacon.core.report.light_curve import CurvePoint
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.curve_points import curve_points
from narrow_beacon.reduce.figure import FigureLook, PhaseLook, draw_light_curve, draw_phase
from narrow_beacon.reduce.night_sheet import FORMATS, write_sheet
from narrow_beacon.reduce.outputs import layout_of, write_outputs
from narrow_beacon.reduce.report_facts import check_name, target_name
from narrow_beacon.reduce.workers import Workers
from narrow_beacon.server.bundle import raw_files, write_bundle, write_plan
from narrow_beacon.server.curves import CurvesNow, curves_now
from narrow_beacon.server.going import (
    SAME_MAG,
    handed_before,
    point_ids,
    what_changed,
    what_goes,
)
from narrow_beacon.server.outcome import curves_told, outcome_now, with_field
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.report_checks import NOTHING, checks_of
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.report import (
    BundleQuery,
    FigureQuery,
    LayoutOut,
    PhaseQuery,
    ReportField,
    ReportingIn,
    ReportOut,
    ReportPage,
    SentIn,
)
from narrow_beacon.server.state import campaign_of, changing, shared
from narrow_beacon.store.actions import Change, act
from narrow_beacon.store.campaigns import now as this_moment
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    KeptLayout,
    Point,
    Recipe,
    Reduction,
    Report,
)
from narrow_beacon.store.reporting import (
    KEPT,
    reporting_json,
    reporting_of,
)
from narrow_beacon.store.series import series_of

blueprint = APIBlueprint("report", __name__)
BUNDLE = "bundle.zip"
_CM_IN = 2.54
_SHOWN_LINES = 400
_TWICE = timedelta(seconds=3)


@blueprint.get("/api/campaigns/<int:number>/report")
@blueprint.output(ReportPage)
def report(number: int) -> ReportPage:
    """The report as it would be handed in now, and what speaks against it."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        told, now = curves_told(session, campaign)
        points = curve_points(told)
        layout = layout_of(told.plan)
        kept = reporting_of(campaign)
        before = handed_before(session, campaign, now, layout)
        going = what_goes(campaign, told, now, points, layout, before)
        preview, lines = going.preview(_SHOWN_LINES)
        changes = what_changed(campaign, now, points, layout, before)
        reports = _reports(session, campaign, points, now)
        checks = checks_of(session, campaign, told, now, points, reports, layout, going.points)
        star = now.stars.names[now.cast.target]
        return ReportPage(
            layout=layout.name, about=layout.said_of, layouts=_layouts(session),
            preview=preview, lines=lines, checks=checks,
            reports=reports, scope=kept.scope, points=len(going.points), changes=changes,
            fields=[
                ReportField(name=name, value=kept.fields.get(name, ""), usual=usual)
                for name, usual in layout.fields.items()
            ],
            held=[number for number, _ in sorted(kept.held_of(star))],
        )  # fmt: skip


def _layouts(session: Session) -> list[LayoutOut]:
    """Those that come along, and the observatory's own."""
    found = [
        LayoutOut(key=name, name=name, own=False, about=read_layout(name, Path("/")).said_of)
        for name in shipped_layouts()
    ]
    for record in session.scalars(select(KeptLayout).order_by(KeptLayout.name)):
        about = parse_layout(record.text, record.name).said_of
        key = f"{KEPT}{record.name}"
        found.append(LayoutOut(key=key, name=record.name, own=True, about=about))
    return found


def _reports(
    session: Session, campaign: Campaign, points: list[CurvePoint], now: CurvesNow
) -> list[ReportOut]:
    """What was handed out, newest first, with how many of its points are others now."""
    ids = point_ids(now)
    current = {
        value: {
            (ids[p.exposure, p.filter], p.filter): getattr(p, value)
            for p in reported(points, bool(campaign.doubtful))
        }
        for value in ("magnitude", "transformed_magnitude")
    }
    star = now.stars.names[now.cast.target]
    found = []
    for record in session.scalars(
        select(Report).where(Report.campaign_id == campaign.id).order_by(Report.id.desc())
    ):
        whose = session.get_one(Reduction, record.reduction_id).star or star
        sent = session.scalars(select(Point).where(Point.reduction_id == record.reduction_id))
        changed, of = 0, current[record.value or _went_out(record.layout)]
        for point in sent if whose == star else ():
            value = of.get((point.file_id, point.filter), np.nan)
            changed += not abs(value - point.magnitude) <= SAME_MAG
        found.append(_report_out(record, whose, changed, whose != star))
    return found


def _report_out(record: Report, star: str, changed: int, other: bool) -> ReportOut:
    return ReportOut(
        id=record.id, created=record.created, layout=record.layout.removeprefix(KEPT),
        files=record.files, points=record.points, changed=changed, star=star, other=other,
        scope=record.scope, recipient=record.recipient, sent=record.sent, note=record.note,
    )  # fmt: skip


def _went_out(layout: str) -> str:
    """Which magnitude a report of a layout has."""
    try:
        return read_layout(layout, Path("/")).magnitude
    except LayoutError:
        return "magnitude"


_FIGURES = {"svg": "image/svg+xml", "pdf": "application/pdf", "png": "image/png"}


def _check_figure(kind: str) -> None:
    if kind not in _FIGURES:
        raise Problem(404, "No such format", f"A figure comes as {', '.join(_FIGURES)}.")


@blueprint.get("/api/campaigns/<int:number>/curve.<kind>")
@blueprint.input(FigureQuery, location="query", arg_name="query")
@blueprint.doc(hide=True)
def figure(number: int, kind: str, query: FigureQuery) -> Response:
    """The light curve as a figure for print."""
    _check_figure(kind)
    with shared().store.session() as session, tempfile.TemporaryDirectory() as folder:
        told, _ = curves_told(session, campaign_of(session, number))
        points = curve_points(told)
        if not any(np.isfinite(point.magnitude) for point in points):
            raise Problem(409, "Nothing to draw", "No point has a magnitude.")
        path = Path(folder) / f"light_curve.{kind}"
        look = FigureLook(query.width / _CM_IN, query.height / _CM_IN, query.title)
        draw_light_curve(points, target_name(told), check_name(told), path, look)
        return Response(path.read_bytes(), content_type=_FIGURES[kind])


@blueprint.get("/api/campaigns/<int:number>/phase.<kind>")
@blueprint.input(PhaseQuery, location="query", arg_name="query")
@blueprint.doc(hide=True)
def phase_figure(number: int, kind: str, query: PhaseQuery) -> Response:
    """The curve over phase as a figure for print."""
    _check_figure(kind)
    with shared().store.session() as session, tempfile.TemporaryDirectory() as folder:
        told, _ = curves_told(session, campaign_of(session, number))
        points = [p for p in curve_points(told) if query.filter in ("", p.filter)]
        if not any(np.isfinite(point.magnitude) for point in points):
            raise Problem(409, "Nothing to draw", "No point has a magnitude.")
        path = Path(folder) / f"phase.{kind}"
        size = query.width / _CM_IN, query.height / _CM_IN
        look = PhaseLook(query.period, query.epoch, query.kind, *size, query.title)
        draw_phase(points, target_name(told), look, path)
        return Response(path.read_bytes(), content_type=_FIGURES[kind])


@blueprint.get("/api/campaigns/<int:number>/sheet.<kind>")
@blueprint.doc(hide=True)
def sheet(number: int, kind: str) -> Response:
    """The night sheet: one page to send to a colleague."""
    if kind not in FORMATS:
        raise Problem(404, "No such format", f"A night sheet comes as {' or '.join(FORMATS)}.")
    with shared().store.session() as session, tempfile.TemporaryDirectory() as folder:
        campaign = campaign_of(session, number)
        outcome, now = outcome_now(session, campaign, Path(folder))
        if not any(np.isfinite(point.magnitude) for point in curve_points(outcome)):
            raise Problem(409, "Nothing to show", "No point has a magnitude.")
        path = Path(folder) / f"sheet.{kind}"
        star = now.stars.names[now.cast.target]
        write_sheet(outcome, path, series_of(campaign, star).in_force)
        types = {"html": "text/html; charset=utf-8", "pdf": "application/pdf"}
        return Response(path.read_bytes(), content_type=types[kind])


@blueprint.post("/api/campaigns/<int:number>/report")
@blueprint.output(ReportOut)
def export(number: int) -> ReportOut:
    """Write the report with all tables and the figure, and keep a record of it."""
    state = shared()
    with changing(number) as (session, campaign):
        moment = this_moment()
        revision, made = shared().exported.get(number, (None, None))
        if made is not None and revision == campaign.revision and moment - made.created < _TWICE:
            return made  # the button was clicked twice
        folder = state.store.folder(
            f"campaign-{number}", "exports", moment.strftime("%Y-%m-%d %H%M%S.%f")
        )
        outcome, now = outcome_now(session, campaign, folder)
        with Workers(1) as here:
            write_outputs(with_field(outcome, now), here)
        write_plan(session, campaign, now, folder)
        layout = layout_of(outcome.plan)
        before = handed_before(session, campaign, now, layout)
        going = what_goes(campaign, outcome, now, curve_points(outcome), layout, before)
        taken_back = [key for key, what in going.actions.items() if what == "delete"]
        if not going.points and not taken_back:
            shutil.rmtree(folder)
            raise Problem(409, "Nothing to export", NOTHING)
        (folder / "report.txt").write_bytes(going.text.encode(layout.encoding, "replace"))
        reduction = Reduction(
            campaign_id=number, cast_id=campaign.cast_id, recipe_id=campaign.recipe_id,
            created=moment, version=__version__, star=now.stars.names[now.cast.target],
        )  # fmt: skip
        session.add(reduction)
        session.flush()
        ids = point_ids(now)
        session.add_all(
            Point(
                reduction_id=reduction.id, file_id=ids[p.exposure, p.filter], filter=p.filter,
                jd_utc=p.jd_utc, magnitude=getattr(p, layout.magnitude),
                uncertainty=getattr(p, layout.uncertainty),
            )
            for p in going.points if np.isfinite(getattr(p, layout.magnitude))
        )  # fmt: skip
        names = sorted(path.name for path in folder.iterdir())
        record = Report(
            campaign_id=number, reduction_id=reduction.id, created=moment,
            layout=campaign.layout or "plain", folder=str(folder), files=names,
            points=len(going.points), value=layout.magnitude, scope=reporting_of(campaign).scope,
            deleted=[[ids[key], key[1]] for key in taken_back] or None,
        )  # fmt: skip
        session.add(record)
        session.flush()
        # What was handed out stands: more nights no longer change who plays which part.
        session.get_one(CastRecord, campaign.cast_id).automatic = False
        session.get_one(Recipe, campaign.recipe_id).automatic = False
        campaign.revision += 1
        made = _report_out(record, reduction.star, 0, False)
        state.exported[number] = campaign.revision, made
        return made


@blueprint.patch("/api/reports/<int:number>")
@blueprint.input(SentIn, arg_name="body")
@blueprint.output(ReportOut)
def mark_sent(number: int, body: SentIn) -> ReportOut:
    """Note to whom a report was sent, when, and what came back."""
    with shared().store.session() as session:
        record = session.get(Report, number)
        if record is None:
            raise Problem(404, "No such report", "Another page may have deleted its campaign.")
        if body.recipient is not None:
            record.recipient = body.recipient
            record.sent = this_moment() if body.recipient else None
        if body.note is not None:
            record.note = body.note
        star = session.get_one(Reduction, record.reduction_id).star
        campaign = session.get_one(Campaign, record.campaign_id)
        campaign.revision += 1
        revision, answer = campaign.revision, _report_out(record, star, 0, False)
    shared().events.publish("changed", campaign=record.campaign_id, revision=revision)
    return answer


@blueprint.put("/api/campaigns/<int:number>/reporting")
@blueprint.input(ReportingIn, arg_name="body")
@blueprint.output(Done)
def say_of_reports(number: int, body: ReportingIn) -> Done:
    """Fill the layout's own fields, choose which points go out, hold some back; can be undone."""
    with changing(number) as (session, campaign):
        kept = reporting_of(campaign)
        words = []
        if body.fields is not None:
            kept, words = replace(kept, fields={**kept.fields, **body.fields}), ["filled a field"]
        if body.scope is not None:
            kept, words = replace(kept, scope=body.scope), [*words, f"reports {body.scope} points"]
        if body.held is not None:
            now = curves_now(session, campaign)
            if now is None:
                raise Problem(409, "No curve yet", "Measure the night first.")
            star = now.stars.names[now.cast.target]
            files = {now.files[i].id: curve.filter for curve in now.curves for i in curve.indices}
            own = [[number, files[number]] for number in sorted(set(body.held)) if number in files]
            kept = replace(kept, held={**kept.held, star: own})
            words = [*words, f"holds back {counted(len(own), 'point')}"]
        if words:
            change = Change("campaign", campaign.id, "reporting", reporting_json(kept))
            act(session, campaign, ", ".join(words), [change])
    return Done()


@blueprint.get("/api/reports/<int:number>/<name>")
@blueprint.input(BundleQuery, location="query", arg_name="query")
@blueprint.doc(hide=True)
def download(number: int, name: str, query: BundleQuery) -> Response:
    """A file of a report, or all of them in one archive, on request with the raw files."""
    with shared().store.session() as session:
        record = session.get(Report, number)
        if record is None or name not in (*record.files, BUNDLE):
            raise Problem(404, "No such file")
        folder, files = Path(record.folder), list(record.files)
        raw = []
        if name == BUNDLE and query.raw:
            raw = raw_files(session, session.get_one(Campaign, record.campaign_id))
    if name == BUNDLE:
        # On disk, for raw files can be many; it goes when it was sent.
        packed = tempfile.TemporaryFile(dir=shared().store.folder("scratch"))  # noqa: SIM115
        write_bundle(folder, files, raw, packed)
        packed.seek(0)
        return send_file(packed, "application/zip", as_attachment=True, download_name=BUNDLE)
    return send_from_directory(Path(folder).resolve(), name, as_attachment=True)
