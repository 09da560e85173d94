"""Kernels loaded from disk without what only compiling needs.

Beside a kernel's machine code Numba keeps its bitcode, from which it is linked into kernels that
are compiled later. It parses that at every load and asks it for the name of each symbol, which is
three quarters of what loading takes; here it is parsed when a kernel is linked.

Before the first load Numba imports all that it can translate, and SciPy's linear algebra for some
of it: a fifth of what one small exposure takes from command to result, and 20 MB. Here a kernel
that is compiled asks for it.
"""

from __future__ import annotations

import importlib
import sys
from typing import Any

import llvmlite.binding as llvm
import numba
from numba.core import caching, codegen, environment
from numba.core.runtime import rtsys

__all__ = ["load_lightly"]

_MADE_FOR = "0.68."
"""The insides of other releases of Numba may differ: they load as they do."""


class _Library(codegen.JITCodeLibrary):
    """A kernel's code, of which the bitcode is parsed when it is asked for."""

    _bitcode: bytes | None = None

    @classmethod
    def _unserialize(cls, made_by: Any, state: tuple[str, str, Any]) -> Any:
        name, kind, data = state
        if kind != "object":
            return super()._unserialize(made_by, state)
        own = made_by.create_library(name)
        code, own._bitcode = data
        own.enable_object_caching()
        own._set_compiled_object(code)
        own._finalize_final_module()
        return own

    def _get_module_for_linking(self) -> Any:
        if self._bitcode is not None:
            self._shared_module = llvm.parse_bitcode(self._bitcode)
            self._codegen._engine._load_defined_symbols(self._shared_module)
            self._bitcode = None
        return super()._get_module_for_linking()

    def get_pointer_to_function(self, name: str) -> int:
        """Where a function of this kernel's own stands."""
        if self._bitcode is None:
            return int(super().get_pointer_to_function(name))
        return int(self._codegen._engine.get_function_address(name))


def _load_overload(cache: Any, signature: Any, target: Any) -> Any:
    """A kernel from disk: what compiling needs is loaded when one is compiled."""
    rtsys.initialize(target)
    with cache._guard_against_spurious_io_errors():
        return cache._load_overload(signature, target)


def _rebuild_environment(module: str, constants: list[Any], name: str) -> Any:
    """A function's constants. Its module's names are for code that is interpreted: for them Numba's
    own parts are not loaded.
    """
    known = environment.lookup_environment(name)
    if known is not None:
        return known
    if module.startswith("numba.") and module not in sys.modules:
        names = {"__name__": module}
    else:
        names = importlib.import_module(module).__dict__
    made = environment.Environment(names)
    made.consts[:] = constants
    made.env_name = name
    environment.Environment._memo[name] = made
    return made


def load_lightly() -> None:
    """From now on kernels are loaded so, where Numba is the release that this was made for."""
    if numba.__version__.startswith(_MADE_FOR):
        codegen.JITCPUCodegen._library_class = _Library
        caching.FunctionCache.load_overload = _load_overload  # type: ignore[method-assign]
        environment._rebuild_env = _rebuild_environment
