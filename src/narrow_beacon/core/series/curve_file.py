"""Light curves from tables of any origin: which column is the time, the magnitude, its uncertainty
and the filter is proposed from names, UCDs and units.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from narrow_beacon.core.arrays import Floats
from narrow_beacon.core.catalogue.columns import Column
from narrow_beacon.core.catalogue.tables import open_table
from narrow_beacon.core.errors import BeaconError, CatalogueError

_RULES: dict[str, tuple[str, ...]] = {
    "time": (
        r"^bjd(_?tdb)?$", r"^b?jd.*tdb", r"^hjd(_?utc)?$", r"^jd(_?utc)?$", r"^mjd$",
        r"^(time|epoch|date|t|days?)(_?jd)?$",
    ),
    "magnitude": (
        r"^transformed_magnitude$", r"^mag(nitude)?$", r"^(v|b|r|i|g|u|z)?_?mag$",
        r"^(delta|diff)_?mag", r"^m$",
    ),
    "uncertainty": (
        r"^transformed_uncertainty$", r"^uncertainty$", r"^(mag)?_?(err|error|sigma|unc)(or)?$",
        r"^(e|err|sigma|u)_?([a-z]_?)?mag(nitude)?$", r"^([a-z]_?)?mag(nitude)?_?(err|sigma|unc)",
    ),
    "filter": (r"^filters?$", r"^band(pass)?$", r"^passband$", r"^filt$"),
}  # fmt: skip
_UCDS = {
    "time": r"^time\.epoch", "magnitude": r"^phot\.mag($|;)",
    "uncertainty": r"^stat\.error;phot\.mag",
    "filter": r"^(instr\.filter|instr\.bandpass|meta\.id;instr\.filter)",
}  # fmt: skip
_USUAL_MAG = 0.01


class CurveFileError(BeaconError):
    """A table that is no light curve; says what is missing and what can be said."""


@dataclass(frozen=True)
class CurveTable:
    """A light curve's points, in their order: times in days, magnitudes and uncertainties, the
    filter of each (empty where the table has none), and which column was taken for what.
    """

    t_d: Floats
    magnitude: Floats
    uncertainty: Floats
    filter: tuple[str, ...]
    columns: Mapping[str, str]

    def of_filter(self, name: str | None) -> CurveTable:
        """The points of one filter. Raises CurveFileError where there is none of that name, or
        where there are several and none is named.
        """
        names = list(dict.fromkeys(self.filter))
        if name is None and len(names) <= 1:
            return self
        if name not in names:
            said = "" if name is None else f"no point is in filter {name}; "
            raise CurveFileError(
                f"{said}there are points in {', '.join(names)}: name one (--filter)"
            )
        at = np.array([one == name for one in self.filter])
        return CurveTable(
            self.t_d[at], self.magnitude[at], self.uncertainty[at], (name,) * int(at.sum()),
            self.columns,
        )  # fmt: skip


def read_curve(path: Path, said: Mapping[str, str] | None = None) -> CurveTable:
    """A light curve from CSV, ECSV, VOTable or FITS; ``said`` names columns where the proposal is
    wrong. Of our own files the transformed magnitudes are taken where every point has one. Points
    without a time or a magnitude are left out. Raises CurveFileError.
    """
    try:
        file = open_table(path)
        columns = _proposed(file.columns, said or {}, path.name)
        wanted = set(columns.values())
        text = {columns["filter"]} if "filter" in columns else set()
        blocks = list(file.blocks(wanted, text))
    except CatalogueError as error:
        words = re.sub(r"^catalogue ", "", str(error))
        raise CurveFileError(words) from error
    values = {
        meaning: np.concatenate([_numbers(block[name]) for block in blocks])
        for meaning, name in columns.items()
        if meaning != "filter"
    }
    if (
        columns["magnitude"] == "transformed_magnitude"
        and not np.isfinite(values["magnitude"]).all()
    ):
        plain = {"magnitude": "magnitude", "uncertainty": "uncertainty"}
        if {"magnitude", "uncertainty"} <= {c.name for c in file.columns}:
            return read_curve(path, {**plain, **(said or {})})
    names: tuple[str, ...] = ("",) * values["time"].size
    if "filter" in columns:
        names = tuple(str(v).strip() for block in blocks for v in block[columns["filter"]])
    sigma = values.get("uncertainty", np.full(values["time"].size, _USUAL_MAG))
    good = np.isfinite(values["time"]) & np.isfinite(values["magnitude"])
    good &= np.isfinite(sigma) & (sigma > 0)
    if not good.any():
        raise CurveFileError(f"{path.name}: no line has a time, a magnitude and an uncertainty")
    at = np.flatnonzero(good)
    return CurveTable(
        values["time"][at], values["magnitude"][at], sigma[at], tuple(names[i] for i in at), columns
    )


def _proposed(
    columns: tuple[Column, ...] | list[Column], said: Mapping[str, str], label: str
) -> dict[str, str]:
    known = {column.name for column in columns}
    found: dict[str, str] = {}
    for meaning, rules in _RULES.items():
        if said.get(meaning):
            if said[meaning] not in known:
                raise CurveFileError(
                    f"{label}: has no column {said[meaning]} (it has {', '.join(sorted(known))})"
                )
            found[meaning] = said[meaning]
            continue
        # Names first, in the order of what is wanted most; then what the UCD says.
        by_name = [c for rule in rules for c in columns if re.match(rule, c.name.lower())]
        by_ucd = [c for c in columns if re.match(_UCDS[meaning], c.ucd.lower())]
        if by_name or by_ucd:
            found[meaning] = (by_name or by_ucd)[0].name
    if found.get("magnitude") == "transformed_magnitude" and said.get("uncertainty") is None:
        found["uncertainty"] = "transformed_uncertainty"
    for meaning in ("time", "magnitude"):
        if meaning not in found:
            raise CurveFileError(
                f"{label}: none of its columns ({', '.join(c.name for c in columns)}) is a "
                f"{meaning}: say which is (--{meaning} NAME)"
            )
    return found


def _numbers(column: object) -> Floats:
    values: Any = np.ma.asarray(column)
    if values.dtype.kind not in "iuf":
        values = np.ma.asarray([_number(str(value)) for value in values])
    return np.asarray(np.ma.filled(values.astype(float), np.nan), float)


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return float("nan")
