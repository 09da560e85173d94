"""The table of all files given: what each was, what became of it, and why."""

from __future__ import annotations

import csv
import math
from collections.abc import Iterable
from dataclasses import dataclass, fields
from pathlib import Path

_DIGITS = {
    "jd_utc": 9, "exposure_s": 3, "ra_deg": 6, "dec_deg": 6, "scale_arcsec_per_px": 5,
    "rotation_deg": 3, "residual_arcsec": 4, "fwhm_px": 3, "elongation": 3, "sky_adu_per_px": 2,
}  # fmt: skip


@dataclass(frozen=True)
class ExposureRow:
    """One file: its state is "measured", "set aside", "calibration" or "left out"."""

    file: str
    kind: str
    filter: str
    jd_utc: float | None
    exposure_s: float | None
    state: str
    reason: str
    ra_deg: float | None = None
    dec_deg: float | None = None
    scale_arcsec_per_px: float | None = None
    rotation_deg: float | None = None
    mirrored: bool | None = None
    matched_stars: int | None = None
    residual_arcsec: float | None = None
    fwhm_px: float | None = None
    elongation: float | None = None
    stars: int | None = None
    sky_adu_per_px: float | None = None


def write_exposures(rows: Iterable[ExposureRow], path: Path) -> None:
    """Write the table as CSV, in the order given; unknown values are left empty."""
    names = [field.name for field in fields(ExposureRow)]
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(names)
        for row in rows:
            writer.writerow([_cell(getattr(row, name), name) for name in names])


def _cell(value: object, name: str) -> str:
    if value is None or (isinstance(value, float) and not math.isfinite(value)):
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{value:.{_DIGITS.get(name, 6)}f}"
    return str(value)
