"""Tables for a wire, a column at a time: what repeats is told once, and numbers stay arrays until
their column is written, for as Python's they take ten times the place.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import orjson
from pydantic_core import to_json

from narrow_beacon.core.arrays import Floats

Column = Sequence[Any] | Floats
_WORDS_SHARE = 0.5
"""Of as many different values a column is told by its words."""
_AT_ONCE = 1000


def listed(values: Column) -> list[Any]:
    """A column's values for JSON: None where there is no number, or one of several in a row."""
    if not isinstance(values, np.ndarray):
        return list(values)
    found: list[Any] = values.tolist()
    known = np.isfinite(values).all(axis=tuple(range(1, values.ndim)))
    for at in np.flatnonzero(~known).tolist():
        found[at] = None
    return found


def narrow(values: Column) -> object:
    """A column for a wire: of one value as {"all": value}, of few different words as {"words": […],
    "at": […]}.
    """
    values = listed(values)
    first = values[0] if values else None
    if values and all(value == first for value in values):
        return {"all": first}
    if isinstance(first, str):
        places: dict[str, int] = {}
        at = [places.setdefault(value, len(places)) for value in values]
        if len(places) < _WORDS_SHARE * len(values):
            return {"words": list(places), "at": at}
    return values


def columns_json(columns: Mapping[str, Column]) -> bytes:
    """A table as an object of narrow columns."""
    parts = (to_json(name) + b":" + _column_json(v) for name, v in columns.items())
    return b"{" + b",".join(parts) + b"}"


def _column_json(values: Column) -> bytes:
    """``narrow`` as JSON; numbers that differ are written straight from their array."""
    if isinstance(values, np.ndarray) and values.size:
        differ = not np.array_equal(values[0], values[-1], equal_nan=True)
        if differ and (values.ndim == 1 or np.isfinite(values).all()):
            return orjson.dumps(np.ascontiguousarray(values), option=orjson.OPT_SERIALIZE_NUMPY)
    return to_json(narrow(values))


def rows_json(columns: Mapping[str, Column]) -> bytes:
    """A table as a list of objects."""

    def pieces() -> Iterator[bytes]:
        count = len(next(iter(columns.values())))
        for begin in range(0, count, _AT_ONCE):
            some = [listed(values[begin : begin + _AT_ONCE]) for values in columns.values()]
            rows = [dict(zip(columns, row, strict=True)) for row in zip(*some, strict=True)]
            yield to_json(rows)[1:-1]

    return b"[" + b",".join(pieces()) + b"]"


def object_json(written: Mapping[str, bytes], **others: object) -> bytes:
    """An object of some values that are written already, and others."""
    told = {**written, **{name: to_json(value) for name, value in others.items()}}
    return b"{" + b",".join(to_json(name) + b":" + part for name, part in told.items()) + b"}"
