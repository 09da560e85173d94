"""Report layouts: a description of a report's format, read and checked.

A layout is a TOML file of our own design; docs/formats.md defines it. ``render`` writes reports.
"""

from __future__ import annotations

import math
import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from importlib import resources
from pathlib import Path

from narrow_beacon.core.curve.light_curve import GOOD
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.report.light_curve import COLUMNS, CurvePoint

MORE_VALUES = (
    "comparison_name", "comparison_known", "comparison_instrumental", "check_name", "check_known",
    "check_instrumental", "chart", "transformed", "count", "night", "number", "group", "action",
)  # fmt: skip
"""What a column can have besides the columns of the light curve."""
BY_UNCERTAINTY = -1
"""For ``digits``: as many as the uncertainty deserves."""
ROWS = ("point", "night", "comparison")
QUOTES = ("never", "needed", "always")
LINE_ENDS = {"lf": "\n", "crlf": "\r\n"}
ENCODINGS = ("utf-8", "ascii", "latin-1")
ACTIONS = ("add", "replace", "delete")
_MOST_BYTES = 1_000_000
_MOST_LETTERS = 2000
_MOST_DIGITS = 15
_MOST_WIDTH = 200
_MOST_NAMES = 200
PLACE = re.compile(r"\{(\w+)(?::(\d+))?\}")
"""A value's place in a column's pattern, with its decimals."""


class LayoutError(BeaconError):
    """A layout that cannot be used."""


@dataclass(frozen=True)
class LayoutColumn:
    """A column: its title; the value, fixed text, field of the observer's or pattern of several;
    decimals; what stands for a missing value; width and side; what is taken off a number; the
    pattern of a calendar date; words that stand for values.
    """

    title: str
    value: str
    text: str
    field: str
    pattern: str
    """Text with values in it, as "{check_name} {airmass:2}"."""
    digits: int | None
    missing: str
    width: int
    left: bool
    minus: float
    date: str
    words: Mapping[str, str]
    limit: str
    """What stands before a limit, in the column of the magnitude."""


@dataclass(frozen=True)
class Layout:
    """Header and footer lines with {fields}, a separator, columns, whether their titles are
    written, and how text becomes a file. ``fields`` are the observer's own, with what they are
    unless said; ``filters`` renames filters; ``ensemble`` is the name of several comparison stars;
    ``actions`` are the words for points that are new, replaced and deleted.
    """

    name: str
    header: tuple[str, ...]
    separator: str
    titles: bool
    columns: tuple[LayoutColumn, ...]
    footer: tuple[str, ...] = ()
    rows: str = "point"
    quote: str = "never"
    line_end: str = "lf"
    encoding: str = "utf-8"
    limits: bool = False
    ensemble: str = "ensemble"
    filters: Mapping[str, str] = field(default_factory=dict)
    fields: Mapping[str, str] = field(default_factory=dict)
    actions: Mapping[str, str] = field(default_factory=dict)
    said_of: str = ""
    """What it is for, in a line."""

    @cached_property
    def magnitude(self) -> str:
        """Which of the target's magnitudes goes out."""
        values = {column.value for column in self.columns}
        standard = "transformed_magnitude"
        return standard if standard in values and "magnitude" not in values else "magnitude"

    @property
    def uncertainty(self) -> str:
        """That of ``magnitude``."""
        return self.magnitude.replace("magnitude", "uncertainty")

    def missing_fields(self, said: Mapping[str, str]) -> list[str]:
        """The observer's fields that have nothing in them."""
        return [name for name, usual in self.fields.items() if not (said.get(name) or usual)]


def shipped_layouts() -> list[str]:
    """Names of the layouts that come along."""
    folder = resources.files(__package__) / "layouts"
    return sorted(entry.name.removesuffix(".toml") for entry in folder.iterdir())


