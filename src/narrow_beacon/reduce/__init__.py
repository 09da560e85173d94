"""One night, or several, from raw files to a report, on core alone.

Called, as ``narrow_beacon.reduce(plan)``, it reduces a plan; see ``reduction``.
"""

from __future__ import annotations

import sys
from types import ModuleType
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from narrow_beacon.reduce.outcome import Outcome
    from narrow_beacon.reduce.progress import Progress
    from narrow_beacon.reduce.run import reduce_plan

__all__ = ["Outcome", "Progress", "reduce_plan"]

_HOMES = {"Outcome": "outcome", "Progress": "progress", "reduce_plan": "run"}


def __getattr__(name: str) -> Any:
    """Loaded when asked for: whoever needs one small module of this room waits for no other."""
    from importlib import import_module

    if name not in _HOMES:
        raise AttributeError(name)
    return getattr(import_module(f"{__name__}.{_HOMES[name]}"), name)


class _Room(ModuleType):
    """The room has the name of what it does, and who imports the package may call it by that."""

    def __call__(self, *arguments: Any, **named: Any) -> Any:
        from narrow_beacon.reduce.reduction import reduce_night

        return reduce_night(*arguments, **named)


sys.modules[__name__].__class__ = _Room
