"""Stars that are pointed at: measured on the spot, on any exposure that can be seen."""

from __future__ import annotations

import numpy as np
from apiflask import APIBlueprint
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Plane
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.time import julian_year, places_at
from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.core.measure.pointing import PointedStar, aperture_at, point_at
from narrow_beacon.core.place.solution import Solution
from narrow_beacon.reduce.codec import load
from narrow_beacon.reduce.field import band_of
from narrow_beacon.server.night import placements_of
from narrow_beacon.server.problems import Problem
from narrow_beacon.server.schemas.common import Done
from narrow_beacon.server.schemas.pointing import PointIn, Pointing, Pointings
from narrow_beacon.server.state import campaign_of, file_of, shared
from narrow_beacon.server.views import pixels_of_file
from narrow_beacon.store.models import Campaign, Kit, NightFile
from narrow_beacon.store.placements import solution_of
from narrow_beacon.store.sequences import stars_of

blueprint = APIBlueprint("pointing", __name__)
_ZERO_STARS = 60
_LEAST_ZERO_STARS = 3
_SURE_SNR = 20.0
_SAME_PX = 2.5
_MOST = 1000


@blueprint.get("/api/campaigns/<int:number>/pointings")
@blueprint.output(Pointings)
def pointings(number: int) -> Pointings:
    """The list that is kept."""
    with shared().store.session() as session:
        kept = campaign_of(session, number).pointings or []
    return Pointings(pointings=[Pointing(**one) for one in kept])


@blueprint.post("/api/files/<int:number>/pointings")
@blueprint.input(PointIn, arg_name="body")
@blueprint.output(Pointing)
def point(number: int, body: PointIn) -> Pointing:
    """Measure the star next to a place of an exposure and keep it in the list."""
    pixels = pixels_of_file(number)
    state = shared()
    with state.store.session() as session:
        file = file_of(session, number)
        campaign = campaign_of(session, file.campaign_id, locked=True)
        star = point_at(pixels, body.x, body.y, _gain(session, campaign, file))
        if star is None:
            raise Problem(422, "Beside the image", "Point at a place of the exposure.")
        kept = list(campaign.pointings or [])
        found = _told(session, campaign, file, pixels, star)
        found = found.model_copy(update={"id": max((one["id"] for one in kept), default=0) + 1})
        campaign.pointings = [*kept, found.model_dump()][-_MOST:]
    return found


@blueprint.delete("/api/campaigns/<int:number>/pointings/<int:which>")
@blueprint.output(Done)
def forget(number: int, which: int) -> Done:
    """Take one out of the list; 0 all of them."""
    with shared().store.session() as session:
        campaign = campaign_of(session, number, locked=True)
        kept = campaign.pointings or []
        campaign.pointings = [one for one in kept if which and one["id"] != which]
    return Done()


def _gain(session: Session, campaign: Campaign, file: NightFile) -> float | None:
    """Electrons an ADU: as its census was made with, of the kit, or of the header; None unknown."""
    camera = (campaign.cameras or {}).get(file.chain)
    if camera:
        return float(camera["gain_e_per_adu"])
    kit = session.get(Kit, campaign.kit_id) if campaign.kit_id else None
    if kit and kit.gain_e_per_adu:
        return kit.gain_e_per_adu
    facts = load(RawFile, file.raw).facts
    return facts.gain_e_per_adu.value if facts and facts.gain_e_per_adu else None


def _told(
    session: Session, campaign: Campaign, file: NightFile, pixels: Plane, star: PointedStar
) -> Pointing:
    placed = placements_of(session, [file.id]).get(file.id)
    ra = dec = magnitude = sigma = None
    name, band, used = "", "", 0
    if placed is not None:
        solution = solution_of(placed)
        sky = solution.sky(np.array([star.x_px]), np.array([star.y_px]))
        ra, dec = float(sky[0][0]), float(sky[1][0])
        if campaign.catalogue_id is not None:
            stars = stars_of(session, campaign)
            band = band_of(file.filter, stars.bands, campaign.bands) or ""
            year = julian_year(file.mid_utc) if file.mid_utc else 2000.0
            name = _name_at(stars, solution, year, star)
            if band and star.counts_adu > 0:
                zero, error, used = _zero_point(stars, solution, year, pixels, star, band)
                if used:
                    magnitude = zero - 2.5 * float(np.log10(star.counts_adu))
                    sigma = float(np.hypot(error, 1.0857 / star.snr))
    return Pointing(
        id=0, file_id=file.id, exposure=file.name, filter=file.filter, name=name,
        x_px=star.x_px, y_px=star.y_px, ra_deg=ra, dec_deg=dec, counts_adu=star.counts_adu,
        uncertainty_adu=star.uncertainty_adu, snr=star.snr, sky_adu_per_px=star.sky_adu_per_px,
        peak_adu=star.peak_adu, fwhm_px=star.fwhm_px, radius_px=star.radius_px,
        magnitude=magnitude, magnitude_uncertainty=sigma, band=band if used else "", stars=used,
    )  # fmt: skip


def _name_at(stars: StarTable, solution: Solution, year: float, star: PointedStar) -> str:
    x, y = solution.pixel(*places_at(stars, year))
    away = np.hypot(x - star.x_px, y - star.y_px)
    nearest = int(np.nanargmin(np.where(np.isfinite(away), away, np.inf)))
    return stars.names[nearest] if away[nearest] < _SAME_PX else ""


def _zero_point(
    stars: StarTable, solution: Solution, year: float, pixels: Plane, star: PointedStar, band: str
) -> tuple[float, float, int]:
    """Catalogue less instrumental magnitude of the exposure's brighter stars, by the aperture of
    the star that is pointed at: median, its uncertainty, and how many stars.
    """
    known = stars.bands[band].magnitude
    x, y = solution.pixel(*places_at(stars, year))
    height, width = pixels.shape
    edge = 6.0 * star.radius_px
    with np.errstate(invalid="ignore"):
        inside = (x > edge) & (y > edge) & (x < width - edge) & (y < height - edge)
    rows = np.flatnonzero(inside & np.isfinite(known) & ~stars.known_variable)
    rows = rows[np.argsort(known[rows], kind="stable")][: 3 * _ZERO_STARS]
    top = float(np.nanmax(pixels))
    found = []
    half = int(edge) + 2
    for row in rows:
        i, j = round(float(x[row])), round(float(y[row]))
        part = np.nan_to_num(pixels[j - half : j + half + 1, i - half : i + half + 1])
        counts, sky, scatter, _, peak = aperture_at(
            np.ascontiguousarray(part), x[row] - i + half, y[row] - j + half, star.radius_px,
            star.radius_px / 1.5,
        )  # fmt: skip
        noise = np.sqrt(np.pi) * star.radius_px * scatter
        if counts > _SURE_SNR * noise and sky + peak < 0.8 * top:
            found.append(known[row] + 2.5 * np.log10(counts))
        if len(found) == _ZERO_STARS:
            break
    if len(found) < _LEAST_ZERO_STARS:
        return 0.0, 0.0, 0
    zero = float(np.median(found))
    scatter = 1.4826 * float(np.median(np.abs(np.array(found) - zero)))
    return zero, 1.25 * scatter / float(np.sqrt(len(found))), len(found)
