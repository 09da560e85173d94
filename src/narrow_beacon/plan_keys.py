"""The keys of a plan: what each may be, and how it is read."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from narrow_beacon.core.correct.defect_file import MOST_MARKS
from narrow_beacon.core.correct.defects import Mark
from narrow_beacon.core.correct.lean import LEAN, Lean
from narrow_beacon.core.curve.points import QUANTITIES
from narrow_beacon.core.frames.colour import CHANNELS
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.frame import Correction
from narrow_beacon.core.frames.header import KINDS
from narrow_beacon.core.frames.header_values import colour_pattern, sexagesimal_deg
from narrow_beacon.core.kits import COMBINATIONS, KitWord
from narrow_beacon.core.measure.flags import FLAG_WORDS
from narrow_beacon.core.measure.growth import RADII_FWHM
from narrow_beacon.core.stars.limits import QUALITIES, Limit
from narrow_beacon.core.transform_wish import GivenTerm

_MOST_LETTERS = 1000


@dataclass(frozen=True)
class RadiusRule:
    """How the aperture is chosen: by the data, fixed in pixels, or in units of the star width."""

    pixels: float | None = None
    widths: float | None = None


def text_of(value: Any) -> str:
    """Text of one line. Raises ValueError."""
    if not isinstance(value, str) or not value.strip():
        raise ValueError("must be text in quotes")
    if len(value) > _MOST_LETTERS or not value.strip().isprintable():
        raise ValueError(f"must be text of one line, of {_MOST_LETTERS} letters at most")
    return value.strip()


def _truth(value: Any) -> bool:
    if not isinstance(value, bool):
        raise ValueError("must be true or false")
    return value


def _texts(value: Any) -> tuple[str, ...]:
    values = value if isinstance(value, list) else [value]
    if not values:
        raise ValueError("must not be empty; leave it out instead")
    return tuple(text_of(item) for item in values)


def _number(low: float, high: float) -> Callable[[Any], float]:
    def parse(value: Any) -> float:
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise ValueError("must be a number")
        if not low <= value <= high:
            raise ValueError(f"is {value:g}, must be from {low:g} to {high:g}")
        return float(value)

    return parse


def _angle(low: float, high: float, *, hours: bool) -> Callable[[Any], float]:
    def parse(value: Any) -> float:
        if isinstance(value, bool) or not isinstance(value, int | float | str):
            raise ValueError('must be degrees or text such as "19 41 02.6"')
        angle = sexagesimal_deg(str(value), hours=hours)
        if not low <= angle <= high:
            raise ValueError(f"is {angle:g}°, must be from {low:g}° to {high:g}°")
        return angle

    return parse


def _choice(*words: str) -> Callable[[Any], str]:
    def parse(value: Any) -> str:
        if value not in words:
            raise ValueError(
                f"is {str(value)[:40]!r}, must be " + " or ".join(f'"{w}"' for w in words)
            )
        return str(value)

    return parse


def _words_of(known: tuple[str, ...]) -> Callable[[Any], tuple[str, ...]]:
    def parse(value: Any) -> tuple[str, ...]:
        words = _texts(value)
        for word in words:
            _choice(*known)(word)
        return words

    return parse


def radius_rule(value: Any) -> RadiusRule:
    """The rule that "auto", a number of pixels or "1.6 fwhm" stands for. Raises ValueError."""
    if value == "auto":
        return RadiusRule()
    if isinstance(value, int | float) and not isinstance(value, bool):
        return RadiusRule(pixels=_number(0.5, 100)(value))
    if isinstance(value, str) and re.fullmatch(r"\s*[\d.]+\s*", value):
        return RadiusRule(pixels=_number(0.5, 100)(float(value)))
    match = re.fullmatch(r"\s*([\d.]+)\s*fwhm\s*", str(value))
    if match:
        return RadiusRule(widths=_number(0.2, 10)(float(match.group(1))))
    raise ValueError('must be "auto", a number of pixels, or text such as "1.6 fwhm"')


def _steps(value: Any) -> dict[str, float]:
    """Of the usual set the radius of each filter, in star widths."""
    if not isinstance(value, dict) or not value:
        raise ValueError("must give star widths by filter: { V = 1.6, B = 1.85 }")
    for widths in value.values():
        if isinstance(widths, bool) or widths not in RADII_FWHM:
            usual = ", ".join(f"{one:g}" for one in RADII_FWHM)
            raise ValueError(f"has {str(widths)[:20]}, must be of {usual}")
    return {filter_name(name): float(widths) for name, widths in value.items()}


def annulus_radii(value: Any) -> tuple[float, float]:
    """Inner and outer radius of a sky ring. Raises ValueError."""
    if not isinstance(value, list) or len(value) != 2:
        raise ValueError("must be two numbers, inner and outer radius: [3.5, 5.5]")
    inner, outer = (_number(0.5, 500)(item) for item in value)
    if outer <= inner:
        raise ValueError(f"its outer radius {outer:g} must be beyond the inner {inner:g}")
    return inner, outer


def _marks(value: Any) -> tuple[Mark, ...]:
    """Rectangles of pixels, counted from 1: [x, y, width, height] each."""
    wanted = "must be a list of [x, y, width, height], in whole pixels counted from 1"
    if not isinstance(value, list) or len(value) > MOST_MARKS:
        raise ValueError(wanted)
    marks = []
    for one in value:
        whole = isinstance(one, list) and len(one) == 4
        if not whole or not all(type(n) is int and 1 <= n <= 100_000 for n in one):
            raise ValueError(wanted)
        marks.append((one[0] - 1, one[1] - 1, one[2], one[3]))
    return tuple(marks)


def _colours(value: Any) -> str:
    try:
        return colour_pattern(value)
    except ValueError as error:
        raise ValueError(
            'must be the colours of 2 × 2 pixels, row by row: "RGGB", "BGGR", "GRBG" or "GBRG"'
        ) from error


def _channels(value: Any) -> dict[str, str]:
    if not isinstance(value, dict) or not value or not set(value) <= set(CHANNELS):
        raise ValueError('must give bands to channels: { red = "R", green = "V", blue = "B" }')
    return {channel: text_of(band) for channel, band in value.items()}


SECOND_ORDER = "second_order_"
_TERM_KEYS: dict[str, Callable[[Any], Any]] = {
    "index": text_of, "coefficient": _number(-3, 3), "uncertainty": _number(0, 3),
}  # fmt: skip


def given_term(value: Any) -> GivenTerm:
    """A filter's coefficient. Raises ValueError with the first mistake."""
    if not isinstance(value, dict) or "coefficient" not in value:
        raise ValueError(
            'must be like { index = "B-V", coefficient = -0.04, uncertainty = 0.005 }, by filter'
        )
    for key in value:
        if key not in _TERM_KEYS:
            raise ValueError(f"{key}: no such key{like(key, _TERM_KEYS)}")
    try:
        read = {key: parse(value[key]) for key, parse in _TERM_KEYS.items() if key in value}
    except ValueError as error:
        raise ValueError(f"its values: {error}") from error
    if not re.fullmatch(r"\s*\S+\s*-\s*\S+\s*", read.get("index", "a-b")):
        raise ValueError('index must be two bands: "B-V"')
    return GivenTerm(**{**read, "index": read.get("index", "").replace(" ", "")})


