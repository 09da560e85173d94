"""The plan of a reduction: a TOML file, read with all its mistakes at once."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from narrow_beacon.core.catalogue.files import read_catalogue
from narrow_beacon.core.catalogue.table import StarTable
from narrow_beacon.core.correct.defects import USUAL_DEFECTS, DefectRule, Mark
from narrow_beacon.core.curve.time import Site
from narrow_beacon.core.errors import BeaconError, CatalogueError
from narrow_beacon.core.frames.colour import CHANNELS
from narrow_beacon.core.frames.filters import filter_name
from narrow_beacon.core.frames.header_values import colour_pattern, sexagesimal_deg
from narrow_beacon.core.gate import OPEN, Gate, OutsideError
from narrow_beacon.core.report.layout import LayoutError, read_layout

_MOST_LETTERS = 1000
_MOST_BYTES = 1_000_000
_MOST_MARKS = 2000


class PlanError(BeaconError):
    """An unusable plan: ``mistakes`` holds one line for each."""

    def __init__(self, mistakes: list[str]) -> None:
        super().__init__("\n".join(mistakes))
        self.mistakes = mistakes


@dataclass(frozen=True)
class RadiusRule:
    """How the aperture is chosen: by the data, fixed in pixels, or in units of the star width."""

    pixels: float | None = None
    widths: float | None = None


@dataclass(frozen=True)
class Plan:
    """What to reduce and how. Absent values are None; see docs/formats.md."""

    path: Path
    text: str
    folders: tuple[Path, ...]
    library: Path | None = None
    default_filter: str | None = None
    catalogue_file: Path | None = None
    cone_url: str | None = None
    epoch_yr: float | None = None
    site: Site | None = None
    gain_e_per_adu: float | None = None
    read_noise_e: float | None = None
    linear_limit_adu: float | None = None
    aperture_m: float | None = None
    scale_arcsec_per_px: float | None = None
    timestamp: str = "start"
    clock_offset_s: float = 0.0
    target_name: str | None = None
    target_ra_deg: float | None = None
    target_dec_deg: float | None = None
    target_sure: bool = True
    """False where name and position are only what the headers say the telescope pointed at."""
    bands: Mapping[str, str] = field(default_factory=dict)
    """The catalogue's band by the filter's name, where the observer says so."""
    defects: DefectRule = USUAL_DEFECTS
    pattern: str | None = None
    """The colour pattern of the sensor, in place of the headers'."""
    comparison: tuple[str, ...] = ()
    check: str | None = None
    radius: RadiusRule = field(default_factory=RadiusRule)
    annulus: tuple[float, float] = (3.5, 5.5)
    annulus_in_pixels: bool = False
    output: Path = Path("out")
    layout: str = "plain"
    doubtful: bool = False
    """Whether doubtful points are reported too."""
    stars: StarTable | None = None
    """The catalogue, where it came from a file."""

    @property
    def base(self) -> Path:
        """The folder that the plan's paths are relative to."""
        return self.path.parent

    def line_of(self, section: str, key: str) -> int:
        """The line on which a key stands, or that of its section, or 1."""
        return _line_of(self.text, section, key)


def _text(value: Any) -> str:
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
    return tuple(_text(item) for item in values)


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
    if not isinstance(value, list) or len(value) > _MOST_MARKS:
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
    return {channel: _text(band) for channel, band in value.items()}


_KEYS: dict[str, dict[str, Callable[[Any], Any]]] = {
    "frames": {"folder": _texts, "library": _text, "filter": _text},
    "catalogue": {"file": _text, "cone": _text, "epoch": _number(1800, 2200)},
    "site": {
        "latitude_deg": _angle(-90, 90, hours=False),
        "longitude_deg": _angle(-180, 360, hours=False),
        "elevation_m": _number(-500, 9000),
    },
    "kit": {
        "gain_e_per_adu": _number(1e-3, 1e3),
        "read_noise_e": _number(0, 1e3),
        "linear_limit_adu": _number(1, 1e9),
        "aperture_m": _number(0.01, 50),
        "scale_arcsec_per_px": _number(0.01, 300),
        "timestamp": _choice("start", "middle"),
        "clock_offset_s": _number(-1e6, 1e6),
    },
    "target": {
        "name": _text,
        "ra": _angle(0, 360, hours=True),
        "dec": _angle(-90, 90, hours=False),
    },
    "bands": {},
    "defects": {"threshold": _number(3, 1e6), "marks": _marks},
    "colour_sensor": {"pattern": _colours, "channels": _channels},
    "cast": {"comparison": _texts, "check": _text},
    "measure": {"radius": radius_rule, "annulus": annulus_radii, "unit": _choice("px", "fwhm")},
    "output": {"folder": _text, "layout": _text, "doubtful": _truth},
}


