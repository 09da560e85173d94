"""Where every number came from, as one JSON document."""

from __future__ import annotations

import math
import platform
from collections.abc import Mapping
from importlib import import_module
from pathlib import Path

import orjson

_PACKAGES = ("numpy", "scipy", "numba", "astropy", "pyarrow")


def versions(program: str) -> dict[str, str]:
    """Versions of the program and of what it computes with."""
    found = {name: import_module(name).__version__ for name in _PACKAGES}
    return {"narrow_beacon": program, "python": platform.python_version(), **found}


def write_provenance(document: Mapping[str, object], path: Path) -> None:
    """Write the document; numbers that are not finite become null."""
    options = orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE
    path.write_bytes(orjson.dumps(_plain(document), option=options))


def _plain(value: object) -> object:
    if isinstance(value, Mapping):
        return {str(key): _plain(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    if isinstance(value, Path):
        return str(value)
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value
