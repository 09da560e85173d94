"""Interpret camera headers: a table of spellings for each fact, so that every value comes with
the keyword that gave it.

Capture programs agree on FITS but not on keywords; the table lists what is in use, most specific
first. A new spelling is a new row, not new code.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from dataclasses import dataclass, fields
from datetime import datetime, timedelta
from typing import Generic, TypeVar

from narrow_beacon.core.frames.fits_file import FitsImage, HeaderValue

T = TypeVar("T")

KINDS = ("exposure", "bias", "dark", "flat", "flat dark")

_LEAST_APERTURE_MM = 20.0
_MAX_EXPOSURE_S = 86400.0
_MOST_TEXT = 60
"""Longer names of cameras, filters and objects are cut."""
_YEARS = range(1850, 2200)
"""Exposures of other years are slips of a clock or of the pen."""
_JD_MJD_ZERO = 2400000.5
_MJD_UNIX_EPOCH = 40587.0


@dataclass(frozen=True)
class Reading(Generic[T]):
    """A value and the header keyword that it was read from."""

    value: T
    keyword: str


@dataclass(frozen=True)
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


class _UnusableValueError(ValueError):
    pass


def _number(value: HeaderValue) -> float:
    if isinstance(value, bool):
        raise _UnusableValueError
    number = float(value.split()[0] if isinstance(value, str) and value.split() else value)
    if not math.isfinite(number):
        raise _UnusableValueError
    return number


def _text(value: HeaderValue) -> str:
    text = str(value).strip()
    if not text or text.lower() in {"none", "unknown", "n/a", "null", "-"}:
        raise _UnusableValueError
    return text[:_MOST_TEXT]


def _positive(value: HeaderValue) -> float:
    number = _number(value)
    if number <= 0:
        raise _UnusableValueError
    return number


def _aperture(value: HeaderValue) -> float:
    """A telescope's aperture in m; whole millimetres are told by their size."""
    number = _positive(value)
    if number >= _LEAST_APERTURE_MM:
        number /= 1000.0
    if not 0.01 <= number <= 50.0:
        raise _UnusableValueError
    return number


def _seconds(value: HeaderValue) -> float:
    number = _number(value)
    if not 0 <= number <= _MAX_EXPOSURE_S:
        raise _UnusableValueError
    return number


def _milliseconds(value: HeaderValue) -> float:
    return _seconds(_number(value) / 1000.0)


def _temperature(value: HeaderValue) -> float:
    number = _number(value)
    if not -120 < number < 60:
        raise _UnusableValueError
    return number


def sexagesimal_deg(text: str, *, hours: bool) -> float:
    """Degrees from ``"19 41 02.6"``, ``"+38:12:44"``, ``"19h41m02.6s"`` or a plain number.

    A plain number is degrees already, also where ``hours`` is set. Raises ValueError.
    """
    words = re.sub(r"[hdms:°'\"′″]", " ", text.strip().lower()).split()
    if not 1 <= len(words) <= 3:
        raise ValueError(f"“{text[:40]}” is not an angle")
    negative = words[0].startswith("-")
    try:
        parts = [float(word) for word in words]
    except ValueError as error:
        raise ValueError(f"“{text[:40]}” is not an angle") from error
    if len(parts) == 1:
        return parts[0]
    if any(not 0 <= part < 60 for part in parts[1:]):
        raise ValueError(f"“{text[:40]}”: minutes and seconds must be below 60")
    size = sum(abs(part) / 60**power for power, part in enumerate(parts))
    return (-size if negative else size) * (15.0 if hours else 1.0)


def _ra(value: HeaderValue) -> float:
    angle = sexagesimal_deg(str(value), hours=True)
    if not 0 <= angle < 360:
        raise _UnusableValueError
    return angle


def _ra_hours(value: HeaderValue) -> float:
    text = str(value)
    return _ra(text) if len(text.split()) > 1 or ":" in text else _ra(float(text) * 15.0)


def _dec(value: HeaderValue) -> float:
    angle = sexagesimal_deg(str(value), hours=False)
    if not -90 <= angle <= 90:
        raise _UnusableValueError
    return angle


