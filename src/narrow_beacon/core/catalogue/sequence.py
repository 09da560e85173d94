"""A society's sequence: comparison stars with names, magnitudes and errors of its own, laid over a
catalogue.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.catalogue.sky_index import SkyIndex, separation_deg
from narrow_beacon.core.catalogue.table import Band, StarTable
from narrow_beacon.core.remarks import Remark

_REACH_DEG = 6.0 / 3600.0
"""Sequences give positions to a second of arc or so, of another epoch."""
_UNLIKE_MAG = 1.5
_APART_MAG = 0.1


@dataclass(frozen=True)
class StarSequence:
    """Stars of a sequence as a table of their own, and the chart that they are from."""

    stars: StarTable
    chart: str = ""
    sha256: str = ""
    """Of its file."""
    path: Path | None = None


@dataclass(frozen=True)
class Overlaid:
    """A catalogue with a sequence laid over it; ``rows`` are where its stars stand there, −1 for
    those that the catalogue lacks.
    """

    stars: StarTable
    rows: tuple[int, ...]
    remarks: tuple[Remark, ...]


def overlay(stars: StarTable, sequence: StarSequence) -> Overlaid:
    """A catalogue whose stars carry the names, magnitudes and uncertainties that a sequence gives
    them, and are marked as of it; bands that it is silent on stay, and so does what is known of
    their variability. Rows stay as they were, and stars are found by either name.

    Each star of the sequence is the nearest one within 6″ that is of like brightness where both
    know a band.
    """
    own = sequence.stars
    rows = _matched(stars, own)
    names, others = list(stars.names), [""] * len(stars)
    listed = np.zeros(len(stars), bool)
    bands = dict(stars.bands)
    remarks = []
    for band, given in own.bands.items():
        nothing = np.full(len(stars), np.nan)
        old = bands.get(band, Band(nothing, np.full(len(stars), np.nan)))
        magnitude, uncertainty = old.magnitude.copy(), old.uncertainty.copy()
        apart = []
        for at, row in enumerate(rows):
            if row < 0 or not np.isfinite(given.magnitude[at]):
                continue
            if abs(magnitude[row] - given.magnitude[at]) > _APART_MAG:
                apart.append(f"{own.names[at]} by {given.magnitude[at] - magnitude[row]:+.2f} mag")
            magnitude[row], uncertainty[row] = given.magnitude[at], given.uncertainty[at]
        bands[band] = Band(magnitude, uncertainty)
        if apart:
            remarks.append(_apart_remark(band, apart, sequence.chart))
    for at, row in enumerate(rows):
        if row >= 0:
            others[row], names[row] = names[row], own.names[at]
            listed[row] = True
    missing = [own.names[at] for at, row in enumerate(rows) if row < 0]
    if missing:
        remarks.append(_missing_remark(missing, len(rows), sequence.chart))
    laid = replace(stars, names=tuple(names), bands=bands, listed=listed, other_names=tuple(others))
    return Overlaid(laid, tuple(rows), tuple(remarks))


def _matched(stars: StarTable, own: StarTable) -> list[int]:
    ra, dec = stars.at_epoch(own.epoch_yr)
    index = SkyIndex(ra, dec)
    shared = [band for band in own.bands if band in stars.bands]
    taken: set[int] = set()
    rows = []
    for at in range(len(own)):
        place = float(own.ra_deg[at]), float(own.dec_deg[at])
        near = index.within(*place, _REACH_DEG)
        best = -1
        for row in near[np.argsort(separation_deg(ra[near], dec[near], *place))]:
            unlike = [_unlike(stars, own, band, int(row), at) for band in shared]
            known = [value for value in unlike if np.isfinite(value)]
            if int(row) not in taken and (not known or min(known) < _UNLIKE_MAG):
                best = int(row)
                break
        taken.add(best)
        rows.append(best)
    return rows


def _unlike(stars: StarTable, own: StarTable, band: str, row: int, at: int) -> float:
    mine: Floats = own.bands[band].magnitude
    return abs(float(stars.bands[band].magnitude[row]) - float(mine[at]))


def _of(chart: str) -> str:
    return f"the sequence {chart}" if chart else "the sequence"


def _apart_remark(band: str, apart: Sequence[str], chart: str) -> Remark:
    return Remark(
        "cast",
        f"{_of(chart)} and the catalogue differ in {band}: {', '.join(apart[:6])}"
        + (f" and {len(apart) - 6} more" if len(apart) > 6 else "").replace("-", "−"),
        band,
        "the sequence's magnitudes are taken",
        "see whether the stars are the right ones, and whether they vary",
    )


def _missing_remark(missing: Sequence[str], of: int, chart: str) -> Remark:
    return Remark(
        "cast",
        f"{len(missing)} of the {of} stars of {_of(chart)} are not in the catalogue, of like "
        f"brightness within 6″: {', '.join(missing[:8])}" + (" …" if len(missing) > 8 else ""),
        "",
        "they are not measured",
        "take a deeper catalogue, or see whether the sequence is of this field",
    )
