"""Propose which column of a table means what, from UCDs, names and units.

UCDs: the IVOA controlled vocabulary (UCD1+ 1.5, 2023) and, as cone search 1.03 demands, the older
UCD1 words.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from narrow_beacon.core.bands import band_of_column
from narrow_beacon.core.errors import CatalogueError


@dataclass(frozen=True)
class Column:
    """Name, UCD and unit of a table's column; ``numeric`` is False for text."""

    name: str
    ucd: str = ""
    unit: str = ""
    numeric: bool = True


@dataclass
class Proposal:
    """Column names by meaning; None where nothing fits. Bands map to (magnitude, uncertainty)."""

    name: str | None = None
    ra: str | None = None
    dec: str | None = None
    pm_ra: str | None = None
    pm_dec: str | None = None
    parallax: str | None = None
    epoch: str | None = None
    variable: str | None = None
    kind: str | None = None
    period: str | None = None
    bands: dict[str, tuple[str, str | None]] = field(default_factory=dict)


_UCD_RULES: tuple[tuple[str, str], ...] = (
    ("name", r"^id_main$|^meta\.id;meta\.main$"),
    ("ra", r"^pos_eq_ra_main$|^pos\.eq\.ra;meta\.main$"),
    ("dec", r"^pos_eq_dec_main$|^pos\.eq\.dec;meta\.main$"),
    ("name", r"^meta\.id($|;)"),
    ("ra", r"^pos\.eq\.ra$|^pos_eq_ra"),
    ("dec", r"^pos\.eq\.dec$|^pos_eq_dec"),
    ("pm_ra", r"^pos\.pm;pos\.eq\.ra$|^pos_eq_pmra$"),
    ("pm_dec", r"^pos\.pm;pos\.eq\.dec$|^pos_eq_pmdec$"),
    ("parallax", r"^pos\.parallax($|;)|^pos_parlx"),
    ("epoch", r"^time\.epoch($|;)|^time_epoch$"),
    ("kind", r"^meta\.code\.class;src\.var|^src\.class($|;)|^var_class"),
    ("period", r"^time\.period($|;)|^var_period"),
    ("variable", r"^src\.var($|;)|^meta\.code;src\.var|^var_"),
)
_NAME_RULES: tuple[tuple[str, str], ...] = (
    ("name", r"^(name|star|id|source_?id|designation|main_?id|label|identifier)$"),
    ("ra", r"^_?ra(_?(j2000|icrs|deg|_deg))?$|^raj2000$|^alpha"),
    ("dec", r"^_?de(c)?(_?(j2000|icrs|deg|_deg))?$|^dej2000$|^delta"),
    ("pm_ra", r"^pm_?ra(_?cosdec|_?mas_?yr)?$"),
    ("pm_dec", r"^pm_?de(c)?(_?mas_?yr)?$"),
    ("parallax", r"^(parallax|plx)(_?mas)?$"),
    ("epoch", r"^(ref_)?epoch(_?yr)?$"),
    ("variable", r"^(is_|known_)?var(iable|iability|flag)?(_flag)?$"),
    ("kind", r"^(var(iable|iability)?_?)?(type|kind|class)$"),
    ("period", r"^period(_?(d|days?))?$"),
)
_UCD_MAG = re.compile(r"^phot\.mag($|;em\.)|^phot_", re.I)
_UCD_ERROR = re.compile(r"^stat\.error;phot\.mag|^error$", re.I)
_ERROR_WORDS = r"err|error|sigma|unc|uncertainty|e|u"
_ERROR_NAME = re.compile(
    rf"^(?:{_ERROR_WORDS})_?(?P<a>.+)$|^(?P<b>.+?)_?(?:err|error|sigma|unc|uncertainty)$", re.I
)


def propose_columns(columns: Sequence[Column]) -> Proposal:
    """The likely meaning of every column; UCDs before names, the first that fits wins."""
    proposal = Proposal()
    taken: set[str] = set()
    for rules, text in ((_UCD_RULES, "ucd"), (_NAME_RULES, "name")):
        for meaning, pattern in rules:
            for column in columns:
                if getattr(proposal, meaning) or column.name in taken:
                    continue
                if re.search(pattern, getattr(column, text).strip().lower()):
                    setattr(proposal, meaning, column.name)
                    taken.add(column.name)
    _propose_bands(columns, proposal, taken)
    return proposal


MEANINGS = (
    "name", "ra", "dec", "pm_ra", "pm_dec", "parallax", "epoch", "variable", "kind", "period",
)  # fmt: skip
UNCERTAINTY = "_uncertainty"
"""After a band's name, in what the observer says: the column of its uncertainties."""


def said_of(proposal: Proposal) -> dict[str, str]:
    """A proposal in the words in which an observer corrects it: column by meaning or band."""
    said = {m: getattr(proposal, m) for m in MEANINGS if getattr(proposal, m) is not None}
    for band, (magnitude, uncertainty) in proposal.bands.items():
        said[band] = magnitude
        if uncertainty is not None:
            said[band + UNCERTAINTY] = uncertainty
    return said


def corrected(
    proposal: Proposal, columns: Sequence[Column], said: Mapping[str, str], label: str
) -> Proposal:
    """A proposal with what the observer says of columns, by meaning, band or band and
    ``_uncertainty``; an empty word takes a meaning away.

    Raises CatalogueError where a column is not there.
    """
    if not said:
        return proposal
    names = [column.name for column in columns]
    # What the observer says of a column ends what was proposed of it.
    whole = {m: n for m, n in said_of(proposal).items() if n not in said.values()} | dict(said)
    for meaning, name in whole.items():
        if name and name not in names:
            close = difflib.get_close_matches(name, names, n=3, cutoff=0.5) or names[:8]
            raise CatalogueError(
                f"catalogue {label}: has no column “{name}”, named for {meaning}; it has "
                + ", ".join(close)
            )
    result = Proposal()
    for meaning in MEANINGS:
        setattr(result, meaning, whole.get(meaning) or None)
    for band, name in whole.items():
        if name and band not in MEANINGS and not band.endswith(UNCERTAINTY):
            result.bands[band] = (name, whole.get(band + UNCERTAINTY) or None)
    return result


def _propose_bands(columns: Sequence[Column], proposal: Proposal, taken: set[str]) -> None:
    magnitudes: dict[str, str] = {}
    errors: dict[str, str] = {}
    names = [column.name for column in columns]
    for column in columns:
        if column.name in taken or not column.numeric:
            continue
        error = _error_band(column, names)
        band = None if error else _magnitude_band(column, names)
        if error:
            errors.setdefault(error, column.name)
        elif band:
            magnitudes.setdefault(band, column.name)
    proposal.bands = {band: (name, errors.get(band)) for band, name in magnitudes.items()}


def _magnitude_band(column: Column, names: Sequence[str]) -> str | None:
    told = bool(_UCD_MAG.search(column.ucd.strip()))
    plausible = column.unit.strip().lower() in ("mag", "") or "mag" in column.name.lower()
    if not (told or plausible) or _UCD_ERROR.search(column.ucd.strip()):
        return None
    return band_of_column(column.name, column.ucd if told else "", names)


def _error_band(column: Column, names: Sequence[str]) -> str | None:
    told = bool(_UCD_ERROR.search(column.ucd.strip()))
    match = _ERROR_NAME.match(column.name)
    if match is None:
        return band_of_column(column.name, column.ucd, names) if told else None
    of = match.group("a") or match.group("b")
    # The longer reading of "e_Vmag_error" and the like is tried by what is left of it.
    return band_of_column(of, column.ucd if told else "", names)
