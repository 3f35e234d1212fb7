"""Recording of point operations: what they do to values is written down once, and run by `kernels/machine.py`."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import wraps
from typing import TYPE_CHECKING, Any, ParamSpec, TypeVar

import numpy as np
from numpy.typing import NDArray

from nexal.kernels.instructions import LARGEST_EXPONENT, ROW, Op, split_exponent
from nexal.picture import Plane

if TYPE_CHECKING:
    # It is met by its name (`kernels/ahead.py`), but what it does is part of every version of a result.
    from nexal.kernels import machine as machine_code  # noqa: F401

Given = ParamSpec("Given")
Made = TypeVar("Made")


class NotRecorded(Exception):
    """An operation does what the machine does not know; it is run by NumPy then."""


_UFUNCS: dict[np.ufunc, Op] = {
    np.add: Op.ADD,
    np.subtract: Op.SUBTRACT,
    np.multiply: Op.MULTIPLY,
    np.divide: Op.DIVIDE,
    np.minimum: Op.MINIMUM,
    np.maximum: Op.MAXIMUM,
    np.absolute: Op.ABSOLUTE,
    np.negative: Op.NEGATIVE,
    np.sqrt: Op.SQUARE_ROOT,
    np.cbrt: Op.CUBE_ROOT,
    np.less: Op.LESS,
    np.less_equal: Op.LESS_EQUAL,
    np.equal: Op.EQUAL,
    np.not_equal: Op.NOT_EQUAL,
    np.logical_and: Op.AND,
    np.logical_or: Op.OR,
    np.logical_not: Op.NOT,
    np.isfinite: Op.FINITE,
    np.copysign: Op.COPYSIGN,
    np.floor: Op.FLOOR,
}
_TURNED = {np.greater: np.less, np.greater_equal: np.less_equal}
_OF_TRUTH = {np.bitwise_and: np.logical_and, np.bitwise_or: np.logical_or, np.invert: np.logical_not}
_TRUE_OR_NOT = {
    Op.LESS, Op.LESS_EQUAL, Op.EQUAL, Op.NOT_EQUAL, Op.AND, Op.OR, Op.NOT, Op.FINITE,
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Recorded(np.lib.mixins.NDArrayOperatorsMixin):
    """A value of a point chain that is being recorded: what makes it, of which other values."""

    recording: Recording
    index: int
    truth: bool = False

    def astype(self, _kind: Any, copy: bool = True) -> Recorded:
        """A truth as a number is the same 1 or 0."""
        return Recorded(self.recording, self.index)

    def __bool__(self) -> bool:
        raise NotRecorded("asks what a pixel holds")

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *values: Any, **more: Any) -> Recorded:
        if method != "__call__" or more:
            raise NotRecorded(f"{ufunc.__name__} {method} {sorted(more)}")
        return self.recording.ufunc(ufunc, values)

    def __array_function__(self, function: Any, _kinds: Any, values: Sequence[Any], more: Mapping[str, Any]) -> Any:
        if function is np.where and len(values) == 3 and not more:
            return self.recording.where(*values)
        if function is np.clip and len(values) == 3 and not more:
            return np.minimum(np.maximum(values[0], values[1]), values[2])
        raise NotRecorded(f"{function.__name__}")

    def __array__(self, *_: Any, **__: Any) -> Any:
        raise NotRecorded("is taken for an array")


Source = tuple[Op | None, tuple[int, ...]]
"""An instruction and the values that it takes; without one an input, or a number, by its place (numbers below 0)."""


@dataclass(eq=False)
class Recording:
    """Values in the order that they were made; the same made twice is one."""

    made: list[Source] = field(default_factory=list)
    numbers: list[float] = field(default_factory=list)
    inputs: dict[Hashable, Recorded] = field(default_factory=dict)
    _known: dict[Hashable, int] = field(default_factory=dict)

    def input(self, key: Hashable) -> Recorded:
        """A plane that enters under a key."""
        if key not in self.inputs:
            self.inputs[key] = self._put(None, (len(self.inputs),))
        return self.inputs[key]

    def place(self, op: Op) -> Recorded:
        """The x or y of pixel centres."""
        return self._put(op, ())

    def one(self, op: Op, *values: Any) -> Recorded:
        """What one instruction makes of values."""
        return self._put(op, tuple(self.value(value).index for value in values))

    def value(self, value: Any) -> Recorded:
        """A value as a recorded one; a number becomes a constant."""
        if isinstance(value, Recorded):
            return value
        if isinstance(value, (bool, np.bool_)):
            return Recorded(self, self._number(float(value)).index, truth=True)
        if isinstance(value, (int, float, np.number)):
            return self._number(float(np.float32(value)))
        raise NotRecorded(f"a {type(value).__name__} enters")

    def ufunc(self, ufunc: np.ufunc, values: Sequence[Any]) -> Recorded:
        if ufunc in _TURNED:
            return self.ufunc(_TURNED[ufunc], values[::-1])
        if ufunc in _OF_TRUTH:
            if not all(self.value(value).truth for value in values):
                raise NotRecorded(f"{ufunc.__name__} of numbers")
            return self.ufunc(_OF_TRUTH[ufunc], values)
        if ufunc is np.square:
            return self.one(Op.MULTIPLY, values[0], values[0])
        if ufunc is np.power:
            return self.power(*values)
        if ufunc not in _UFUNCS:
            raise NotRecorded(ufunc.__name__)
        return self.one(_UFUNCS[ufunc], *values)

    def power(self, base: Any, exponent: Any) -> Recorded:
        if isinstance(exponent, Recorded) or not 0 < abs(float(exponent)) <= LARGEST_EXPONENT:
            raise NotRecorded("takes a power of any number")
        number = float(exponent)
        if number == 1:
            return self.value(base)
        if number == 2:
            return self.one(Op.MULTIPLY, base, base)
        return self.one(Op.POWER, base, *split_exponent(number))

    def where(self, condition: Any, yes: Any, no: Any) -> Any:
        if not isinstance(condition, Recorded):
            return yes if condition else no
        if all(isinstance(value, Recorded) and value.truth for value in (yes, no)):
            return Recorded(self, self.one(Op.WHERE, condition, yes, no).index, truth=True)
        return self.one(Op.WHERE, condition, yes, no)

    def _number(self, number: float) -> Recorded:
        # 0 and -0 are told apart, and a NaN is the same as itself.
        key = ("number", np.float32(number).tobytes())
        if key not in self._known:
            self._known[key] = len(self.made)
            self.made.append((None, (-1 - len(self.numbers),)))
            self.numbers.append(number)
        return Recorded(self, self._known[key])

    def _put(self, op: Op | None, sources: tuple[int, ...]) -> Recorded:
        key = (op, sources)
        if key not in self._known:
            self._known[key] = len(self.made)
            self.made.append((op, sources))
        return Recorded(self, self._known[key], op in _TRUE_OR_NOT)

    def program(self, outputs: Sequence[Any]) -> Program:
        """What makes these values, of nothing but what they need."""
        wanted = [self.value(value).index for value in outputs]
        uses = Counter(wanted)
        for index in range(len(self.made) - 1, -1, -1):
            op, sources = self.made[index]
            if index in uses and op is not None:
                uses.update(sources)
        made = self.made.copy()
        for index in sorted(uses):
            joined = _joined(made, index, uses)
            if joined is not None:
                source, made[index] = joined
                del uses[source]
        return _Writer(replace(self, made=made), sorted(uses), wanted).write()


_PAIRS = {(Op.ADD, Op.MULTIPLY): Op.MULTIPLY_ADD, (Op.MINIMUM, Op.MAXIMUM): Op.CLIP}
"""Instructions that do what two do, of which the second takes the first's result before another value."""


