"""Four neighbouring float32 at a time, one pixel of red, green, blue and alpha.

Numba does not join such statements into vector ones by itself; written so, scattering is 1.8 times as fast.
"""

from __future__ import annotations

from typing import Any

from llvmlite import ir
from numba import types
from numba.extending import intrinsic

_FOUR = ir.VectorType(ir.FloatType(), 4)
_INT = ir.IntType(32)


def _at(context: Any, builder: Any, kind: Any, array: Any, index: Any) -> Any:
    data = context.make_array(kind)(context, builder, array).data
    return builder.bitcast(builder.gep(data, [index]), _FOUR.as_pointer())


def _spread(builder: Any, value: Any) -> Any:
    vector = ir.Constant(_FOUR, ir.Undefined)
    for lane in range(4):
        vector = builder.insert_element(vector, value, ir.Constant(_INT, lane))
    return vector


def _joined(builder: Any, values: Any) -> Any:
    vector = ir.Constant(_FOUR, ir.Undefined)
    for lane, value in enumerate(values):
        vector = builder.insert_element(vector, value, ir.Constant(_INT, lane))
    return vector


def _fused(builder: Any, a: Any, b: Any, c: Any) -> Any:
    return builder.fadd(builder.fmul(a, b, flags=["contract"]), c, flags=["contract"])


@intrinsic  # type: ignore[untyped-decorator,unused-ignore]
def add4(typing: Any, array: Any, index: Any, weight: Any, r: Any, g: Any, b: Any, a: Any) -> Any:
    """array[index : index + 4] += weight * (r, g, b, a), for a flat float32 array and an int64 index."""

    def build(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        place = _at(context, builder, signature.args[0], given[0], given[1])
        old = builder.load(place, align=4)
        added = _fused(builder, _spread(builder, given[2]), _joined(builder, given[3:]), old)
        builder.store(added, place, align=4)
        return context.get_dummy_value()

    number = types.float32
    return types.void(array, types.int64, number, number, number, number, number), build


@intrinsic  # type: ignore[untyped-decorator,unused-ignore]
def mix4(
    typing: Any,
    array: Any,
    index: Any,
    w0: Any,
    w1: Any,
    other: Any,
    w2: Any,
    w3: Any,
    target: Any,
    to: Any,
    share: Any,
) -> Any:
    """target[to : to + 4] += share * the mix of four pixels of an array: at `index` and behind it by w0, w1, at `other`
    and behind it by w2, w3. All flat float32."""

    def build(context: Any, builder: Any, signature: Any, given: Any) -> Any:
        source, first, a, b, second, c, d, goal, place, part = given
        four = ir.Constant(ir.IntType(64), 4)
        total = ir.Constant(_FOUR, [0.0] * 4)
        for index, weight in ((first, a), (builder.add(first, four), b), (second, c), (builder.add(second, four), d)):
            pixel = builder.load(_at(context, builder, signature.args[0], source, index), align=4)
            total = _fused(builder, pixel, _spread(builder, weight), total)
        address = _at(context, builder, signature.args[7], goal, place)
        builder.store(_fused(builder, total, _spread(builder, part), builder.load(address, align=4)), address, align=4)
        return context.get_dummy_value()

    number, whole = types.float32, types.int64
    return types.void(array, whole, number, number, whole, number, number, target, whole, number), build


__all__ = ["add4", "mix4"]
