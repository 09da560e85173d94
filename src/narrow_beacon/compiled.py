"""Compiled kernels, kept on disk under a stamp of everything that went into them.

Numba names what it keeps by the text of the kernel's own file alone. A kernel holds the code of
those that it calls and the values of constants besides: were one of them changed in another file,
the old code would go on and give old numbers in silence. Here they are part of the stamp.

A kernel that does not say how it counts takes that from the first one that is compiled with it, so
that its last digits hang on who came first. Here every kernel says it.

Within kernels arrays are copied by loops: for ``a[:n] = b`` the compiler has to build the words of
an error as well, some seconds for each kernel; linear algebra and sorting take it longer still.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import numba
import numpy as np
from numba.core import config
from numba.core.caching import (
    InTreeCacheLocator,
    UserProvidedCacheLocator,
    UserWideCacheLocator,
)
from numba.core.dispatcher import Dispatcher

from narrow_beacon.kernel_loading import load_lightly
from narrow_beacon.seldom import load_when_asked

__all__ = ["ANY_ORDER", "get_ready", "njit"]

ANY_ORDER = {"reassoc", "contract"}
"""A ``fastmath`` for sums in whatever order is soonest: the processor adds several values at once.
What is no number stays so.
"""

_PLAIN = (bool, int, float, complex, str, bytes, np.generic)


def njit(
    *, fastmath: bool | set[str] = False, error_model: str = "python", **options: Any
) -> Callable[[Callable[..., Any]], Any]:
    """Numba's ``njit`` with an arithmetic that does not depend on what was compiled before."""
    compiler: Any = numba.njit
    return compiler(fastmath=fastmath, error_model=error_model, **options)


class _Stamped:
    """Where a kernel is kept: one look at each folder, and a stamp by all that it is made of."""

    _kernel: Any

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> Any:
        """The place of a kernel, None where there is none that can be written."""
        if not os.path.exists(py_file) or not cls._wanted():
            return None
        place: Any = cls(py_func, py_file)  # type: ignore[call-arg]
        place._kernel = py_func
        return place if _writable(place.get_cache_path()) else None

    @classmethod
    def _wanted(cls) -> bool:
        return True

    def get_source_stamp(self) -> str:
        """Names the kernel's file, all kernels that it may call and constants that it may hold."""
        return _stamp(self._kernel)


class Chosen(_Stamped, UserProvidedCacheLocator):
    """In the folder that NUMBA_CACHE_DIR names."""

    @classmethod
    def _wanted(cls) -> bool:
        return bool(config.CACHE_DIR)  # type: ignore[attr-defined]


class Beside(_Stamped, InTreeCacheLocator):
    """In __pycache__ beside the source."""


class Own(_Stamped, UserWideCacheLocator):
    """In the user's own cache."""


def _stamp(kernel: Any) -> str:
    told = hashlib.sha256(_content(__file__))
    seen: set[str] = set()
    waiting = [kernel]
    while waiting:
        function = waiting.pop()
        path = function.__code__.co_filename
        if path in seen:
            continue
        seen.add(path)
        told.update(_content(path))
        for name, value in sorted(function.__globals__.items()):
            if isinstance(value, Dispatcher):
                waiting.append(value.py_func)
            elif isinstance(value, _PLAIN):
                told.update(f"{name}={value!r};".encode())
            elif isinstance(value, np.ndarray):
                told.update(name.encode() + value.tobytes())
    return told.hexdigest()


@cache
def _content(path: str) -> bytes:
    return hashlib.sha256(Path(path).read_bytes()).digest()


@cache
def _writable(folder: str) -> bool:
    try:
        os.makedirs(folder, exist_ok=True)
    except OSError:
        return False
    return os.access(folder, os.W_OK)


config.CACHE_LOCATOR_CLASSES = ",".join(  # type: ignore[attr-defined]
    f"{place.__module__}.{place.__qualname__}" for place in (Chosen, Beside, Own)
)
load_lightly()
load_when_asked("numpy", "f2py", "testing")


def get_ready() -> None:
    """Load what the first kernel of a process loads; those that are forked from it have it then."""
    _nothing(0.0)


@njit(cache=True, nogil=True)
def _nothing(value):  # type: ignore[no-untyped-def]
    return value
