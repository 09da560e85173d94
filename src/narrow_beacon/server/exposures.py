"""All exposures of a campaign with what the rail draws of them, a column at a time: there can be
tens of thousands.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Bools, Floats, Ints
from narrow_beacon.core.stars.troubles import PARTS, VetRules, shaded
from narrow_beacon.server.columns import Column, listed
from narrow_beacon.server.curves import curves_now
from narrow_beacon.server.kept import Kept
from narrow_beacon.server.night import (
    chain_prints,
    exposures_of,
    image_version,
    pixel_step,
    times_of,
    view_position,
)
from narrow_beacon.server.planes import planes_of
from narrow_beacon.store.exposures import ExposureRow
from narrow_beacon.store.models import Campaign
from narrow_beacon.store.vetting import rules_of

_QUALITIES = ("elongation", "angle_deg", "slope", "saturated", "noise_ratio", "sky_adu_per_px")


@dataclass(frozen=True)
class RowLooks:
    """What the records say of all exposures, as columns; ``parts`` (exposures, PARTS, PARTS), how
    each lies on the one that it was ``matched_to`` (exposures, 6), 0 where on none.
    """

    numbers: Mapping[str, Floats]
    trails: list[list[Any]]
    light: Floats
    parts: Floats
    match_words: list[str]
    matched_to: Ints
    matched: Floats


_looks: Kept[tuple[Sequence[ExposureRow], RowLooks]] = Kept(2)


def looks_of(rows: Sequence[ExposureRow]) -> RowLooks:
    """Told once for the same rows."""
    # The rows are kept with it, so that no others can come to have their number.
    return _looks.get(id(rows), lambda: (rows, _told(rows)))[1]


def _told(rows: Sequence[ExposureRow]) -> RowLooks:
    count = len(rows)
    looks = RowLooks(
        {name: np.full(count, np.nan) for name in ("fwhm_px", "stars", *_QUALITIES)}, [[]] * count,
        np.full(count, np.nan), np.full((count, PARTS, PARTS), np.nan), [""] * count,
        np.zeros(count, np.int64), np.full((count, 6), np.nan),
    )  # fmt: skip
    for at, row in enumerate(rows):
        quality, evidence, match = row.quality or {}, row.evidence or {}, row.match or {}
        for name, values in looks.numbers.items():
            value = quality.get(name)
            values[at] = np.nan if value is None else value
        looks.numbers["fwhm_px"][at] *= pixel_step(row)
        looks.trails[at] = quality.get("trails") or looks.trails[at]
        looks.light[at] = evidence.get("light", np.nan)
        looks.parts[at] = evidence.get("parts") or np.nan
        looks.match_words[at] = _match_words(match)
        if "plane" in match:
            looks.matched_to[at], looks.matched[at] = match.get("to", 0), match["plane"]
    return looks


def exposure_columns(session: Session, campaign: Campaign) -> dict[str, Column]:
    """Every field of ``Exposure`` for all exposures of the sky in order of time. What limits are
    held against is not rounded.
    """
    rows = exposures_of(session, campaign)
    looks, count = looks_of(rows), len(rows)
    times = times_of(session, campaign, rows)
    ids = [row.id for row in rows]
    position = view_position(session, campaign)
    planes = np.full((count, 6), np.nan)
    if position:
        planes = planes_of(session, campaign, position, ids)
    _lay_matched(rows, looks, planes)
    light, zero = np.full(count, np.nan), np.full(count, np.nan)
    now = curves_now(session, campaign, everything=True)
    for curve in now.curves if now else ():
        light[list(curve.indices)] = curve.transparency
        zero[list(curve.indices)] = curve.ensemble.zero_point
    light = np.where(np.isfinite(looks.light), looks.light, light)
    prints = chain_prints(session, campaign)
    healthy = np.array([not row.trouble for row in rows], bool)
    drift, turn, scale = _moved(rows, planes, healthy)
    stars = [None if n is None else int(n) for n in listed(looks.numbers["stars"])]
    return {
        "id": ids, "name": [row.name for row in rows], "night": [row.night_id or 0 for row in rows],
        "filter": [row.filter for row in rows], "jd_utc": np.round(times.jd_utc, 9),
        "mid_utc": [row.mid_utc for row in rows],
        "exposure_s": [row.exposure_s or 0.0 for row in rows],
        "chain": [row.chain for row in rows],
        "version": [image_version(row.sha256, prints.get(row.chain, "")) for row in rows],
        "airmass": times.airmass, "noise": looks.numbers["noise_ratio"],
        **{name: values for name, values in looks.numbers.items() if name != "noise_ratio"},
        "stars": stars, "turn_deg": np.round(turn, 4),
        "scale_ppm": np.round(scale, 2), "match": looks.match_words,
        "trails": looks.trails, "shaded": _shaded(looks.parts, rules_of(campaign).rules),
        "transparency": light, "zero_point": zero, "drift_px": drift, "plane": np.round(planes, 7),
        "width": [row.width for row in rows], "height": [row.height for row in rows],
        "kit": [row.kit for row in rows],
        "placed": [bool(row.placed_with) and not row.trouble for row in rows],
        "measured": [bool(row.measured_with) and not row.trouble for row in rows],
        "trouble": [row.trouble or "" for row in rows],
        "aside": [row.aside_reason if row.aside_by else "" for row in rows],
        "aside_by": [row.aside_by or "" for row in rows],
        "proposal": [row.proposal or "" for row in rows],
    }  # fmt: skip


def reference_of(campaign: Campaign, columns: Mapping[str, Column]) -> tuple[int | None, str]:
    """The exposure that others are matched to, and why it is: the observer's, else one with many
    stars, sharp, and not set aside.
    """
    kept = campaign.reference or {}
    ids, laid = np.asarray(columns["id"]), np.isfinite(np.asarray(columns["plane"])[:, 0])
    if kept.get("file") in ids[laid]:
        return int(kept["file"]), str(kept.get("words", ""))
    spoiled = [bool(a or t) for a, t in zip(columns["aside_by"], columns["trouble"], strict=True)]
    stars, width = (np.asarray(columns[name], float) for name in ("stars", "fwhm_px"))
    fit = laid & ~np.array(spoiled, bool) & (width > 0)
    sharp = np.full(ids.size, np.nan)
    sharp[fit] = np.nan_to_num(stars[fit]) / width[fit] ** 2
    if not np.isfinite(sharp).any():
        return None, ""
    return int(ids[np.nanargmax(sharp)]), "the sharpest of many stars"


def _match_words(match: Mapping[str, Any]) -> str:
    if match.get("problem"):
        return str(match["problem"])
    if "plane" not in match:
        return ""
    mirror = ", mirrored" if match["mirrored"] else ""
    return (
        f"{match['matched']} stars on the reference’s within {match['residual_px']:.2f} px, turned "
        f"{match['turn_deg']:.1f}°{mirror}"
    )


def _shaded(parts: Floats, rules: VetRules) -> list[list[list[int]]]:
    """Which parts of each frame something stands before, columns and rows."""
    found: list[list[list[int]]] = [[]] * len(parts)  # each is replaced, never filled
    for at in np.flatnonzero((parts < rules.shade).any(axis=(1, 2))).tolist():
        dark = shaded(parts[at], rules)
        found[at] = [[int(i), int(j)] for j, i in np.argwhere(dark)]
    return found


def _lay_matched(rows: Sequence[ExposureRow], looks: RowLooks, planes: Floats) -> None:
    """Put in where exposures that are not placed lie beside the reference that they were matched
    to: on the sky where that is placed, else with its pixels taken for seconds of arc, y upwards.
    """
    unplaced = ~np.isfinite(planes[:, 0])
    matched = np.flatnonzero(unplaced & np.isfinite(looks.matched[:, 0])).tolist()
    if not matched:
        return
    index_of = {row.id: at for at, row in enumerate(rows)}
    for at in matched:
        reference = index_of.get(int(looks.matched_to[at]))
        if reference is None:
            continue
        base = planes[reference].tolist()
        if unplaced[reference]:
            height, width = rows[reference].height, rows[reference].width
            base = [-1.0, 0.0, (width - 1) / 2, 0.0, 1.0, -(height - 1) / 2]
        a, b, c, d, e, f = base
        p, q, r, s, t, u = looks.matched[at]
        planes[at] = (
            a * p + b * s, a * q + b * t, a * r + b * u + c,
            d * p + e * s, d * q + e * t, d * r + e * u + f,
        )  # fmt: skip


def _moved(
    rows: Sequence[ExposureRow], planes: Floats, healthy: Bools
) -> tuple[Floats, Floats, Floats]:
    """Since its night's first exposure: how far the field of each moved, in pixels, since what they
    measure on the sky is known only once it is placed; by how much it turned, in degrees, half
    turns of the mount apart; and its scale's change in millionths.
    """
    count = len(rows)
    told = np.isfinite(planes[:, 0]) & healthy
    first = np.full(count, -1)
    starts: dict[int, int] = {}
    for at in np.flatnonzero(told).tolist():
        first[at] = starts.setdefault(rows[at].night_id or 0, at)
    a, b, c, d, e, f = planes.T
    x = np.array([(row.width - 1) / 2 for row in rows], float)
    y = np.array([(row.height - 1) / 2 for row in rows], float)
    # Where the middle of a frame of this one's size lies, on this one's plane and on the first's.
    east, north = a * x + b * y + c, d * x + e * y + f
    a0, b0, c0, d0, e0, f0 = planes[first].T
    away = np.hypot(east - (a0 * x + b0 * y + c0), north - (d0 * x + e0 * y + f0))
    area, area0 = a * e - b * d, a0 * e0 - b0 * d0
    with np.errstate(invalid="ignore"):
        drift = away / np.sqrt(np.abs(area))
        turn = np.degrees(np.arctan2(b, e) - np.arctan2(b0, e0))
        scale = 1e6 * (np.sqrt(np.abs(area / area0)) - 1.0)
    return (
        np.where(told, drift, np.nan), np.where(told, (turn + 90.0) % 180.0 - 90.0, np.nan),
        np.where(told, scale, np.nan),
    )  # fmt: skip