def _longitude(value: HeaderValue) -> float:
    return (sexagesimal_deg(str(value), hours=False) + 180.0) % 360.0 - 180.0


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
        raise _UnusableValueError
    return kind


_FACTS: dict[str, tuple[tuple[str, Callable[[HeaderValue], object]], ...]] = {
    "kind": tuple(
        (key, _kind)
        for key in ("IMAGETYP", "IMAGETYPE", "FRAME", "FRAMETYP", "OBSTYPE", "EXPTYPE", "PICTTYPE")
    ),
    "filter": tuple(
        (key, _text) for key in ("FILTER", "FILTERS", "FILTNAM", "FILTER1", "INSFLNAM", "FLTRNAME")
    ),
    "exposure_s": (
        ("EXPTIME", _seconds),
        ("EXPOSURE", _seconds),
        ("EXP_TIME", _seconds),
        ("EXPOSED", _seconds),
        ("ITIME", _seconds),
        ("EXPTIMEM", _milliseconds),
        ("EXPMS", _milliseconds),
    ),
    "temperature_c": tuple(
        (key, _temperature)
        for key in (
            "CCD-TEMP",
            "CCDTEMP",
            "DET-TEMP",
            "SENSTEMP",
            "TEMPERAT",
            "CAMTEMP",
            "SET-TEMP",
        )
    ),
    "gain_setting": (("GAIN", _number), ("GAINSET", _number), ("CAMGAIN", _number)),
    "offset_setting": (("OFFSET", _number), ("BLKLEVEL", _number), ("CAMOFFS", _number)),
    "gain_e_per_adu": (("EGAIN", _positive), ("GAINADU", _positive), ("E-GAIN", _positive)),
    "read_noise_e": (("RDNOISE", _positive), ("READNOIS", _positive), ("RON", _positive)),
    "linear_limit_adu": (
        ("LINLIMIT", _positive),
        ("SATURATE", _positive),
        ("SATLEVEL", _positive),
        ("DATAMAX", _positive),
    ),
    "readout_mode": (("READOUTM", _text), ("READMODE", _text), ("RDMODE", _text)),
    "camera": (("INSTRUME", _text), ("CAMERA", _text), ("DETNAM", _text), ("DETECTOR", _text)),
    "object_name": (("OBJECT", _text), ("OBJNAME", _text), ("TARGNAME", _text)),
    "ra_deg": (
        ("OBJCTRA", _ra),
        ("RA_OBJ", _ra),
        ("RA", _ra),
        ("TELRA", _ra),
        ("RADEG", _ra),
        ("RAHOURS", _ra_hours),
        ("CRVAL1", _ra),
    ),
    "dec_deg": (
        ("OBJCTDEC", _dec),
        ("DEC_OBJ", _dec),
        ("DEC", _dec),
        ("TELDEC", _dec),
        ("DECDEG", _dec),
        ("CRVAL2", _dec),
    ),
    "latitude_deg": (("SITELAT", _dec), ("LAT-OBS", _dec), ("OBSLAT", _dec), ("LATITUDE", _dec)),
    "longitude_deg": (
        ("SITELONG", _longitude),
        ("LONG-OBS", _longitude),
        ("OBSLONG", _longitude),
        ("LONGITUD", _longitude),
    ),
    "elevation_m": (
        ("SITEELEV", _number),
        ("ALT-OBS", _number),
        ("OBSALT", _number),
        ("ELEVATIO", _number),
    ),
    "mosaic": (("BAYERPAT", _text), ("COLORTYP", _text), ("CFAIMAGE", _text)),
    "aperture_m": (
        ("TELAPER", _aperture),
        ("APERTURE", _aperture),
        ("APTDIA", _aperture),
        ("TELDIAM", _aperture),
    ),
}

