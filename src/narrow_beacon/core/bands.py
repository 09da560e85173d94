"""Photometric bands: one table of their systems, of how filters and catalogue columns spell them,
and of the bands that can stand in for one another.

Systems: Johnson–Cousins (Bessell 1990, PASP 102, 1181), Sloan (Fukugita et al. 1996, AJ 111, 1748),
Gaia (Riello et al. 2021, A&A 649, A3), 2MASS (Skrutskie et al. 2006, AJ 131, 1163).
"""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass

JOHNSON_COUSINS, SLOAN, GAIA, TWO_MASS = "Johnson–Cousins", "Sloan", "Gaia", "2MASS"
COLOUR_SENSOR, CLEAR, NARROW = "colour filter", "clear", "narrow band"


@dataclass(frozen=True)
class PhotometricBand:
    """A band: its name here, its system, the words that mean it on a filter wheel and at the head
    of a catalogue's column, and the bands that come nearest to it, the nearest first.

    Words are compared as they are written where they are of one or two letters, else in small
    letters.
    """

    name: str
    system: str
    filters: tuple[str, ...]
    columns: tuple[str, ...]
    nearest: tuple[str, ...]


def _band(name: str, system: str, filters: str, columns: str, nearest: str) -> PhotometricBand:
    return PhotometricBand(
        name, system, tuple(filters.split()), tuple(columns.split()), tuple(nearest.split())
    )


BANDS: tuple[PhotometricBand, ...] = (
    _band("U", JOHNSON_COUSINS, "U Uj", "U Uj UJ", "u"),
    _band("B", JOHNSON_COUSINS, "B b Bj", "B b Bj BJ", "g BP"),
    _band("V", JOHNSON_COUSINS, "V v Vj", "V v Vj VJ", "g G"),
    _band("R", JOHNSON_COUSINS, "R Rc RC", "R Rc RC", "r RP G"),
    _band("I", JOHNSON_COUSINS, "I Ic IC", "I Ic IC", "i RP"),
    _band("u", SLOAN, "u u' up SU", "u u' up SU", "U"),
    _band("g", SLOAN, "g g' gp SG", "g g' gp SG", "V B BP"),
    _band("r", SLOAN, "r r' rp SR", "r r' SR", "R RP G"),
    _band("i", SLOAN, "i i' ip SI", "i i' ip SI", "I RP"),
    _band("z", SLOAN, "z z' zp zs SZ", "z z' zp SZ", "i I"),
    _band("y", SLOAN, "y Y", "y Y", "z I i"),
    _band("G", GAIA, "", "G", "V r R"),
    _band("BP", GAIA, "BP", "BP bp Bp", "B g V"),
    _band("RP", GAIA, "RP", "RP rp Rp", "I i R r"),
    _band("J", TWO_MASS, "J", "J j", ""),
    _band("H", TWO_MASS, "H", "H h", ""),
    _band("K", TWO_MASS, "K Ks KS", "K k Ks ks KS", ""),
    _band("red", COLOUR_SENSOR, "red TR", "TR", "R r RP"),
    _band("green", COLOUR_SENSOR, "green TG G", "TG", "V g G"),
    _band("blue", COLOUR_SENSOR, "blue TB", "TB", "B g BP"),
    _band(
        "Clear",
        CLEAR,
        "clear clr C c none open no No NO empty",
        "clear C CV CR",
        "G V r R g",
    ),
    _band("L", CLEAR, "L l lum luminance", "L", "G V g r R"),
    _band("CV", CLEAR, "CV", "", "V"),
    _band("CR", CLEAR, "CR", "", "R"),
    _band("Ha", NARROW, "Ha HA ha halpha", "Ha HA ha halpha", "R r RP"),
    _band("Hb", NARROW, "Hb HB hb hbeta", "Hb HB hb hbeta", "g B V"),
    _band("OIII", NARROW, "oiii o3", "oiii", "V g"),
    _band("SII", NARROW, "sii s2", "sii", "R r"),
    _band("NII", NARROW, "nii n2", "nii", "R r"),
)
BY_NAME = {band.name: band for band in BANDS}
_SYSTEM_WORDS = {
    "johnson": JOHNSON_COUSINS, "cousins": JOHNSON_COUSINS, "bessell": JOHNSON_COUSINS,
    "bessel": JOHNSON_COUSINS, "kron": JOHNSON_COUSINS, "jc": JOHNSON_COUSINS,
    "sloan": SLOAN, "sdss": SLOAN, "panstarrs": SLOAN, "ps1": SLOAN, "skymapper": SLOAN,
    "gaia": GAIA, "2mass": TWO_MASS, "twomass": TWO_MASS,
}  # fmt: skip
_IDLE_WORDS = {"filter", "band", "mag", "magnitude", "mags", "phot", "mean", "psf", "m", "standard"}
_WIDTH = re.compile(r"^\d+(\.\d+)?(nm|a|å)?$")
_UCD_BAND = re.compile(r"em\.(?:opt|ir)\.([a-z]{1,2})$|^phot_(?:\w+_)?([ubvri])$", re.I)


