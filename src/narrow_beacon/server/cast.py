"""Cast: candidates with reasons, the line-up, steadiness, and who plays which part."""

from __future__ import annotations

import tempfile
import warnings
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from apiflask import APIBlueprint
from flask import Response
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.cast import Cast, colour_of, rank_candidates
from narrow_beacon.core.curve.field_stars import field_stars, serving
from narrow_beacon.core.curve.light_curve import star_curve
from narrow_beacon.core.curve.steadiness import judge_steadiness
from narrow_beacon.core.curve.time import julian_year
from narrow_beacon.core.curve.zero_points import ensemble_of
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.field import band_of
from narrow_beacon.reduce.finder import FORMATS, Backdrop, Look, Parts, draw_finder
from narrow_beacon.server.curve import describe_curves, rounded
from narrow_beacon.server.images import view_of_file
from narrow_beacon.server.night import (
    CurvesNow,
    curves_now,
    exposures_of,
    placements_of,
    step_of,
)
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.curve import CurveOut
from narrow_beacon.server.schemas.measure import FilterQuery
from narrow_beacon.server.schemas.stars import (
    Candidate,
    Candidates,
    CastIn,
    FieldStar,
    FieldStarsOut,
    FinderQuery,
)
from narrow_beacon.server.state import campaign_of, changing, file_of, quick, shared
from narrow_beacon.server.vet import finite
from narrow_beacon.store.actions import Change, act, new_cast
from narrow_beacon.store.campaigns import now as this_moment
from narrow_beacon.store.campaigns import queue_job
from narrow_beacon.store.fields import star_table
from narrow_beacon.store.models import Campaign, CastRecord
from narrow_beacon.store.placements import solution_of

blueprint = APIBlueprint("cast", __name__)
_MOST_SERIES = 24


@blueprint.get("/api/campaigns/<int:number>/candidates")
@blueprint.input(FilterQuery, location="query", arg_name="query")
@blueprint.output(Candidates)
def candidates(number: int, query: FilterQuery) -> Candidates:
    """Comparison stars in force and those that could be, ranked, each with its own curve."""
    with shared().store.session() as session:
        now = curves_now(session, campaign_of(session, number))
    if now is None or not now.curves:
        return Candidates(filter="", band="", file_ids=[], candidates=[])
    curve = next((c for c in now.curves if c.filter == query.filter), now.curves[0])
    table = now.tables[curve.filter]
    keep = np.array([table.file_ids.index(now.files[i].id) for i in curve.indices])
    census = table.census.take(keep)
    step = step_of(now.recipe, curve.filter)
    ranked = rank_candidates(census, step, now.stars, curve.band, now.cast.target, set())
    words = {candidate.row: candidate.words for candidate in ranked}
    in_force = [row for row in now.cast.comparison if census.column(row) is not None]
    if now.cast.check_star is not None and census.column(now.cast.check_star) is not None:
        in_force.append(now.cast.check_star)
    dropped = [int(row) for row in now.cast.dropped if census.column(int(row)) is not None]
    rows = list(dict.fromkeys([*in_force, *dropped, *words]))[:_MOST_SERIES]
    small = census.stars_only(np.array(sorted(rows)))
    ensemble = ensemble_of(small, step, now.stars, curve.band, curve.cast.comparison)
    usable = small.usable(step)
    _, noise = small.magnitudes(step)
    colour = colour_of(now.stars)
    known = now.stars.bands[curve.band].magnitude
    found = []
    for row in rows:
        column = small.column(row)
        assert column is not None
        if row in curve.cast.comparison:
            series = ensemble.residual_mag[:, curve.cast.comparison.index(row)]
            series = series + ensemble.star_offset_mag[curve.cast.comparison.index(row)]
        else:
            magnitude = star_curve(small, step, ensemble, row).magnitude
            series = np.where(usable[:, column], magnitude - known[row], np.nan)
        middle = float(np.nanmedian(series)) if np.isfinite(series).any() else float("nan")
        sigma = np.sqrt(noise[:, column] ** 2 + ensemble.zero_point_uncertainty**2)
        widened = np.sqrt(sigma**2 + ensemble.extra_mag**2)
        verdict = judge_steadiness(series - middle, widened)
        found.append(
            Candidate(
                row=row, name=now.stars.names[row], magnitude=finite(known[row]),
                colour=finite(colour[row]) if colour is not None else None,
                measured=finite(known[row] + middle), off_line=finite(middle),
                scatter_mag=finite(verdict.scatter_mag),
                expected_mag=finite(verdict.expected_mag), varies=bool(verdict.varies),
                present=float(usable[:, column].mean()),
                words=_reason(now, row, words), series=[finite(v) for v in series - middle],
            )
        )  # fmt: skip
    return Candidates(
        filter=curve.filter, band=curve.band,
        file_ids=[now.files[index].id for index in curve.indices], candidates=found,
    )  # fmt: skip


