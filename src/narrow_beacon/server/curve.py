"""Curve: target, check and comparison stars as the censuses give them, without a job."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from apiflask import APIBlueprint
from flask import Response
from sqlalchemy.orm import Session

from narrow_beacon.core.curve.light_curve import StarCurve, star_curve
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.points import taken_words
from narrow_beacon.server.campaigns import cast_out, recipe_out
from narrow_beacon.server.curves import CurvesNow, curves_now, night_radii, step_of
from narrow_beacon.server.schemas.curve import CurveOut, FilterCurveOut, StandardOut, StarSeries
from narrow_beacon.server.state import campaign_of, quick, shared
from narrow_beacon.server.vet import finite
from narrow_beacon.store.models import Campaign
from narrow_beacon.store.points import points_of

blueprint = APIBlueprint("curve", __name__)


@blueprint.get("/api/campaigns/<int:number>/curve")
@blueprint.output(CurveOut)
def curve(number: int) -> Response:
    """The light curves of the cast in force."""
    with shared().store.session() as session:
        return quick(describe_curves(session, campaign_of(session, number)))


def describe_curves(session: Session, campaign: Campaign) -> CurveOut:
    """The curves in force as the page draws them."""
    now = curves_now(session, campaign)
    if now is None:
        return CurveOut(
            revision=campaign.revision or 0, filters=[], problems=[], cast=None, recipe=None
        )
    points = points_of(campaign)
    return CurveOut(
        revision=campaign.revision or 0,
        filters=[_filter(now, curve, taken_words(curve, points)) for curve in now.curves],
        problems=list(now.problems),
        cast=cast_out(now.cast),
        recipe=recipe_out(now.recipe) if now.recipe else None,
    )


def _standard(curve: FilterCurve) -> StandardOut | None:
    found = curve.standard
    if found is None or curve.terms is None:
        return None
    return StandardOut.model_construct(
        magnitude=np.round(found.magnitude, 5), uncertainty=np.round(found.uncertainty, 5),
        colour=np.round(found.colour, 4), index=curve.terms.index.name,
        common_mag=float(found.common_mag),
    )  # fmt: skip


def _filter(now: CurvesNow, curve: FilterCurve, taken: str) -> FilterCurveOut:
    at = list(curve.indices)
    files = [now.files[index] for index in at]
    ensemble = curve.ensemble
    known = now.stars.bands[curve.band].magnitude
    step = step_of(now.recipe, curve.filter)

    def series(row: int, role: str, star: StarCurve, weight: float | None) -> StarSeries:
        # Unchecked: tens of thousands of our own numbers, at every change of a role.
        return StarSeries.model_construct(
            row=row, name=now.stars.names[row], role=role,
            known_magnitude=finite(known[row]), weight=weight,
            magnitude=np.round(star.magnitude, 5), uncertainty=np.round(star.uncertainty, 5),
            instrumental=[] if role == "comparison" else np.round(star.instrumental, 5),
            flags={
                at: ", ".join(star.words(at))
                for at in star.noted.tolist()
            },
            doubtful=np.flatnonzero(star.doubtful).tolist(), limit=_limits(star),
        )  # fmt: skip

    def _limits(star: StarCurve) -> dict[int, float]:
        there = np.flatnonzero(np.isfinite(star.limit_mag)).tolist()
        return {at: round(float(star.limit_mag[at]), 4) for at in there}

    found = [series(curve.cast.target, "target", curve.target, None)]
    scatter = expected = None
    for row, star in zip(curve.cast.checks, curve.checks, strict=True):
        found.append(series(row, "check", star, None))
    if curve.check is not None:
        verdict = curve.check.steadiness
        scatter, expected = finite(verdict.scatter_mag), finite(verdict.expected_mag)
    for place, row in enumerate(curve.cast.comparison):
        star = star_curve(curve.census, step, ensemble, row)
        # A comparison star is shown against the zero points of the others.
        own = known[row] + ensemble.star_offset_mag[place] + ensemble.residual_mag[:, place]
        shown = replace(star, magnitude=own)
        found.append(series(row, "comparison", shown, float(ensemble.weight[place])))
    return FilterCurveOut.model_construct(
        filter=curve.filter, band=curve.band, file_ids=[file.id for file in files],
        jd_utc=now.times.jd_utc[at], bjd_tdb=now.times.bjd_tdb[at],
        airmass=np.round(now.times.airmass[at], 4), zero_point=np.round(ensemble.zero_point, 5),
        zero_point_uncertainty=np.round(ensemble.zero_point_uncertainty, 5),
        transparency=np.round(curve.transparency, 4),
        radius_px=[float(radii[step]) for radii in night_radii(now, curve).values()], step=step,
        scatter_check_mag=scatter, expected_check_mag=expected,
        common_offset_mag=float(ensemble.common_offset_uncertainty_mag), series=found,
        floor_mag=finite(curve.floor_mag),
        standard=_standard(curve), taken=taken,
    )  # fmt: skip