def _extinction(value: Any) -> dict[str, float]:
    if not isinstance(value, dict) or not value:
        raise ValueError(
            "must give mag an airmass by filter: { V = 0.15, B = 0.26, second_order_B = -0.03 }"
        )
    return {key: _number(-2, 5)(number) for key, number in value.items()}


_LIMIT_KEYS = ("quality", "above", "below", "filter", "night")
_MOST_LIMITS = 200


def limits_of(value: Any) -> tuple[Limit, ...]:
    """Limits on the quality of exposures. Raises ValueError with the first mistake."""
    if not isinstance(value, list) or len(value) > _MOST_LIMITS:
        raise ValueError('must be a list such as [{ quality = "star width", above = 5.0 }]')
    return tuple(_limit(one) for one in value)


def _limit(one: Any) -> Limit:
    if not isinstance(one, dict):
        raise ValueError('must be a list such as [{ quality = "star width", above = 5.0 }]')
    for key in one:
        if key not in _LIMIT_KEYS:
            raise ValueError(f"{key}: no such key{like(key, dict.fromkeys(_LIMIT_KEYS))}")
    quality = _choice(*QUALITIES)(one.get("quality"))
    if ("above" in one) == ("below" in one):
        raise ValueError(f"on {quality} must say above or below what, and not both")
    side = "above" if "above" in one else "below"
    number = _number(-1e9, 1e9)(one[side])
    night = one.get("night", "")
    if not isinstance(night, str) or not re.fullmatch(r"(\d{4}-\d\d-\d\d)?", night):
        raise ValueError('night must be the date of its evening: "2026-09-20"')
    name = filter_name(text_of(one["filter"])) if one.get("filter") else ""
    return Limit(quality, **{side: number}, filter=name, night=night)


