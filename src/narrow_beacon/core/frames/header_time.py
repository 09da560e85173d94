"""The time of an exposure from its header: whatever scale, zone and moment it is written for."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime, timedelta

from narrow_beacon.core.frames.fits_file import HeaderValue
from narrow_beacon.core.frames.header_values import (
    MOST_TEXT,
    Reading,
    UnusableValueError,
    first_of,
    number_of,
)

YEARS = range(1850, 2200)
"""Exposures of other years are slips of a clock or of the pen."""
_JD_MJD_ZERO = 2400000.5
_MJD_UNIX_EPOCH = 40587.0
_MIDDLE_KEYWORDS = ("DATE-AVG", "DATE-MID", "MIDTIME")
_START_KEYWORDS = ("DATE-BEG", "DATE-OBS", "DATE_OBS", "UTSTART")
_CLOCK_KEYWORDS = ("TIME-OBS", "UT", "UTC", "UTC-OBS", "TIME-BEG")
_END_KEYWORDS = ("DATE-END", "TIME-END", "DATE_END")
_DAY_KEYWORDS = (
    ("MJD-AVG", "middle"), ("MJD-MID", "middle"), ("MJD-OBS", "start"), ("MJD-BEG", "start"),
    ("MJD", "start"), ("JD-OBS", "start"), ("JD_UTC", "start"), ("JD", "start"), ("MJD-END", "end"),
)  # fmt: skip
_LOCAL_KEYWORDS = ("DATE-LOC", "LOCALTIM", "DATELOC")
_ZONE_KEYWORDS = ("UTOFFSET", "TIMEZONE", "TZOFFSET", "UTC-OFFS", "GMTOFFS", "TZ")
_LOCAL_SYSTEMS = ("LOCAL", "LT")
_FARTHEST_ZONE_H = 4.0
"""Hours that a zone's time may be off the Sun's."""
_DAY_SURE_S, _JD_SURE_S = 5.0, 20.0
"""How sure a day's number is: programs write few digits of it."""
_READ_OUT_S = 60.0
_MOST_ZONE_H = 14
_ZONE = re.compile(r"(?:UTC|GMT)?\s*([+-]?)(\d{1,2})(?::?(\d{2})|(\.\d*))?")
_UTC_SYSTEMS = ("UTC", "UT", "UT1", "GMT", "Z", "")
_TAI_SYSTEMS = {"TAI": 0.0, "IAT": 0.0, "TT": 32.184, "TDT": 32.184, "ET": 32.184, "TDB": 32.184,
                "GPS": -19.0}  # fmt: skip
"""How many seconds each is ahead of TAI (FITS 4.0, table 30); TDB to 2 ms."""


@dataclass(frozen=True)
class _Moment:
    """A time as written: of the exposure's "start", "middle" or "end", and how sure to the
    second.
    """

    reading: Reading[datetime]
    of: str
    sure_s: float = 2.0

    def start(self, exposure_s: float) -> datetime:
        share = {"start": 0.0, "middle": 0.5, "end": 1.0}[self.of]
        return self.reading.value - timedelta(seconds=share * exposure_s)


def time_keywords() -> dict[str, tuple[str, ...]]:
    """The keywords of times, by what they are the time of."""
    days = {of: tuple(key for key, its in _DAY_KEYWORDS if its == of) for _, of in _DAY_KEYWORDS}
    return {
        "middle": (*_MIDDLE_KEYWORDS, *days["middle"]),
        "start": (*_START_KEYWORDS, *days["start"]),
        "of the day, beside a date": _CLOCK_KEYWORDS,
        "end": (*_END_KEYWORDS, *days["end"]),
        "scale": ("TIMESYS",),
        "local": _LOCAL_KEYWORDS,
        "hours of local time ahead of UTC": _ZONE_KEYWORDS,
    }


@dataclass(frozen=True)
class HeaderTime:
    """The header's time as UTC, whatever scale it was in, and whether it is the middle of the
    exposure; ``scale`` is the one that it is in where that cannot be brought to UTC, ``conflict``
    says what it is contradicted by, ``span_s`` is the time from a stated start to a stated end.
    """

    utc: Reading[datetime] | None
    is_middle: bool
    scale: str | None
    conflict: str
    span_s: float | None


def time_of(
    cards: dict[str, HeaderValue], exposure_s: float | None, longitude_deg: float | None
) -> HeaderTime:
    """What a header says of the time of its exposure."""
    times = _times(cards)
    zone = _zone(cards, longitude_deg)
    utc, middle = _utc_of(cards, times, exposure_s, zone)
    system = _time_system(cards)
    known = utc is not None or system in (*_UTC_SYSTEMS, *_TAI_SYSTEMS)
    conflict = _times_apart(times, exposure_s or 0.0) if times else ""
    ends = {moment.of: moment.reading.value for moment in reversed(times)}
    span = ends["end"] - ends["start"] if {"start", "end"} <= ends.keys() else None
    return HeaderTime(
        utc, middle, None if known else system, conflict, span.total_seconds() if span else None
    )


