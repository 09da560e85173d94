"""One night, or several, from raw files to a report, on core alone."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from narrow_beacon.reduce.outcome import Outcome
    from narrow_beacon.reduce.run import reduce_plan
    from narrow_beacon.reduce.walk import Progress

__all__ = ["Outcome", "Progress", "reduce_plan"]

_HOMES = {"Outcome": "outcome", "Progress": "walk", "reduce_plan": "run"}


def __getattr__(name: str) -> Any:
    """Loaded when asked for: whoever needs one small module of this room waits for no other."""
    from importlib import import_module

    if name not in _HOMES:
        raise AttributeError(name)
    return getattr(import_module(f"{__name__}.{_HOMES[name]}"), name)
