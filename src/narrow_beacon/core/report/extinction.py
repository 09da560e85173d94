"""A night's extinction curves as a table: extinction.csv."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from pathlib import Path

import numpy as np

_DIGITS = {"jd_utc": 6, "airmass": 4, "zero_point": 5, "fitted": 5, "extinction": 4,
           "extinction_uncertainty": 4}  # fmt: skip


@dataclass(frozen=True)
class AirRow:
    """An exposure's zero point by all stars at its airmass, what its night's line has there, and
    that night's k′ in mag an airmass; NaN where there is none.
    """

    filter: str
    night: str
    exposure: str
    jd_utc: float
    airmass: float
    zero_point: float
    fitted: float
    used: bool
    extinction: float
    extinction_uncertainty: float


def write_extinction(rows: Sequence[AirRow], path: Path) -> None:
    """Write a row an exposure, in order of filter and time. Missing numbers are left empty."""
    names = [field.name for field in fields(AirRow)]
    lines = [",".join(names)]
    for row in sorted(rows, key=lambda row: (row.filter, row.jd_utc, row.exposure)):
        lines.append(",".join(_cell(name, getattr(row, name)) for name in names))
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def _cell(name: str, value: str | float | bool) -> str:
    if isinstance(value, bool):
        return str(int(value))
    if isinstance(value, str):
        return '"' + value.replace('"', '""') + '"' if "," in value or '"' in value else value
    return f"{value:.{_DIGITS[name]}f}" if np.isfinite(value) else ""
