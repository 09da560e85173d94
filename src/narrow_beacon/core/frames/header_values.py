"""Values of header cards: parsers that give what a fact needs, or refuse."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from narrow_beacon.core.frames.colour import is_pattern
from narrow_beacon.core.frames.fits_file import HeaderValue

T = TypeVar("T")
Rows = Sequence[tuple[str, Callable[[HeaderValue], object]]]
"""Keywords that can give a fact, the most specific first, each with its parser."""

_LEAST_APERTURE_MM = 20.0
_MAX_EXPOSURE_S = 86400.0
_MOST_AIRMASS = 40.0
MOST_TEXT = 60
"""Longer names of cameras, filters and objects are cut."""


@dataclass(frozen=True, slots=True)
class Reading(Generic[T]):
    """A value and the header keyword that it was read from."""

    value: T
    keyword: str


class UnusableValueError(ValueError):
    """A card whose value cannot be what its keyword is for."""


def number_of(value: HeaderValue) -> float:
    """A finite number, also where a unit follows it."""
    if isinstance(value, bool):
        raise UnusableValueError
    number = float(value.split()[0] if isinstance(value, str) and value.split() else value)
    if not math.isfinite(number):
        raise UnusableValueError
    return number


def short_text(value: HeaderValue) -> str:
    """Text that says something, cut where it is long."""
    text = str(value).strip()
    if not text or text.lower() in {"none", "unknown", "n/a", "null", "-"}:
        raise UnusableValueError
    return text[:MOST_TEXT]


def positive(value: HeaderValue) -> float:
    """A number above 0."""
    number = number_of(value)
    if number <= 0:
        raise UnusableValueError
    return number


def aperture_m(value: HeaderValue) -> float:
    """A telescope's aperture in m; whole millimetres are told by their size."""
    number = positive(value)
    if number >= _LEAST_APERTURE_MM:
        number /= 1000.0
    if not 0.01 <= number <= 50.0:
        raise UnusableValueError
    return number


def airmass(value: HeaderValue) -> float:
    """An airmass that a field can have."""
    number = number_of(value)
    if not 1.0 <= number <= _MOST_AIRMASS:
        raise UnusableValueError
    return number


def airmass_at(value: HeaderValue) -> float:
    """The airmass at an altitude in degrees, to a hundredth down to 15° (1 / sin)."""
    altitude_deg = sexagesimal_deg(str(value), hours=False)
    if not 0.0 < altitude_deg <= 90.0:
        raise UnusableValueError
    return airmass(1.0 / math.sin(math.radians(altitude_deg)))


def seconds(value: HeaderValue) -> float:
    """A time in s, of a day at the most."""
    number = number_of(value)
    if not 0 <= number <= _MAX_EXPOSURE_S:
        raise UnusableValueError
    return number


def seconds_of_milliseconds(value: HeaderValue) -> float:
    """A time in s from one in ms."""
    return seconds(number_of(value) / 1000.0)


def temperature_c(value: HeaderValue) -> float:
    """A temperature that a sensor can have, in °C."""
    number = number_of(value)
    if not -120 < number < 60:
        raise UnusableValueError
    return number


def sexagesimal_deg(text: str, *, hours: bool) -> float:
    """Degrees from ``"19 41 02.6"``, ``"+38:12:44"``, ``"19h41m02,6s"`` or a plain number.

    A plain number is degrees already, also where ``hours`` is set, unless it says that it is hours.
    Raises ValueError.
    """
    plain = text.strip().lower().replace("−", "-")
    words = re.sub(r"[hdms:°'\"′″]", " ", plain).split()
    if plain.count(",") == 1 and "." not in plain:
        words[-1:] = [word.replace(",", ".") for word in words[-1:]]
    if not 1 <= len(words) <= 3:
        raise ValueError(f"“{text[:40]}” is not an angle")
    negative = words[0].startswith("-")
    try:
        parts = [float(word) for word in words]
    except ValueError as error:
        raise ValueError(f"“{text[:40]}” is not an angle") from error
    if not all(map(math.isfinite, parts)):
        raise ValueError(f"“{text[:40]}” is not an angle")
    if len(parts) == 1:
        return parts[0] * (15.0 if hours and plain.endswith("h") else 1.0)
    if any(not 0 <= part < 60 for part in parts[1:]):
        raise ValueError(f"“{text[:40]}”: minutes and seconds must be below 60")
    size = sum(abs(part) / 60**power for power, part in enumerate(parts))
    return (-size if negative else size) * (15.0 if hours else 1.0)


def right_ascension_deg(value: HeaderValue) -> float:
    """Degrees, from degrees or from hours, minutes and seconds."""
    angle = sexagesimal_deg(str(value), hours=True)
    if not 0 <= angle < 360:
        raise UnusableValueError
    return angle


def right_ascension_of_hours(value: HeaderValue) -> float:
    """Degrees from hours."""
    text = str(value)
    return (
        right_ascension_deg(text)
        if len(text.split()) > 1 or ":" in text
        else right_ascension_deg(float(text) * 15.0)
    )


def declination_deg(value: HeaderValue) -> float:
    """Degrees from −90 to 90."""
    angle = sexagesimal_deg(str(value), hours=False)
    if not -90 <= angle <= 90:
        raise UnusableValueError
    return angle


def longitude_deg(value: HeaderValue) -> float:
    """Degrees from −180 to 180."""
    return (sexagesimal_deg(str(value), hours=False) + 180.0) % 360.0 - 180.0


def colour_pattern(value: HeaderValue) -> str:
    """The colours of 2 × 2 pixels, row by row from the first."""
    text = re.sub(r"[^A-Za-z]", "", str(value)).upper().removeprefix("BAYER")
    if not is_pattern(text):
        raise UnusableValueError
    return text


def first_of(cards: Mapping[str, HeaderValue], rows: Rows) -> Reading[Any] | None:
    """What the first keyword that is there and usable gives."""
    for keyword, parse in rows:
        if keyword in cards:
            try:
                return Reading(parse(cards[keyword]), keyword)
            except (ValueError, TypeError, OverflowError):
                continue
    return None