def _reasons(value: Any) -> dict[str, str]:
    if not isinstance(value, dict) or not value:
        raise ValueError('must give reasons by file: { "raw/a.fits" = "a lamp was on" }')
    return {text_of(name): text_of(reason) for name, reason in value.items()}


def _fields(value: Any) -> dict[str, str]:
    if not isinstance(value, dict):
        raise ValueError('must give the layout\'s own fields: { observer = "…" }')
    return {text_of(name): text_of(words) for name, words in value.items()}


def _columns(value: Any) -> dict[str, str]:
    if not isinstance(value, dict) or not value:
        raise ValueError('must name columns by meaning or band: { ra = "RAJ2000", V = "Vmag" }')
    for key, name in value.items():
        if not isinstance(name, str) or len(name) > _MOST_LETTERS:
            raise ValueError(f"{key} must be a column's name in quotes, or empty for none")
    return dict(value)


def kit_word(name: str, said: Any) -> KitWord:
    """What is said of one kit. Raises ValueError with the first mistake."""
    if not isinstance(said, dict):
        raise ValueError(f'must be a section of its own, [kits."{name}"]')
    return KitWord(**_inner(said, _KIT_KEYS))


def _inner(said: dict[str, Any], keys: dict[str, Callable[[Any], Any]]) -> dict[str, Any]:
    """The values of a section of a name. Raises ValueError with the first mistake."""
    values = {}
    for key, value in said.items():
        parse = keys.get(key)
        if parse is None:
            raise ValueError(f"{key}: no such key{like(key, keys)}")
        try:
            values[key] = parse(value)
        except ValueError as error:
            raise ValueError(f"{key} {error}") from error
    return values


RULE_KEYS: dict[str, Callable[[Any], Any]] = {
    "exposure_tolerance": _number(0, 0.5),
    "temperature_tolerance_c": _number(0, 50),
    "lasts_days": _number(1, 10_000),
    "combine": _choice(*COMBINATIONS),
    "clip_sigma": _number(2, 20),
}
_KIT_KEYS: dict[str, Callable[[Any], Any]] = {
    "gain_e_per_adu": _number(1e-3, 1e3),
    "read_noise_e": _number(0, 1e3),
    "linear_limit_adu": _number(1, 1e9),
    "scale_arcsec_per_px": _number(0.01, 300),
    **RULE_KEYS,
    "defect_threshold": _number(3, 1e6),
    "marks": _marks,
}
VET_RULE_KEYS: dict[str, Callable[[Any], Any]] = {
    "width": _number(1.05, 100),
    "elongation": _number(1.05, 100),
    "light": _number(0, 1),
    "sky": _number(1.1, 1e6),
    "shade": _number(0, 0.7),
}


def _moment(value: Any) -> datetime:
    """A moment in UTC, as TOML has it or as text."""
    if isinstance(value, str):
        try:
            value = datetime.fromisoformat(value)
        except ValueError as error:
            raise ValueError('must be a moment in UTC: "2026-09-20T21:14:30"') from error
    if not isinstance(value, datetime):
        raise ValueError('must be a moment in UTC: "2026-09-20T21:14:30"')
    return value.astimezone(UTC).replace(tzinfo=None) if value.tzinfo else value


