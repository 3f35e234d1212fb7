"""Memory that compiled code is told by its address."""

from __future__ import annotations

from typing import Any

from numba import types
from numba.extending import intrinsic


@intrinsic
def pointer(_context: Any, _address: Any) -> Any:
    """An address (int64) as a pointer, for `numba.carray`."""

    def generate(_own: Any, builder: Any, _signature: Any, arguments: Any) -> Any:
        from llvmlite import ir

        return builder.inttoptr(arguments[0], ir.IntType(8).as_pointer())

    return types.voidptr(types.intp), generate
