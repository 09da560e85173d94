"""Read star catalogues from VOTable, ECSV, CSV and FITS tables."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.catalogue.columns import Proposal, corrected, propose_columns
from narrow_beacon.core.catalogue.table import UNKNOWN_UNCERTAINTY_MAG, Band, StarTable, joined
from narrow_beacon.core.catalogue.tables import TableFile, open_table, open_votable
from narrow_beacon.core.errors import CatalogueError
from narrow_beacon.core.frames.header_values import sexagesimal_deg

if TYPE_CHECKING:
    from astropy import units
    from astropy.table import Column as TableColumn
    from astropy.table import Table

_LEAST_UNCERTAINTY_MAG = 1e-4
_MISSING = "--"
NO_COLUMNS: Mapping[str, str] = {}


def read_catalogue(
    path: Path,
    epoch_yr: float | None = None,
    columns: Mapping[str, str] = NO_COLUMNS,
    *,
    of_variables: bool = False,
) -> StarTable:
    """A star catalogue from a file. ``epoch_yr`` applies where no column gives the epoch,
    ``columns`` is what the observer says of them (see ``corrected``); a table ``of_variables``
    needs no magnitudes, and all of its stars vary.

    Raises CatalogueError where the file is unreadable or lacks positions or magnitudes.
    """
    return joined(list(stars_in_blocks(path, epoch_yr, columns, of_variables=of_variables)))


def stars_in_blocks(
    path: Path,
    epoch_yr: float | None = None,
    columns: Mapping[str, str] = NO_COLUMNS,
    *,
    of_variables: bool = False,
) -> Iterator[StarTable]:
    """The stars of a file of any length, block by block and at one epoch. Raises CatalogueError as
    ``read_catalogue`` does.
    """
    yield from _stars(open_table(path), epoch_yr, columns, of_variables)


def stars_from_votable(
    data: bytes, label: str, epoch_yr: float | None = None, columns: Mapping[str, str] = NO_COLUMNS
) -> StarTable:
    """Stars from a VOTable in memory, as a cone search returns it. Raises CatalogueError."""
    return joined(list(_stars(open_votable(data, label), epoch_yr, columns)))


def meaning_of(
    file: TableFile, said: Mapping[str, str] = NO_COLUMNS, *, of_variables: bool = False
) -> Proposal:
    """Which column means what, by UCD, name and unit and by what the observer says. Raises
    CatalogueError where positions or magnitudes are missing.
    """
    meaning = corrected(propose_columns(file.columns), file.columns, said, file.label)
    count = len(file.columns)
    if meaning.ra is None or meaning.dec is None:
        raise CatalogueError(
            f"catalogue {file.label}: none of its {count} columns is a right ascension "
            "and declination; call them ra and dec, give them their UCDs, or say which they are"
        )
    if not meaning.bands and not of_variables:
        raise CatalogueError(
            f"catalogue {file.label}: none of its {count} columns is a magnitude; "
            "comparison stars need at least one band, such as V_mag"
        )
    return meaning


def _stars(
    file: TableFile,
    epoch_yr: float | None,
    columns: Mapping[str, str],
    of_variables: bool = False,
) -> Iterator[StarTable]:
    meaning = meaning_of(file, columns, of_variables=of_variables)
    uses = [
        meaning.name, meaning.ra, meaning.dec, meaning.pm_ra, meaning.pm_dec, meaning.parallax,
        meaning.epoch, meaning.variable, meaning.kind, meaning.period,
        *(n for pair in meaning.bands.values() for n in pair),
    ]  # fmt: skip
    text = {name for name in (meaning.name, meaning.variable, meaning.kind) if name}
    epoch = None
    found = rows = 0
    for table in file.blocks({name for name in uses if name}, text):
        stars = _block(table, meaning, epoch_yr, epoch, rows, of_variables)
        rows += len(table)
        if stars is not None:
            epoch = stars.epoch_yr
            found += len(stars)
            every = np.ones(len(stars), bool)
            yield replace(stars, known_variable=every) if of_variables else stars
    if not found:
        raise CatalogueError(f"catalogue {file.label}: holds no star with a position")


def _block(
    table: Table,
    meaning: Proposal,
    epoch_said: float | None,
    epoch: float | None,
    above: int,
    of_variables: bool,
) -> StarTable | None:
    """The stars of some rows with a position, at ``epoch`` where one is given; None without any."""
    assert meaning.ra is not None
    assert meaning.dec is not None
    ra = _angle(table[meaning.ra], hours=True)
    dec = _angle(table[meaning.dec], hours=False)
    good = np.flatnonzero(np.isfinite(ra) & np.isfinite(dec) & (np.abs(dec) <= 90))
    if good.size == 0:
        return None
    own = _epochs(table, meaning, epoch_said)
    if epoch is None:
        epoch = float(np.median(own[np.isfinite(own)]))
    stars = StarTable(
        names=_names(table, meaning, above),
        ra_deg=ra % 360.0,
        dec_deg=dec,
        pm_ra_mas_yr=_motion(table, meaning.pm_ra),
        pm_dec_mas_yr=_motion(table, meaning.pm_dec),
        epoch_yr=epoch,
        bands={band: _band(table, *names) for band, names in meaning.bands.items()},
        known_variable=_flags(table, meaning.variable),
        parallax_mas=_parallax(table, meaning.parallax),
        notes=_notes(table, meaning, of_variables),
    )
    stars = stars if good.size == len(stars) else stars.take(good)
    return _at_one_epoch(stars, own[good])


def _at_one_epoch(stars: StarTable, own: Floats) -> StarTable:
    """Positions that are each of an epoch of their own, moved to the table's."""
    late = np.where(np.isfinite(own), stars.epoch_yr - own, 0.0)
    if not np.any(np.abs(late) > 1e-6):
        return stars
    step = StarTable(
        stars.names, stars.ra_deg, stars.dec_deg, stars.pm_ra_mas_yr * late,
        stars.pm_dec_mas_yr * late, 0.0, {}, stars.known_variable,
    )  # fmt: skip
    ra, dec = step.at_epoch(1.0)
    return replace(stars, ra_deg=ra, dec_deg=dec)


