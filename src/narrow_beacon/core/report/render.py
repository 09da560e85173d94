"""A report's text by its layout."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

import numpy as np

from narrow_beacon.core.report.layout import (
    BY_UNCERTAINTY,
    LINE_ENDS,
    PLACE,
    Layout,
    LayoutColumn,
)
from narrow_beacon.core.report.light_curve import CurvePoint

_FEWEST, _MOST = 1, 5
"""Decimals that an uncertainty can ask for."""


@dataclass(frozen=True)
class Comparison:
    """A comparison star, its known magnitude, and its instrumental ones with their uncertainties,
    by exposure.
    """

    name: str
    known: float
    measured: Mapping[str, tuple[float, float]]


@dataclass(frozen=True)
class Stars:
    """Of a target in a filter: its comparison stars, the known magnitude of a single one, the check
    star and its known magnitude, and the sequence's chart; ``each`` of the comparison stars, where
    a layout has a row for each.
    """

    comparison: tuple[str, ...] = ()
    comparison_known: float = float("nan")
    check: str = ""
    check_known: float = float("nan")
    chart: str = ""
    each: tuple[Comparison, ...] = ()


@dataclass(frozen=True)
class Facts:
    """What a report says besides its points: ``header`` fills the {fields} of its lines, ``stars``
    are by target and filter, ``said`` are the observer's own fields, and ``actions`` what is done
    with a point, by exposure and filter, where that is no new one. ``longitude_deg`` is the site's,
    by whose noon one night is told from the next.
    """

    header: Mapping[str, str] = field(default_factory=dict)
    stars: Mapping[tuple[str, str], Stars] = field(default_factory=dict)
    said: Mapping[str, str] = field(default_factory=dict)
    actions: Mapping[tuple[str, str], str] = field(default_factory=dict)
    longitude_deg: float = 0.0


@dataclass(frozen=True)
class _Row:
    """A line: a point, or the mean of ``count`` of them, or a point by one comparison star; the
    ``group`` are the points until a filter comes back.
    """

    point: CurvePoint
    number: int
    count: int = 1
    comparison: Comparison | None = None
    group: int = 0


def render_report(layout: Layout, points: Sequence[CurvePoint], facts: Facts) -> str:
    """The report's text. Unknown {fields} of header and footer stay as they are. Where a letter is
    not of the layout's encoding, it becomes its nearest, or a question mark.
    """
    lines, _ = _lines(layout, points, facts, None)
    return LINE_ENDS[layout.line_end].join([*lines, ""])


def preview_report(
    layout: Layout, points: Sequence[CurvePoint], facts: Facts, most: int
) -> tuple[list[str], int]:
    """The report's first lines, at most so many, and how many it has."""
    told, left_out = _lines(layout, points, facts, most)
    lines = "\n".join(told).splitlines()
    return lines[:most], len(lines) + left_out


def _lines(
    layout: Layout, points: Sequence[CurvePoint], facts: Facts, most: int | None
) -> tuple[list[str], int]:
    """The lines, with the first rows where there are more than ``most``; how many were left out."""
    said = {name: facts.said.get(name) or usual for name, usual in layout.fields.items()}
    words = {**facts.header, **said}
    lines = [_filled(line, words) for line in layout.header]
    if layout.titles:
        titles = [_aside(_quoted(c.title, layout), c) for c in layout.columns]
        lines.append(layout.separator.join(titles).rstrip(" "))
    rows = _rows(layout, points, facts)
    for row in rows[:most]:
        cells = [
            _aside(_quoted(_cell(c, row, layout, facts, said), layout), c) for c in layout.columns
        ]
        lines.append(layout.separator.join(cells).rstrip(" "))
    lines += [_filled(line, words) for line in layout.footer]
    told = [_in_encoding(line, layout.encoding) for line in lines]
    return told, len(rows) - len(rows[:most])


def _rows(layout: Layout, points: Sequence[CurvePoint], facts: Facts) -> list[_Row]:
    numbers = [] if layout.rows == "night" else _groups(points, facts.longitude_deg)
    if layout.rows == "point":
        return [
            _Row(point, n, group=group)
            for n, (point, group) in enumerate(zip(points, numbers, strict=True), 1)
        ]
    if layout.rows == "comparison":
        pairs = [
            (_by_one(point, one), one, group)
            for point, group in zip(points, numbers, strict=True)
            for one in facts.stars.get((point.target, point.filter), Stars()).each
            if point.exposure in one.measured
        ]
        return [_Row(p, n, 1, one, group) for n, (p, one, group) in enumerate(pairs, 1)]
    groups: dict[tuple[str, str, str], list[CurvePoint]] = {}
    for point in points:
        night = night_of(point.jd_utc, facts.longitude_deg)
        groups.setdefault((night, point.target, point.filter), []).append(point)
    return [_Row(_mean(own), n, len(own), group=n) for n, own in enumerate(groups.values(), 1)]