def _joined(made: Sequence[Source], index: int, uses: Mapping[int, int]) -> tuple[int, Source] | None:
    """A value that nobody but this one takes, and the one instruction for both; None where there is none."""
    op, sources = made[index]
    for place in range(2 if op is Op.ADD else 1):
        if op is None or len(sources) < 2 or uses[sources[place]] != 1:
            continue
        inner, taken = made[sources[place]]
        if inner is not None and (op, inner) in _PAIRS:
            return sources[place], (_PAIRS[op, inner], (*taken, sources[1 - place]))
    return None


class _Writer:
    """Gives values their registers. A cell is free again after its value's last use; a result is made in its place."""

    def __init__(self, recording: Recording, order: Sequence[int], wanted: Sequence[int]) -> None:
        self.recording, self.order, self.wanted = recording, order, wanted
        self.last = {source: index for index in order if self._op(index) for source in recording.made[index][1]}
        self.code: list[tuple[int, ...]] = []
        self.constants = [index for index in order if not self._op(index) and recording.made[index][1][0] < 0]
        self.inputs = [index for index in order if not self._op(index) and recording.made[index][1][0] >= 0]
        self.register = {index: place for place, index in enumerate(self.constants)}
        self.free: list[int] = []
        self.cells = 0

    def _op(self, index: int) -> Op | None:
        return self.recording.made[index][0]

    def write(self) -> Program:
        made, keys = self.recording.made, list(self.recording.inputs)
        own = len(self.constants)
        # Until the cells are counted, what lies outside of them is told by numbers below 0.
        outside = {index: -1 - place for place, index in enumerate(self.inputs)}
        results = {index: -1 - len(self.inputs) - place for place, index in reversed([*enumerate(self.wanted)])}
        self.register.update(outside)
        for index in self.order:
            op, sources = made[index]
            if op is None:
                continue
            taken = [self.register[source] for source in sources]
            # Never one of those: the loop over both would not become vectors.
            self.register[index] = results[index] if index in results else self._cell()
            self.code.append((op, self.register[index], *taken, *(0, 0, 0)[len(taken) :]))
            for source in set(sources):
                if self.last[source] == index and self.register[source] >= own:
                    self.free.append(self.register[source])
        for place, index in enumerate(self.wanted):
            target = -1 - len(self.inputs) - place
            if self.register[index] != target:
                self.code.append((Op.COPY, target, self.register[index], 0, 0))
        outer = own + self.cells
        placed = [[op, *(outer - 1 - row if row < 0 else row for row in rows)] for op, *rows in self.code]
        numbers = [self.recording.numbers[-1 - made[index][1][0]] for index in self.constants]
        return Program(
            np.array(placed, np.int32).reshape(-1, 5),
            np.array(numbers, np.float32),
            self.cells,
            tuple(keys[made[index][1][0]] for index in self.inputs),
        )

    def _cell(self) -> int:
        if self.free:
            return self.free.pop()
        self.cells += 1
        return len(self.constants) + self.cells - 1