_FILE_KEYS: dict[str, Callable[[Any], Any]] = {
    "kind": _choice(*KINDS),
    "filter": text_of,
    "exposure_s": _number(0, 1e6),
    "time_utc": _moment,
    "shift_s": _number(-1e9, 1e9),
    "moment": _choice("start", "middle", "end"),
    "temperature_c": _number(-200, 100),
    "gain_setting": _number(0, 1e6),
    "offset_setting": _number(0, 1e6),
    "camera": text_of,
    "telescope": text_of,
    "ra_deg": _angle(0, 360, hours=True),
    "dec_deg": _angle(-90, 90, hours=False),
}


def file_word(said: Any) -> Correction:
    """What is said of one file in place of its header. Raises ValueError with the first mistake."""
    if not isinstance(said, dict) or not said:
        raise ValueError('must be like { kind = "dark", exposure_s = 120.0 }')
    return Correction(**_inner(said, _FILE_KEYS))


def picked_masters(said: Any) -> dict[str, str]:
    """The masters of a chain by step, by their keys. Raises ValueError with the first mistake."""
    if not isinstance(said, dict) or not said:
        raise ValueError('must be like { dark = "none", flat = "the key of a flat" }')
    return _inner(said, _STEPS)


def _lean(said: Any) -> str:
    return Lean.of(text_of(said)).text


_STEPS: dict[str, Callable[[Any], Any]] = {
    **dict.fromkeys(("bias", "dark", "flat"), text_of), LEAN: _lean,
}  # fmt: skip
CAST_KEYS: dict[str, Callable[[Any], Any]] = {"comparison": _texts, "check": _texts}
KEYS: dict[str, dict[str, Callable[[Any], Any]]] = {
    "frames": {"folder": _texts, "library": text_of, "filter": text_of, "leave_out": _texts},
    "catalogue": {
        "file": text_of,
        "cone": _texts,
        "epoch": _number(1800, 2200),
        "merge": _truth,
        "columns": _columns,
        "variables": text_of,
        "cache": text_of,
    },
    "site": {
        "latitude_deg": _angle(-90, 90, hours=False),
        "longitude_deg": _angle(-180, 360, hours=False),
        "elevation_m": _number(-500, 9000),
    },
    "kit": {
        "gain_e_per_adu": _number(1e-3, 1e3),
        "read_noise_e": _number(0, 1e3),
        "linear_limit_adu": _number(1, 1e9),
        "scale_arcsec_per_px": _number(0.01, 300),
        **RULE_KEYS,
        "aperture_m": _number(0.01, 50),
        "timestamp": _choice("start", "middle"),
        "clock_offset_s": _number(-1e6, 1e6),
    },
    "target": {
        "name": text_of,
        "ra": _angle(0, 360, hours=True),
        "dec": _angle(-90, 90, hours=False),
        "colour": _number(-3, 10),
        **CAST_KEYS,
    },
    "transform": {"apply": _truth, "extinction": _extinction},
    "kits": {},
    "files": {},
    "masters": {},
    "bands": {},
    "defects": {"threshold": _number(3, 1e6), "marks": _marks, "map": text_of},
    "colour_sensor": {"pattern": _colours, "channels": _channels},
    "vet": {**VET_RULE_KEYS, "limits": limits_of, "keep": _texts, "set_aside": _reasons},
    "cast": CAST_KEYS,
    "sequence": {
        "file": text_of,
        "chart": text_of,
        "epoch": _number(1800, 2200),
        "columns": _columns,
    },
    "measure": {
        "radius": radius_rule,
        "steps": _steps,
        "annulus": annulus_radii,
        "unit": _choice("px", "fwhm"),
        "floor": _truth,
    },
    "points": {
        "most_uncertainty": _number(1e-4, 5),
        "check_off": _number(0.5, 1000),
        "without": _words_of(tuple(FLAG_WORDS.values())),
        "take_out": _words_of(QUANTITIES),
        "nights_alike": _truth,
    },
    "output": {
        "folder": text_of,
        "layout": text_of,
        "doubtful": _truth,
        "fields": _fields,
        "sheet": _truth,
    },
}
"""How the values of each section's keys are read; each reader raises ValueError."""


def like(word: str, known: dict[str, Any]) -> str:
    """A hint at what was meant by an unknown word."""
    close = [key for key in known if key.startswith(word) or word.startswith(key)]
    close = close or difflib.get_close_matches(word, known, n=1, cutoff=0.5)
    return f"; did you mean {close[0]}?" if close else f"; there are {', '.join(known)}"
