"""Narrow Beacon: from a night of raw exposures to a variable star's light curve and report.

For notebooks and scripts: ``catalogue``, ``solve`` and ``measure`` work on single images, ``curve``
on what they measured, ``period`` and ``extrema`` on any light curve; ``reduce`` walks a whole plan.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.9.9"

if TYPE_CHECKING:
    from narrow_beacon import reduce
    from narrow_beacon.notebook.curves import curve, extrema, period
    from narrow_beacon.notebook.images import Measures, Solved, catalogue, measure, solve
    from narrow_beacon.reduce.reduction import Reduction

__all__ = [
    "Measures", "Reduction", "Solved", "catalogue", "curve", "extrema", "measure", "period",
    "reduce", "solve",
]  # fmt: skip

_HOMES = {
    "Measures": "notebook.images", "Solved": "notebook.images", "catalogue": "notebook.images",
    "measure": "notebook.images", "solve": "notebook.images", "curve": "notebook.curves",
    "extrema": "notebook.curves", "period": "notebook.curves", "Reduction": "reduce.reduction",
}  # fmt: skip


def __getattr__(name: str) -> Any:
    """Loaded when asked for: the command line waits for nothing that it does not need."""
    from importlib import import_module

    if name == "reduce":
        return import_module(f"{__name__}.reduce")
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"{__name__}.{_HOMES[name]}"), name)