@dataclass(frozen=True, eq=False)
class Program:
    """Instructions, the numbers that they take, and the keys of the planes that enter."""

    code: NDArray[np.int32]
    constants: NDArray[np.float32]
    cells: int
    inputs: tuple[Hashable, ...]

    def run(self, entering: Mapping[Any, Plane], results: Sequence[Plane], place: tuple[float, float, float]) -> None:
        """Fill the results, all of one shape H x W, from planes of that shape.

        `place` is the x and y of the first pixel and the length of a pixel, in pixels of full resolution.
        """
        planes = [_in_rows(entering[key]) for key in self.inputs]
        rows, columns = results[0].shape
        sources, targets = _addresses(planes), _addresses(results)
        own = self.constants.size + self.cells
        memory = np.empty(own * ROW + _LINE, np.float32)
        registers = np.empty(own + len(sources) + len(targets), np.int64)
        machine()(
            _address(self.code),
            len(self.code),
            _address(self.constants),
            self.constants.size,
            self.cells,
            # Registers that lie across the lines of the cache would take a fifth longer.
            -(-_address(memory) // (4 * _LINE)) * 4 * _LINE,
            _address(registers),
            _address(sources),
            len(sources),
            _address(targets),
            len(targets),
            rows,
            columns,
            *place,
        )


_LINE = 16
"""Float32 of a line of the cache."""


def machine() -> Callable[..., None]:
    """`run` of `kernels/machine.py`, compiled."""
    # What loads compiled code takes long to import, and most of a command's start needs none.
    from nexal.kernels.ahead import loaded

    return loaded("nexal.kernels.machine", "run", "i" * 13 + "d" * 3)


def _address(array: NDArray[Any]) -> int:
    return int(array.__array_interface__["data"][0])


def _in_rows(plane: Plane) -> Plane:
    return plane if plane.strides[1] == plane.itemsize else np.ascontiguousarray(plane)


def _addresses(planes: Sequence[Plane]) -> NDArray[np.int64]:
    return np.array([(_address(plane), plane.strides[0]) for plane in planes], np.int64).reshape(-1, 2)


def one_instruction(op: Op) -> Any:
    """Decorator of a function of one value that the machine has an instruction of its own for."""

    def decorate(function: Any) -> Any:
        @wraps(function)
        def called(value: Any) -> Any:
            return value.recording.one(op, value) if isinstance(value, Recorded) else function(value)

        return called

    return decorate