def _groups(points: Sequence[CurvePoint], longitude_deg: float) -> list[int]:
    """The number of each point's group: one of each filter of a target, taken in turn."""
    found, seen, number = [], set[tuple[str, str, str]](), 1
    for point in points:
        own = (night_of(point.jd_utc, longitude_deg), point.target, point.filter)
        if own in seen or (seen and next(iter(seen))[0] != own[0]):
            seen, number = set(), number + 1
        seen.add(own)
        found.append(number)
    return found


def _by_one(point: CurvePoint, star: Comparison) -> CurvePoint:
    """A point as this comparison star alone gives it."""
    instrumental, sigma = star.measured[point.exposure]
    zero_point = star.known - instrumental
    change = zero_point - point.zero_point

    def of(uncertainty: float) -> float:
        own = uncertainty**2 - point.zero_point_uncertainty**2
        return float(np.sqrt(max(own, 0.0) + sigma**2)) if math.isfinite(own) else uncertainty

    return replace(
        point, magnitude=point.magnitude + change, uncertainty=of(point.uncertainty),
        check_magnitude=point.check_magnitude + change,
        check_uncertainty=of(point.check_uncertainty), zero_point=zero_point,
        zero_point_uncertainty=sigma, limit_magnitude=point.limit_magnitude + change,
        transformed_magnitude=math.nan, transformed_uncertainty=math.nan,
    )  # fmt: skip


def night_of(jd_utc: float, longitude_deg: float) -> str:
    """The date of the evening on which a night began, by local mean time."""
    return _date_of(math.floor(jd_utc + longitude_deg / 360.0))


@lru_cache(maxsize=4096)
def _date_of(day: int) -> str:
    return (datetime(2000, 1, 1) + timedelta(days=day - 2451545)).strftime("%Y-%m-%d")


def _mean(points: Sequence[CurvePoint]) -> CurvePoint:
    """The weighted mean of a night's points; its uncertainty holds their scatter where that is
    larger than theirs.
    """
    values: dict[str, Any] = {}
    weight = np.array([p.uncertainty for p in points]) ** -2.0
    weight = np.where(np.isfinite(weight), weight, 0.0)
    weight = weight if weight.sum() > 0 else np.ones(len(points))
    for name in ("jd_utc", "hjd_utc", "bjd_tdb", "airmass", "instrumental", "zero_point",
                 "zero_point_uncertainty", "fwhm_px", "sky_adu_per_px", "radius_px"):  # fmt: skip
        own = np.array([getattr(p, name) for p in points])
        values[name] = float(own[0] + np.average(own - own[0], weights=weight))
    for value, sigma in (
        ("magnitude", "uncertainty"),
        ("check_magnitude", "check_uncertainty"),
        ("transformed_magnitude", "transformed_uncertainty"),
    ):
        m = np.array([getattr(p, value) for p in points])
        s = np.array([getattr(p, sigma) for p in points])
        good = np.isfinite(m) & np.isfinite(s) & (s > 0)
        values[value] = values[sigma] = float("nan")
        if good.any():
            w = s[good] ** -2.0
            mean = float(np.average(m[good], weights=w))
            chi2 = float(np.sum(w * (m[good] - mean) ** 2)) / max(int(good.sum()) - 1, 1)
            values[value], values[sigma] = mean, float(np.sqrt(max(chi2, 1.0) / w.sum()))
    # Where none of them shows it, the night's faintest limit is what is known.
    limits = [p.limit_magnitude for p in points if math.isfinite(p.limit_magnitude)]
    values["limit_magnitude"] = max(limits, default=math.nan)
    flags = ";".join(dict.fromkeys(word for p in points for word in p.flags.split(";") if word))
    return replace(points[0], flags=flags, exposure=f"{len(points)} exposures", **values)


def _filled(line: str, words: Mapping[str, str]) -> str:
    for name, value in words.items():
        line = line.replace("{" + name + "}", value)
    return line


