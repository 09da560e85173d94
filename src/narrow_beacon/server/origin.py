"""Where a point comes from: its file, masters, solution, census, stars and settings, in words."""

from __future__ import annotations

from datetime import datetime

import numpy as np
from apiflask import APIBlueprint
from sqlalchemy import select
from sqlalchemy.orm import Session

from narrow_beacon import __version__
from narrow_beacon.core.frames.frame import RawFile
from narrow_beacon.core.frames.words import WORDS
from narrow_beacon.core.measure.flags import flag_words
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.reduce.codec import load
from narrow_beacon.server.curves import curves_now, step_of
from narrow_beacon.server.night import ring_px, width_px
from narrow_beacon.server.place import solution_in_words
from narrow_beacon.server.schemas.curve import OriginBlock, OriginFact, OriginOut
from narrow_beacon.server.state import campaign_of, file_of, shared
from narrow_beacon.store.campaigns import chains_of
from narrow_beacon.store.measured import filter_table
from narrow_beacon.store.models import (
    Campaign,
    CastRecord,
    Catalogue,
    NightFile,
    PlacementRecord,
    Recipe,
)

blueprint = APIBlueprint("origin", __name__)
_RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")
_CONSTANTS = {
    "gain_e_per_adu": "gain", "read_noise_e": "read noise", "linear_limit_adu": "linear limit",
}  # fmt: skip
_FROM_HEADER = {
    "kind": "kind", "filter": "filter", "exposure_s": "exposure, s", "time_utc": "time, UTC",
    "temperature_c": "sensor, °C", "camera": "camera",
}  # fmt: skip


@blueprint.get("/api/files/<int:number>/origin")
@blueprint.output(OriginOut)
def origin(number: int) -> OriginOut:
    """What made the point of an exposure, from the magnitude back to the raw file."""
    with shared().store.session() as session:
        file = file_of(session, number)
        campaign = campaign_of(session, file.campaign_id)
        found = {
            "on the curve": _point(session, campaign, file),
            "measured": _measured(session, campaign, file),
            "placed": _placed(session, campaign, file),
            "corrected": _corrected(session, campaign, file),
            "raw file": _raw(file),
        }
    blocks = [
        OriginBlock(title=title, facts=[OriginFact(name=n, words=w) for n, w in facts if w])
        for title, facts in found.items()
    ]
    return OriginOut(name=file.name, blocks=blocks)


Facts = list[tuple[str, str]]


def _raw(file: NightFile) -> Facts:
    raw = load(RawFile, file.raw)
    facts: Facts = [("file", file.path), ("SHA-256", file.sha256)]
    for name, words in _FROM_HEADER.items() if raw.facts else ():
        reading = getattr(raw.facts, name)
        if reading is not None:
            value = reading.value
            text = value.isoformat(" ") if isinstance(value, datetime) else f"{value}"
            facts.append((words, f"{text} ({reading.keyword})"))
    said = ", ".join(f"{WORDS[name][0]} {value}" for name, value in file.correction.items())
    return [*facts, ("the observer says", said)]


def _corrected(session: Session, campaign: Campaign, file: NightFile) -> Facts:
    chain = chains_of(session, campaign).get(file.chain)
    if chain is None:
        return [("not yet", "the masters are not built")]
    facts: Facts = [("chain", chain.name)]
    for station in chain.stations:
        what, _, why = station.words.partition(": ")
        facts.append((what, f"{station.master}: {why}") if station.master else ("repaired", what))
    return [*facts, *(("remark", words) for words in chain.remarks)]


def _placed(session: Session, campaign: Campaign, file: NightFile) -> Facts:
    record = session.scalars(
        select(PlacementRecord).where(PlacementRecord.file_id == file.id)
    ).first()
    if record is None:
        return [("not placed", file.trouble or "not yet")]
    catalogue = session.get(Catalogue, campaign.catalogue_id) if campaign.catalogue_id else None
    return [
        ("solution", solution_in_words(record)),
        ("found by", record.how),
        ("chance of a false one", f"1 in 10{f'{-record.false_log10:.0f}'.translate(_RAISED)}"),
        ("catalogue", f"{catalogue.name}, epoch {catalogue.epoch_yr:g}" if catalogue else ""),
        ("its SHA-256", catalogue.sha256 if catalogue else ""),
    ]


