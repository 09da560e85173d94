"""A plan as its file: what ``read_plan`` reads back as the same plan."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, fields
from datetime import datetime
from typing import Any

from narrow_beacon.core.frames.frame import Correction
from narrow_beacon.core.kits import OF_ALL, KitWord
from narrow_beacon.core.stars.limits import Limit
from narrow_beacon.plan import Plan, TargetWish

Section = Mapping[str, Any]


def plan_text(
    plan: Plan, *, folders: Sequence[str], catalogue: str, sequence: str = "",
    sequence_columns: Mapping[str, str] | None = None,
) -> str:  # fmt: skip
    """The text of a plan whose raw files lie in ``folders``, whose stars in the file ``catalogue``
    and those of a ``sequence``; paths as the plan's folder sees them.
    """
    frames: dict[str, Any] = {"folder": list(folders), "filter": plan.default_filter}
    frames["leave_out"] = list(plan.leave_out)
    frames["library"] = plan.library.as_posix() if plan.library else None
    chart = plan.sequence.chart if plan.sequence else None
    chart_epoch = plan.sequence.stars.epoch_yr if plan.sequence else None
    for_all = _word(plan.kits.said.get(OF_ALL, KitWord()))
    parts = [
        _section("frames", frames),
        _section("catalogue", {
            "file": catalogue, "epoch": plan.epoch_yr, "columns": dict(plan.columns),
        }),
        _section("site", asdict(plan.site) if plan.site else {}),
        _section("kit", _kit(plan)),
        *(_section(f"kits.{_text(name)}", _word(word)) for name, word in plan.kits.said.items()
          if name != OF_ALL),
        *(_section(f"files.{_text(name)}", _said(word)) for name, word in plan.files.items()),
        *(_section(f"masters.{_text(chain)}", keys) for chain, keys in plan.picks.items()),
        _section("defects", {
            "threshold": for_all["defect_threshold"], "marks": for_all["marks"],
        }),
        _section("bands", plan.bands),
        _section("colour_sensor", {"pattern": plan.pattern}),
        *_targets(plan),
        _section("transform", _transform(plan)),
        _section("vet", _vet(plan)),
        _section("sequence", {
            "file": sequence, "chart": chart, "epoch": chart_epoch,
            "columns": dict(sequence_columns or {}),
        } if sequence else {}),
        _section("measure", {
            "radius": _radius(plan), "steps": dict(plan.steps),
            "annulus": list(plan.annulus),
            "unit": "px" if plan.annulus_in_pixels else None, "floor": plan.floor or None,
        }),
        _section("points", {
            "most_uncertainty": plan.points.most_uncertainty_mag,
            "check_off": plan.points.check_off_sigma, "without": list(plan.points.without),
            "take_out": list(plan.points.take_out),
            "nights_alike": plan.points.nights_alike or None,
        }),
        _section("output", {
            "folder": "out", "layout": plan.layout, "fields": dict(plan.report_fields),
            "doubtful": plan.doubtful or None,
        }),
    ]  # fmt: skip
    return "\n".join(part for part in parts if part)


def _kit(plan: Plan) -> Section:
    own = {
        name: getattr(plan, name)
        for name in ("gain_e_per_adu", "read_noise_e", "linear_limit_adu", "aperture_m",
                     "scale_arcsec_per_px")
    }  # fmt: skip
    own["timestamp"] = plan.timestamp if plan.timestamp != "start" else None
    own["clock_offset_s"] = plan.clock_offset_s or None
    return {**own, **_rules(plan.kits.said.get(OF_ALL, KitWord()))}


def _rules(word: KitWord) -> Section:
    """What holds for all kits stands in [kit], but for defects, which have a section."""
    said = _word(word)
    return {key: value for key, value in said.items() if value is not None and key not in _DEFECTS}


_DEFECTS = ("defect_threshold", "marks")


def _word(word: KitWord) -> dict[str, Any]:
    said = {one.name: getattr(word, one.name) for one in fields(KitWord)}
    if word.marks is not None:
        said["marks"] = [[x + 1, y + 1, w, h] for x, y, w, h in word.marks]
    return said


def _said(word: Correction) -> Section:
    return {one.name: getattr(word, one.name) for one in fields(Correction) if one.name != "aside"}


def _targets(plan: Plan) -> list[str]:
    first = TargetWish(
        plan.target_name, plan.target_ra_deg, plan.target_dec_deg, plan.transform.colour,
        plan.comparison, plan.checks,
    )  # fmt: skip
    found = []
    for wish in (first, *plan.beside):
        keys = {
            "name": wish.name, "ra": wish.ra_deg, "dec": wish.dec_deg, "colour": wish.colour,
            "comparison": list(wish.comparison), "check": list(wish.checks),
        }  # fmt: skip
        found.append(_section("target", keys, listed=True))
    return found


def _transform(plan: Plan) -> Section:
    wish = plan.transform
    said: dict[str, Any] = {"apply": None if wish.apply else False}
    for name, term in wish.given.items():
        said[name] = {
            "index": term.index or None, "coefficient": term.coefficient,
            "uncertainty": term.uncertainty,
        }  # fmt: skip
    second = {f"second_order_{name}": value for name, value in wish.second_order.items()}
    said["extinction"] = {**wish.extinction, **second}
    return said


def _vet(plan: Plan) -> Section:
    vetting = plan.vetting
    rules = {key: value for key, value in asdict(vetting.rules).items() if value is not None}
    return {
        **rules, "limits": [_limit(one) for one in vetting.limits], "keep": list(vetting.keep),
        "set_aside": dict(vetting.set_aside),
    }  # fmt: skip


def _limit(limit: Limit) -> Section:
    return {
        "quality": limit.quality, "above": limit.above, "below": limit.below,
        "filter": limit.filter or None, "night": limit.night or None,
    }  # fmt: skip


def _radius(plan: Plan) -> Any:
    if plan.radius.pixels is not None:
        return plan.radius.pixels
    return "auto" if plan.radius.widths is None else f"{plan.radius.widths:g} fwhm"


def _section(name: str, keys: Section, *, listed: bool = False) -> str:
    """A section with what is said in it; nothing where that is nothing."""
    lines = [
        f"{key if key.replace('_', '').isalnum() and key.isascii() else _text(key)} = {said}"
        for key, value in keys.items()
        if (said := _value(value))
    ]
    head = f"[[{name}]]" if listed else f"[{name}]"
    return "\n".join([head, *lines]) + "\n" if lines else ""


def _value(value: Any) -> str:
    """A value as TOML has it; nothing for what is not said."""
    if value is None or value in ([], {}, ()):
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, float):
        return repr(value) if math.isfinite(value) else ""
    if isinstance(value, datetime):
        return _text(value.isoformat())
    if isinstance(value, str):
        return _text(value)
    if isinstance(value, Mapping):
        inner = [f"{_text(k)} = {said}" for k, v in value.items() if (said := _value(v))]
        return "{ " + ", ".join(inner) + " }" if inner else ""
    return "[" + ", ".join(_value(one) for one in value) + "]"


def _text(words: str) -> str:
    """A basic string: what JSON escapes, TOML does in the same way."""
    return json.dumps(words, ensure_ascii=False)
