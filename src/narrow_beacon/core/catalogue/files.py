"""Read star catalogues from VOTable, ECSV, CSV and FITS tables."""

from __future__ import annotations

import io
import warnings
from pathlib import Path

import numpy as np
from astropy import units
from astropy.io import votable
from astropy.table import Column as TableColumn
from astropy.table import Table

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.catalogue.columns import Column, Proposal, propose_columns
from narrow_beacon.core.catalogue.table import UNKNOWN_UNCERTAINTY_MAG, Band, StarTable
from narrow_beacon.core.errors import CatalogueError, UnreadableFileError
from narrow_beacon.core.frames.header_values import sexagesimal_deg
from narrow_beacon.core.frames.structure import opened

_LEAST_UNCERTAINTY_MAG = 1e-4
_START_BYTES = 65536
_MOST_COLUMNS = 500


def read_catalogue(path: Path, epoch_yr: float | None = None) -> StarTable:
    """A star catalogue from a file. ``epoch_yr`` applies where no column gives the epoch.

    Raises CatalogueError where the file is unreadable or lacks positions or magnitudes.
    """
    try:
        with path.open("rb") as file:
            start = file.read(_START_BYTES)
    except OSError as error:
        raise CatalogueError(
            f"catalogue {path.name}: cannot be opened ({error.strerror})"
        ) from error
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            table = _read_table(path, start)
    except (CatalogueError, UnreadableFileError) as error:
        raise CatalogueError(f"catalogue {error}") from error
    except Exception as error:
        raise CatalogueError(
            f"catalogue {path.name}: not readable as VOTable, ECSV, CSV or FITS table"
        ) from error
    return stars_from_table(table, path.name, epoch_yr)


def _read_table(path: Path, start: bytes) -> Table:
    if start.startswith(b"SIMPLE  ="):
        with opened(path) as plain:
            return Table.read(plain, format="fits")
    if b"<VOTABLE" in start or (start.lstrip().startswith(b"<") and b"VOTABLE" in start.upper()):
        return votable.parse_single_table(path).to_table(use_names_over_ids=True)
    line = next((part for part in start.splitlines() if not part.startswith(b"#")), b"")
    columns = line.count(b",") + 1
    if columns > _MOST_COLUMNS or len(line) == _START_BYTES:
        raise CatalogueError(f"{path.name}: has {columns} columns or more; no star catalogue has")
    if b"\0" in start:
        raise CatalogueError(f"{path.name}: is no text, and none of the tables that can be read")
    if start.startswith(b"# %ECSV"):
        return Table.read(path, format="ascii.ecsv")
    return Table.read(path, format="ascii.csv", comment="#")


def stars_from_votable(data: bytes, label: str, epoch_yr: float | None = None) -> StarTable:
    """Stars from a VOTable in memory, as a cone search returns it. Raises CatalogueError."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        table = votable.parse_single_table(io.BytesIO(data)).to_table(use_names_over_ids=True)
    return stars_from_table(table, label, epoch_yr)


def stars_from_table(table: Table, label: str, epoch_yr: float | None = None) -> StarTable:
    """Stars from a table with columns proposed by UCD, name and unit. Raises CatalogueError."""
    columns = [_column(table[name]) for name in table.colnames]
    proposal = propose_columns(columns)
    if proposal.ra is None or proposal.dec is None:
        raise CatalogueError(
            f"catalogue {label}: none of its {len(table.colnames)} columns is a right ascension "
            "and declination; call them ra and dec, or give them their UCDs"
        )
    if not proposal.bands:
        raise CatalogueError(
            f"catalogue {label}: none of its {len(table.colnames)} columns is a magnitude; "
            "comparison stars need at least one band, such as V_mag"
        )
    ra = _angle(table[proposal.ra], hours=True)
    dec = _angle(table[proposal.dec], hours=False)
    good = np.flatnonzero(np.isfinite(ra) & np.isfinite(dec) & (np.abs(dec) <= 90))
    if good.size == 0:
        raise CatalogueError(f"catalogue {label}: holds no star with a position")
    epoch = _epoch(table, proposal, epoch_yr)
    stars = StarTable(
        names=_names(table, proposal),
        ra_deg=ra % 360.0,
        dec_deg=dec,
        pm_ra_mas_yr=_motion(table, proposal.pm_ra),
        pm_dec_mas_yr=_motion(table, proposal.pm_dec),
        epoch_yr=epoch,
        bands={band: _band(table, *names) for band, names in proposal.bands.items()},
        known_variable=_flags(table, proposal.variable),
    )
    return stars if good.size == len(stars) else stars.take(good)


def _column(column: TableColumn) -> Column:
    meta = getattr(column, "meta", {}) or {}
    ucd = str(meta.get("ucd") or meta.get("UCD") or getattr(column, "ucd", "") or "")
    return Column(column.name, ucd, str(column.unit or ""), column.dtype.kind in "iuf")


def _numbers(column: TableColumn) -> Floats:
    filled = np.ma.filled(np.ma.asarray(column).astype(float), np.nan)
    return np.asarray(filled, float)


def _angle(column: TableColumn, *, hours: bool) -> Floats:
    if column.dtype.kind in "iuf":
        values = _numbers(column)
        unit = str(column.unit or "deg").lower()
        if unit.startswith("h"):
            return values * 15.0
        return np.degrees(values) if unit.startswith("rad") else values
    result = np.full(len(column), np.nan)
    for row, text in enumerate(column):
        try:
            result[row] = sexagesimal_deg(str(text), hours=hours)
        except ValueError:
            continue
    return result


def _motion(table: Table, name: str | None) -> Floats:
    if name is None:
        return np.zeros(len(table))
    values = _numbers(table[name])
    unit = table[name].unit
    if unit is not None:
        try:
            values = values * float(units.Unit(unit).to(units.mas / units.yr))
        except (units.UnitConversionError, ValueError, TypeError) as error:
            raise CatalogueError(
                f"column {name}: “{unit}” is not a unit of proper motion"
            ) from error
    return np.nan_to_num(values)


def _epoch(table: Table, proposal: Proposal, given: float | None) -> float:
    if proposal.epoch is not None:
        epochs = _numbers(table[proposal.epoch])
        if np.isfinite(epochs).any():
            return float(np.nanmedian(epochs))
    return 2000.0 if given is None else given


def _names(table: Table, proposal: Proposal) -> tuple[str, ...]:
    if proposal.name is None:
        return tuple(f"star {row + 1}" for row in range(len(table)))
    return tuple(str(value).strip() for value in table[proposal.name])


def _band(table: Table, magnitude: str, uncertainty: str | None) -> Band:
    values = _numbers(table[magnitude])
    values = np.where((values > -5) & (values < 40), values, np.nan)
    if uncertainty is None:
        return Band(values, np.full(len(table), UNKNOWN_UNCERTAINTY_MAG))
    errors = _numbers(table[uncertainty])
    # None is given by 0 as well as by nothing; no catalogue knows a magnitude to 0.1 mmag.
    known = (errors > _LEAST_UNCERTAINTY_MAG) & (errors < 5)
    errors = np.where(known, errors, UNKNOWN_UNCERTAINTY_MAG)
    return Band(values, errors)


def _flags(table: Table, name: str | None) -> np.ndarray:
    if name is None:
        return np.zeros(len(table), bool)
    no = {"", "0", "false", "f", "n", "no", "--", "none", "nan", "not_available", "constant"}
    return np.array([str(value).strip().lower() not in no for value in table[name]])
