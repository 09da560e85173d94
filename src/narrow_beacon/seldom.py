"""Parts of NumPy that are loaded when something of them is asked for.

SciPy looks at everything that NumPy has when it is first imported, and so loads the Fortran
compiler's interface and the test tools: none of it is used here, and it is a twentieth of what one
small exposure takes from command to result.
"""

from __future__ import annotations

import importlib
import sys
from types import ModuleType
from typing import Any

__all__ = ["load_when_asked"]


class _Later(ModuleType):
    """In place of a module; whoever asks it for something gets that of the module."""

    def __getattr__(self, name: str) -> Any:
        return getattr(importlib.import_module(self.__name__), name)


def load_when_asked(package: str, *parts: str) -> None:
    """Let parts of a package be loaded when they are first asked for something, not when they are
    named; one that was loaded before stays as it is. To import them works as ever.
    """
    above = importlib.import_module(package)
    for part in parts:
        name = f"{package}.{part}"
        if name not in sys.modules:
            setattr(above, part, _Later(name))