_PATHS = (
    ("frames", "folder"), ("frames", "library"), ("catalogue", "file"), ("output", "layout"),
)  # fmt: skip


class _Notes:
    """Collects mistakes with the line of the plan that each is about."""

    def __init__(self, path: Path, text: str) -> None:
        self._path = path
        self._text = text
        self._found: list[tuple[int, str]] = []

    def add(self, section: str, key: str, words: str) -> None:
        line = _line_of(self._text, section, key)
        place = f"[{section}] {key}".strip()
        self._found.append((line, f"{self._path.name}:{line}: {place}: {words}"))

    def lines(self) -> list[str]:
        return [words for _, words in sorted(self._found, key=lambda item: item[0])]


def _line_of(text: str, section: str, key: str) -> int:
    found = 1
    current = ""
    for number, line in enumerate(text.splitlines(), 1):
        header = re.match(r"\s*\[\s*([\w-]+)\s*\]", line)
        if header:
            current = header.group(1)
            if current == section:
                found = number
        elif current == section and key and re.match(rf"\s*\"?{re.escape(key)}\"?\s*=", line):
            return number
    return found


def read_plan(path: Path, gate: Gate = OPEN) -> Plan:
    """Read and check a plan, its catalogue file and the names in its cast; ``gate`` says which
    files it may name.

    Raises PlanError with every mistake found.
    """
    try:
        gate.check(path)
        if path.stat().st_size > _MOST_BYTES:
            raise PlanError([f"{path}: larger than any plan is"])
        text = path.read_text(encoding="utf-8")
    except OutsideError as error:
        raise PlanError([str(error)]) from error
    except OSError as error:
        raise PlanError([f"{path}: cannot be opened ({error.strerror})"]) from error
    except UnicodeDecodeError as error:
        raise PlanError([f"{path}: is not a text file in UTF-8"]) from error
    try:
        document = tomllib.loads(text)
    except RecursionError as error:
        raise PlanError([f"{path.name}:1: not a plan: it is nested too deeply"]) from error
    except tomllib.TOMLDecodeError as error:
        line = re.search(r"at line (\d+)", str(error))
        where = line.group(1) if line else "1"
        raise PlanError([f"{path.name}:{where}: not TOML: {str(error)[:200]}"]) from error
    notes = _Notes(path, text)
    values = _parse(document, notes)
    _keep_inside(path.resolve().parent, values, notes, gate)
    plan = _assemble(path.resolve(), text, values, notes)
    plan = _check_catalogue(plan, values, notes)
    mistakes = notes.lines()
    if mistakes:
        raise PlanError(mistakes)
    return plan


def _parse(document: dict[str, Any], notes: _Notes) -> dict[tuple[str, str], Any]:
    values: dict[tuple[str, str], Any] = {}
    for section, content in document.items():
        if section not in _KEYS:
            notes.add(section, "", f"no such section{_like(section, _KEYS)}")
            continue
        if not isinstance(content, dict):
            notes.add(section, "", "must be a section of its own, [" + section + "]")
            continue
        for key, value in content.items():
            parse = _text if section == "bands" else _KEYS[section].get(key)
            if parse is None:
                notes.add(section, key, f"no such key{_like(key, _KEYS[section])}")
                continue
            try:
                values[section, key] = parse(value)
            except ValueError as error:
                notes.add(section, key, str(error))
                values[section, key] = None
    return values


def _keep_inside(base: Path, values: dict[tuple[str, str], Any], notes: _Notes, gate: Gate) -> None:
    """Note every path that leads out of what may be read, and take it out before it is read."""
    for place in _PATHS:
        given = values.get(place)
        for name in (given,) if isinstance(given, str) else given or ():
            try:
                gate.check(base / name)
            except OutsideError as error:
                notes.add(*place, str(error))
                values[place] = None


def _like(word: str, known: dict[str, Any]) -> str:
    close = [key for key in known if key.startswith(word) or word.startswith(key)]
    close = close or difflib.get_close_matches(word, known, n=1, cutoff=0.5)
    return f"; did you mean {close[0]}?" if close else f"; there are {', '.join(known)}"


