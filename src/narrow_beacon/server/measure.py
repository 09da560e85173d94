"""Measure: radii and what each would give, one star's profile and error budget, the recipe."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from typing import Any

import numpy as np
from apiflask import APIBlueprint
from flask import Response

from narrow_beacon.core.curve.cast import Cast
from narrow_beacon.core.curve.light_curve import star_curve
from narrow_beacon.core.measure.census import ExposureCensus
from narrow_beacon.core.measure.flags import flag_words
from narrow_beacon.core.measure.growth import RADII_FWHM, RadiusChoice
from narrow_beacon.core.measure.noise import CameraConstants, Exposed, Light, error_budgets
from narrow_beacon.reduce.curves import FilterCurve, judge_radii, looked_at
from narrow_beacon.server.curve import describe_curves
from narrow_beacon.server.curves import CurvesNow, curves_now, night_radii, places_in, step_of
from narrow_beacon.server.kept import Kept
from narrow_beacon.server.night import exposures_of, ring_px, times_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.curve import CurveOut
from narrow_beacon.server.schemas.measure import (
    Budget,
    FilterQuery,
    NightRadii,
    RadiiOut,
    RecipeIn,
    RowQuery,
    StarLightOut,
    StarMeasure,
    StarOut,
    StarQuery,
)
from narrow_beacon.server.state import campaign_of, changing, file_of, quick, shared
from narrow_beacon.server.vet import finite
from narrow_beacon.server.views import pixels_of_file
from narrow_beacon.store.actions import Change, act, new_recipe
from narrow_beacon.store.measured import filter_table
from narrow_beacon.store.models import Recipe
from narrow_beacon.store.sequences import stars_of

blueprint = APIBlueprint("measure", __name__)
_MARGIN_PX = 2.0
_MOST_PROFILE = 2500


@blueprint.get("/api/campaigns/<int:number>/radii")
@blueprint.input(FilterQuery, location="query", arg_name="query")
@blueprint.output(RadiiOut)
def radii(number: int, query: FilterQuery) -> RadiiOut:
    """What each radius of the census gives: the target's signal to noise, the night's scatter."""
    with shared().store.session() as session:
        now = curves_now(session, campaign_of(session, number))
    curve = next((c for c in now.curves if c.filter == query.filter), None) if now else None
    if now is None or curve is None:
        raise Problem(409, "Nothing measured yet", "Measure the night first, then choose a radius.")
    checks = tuple(row for row in now.cast.checks if curve.census.column(row) is not None)
    cast = Cast(now.cast.target, curve.cast.comparison, checks)
    choice = _choice(now, curve, cast)
    return RadiiOut(
        filter=curve.filter, step=step_of(now.recipe, curve.filter),
        radii_px=np.median(curve.census.radii_px, axis=0).tolist(),
        nights=[
            NightRadii(night=night, radii_px=radii.tolist())
            for night, radii in night_radii(now, curve).items()
        ],
        radii_fwhm=list(RADII_FWHM),
        target_snr=[finite(v) for v in choice.target_snr],
        scatter_mag=[finite(v) for v in choice.night_scatter_mag],
        best=choice.step,
    )  # fmt: skip


_choices: Kept[RadiusChoice] = Kept(16)


def _choice(now: CurvesNow, curve: FilterCurve, cast: Cast) -> RadiusChoice:
    """What each radius gives, judged once for the same stars on the same exposures: it does not
    hang on the radius in force.
    """
    table = now.tables[curve.filter]
    files = tuple(now.files[index].id for index in curve.indices)
    # The record of the cast stands for the catalogue, too: another one has casts of its own.
    key = (now.cast.id, table.prints, files, curve.band, cast.target, cast.comparison, cast.checks)

    def judged() -> RadiusChoice:
        some = places_in(now, curve)[looked_at(len(curve.indices))]
        census = table.of_stars(curve.census.rows, some)
        return judge_radii(census, now.stars, curve.band, cast, 0, None)

    return _choices.get(key, judged)


@blueprint.get("/api/campaigns/<int:number>/star")
@blueprint.input(StarQuery, location="query", arg_name="query")
@blueprint.output(StarOut)
def star(number: int, query: StarQuery) -> StarOut:
    """One star on one exposure: profile, growth of light, error budget at every radius."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        file = file_of(session, query.file)
        table = filter_table(session, number, file.filter)
        if table is None or query.file not in table.places:
            why = file.trouble or "it was not measured yet"
            raise Problem(409, "Not measured", f"{file.name}: {why}.")
        at = table.places[query.file]
        census = table.exposure(at, np.array([query.row]))
        stars = stars_of(session, campaign)
        if not census.rows.size:
            raise Problem(409, "Not on this exposure", f"{stars.names[query.row]} lies outside.")
        recipe = session.get(Recipe, campaign.recipe_id) if campaign.recipe_id else None
        annulus = ring_px(session, file)
        files = exposures_of(session, campaign)
        times = times_of(session, campaign, files)
        airmass = float(times.airmass[[f.id for f in files].index(query.file)])
        camera = _camera((campaign.cameras or {})[file.chain])
    i = 0  # of one star
    step = step_of(recipe, file.filter)
    x, y, sky = float(census.x_px[i]), float(census.y_px[i]), float(census.sky_adu_per_px[i])
    counts, sigma = census.counts_adu[i], census.uncertainty_adu[i]
    distance, value = _profile(query.file, x, y, annulus[1] + _MARGIN_PX)
    ring = float(np.pi * (annulus[1] ** 2 - annulus[0] ** 2))
    light = Light(
        counts[None, :], np.array([sky]), np.array([ring]), census.radii_px, _usual_width(census),
        np.ones(1),
    )  # fmt: skip
    budgets = [
        Budget(
            star=finite(b.star), sky=finite(b.sky), dark=finite(b.dark), read=finite(b.read),
            masters=finite(b.masters), scintillation=finite(b.scintillation),
            total_mag=finite(b.total),
        )
        for b in error_budgets(light, Exposed(file.exposure_s or 0.0, airmass), camera)
    ]  # fmt: skip
    flags = flag_words(int(census.flags_at(float(census.radii_px[step]))[i]))
    return StarOut(
        row=query.row, name=stars.names[query.row], filter=file.filter, x_px=x, y_px=y,
        sky_adu_per_px=finite(sky), peak_adu=finite(census.peak_adu[i]), flags=", ".join(flags),
        radii_px=census.radii_px.tolist(), counts_adu=[finite(v) for v in counts],
        uncertainty_adu=[finite(v) for v in sigma],
        snr=[finite(v) for v in counts / sigma], profile_radius_px=distance.tolist(),
        profile_adu=value.tolist(), annulus_px=annulus, budgets=budgets,
    )  # fmt: skip


