"""A machine for point chains: a list of instructions run over short rows of pixels, in registers that stay in cache.

An instruction does one thing to a row of at most `ROW` pixels, in a loop that the compiler turns into vectors, so that
the instruction itself costs next to nothing. Nothing is compiled for a chain: its numbers and its structure are data.
Arithmetic rounds as NumPy does it, operation by operation; powers are those of `kernels/powers.py`.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.addresses import pointer
from nexal.kernels.instructions import ROW, Op, split_exponent
from nexal.kernels.powers import bits, bounded_power, cube_root, square_root, whole_below, wide_power, with_sign

(
    _COPY, _X, _Y, _ADD, _SUBTRACT, _MULTIPLY, _DIVIDE, _MINIMUM, _MAXIMUM, _ABSOLUTE, _NEGATIVE, _SQUARE_ROOT,
    _CUBE_ROOT, _LESS, _LESS_EQUAL, _EQUAL, _NOT_EQUAL, _AND, _OR, _NOT, _FINITE, _WHERE, _COPYSIGN, _ENCODE, _DECODE,
    _POWER, _FLOOR, _MULTIPLY_ADD, _CLIP,
) = (int(op) for op in Op)  # fmt: skip

_f32 = np.float32
_ONE, _ZERO = _f32(1), _f32(0)
_LARGEST = _f32(np.finfo(np.float32).max)
_SMALLEST = _f32(np.finfo(np.float32).tiny)
_UP = _f32(2.0**24)
_LARGEST_DISPLAY = np.nextafter(_f32(1.055 * float(_LARGEST) ** (1 / 2.4) - 0.055), _ZERO)
"""The largest encoded value whose scene light float32 holds."""
_TO_DISPLAY, _TO_SCENE = split_exponent(1 / 2.4), split_exponent(2.4)


@numba.njit(nogil=True)
def _root(o: NDArray[np.float32], a: NDArray[np.float32]) -> None:
    for j in range(o.size):
        x = abs(a[j])
        # Numbers below the normal ones are made normal: 2^24 has the cube root 2^8.
        tiny = x < _SMALLEST
        root = cube_root(x * _UP if tiny else x) * (_f32(1 / 256) if tiny else _ONE)
        o[j] = with_sign(root if (x > _ZERO) & (x <= _LARGEST) else x, a[j])


@numba.njit(nogil=True)
def _encode(o: NDArray[np.float32], a: NDArray[np.float32]) -> None:
    for j in range(o.size):
        x = abs(a[j])
        power = bounded_power(x, *_TO_DISPLAY)
        curve = _f32(1.055) * (power if x <= _LARGEST else x) - _f32(0.055)
        o[j] = with_sign(_f32(12.92) * x if x <= _f32(0.0031308) else curve, a[j])


@numba.njit(nogil=True)
def _decode(o: NDArray[np.float32], a: NDArray[np.float32]) -> None:
    for j in range(o.size):
        x = abs(a[j])
        power = bounded_power((x + _f32(0.055)) * _f32(1 / 1.055), *_TO_SCENE)
        curve = power if x <= _LARGEST_DISPLAY else x * _LARGEST
        o[j] = with_sign(x * _f32(1 / 12.92) if x <= _f32(0.04045) else curve, a[j])


@numba.njit(nogil=True, error_model="numpy")
def _power(o: NDArray[np.float32], a: NDArray[np.float32], high: float, low: float) -> None:
    exponent = high + low
    # A base below the normal numbers is made normal, and the power brought back in two steps.
    back = _f32(2.0 ** (-12.0 * exponent))
    whole = exponent == whole_below(exponent)
    odd = whole and whole_below(exponent) % 2 != 0
    turn = (_f32(-1) if odd else _ONE) if whole else _f32(np.nan)
    # Most rows hold nothing but what is common: 0, and numbers whose powers are normal ones.
    reach = min(_f32(120), _f32(120) / abs(exponent))
    least, most = _f32(2.0**-reach), _f32(2.0**reach)
    other = 0
    for j in range(o.size):
        common = ((a[j] >= least) & (a[j] <= most)) | ((a[j] == _ZERO) & (exponent > _ZERO) & (bits(a[j]) == 0))
        other += 0 if common else 1
    if other == 0:
        for j in range(o.size):
            power = bounded_power(a[j], high, low)
            o[j] = power if a[j] > _ZERO else _ZERO
        return
    for j in range(o.size):
        x = abs(a[j])
        tiny = x < _SMALLEST
        step = back if tiny else _ONE
        power = wide_power(x * _UP if tiny else x, high, low) * step * step
        end = x if exponent > 0 else _ONE / x
        power = power if (x > _ZERO) & (x <= _LARGEST) else end
        # Zero and infinity have a power, whatever their sign.
        turned = power * turn if whole or ((x > _ZERO) & (x <= _LARGEST)) else power
        o[j] = turned if (a[j] < _ZERO) | (odd and x == _ZERO and bits(a[j]) < 0) else power


@numba.njit(nogil=True, error_model="numpy")
def run(
    code_at: int,
    instructions: int,
    constants_at: int,
    constants: int,
    cells: int,
    memory_at: int,
    registers_at: int,
    sources_at: int,
    sources: int,
    targets_at: int,
    targets: int,
    rows: int,
    columns: int,
    left: float,
    top: float,
    step: float,
) -> None:
    """Run a program over a region.

    Each `_at` is the address of what its name says. The code is N x 5 int32: operation, the register that it fills, and
    up to three that it takes. Registers are, in this order, the constants (float32), `cells` of its own, the sources
    and the targets. Sources and targets are K x 2 int64: the address of the first pixel of a float32 plane, and the
    bytes from one of its rows to the next; neighbours in a row lie side by side. All planes have as many rows and
    columns. `left` and `top` are x and y of the first pixel, `step` the length of a pixel, in pixels of full
    resolution. What it works in is given along: memory of float32 for constants and cells, `ROW` each, and an int64 for
    each register.
    """
    code = numba.carray(pointer(code_at), (instructions, 5), np.int32)
    numbers = numba.carray(pointer(constants_at), (constants,), np.float32)
    own = constants + cells
    memory = numba.carray(pointer(memory_at), (own, ROW), np.float32)
    registers = numba.carray(pointer(registers_at), (own + sources + targets,), np.int64)
    source = numba.carray(pointer(sources_at), (sources, 2), np.int64)
    target = numba.carray(pointer(targets_at), (targets, 2), np.int64)
    for index in range(own):
        registers[index] = memory_at + index * ROW * 4
    for index in range(constants):
        memory[index, :] = numbers[index]
    for row in range(rows):
        for start in range(0, columns, ROW):
            count = min(ROW, columns - start)
            for index in range(sources):
                registers[own + index] = source[index, 0] + row * source[index, 1] + 4 * start
            for index in range(targets):
                registers[own + sources + index] = target[index, 0] + row * target[index, 1] + 4 * start
            for line in range(instructions):
                op = code[line, 0]
                o = numba.carray(pointer(registers[code[line, 1]]), (count,), np.float32)
                a = numba.carray(pointer(registers[code[line, 2]]), (count,), np.float32)
                b = numba.carray(pointer(registers[code[line, 3]]), (count,), np.float32)
                c = numba.carray(pointer(registers[code[line, 4]]), (count,), np.float32)
                if op == _ADD:
                    for j in range(count):
                        o[j] = a[j] + b[j]
                elif op == _SUBTRACT:
                    for j in range(count):
                        o[j] = a[j] - b[j]
                elif op == _MULTIPLY:
                    for j in range(count):
                        o[j] = a[j] * b[j]
                elif op == _MULTIPLY_ADD:
                    for j in range(count):
                        o[j] = a[j] * b[j] + c[j]
                elif op == _CLIP:
                    for j in range(count):
                        held = a[j] if (a[j] > b[j]) | (a[j] != a[j]) else b[j]
                        o[j] = held if (held < c[j]) | (held != held) else c[j]
                elif op == _DIVIDE:
                    for j in range(count):
                        o[j] = a[j] / b[j]
                elif op == _MINIMUM:
                    for j in range(count):
                        o[j] = a[j] if (a[j] < b[j]) | (a[j] != a[j]) else b[j]
                elif op == _MAXIMUM:
                    for j in range(count):
                        o[j] = a[j] if (a[j] > b[j]) | (a[j] != a[j]) else b[j]
                elif op == _WHERE:
                    for j in range(count):
                        yes, no = b[j], c[j]
                        o[j] = yes if a[j] != _ZERO else no
                elif op == _LESS:
                    for j in range(count):
                        o[j] = _ONE if a[j] < b[j] else _ZERO
                elif op == _LESS_EQUAL:
                    for j in range(count):
                        o[j] = _ONE if a[j] <= b[j] else _ZERO
                elif op == _EQUAL:
                    for j in range(count):
                        o[j] = _ONE if a[j] == b[j] else _ZERO
                elif op == _NOT_EQUAL:
                    for j in range(count):
                        o[j] = _ONE if a[j] != b[j] else _ZERO
                elif op == _AND:
                    for j in range(count):
                        o[j] = _ONE if (a[j] != _ZERO) & (b[j] != _ZERO) else _ZERO
                elif op == _OR:
                    for j in range(count):
                        o[j] = _ONE if (a[j] != _ZERO) | (b[j] != _ZERO) else _ZERO
                elif op == _NOT:
                    for j in range(count):
                        o[j] = _ONE if a[j] == _ZERO else _ZERO
                elif op == _FINITE:
                    for j in range(count):
                        o[j] = _ONE if abs(a[j]) <= _LARGEST else _ZERO
                elif op == _ABSOLUTE:
                    for j in range(count):
                        o[j] = abs(a[j])
                elif op == _NEGATIVE:
                    for j in range(count):
                        o[j] = -a[j]
                elif op == _COPYSIGN:
                    for j in range(count):
                        o[j] = with_sign(abs(a[j]), b[j])
                elif op == _SQUARE_ROOT:
                    for j in range(count):
                        o[j] = square_root(a[j])
                elif op == _CUBE_ROOT:
                    _root(o, a)
                elif op == _ENCODE:
                    _encode(o, a)
                elif op == _DECODE:
                    _decode(o, a)
                elif op == _POWER:
                    _power(o, a, b[0], c[0])
                elif op == _FLOOR:
                    for j in range(count):
                        o[j] = whole_below(a[j])
                elif op == _COPY:
                    for j in range(count):
                        o[j] = a[j]
                elif op == _X:
                    for j in range(count):
                        o[j] = (_f32(start + j) + _f32(left) + _f32(0.5)) * _f32(step)
                elif op == _Y:
                    for j in range(count):
                        o[j] = (_f32(row) + _f32(top) + _f32(0.5)) * _f32(step)
