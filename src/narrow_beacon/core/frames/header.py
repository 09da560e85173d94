"""Interpret camera headers: a table of spellings for each fact, so that every value comes with
the keyword that gave it.

Capture programs agree on FITS but not on keywords; the table lists what is in use, most specific
first. A new spelling is a new row, not new code.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field, fields
from datetime import datetime
from typing import Any

from narrow_beacon.core.frames.fits_file import FitsImage, HeaderValue
from narrow_beacon.core.frames.header_time import time_keywords, time_of
from narrow_beacon.core.frames.header_values import (
    Reading,
    Rows,
    UnusableValueError,
    airmass,
    airmass_at,
    aperture_m,
    colour_pattern,
    declination_deg,
    first_of,
    longitude_deg,
    number_of,
    positive,
    right_ascension_deg,
    right_ascension_of_hours,
    seconds,
    seconds_of_milliseconds,
    short_text,
    temperature_c,
)
from narrow_beacon.core.frames.sections import (
    LIGHT_KEYWORDS,
    OVERSCAN_KEYWORDS,
    Sections,
    sections_of,
)

KINDS = ("exposure", "bias", "dark", "flat", "flat dark")


@dataclass(frozen=True, slots=True)
class FrameFacts:
    """What a header says of a frame. Absent facts are None."""

    kind: Reading[str] | None
    filter: Reading[str] | None
    time_utc: Reading[datetime] | None
    time_is_middle: bool
    exposure_s: Reading[float] | None
    temperature_c: Reading[float] | None
    gain_setting: Reading[float] | None
    offset_setting: Reading[float] | None
    gain_e_per_adu: Reading[float] | None
    read_noise_e: Reading[float] | None
    linear_limit_adu: Reading[float] | None
    binning: Reading[tuple[int, int]] | None
    readout_mode: Reading[str] | None
    camera: Reading[str] | None
    object_name: Reading[str] | None
    ra_deg: Reading[float] | None
    dec_deg: Reading[float] | None
    scale_arcsec_per_px: Reading[float] | None
    latitude_deg: Reading[float] | None
    longitude_deg: Reading[float] | None
    elevation_m: Reading[float] | None
    aperture_m: Reading[float] | None
    mosaic: Reading[str] | None
    """The colour pattern of a colour sensor."""
    processed: str | None
    """Why this looks like a file that was already processed, or None."""
    origin: Reading[tuple[int, int]] | None = None
    """Of a sub-frame on the sensor, in pixels as binned; None where the header does not say."""
    time_system: str | None = None
    """The scale of a time that cannot be brought to UTC, such as LOCAL."""
    sections: Reading[Sections] | None = None
    """The part that sees light and its overscan, where that is not all."""
    mosaic_origin: tuple[int, int] = (0, 0)
    """Columns and rows of the colour pattern that are cut off before the first pixel."""
    telescope: Reading[str] | None = None
    rotator_deg: Reading[float] | None = None
    """The angle of the rotator: with another one light falls on other pixels."""
    focus_position: Reading[float] | None = None
    """Of the focuser, in its own steps."""
    combined: Reading[float] | None = None
    """How many exposures this program combined into it: it is corrected already."""
    span_s: float | None = None
    """From a stated start to a stated end."""
    airmass: Reading[float] | None = None
    pixel_aspects: tuple[float, ...] = ()
    """A pixel's height over its width, where the header says that it is no square: several where
    it may mean pixels before or after binning."""
    conflicts: dict[str, str] = field(default_factory=dict)
    """Words on facts that the header gives twice, unlike one another; by the fact's name."""


_KIND_WORDS: tuple[tuple[str, str], ...] = (
    # Order matters: "dark flat" before "dark" and "flat".
    (r"master|stack|combin|integrat|averag|median", "master"),
    (r"dark.?(for.?)?flat|flat.?dark", "flat dark"),
    (r"bias|zero|offset", "bias"),
    (r"dark", "dark"),
    (r"flat|dome|twilight|skyflat", "flat"),
    (r"light|object|science|target|expos|^sci$|^obj$", "exposure"),
)


def kind_of(text: str) -> str | None:
    """The kind of frame that a header's words mean; "master" for combined ones, None if unknown."""
    plain = text.strip().lower()
    return next((kind for pattern, kind in _KIND_WORDS if re.search(pattern, plain)), None)


def _kind(value: HeaderValue) -> str:
    kind = kind_of(str(value))
    if kind is None:
        raise UnusableValueError
    return kind


def _rows(parse: Callable[[HeaderValue], object], keywords: str) -> Rows:
    return tuple((keyword, parse) for keyword in keywords.split())