@blueprint.get("/api/campaigns/<int:number>/finder.<kind>")
@blueprint.input(FinderQuery, location="query", arg_name="query")
@blueprint.doc(hide=True)
def finder(number: int, kind: str, query: FinderQuery) -> Response:
    """A finder chart to print, from the catalogue or over an exposure."""
    if kind not in FORMATS:
        raise Problem(404, "No such format", f"A chart comes as {', '.join(FORMATS)}.")
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        if campaign.catalogue_id is None or campaign.cast_id is None:
            raise Problem(409, "No target yet", "Give the part of the target in Cast first.")
        stars = star_table(session, campaign.catalogue_id)
        cast = session.get_one(CastRecord, campaign.cast_id)
        band = _band_of(session, campaign, query.filter, stars)
        placed, moment = None, None
        if query.file is not None:
            file = file_of(session, query.file)
            placed, moment = placements_of(session, [file.id]).get(file.id), file.mid_utc
            if placed is None:
                raise Problem(409, "Not placed", "A chart needs an exposure that is on the sky.")
    parts = Parts(cast.target, tuple(cast.comparison), cast.check_star)
    look = Look(query.width, query.up, query.mirrored, query.faintest, query.points)
    backdrop = None
    if placed is not None and query.file is not None:
        view = view_of_file(query.file)
        b = view.brightness
        backdrop = Backdrop(view.pixels, solution_of(placed), b.sky, b.noise)
    year = julian_year(moment or this_moment())
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"finder.{kind}"
        draw_finder(stars, band, parts, year, path, look, backdrop)
        types = {"svg": "image/svg+xml", "pdf": "application/pdf", "png": "image/png"}
        return Response(path.read_bytes(), content_type=types[kind])


def _band_of(session: Session, campaign: Campaign, name: str, stars: StarTable) -> str:
    """The catalogue's band of a filter, else V, else its first."""
    found = band_of(name, stars.bands, campaign.bands) if name else None
    return found or ("V" if "V" in stars.bands else next(iter(stars.bands)))


@blueprint.get("/api/campaigns/<int:number>/field")
@blueprint.input(FilterQuery, location="query", arg_name="query")
@blueprint.output(FieldStarsOut)
def field(number: int, query: FilterQuery) -> Response:
    """Every measured star of the field in a filter, with what speaks for and against it."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        now = curves_now(session, campaign)
        limits = {
            chain: float(camera.get("linear_limit_adu") or np.inf)
            for chain, camera in (campaign.cameras or {}).items()
        }
        sizes = {
            file.id: (file.width, file.height, limits.get(file.chain, np.inf))
            for file in exposures_of(session, campaign)
        }
    if now is None or not now.curves:
        return quick(FieldStarsOut(filter="", band="", index="", by_colour=False, stars=[]))
    curve = next((c for c in now.curves if c.filter == query.filter), now.curves[0])
    return quick(describe_field(now, curve, sizes))


def describe_field(
    now: CurvesNow, curve: FilterCurve, sizes: Mapping[int, tuple[int, int, float]]
) -> FieldStarsOut:
    """All stars of a filter's census; ``sizes`` are width, height and linear limit by file."""
    table, stars = now.tables[curve.filter], now.stars
    numbers = [now.files[index].id for index in curve.indices]
    place = {number: at for at, number in enumerate(table.file_ids)}
    keep = np.array([place[number] for number in numbers])
    census, step = table.census.take(keep), curve.choice.step
    found = field_stars(census, step, curve.ensemble, curve.cast.comparison)
    terms = curve.terms
    colour = terms.index.of(stars) if terms else None
    used = curve.standard.colour if curve.standard else np.empty(0)
    used = used[np.isfinite(used)]
    serves = serving(
        found, stars, curve.band, colour, now.cast.target,
        own_colour=float(np.median(used)) if used.size else None,
        by_colour=curve.standard is not None,
    )  # fmt: skip
    width, height, limit = (np.array([sizes[n][k] for n in numbers])[:, None] for k in range(3))
    x, y = table.x_px[keep], table.y_px[keep]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # a star that is on none of them
        edge = np.nanmin(np.minimum(np.minimum(x, y), np.minimum(width - x, height - y)), axis=0)
        peak = np.nanmax(table.peak_adu[keep] / limit, axis=0)
    ra, dec = stars.ra_deg[found.rows], stars.dec_deg[found.rows]
    ra0, dec0 = stars.ra_deg[now.cast.target], stars.dec_deg[now.cast.target]
    away = 60.0 * np.hypot((ra - ra0) * np.cos(np.radians(dec0)), dec - dec0)
    of = stars.bands[curve.band]
    known, unsure = of.magnitude[found.rows], of.uncertainty[found.rows]
    columns = {
        "catalogue_mag": known, "catalogue_uncertainty": unsure,
        "colour": colour[found.rows] if colour is not None else np.full(found.rows.size, np.nan),
        "magnitude": found.magnitude, "uncertainty": found.uncertainty_mag,
        "off_mag": found.magnitude - known, "scatter_mag": found.scatter_mag,
        "expected_mag": found.expected_mag, "times": found.times, "alike": found.alike,
        "spoiled": found.spoiled, "neighbour_mag": found.neighbour_mag, "fainter": serves.fainter,
        "redder": serves.redder, "away_arcmin": away, "peak_share": peak, "edge_px": edge,
    }  # fmt: skip
    lists: dict[str, Any] = {name: rounded(values, 5) for name, values in columns.items()}
    return FieldStarsOut(
        filter=curve.filter, band=curve.band, index=terms.index.name if terms else "",
        by_colour=curve.standard is not None,
        stars=[
            FieldStar.model_construct(
                row=int(row), name=stars.names[row], points=int(found.points[at]),
                known_variable=bool(stars.known_variable[row]), score=float(serves.score[at]),
                **{name: values[at] for name, values in lists.items()},
            )
            for at, row in enumerate(found.rows.tolist())
            if found.points[at]
        ],
    )  # fmt: skip


