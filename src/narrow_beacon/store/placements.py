"""Placements as the core sees them."""

from __future__ import annotations

import threading
from collections import OrderedDict

from narrow_beacon.core.place.solution import Solution
from narrow_beacon.core.place.solve import Placement
from narrow_beacon.reduce.solutions import solution_from_json
from narrow_beacon.store.models import PlacementRecord

_KEPT = 5000
_solutions: OrderedDict[int, Solution] = OrderedDict()
_lock = threading.Lock()


def solution_of(placement: PlacementRecord) -> Solution:
    """The solution of a placement; a record never changes, it is only followed by another."""
    with _lock:
        if placement.id not in _solutions:
            _solutions[placement.id] = solution_from_json(placement.solution)
            while len(_solutions) > _KEPT:
                _solutions.popitem(last=False)
        return _solutions[placement.id]


def placement_of(record: PlacementRecord) -> Placement:
    """A placement as it was found."""
    return Placement(
        solution_of(record), record.matched, record.compared, record.residual_px,
        record.false_log10, record.how,
    )  # fmt: skip
