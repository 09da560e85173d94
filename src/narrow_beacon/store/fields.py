"""Catalogues as records: kept as they were read, handed out as star tables."""

from __future__ import annotations

import threading
from datetime import datetime

import numpy as np
from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from narrow_beacon.core.catalogue.table import Band, StarTable
from narrow_beacon.store.models import Catalogue, Star

_tables: dict[tuple[str, int], StarTable] = {}
_lock = threading.Lock()
_KEPT = 8
_NOTE = 200


def save_catalogue(
    session: Session,
    stars: StarTable,
    name: str,
    origin: str,
    sha256: str = "",
    fetched: datetime | None = None,
) -> Catalogue:
    """Keep a star table; ``fetched``: when it was looked up in other catalogues."""
    record = Catalogue(
        name=name[:200], origin=origin, sha256=sha256, epoch_yr=stars.epoch_yr,
        bands=list(stars.bands), fetched=fetched,
    )  # fmt: skip
    parallax = stars.parallax_mas
    session.add(record)
    session.flush()
    session.execute(
        insert(Star),
        [
            {
                "catalogue_id": record.id,
                "row_number": row,
                "name": stars.names[row],
                "ra_deg": float(stars.ra_deg[row]),
                "dec_deg": float(stars.dec_deg[row]),
                "pm_ra_mas_yr": float(stars.pm_ra_mas_yr[row]),
                "pm_dec_mas_yr": float(stars.pm_dec_mas_yr[row]),
                "known_variable": bool(stars.known_variable[row]),
                "parallax_mas": None if parallax is None else float(parallax[row]),
                "note": stars.notes[row][:_NOTE] if stars.notes else "",
                "magnitudes": {
                    band: [_number(values.magnitude[row]), _number(values.uncertainty[row])]
                    for band, values in stars.bands.items()
                },
            }
            for row in range(len(stars))
        ],
    )
    return record


def star_table(session: Session, catalogue_id: int) -> StarTable:
    """The stars of a catalogue, read once in a process: catalogues never change."""
    key = (str(session.get_bind().engine.url), catalogue_id)
    with _lock:
        if key not in _tables:
            while len(_tables) >= _KEPT:
                _tables.pop(next(iter(_tables)))
            _tables[key] = _read(session, catalogue_id)
        return _tables[key]


def _read(session: Session, catalogue_id: int) -> StarTable:
    record = session.get_one(Catalogue, catalogue_id)
    columns = (
        Star.name, Star.ra_deg, Star.dec_deg, Star.pm_ra_mas_yr, Star.pm_dec_mas_yr,
        Star.known_variable, Star.magnitudes, Star.parallax_mas, Star.note,
    )  # fmt: skip
    rows = session.execute(
        select(*columns).where(Star.catalogue_id == catalogue_id).order_by(Star.row_number)
    ).all()
    names, ra, dec, pm_ra, pm_dec, variable, magnitudes, parallax, notes = zip(*rows, strict=True)

    def band(name: str, part: int) -> np.ndarray:
        return np.array(
            [m[name][part] if m[name][part] is not None else np.nan for m in magnitudes]
        )

    return StarTable(
        tuple(names),
        np.array(ra, float),
        np.array(dec, float),
        np.array(pm_ra, float),
        np.array(pm_dec, float),
        record.epoch_yr,
        {name: Band(band(name, 0), band(name, 1)) for name in record.bands},
        np.array(variable, bool),
        None if parallax[0] is None else np.array([p or 0.0 for p in parallax], float),
        tuple(notes) if any(notes) else None,
    )


def _number(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None
