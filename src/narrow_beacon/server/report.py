"""Report: preview, what keeps it from being handed in, exports, the record of them."""

from __future__ import annotations

import re
import shutil
import tempfile
from collections import Counter
from datetime import timedelta
from importlib import resources
from pathlib import Path

import numpy as np
from apiflask import APIBlueprint
from flask import Response, send_from_directory
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon import __version__
from narrow_beacon.core.curve.light_curve import DOUBTFUL
from narrow_beacon.core.report.layout import (
    Layout,
    LayoutError,
    read_layout,
    render_report,
    reported,
)
from narrow_beacon.core.report.light_curve import CurvePoint
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.figure import draw_light_curve
from narrow_beacon.reduce.outcome import Outcome
from narrow_beacon.reduce.outputs import (
    check_name,
    curve_points,
    report_facts,
    target_name,
    write_outputs,
)
from narrow_beacon.reduce.workers import Workers
from narrow_beacon.server.night import CurvesNow
from narrow_beacon.server.outcome import outcome_now, with_field
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.report import Check, ReportOut, ReportPage
from narrow_beacon.server.stages import out_of_date
from narrow_beacon.server.state import campaign_of, changing, shared
from narrow_beacon.store.campaigns import now as this_moment
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    NightFile,
    Point,
    Recipe,
    Reduction,
    Report,
)

blueprint = APIBlueprint("report", __name__)
_LARGE_UNCERTAINTY_MAG = 0.1
_CHECK_RATIO = 1.8
_SAME_MAG = 0.0005
_SHOWN_LINES = 400
_NOTHING = "No point is good: look at what they are doubtful for in Curve, or take those too."
_NO_SHIFT_MAG, _LARGE_SHIFT_MAG = 0.001, 0.005
_TWICE = timedelta(seconds=3)


