"""Bring catalogues together by position: one star from several, or what is known to vary."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import scipy

from narrow_beacon.core.arrays import Floats, Ints
from narrow_beacon.core.catalogue.sky_index import unit_vectors
from narrow_beacon.core.catalogue.table import Band, StarTable, joined

SAME_STAR_ARCSEC = 1.5
_VARIABLE_ARCSEC = 3.0
_ARCSEC_RAD = 1.0 / 206264.806


def merged(tables: Sequence[StarTable]) -> StarTable:
    """The stars of some catalogues, each once: those within 1.5″ of one another at the first one's
    epoch, proper motion applied, are one star.

    The first that knows a star says where it is; the others add the bands and the motion that it
    lacks, and that it varies. Stars of later ones only come after those of earlier ones.
    """
    whole = tables[0]
    for other in tables[1:]:
        whole = _with(whole, other)
    return whole


def with_variables(stars: StarTable, variables: StarTable) -> StarTable:
    """The stars with those marked that a table of variables knows, and how they vary."""
    ra, dec = variables.at_epoch(stars.epoch_yr)
    rows, other = _pairs(stars.ra_deg, stars.dec_deg, ra, dec, _VARIABLE_ARCSEC)
    notes = list(stars.notes or ("",) * len(stars))
    for row, source in zip(rows, other, strict=True):
        known = variables.notes[source] if variables.notes else ""
        name = variables.names[source]
        same = "".join(name.lower().split()) == "".join(stars.names[row].lower().split())
        notes[row] = ", ".join(part for part in ("" if same else name, known) if part)
    marked = stars.known_variable.copy()
    marked[rows] = True
    return replace(stars, known_variable=marked, notes=tuple(notes) if any(notes) else None)


def _with(first: StarTable, other: StarTable) -> StarTable:
    mine, theirs = _same_stars(first, other)
    other = other if other.epoch_yr == first.epoch_yr else other.moved_to(first.epoch_yr)
    # The other one's values beside the first one's, unknown where it has no such star.
    beside = np.full(len(first), -1)
    beside[mine] = theirs
    known = beside >= 0

    def of_other(values: Floats, nothing: float) -> Floats:
        return np.where(known, values[beside], nothing)

    bands = dict(first.bands)
    for name, band in other.bands.items():
        own = bands.get(name)
        magnitude = of_other(band.magnitude, np.nan)
        uncertainty = of_other(band.uncertainty, np.nan)
        if own is not None:
            has = np.isfinite(own.magnitude)
            magnitude = np.where(has, own.magnitude, magnitude)
            uncertainty = np.where(has, own.uncertainty, uncertainty)
        bands[name] = Band(magnitude, uncertainty)
    still = (first.pm_ra_mas_yr == 0) & (first.pm_dec_mas_yr == 0)
    parallax = first.parallax_mas
    if other.parallax_mas is not None:
        theirs_px = of_other(other.parallax_mas, 0.0)
        parallax = theirs_px if parallax is None else np.where(parallax > 0, parallax, theirs_px)
    notes = None
    if first.notes or other.notes:
        own_notes, more = first.notes or ("",) * len(first), other.notes or ("",) * len(other)
        notes = tuple(
            own or (more[b] if b >= 0 else "") for own, b in zip(own_notes, beside, strict=True)
        )
    both = replace(
        first,
        pm_ra_mas_yr=np.where(still, of_other(other.pm_ra_mas_yr, 0.0), first.pm_ra_mas_yr),
        pm_dec_mas_yr=np.where(still, of_other(other.pm_dec_mas_yr, 0.0), first.pm_dec_mas_yr),
        bands=bands,
        known_variable=first.known_variable | (known & other.known_variable[beside]),
        parallax_mas=parallax,
        notes=notes,
    )
    alone = np.setdiff1d(np.arange(len(other)), theirs)
    return joined([both, other.take(alone)]) if alone.size else both


def _same_stars(first: StarTable, other: StarTable) -> tuple[Ints, Ints]:
    """Rows of stars that are the same, at the epoch of either: one may know their motion and the
    other not.
    """
    mine, theirs = _pairs(
        *first.at_epoch(other.epoch_yr), other.ra_deg, other.dec_deg, SAME_STAR_ARCSEC
    )
    left = np.setdiff1d(np.arange(len(first)), mine), np.setdiff1d(np.arange(len(other)), theirs)
    ra, dec = other.at_epoch(first.epoch_yr)
    more = _pairs(
        first.ra_deg[left[0]], first.dec_deg[left[0]], ra[left[1]], dec[left[1]], SAME_STAR_ARCSEC
    )
    return np.append(mine, left[0][more[0]]), np.append(theirs, left[1][more[1]])


def _pairs(
    ra1: Floats, dec1: Floats, ra2: Floats, dec2: Floats, radius_arcsec: float
) -> tuple[Ints, Ints]:
    """Mutual nearest neighbours within a radius: rows of the first and of the second."""
    if not len(ra1) or not len(ra2):
        return np.empty(0, np.int64), np.empty(0, np.int64)
    one, two = unit_vectors(ra1, dec1), unit_vectors(ra2, dec2)
    away, nearest = scipy.spatial.cKDTree(one).query(
        two, distance_upper_bound=radius_arcsec * _ARCSEC_RAD
    )
    found = np.flatnonzero(np.isfinite(away))
    _, back = scipy.spatial.cKDTree(two).query(one[nearest[found]])
    found = found[back == found]
    return nearest[found], found