def _assemble(path: Path, text: str, values: dict[tuple[str, str], Any], notes: _Notes) -> Plan:
    base = path.parent

    def get(section: str, key: str, default: Any = None) -> Any:
        value = values.get((section, key))
        return default if value is None else value

    folders = tuple(base / name for name in get("frames", "folder", ()))
    if ("frames", "folder") not in values:
        notes.add("frames", "folder", "is missing: the folder of the night's files")
    for folder in folders:
        if not folder.is_dir():
            notes.add("frames", "folder", f"there is no folder {folder}")
    library = base / get("frames", "library") if get("frames", "library") else None
    if library and not library.is_dir():
        notes.add("frames", "library", f"there is no folder {library}")
    site = None
    if get("site", "latitude_deg") is not None and get("site", "longitude_deg") is not None:
        site = Site(
            get("site", "latitude_deg"),
            get("site", "longitude_deg"),
            get("site", "elevation_m", 0.0),
        )
    elif any(section == "site" for section, _ in values):
        notes.add("site", "", "needs both latitude_deg and longitude_deg")
    if (get("target", "ra") is None) != (get("target", "dec") is None):
        notes.add("target", "ra", "give both ra and dec, or neither")
    layout = get("output", "layout", "plain")
    try:
        read_layout(layout, base)
    except LayoutError as error:
        notes.add("output", "layout", str(error))
    file = get("catalogue", "file")
    return Plan(
        path=path,
        text=text,
        folders=folders,
        library=library,
        default_filter=get("frames", "filter"),
        catalogue_file=base / file if file else None,
        cone_url=get("catalogue", "cone"),
        epoch_yr=get("catalogue", "epoch"),
        site=site,
        gain_e_per_adu=get("kit", "gain_e_per_adu"),
        read_noise_e=get("kit", "read_noise_e"),
        linear_limit_adu=get("kit", "linear_limit_adu"),
        aperture_m=get("kit", "aperture_m"),
        scale_arcsec_per_px=get("kit", "scale_arcsec_per_px"),
        timestamp=get("kit", "timestamp", "start"),
        clock_offset_s=get("kit", "clock_offset_s", 0.0),
        target_name=get("target", "name"),
        target_ra_deg=get("target", "ra"),
        target_dec_deg=get("target", "dec"),
        bands={
            **get("colour_sensor", "channels", {}),
            **{
                filter_name(key): value
                for (section, key), value in values.items()
                if section == "bands" and value
            },
        },
        pattern=get("colour_sensor", "pattern"),
        defects=DefectRule(
            get("defects", "threshold", USUAL_DEFECTS.threshold), get("defects", "marks", ())
        ),
        comparison=get("cast", "comparison", ()),
        check=get("cast", "check"),
        radius=get("measure", "radius", RadiusRule()),
        annulus=get("measure", "annulus", (3.5, 5.5)),
        annulus_in_pixels=get("measure", "unit", "fwhm") == "px",
        output=base / get("output", "folder", "out"),
        layout=layout,
        doubtful=get("output", "doubtful", False),
    )


def _check_catalogue(plan: Plan, values: dict[tuple[str, str], Any], notes: _Notes) -> Plan:
    given = [key for key in ("file", "cone") if ("catalogue", key) in values]
    if len(given) != 1:
        words = "give either file or cone" + (
            ", not both" if given else ": a star catalogue is needed"
        )
        notes.add("catalogue", "cone" if given else "", words)
        return plan
    if plan.cone_url is not None:
        if not re.match(r"https?://", plan.cone_url):
            notes.add(
                "catalogue", "cone", "must be an address that starts with http:// or https://"
            )
        return plan
    if plan.catalogue_file is None:
        return plan
    try:
        stars = read_catalogue(plan.catalogue_file, plan.epoch_yr)
    except CatalogueError as error:
        notes.add("catalogue", "file", str(error))
        return plan
    for key, words in cast_mistakes(plan, stars):
        notes.add("target" if key == "name" else "cast", key, words)
    return Plan(**{**plan.__dict__, "stars": stars})


def cast_mistakes(plan: Plan, stars: StarTable) -> list[tuple[str, str]]:
    """(key, words) for every name in the plan that the catalogue doesn't know, or that has two
    roles.
    """
    mistakes = []
    if plan.target_name is not None and plan.target_ra_deg is None:
        mistakes += _unknown(
            stars, "name", plan.target_name, "; give ra and dec for a star it lacks"
        )
    for name in plan.comparison:
        mistakes += _unknown(stars, "comparison", name, "")
        if name in (plan.target_name, plan.check):
            mistakes.append(("comparison", f"“{name}” has another role already"))
    if plan.check is not None:
        mistakes += _unknown(stars, "check", plan.check, "")
        if plan.check == plan.target_name:
            mistakes.append(("check", f"“{plan.check}” is the target"))
    return mistakes


def _unknown(stars: StarTable, key: str, name: str, advice: str) -> list[tuple[str, str]]:
    try:
        stars.row(name)
    except CatalogueError as error:
        return [(key, f"{error}{advice}")]
    return []
