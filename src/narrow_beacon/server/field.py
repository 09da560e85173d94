"""The field's stars: each with its numbers over all exposures, and a finder chart to print."""

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

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.designation import designation
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.field_stars import exposures_of_field, serving
from narrow_beacon.core.curve.time import julian_year
from narrow_beacon.reduce.curves import FilterCurve
from narrow_beacon.reduce.field import band_of
from narrow_beacon.reduce.field_picture import field_picture
from narrow_beacon.reduce.finder import FORMATS, Backdrop, Look, Parts, draw_finder
from narrow_beacon.server.columns import listed
from narrow_beacon.server.curves import CurvesNow, curves_now, everyone_of, places_in, with_everyone
from narrow_beacon.server.kept import Kept
from narrow_beacon.server.night import exposures_of, placements_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.measure import FilterQuery
from narrow_beacon.server.schemas.stars import ColoursOut, FieldStar, FieldStarsOut, FinderQuery
from narrow_beacon.server.state import campaign_of, file_of, quick, shared
from narrow_beacon.server.views import pixels_of_file, view_of_file
from narrow_beacon.store.campaigns import now as this_moment
from narrow_beacon.store.census_columns import CensusTable
from narrow_beacon.store.models import Campaign, CastRecord
from narrow_beacon.store.placements import solution_of
from narrow_beacon.store.sequences import stars_of

blueprint = APIBlueprint("field", __name__)


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
        stars = stars_of(session, campaign)
        cast = session.get_one(CastRecord, campaign.cast_id)
        band = _band_of(session, campaign, query.filter, stars)
        placed, moment = None, None
        if query.file is not None:
            file = file_of(session, query.file)
            placed, moment = placements_of(session, [file.id]).get(file.id), file.mid_utc
            if placed is None:
                raise Problem(409, "Not placed", "A chart needs an exposure that is on the sky.")
    parts = Parts(cast.target, tuple(cast.comparison), cast.checks)
    if query.row is not None and query.row != cast.target:
        if query.row >= len(stars):
            raise Problem(404, "No such star", "The catalogue may be another one now.")
        others = tuple(row for row in cast.comparison if row != query.row)
        name = stars.names[query.row]
        if not stars.known_variable[query.row]:
            place = float(stars.ra_deg[query.row]), float(stars.dec_deg[query.row])
            name = f"{designation(*place)} = {name}"
        checks = tuple(row for row in cast.checks if row != query.row)
        parts = Parts(query.row, others, checks, name)
    look = Look(query.width, query.up, query.mirrored, query.faintest, query.points)
    backdrop = None
    if placed is not None and query.file is not None:
        b = view_of_file(query.file).brightness
        backdrop = Backdrop(pixels_of_file(query.file), solution_of(placed), b.sky, b.noise)
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


@blueprint.get("/api/campaigns/<int:number>/colours")
@blueprint.output(ColoursOut)
def colours(number: int) -> Response:
    """The field's stars by colour and magnitude, as they were measured in two filters."""
    with shared().store.session() as session:
        now = curves_now(session, campaign_of(session, number))
    picture = field_picture(everyone_of(now), now.stars) if now else None
    if now is None or picture is None:
        return quick(ColoursOut(bluer="", redder="", transformed=False, row=[], name=[], colour=[],
                                colour_uncertainty=[], magnitude=[], uncertainty=[]))  # fmt: skip
    found = picture.stars
    known = np.isfinite(found.colour) & np.isfinite(found.magnitude)
    rows = found.rows[known].tolist()
    return quick(
        ColoursOut(
            bluer=picture.bluer, redder=picture.redder, transformed=found.transformed, row=rows,
            name=[now.stars.names[row] for row in rows],
            **{
                name: np.round(getattr(found, name)[known], 4).tolist()
                for name in ("colour", "colour_uncertainty", "magnitude", "uncertainty")
            },
        )
    )  # fmt: skip


_rooms: Kept[tuple[Floats, Floats]] = Kept(12)


def _room(
    table: CensusTable, keep: Ints, width: Floats, height: Floats, limit: Floats
) -> tuple[Floats, Floats]:
    """How near to the edge each star comes, in pixels, and its highest share of the linear limit;
    sizes and limit are (exposures, 1).
    """
    edges, peaks = [], []
    for rows in table.blocks():
        x, y, top = (table.scalar(name, keep, rows) for name in ("x_px", "y_px", "peak_adu"))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", RuntimeWarning)  # a star that is on none of them
            room = np.minimum(np.minimum(x, y), np.minimum(width - x, height - y))
            edges.append(np.nanmin(room, axis=0))
            peaks.append(np.nanmax(top / limit, axis=0))
    return np.concatenate(edges), np.concatenate(peaks)


def describe_field(
    now: CurvesNow, curve: FilterCurve, sizes: Mapping[int, tuple[int, int, float]]
) -> FieldStarsOut:
    """All stars of a filter's census; ``sizes`` are width, height and linear limit by file."""
    table, stars = now.tables[curve.filter], now.stars
    some = exposures_of_field(len(curve.indices))
    numbers = [now.files[index].id for index in np.array(curve.indices)[some].tolist()]
    keep = places_in(now, curve)[some]
    found = with_everyone(now, curve).field
    assert found is not None
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
    key = (table.prints, keep.tobytes(), limit.tobytes())
    edge, peak = _rooms.get(key, lambda: _room(table, keep, width, height, limit))
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
        "correlated_mag": found.correlated_mag,
        "spoiled": found.spoiled, "neighbour_mag": found.neighbour_mag, "fainter": serves.fainter,
        "redder": serves.redder, "away_arcmin": away, "peak_share": peak, "edge_px": edge,
    }  # fmt: skip
    lists: dict[str, Any] = {name: listed(np.round(values, 5)) for name, values in columns.items()}
    return FieldStarsOut(
        filter=curve.filter, band=curve.band, index=terms.index.name if terms else "",
        by_colour=curve.standard is not None,
        stars=[
            FieldStar.model_construct(
                row=int(row), name=stars.names[row], points=int(found.points[at]),
                known_variable=bool(stars.known_variable[row]),
                listed=stars.listed is not None and bool(stars.listed[row]),
                score=float(serves.score[at]),
                **{name: values[at] for name, values in lists.items()},
            )
            for at, row in enumerate(found.rows.tolist())
            if found.points[at]
        ],
    )  # fmt: skip