_FACTS: dict[str, Rows] = {
    "kind": _rows(_kind, "IMAGETYP IMAGETYPE FRAME FRAMETYP OBSTYPE EXPTYPE PICTTYPE IMGTYPE"),
    "filter": _rows(short_text, "FILTER FILTERS FILTNAM FILTER1 INSFLNAM FLTRNAME FILTERID"),
    "exposure_s": (
        *_rows(seconds, "EXPTIME EXPOSURE EXP_TIME EXPOSED ITIME EXPTIM EXPOTIME TELAPSE"),
        *_rows(seconds_of_milliseconds, "EXPTIMEM EXPMS EXP_MS EXPOSMS"),
    ),
    "temperature_c": _rows(
        temperature_c, "CCD-TEMP CCDTEMP DET-TEMP SENSTEMP DETTEMP TEMPERAT CAMTEMP SET-TEMP"
    ),
    "gain_setting": _rows(number_of, "GAIN GAINSET CAMGAIN"),
    "offset_setting": _rows(number_of, "OFFSET BLKLEVEL CAMOFFS BLACKLVL"),
    "gain_e_per_adu": _rows(positive, "EGAIN GAINADU E-GAIN"),
    "read_noise_e": _rows(positive, "RDNOISE READNOIS RON"),
    "linear_limit_adu": _rows(positive, "LINLIMIT SATURATE SATLEVEL DATAMAX"),
    "readout_mode": _rows(short_text, "READOUTM READMODE RDMODE"),
    "camera": _rows(short_text, "INSTRUME CAMERA DETNAM DETECTOR CAMNAME"),
    "telescope": _rows(short_text, "TELESCOP TELNAME"),
    "object_name": _rows(short_text, "OBJECT OBJNAME TARGNAME"),
    "ra_deg": (
        *_rows(right_ascension_deg, "OBJCTRA RA_OBJ RA TELRA RADEG"),
        *_rows(right_ascension_of_hours, "RAHOURS"),
        *_rows(right_ascension_deg, "CRVAL1"),
    ),
    "dec_deg": _rows(declination_deg, "OBJCTDEC DEC_OBJ DEC TELDEC DECDEG CRVAL2"),
    "latitude_deg": _rows(declination_deg, "SITELAT LAT-OBS OBSLAT LATITUDE OBSGEO-B"),
    "longitude_deg": _rows(longitude_deg, "SITELONG LONG-OBS OBSLONG LONGITUD OBSGEO-L"),
    "elevation_m": _rows(number_of, "SITEELEV ALT-OBS OBSALT ELEVATIO OBSGEO-H"),
    "mosaic": _rows(colour_pattern, "BAYERPAT COLORTYP CFAPAT BAYER CFAIMAGE"),
    "aperture_m": _rows(aperture_m, "TELAPER APERTURE APTDIA TELDIAM"),
    "rotator_deg": _rows(number_of, "ROTATANG ROTATOR ROTANGLE ROTPOS"),
    "focus_position": _rows(number_of, "FOCUSPOS FOCPOS FOCUSSTP"),
    "airmass": (*_rows(airmass, "AIRMASS SECZ"), *_rows(airmass_at, "OBJCTALT TELALT")),
}
"""Every fact's keywords, the most specific first, each with how its value is read."""

_MEANS = {
    "kind": "kind of frame", "filter": "filter", "exposure_s": "exposure time, s or ms",
    "temperature_c": "sensor temperature, °C", "gain_setting": "gain setting",
    "offset_setting": "offset setting", "gain_e_per_adu": "gain, e⁻/ADU",
    "read_noise_e": "read noise, e⁻", "linear_limit_adu": "linear limit, ADU",
    "readout_mode": "read-out mode", "camera": "camera", "telescope": "telescope",
    "object_name": "object", "ra_deg": "right ascension", "dec_deg": "declination",
    "latitude_deg": "latitude of the site", "longitude_deg": "its longitude, east positive",
    "elevation_m": "its elevation, m", "mosaic": "colour pattern of 2 × 2 pixels",
    "aperture_m": "aperture of the telescope, m or mm", "rotator_deg": "angle of the rotator, °",
    "focus_position": "place of the focuser", "airmass": "airmass, or altitude in degrees",
}  # fmt: skip


def keyword_table() -> str:
    """The table of what is read from which keywords, as Markdown: made of what reads them."""
    rows = [(_MEANS[name], [key for key, _ in known]) for name, known in _FACTS.items()]
    rows += [(f"time: {what}", list(keys)) for what, keys in time_keywords().items()]
    rows += [
        ("binning", list(_BINNING_KEYWORDS)),
        ("scale, arcsec/px", list(_SCALE_KEYWORDS)),
        ("scale from pixel size", list(_PIXEL_SIZE_KEYWORDS)),
        ("height of a pixel", list(_PIXEL_HEIGHT_KEYWORDS)),
        ("… and focal length", list(_FOCAL_LENGTH_KEYWORDS)),
        ("origin of a sub-frame", [*(", ".join(pair) for pair in _ORIGIN_KEYWORDS), "DETSEC"]),
        ("origin of the colour pattern", [", ".join(pair) for pair in _MOSAIC_ORIGIN_KEYWORDS]),
        ("part that sees light", list(LIGHT_KEYWORDS)),
        ("overscan", list(OVERSCAN_KEYWORDS)),
        ("processed already, where set", list(_PROCESSED_KEYWORDS)),
    ]
    lines = ["| what | keywords, the first that is usable counts |", "| --- | --- |"]
    return "\n".join([*lines, *(f"| {what} | {', '.join(keys)} |" for what, keys in rows)]) + "\n"


