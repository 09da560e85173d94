"""The light curve as CSV, ECSV, VOTable and FITS, with units, UCDs and time systems."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, fields
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from narrow_beacon.core.curve.light_curve import GOOD

if TYPE_CHECKING:
    from astropy.table import Table

_DIGITS = {
    "jd_utc": 9, "hjd_utc": 9, "bjd_tdb": 9, "airmass": 4, "magnitude": 5, "uncertainty": 5,
    "check_magnitude": 5, "check_uncertainty": 5, "instrumental": 5, "zero_point": 5,
    "zero_point_uncertainty": 5, "fwhm_px": 3, "sky_adu_per_px": 2, "radius_px": 3,
    "transformed_magnitude": 5, "transformed_uncertainty": 5, "limit_magnitude": 4,
}  # fmt: skip
_UNITS_UCDS = {
    "exposure": ("", "meta.id;meta.file", "exposure, path relative to the plan"),
    "filter": ("", "meta.id;instr.filter", "filter"),
    "jd_utc": ("d", "time.epoch", "Julian date of mid-exposure, UTC"),
    "hjd_utc": ("d", "time.epoch", "heliocentric Julian date of mid-exposure, UTC"),
    "bjd_tdb": ("d", "time.epoch", "barycentric Julian date of mid-exposure, TDB"),
    "airmass": ("", "obs.airMass", "airmass at mid-exposure"),
    "magnitude": ("mag", "phot.mag", "magnitude of the target"),
    "uncertainty": ("mag", "stat.error;phot.mag", "its standard uncertainty, common offset apart"),
    "check_magnitude": ("mag", "phot.mag", "magnitude of the check star"),
    "check_uncertainty": ("mag", "stat.error;phot.mag", "its standard uncertainty"),
    "instrumental": ("mag", "phot.mag", "instrumental magnitude of the target"),
    "zero_point": ("mag", "arith.zp;phot.mag", "zero point of the exposure"),
    "zero_point_uncertainty": ("mag", "stat.error;arith.zp", "its standard uncertainty"),
    "fwhm_px": ("pix", "instr.det.psf", "star width"),
    "sky_adu_per_px": ("adu", "instr.skyLevel", "sky level a pixel"),
    "radius_px": ("pix", "phys.angSize;instr.det", "radius of the aperture"),
    "flags": ("", "meta.code.qual", "what is doubtful about the target, in words"),
    "target": ("", "meta.id;src", "name of the target"),
    "state": ("", "meta.code.qual", "good, or doubtful for what the flags say"),
    "transformed_magnitude": ("mag", "phot.mag", "magnitude in the standard system"),
    "transformed_uncertainty": ("mag", "stat.error;phot.mag", "its standard uncertainty"),
    "limit_magnitude": ("mag", "phot.mag;stat.min", "the target was fainter than this, 3 sigma"),
}


_TIMES = {
    "jd_utc": ("UTC", "TOPOCENTER"), "hjd_utc": ("UTC", "HELIOCENTER"),
    "bjd_tdb": ("TDB", "BARYCENTER"),
}  # fmt: skip
"""Time scale and place of each time."""
_FITS_UNITS = {"pix": "pixel", "adu": "adu"}


@dataclass(frozen=True)
class CurvePoint:
    """One row of the light curve."""

    exposure: str
    filter: str
    jd_utc: float
    hjd_utc: float
    bjd_tdb: float
    airmass: float
    magnitude: float
    uncertainty: float
    check_magnitude: float
    check_uncertainty: float
    instrumental: float
    zero_point: float
    zero_point_uncertainty: float
    fwhm_px: float
    sky_adu_per_px: float
    radius_px: float
    flags: str
    target: str = ""
    state: str = GOOD
    transformed_magnitude: float = float("nan")
    transformed_uncertainty: float = float("nan")
    limit_magnitude: float = float("nan")


COLUMNS = tuple(field.name for field in fields(CurvePoint))


def curve_table(points: Sequence[CurvePoint]) -> Table:
    """The points as a table with units, UCDs and descriptions; numbers rounded as written."""
    from astropy.table import Column, Table

    table = Table()
    for name in COLUMNS:
        values = [getattr(point, name) for point in points]
        unit, ucd, description = _UNITS_UCDS[name]
        if name in _DIGITS:
            column = Column(np.round(np.array(values, float), _DIGITS[name]))
        else:
            column = Column(np.array(values, str) if values else np.array([], "U1"))
        column.unit = unit or None
        column.description = description
        column.meta["ucd"] = ucd
        table[name] = column
    return table


def write_texts(points: Sequence[CurvePoint], folder: Path) -> None:
    """Write light_curve.csv and .ecsv into a folder; missing numbers are empty."""
    lines = [",".join(COLUMNS)]
    for point in points:
        lines.append(",".join(_cell(getattr(point, name), name) for name in COLUMNS))
    (folder / "light_curve.csv").write_text("\n".join(lines) + "\n", encoding="utf-8")
    (folder / "light_curve.ecsv").write_text(_ecsv(points), encoding="utf-8")


def write_votable(points: Sequence[CurvePoint], path: Path) -> None:
    """The points as a VOTable, each time column with its scale and place."""
    from astropy.io.votable import from_table
    from astropy.io.votable.tree import TimeSys

    votable = from_table(curve_table(points))
    votable.version = "1.4"
    (resource,) = votable.resources
    for name, (scale, place) in _TIMES.items():
        resource.time_systems.append(
            TimeSys(
                ID=f"of_{name}",
                timeorigin="0",
                timescale=scale,
                refposition=place,
                config={"version_1_4_or_later": True},
            )
        )
    for field in votable.get_first_table().fields:
        field.ucd = _UNITS_UCDS[field.name][1]
        if field.name in _TIMES:
            field.ref = f"of_{field.name}"
    votable.to_xml(str(path))


def _ecsv(points: Sequence[CurvePoint]) -> str:
    """The points as ECSV 1.0 (Astropy Proposal for Enhancement 6), whose header is YAML; strings
    of JSON are strings of YAML. Astropy's own writer loads its coordinates, which takes longer
    than a small night's curve.
    """
    lines = ["%ECSV 1.0", "---", "datatype:"]
    for name in COLUMNS:
        unit, ucd, description = _UNITS_UCDS[name]
        digits = _DIGITS.get(name)
        lines += [f"- name: {name}", *([f"  unit: {unit}"] if unit else [])]
        if digits is None:
            lines.append("  datatype: string")
        else:
            lines += ["  datatype: float64", f"  format: .{digits}f"]
        lines += [f"  description: {json.dumps(description)}", "  meta: !!omap"]
        lines.append(f"  - {{ucd: {json.dumps(ucd)}}}")
    lines.append("schema: astropy-2.0")
    rows = [
        " ".join(_ecsv_cell(getattr(point, name), name) for name in COLUMNS) for point in points
    ]
    return "\n".join([*(f"# {line}" for line in lines), " ".join(COLUMNS), *rows]) + "\n"


def _ecsv_cell(value: str | float, name: str) -> str:
    if not isinstance(value, str):
        return f"{value:.{_DIGITS[name]}f}"
    quoted = value.replace('"', '""')
    return value if re.fullmatch(r"[^\s\"#]+", value) else f'"{quoted}"'


def write_fits(points: Sequence[CurvePoint], path: Path) -> None:
    """The points as a FITS binary table, each time column with its scale and place (Rots et al.
    2015, A&A 574, A36); Julian dates count from 0.
    """
    from astropy.io import fits

    table = curve_table(points)
    hdu = fits.table_to_hdu(table)
    hdu.name = "LIGHT_CURVE"
    hdu.header["TIMESYS"] = ("UTC", "where a column says nothing else")
    hdu.header["JDREF"] = (0.0, "times are Julian dates")
    hdu.header["TIMEUNIT"] = "d"
    for number, name in enumerate(table.colnames, 1):
        unit, ucd, description = _UNITS_UCDS[name]
        if unit:
            hdu.header[f"TUNIT{number}"] = _FITS_UNITS.get(unit, unit)
        hdu.header[f"TUCD{number}"] = ucd
        hdu.header[f"TCOMM{number}"] = description
        if name in _TIMES:
            scale, place = _TIMES[name]
            hdu.header[f"TCTYP{number}"] = scale
            hdu.header[f"TCUNI{number}"] = "d"
            hdu.header[f"TRPOS{number}"] = place
    hdu.writeto(path, overwrite=True, checksum=True)


def _cell(value: str | float, name: str) -> str:
    if isinstance(value, str):
        # What a spreadsheet would take for a formula is text.
        value = f"'{value}" if value[:1] in ("=", "+", "-", "@", "\t") else value
        quoted = value.replace('"', '""')
        return f'"{quoted}"' if "," in value or '"' in value else value
    return "" if not np.isfinite(value) else f"{value:.{_DIGITS[name]}f}"