def _utc_of(
    cards: dict[str, HeaderValue],
    times: list[_Moment],
    exposure_s: float | None,
    zone: Reading[float] | None,
) -> tuple[Reading[datetime] | None, bool]:
    usable = [m for m in times if m.of != "end" or exposure_s is not None]
    if not usable:
        return _local_time(cards, zone), False
    moment = usable[0].reading
    middle = usable[0].of == "middle"
    if usable[0].of == "end":
        moment = Reading(usable[0].start(exposure_s or 0.0), f"{moment.keyword} less the exposure")
    system = _time_system(cards)
    if system in _UTC_SYSTEMS:
        return moment, middle
    if system in _LOCAL_SYSTEMS:
        if zone is None:
            return None, middle
        utc = moment.value - timedelta(hours=zone.value)
        return Reading(utc, f"{moment.keyword} less {zone.keyword}"), middle
    if system not in _TAI_SYSTEMS:
        return None, middle
    tai = moment.value - timedelta(seconds=_TAI_SYSTEMS[system])
    return Reading(_utc_of_tai(tai), f"{moment.keyword} in {system}"), middle


def _local_time(
    cards: dict[str, HeaderValue], zone: Reading[float] | None
) -> Reading[datetime] | None:
    """UTC from a time that is called local and a zone, where there is nothing else."""
    local = next((m for key in _LOCAL_KEYWORDS if (m := _moment(cards, key))), None)
    if zone is None or local is None:
        return None
    return Reading(
        local.value - timedelta(hours=zone.value), f"{local.keyword} less {zone.keyword}"
    )


def _zone(cards: dict[str, HeaderValue], longitude_deg: float | None) -> Reading[float] | None:
    """Hours by which local time is ahead of UTC. None where there are none, or where they are on
    the other side of the Earth than the site: some programs write them the other way round.
    """
    found = first_of(cards, tuple((key, _zone_hours) for key in _ZONE_KEYWORDS))
    if found is None:
        return None
    hours = float(found.value)
    if longitude_deg is not None and abs(longitude_deg / 15.0 - hours) > _FARTHEST_ZONE_H:
        return None
    return Reading(hours, found.keyword)


def _zone_hours(value: HeaderValue) -> float:
    match = re.fullmatch(
        r"(?:UTC|GMT)?\s*([+-]?)(\d{1,2})(?::?(\d{2})|(\.\d*))?", str(value).strip()
    )
    if match is None:
        raise UnusableValueError
    sign, hours, minutes, fraction = match.groups()
    number = float(hours) + float(minutes or 0) / 60.0 + float(fraction or 0)
    if number > _MOST_ZONE_H:
        raise UnusableValueError
    return -number if sign == "-" else number


def _times_apart(times: list[_Moment], exposure_s: float) -> str:
    """Words on times that cannot be of one exposure."""
    first = times[0]
    start = first.start(exposure_s)
    for other in times[1:]:
        late = (other.start(exposure_s) - start).total_seconds()
        slack = max(first.sure_s, other.sure_s) + 0.02 * exposure_s
        # A clock may be read only when the sensor is; a day's number may be of the middle.
        most = slack + _READ_OUT_S if other.of == "end" else slack
        least = -slack - (_READ_OUT_S if first.of == "end" else 0.0)
        if other.sure_s > 2.0 and abs(late - 0.5 * exposure_s) <= slack:
            continue
        if not least <= late <= most:
            one, two = (
                f"{m.reading.keyword} {m.reading.value:%Y-%m-%d %H:%M:%S} ({m.of})"
                for m in (first, other)
            )
            return f"its header contradicts itself: {one}, {two}"
    return ""


def _time_system(cards: dict[str, HeaderValue]) -> str:
    return str(cards.get("TIMESYS", "UTC")).strip().upper()[:MOST_TEXT]


def _utc_of_tai(tai: datetime) -> datetime:
    """UTC by the leap seconds that are tabulated (IERS Bulletin C, in Astropy's data)."""
    from astropy.time import Time  # slow to load, and seldom needed

    whole = tai.replace(microsecond=0)
    moment = Time(whole, scale="tai").utc
    leap_s = round((whole - moment.to_datetime(leap_second_strict="silent")).total_seconds())
    return tai - timedelta(seconds=leap_s)


def _times(cards: dict[str, HeaderValue]) -> list[_Moment]:
    """All times that a header gives, the one to be taken first."""
    found = []
    for of, keywords in (
        ("middle", _MIDDLE_KEYWORDS), ("start", _START_KEYWORDS), ("end", _END_KEYWORDS)
    ):  # fmt: skip
        moments = [m for key in keywords if (m := _moment(cards, key)) is not None]
        found += [_Moment(m, of) for m in moments[:1]]
    for keyword, of in _DAY_KEYWORDS:
        if keyword in cards:
            try:
                day = number_of(cards[keyword])
            except ValueError:
                continue
            mjd = day if keyword.startswith("MJD") else day - _JD_MJD_ZERO
            if 15000 < mjd < 100000:
                moment_utc = datetime(1970, 1, 1) + timedelta(days=mjd - _MJD_UNIX_EPOCH)
                sure = _DAY_SURE_S if keyword.startswith("MJD") else _JD_SURE_S
                found.append(_Moment(Reading(moment_utc, keyword), of, sure))
    return found


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
    if base.year not in YEARS:
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
