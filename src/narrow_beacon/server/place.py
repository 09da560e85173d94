"""Place: the stars of the field, what was measured on an exposure, the solution in words."""

from __future__ import annotations

import numpy as np
from apiflask import APIBlueprint
from sqlalchemy import select

from narrow_beacon.core.curve.time import julian_year, places_at
from narrow_beacon.core.measure.flags import flag_words
from narrow_beacon.core.place.solution import project
from narrow_beacon.reduce.field import band_of
from narrow_beacon.server.curves import step_of
from narrow_beacon.server.night import ring_px, sorted_exposures, view_position
from narrow_beacon.server.schemas.stars import Catalogue, MeasuredStars, PlacementOut
from narrow_beacon.server.state import campaign_of, file_of, shared
from narrow_beacon.server.vet import finite
from narrow_beacon.store.measured import filter_table
from narrow_beacon.store.models import Campaign, PlacementRecord, Recipe
from narrow_beacon.store.placements import solution_of
from narrow_beacon.store.sequences import stars_of

blueprint = APIBlueprint("place", __name__)
_FIELD_DEG = 1.5


@blueprint.get("/api/campaigns/<int:number>/stars")
@blueprint.output(Catalogue)
def stars(number: int) -> Catalogue:
    """The catalogue's stars about the target, where they are at the time of the first night."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number)
        position = view_position(session, campaign)
        if campaign.catalogue_id is None or position is None:
            return Catalogue(
                row=[], name=[], ra_deg=[], dec_deg=[], east_arcsec=[], north_arcsec=[],
                magnitudes={}, known_variable=[], note=[], parallax_mas=[], pm_arcsec_yr=[],
            )  # fmt: skip
        table = stars_of(session, campaign)
        moments = [file.mid_utc for file in sorted_exposures(session, campaign) if file.mid_utc]
    # Where the stars are now: proper motion since the catalogue's epoch can be many pixels.
    year = julian_year(moments[0]) if moments else table.epoch_yr
    ra, dec = places_at(table, year)
    east, north = project(ra, dec, *position)
    near = np.flatnonzero(np.hypot(east, north) < _FIELD_DEG)
    return Catalogue(
        row=near.tolist(),
        name=[table.names[row] for row in near],
        ra_deg=ra[near].tolist(),
        dec_deg=dec[near].tolist(),
        east_arcsec=(3600.0 * east[near]).tolist(),
        north_arcsec=(3600.0 * north[near]).tolist(),
        magnitudes={
            name: [finite(value) for value in band.magnitude[near]]
            for name, band in table.bands.items()
        },
        known_variable=[bool(v) for v in table.known_variable[near]],
        note=[table.notes[row] if table.notes else "" for row in near],
        parallax_mas=[
            finite(table.parallax_mas[row]) if table.parallax_mas is not None else None
            for row in near
        ],
        pm_arcsec_yr=(
            1e-3 * np.hypot(table.pm_ra_mas_yr[near], table.pm_dec_mas_yr[near])
        ).tolist(),
    )


@blueprint.get("/api/files/<int:number>/stars")
@blueprint.output(MeasuredStars)
def measured(number: int) -> MeasuredStars:
    """What was measured on an exposure, at the radius in force."""
    nothing = MeasuredStars(
        row=[], x_px=[], y_px=[], predicted_x_px=[], predicted_y_px=[], magnitude=[], snr=[],
        peak_adu=[], flags=[], radius_px=0.0, annulus_px=(0.0, 0.0),
    )  # fmt: skip
    with shared().store.session() as session:
        file = file_of(session, number)
        campaign = session.get_one(Campaign, file.campaign_id)
        placement = session.scalars(
            select(PlacementRecord).where(PlacementRecord.file_id == number)
        ).first()
        table = filter_table(session, campaign.id, file.filter)
        if placement is None or table is None or number not in table.places:
            return nothing
        recipe = session.get(Recipe, campaign.recipe_id) if campaign.recipe_id else None
        stars = stars_of(session, campaign)
        annulus = ring_px(session, file)
        solution = solution_of(placement)
        year = julian_year(file.mid_utc) if file.mid_utc else 2000.0
    at = table.places[number]
    here = np.array([at])
    step = step_of(recipe, file.filter)
    ra, dec = places_at(stars, year)
    rows = table.measured_rows(here)
    one = table.at_radius(step, here, rows)
    x, y, peak = (table.scalar(name, here, rows)[0] for name in ("x_px", "y_px", "peak_adu"))
    px, py = solution.pixel(ra[rows], dec[rows])
    counts, sigma = one.counts_adu[0, :, 0], one.uncertainty_adu[0, :, 0]
    exposure_s = table.seconds(at)
    with np.errstate(invalid="ignore", divide="ignore"):
        magnitude = -2.5 * np.log10(np.where(counts > 0, counts, np.nan) / exposure_s)
        snr = counts / sigma
    band = band_of(file.filter, stars.bands, campaign.bands)
    if band is not None:
        away = stars.bands[band].magnitude[rows] - magnitude
        bright = snr > 50
        if np.isfinite(away[bright]).sum() >= 3:
            magnitude = magnitude + float(np.nanmedian(away[bright]))
    return MeasuredStars(
        row=rows.tolist(),
        x_px=x.tolist(),
        y_px=y.tolist(),
        predicted_x_px=px.tolist(),
        predicted_y_px=py.tolist(),
        magnitude=[finite(v) for v in magnitude],
        snr=[finite(v) for v in snr],
        peak_adu=[finite(v) for v in peak],
        flags=[", ".join(flag_words(int(f))) for f in one.flags(0)[0]],
        radius_px=float(one.radii_px[0, 0]),
        annulus_px=annulus,
    )


@blueprint.get("/api/files/<int:number>/placement")
@blueprint.output(PlacementOut)
def placement(number: int) -> PlacementOut:
    """Where an exposure is on the sky, in words and as FITS WCS keywords."""
    with shared().store.session() as session:
        file = file_of(session, number)
        record = session.scalars(
            select(PlacementRecord).where(PlacementRecord.file_id == number)
        ).first()
        trouble = file.trouble or ""
    if record is None:
        words = "Not placed." if trouble else "Not placed yet: place the night."
        return PlacementOut(
            words=words, how="", scale_arcsec_per_px=None, rotation_deg=None, mirrored=None,
            matched=0, compared=0, residual_px=None, residual_arcsec=None, false_log10=None,
            ra_deg=None, dec_deg=None, trouble=trouble, wcs={},
        )  # fmt: skip
    solution = solution_of(record)
    ra, dec = solution.centre
    return PlacementOut(
        words=solution_in_words(record),
        how=record.how,
        scale_arcsec_per_px=solution.scale_arcsec_per_px,
        rotation_deg=solution.rotation_deg,
        mirrored=solution.mirrored,
        matched=record.matched,
        compared=record.compared,
        residual_px=record.residual_px,
        residual_arcsec=record.residual_px * solution.scale_arcsec_per_px,
        false_log10=record.false_log10,
        ra_deg=ra,
        dec_deg=dec,
        trouble=trouble,
        wcs=solution.header(),
    )


def solution_in_words(record: PlacementRecord) -> str:
    """Scale, turn and how well the stars fit."""
    solution = solution_of(record)
    side = "mirrored" if solution.mirrored else "not mirrored"
    return (
        f"{solution.scale_words}, turned {solution.rotation_deg:.2f}°, "
        f"{side}, {record.matched} of {record.compared} stars within "
        f"{record.residual_px:.2f} px (root mean square)."
    )
