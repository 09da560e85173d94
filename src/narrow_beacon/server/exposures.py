"""All exposures of a campaign with what the rail draws of them, a column at a time: there can be
tens of thousands.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Bools, Floats
from narrow_beacon.core.stars.troubles import PARTS, VetRules, shaded
from narrow_beacon.server.curves import curves_now
from narrow_beacon.server.kept import Kept
from narrow_beacon.server.night import (
    chain_prints,
    exposures_of,
    image_version,
    times_of,
    view_position,
    width_px,
)
from narrow_beacon.server.planes import planes_of
from narrow_beacon.store.exposures import ExposureRow
from narrow_beacon.store.models import Campaign
from narrow_beacon.store.vetting import rules_of

_QUALITIES = ("elongation", "angle_deg", "slope", "saturated", "noise_ratio", "sky_adu_per_px")


@dataclass(frozen=True)
class _Looks:
    """What the records say of all exposures, as columns; ``parts`` (exposures, PARTS, PARTS)."""

    fwhm_px: list[float | None]
    stars: list[int | None]
    trails: list[list[Any]]
    qualities: Mapping[str, list[float | None]]
    light: Floats
    parts: Floats


_looks: Kept[tuple[Sequence[ExposureRow], _Looks]] = Kept(4)


def _looks_of(rows: Sequence[ExposureRow]) -> _Looks:
    """Told once for the same rows."""
    # The rows are kept with it, so that no others can come to have their number.
    return _looks.get(id(rows), lambda: (rows, _told(rows)))[1]


def _told(rows: Sequence[ExposureRow]) -> _Looks:
    quality = [row.quality or {} for row in rows]
    evidence = [row.evidence or {} for row in rows]
    nothing = [[np.nan] * PARTS] * PARTS
    return _Looks(
        [width_px(row) for row in rows], [q.get("stars") for q in quality],
        [q.get("trails") or [] for q in quality],
        {name: [q.get(name) for q in quality] for name in _QUALITIES},
        np.array([e.get("light", np.nan) for e in evidence], float),
        np.array([e.get("parts") or nothing for e in evidence], float).reshape(-1, PARTS, PARTS),
    )  # fmt: skip


def _numbers(values: Floats, digits: int | None = None) -> list[float | None]:
    """For JSON: None where there is no number; with ``digits`` so many decimals, more than say
    anything. What limits are held against stays as it is.
    """
    values = np.asarray(values, float)
    known = np.isfinite(values)
    told = np.where(known, values, 0.0)
    found: list[float | None] = (told if digits is None else np.round(told, digits)).tolist()
    for at in np.flatnonzero(~known).tolist():
        found[at] = None
    return found


def exposure_columns(session: Session, campaign: Campaign) -> dict[str, list[Any]]:
    """Every field of ``Exposure`` for all exposures of the sky in order of time."""
    rows = exposures_of(session, campaign)
    looks, count = _looks_of(rows), len(rows)
    times = times_of(session, campaign, rows)
    ids = [row.id for row in rows]
    position = view_position(session, campaign)
    planes = np.full((count, 6), np.nan)
    if position:
        planes = planes_of(session, campaign, position, ids)
    _lay_matched(rows, planes)
    light, zero = np.full(count, np.nan), np.full(count, np.nan)
    now = curves_now(session, campaign, everything=True)
    for curve in now.curves if now else ():
        light[list(curve.indices)] = curve.transparency
        zero[list(curve.indices)] = curve.ensemble.zero_point
    light = np.where(np.isfinite(looks.light), looks.light, light)
    prints = chain_prints(session, campaign)
    healthy = np.array([not row.trouble for row in rows], bool)
    drift, turn, scale = _moved(rows, planes, healthy)
    laid: list[list[float] | None] = np.round(planes, 7).tolist()
    for at in np.flatnonzero(~np.isfinite(planes[:, 0])).tolist():
        laid[at] = None
    return {
        "id": ids, "name": [row.name for row in rows], "night": [row.night_id or 0 for row in rows],
        "filter": [row.filter for row in rows], "jd_utc": np.round(times.jd_utc, 9).tolist(),
        "mid_utc": [row.mid_utc for row in rows],
        "exposure_s": [row.exposure_s or 0.0 for row in rows],
        "chain": [row.chain for row in rows],
        "version": [image_version(row.sha256, prints.get(row.chain, "")) for row in rows],
        "airmass": _numbers(times.airmass), "fwhm_px": looks.fwhm_px, "stars": looks.stars,
        **{name: looks.qualities[name] for name in _QUALITIES if name != "noise_ratio"},
        "noise": looks.qualities["noise_ratio"], "turn_deg": _numbers(turn, 4),
        "scale_ppm": _numbers(scale, 2), "match": [_match_words(row.match or {}) for row in rows],
        "trails": looks.trails, "shaded": _shaded(looks.parts, rules_of(campaign).rules),
        "transparency": _numbers(light), "zero_point": _numbers(zero),
        "drift_px": _numbers(drift), "plane": laid,
        "width": [row.width for row in rows], "height": [row.height for row in rows],
        "kit": [row.kit for row in rows],
        "placed": [bool(row.placed_with) and not row.trouble for row in rows],
        "measured": [bool(row.measured_with) and not row.trouble for row in rows],
        "trouble": [row.trouble or "" for row in rows],
        "aside": [row.aside_reason if row.aside_by else "" for row in rows],
        "aside_by": [row.aside_by or "" for row in rows],
        "proposal": [row.proposal or "" for row in rows],
    }  # fmt: skip


def reference_of(
    campaign: Campaign, columns: Mapping[str, Sequence[Any]]
) -> tuple[int | None, str]:
    """The exposure that others are matched to, and why it is: the observer's, else one with many
    stars, sharp, and not set aside.
    """
    kept = campaign.reference or {}
    laid = {i for i, plane in zip(columns["id"], columns["plane"], strict=True) if plane}
    if kept.get("file") in laid:
        return int(kept["file"]), str(kept.get("words", ""))
    best, most = None, -1.0
    for number, plane, aside, trouble, fwhm, stars in zip(
        *(columns[name] for name in ("id", "plane", "aside_by", "trouble", "fwhm_px", "stars")),
        strict=True,
    ):
        if plane and not aside and not trouble and fwhm:
            sharp = (stars or 0) / fwhm**2
            if sharp > most:
                best, most = int(number), sharp
    return best, "the sharpest of many stars" if best else ""


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
    found: list[list[list[int]]] = [[] for _ in parts]
    for at in np.flatnonzero((parts < rules.shade).any(axis=(1, 2))).tolist():
        dark = shaded(parts[at], rules)
        found[at] = [[int(i), int(j)] for j, i in np.argwhere(dark)]
    return found


def _lay_matched(rows: Sequence[ExposureRow], planes: Floats) -> None:
    """Put in where exposures that are not placed lie beside the reference that they were matched
    to: on the sky where that is placed, else with its pixels taken for seconds of arc, y upwards.
    """
    unplaced = ~np.isfinite(planes[:, 0])
    matched = [at for at in np.flatnonzero(unplaced).tolist() if "plane" in (rows[at].match or {})]
    if not matched:
        return
    index_of = {row.id: at for at, row in enumerate(rows)}
    for at in matched:
        match = rows[at].match or {}
        reference = index_of.get(match.get("to", 0))
        if reference is None:
            continue
        base = planes[reference].tolist()
        if unplaced[reference]:
            height, width = rows[reference].height, rows[reference].width
            base = [-1.0, 0.0, (width - 1) / 2, 0.0, 1.0, -(height - 1) / 2]
        a, b, c, d, e, f = base
        p, q, r, s, t, u = match["plane"]
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
