"""Values of the core as JSON and back."""

from __future__ import annotations

from dataclasses import fields
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from narrow_beacon.core.stars.quality import Quality

if TYPE_CHECKING:
    from pydantic import TypeAdapter

T = TypeVar("T")


_adapters: dict[type[Any], TypeAdapter[Any]] = {}


def _adapter(kind: type[Any]) -> TypeAdapter[Any]:
    from pydantic import TypeAdapter

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


def quality_to_json(quality: Quality) -> dict[str, Any]:
    """What an exposure looks like, as plain values; None where there is no number."""
    plain = {
        name: None if isinstance(value, float) and not np.isfinite(value) else value
        for name, value in vars(quality).items()
    }
    return {**plain, "trails": [list(ends) for ends in quality.trails]}


def quality_from_json(values: dict[str, Any] | None) -> Quality:
    """What ``quality_to_json`` wrote; not a number where there is none."""
    known = values or {}
    numbers: dict[str, Any] = {
        field.name: float("nan") if known.get(field.name) is None else known[field.name]
        for field in fields(Quality)
    }
    trails = tuple((x0, y0, x1, y1) for x0, y0, x1, y1 in known.get("trails") or ())
    return Quality(**{**numbers, "stars": int(known.get("stars") or 0), "trails": trails})
