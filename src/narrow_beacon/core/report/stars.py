"""The stars of the field as a table: stars.csv."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.curve.field_stars import FieldStars

COLUMNS = (
    "star", "filter", "ra_deg", "dec_deg", "magnitude", "uncertainty", "catalogue_magnitude",
    "scatter", "expected_scatter", "correlated", "points", "spoiled_share",
    "neighbour_mag", "known_variable",
)  # fmt: skip


def write_stars(found: Sequence[tuple[str, str, FieldStars]], stars: StarTable, path: Path) -> None:
    """Write a row a star and filter (name of the filter, its band, the stars), in order of filter
    and brightness. Missing numbers are left empty.
    """
    lines = [",".join(COLUMNS)]
    for name, band, of in sorted(found, key=lambda one: one[0]):
        known = stars.bands[band].magnitude
        for at in np.argsort(of.magnitude, kind="stable"):
            row = int(of.rows[at])
            if not of.points[at]:
                continue
            cells = [
                _text(stars.names[row]), _text(name), f"{stars.ra_deg[row]:.6f}",
                f"{stars.dec_deg[row]:.6f}", _number(of.magnitude[at]),
                _number(of.uncertainty_mag[at]), _number(known[row]), _number(of.scatter_mag[at]),
                _number(of.expected_mag[at]), _number(of.correlated_mag[at]),
                str(int(of.points[at])),
                f"{of.spoiled[at]:.3f}", _number(of.neighbour_mag[at]),
                str(int(stars.known_variable[row])),
            ]  # fmt: skip
            lines.append(",".join(cells))
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def _text(value: str) -> str:
    return '"' + value.replace('"', '""') + '"' if "," in value or '"' in value else value


def _number(value: float) -> str:
    return f"{value:.5f}" if np.isfinite(value) else ""
