"""Tables for a wire, a column at a time: what repeats is told once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

_WORDS_SHARE = 0.5
"""Of as many different values a column is told by its words."""


def narrow(columns: Mapping[str, Sequence[Any]]) -> dict[str, Any]:
    """The same for a wire: a column of one value as {"all": value}, one of few different words as
    {"words": […], "at": […]}.
    """
    found: dict[str, Any] = {}
    for name, values in columns.items():
        first = values[0] if values else None
        if values and all(value == first for value in values):
            found[name] = {"all": first}
            continue
        if isinstance(first, str):
            places: dict[str, int] = {}
            at = [places.setdefault(value, len(places)) for value in values]
            if len(places) < _WORDS_SHARE * len(values):
                found[name] = {"words": list(places), "at": at}
                continue
        found[name] = values
    return found