def _measured(session: Session, campaign: Campaign, file: NightFile) -> Facts:
    table = filter_table(session, campaign.id, file.filter)
    if table is None or file.id not in table.places:
        return [("not measured", file.trouble or "not yet")]
    at = table.places[file.id]
    stars, radius_px = table.measured_rows(np.array([at])).size, table.radii_px(at)
    recipe = session.get(Recipe, campaign.recipe_id) if campaign.recipe_id else None
    step = step_of(recipe, file.filter)
    inner, outer = ring_px(session, file)
    constants = campaign.constants.items()
    version = f", settings version {recipe.version}" if recipe else ""
    return [
        ("stars", f"{stars} of the catalogue, at {len(RADII_FWHM)} radii"),
        (
            "aperture radius",
            f"{radius_px[step]:.3f} px, {RADII_FWHM[step]:g} star widths{version}",
        ),
        ("sky ring", f"{inner:.2f} to {outer:.2f} px"),
        ("star width", f"{width:.2f} px" if (width := width_px(file)) else ""),
        ("constants", ", ".join(f"{_CONSTANTS.get(k, k)} {v}" for k, v in constants)),
        ("fingerprint", file.measured_with),
    ]


def _point(session: Session, campaign: Campaign, file: NightFile) -> Facts:
    if file.aside_by:
        return [("set aside", file.aside_reason)]
    now = curves_now(session, campaign)
    index = now.index_of.get(file.id) if now else None
    curve = next((c for c in now.curves if index in c.indices), None) if now else None
    if now is None or index is None or curve is None:
        return [("not on the curve", file.trouble or "there is none yet")]
    at, times, names = curve.indices.index(index), now.times, now.stars.names
    ensemble, target = curve.ensemble, curve.target
    checks = list(zip(curve.cast.checks, curve.checks, strict=True))
    stars = ", ".join(
        f"{names[row]} ({weight:.0%})"
        for row, weight, used in zip(
            curve.cast.comparison, ensemble.weight, ensemble.used[at], strict=True
        )
        if used
    )
    cast = session.get_one(CastRecord, campaign.cast_id)
    return [
        (
            "magnitude",
            f"{_four(target.magnitude[at])} ± {_four(target.uncertainty[at])} in {curve.band}",
        ),
        (
            "target",
            f"{names[curve.cast.target]}, instrumental {_four(target.instrumental[at])}".replace(
                "-", "−"
            ),
        ),
        (
            "zero point",
            f"{_four(ensemble.zero_point[at])} ± {_four(ensemble.zero_point_uncertainty[at])}",
        ),
        ("comparison stars", f"{stars}; cast version {cast.version}"),
        (
            "check star" if len(checks) < 2 else "check stars",
            "; ".join(
                f"{names[row]}, {_four(star.magnitude[at])} ± {_four(star.uncertainty[at])}"
                for row, star in checks
            )
            or "none",
        ),
        ("JD, UTC", f"{times.jd_utc[index]:.6f}"),
        ("HJD, UTC", f"{times.hjd_utc[index]:.6f}"),
        ("BJD, TDB", f"{times.bjd_tdb[index]:.6f}"),
        ("airmass", f"{times.airmass[index]:.4f}"),
        ("flags", ", ".join(flag_words(int(target.flags[at]))) or "none"),
        ("program", f"Narrow Beacon {__version__}"),
    ]


def _four(value: float) -> str:
    """A magnitude to four digits, from the five that charts and tables get: rounded otherwise, one
    in twenty would not be what they show.
    """
    return f"{round(float(value), 5):.4f}"
