"""Propose which column of a table means what, from UCDs, names and units.

UCDs: the IVOA controlled vocabulary (UCD1+ 1.5, 2023) and, as cone search 1.03 demands, the older
UCD1 words.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

KNOWN_BANDS = (
    "U",
    "B",
    "V",
    "R",
    "I",
    "u",
    "g",
    "r",
    "i",
    "z",
    "y",
    "G",
    "BP",
    "RP",
    "J",
    "H",
    "K",
)


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
    epoch: str | None = None
    variable: str | None = None
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
    ("epoch", r"^time\.epoch($|;)|^time_epoch$"),
    ("variable", r"^src\.var($|;)|^meta\.code;src\.var|^var_"),
)
_NAME_RULES: tuple[tuple[str, str], ...] = (
    ("name", r"^(name|star|id|source_?id|designation|main_?id|label|identifier)$"),
    ("ra", r"^_?ra(_?(j2000|icrs|deg|_deg))?$|^raj2000$|^alpha"),
    ("dec", r"^_?de(c)?(_?(j2000|icrs|deg|_deg))?$|^dej2000$|^delta"),
    ("pm_ra", r"^pm_?ra(_?cosdec|_?mas_?yr)?$"),
    ("pm_dec", r"^pm_?de(c)?(_?mas_?yr)?$"),
    ("epoch", r"^(ref_)?epoch(_?yr)?$"),
    ("variable", r"^(is_|known_)?var(iable|iability|flag)?(_flag)?$"),
)
_UCD_MAG = re.compile(
    r"^phot\.mag;em\.opt\.(?P<band>[a-z]{1,2})$|^phot_(?:\w+_)?(?P<old>[ubvri])$", re.I
)
_UCD_ERROR = re.compile(r"^stat\.error;phot\.mag;em\.opt\.(?P<band>[a-z]{1,2})$", re.I)


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


def _propose_bands(columns: Sequence[Column], proposal: Proposal, taken: set[str]) -> None:
    magnitudes: dict[str, str] = {}
    errors: dict[str, str] = {}
    for column in columns:
        if column.name in taken or not column.numeric:
            continue
        error = _error_band(column)
        band = None if error else _magnitude_band(column)
        if error:
            errors.setdefault(error, column.name)
        elif band:
            magnitudes.setdefault(band, column.name)
    proposal.bands = {band: (name, errors.get(band)) for band, name in magnitudes.items()}


def _magnitude_band(column: Column) -> str | None:
    by_name = re.fullmatch(
        r"(?:mag_?)?(?P<a>[A-Za-z]{1,2}?)_?(?:mag(?:nitude)?)?(?:_mag)?", column.name
    )
    name = by_name.group("a") if by_name else None
    by_ucd = _UCD_MAG.match(column.ucd.strip())
    if by_ucd:
        ucd_band = by_ucd.group("band") or by_ucd.group("old")
        # A UCD does not tell Johnson R from Sloan r; the column's name does.
        return (
            name if name in KNOWN_BANDS and name.lower() == ucd_band.lower() else ucd_band.upper()
        )
    plausible = column.unit.strip().lower() in ("mag", "") or "mag" in column.name.lower()
    return name if plausible and name in KNOWN_BANDS else None


def _error_band(column: Column) -> str | None:
    by_ucd = _UCD_ERROR.match(column.ucd.strip())
    match = re.fullmatch(
        r"(?:e|err|error|sigma|u|unc)_?(?:mag_?)?(?P<a>[A-Za-z]{1,2}?)_?(?:mag)?"
        r"|(?:mag_?)?(?P<b>[A-Za-z]{1,2}?)_?(?:mag)?_?(?:err|error|sigma|unc|uncertainty)",
        column.name,
    )
    name = (match.group("a") or match.group("b")) if match else None
    if by_ucd:
        band = by_ucd.group("band")
        return name if name in KNOWN_BANDS and name.lower() == band.lower() else band.upper()
    return name if name in KNOWN_BANDS else None