def layout_text(name_or_path: str, folder: Path) -> str:
    """The text of a layout that comes along, by name, or of a file, relative to ``folder``. Raises
    LayoutError.
    """
    shipped = resources.files(__package__) / "layouts" / f"{name_or_path}.toml"
    path = folder / name_or_path
    if "/" not in name_or_path and shipped.is_file():
        return shipped.read_text(encoding="utf-8")
    if not path.is_file():
        raise LayoutError(
            f"no layout “{name_or_path}”: neither one of ours ({', '.join(shipped_layouts())}) nor "
            "a file"
        )
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise LayoutError(f"layout {name_or_path}: larger than any layout is")
        return path.read_text(encoding="utf-8")
    except OSError as error:
        raise LayoutError(f"layout {name_or_path}: cannot be opened ({error.strerror})") from error
    except UnicodeDecodeError as error:
        raise LayoutError(f"layout {name_or_path}: is not a text file in UTF-8") from error


def read_layout(name_or_path: str, folder: Path) -> Layout:
    """A layout that ships with the program, by name, or a file, relative to ``folder``.

    Raises LayoutError with every mistake.
    """
    return parse_layout(layout_text(name_or_path, folder), name_or_path)


def parse_layout(text: str, label: str) -> Layout:
    """A layout from its text. Raises LayoutError with every mistake."""
    if len(text) > _MOST_BYTES:
        raise LayoutError(f"layout {label}: larger than any layout is")
    try:
        values = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise LayoutError(f"layout {label}: not TOML: {str(error)[:200]}") from error
    return _parse(values, label)


class _Reader:
    """Takes values out of a table of the layout, and collects what is wrong with them."""

    def __init__(self, values: Mapping[str, object], where: str, mistakes: list[str]) -> None:
        self._values, self._where, self._mistakes = values, where, mistakes

    def text(self, key: str, default: str) -> str:
        """A text of a line at most."""
        value = self._values.get(key, default)
        if not isinstance(value, str) or len(value) > _MOST_LETTERS or "\n" in value:
            self._mistakes.append(f"{self._where}{key} must be text of one line")
            return default
        return value

    def one_of(self, key: str, default: str, words: Sequence[str]) -> str:
        """One of some words."""
        value = self._values.get(key, default)
        if value not in words:
            self._mistakes.append(f"{self._where}{key} must be one of {', '.join(words)}")
            return default
        return str(value)

    def whole(self, key: str, default: int | None, most: int) -> int | None:
        """A whole number from 0 to ``most``."""
        value = self._values.get(key, default)
        if value is None:
            return None
        if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value <= most:
            self._mistakes.append(f"{self._where}{key} must be a whole number from 0 to {most}")
            return default
        return value

    def digits(self) -> int | None:
        """Decimals, or the word "uncertainty"."""
        if self._values.get("digits") == "uncertainty":
            return BY_UNCERTAINTY
        return self.whole("digits", None, _MOST_DIGITS)

    def number(self, key: str) -> float:
        """A finite number, 0 where there is none."""
        value = self._values.get(key, 0.0)
        if not isinstance(value, (int, float)) or isinstance(value, bool) or abs(value) > 1e9:
            self._mistakes.append(f"{self._where}{key} must be a number")
            return 0.0
        return float(value) if math.isfinite(value) else 0.0

    def truth(self, key: str, default: bool) -> bool:
        """true or false."""
        value = self._values.get(key, default)
        if not isinstance(value, bool):
            self._mistakes.append(f"{self._where}{key} must be true or false")
            return default
        return value

    def names(self, key: str) -> dict[str, str]:
        """A table of texts."""
        value = self._values.get(key, {})
        if (
            not isinstance(value, dict)
            or len(value) > _MOST_NAMES
            or not all(
                isinstance(v, str) and len(v) <= _MOST_LETTERS and "\n" not in v
                for v in value.values()
            )
        ):
            self._mistakes.append(f"{self._where}{key} must be a table of texts")
            return {}
        return dict(value)

    def lines(self, key: str) -> tuple[str, ...]:
        """Lines of text."""
        value = self._values.get(key, [])
        lines = value if isinstance(value, list) else [value]
        if not all(isinstance(line, str) and len(line) <= _MOST_LETTERS for line in lines):
            self._mistakes.append(f"{self._where}{key} must be lines of text")
            return ()
        return tuple(str(line).replace("\n", " ") for line in lines)


