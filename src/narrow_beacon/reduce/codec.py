"""Values of the core as JSON and back."""

from __future__ import annotations

from dataclasses import fields
from typing import Any, TypeVar

import numpy as np
from pydantic import TypeAdapter

from narrow_beacon.core.place.solution import Solution
from narrow_beacon.reduce.tasks import Quality

T = TypeVar("T")


_adapters: dict[type[Any], TypeAdapter[Any]] = {}


def _adapter(kind: type[Any]) -> TypeAdapter[Any]:
    if kind not in _adapters:
        _adapters[kind] = TypeAdapter(kind)
    return _adapters[kind]


def dump(value: Any) -> str:
    """A dataclass of plain values as JSON text."""
    return _adapter(type(value)).dump_json(value).decode()


def load(kind: type[T], text: str) -> T:
    """The dataclass that ``dump`` wrote."""
    value: T = _adapter(kind).validate_json(text)
    return value


def solution_to_json(solution: Solution) -> dict[str, Any]:
    """A plate solution as plain values, exact to the last bit."""
    return {
        "ra0_deg": solution.ra0_deg,
        "dec0_deg": solution.dec0_deg,
        "x0_px": solution.x0_px,
        "y0_px": solution.y0_px,
        "cd": solution.cd.tolist(),
        "shape": list(solution.shape),
        "sip_order": solution.sip_order,
        "sip_a": solution.sip_a.tolist(),
        "sip_b": solution.sip_b.tolist(),
    }


def solution_from_json(values: dict[str, Any]) -> Solution:
    """The plate solution that ``solution_to_json`` wrote."""
    return Solution(
        values["ra0_deg"],
        values["dec0_deg"],
        values["x0_px"],
        values["y0_px"],
        np.array(values["cd"], float),
        (values["shape"][0], values["shape"][1]),
        values["sip_order"],
        np.array(values["sip_a"], float),
        np.array(values["sip_b"], float),
    )


def quality_to_json(quality: Quality) -> dict[str, Any]:
    """What an exposure looks like, as plain values; None where there is no number."""
    return {
        name: None if isinstance(value, float) and not np.isfinite(value) else value
        for name, value in vars(quality).items()
    }


def quality_from_json(values: dict[str, Any] | None) -> Quality:
    """What ``quality_to_json`` wrote; not a number where there is none."""
    known = values or {}
    numbers: dict[str, Any] = {
        field.name: float("nan") if known.get(field.name) is None else known[field.name]
        for field in fields(Quality)
    }
    return Quality(**{**numbers, "stars": int(known.get("stars") or 0)})