@blueprint.get("/api/campaigns/<int:number>/light")
@blueprint.input(RowQuery, location="query", arg_name="query")
@blueprint.output(StarLightOut)
def light(number: int, query: RowQuery) -> Response:
    """One star exposure by exposure, in order of time."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        now = curves_now(session, campaign, everything=True)
    if now is None or not 0 <= query.row < len(now.stars):
        raise Problem(409, "Nothing measured yet", "Measure the night first.")
    found = [one for curve in now.curves for one in _measures(now, curve, query.row)]
    order = sorted(found, key=lambda one: now.index_of[one.file])
    return quick(StarLightOut(row=query.row, name=now.stars.names[query.row], measures=order))


def _measures(now: CurvesNow, curve: FilterCurve, row: int) -> list[StarMeasure]:
    table = now.tables[curve.filter]
    keep, rows = places_in(now, curve), np.array([row])
    one = table.at_radius(curve.choice.step, keep, rows)
    if not one.rows.size:
        return []
    star = star_curve(one, 0, curve.ensemble, row)
    x, y, sky, peak = (
        table.scalar(name, keep, rows)[:, 0]
        for name in ("x_px", "y_px", "sky_adu_per_px", "peak_adu")
    )
    counts, sigma = one.counts_adu[:, 0, 0], one.uncertainty_adu[:, 0, 0]
    return [
        StarMeasure(
            file=now.files[index].id, filter=curve.filter, counts_adu=finite(counts[at]),
            snr=finite(counts[at] / sigma[at]), instrumental=finite(star.instrumental[at]),
            magnitude=finite(star.magnitude[at]), uncertainty=finite(star.uncertainty[at]),
            sky_adu_per_px=finite(sky[at]), peak_adu=finite(peak[at]), x_px=finite(x[at] + 1.0),
            y_px=finite(y[at] + 1.0), radius_px=float(one.radii_px[at, 0]),
            flags=", ".join(star.words(at)),
        )
        for at, index in enumerate(curve.indices)
        if np.isfinite(counts[at])
    ]  # fmt: skip


def _camera(kept: Mapping[str, Any]) -> CameraConstants:
    """Constants as an earlier version may have kept them."""
    names = {field.name for field in fields(CameraConstants)}
    return CameraConstants(**{name: value for name, value in kept.items() if name in names})


def _usual_width(census: ExposureCensus) -> float:
    return float(census.radii_px[0]) / RADII_FWHM[0]


def _profile(number: int, x: float, y: float, reach: float) -> tuple[np.ndarray, np.ndarray]:
    """Distances and corrected values of the pixels about a place."""
    pixels = pixels_of_file(number)
    height, width = pixels.shape
    left, right = max(0, int(x - reach)), min(width, int(x + reach) + 2)
    low, high = max(0, int(y - reach)), min(height, int(y + reach) + 2)
    yy, xx = np.mgrid[low:high, left:right]
    distance = np.hypot(xx - x, yy - y).reshape(-1)
    value = pixels[low:high, left:right].reshape(-1).astype(float)
    inside = np.flatnonzero((distance <= reach) & np.isfinite(value))
    inside = inside[np.argsort(distance[inside])][:_MOST_PROFILE]
    return np.round(distance[inside], 3), np.round(value[inside], 2)


@blueprint.post("/api/campaigns/<int:number>/recipe")
@blueprint.input(RecipeIn, arg_name="body")
@blueprint.output(CurveOut)
def set_recipe(number: int, body: RecipeIn) -> Response:
    """Choose the radius of each filter; the answer is the curve that it makes."""
    bad = [step for step in body.steps.values() if not 0 <= step < len(RADII_FWHM)]
    if bad:
        raise Problem(422, "No such radius", f"Steps go from 0 to {len(RADII_FWHM) - 1}.")
    with changing(number) as (session, campaign):
        old = session.get(Recipe, campaign.recipe_id) if campaign.recipe_id else None
        steps = {**(old.steps if old else {}), **body.steps}
        if old and old.steps == steps:
            return quick(describe_curves(session, campaign))
        recipe = new_recipe(session, campaign, steps, body.automatic)
        words = ", ".join(f"{RADII_FWHM[s]:g} star widths in {n}" for n, s in body.steps.items())
        act(
            session, campaign, f"set the radius to {words}",
            [Change("campaign", campaign.id, "recipe_id", recipe.id)],
        )  # fmt: skip
        return quick(describe_curves(session, campaign))