def _reason(now: CurvesNow, row: int, words: dict[int, str]) -> str:
    dropped = now.cast.dropped.get(str(row))
    if dropped:
        return dropped
    return words.get(row, now.cast.reasons.get(str(row), "named by the observer"))


@blueprint.post("/api/campaigns/<int:number>/cast")
@blueprint.input(CastIn, arg_name="body")
@blueprint.output(CurveOut)
def set_cast(number: int, body: CastIn) -> Response:
    """Give the roles; the answer is the curve that they make."""
    comparison = list(dict.fromkeys(body.comparison))
    if body.target in comparison or body.target == body.check or body.check in comparison:
        raise Problem(422, "One star, two parts", "A star can play one part only.")
    with changing(number) as (session, campaign):
        if campaign.catalogue_id is None:
            raise Problem(409, "No catalogue yet", "Name one in Intake first.")
        stars = star_table(session, campaign.catalogue_id)
        wanted = Cast(body.target, tuple(comparison), body.check).rows
        if any(not 0 <= row < len(stars) for row in wanted):
            raise Problem(422, "No such star", "The catalogue has changed; reload the page.")
        old = session.get(CastRecord, campaign.cast_id) if campaign.cast_id else None
        if old and (old.target, old.comparison, old.check_star) == (
            body.target,
            comparison,
            body.check,
        ):
            return quick(describe_curves(session, campaign))
        cast = new_cast(session, campaign, body.target, comparison, body.check)
        changes = [Change("campaign", campaign.id, "cast_id", cast.id)]
        if old and old.target != body.target:
            ra, dec = stars.ra_deg[body.target], stars.dec_deg[body.target]
            changes += [
                Change("campaign", campaign.id, "target_name", stars.names[body.target]),
                Change("campaign", campaign.id, "target_ra_deg", float(ra)),
                Change("campaign", campaign.id, "target_dec_deg", float(dec)),
                Change("campaign", campaign.id, "target_sure", True),
            ]
            # Other reasons to set exposures aside; the census holds all stars.
            queue_job(session, campaign, "settle")
        act(session, campaign, _words(stars.names, old, cast), changes)
        return quick(describe_curves(session, campaign))


def _words(names: tuple[str, ...], old: CastRecord | None, new: CastRecord) -> str:
    if old is None:
        return "chose the cast"
    if old.target != new.target:
        return f"made {names[new.target]} the target"
    if old.check_star != new.check_star:
        if new.check_star is None:
            return f"took the part of check star from {names[old.check_star or 0]}"
        return f"made {names[new.check_star]} the check star"
    gained = set(new.comparison) - set(old.comparison)
    lost = set(old.comparison) - set(new.comparison)
    parts = [f"made {names[row]} a comparison star" for row in gained]
    parts += [f"{names[row]} is no longer a comparison star" for row in lost]
    return "; ".join(parts) or "changed the cast"