_SCALE_KEYWORDS = ("PIXSCALE", "SCALE", "SECPIX", "PLTSCALE")
_PIXEL_SIZE_KEYWORDS = ("XPIXSZ", "PIXSIZE1", "PIXSIZE")
_FOCAL_LENGTH_KEYWORDS = ("FOCALLEN", "FOCALLENGTH", "FOCAL")
_MIDDLE_KEYWORDS = ("DATE-AVG", "DATE-MID", "MIDTIME")
_START_KEYWORDS = ("DATE-BEG", "DATE-OBS", "DATE_OBS", "UTSTART")
_CLOCK_KEYWORDS = ("TIME-OBS", "UT", "UTC", "UTC-OBS", "TIME-BEG")
_DAY_KEYWORDS = (("MJD-AVG", True), ("MJD-OBS", False), ("JD-OBS", False), ("JD", False))
_MOST_ZONE_H = 14
_UTC_SYSTEMS = ("UTC", "UT", "UT1", "GMT", "Z", "")
_TAI_SYSTEMS = {"TAI": 0.0, "IAT": 0.0, "TT": 32.184, "TDT": 32.184, "ET": 32.184, "TDB": 32.184,
                "GPS": -19.0}  # fmt: skip
"""How many seconds each is ahead of TAI (FITS 4.0, table 30); TDB to 2 ms."""
_PROCESSED_KEYWORDS = ("NCOMBINE", "STACKCNT", "BIASCORR", "DARKCORR", "FLATCORR")
_PROCESSED_WORDS = re.compile(
    r"\b(dark|bias|flat)\w*[ -](subtract|divid|correct|remov)"
    r"|\b(subtract|divid)\w* (the |by )?(master )?(dark|bias|flat)"
)
_HISTORY_WORDS = re.compile(r"\bcalibrated\b|\bstacked\b|\baligned\b|\bcosmetic correction\b")
"""What only a history can say of the pixels: a comment may speak of the sensor."""
_ORIGIN_KEYWORDS = (("XORGSUBF", "YORGSUBF"), ("XORG", "YORG"), ("SUBX", "SUBY"))


def interpret(image: FitsImage) -> FrameFacts:
    """The facts of a header, each with its keyword. Never raises: absent or odd facts are None."""
    cards = image.cards
    values: dict[str, object] = {name: _first(cards, rows) for name, rows in _FACTS.items()}
    time_utc, is_middle = _time(cards)
    values["time_utc"] = time_utc
    values["time_is_middle"] = is_middle
    system = _time_system(cards)
    values["time_system"] = None if system in (*_UTC_SYSTEMS, *_TAI_SYSTEMS) else system
    values["binning"] = _binning(cards)
    values["scale_arcsec_per_px"] = _scale(cards, _binning(cards))
    values["processed"] = _processed(image, values["kind"])
    values["origin"] = _origin(cards)
    return FrameFacts(**{field.name: values[field.name] for field in fields(FrameFacts)})  # type: ignore[arg-type]


def _first(
    cards: dict[str, HeaderValue], rows: tuple[tuple[str, Callable[[HeaderValue], object]], ...]
) -> Reading[object] | None:
    for keyword, parse in rows:
        if keyword in cards:
            try:
                return Reading(parse(cards[keyword]), keyword)
            except (ValueError, TypeError, OverflowError):
                continue
    return None


def _binning(cards: dict[str, HeaderValue]) -> Reading[tuple[int, int]] | None:
    for keyword in ("XBINNING", "BINX", "BINNING", "CCDSUM", "CCDXBIN"):
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
    stated = _first(cards, tuple((key, _positive) for key in _SCALE_KEYWORDS))
    if stated is not None:
        return stated  # type: ignore[return-value]
    pixel = _first(cards, tuple((key, _positive) for key in _PIXEL_SIZE_KEYWORDS))
    focal = _first(cards, tuple((key, _positive) for key in _FOCAL_LENGTH_KEYWORDS))
    if pixel is None or focal is None:
        return None
    # Headers disagree on whether the pixel size is before or after binning; most write it after.
    scale = 206.26480625 * float(pixel.value) / float(focal.value)  # type: ignore[arg-type]
    return Reading(scale, f"{pixel.keyword}/{focal.keyword}")


