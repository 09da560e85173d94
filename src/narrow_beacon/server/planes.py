"""Where exposures lie on the sky's plane about a position, for tens of thousands at once."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic_core import from_json
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.place.solution import Solution, project
from narrow_beacon.reduce.solutions import solution_from_json
from narrow_beacon.store.exposures import long_answers, whole_numbers
from narrow_beacon.store.models import Campaign, NightFile, PlacementRecord

_KEPT = 6
_CHUNK = 1024
_IN_A_ROW = 4096


@dataclass(frozen=True)
class _Known:
    """Placements' numbers, ascending, and their planes (placements, 6)."""

    ids: Ints
    planes: Floats


_known: OrderedDict[tuple[str, int, float, float], _Known] = OrderedDict()
_lock = threading.Lock()


def planes_of(
    session: Session, campaign: Campaign, position: tuple[float, float], files: Sequence[int]
) -> Floats:
    """``plane_of`` each of some files, (files, 6), NaN where one is not placed; a placement's is
    computed once.
    """
    long_answers(session)
    pairs = whole_numbers(
        session.scalars(
            select(func.group_concat(func.concat_ws(" ", PlacementRecord.id, NightFile.id)))
            .join(NightFile, NightFile.id == PlacementRecord.file_id)
            .where(NightFile.campaign_id == campaign.id)
            .group_by(PlacementRecord.id.op("DIV")(_IN_A_ROW))
        ).all()
    ).reshape(-1, 2)
    pairs = pairs[np.argsort(pairs[:, 0], kind="stable")]
    known = _planes(session, campaign, position, pairs[:, 0])
    found = np.full((len(files), 6), np.nan)
    by_file = np.argsort(pairs[:, 1], kind="stable")
    wanted = np.asarray(files, np.int64)
    if pairs.size and wanted.size:
        owners = pairs[by_file, 1]
        at = np.minimum(np.searchsorted(owners, wanted), owners.size - 1)
        there = owners[at] == wanted
        found[there] = known[by_file[at[there]]]
    return found


def _planes(
    session: Session, campaign: Campaign, position: tuple[float, float], ids: Ints
) -> Floats:
    """Of placements by their numbers, ascending."""
    key = (str(session.get_bind().engine.url), campaign.id, *position)
    with _lock:
        known = _known.get(key, _Known(np.empty(0, np.int64), np.empty((0, 6))))
    if np.array_equal(known.ids, ids):
        return known.planes
    planes = np.full((ids.size, 6), np.nan)
    _, here, there = np.intersect1d(ids, known.ids, assume_unique=True, return_indices=True)
    planes[here] = known.planes[there]
    fresh = np.setdiff1d(np.arange(ids.size), here)
    for begin in range(0, fresh.size, _CHUNK):
        some = fresh[begin : begin + _CHUNK]
        (text,) = session.scalars(
            select(
                func.group_concat(
                    func.json_array(PlacementRecord.id, func.json_compact(PlacementRecord.solution))
                )
            ).where(PlacementRecord.id.in_(ids[some].tolist()))
        ).all()
        found: dict[int, dict[str, Any]] = dict(from_json(f"[{text}]"))
        for place in some.tolist():
            solution = solution_from_json(found[int(ids[place])])
            planes[place] = plane_of(solution, *position)
    with _lock:
        _known[key] = _Known(ids, planes)
        _known.move_to_end(key)
        while len(_known) > _KEPT:
            _known.popitem(last=False)
    return planes


def plane_of(solution: Solution, ra_deg: float, dec_deg: float) -> tuple[float, ...]:
    """(a, b, c, d, e, f): east = a x + b y + c and north = d x + e y + f in seconds of arc from a
    position, for pixels x, y near the middle of the exposure.
    """
    height, width = solution.shape
    x0, y0 = (width - 1) / 2, (height - 1) / 2
    reach = min(width, height) / 4
    x = np.array([x0, x0 + reach, x0])
    y = np.array([y0, y0, y0 + reach])
    ra, dec = solution.sky(x, y)
    east, north = (3600.0 * v for v in project(ra, dec, ra_deg, dec_deg))
    a, b = (east[1] - east[0]) / reach, (east[2] - east[0]) / reach
    d, e = (north[1] - north[0]) / reach, (north[2] - north[0]) / reach
    return tuple(
        float(v) for v in (a, b, east[0] - a * x0 - b * y0, d, e, north[0] - d * x0 - e * y0)
    )