@blueprint.get("/api/campaigns/<int:number>/report")
@blueprint.output(ReportPage)
def report(number: int) -> ReportPage:
    """The report as it would be handed in now, and what speaks against it."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        outcome, now = outcome_now(session, campaign, Path("out"))
        points = curve_points(outcome)
        layout = read_layout(campaign.layout or "plain", Path("/"))
        going = reported(points, outcome.plan.doubtful, layout)
        text = render_report(layout, going, report_facts(outcome))
        lines = text.splitlines()
        reports = _reports(session, campaign, points, now)
        checks = _checks(session, campaign, outcome, now, points, reports, layout)
        return ReportPage(
            layout=layout.name, layouts=_layouts(), preview="\n".join(lines[:_SHOWN_LINES]),
            lines=len(lines), checks=checks, reports=reports,
        )  # fmt: skip


def _layouts() -> list[str]:
    folder = resources.files("narrow_beacon.core.report") / "layouts"
    return sorted(entry.name.removesuffix(".toml") for entry in folder.iterdir())


def _reports(
    session: Session, campaign: Campaign, points: list[CurvePoint], now: CurvesNow
) -> list[ReportOut]:
    """What was handed out, newest first, with how many of its points are others now."""
    ids = {file.name: file.id for file in now.files}
    current = {
        value: {
            (ids[p.exposure], p.filter): getattr(p, value)
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
        changed, of = 0, current[_went_out(record.layout)]
        for point in sent if whose == star else ():
            value = of.get((point.file_id, point.filter), np.nan)
            changed += not abs(value - point.magnitude) <= _SAME_MAG
        found.append(
            ReportOut(
                id=record.id, created=record.created, layout=record.layout, files=record.files,
                points=record.points, changed=changed, star=whose, other=whose != star,
            )
        )  # fmt: skip
    return found


def _went_out(layout: str) -> str:
    """Which magnitude a report of a layout has."""
    try:
        return read_layout(layout, Path("/")).magnitude
    except LayoutError:
        return "magnitude"


def _checks(
    session: Session,
    campaign: Campaign,
    outcome: Outcome,
    now: CurvesNow,
    points: list[CurvePoint],
    reports: list[ReportOut],
    layout: Layout,
) -> list[Check]:
    good = reported(points, outcome.plan.doubtful, layout)
    checks = _check_points(points, good, outcome.plan.doubtful)
    checks.append(_check_scale(now, layout))
    sigma = np.array([getattr(point, layout.uncertainty) for point in good])
    if good and (~np.isfinite(sigma) | (sigma <= 0)).any():
        checks.append(Check(state="stop", words="Some points have no usable uncertainty."))
    elif good:
        typical, worst = float(np.median(sigma)), float(sigma.max())
        words = f"Uncertainties: typically {typical:.4f} mag, at most {worst:.3f} mag."
        checks.append(
            Check(state="look" if worst > _LARGE_UNCERTAINTY_MAG else "good", words=words)
        )
    checks += _check_star(now)
    if outcome.plan.site is None:
        words = "The site is unknown: no airmass, and BJD is for the centre of the Earth."
        checks.append(Check(state="look", words=words))
    else:
        checks.append(Check(state="good", words="Times: JD in UTC, BJD in TDB, for your site."))
    if campaign.changed_since:
        checks.append(Check(state="look", words=f"Measure: {out_of_date(campaign)}."))
    proposals = session.scalars(
        select(NightFile.id).where(NightFile.campaign_id == campaign.id, NightFile.proposal != "")
    ).all()
    if proposals:
        one = len(proposals) == 1
        many = f"{counted(len(proposals), 'exposure')} {'is' if one else 'are'}"
        words = f"{many} proposed to be set aside; decide in Vet."
        checks.append(Check(state="look", words=words))
    own = [sent for sent in reports if not sent.other]
    if own:
        last = own[0]
        words = f"{last.points} points were handed out on {last.created:%d %B %Y, %H:%M} UTC"
        words += (
            f"; {last.changed} of them differ now." if last.changed else ", all as they are now."
        )
        checks.append(Check(state="look", words=words))
    else:
        words = f"No point of {now.stars.names[now.cast.target]} was handed out before."
        checks.append(Check(state="good", words=words))
    return checks


def _check_points(
    points: list[CurvePoint], going: list[CurvePoint], with_doubtful: bool
) -> list[Check]:
    """How many points go out, and what becomes of the others."""
    seen = [point for point in points if np.isfinite(point.magnitude)]
    doubtful = [point for point in seen if point.state == DOUBTFUL]
    checks = []
    if not going:
        checks.append(Check(state="stop", words=_NOTHING if seen else "No point has a magnitude."))
    elif len(seen) < len(points):
        words = f"{len(going)} points; {len(points) - len(seen)} without a magnitude are left out."
        checks.append(Check(state="look", words=words))
    else:
        words = f"{len(going)} points, every field that the layout asks for."
        checks.append(Check(state="good", words=words))
    if doubtful:
        kinds = Counter(
            re.sub(r" [\d.]+ mmag", "", word)
            for p in doubtful
            for word in p.flags.split(";")
            if word
        )
        why = ", ".join(word for word, _ in kinds.most_common(3))
        one = len(doubtful) == 1
        what = (
            f"go{'es' if one else ''} out too, as you wish"
            if with_doubtful
            else (f"{'is' if one else 'are'} left out")
        )
        many = "doubtful points" if len(doubtful) > 1 else "doubtful point"
        words = f"{len(doubtful)} {many} {what}: {why}."
        checks.append(Check(state="look", words=words))
    return checks


def _check_scale(now: CurvesNow, layout: Layout) -> Check:
    """Which magnitudes go out, and how far the others are."""
    on = [curve for curve in now.curves if curve.standard is not None]
    names = " and ".join(curve.filter for curve in on)
    if layout.magnitude == "transformed_magnitude":
        if len(on) == len(now.curves):
            return Check(state="good", words=f"Magnitudes are on the standard scale in {names}.")
        off = " and ".join(curve.filter for curve in now.curves if curve.standard is None)
        words = f"No magnitude in {off} is on the standard scale: those are left out. See Measure."
        return Check(state="look", words=words)
    words = "Magnitudes are on the instrument's own colour scale"
    if not on:
        return Check(state="look", words=f"{words}; the standard one is not reached. See Measure.")
    apart = max(
        abs(float(np.nanmedian(curve.standard.magnitude - curve.target.magnitude)))
        for curve in on
        if curve.standard is not None
    )
    far = f"up to {1000 * apart:.0f} mmag" if apart > _NO_SHIFT_MAG else "less than 1 mmag"
    words += f", {far} from the standard one in {names}"
    layouts = "; the layout “standard” has that" if apart > _LARGE_SHIFT_MAG else ""
    return Check(state="look" if layouts else "good", words=f"{words}{layouts}.")


def _check_star(now: CurvesNow) -> list[Check]:
    checks = []
    for curve in now.curves:
        if curve.check is None:
            words = f"There is no check star in {curve.filter}: choose one in Cast."
            checks.append(Check(state="look", words=words))
            continue
        verdict = curve.check.steadiness
        if verdict.cannot_tell:
            words = f"Check star in {curve.filter}: too few points to tell whether it is steady."
            checks.append(Check(state="look", words=words))
            continue
        restless = verdict.varies or verdict.scatter_mag > _CHECK_RATIO * verdict.expected_mag
        words = (
            f"Check star in {curve.filter}: scatters by {1000 * verdict.scatter_mag:.1f} mmag, "
            f"{1000 * verdict.expected_mag:.1f} expected."
        )
        checks.append(Check(state="look" if restless else "good", words=words))
    return checks


@blueprint.get("/api/campaigns/<int:number>/curve.svg")
@blueprint.doc(hide=True)
def figure(number: int) -> Response:
    """The light curve as a figure, as it is in an export."""
    with shared().store.session() as session, tempfile.TemporaryDirectory() as folder:
        outcome, _ = outcome_now(session, campaign_of(session, number), Path(folder))
        points = curve_points(outcome)
        if not any(np.isfinite(point.magnitude) for point in points):
            raise Problem(409, "Nothing to draw", "No point has a magnitude.")
        path = Path(folder) / "light_curve.svg"
        draw_light_curve(points, target_name(outcome), check_name(outcome), path)
        return Response(path.read_bytes(), content_type="image/svg+xml")


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
        layout = read_layout(campaign.layout or "plain", Path("/"))
        points = reported(curve_points(outcome), outcome.plan.doubtful, layout)
        if not points:
            shutil.rmtree(folder)
            raise Problem(409, "Nothing to export", _NOTHING)
        reduction = Reduction(
            campaign_id=number, cast_id=campaign.cast_id, recipe_id=campaign.recipe_id,
            created=moment, version=__version__, star=now.stars.names[now.cast.target],
        )  # fmt: skip
        session.add(reduction)
        session.flush()
        ids = {file.name: file.id for file in now.files}
        session.add_all(
            Point(
                reduction_id=reduction.id, file_id=ids[p.exposure], filter=p.filter,
                jd_utc=p.jd_utc, magnitude=getattr(p, layout.magnitude),
                uncertainty=getattr(p, layout.uncertainty),
            )
            for p in points
        )  # fmt: skip
        names = sorted(path.name for path in folder.iterdir())
        record = Report(
            campaign_id=number, reduction_id=reduction.id, created=moment,
            layout=campaign.layout or "plain", folder=str(folder), files=names, points=len(points),
        )  # fmt: skip
        session.add(record)
        session.flush()
        # What was handed out stands: more nights no longer change who plays which part.
        session.get_one(CastRecord, campaign.cast_id).automatic = False
        session.get_one(Recipe, campaign.recipe_id).automatic = False
        campaign.revision += 1
        made = ReportOut(
            id=record.id, created=moment, layout=record.layout, files=names, points=len(points),
            changed=0, star=reduction.star, other=False,
        )  # fmt: skip
        state.exported[number] = campaign.revision, made
        return made


@blueprint.get("/api/reports/<int:number>/<name>")
@blueprint.doc(hide=True)
def download(number: int, name: str) -> Response:
    """A file of a report."""
    with shared().store.session() as session:
        record = session.get(Report, number)
        if record is None or name not in record.files:
            raise Problem(404, "No such file")
        folder = record.folder
    return send_from_directory(Path(folder).resolve(), name, as_attachment=True)
