"""A sequence of one's own: stars with names, positions and magnitudes, as a table that others, and
we, can read.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from narrow_beacon.core.catalogue.table import StarTable

if TYPE_CHECKING:
    from astropy.table import Table

FORMATS = ("csv", "ecsv", "vot")
_PLACES = {"ra": "pos.eq.ra;meta.main", "dec": "pos.eq.dec;meta.main"}


def write_sequence(stars: StarTable, rows: Sequence[int], chart: str, path: Path) -> None:
    """Write stars with their magnitudes and uncertainties in all bands that any of them has, by the
    ending of ``path``: CSV, ECSV or VOTable. Positions are ICRS, at the catalogue's epoch.
    """
    from astropy.io.votable import from_table

    table = _table(stars, list(rows), chart)
    if path.suffix == ".csv":
        path.write_text(_csv(table), encoding="utf-8")
    elif path.suffix == ".ecsv":
        table.write(path, format="ascii.ecsv", overwrite=True)
    else:
        for column in table.columns.values():
            column.format = None
        votable = from_table(table)
        for field in votable.get_first_table().fields:
            field.ucd = table[field.name].meta["ucd"]
        votable.to_xml(str(path))


def _table(stars: StarTable, rows: list[int], chart: str) -> Table:
    from astropy.table import Column, Table

    table = Table(meta={"chart": chart} if chart else {})
    names = np.array([stars.names[row] for row in rows] or [], str)
    table["name"] = Column(names, meta={"ucd": "meta.id;meta.main"})
    for key, values in (("ra", stars.ra_deg), ("dec", stars.dec_deg)):
        table[key] = Column(
            np.round(values[rows], 6), unit="deg", format=".6f", meta={"ucd": _PLACES[key]}
        )
    table["epoch"] = Column(
        np.full(len(rows), stars.epoch_yr), unit="yr", format=".1f", meta={"ucd": "time.epoch"}
    )
    for band, of in stars.bands.items():
        if not np.isfinite(of.magnitude[rows]).any():
            continue
        for name, values, ucd in (
            (band, of.magnitude, f"phot.mag;em.opt.{band}"),
            (f"{band}_err", of.uncertainty, f"stat.error;phot.mag;em.opt.{band}"),
        ):
            table[name] = Column(
                np.round(values[rows], 4), unit="mag", format=".4f", meta={"ucd": ucd}
            )
    return table


def _csv(table: Table) -> str:
    lines = [",".join(table.colnames)]
    for row in table:
        cells = [_cell(row[name], table[name].format) for name in table.colnames]
        lines.append(",".join(cells))
    return "\n".join(lines) + "\n"


def _cell(value: object, digits: str | None) -> str:
    if digits is None:
        text = str(value).replace('"', '""')
        return f'"{text}"' if "," in text or '"' in text else text
    number = float(str(value))
    return format(number, digits) if np.isfinite(number) else ""
