"""What keeps a report from going out, or should be looked at first."""

from __future__ import annotations

import re
from collections import Counter

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon.core.curve.light_curve import DOUBTFUL, TREND
from narrow_beacon.core.report.layout import Layout
from narrow_beacon.core.report.light_curve import CurvePoint
from narrow_beacon.core.words import counted
from narrow_beacon.reduce.outcome import Told
from narrow_beacon.reduce.points import taken_words
from narrow_beacon.server.curves import CurvesNow
from narrow_beacon.server.doubts import TIMES, doubts_of
from narrow_beacon.server.night import exposures_of
from narrow_beacon.server.schemas.report import Check, ReportOut
from narrow_beacon.server.stages import out_of_date
from narrow_beacon.store.models import Campaign, NightFile
from narrow_beacon.store.points import points_of
from narrow_beacon.store.reporting import reporting_of

_LARGE_UNCERTAINTY_MAG = 0.1
_CHECK_RATIO = 1.8
_NO_SHIFT_MAG, _LARGE_SHIFT_MAG = 0.001, 0.005
_FEW_COMPARISON, _CHECK_OFF_MAG = 3, 0.05
NOTHING = "No point is good: look at what they are doubtful for in Curve, or take those too."


def checks_of(
    session: Session,
    campaign: Campaign,
    told: Told,
    now: CurvesNow,
    points: list[CurvePoint],
    reports: list[ReportOut],
    layout: Layout,
    going: list[CurvePoint],
) -> list[Check]:
    """What speaks for and against handing a report in, each with what to do."""
    good = going
    checks = _check_points(points, good, told.plan.doubtful)
    missing = layout.missing_fields(reporting_of(campaign).fields)
    if missing:
        words = f"The layout asks for {', '.join(missing)}: fill it in below."
        checks.append(Check(state="stop", words=words))
    checks += _check_cast(now)
    checks.append(_check_scale(now, layout))
    wish = points_of(campaign)
    for curve in now.curves:
        if words := taken_words(curve, wish):
            checks.append(Check(state="look", words=f"{curve.filter}: {words}. See Curve."))
    sigma = np.array([getattr(point, layout.uncertainty) for point in good])
    if good and (~np.isfinite(sigma) | (sigma <= 0)).any():
        checks.append(Check(state="stop", words="Some points have no usable uncertainty."))
    elif good:
        typical, worst = float(np.median(sigma)), float(sigma.max())
        words = f"Uncertainties: typically {typical:.4f} mag, at most {worst:.4f} mag."
        checks.append(
            Check(state="look" if worst > _LARGE_UNCERTAINTY_MAG else "good", words=words)
        )
    checks += _check_star(now)
    doubts = doubts_of(session, campaign)
    checks += [Check(state="look", words=doubt.words) for doubt in doubts]
    if told.plan.site is None:
        words = "The site is unknown: no airmass, and BJD is for the centre of the Earth."
        checks.append(Check(state="look", words=words))
    elif all(doubt.what != TIMES for doubt in doubts):
        checks.append(Check(state="good", words="Times: JD in UTC, BJD in TDB, for your site."))
    if campaign.changed_since:
        checks.append(Check(state="look", words=f"Measure: {out_of_date(campaign)}."))
    exposures = exposures_of(session, campaign)
    waiting = sum(not (e.measured_with or e.trouble or e.aside_by) for e in exposures)
    if waiting:
        many = counted(waiting, "exposure is", "exposures are")
        words = f"{many} not measured yet and not in it: measure them first, in Measure."
        checks.append(Check(state="look", words=words))
    proposals = session.scalars(
        select(NightFile.id).where(NightFile.campaign_id == campaign.id, NightFile.proposal != "")
    ).all()
    if proposals:
        many = counted(len(proposals), "exposure is", "exposures are")
        words = f"{many} proposed to be set aside; decide in Vet."
        checks.append(Check(state="look", words=words))
    own = [sent for sent in reports if not sent.other]
    if own:
        last = own[0]
        words = counted(last.points, "point was", "points were")
        words += f" handed out on {last.created:%d %B %Y, %H:%M} UTC"
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
        checks.append(Check(state="stop", words=NOTHING if seen else "No point has a magnitude."))
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
            if word and not word.strip().startswith(TREND)  # no reason for doubt
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


def _check_cast(now: CurvesNow) -> list[Check]:
    """Whether the comparison stars carry what is claimed of them."""
    checks = []
    for curve in now.curves:
        count = len(curve.cast.comparison)
        if count < _FEW_COMPARISON:
            words = (
                f"Only {counted(count, 'comparison star')} in {curve.filter}: nothing tells "
                f"whether {'it is' if count == 1 else 'they are'} steady. Give more in Cast."
            )
            checks.append(Check(state="look", words=words))
        if curve.check is None or curve.cast.check is None:
            continue
        known = float(now.stars.bands[curve.band].magnitude[curve.cast.check])
        off = float(np.nanmedian(curve.check.magnitude)) - known
        if abs(off) > _CHECK_OFF_MAG:
            words = (
                f"The check star in {curve.filter} comes out {1000 * off:+.0f} mmag from what the "
                "catalogue says: the zero point may be off by as much."
            ).replace("-", "−")
            checks.append(Check(state="look", words=words))
    return checks


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
        if verdict.hangs_together:
            size = f"{1000 * verdict.coherent_mag:.1f} mmag"
            words = f"{words[:-1]}; for a while it sits {size} off the rest."
        checks.append(Check(state="look" if restless else "good", words=words))
    return checks
