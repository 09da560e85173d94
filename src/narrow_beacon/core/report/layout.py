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

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.report.light_curve import COLUMNS, CurvePoint


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


def read_layout(name_or_path: str, folder: Path) -> Layout:
    """A layout that ships with the program, by name, or a file, relative to ``folder``.

    Raises LayoutError with every mistake.
    """
    shipped = resources.files(__package__) / "layouts" / f"{name_or_path}.toml"
    path = folder / name_or_path
    if "/" not in name_or_path and shipped.is_file():
        text = shipped.read_text(encoding="utf-8")
    elif path.is_file():
        text = path.read_text(encoding="utf-8")
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
    except tomllib.TOMLDecodeError as error:
        raise LayoutError(f"layout {name_or_path}: {error}") from error
    return _parse(values, name_or_path)


def _parse(values: Mapping[str, object], label: str) -> Layout:
    mistakes = []
    columns = []
    raw = values.get("column", [])
    for number, item in enumerate(raw if isinstance(raw, list) else [], 1):
        value, text = str(item.get("value", "")), str(item.get("text", ""))
        if bool(value) == bool(text):
            mistakes.append(f"column {number}: give either value or text")
        elif value and value not in COLUMNS:
            mistakes.append(f"column {number}: no value “{value}”; there are {', '.join(COLUMNS)}")
        columns.append(
            LayoutColumn(
                title=str(item.get("title", value)),
                value=value,
                text=text,
                digits=item.get("digits"),
                missing=str(item.get("missing", "")),
                width=int(item.get("width", 0)),
            )
        )
    if not columns:
        mistakes.append("it has no [[column]]")
    if mistakes:
        raise LayoutError(f"layout {label}: " + "; ".join(mistakes))
    header = values.get("header", [])
    return Layout(
        name=str(values.get("name", label)),
        header=tuple(str(line) for line in header) if isinstance(header, list) else (str(header),),
        separator=str(values.get("separator", ",")),
        titles=bool(values.get("titles", True)),
        columns=tuple(columns),
    )


def render_report(layout: Layout, points: Sequence[CurvePoint], facts: Mapping[str, str]) -> str:
    """The report's text. ``facts`` fill the {fields} of the header lines; unknown ones stay as
    they are. Points without a magnitude are not reported.
    """
    lines = [_fill(line, facts) for line in layout.header]
    if layout.titles:
        lines.append(layout.separator.join(c.title.rjust(c.width) for c in layout.columns).rstrip())
    for point in points:
        if math.isfinite(point.magnitude):
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
