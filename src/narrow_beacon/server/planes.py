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
from narrow_beacon.core.place.solution import Solution, deproject, project
from narrow_beacon.reduce.solutions import solution_from_json
from narrow_beacon.store.exposures import long_answers, whole_numbers
from narrow_beacon.store.models import Campaign, NightFile, PlacementRecord
from narrow_beacon.store.one_reader import OneReader

_KEPT = 6
_CHUNK = 1024
_IN_A_ROW = 4096


@dataclass(frozen=True)
class _Known:
    """Placements' numbers, ascending, and their planes (placements, 6)."""

    ids: Ints
    planes: Floats


_known: OrderedDict[tuple[str, int, float, float], _Known] = OrderedDict()
_owners: dict[tuple[str, int], tuple[tuple[int, int], Ints]] = {}
"""By campaign: how many placements there are and the sum of their numbers, which only grow, and
each one's number and its file's (placements, 2)."""
_lock = threading.Lock()
_reading = OneReader()


def planes_of(
    session: Session, campaign: Campaign, position: tuple[float, float], files: Sequence[int]
) -> Floats:
    """``planes_about`` a position of some files, (files, 6), NaN where one is not placed; that of a
    placement is computed once.
    """
    long_answers(session)
    with _reading.of((str(session.get_bind().engine.url), campaign.id)):
        pairs = _pairs(session, campaign)
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


def _pairs(session: Session, campaign: Campaign) -> Ints:
    """Numbers of placements, ascending, and of their files, (placements, 2)."""
    key = (str(session.get_bind().engine.url), campaign.id)
    own = (NightFile.id == PlacementRecord.file_id, NightFile.campaign_id == campaign.id)
    count, numbers = session.execute(
        select(func.count(), func.sum(PlacementRecord.id)).join(NightFile, own[0]).where(own[1])
    ).one()
    totals = (int(count), int(numbers or 0))
    with _lock:
        kept = _owners.get(key)
    if kept is not None and kept[0] == totals:
        return kept[1]
    pairs = whole_numbers(
        session.scalars(
            select(func.group_concat(func.concat_ws(" ", PlacementRecord.id, NightFile.id)))
            .join(NightFile, own[0])
            .where(own[1])
            .group_by(PlacementRecord.id.op("DIV")(_IN_A_ROW))
        ).all()
    ).reshape(-1, 2)
    pairs = pairs[np.argsort(pairs[:, 0], kind="stable")]
    with _lock:
        _owners[key] = totals, pairs
    return pairs


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
        solutions = [solution_from_json(found[number]) for number in ids[some].tolist()]
        planes[some] = planes_about(solutions, *position)
    with _lock:
        _known[key] = _Known(ids, planes)
        _known.move_to_end(key)
        while len(_known) > _KEPT:
            _known.popitem(last=False)
    return planes


def planes_about(solutions: Sequence[Solution], ra_deg: float, dec_deg: float) -> Floats:
    """(a, b, c, d, e, f) of each solution, (solutions, 6): east = a x + b y + c and north = d x +
    e y + f in seconds of arc from a position, for pixels x, y near the middle of the exposure.
    """
    height, width = np.array([solution.shape for solution in solutions], float).T
    x0, y0 = (width - 1) / 2, (height - 1) / 2
    reach = np.minimum(width, height) / 4
    x, y = np.stack([x0, x0 + reach, x0], axis=1), np.stack([y0, y0, y0 + reach], axis=1)
    xi, eta = np.empty(x.shape), np.empty(x.shape)
    for at, solution in enumerate(solutions):
        xi[at], eta[at] = solution.standard(x[at], y[at])
    centres = np.array([(solution.ra0_deg, solution.dec0_deg) for solution in solutions])
    ra, dec = deproject(xi, eta, centres[:, :1], centres[:, 1:])
    east, north = (3600.0 * v for v in project(ra, dec, ra_deg, dec_deg))
    a, b = ((east[:, at] - east[:, 0]) / reach for at in (1, 2))
    d, e = ((north[:, at] - north[:, 0]) / reach for at in (1, 2))
    return np.stack(
        [a, b, east[:, 0] - a * x0 - b * y0, d, e, north[:, 0] - d * x0 - e * y0], axis=1
    )