def _parse(values: Mapping[str, object], label: str) -> Layout:
    mistakes: list[str] = []
    whole = _Reader(values, "", mistakes)
    fields = whole.names("fields")
    columns = _columns(values, fields, mistakes)
    layout = Layout(
        name=whole.text("name", label), header=whole.lines("header"),
        separator=whole.text("separator", ","), titles=whole.truth("titles", True),
        columns=columns, footer=whole.lines("footer"), rows=whole.one_of("rows", "point", ROWS),
        quote=whole.one_of("quote", "never", QUOTES),
        line_end=whole.one_of("line_end", "lf", tuple(LINE_ENDS)),
        encoding=whole.one_of("encoding", "utf-8", ENCODINGS), limits=whole.truth("limits", False),
        ensemble=whole.text("ensemble", "ensemble"), filters=whole.names("filters"), fields=fields,
        actions=whole.names("actions"), said_of=whole.text("about", ""),
    )  # fmt: skip
    unknown = set(layout.actions) - set(ACTIONS)
    if unknown:
        mistakes.append(f"actions: no “{sorted(unknown)[0]}”; there are {', '.join(ACTIONS)}")
    if layout.rows == "comparison" and layout.magnitude != "magnitude":
        mistakes.append("rows by comparison star are not on the standard scale: take magnitude")
    if mistakes:
        raise LayoutError(f"layout {label}: " + "; ".join(mistakes))
    return layout


def _columns(
    values: Mapping[str, object], fields: Mapping[str, str], mistakes: list[str]
) -> tuple[LayoutColumn, ...]:
    raw = values.get("column", [])
    if not isinstance(raw, list) or not all(isinstance(item, dict) for item in raw):
        mistakes.append("columns are tables: begin each with [[column]]")
        raw = []
    columns = []
    for number, item in enumerate(raw, 1):
        own = _Reader(item, f"column {number}: ", mistakes)
        value, text, said = own.text("value", ""), own.text("text", ""), own.text("field", "")
        pattern = own.text("pattern", "")
        known = (*COLUMNS, *MORE_VALUES)
        named = [value] if value else [found[1] for found in PLACE.finditer(pattern)]
        unknown = [name for name in named if name not in known and name not in fields]
        if sum(map(bool, (value, text, said, pattern))) != 1:
            mistakes.append(f"column {number}: give one of value, text, field and pattern")
        elif unknown or (value and value not in known):
            mistakes.append(
                f"column {number}: no value “{(unknown or named)[0]}”; there are {', '.join(known)}"
            )
        elif said and said not in fields:
            mistakes.append(f"column {number}: no field “{said}” under [fields]")
        columns.append(
            LayoutColumn(
                title=own.text("title", value or said), value=value, text=text, field=said,
                pattern=pattern, digits=own.digits(), missing=own.text("missing", ""),
                width=own.whole("width", 0, _MOST_WIDTH) or 0,
                left=own.one_of("align", "right", ("right", "left")) == "left",
                minus=own.number("minus"), date=own.text("date", ""), words=own.names("words"),
                limit=own.text("limit", "<"),
            )
        )  # fmt: skip
    if not columns:
        mistakes.append("it has no [[column]]")
    return tuple(columns)


def reported(
    points: Sequence[CurvePoint], doubtful: bool, layout: Layout | None = None
) -> list[CurvePoint]:
    """The points that are handed in: those with a magnitude that are good, and ``doubtful`` ones
    where the observer wants them; limits where the layout has them. It is the magnitude that the
    layout has: one on the standard scale where it has that.
    """
    value = "magnitude" if layout is None else layout.magnitude
    limits = layout is not None and layout.limits

    def goes(point: CurvePoint) -> bool:
        if math.isfinite(getattr(point, value)):
            return doubtful or point.state == GOOD
        unseen = not math.isfinite(point.magnitude) and math.isfinite(point.limit_magnitude)
        return limits and unseen

    return [point for point in points if goes(point)]