def _time(cards: dict[str, HeaderValue]) -> tuple[Reading[datetime] | None, bool]:
    """The header's time as UTC, whatever scale it is in, and whether it is the middle. None where
    the scale is one that cannot be brought to UTC.
    """
    moment, middle = _time_as_written(cards)
    system = _time_system(cards)
    if moment is None or system in _UTC_SYSTEMS:
        return moment, middle
    if system not in _TAI_SYSTEMS:
        return None, middle
    tai = moment.value - timedelta(seconds=_TAI_SYSTEMS[system])
    return Reading(_utc_of_tai(tai), f"{moment.keyword} in {system}"), middle


def _time_system(cards: dict[str, HeaderValue]) -> str:
    return str(cards.get("TIMESYS", "UTC")).strip().upper()[:_MOST_TEXT]


def _utc_of_tai(tai: datetime) -> datetime:
    """UTC by the leap seconds that are tabulated (IERS Bulletin C, in Astropy's data)."""
    from astropy.time import Time  # slow to load, and seldom needed

    whole = tai.replace(microsecond=0)
    moment = Time(whole, scale="tai").utc
    leap_s = round((whole - moment.to_datetime(leap_second_strict="silent")).total_seconds())
    return tai - timedelta(seconds=leap_s)


def _time_as_written(cards: dict[str, HeaderValue]) -> tuple[Reading[datetime] | None, bool]:
    for keywords, middle in ((_MIDDLE_KEYWORDS, True), (_START_KEYWORDS, False)):
        for keyword in keywords:
            moment = _moment(cards, keyword)
            if moment is not None:
                return moment, middle
    for keyword, middle in _DAY_KEYWORDS:
        if keyword in cards:
            try:
                day = _number(cards[keyword])
            except ValueError:
                continue
            mjd = day if keyword.startswith("MJD") else day - _JD_MJD_ZERO
            if 15000 < mjd < 100000:
                moment_utc = datetime(1970, 1, 1) + timedelta(days=mjd - _MJD_UNIX_EPOCH)
                return Reading(moment_utc, keyword), middle
    return None, False


def _moment(cards: dict[str, HeaderValue], keyword: str) -> Reading[datetime] | None:
    text = str(cards.get(keyword, "")).strip().rstrip("Z")
    if not text:
        return None
    used = keyword
    if re.fullmatch(r"\d{2}/\d{2}/\d{2}", text):  # FITS dates before 1999: day/month/year
        day, month, year = text.split("/")
        text = f"19{year}-{month}-{day}"
    if re.fullmatch(r"\d{4}-\d{2}-\d{2}", text):
        clock = next((key for key in _CLOCK_KEYWORDS if ":" in str(cards.get(key, ""))), None)
        if clock is None:
            return None
        text = f"{text}T{str(cards[clock]).strip()}"
        used = f"{keyword}+{clock}"
    match = re.fullmatch(
        r"(\d{4}-\d{2}-\d{2})[T ](\d{1,2}):(\d{2}):(\d{2})(\.\d*)?(?:([+-])(\d{2}):?(\d{2}))?", text
    )
    if match is None:
        return None
    date, hour, minute, second, fraction, sign, zone_hours, zone_minutes = match.groups()
    try:
        base = datetime.fromisoformat(date)
    except ValueError:
        return None
    if base.year not in _YEARS:
        return None
    seconds = int(hour) * 3600 + int(minute) * 60 + int(second) + float(fraction or 0)
    if int(hour) > 24 or int(minute) > 59 or int(second) > 60:
        return None
    if sign:
        east_s = int(zone_hours) * 3600 + int(zone_minutes) * 60
        if int(zone_hours) > _MOST_ZONE_H or int(zone_minutes) > 59:
            return None
        seconds -= east_s if sign == "+" else -east_s
    return Reading(base + timedelta(seconds=seconds), used)


def _processed(image: FitsImage, kind: object) -> str | None:
    cards = image.cards
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
                return Reading((int(_number(cards[x])), int(_number(cards[y]))), f"{x}, {y}")
            except (ValueError, TypeError, OverflowError):
                continue
    section = re.fullmatch(
        r"\[(\d+):\d+,(\d+):\d+\]", str(cards.get("DETSEC", "")).replace(" ", "")
    )
    if section is None:
        return None
    return Reading((int(section.group(1)) - 1, int(section.group(2)) - 1), "DETSEC")
