"""Ask the memory for what is about a place before it is needed, and work on meanwhile.

Stars lie all over an exposure: rows of pixels about one are kilobytes apart, so that the processor
can't guess which memory comes next. Asked for while the star before is measured, it is there.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from llvmlite import ir
from numba import extending, types
from numba.core import cgutils

from narrow_beacon.compiled import njit

_LINE_BYTES = 64
"""What the memory hands over together."""
_TO_READ, _KEEP_NEAR, _DATA = 0, 3, 1
_as_code: Any = extending.intrinsic


@_as_code
def _ask_for(_typing: Any, plane: Any, row: Any, column: Any) -> Any:
    """The processor's own instruction, which waits for nothing."""

    def code(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        kind, number = signature.args[0], ir.IntType(32)
        array = context.make_array(kind)(context, builder, arguments[0])
        place = cgutils.get_item_pointer(
            context, builder, kind, array, list(arguments[1:]), wraparound=False
        )
        asks = ir.FunctionType(ir.VoidType(), [cgutils.voidptr_t, number, number, number])
        ask = cgutils.get_or_insert_function(builder.module, asks, "llvm.prefetch.p0")
        words = [number(_TO_READ), number(_KEEP_NEAR), number(_DATA)]
        builder.call(ask, [builder.bitcast(place, cgutils.voidptr_t), *words])
        return context.get_dummy_value()

    return types.none(plane, row, column), code


@njit(cache=True, nogil=True)
def fetch_ahead(plane, xc, yc, reach):  # type: ignore[no-untyped-def]
    """Ask for the pixels of a plane within ``reach`` of a place (0-based), as far as it goes."""
    height, width = plane.shape
    left, right = max(0, int(xc - reach)), min(width - 1, int(xc + reach) + 1)
    step = _LINE_BYTES // plane.itemsize
    if left > right:
        return
    for y in range(max(0, int(yc - reach)), min(height, int(yc + reach) + 2)):
        for x in range(left, right, step):
            _ask_for(plane, np.uint64(y), np.uint64(x))
        _ask_for(plane, np.uint64(y), np.uint64(right))
