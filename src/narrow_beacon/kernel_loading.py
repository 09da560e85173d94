"""Kernels loaded from disk without what only others that are linked to them need.

Beside a kernel's machine code Numba keeps its bitcode, from which it is linked into kernels that
are compiled later. It parses that at every load and asks it for the name of each symbol, which is
three quarters of what loading takes; here it is parsed when a kernel is linked.
"""

from __future__ import annotations

from typing import Any

import llvmlite.binding as llvm
import numba
from numba.core import codegen

__all__ = ["load_without_bitcode"]

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


def load_without_bitcode() -> None:
    """From now on kernels are loaded so, where Numba is the release that this was made for."""
    if numba.__version__.startswith(_MADE_FOR):
        codegen.JITCPUCodegen._library_class = _Library
