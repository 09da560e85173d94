"""The observer's words on a file, as they are typed: what can be said, and how it reads."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime

from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.header import KINDS
from narrow_beacon.core.frames.header_time import YEARS
from narrow_beacon.core.frames.header_values import MOST_TEXT, sexagesimal_deg

Word = str | float | None
_DAY_S = 86400.0


def _kind(text: str) -> str:
    if text not in KINDS:
        raise ValueError(f"“{text}” is none of {', '.join(KINDS)}")
    return text


def _number(low: float, high: float, unit: str) -> Callable[[str], float]:
    def parse(text: str) -> float:
        try:
            value = float(text.replace("−", "-"))
        except ValueError as error:
            raise ValueError(f"“{text}”: give a number{unit}") from error
        if not low <= value <= high:
            raise ValueError(f"{value:g}{unit}: from {low:g} to {high:g}")
        return value

    return parse


def _time(text: str) -> str:
    """A moment in UTC; one with a zone of its own is brought to it."""
    how = f"“{text}”: write 2026-10-12 21:04:30, the start in UTC"
    try:
        value = datetime.fromisoformat(text)
    except ValueError as error:
        raise ValueError(how) from error
    # A day alone is no start: it would be read as midnight.
    if ":" not in text or value.year not in YEARS:
        raise ValueError(how)
    return (value.astimezone(UTC) if value.tzinfo else value).replace(tzinfo=None).isoformat()


def _shift(text: str) -> float:
    """Seconds from seconds, or from hours and minutes: "-2h", "-1.5h", "+1:30", "12.5"."""
    plain = text.replace("−", "-").replace(" ", "").lower()
    match = re.fullmatch(r"([+-]?)(\d{1,2})(?:h|:)(?:(\d{1,2})m?)?(?::(\d{1,2}(?:\.\d+)?))?", plain)
    if match:
        sign, whole, minutes, seconds = match.groups()
        value = 3600 * float(whole) + 60 * float(minutes or 0) + float(seconds or 0)
        return -value if sign == "-" else value
    try:
        hours = plain.removesuffix("h")
        value = float(plain.removesuffix("s")) if hours == plain else 3600 * float(hours)
    except ValueError as error:
        raise ValueError(f"“{text}”: write seconds, or hours as −2h or +1:30") from error
    if not abs(value) <= 400 * _DAY_S:
        raise ValueError(f"{value:g} s: a clock is not that wrong; give the start instead")
    return value


def _moment(text: str) -> str:
    if text not in ("start", "middle", "end"):
        raise ValueError(f"“{text}” is none of start, middle, end")
    return text


def _angle(low: float, high: float, *, hours: bool) -> Callable[[str], float]:
    def parse(text: str) -> float:
        value = sexagesimal_deg(text, hours=hours)
        if not low <= value <= high:
            raise ValueError(f"{value:g}°: from {low:g}° to {high:g}°")
        return value

    return parse


WORDS: dict[str, tuple[str, Callable[[str], Word]]] = {
    "kind": ("kind", _kind),
    "filter": ("filter", lambda text: filter_name(text)[:MOST_TEXT]),
    "exposure_s": ("exposure", _number(0.0, _DAY_S, " s")),
    "time_utc": ("start", _time),
    "shift_s": ("clock", _shift),
    "moment": ("header's time", _moment),
    "temperature_c": ("temperature", _number(-120.0, 60.0, " °C")),
    "gain_setting": ("gain", _number(0.0, 1e5, "")),
    "offset_setting": ("offset", _number(0.0, 1e5, "")),
    "camera": ("camera", lambda text: text[:MOST_TEXT]),
    "telescope": ("telescope", lambda text: text[:MOST_TEXT]),
    "ra_deg": ("right ascension", _angle(0.0, 360.0, hours=True)),
    "aside": ("set aside", lambda text: text[:MOST_TEXT]),
    "dec_deg": ("declination", _angle(-90.0, 90.0, hours=False)),
}
"""What can be said of a file, by the names of ``sort.Correction``: what it is called, and how its
text is read. Each reader raises ValueError, with words for the observer."""


def read_word(name: str, text: str) -> Word:
    """The value of a typed word; None where it is empty, so that an earlier one is taken back.

    Raises ValueError where it cannot be read.
    """
    text = text.strip()
    return WORDS[name][1](text) if text else None
