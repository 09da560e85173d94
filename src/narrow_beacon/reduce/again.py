"""A reduction's report once more in another layout, from the files that it wrote."""

from __future__ import annotations

import csv
import json
import math
from collections.abc import Mapping
from dataclasses import fields
from pathlib import Path
from typing import Any

from narrow_beacon.core.errors import BeaconError
from narrow_beacon.core.report.layout import Layout, reported
from narrow_beacon.core.report.light_curve import CurvePoint
from narrow_beacon.core.report.render import Comparison, Facts, Stars, render_report


class NoReductionError(BeaconError):
    """A folder that holds no reduction; says what is missing."""


def facts_json(facts: Facts) -> dict[str, Any]:
    """What a report says besides its points, as provenance.json keeps it."""
    stars = [
        {
            "target": target, "filter": name, "comparison": list(of.comparison),
            "comparison_known": _or_none(of.comparison_known), "check": of.check,
            "check_known": _or_none(of.check_known), "chart": of.chart,
            "each": [
                {"star": star.name, "known": _or_none(star.known), "measured": dict(star.measured)}
                for star in of.each
            ],
        }
        for (target, name), of in facts.stars.items()
    ]  # fmt: skip
    return {
        "header": dict(facts.header), "stars": stars, "fields": dict(facts.said),
        "longitude_deg": facts.longitude_deg,
    }  # fmt: skip


def report_again(
    folder: Path, layout: Layout, said: Mapping[str, str] | None = None, *, doubtful: bool = False
) -> str:
    """The report of a reduction's output ``folder`` in a layout; ``said`` fills its own fields.
    Raises NoReductionError.
    """
    points = read_points(folder)
    told = json.loads((folder / "provenance.json").read_text(encoding="utf-8")).get("report")
    if told is None:
        raise NoReductionError(f"{folder} was written by an older version: reduce it again")
    stars = {
        (one["target"], one["filter"]): Stars(
            tuple(one["comparison"]), _or_nan(one["comparison_known"]), one["check"],
            _or_nan(one["check_known"]), one["chart"],
            tuple(
                Comparison(
                    star["star"], _or_nan(star["known"]),
                    {name: tuple(pair) for name, pair in star["measured"].items()},
                )
                for star in one.get("each", [])
            ),
        )
        for one in told["stars"]
    }  # fmt: skip
    fields_said = {**told["fields"], **(said or {})}
    longitude = told.get("longitude_deg", 0.0)
    facts = Facts(told["header"], stars, fields_said, longitude_deg=longitude)
    return render_report(layout, reported(points, doubtful, layout), facts)


def read_points(folder: Path) -> list[CurvePoint]:
    """The points of a reduction's output ``folder``. Raises NoReductionError."""
    for name in ("light_curve.csv", "provenance.json"):
        if not (folder / name).is_file():
            raise NoReductionError(f"{folder} has no {name}: give the output folder of a reduction")
    with (folder / "light_curve.csv").open(encoding="utf-8", newline="") as file:
        return [_point(row) for row in csv.DictReader(file)]


def _point(row: Mapping[str, str]) -> CurvePoint:
    values: dict[str, Any] = {}
    for one in fields(CurvePoint):
        text = row.get(one.name, "")
        # Strings are annotated as such: the module's annotations are words.
        values[one.name] = text if one.type == "str" else float(text) if text else math.nan
    return CurvePoint(**values)


def _or_none(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _or_nan(value: float | None) -> float:
    return math.nan if value is None else value
