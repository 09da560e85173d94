"""Report layouts: a description of a report's format, and the report written by it.

A layout is a TOML file of our own design; docs/formats.md defines it.
"""

from __future__ import annotations

import math
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from narrow_beacon.core.curve.light_curve import GOOD
from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.report.light_curve import COLUMNS, CurvePoint

_MOST_BYTES = 1_000_000
_MOST_LETTERS = 2000
_MOST_DIGITS = 15
_MOST_WIDTH = 200


class LayoutError(BeaconError):
    """A layout that cannot be used."""


@dataclass(frozen=True)
class LayoutColumn:
    """A column: its title, the value or fixed text, format, and what stands for a missing value."""

    title: str
    value: str
    text: str
    digits: int | None
    missing: str
    width: int


@dataclass(frozen=True)
class Layout:
    """Header lines with {fields}, a separator, columns, and whether their titles are written."""

    name: str
    header: tuple[str, ...]
    separator: str
    titles: bool
    columns: tuple[LayoutColumn, ...]

    @property
    def magnitude(self) -> str:
        """Which of the target's magnitudes goes out."""
        values = {column.value for column in self.columns}
        standard = "transformed_magnitude"
        return standard if standard in values and "magnitude" not in values else "magnitude"

    @property
    def uncertainty(self) -> str:
        """That of ``magnitude``."""
        return self.magnitude.replace("magnitude", "uncertainty")


def read_layout(name_or_path: str, folder: Path) -> Layout:
    """A layout that ships with the program, by name, or a file, relative to ``folder``.

    Raises LayoutError with every mistake.
    """
    shipped = resources.files(__package__) / "layouts" / f"{name_or_path}.toml"
    path = folder / name_or_path
    if "/" not in name_or_path and shipped.is_file():
        text = shipped.read_text(encoding="utf-8")
    elif path.is_file():
        text = _text_of(path, name_or_path)
    else:
        known = sorted(
            entry.name.removesuffix(".toml")
            for entry in (resources.files(__package__) / "layouts").iterdir()
        )
        raise LayoutError(
            f"no layout “{name_or_path}”: neither one of ours ({', '.join(known)}) nor a file"
        )
    try:
        values = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise LayoutError(f"layout {name_or_path}: not TOML: {str(error)[:200]}") from error
    return _parse(values, name_or_path)


def _text_of(path: Path, name: str) -> str:
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise LayoutError(f"layout {name}: larger than any layout is")
        return path.read_text(encoding="utf-8")
    except OSError as error:
        raise LayoutError(f"layout {name}: cannot be opened ({error.strerror})") from error
    except UnicodeDecodeError as error:
        raise LayoutError(f"layout {name}: is not a text file in UTF-8") from error


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

    def whole(self, key: str, default: int | None, most: int) -> int | None:
        """A whole number from 0 to ``most``."""
        value = self._values.get(key, default)
        if value is None:
            return None
        if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value <= most:
            self._mistakes.append(f"{self._where}{key} must be a whole number from 0 to {most}")
            return default
        return value

    def truth(self, key: str, default: bool) -> bool:
        """true or false."""
        value = self._values.get(key, default)
        if not isinstance(value, bool):
            self._mistakes.append(f"{self._where}{key} must be true or false")
            return default
        return value


def _parse(values: Mapping[str, object], label: str) -> Layout:
    mistakes: list[str] = []
    columns = []
    raw = values.get("column", [])
    if not isinstance(raw, list) or not all(isinstance(item, dict) for item in raw):
        mistakes.append("columns are tables: begin each with [[column]]")
        raw = []
    for number, item in enumerate(raw, 1):
        own = _Reader(item, f"column {number}: ", mistakes)
        value, text = own.text("value", ""), own.text("text", "")
        if bool(value) == bool(text):
            mistakes.append(f"column {number}: give either value or text")
        elif value and value not in COLUMNS:
            mistakes.append(f"column {number}: no value “{value}”; there are {', '.join(COLUMNS)}")
        columns.append(
            LayoutColumn(
                title=own.text("title", value), value=value, text=text,
                digits=own.whole("digits", None, _MOST_DIGITS), missing=own.text("missing", ""),
                width=own.whole("width", 0, _MOST_WIDTH) or 0,
            )
        )  # fmt: skip
    if not columns:
        mistakes.append("it has no [[column]]")
    whole = _Reader(values, "", mistakes)
    header = values.get("header", [])
    lines = header if isinstance(header, list) else [header]
    if not all(isinstance(line, str) and len(line) <= _MOST_LETTERS for line in lines):
        mistakes.append("header must be lines of text")
    layout = Layout(
        name=whole.text("name", label), header=tuple(str(line) for line in lines),
        separator=whole.text("separator", ","), titles=whole.truth("titles", True),
        columns=tuple(columns),
    )  # fmt: skip
    if mistakes:
        raise LayoutError(f"layout {label}: " + "; ".join(mistakes))
    return layout


def reported(
    points: Sequence[CurvePoint], doubtful: bool, layout: Layout | None = None
) -> list[CurvePoint]:
    """The points that are handed in: those with a magnitude that are good, and ``doubtful`` ones
    where the observer wants them. It is the magnitude that the layout has: one on the standard
    scale where it has that.
    """
    value = "magnitude" if layout is None else layout.magnitude
    return [
        point
        for point in points
        if math.isfinite(getattr(point, value)) and (doubtful or point.state == GOOD)
    ]


def render_report(layout: Layout, points: Sequence[CurvePoint], facts: Mapping[str, str]) -> str:
    """The report's text. ``facts`` fill the {fields} of the header lines; unknown ones stay as
    they are.
    """
    lines = [_fill(line, facts) for line in layout.header]
    if layout.titles:
        lines.append(layout.separator.join(c.title.rjust(c.width) for c in layout.columns).rstrip())
    for point in points:
        cells = (_cell(column, point) for column in layout.columns)
        lines.append(layout.separator.join(cells).rstrip())
    return "\n".join(lines) + "\n"


def _fill(line: str, facts: Mapping[str, str]) -> str:
    for name, value in facts.items():
        line = line.replace("{" + name + "}", value)
    return line


def _cell(column: LayoutColumn, point: CurvePoint) -> str:
    if column.text:
        return column.text.rjust(column.width)
    value = getattr(point, column.value)
    if isinstance(value, float):
        text = column.missing if not math.isfinite(value) else f"{value:.{column.digits or 0}f}"
    else:
        text = str(value) or column.missing
    return text.rjust(column.width)