def _numbers(column: TableColumn) -> Floats:
    if column.dtype.kind not in "iuf":
        return np.array([_number(text) for text in _texts(column)])
    filled = np.ma.filled(np.ma.asarray(column).astype(float), np.nan)
    return np.asarray(filled, float)


def _texts(column: TableColumn) -> list[str]:
    """What a column says, as text, “--” where it says nothing. Not value by value from the column:
    a masked one takes tens of microseconds for each.
    """
    plain = np.asarray(np.ma.getdata(column))
    if plain.dtype.kind == "S":
        plain = np.char.decode(plain, "utf-8", "replace")
    texts = [str(value) for value in (plain.tolist() if plain.dtype.kind == "U" else plain)]
    for row in np.flatnonzero(np.ma.getmaskarray(column)).tolist():
        texts[row] = _MISSING
    return texts


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return float("nan")


def _angle(column: TableColumn, *, hours: bool) -> Floats:
    if column.dtype.kind in "iuf":
        values = _numbers(column)
        unit = str(column.unit or "deg").lower()
        if unit.startswith("h"):
            return values * 15.0
        return np.degrees(values) if unit.startswith("rad") else values
    result = np.full(len(column), np.nan)
    for row, text in enumerate(_texts(column)):
        try:
            result[row] = sexagesimal_deg(text, hours=hours)
        except ValueError:
            continue
    return result


def _motion(table: Table, name: str | None) -> Floats:
    from astropy import units

    if name is None:
        return np.zeros(len(table))
    return _in_units(table[name], units.mas / units.yr, "proper motion")


def _parallax(table: Table, name: str | None) -> Floats | None:
    """In mas; what is below nothing is the measuring's noise."""
    from astropy import units

    return None if name is None else np.maximum(_in_units(table[name], units.mas, "parallax"), 0.0)


def _in_units(column: TableColumn, unit: units.UnitBase, kind: str) -> Floats:
    from astropy import units

    values = _numbers(column)
    if column.unit is not None:
        try:
            values = values * float(units.Unit(column.unit).to(unit))
        except (units.UnitConversionError, ValueError, TypeError) as error:
            raise CatalogueError(
                f"column {column.name}: “{column.unit}” is not a unit of {kind}"
            ) from error
    return np.nan_to_num(values)


def _epochs(table: Table, meaning: Proposal, said: float | None) -> Floats:
    usual = 2000.0 if said is None else said
    if meaning.epoch is not None:
        epochs = _numbers(table[meaning.epoch])
        if np.isfinite(epochs).any():
            return epochs
    return np.full(len(table), usual)


def _notes(table: Table, meaning: Proposal, of_variables: bool) -> tuple[str, ...] | None:
    """How each star varies: its kind and period, where the table has them."""
    if meaning.kind is None and meaning.period is None:
        return None
    # A column “type” is one of stars of any kind where nothing says that they vary.
    if meaning.variable is None and not of_variables:
        return None
    nothing = [""] * len(table)
    kinds = [text.strip() for text in _texts(table[meaning.kind])] if meaning.kind else nothing
    periods = _numbers(table[meaning.period]) if meaning.period else np.full(len(table), np.nan)
    told = (
        ("" if kind == _MISSING else kind, f"{period:.10g} d" if period > 0 else "")
        for kind, period in zip(kinds, periods, strict=True)
    )
    return tuple(", ".join(part for part in parts if part) for parts in told)


def _names(table: Table, meaning: Proposal, above: int) -> tuple[str, ...]:
    if meaning.name is None:
        return tuple(f"star {above + row + 1}" for row in range(len(table)))
    return tuple(text.strip() for text in _texts(table[meaning.name]))


def _band(table: Table, magnitude: str, uncertainty: str | None) -> Band:
    values = _numbers(table[magnitude])
    # Nothing known is written as 99.999, −99 or 0: no star has that to all digits.
    values = np.where((values > -5) & (values < 40) & (values != 0.0), values, np.nan)
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
    no = {"", "0", "false", "f", "n", "no", "--", "none", "nan", "not_available", "constant", "0.0"}
    return np.array([text.strip().lower() not in no for text in _texts(table[name])])