_BINNING_KEYWORDS = ("XBINNING", "BINX", "BINNING", "CCDSUM", "CCDXBIN")
_MOSAIC_ORIGIN_KEYWORDS = (("XBAYROFF", "YBAYROFF"), ("BAYOFFX", "BAYOFFY"))
_SCALE_KEYWORDS = ("PIXSCALE", "SCALE", "SECPIX", "PLTSCALE")
_PIXEL_SIZE_KEYWORDS = ("XPIXSZ", "PIXSIZE1", "PIXSIZE")
_PIXEL_HEIGHT_KEYWORDS = ("YPIXSZ", "PIXSIZE2")
_LEAST_ASPECT, _MOST_ASPECT = 1.03, 8.0
"""Of a pixel that is no square, one side over the other."""
_FOCAL_LENGTH_KEYWORDS = ("FOCALLEN", "FOCALLENGTH", "FOCAL")
_PROCESSED_KEYWORDS = ("NCOMBINE", "STACKCNT", "BIASCORR", "DARKCORR", "FLATCORR")
_PROCESSED_WORDS = re.compile(
    r"\b(dark|bias|flat)\w*[ -](subtract|divid|correct|remov)"
    r"|\b(subtract|divid)\w* (the |by )?(master )?(dark|bias|flat)"
)
_HISTORY_WORDS = re.compile(r"\bcalibrated\b|\bstacked\b|\baligned\b|\bcosmetic correction\b")
"""What only a history can say of the pixels: a comment may speak of the sensor."""
_ORIGIN_KEYWORDS = (("XORGSUBF", "YORGSUBF"), ("XORG", "YORG"), ("SUBX", "SUBY"))


COMBINED_HERE = "NBCOMBIN"
"""The keyword of exposures that this program combined: corrected, and measured like others."""


REJECTED_KIND = "rejected"
"""The kind of the maps of what was left out of them."""


def keywords_of(*facts: str) -> set[str]:
    """All keywords that facts are read from; "time" and "processed" among the facts' names."""
    found = set()
    for name in facts:
        if name == "time":
            found |= {key for keys in time_keywords().values() for key in keys}
        elif name == "processed":
            found |= set(_PROCESSED_KEYWORDS)
        else:
            found |= {key for key, _ in _FACTS[name]}
    return found


def interpret(image: FitsImage) -> FrameFacts:
    """The facts of a header, each with its keyword. Never raises: absent or odd facts are None."""
    cards = image.cards
    values: dict[str, Any] = {name: first_of(cards, rows) for name, rows in _FACTS.items()}
    exposure = values["exposure_s"]
    exposure_s = float(exposure.value) if isinstance(exposure, Reading) else None
    conflicts = {name: words for name in ("kind", "exposure_s") if (words := _unlike(cards, name))}
    site = values["longitude_deg"]
    time = time_of(cards, exposure_s, site.value if isinstance(site, Reading) else None)
    if time.conflict:
        conflicts["time_utc"] = time.conflict
    values["time_utc"], values["time_is_middle"] = time.utc, time.is_middle
    values["time_system"], values["span_s"] = time.scale, time.span_s
    binning = _binning(cards)
    values["binning"] = binning
    values["scale_arcsec_per_px"] = _scale(cards, binning)
    values["pixel_aspects"] = _aspects(cards, binning.value if binning else (1, 1))
    values["combined"] = first_of(cards, ((COMBINED_HERE, number_of),))
    values["processed"] = None if values["combined"] else _processed(image, values["kind"])
    values["origin"] = _origin(cards)
    shape = (image.source.height, image.source.width)
    sections = sections_of(cards, shape, binning.value if binning else (1, 1))
    if isinstance(sections, str):
        conflicts["sections"] = f"its header's sections contradict one another: {sections}"
        sections = None
    values["sections"] = Reading(sections, sections.keywords) if sections else None
    values["mosaic_origin"] = _mosaic_origin(cards)
    values["conflicts"] = conflicts
    return FrameFacts(**{one.name: values[one.name] for one in fields(FrameFacts)})


