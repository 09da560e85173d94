"""A campaign's sequence: kept with its stars, and laid over its catalogue wherever stars are asked
for.
"""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.sequence import StarSequence, overlay
from narrow_beacon.core.catalogue.table import Band, StarTable
from narrow_beacon.store.fields import star_table
from narrow_beacon.store.models import Campaign

_laid: dict[tuple[str, int, str], StarTable] = {}
_lock = threading.Lock()
_KEPT = 8


def stars_of(session: Session, campaign: Campaign) -> StarTable:
    """The campaign's stars, with its sequence laid over its catalogue; it has one."""
    assert campaign.catalogue_id is not None
    stars = star_table(session, campaign.catalogue_id)
    said = campaign.sequence
    if not said:
        return stars
    key = (str(session.get_bind().engine.url), campaign.catalogue_id, repr(said))
    with _lock:
        if key not in _laid:
            while len(_laid) >= _KEPT:
                _laid.pop(next(iter(_laid)))
            _laid[key] = overlay(stars, sequence_from_json(said)).stars
        return _laid[key]


def sequence_to_json(
    sequence: StarSequence, path: Path | None, columns: dict[str, str]
) -> dict[str, Any]:
    """What ``sequence_from_json`` reads, with where it came from and what its columns mean."""
    stars = sequence.stars
    return {
        "path": str(path or ""), "chart": sequence.chart, "sha256": sequence.sha256,
        "columns": columns, "epoch_yr": stars.epoch_yr, "names": list(stars.names),
        "ra_deg": stars.ra_deg.tolist(), "dec_deg": stars.dec_deg.tolist(),
        "bands": {
            name: [[_known(v) for v in of.magnitude], [_known(v) for v in of.uncertainty]]
            for name, of in stars.bands.items()
        },
    }  # fmt: skip


def sequence_from_json(said: dict[str, Any]) -> StarSequence:
    """A sequence as it was kept."""
    nothing = np.zeros(len(said["names"]))
    bands = {
        name: Band(np.array(magnitude, float), np.array(uncertainty, float))
        for name, (magnitude, uncertainty) in said["bands"].items()
    }
    stars = StarTable(
        tuple(said["names"]), np.array(said["ra_deg"], float), np.array(said["dec_deg"], float),
        nothing, nothing, said["epoch_yr"], bands, nothing.astype(bool),
    )  # fmt: skip
    return StarSequence(stars, said["chart"], said["sha256"])


def _known(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None