def _cell(
    column: LayoutColumn, row: _Row, layout: Layout, facts: Facts, said: Mapping[str, str]
) -> str:
    if column.text:
        return column.text
    if column.field:
        return _in_one(said.get(column.field, ""), layout) or column.missing
    if column.pattern:

        def filled(place: re.Match[str]) -> str:
            one = replace(
                column, pattern="", value=place[1], digits=int(place[2]) if place[2] else None
            )
            if place[1] in said:
                one = replace(one, value="", field=place[1])
            return _cell(one, row, layout, facts, said)

        return PLACE.sub(filled, column.pattern)
    point = row.point
    value = _value(column.value, row, layout, facts)
    if isinstance(value, float):
        unseen = column.value == layout.magnitude and not math.isfinite(value)
        if unseen and math.isfinite(point.limit_magnitude):
            return column.limit + _number(point.limit_magnitude, column, point, layout)
        if not math.isfinite(value):
            return column.missing
        return _dated(value, column) if column.date else _number(value, column, point, layout)
    text = str(value)
    return column.words.get(text, _in_one(text, layout)) or column.missing


def _in_one(text: str, layout: Layout) -> str:
    """A name or flag that stays in its column: where cells are not quoted, a separator within it
    would shift every number after it, and becomes a blank.
    """
    apart = layout.quote == "never" and layout.separator.strip()
    return text.replace(layout.separator, " ") if apart else text


def _value(name: str, row: _Row, layout: Layout, facts: Facts) -> str | float:
    point = row.point
    match name:
        case "filter":
            return layout.filters.get(point.filter, point.filter)
        case "action":
            word = facts.actions.get((point.exposure, point.filter), "add")
            return layout.actions.get(word, "")
        case "count" | "number" | "group":
            return str(getattr(row, name))
        case "night":
            return night_of(point.jd_utc, facts.longitude_deg)
        case "transformed":
            return "yes" if layout.magnitude == "transformed_magnitude" else "no"
        case "check_instrumental":
            return point.check_magnitude - point.zero_point
    if hasattr(point, name):
        own: str | float = getattr(point, name)
        return own
    return _of_stars(name, row, layout, facts)


def _of_stars(name: str, row: _Row, layout: Layout, facts: Facts) -> str | float:
    """What a row says of comparison and check stars."""
    stars = facts.stars.get((row.point.target, row.point.filter), Stars())
    if row.comparison is not None:
        own = row.comparison
        stars = replace(stars, comparison=(own.name,), comparison_known=own.known)
    single = len(stars.comparison) == 1
    more: dict[str, str | float] = {
        "comparison_name": stars.comparison[0] if single else layout.ensemble,
        "comparison_known": stars.comparison_known if single else float("nan"),
        # A single star's zero point is what it lacks to its known magnitude.
        "comparison_instrumental": (
            stars.comparison_known - row.point.zero_point if single else float("nan")
        ),
        "check_name": stars.check, "check_known": stars.check_known, "chart": stars.chart,
    }  # fmt: skip
    return more[name]


def _number(value: float, column: LayoutColumn, point: CurvePoint, layout: Layout) -> str:
    digits = column.digits or 0
    if digits == BY_UNCERTAINTY:
        sigma = getattr(point, layout.uncertainty)
        digits = _FEWEST + 1
        if math.isfinite(sigma) and sigma > 0:
            digits = min(max(1 - math.floor(math.log10(sigma)), _FEWEST), _MOST)
    text = f"{value - column.minus:.{digits}f}"
    return text.removeprefix("-") if float(text) == 0 else text


def _dated(jd: float, column: LayoutColumn) -> str:
    """A Julian date as a calendar date by the column's pattern, of strftime; ``digits`` are those
    of a second.
    """
    digits = max(column.digits or 0, 0)
    moment = datetime(2000, 1, 1, 12) + timedelta(
        seconds=round((jd - 2451545.0) * 86400.0, min(digits, 6))
    )
    pattern = column.date
    if digits:
        second = f"{moment.second + moment.microsecond / 1e6:0{3 + digits}.{digits}f}"
        pattern = pattern.replace("%S", second)
    return moment.strftime(pattern)


def _quoted(text: str, layout: Layout) -> str:
    """By the layout's rule; what would begin a formula in a spreadsheet is defused where cells are
    delimited.
    """
    if layout.quote == "never":
        return text
    special = layout.separator in text or '"' in text or "\n" in text
    if text[:1] in ("=", "+", "@") or (text[:1] == "-" and not _is_number(text)):
        text, special = "'" + text, True
    if layout.quote == "always" or special:
        return '"' + text.replace('"', '""') + '"'
    return text


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _aside(text: str, column: LayoutColumn) -> str:
    return text.ljust(column.width) if column.left else text.rjust(column.width)


_NEAREST = str.maketrans({"−": "-", "–": "-", "±": "+-", "″": '"', "′": "'", "“": '"', "”": '"',
                          "’": "'", "µ": "u", "°": "deg"})  # fmt: skip


def _in_encoding(line: str, encoding: str) -> str:
    try:
        line.encode(encoding)
    except UnicodeEncodeError:
        line = line.translate(_NEAREST).encode(encoding, "replace").decode(encoding)
    return line
