"""The night as it comes: how the last exposure compares with those before it."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice

import numpy as np
from sqlalchemy.orm import Session

from narrow_beacon.core.place.solution import Solution
from narrow_beacon.server.night import ExposureRow, exposures_of, placements_of
from narrow_beacon.server.schemas.campaigns import WatchOut
from narrow_beacon.store.models import Campaign
from narrow_beacon.store.placements import solution_of

_BEFORE = 12
_LEAST_BEFORE = 3
_FEW_STARS, _WIDE, _BRIGHT_SKY, _LONG = 0.6, 1.4, 1.6, 1.3
_DRIFT = 0.15
"""Of the frame's shorter side, from where the field was."""


def watch_of(session: Session, campaign: Campaign) -> WatchOut:
    """Whether the folders are watched, the last exposure, and what is worse about it."""
    if not campaign.watching:
        return WatchOut(watching=False, last=None, file_id=None, worse=[])
    back = reversed(exposures_of(session, campaign))
    last = next((e for e in back if e.quality or e.trouble), None)
    if last is None:
        return WatchOut(watching=True, last=None, file_id=None, worse=[])
    alike = (
        e
        for e in back
        if e.group_name == last.group_name and not e.trouble and not e.aside_by and e.quality
    )
    before = list(islice(alike, _BEFORE))[::-1]
    return WatchOut(
        watching=True, last=last.mid_utc, file_id=last.id, worse=worse_than(session, last, before)
    )


def worse_than(session: Session, last: ExposureRow, before: Sequence[ExposureRow]) -> list[str]:
    """What is worse about an exposure than about some before it, in words."""
    if last.trouble:
        return [last.trouble.split(";")[0]]
    if len(before) < _LEAST_BEFORE or not last.quality:
        return []

    def usual(name: str) -> float:
        return float(np.median([e.quality[name] or np.nan for e in before if e.quality]))

    now = {name: value if value is not None else np.nan for name, value in last.quality.items()}
    words = []
    stars, width, sky, long = (
        usual(n) for n in ("stars", "fwhm_px", "sky_adu_per_px", "elongation")
    )
    if now["stars"] < _FEW_STARS * stars:
        words.append(f"cloud? {now['stars']:.0f} stars, {stars:.0f} before")
    if now["fwhm_px"] > _WIDE * width:
        words.append(f"focus? stars {now['fwhm_px']:.1f} px wide, {width:.1f} before")
    if now["sky_adu_per_px"] > _BRIGHT_SKY * max(sky, 1.0):
        words.append(f"sky {now['sky_adu_per_px']:.0f} ADU, {sky:.0f} before")
    if now["elongation"] > _LONG * long:
        words.append(f"tracking? stars {now['elongation']:.1f} times as long as wide")
    drift = _drift(session, last, before)
    if drift is not None and drift > _DRIFT:
        words.append(f"drifting: the field moved by {drift:.0%} of the frame")
    return words


def _drift(session: Session, last: ExposureRow, before: Sequence[ExposureRow]) -> float | None:
    """How far the field moved from where it was first, over the frame's shorter side."""
    placed = placements_of(session, [last.id, before[0].id])
    if len(placed) < 2:
        return None
    now, then = solution_of(placed[last.id]), solution_of(placed[before[0].id])
    return _apart(now, then)


def _apart(now: Solution, then: Solution) -> float:
    height, width = now.shape
    ra, dec = then.centre
    x, y = now.pixel(np.array([ra]), np.array([dec]))
    away = np.hypot(x[0] - (width - 1) / 2, y[0] - (height - 1) / 2)
    return float(away / min(height, width))