def _unlike(cards: dict[str, HeaderValue], name: str) -> str:
    """Words on a fact that several keywords give, unlike one another."""
    found = [reading for row in _FACTS[name] if (reading := first_of(cards, (row,))) is not None]
    if len(found) < 2:
        return ""
    first = found[0]
    for other in found[1:]:
        if name == "kind":
            same = other.value == first.value
        else:
            one, two = sorted((float(first.value), float(other.value)))
            # A time in milliseconds beside one in seconds is no contradiction.
            same = (
                two - one <= max(0.01 * two, 0.005) or abs(two / max(one, 1e-9) / 1000 - 1) < 0.01
            )
        if not same:
            said = f"{first.keyword} = {first.value}, {other.keyword} = {other.value}"
            return f"its header contradicts itself: {said}"
    return ""


def _mosaic_origin(cards: dict[str, HeaderValue]) -> tuple[int, int]:
    found = []
    for keywords in zip(*_MOSAIC_ORIGIN_KEYWORDS, strict=True):
        reading = first_of(cards, tuple((key, number_of) for key in keywords))
        found.append(int(reading.value) % 2 if reading else 0)
    return found[0], found[1]


def _binning(cards: dict[str, HeaderValue]) -> Reading[tuple[int, int]] | None:
    for keyword in _BINNING_KEYWORDS:
        if keyword not in cards:
            continue
        numbers = [int(word) for word in re.findall(r"\d+", str(cards[keyword]))]
        if not numbers or not all(1 <= number <= 16 for number in numbers[:2]):
            continue
        other = {"XBINNING": "YBINNING", "BINX": "BINY", "CCDXBIN": "CCDYBIN"}.get(keyword)
        second = cards.get(other or "", numbers[-1] if len(numbers) > 1 else numbers[0])
        return Reading((numbers[0], int(float(second))), keyword)
    return None


def _scale(
    cards: dict[str, HeaderValue], binning: Reading[tuple[int, int]] | None
) -> Reading[float] | None:
    stated = first_of(cards, tuple((key, positive) for key in _SCALE_KEYWORDS))
    if stated is not None:
        return stated
    pixel = first_of(cards, tuple((key, positive) for key in _PIXEL_SIZE_KEYWORDS))
    focal = first_of(cards, tuple((key, positive) for key in _FOCAL_LENGTH_KEYWORDS))
    if pixel is None or focal is None:
        return None
    # Headers disagree on whether the pixel size is before or after binning; most write it after.
    scale = 206.26480625 * float(pixel.value) / float(focal.value)
    return Reading(scale, f"{pixel.keyword}/{focal.keyword}")


def _aspects(cards: dict[str, HeaderValue], binning: tuple[int, int]) -> tuple[float, ...]:
    """What a pixel's height over its width may be, other than 1, the likelier first."""
    width = first_of(cards, tuple((key, positive) for key in _PIXEL_SIZE_KEYWORDS))
    height = first_of(cards, tuple((key, positive) for key in _PIXEL_HEIGHT_KEYWORDS))
    sides = float(height.value) / float(width.value) if width and height else 1.0
    binned = sides * binning[1] / binning[0]
    return tuple(
        aspect for aspect in dict.fromkeys((sides, binned))
        if _LEAST_ASPECT < max(aspect, 1.0 / aspect) < _MOST_ASPECT
    )  # fmt: skip


def _processed(image: FitsImage, kind: object) -> str | None:
    cards = image.cards
    if cards.get("IMAGETYP") == REJECTED_KIND:
        return "a map of what was left out of a combined exposure"
    if isinstance(kind, Reading) and kind.value == "master":
        return f"already combined ({kind.keyword} = “{cards[kind.keyword]}”)"
    for keyword in _PROCESSED_KEYWORDS:
        value = cards.get(keyword)
        if value not in (None, False, 0, 1, "", "F", "OMIT"):
            return f"already processed ({keyword} = {value})"
    for lines, what in ((image.history, "history says"), (image.comments, "comments say")):
        for line in lines:
            told = what.startswith("history") and _HISTORY_WORDS.search(line.lower())
            if told or _PROCESSED_WORDS.search(line.lower()):
                return f"already processed (its {what} “{line.strip()[:60]}”)"
    return None


def _origin(cards: dict[str, HeaderValue]) -> Reading[tuple[int, int]] | None:
    for x, y in _ORIGIN_KEYWORDS:
        if x in cards and y in cards:
            try:
                return Reading((int(number_of(cards[x])), int(number_of(cards[y]))), f"{x}, {y}")
            except (ValueError, TypeError, OverflowError):
                continue
    section = re.fullmatch(
        r"\[(\d+):\d+,(\d+):\d+\]", str(cards.get("DETSEC", "")).replace(" ", "")
    )
    if section is None:
        return None
    return Reading((int(section.group(1)) - 1, int(section.group(2)) - 1), "DETSEC")