def band_of_filter(text: str) -> str | None:
    """The band that a filter's name means: "v", "V", "Johnson V" and "V_2" are V; None where it is
    not known.

    Small u, g, r, i and z are Sloan's, capital ones Johnson's and Cousins's; v and b are Johnson's.
    """
    return _resolve(text, "filters")


def band_of_column(name: str, ucd: str = "", names: Collection[str] = ()) -> str | None:
    """The band of a catalogue's column of magnitudes, by its name and only then by its UCD; None
    where neither says.

    ``names`` are those of all columns: "rp" is Gaia's beside a "bp", and Sloan's r′ without.
    """
    band = _resolve(name, "columns")
    alone = not any(_resolve(other, "columns") == "BP" for other in names)
    if band == "RP" and re.fullmatch(r"(mag_?)?rp(_?mag)?", name) and alone:
        band = "r"
    if band is not None:
        return band
    match = _UCD_BAND.search(ucd.strip())
    letter = next((group for group in match.groups() if group), None) if match else None
    return letter.upper() if letter and letter.upper() in BY_NAME else None


_BY_WAVELENGTH = (
    "U", "u", "blue", "B", "g", "BP", "Hb", "OIII", "V", "green", "CV", "G", "Clear", "L", "r", "R",
    "red", "CR", "Ha", "NII", "SII", "RP", "i", "I", "z", "y", "J", "H", "K",
)  # fmt: skip


def in_order(names: Collection[str]) -> list[str]:
    """Bands in order of wavelength, the bluest first; unknown ones are left out."""
    return [name for name in _BY_WAVELENGTH if name in names]


def stand_in(name: str, known: Collection[str]) -> str | None:
    """The band among ``known`` ones that comes nearest to a band that is not among them."""
    band = BY_NAME.get(name)
    return next((near for near in band.nearest if near in known), None) if band else None


def _resolve(text: str, where: str) -> str | None:
    words = [word for word in re.split(r"[\s_\-./()]+", _primed(text.strip())) if word]
    systems = {_SYSTEM_WORDS[w.lower()] for w in words if w.lower() in _SYSTEM_WORDS}
    if where == "columns" and {"phot", "mean"} <= set(words):
        systems.add(GAIA)  # phot_g_mean_mag
    rest = [
        word
        for word in words
        if word.lower() not in _SYSTEM_WORDS
        and word.lower() not in _IDLE_WORDS
        and not _WIDTH.match(word.lower())
    ]
    if len(rest) == 2 and rest[1] in ("'", "prime"):
        rest = [rest[0] + "'"]
    joined = "".join(rest)
    for word in dict.fromkeys((joined, _unglued(joined))):
        found = _lookup(word, where, systems)
        if found is not None:
            return found
    return None


def _primed(text: str) -> str:
    """All the ways of writing r′ as one."""
    return re.sub(r"[′’`´ʹ]", "'", text)


def _unglued(word: str) -> str:
    """ "Vmag" and "magV" without what says that they are magnitudes."""
    return re.sub(r"^mag(?=.)|(?<=.)mag(nitude)?$", "", word)


def _lookup(word: str, where: str, systems: set[str]) -> str | None:
    if not word:
        return None
    small = word.lower()
    fitting = []
    for band in BANDS:
        words = getattr(band, where)
        if word in words or (len(word) > 2 and small in words) or word == band.name:
            fitting.append(band)
    if where == "filters":
        fitting = [band for band in fitting if not (band.system == GAIA and band.name == "G")]
    named = [band for band in fitting if band.system in systems]
    if not named and systems:
        # "Johnson v" and "sloan R" are what their system says, whatever the case of the letter.
        named = [
            band
            for band in BANDS
            if band.system in systems and band.name.lower() == small.rstrip("'")
        ]
    chosen = named or fitting
    return chosen[0].name if chosen else None
