"""Arithmetic expressions in Python's syntax, parsed into a closed set of functions over arrays; nothing is executed.

The text is parsed to a syntax tree of which only numbers, names, operators, comparisons, `x if c else y` and calls
of the functions in `FUNCTIONS` are accepted. Numbers are floats from the start, so that no integer can grow without
end. Length, nesting and constant exponents are bounded.
"""

from __future__ import annotations

import ast
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from nexal.kernels.pointmath import Value, lerp, power, where

MAX_LENGTH = 2000
MAX_NESTING = 40
MAX_EXPONENT = 128.0


class FormulaError(ValueError):
    """What is wrong with a formula, and at which character (from 0) of its text."""

    def __init__(self, message: str, position: int, remedy: str) -> None:
        super().__init__(message)
        self.message = message
        self.position = position
        self.remedy = remedy


def _clamp(value: Value, low: Value = 0, high: Value = 1) -> Value:
    return np.minimum(np.maximum(value, low), high)


def _smoothstep(low: Value, high: Value, value: Value) -> Value:
    t = np.where(high > low, (value - low) / np.where(high > low, high - low, np.float32(1)), value >= high)
    t = _clamp(t.astype(np.float32))
    return t * t * (np.float32(3) - np.float32(2) * t)


def _number(truth: Value) -> Value:
    return where(truth, np.float32(1), np.float32(0))


FUNCTIONS: dict[str, tuple[int, int, Callable[..., Value]]] = {
    "abs": (1, 1, np.abs),
    "min": (2, 8, lambda *values: _fold(np.minimum, values)),
    "max": (2, 8, lambda *values: _fold(np.maximum, values)),
    "clamp": (1, 3, _clamp),
    "mix": (3, 3, lerp),
    "step": (2, 2, lambda edge, value: _number(value >= edge)),
    "smoothstep": (3, 3, _smoothstep),
    "sqrt": (1, 1, np.sqrt),
    "exp": (1, 1, np.exp),
    "log": (1, 1, np.log),
    "sin": (1, 1, np.sin),
    "cos": (1, 1, np.cos),
    "pow": (2, 2, power),
}
"""Least and greatest number of arguments, and what is computed."""

_OPERATORS: dict[type[ast.operator], Callable[[Value, Value], Value]] = {
    ast.Add: lambda a, b: a + b,
    ast.Sub: lambda a, b: a - b,
    ast.Mult: lambda a, b: a * b,
    ast.Div: np.divide,
    ast.Pow: power,
}
_COMPARISONS: dict[type[ast.cmpop], Callable[[Value, Value], Value]] = {
    ast.Lt: np.less,
    ast.LtE: np.less_equal,
    ast.Gt: np.greater,
    ast.GtE: np.greater_equal,
    ast.Eq: np.equal,
    ast.NotEq: np.not_equal,
}


def _fold(function: Callable[[Value, Value], Value], values: tuple[Value, ...]) -> Value:
    total = values[0]
    for value in values[1:]:
        total = function(total, value)
    return total


Evaluate = Callable[[Mapping[str, Value]], Value]


@dataclass(frozen=True)
class Formula:
    """A formula understood: the names that it reads (as written), each with its place, and how it is computed."""

    names: Mapping[str, int]
    evaluate: Evaluate


@lru_cache(maxsize=256)
def parse_formula(text: str) -> Formula:
    """Understand a formula. Raises FormulaError with the place of what is not accepted."""
    if not text.strip():
        raise FormulaError("is empty", 0, "write an expression, such as a.g - max(a.r, a.b)")
    if len(text) > MAX_LENGTH:
        raise FormulaError(f"is longer than {MAX_LENGTH} characters", MAX_LENGTH, "split it into several steps")
    _check_nesting(text)
    try:
        tree = ast.parse(text.strip(), mode="eval")
    except SyntaxError as error:
        raise FormulaError("is not an expression", max(0, (error.offset or 1) - 1), "mend the text there") from None
    except (ValueError, MemoryError, RecursionError):
        raise FormulaError("cannot be understood", 0, "make it simpler") from None
    indent = len(text) - len(text.lstrip())
    reader = _Reader(indent)
    return Formula(reader.names, reader.read(tree.body, 0))


def _check_nesting(text: str) -> None:
    """Brackets and signs are counted before Python's own parser sees them: deep ones would exhaust its stack."""
    depth = signs = 0
    for position, letter in enumerate(text):
        depth += (letter in "([{") - (letter in ")]}")
        signs = signs + 1 if letter in "+-~*" else (signs if letter.isspace() else 0)
        if depth > MAX_NESTING or signs > MAX_NESTING:
            raise FormulaError("is nested too deeply", position, "split it into several steps")


class _Reader:
    def __init__(self, indent: int) -> None:
        self.names: dict[str, int] = {}
        self.indent = indent

    def refuse(self, node: ast.AST, message: str, remedy: str) -> FormulaError:
        return FormulaError(message, getattr(node, "col_offset", 0) + self.indent, remedy)

    def read(self, node: ast.expr, depth: int) -> Evaluate:
        if depth > 4 * MAX_NESTING:
            raise self.refuse(node, "is too long to follow", "split it into several steps")
        match node:
            case ast.Constant(value=bool()) | ast.Constant(value=complex()):
                pass
            case ast.Constant(value=int() | float() as number):
                return self._constant(node, number)
            case ast.Name() | ast.Attribute():
                return self._name(node)
            case ast.UnaryOp(op=ast.USub(), operand=operand):
                inner = self.read(operand, depth + 1)
                return lambda values: -inner(values)
            case ast.BinOp(left=left, op=operator, right=right) if type(operator) in _OPERATORS:
                if isinstance(operator, ast.Pow):
                    self._check_exponent(right)
                apply = _OPERATORS[type(operator)]
                one, other = self.read(left, depth + 1), self.read(right, depth + 1)
                return lambda values: apply(one(values), other(values))
            case ast.Compare(left=left, ops=ops, comparators=comparators) if all(type(o) in _COMPARISONS for o in ops):
                return self._compare(left, ops, comparators, depth)
            case ast.IfExp(test=test, body=body, orelse=orelse):
                chosen, yes, no = (self.read(part, depth + 1) for part in (test, body, orelse))
                return lambda values: where(chosen(values) != 0, yes(values), no(values))
            case ast.Call():
                return self._call(node, depth)
        raise self.refuse(node, "this is not accepted in a formula", f"use numbers, names, + - * / **, {_known()}")

    def _constant(self, node: ast.expr, number: float) -> Evaluate:
        try:
            value = np.float32(number)
        except OverflowError:
            value = np.float32("inf")
        if not np.isfinite(value):
            raise self.refuse(node, "this number is too large", "use one below 3.4e38")
        return lambda values: value

    def _check_exponent(self, node: ast.expr) -> None:
        number = _constant_value(node)
        if number is not None and not abs(number) <= MAX_EXPONENT:
            raise self.refuse(node, "this exponent is too large", f"use one of at most {MAX_EXPONENT:g}")

    def _name(self, node: ast.expr) -> Evaluate:
        parts: list[str] = []
        inner = node
        while isinstance(inner, ast.Attribute):
            parts.append(inner.attr)
            inner = inner.value
        if not isinstance(inner, ast.Name):
            raise self.refuse(node, "only a port has channels", "write port.channel, such as a.r")
        name = ".".join([inner.id, *reversed(parts)])
        if "__" in name:
            raise self.refuse(node, f"'{name}' is not a channel", "write port.channel, such as a.r")
        self.names.setdefault(name, node.col_offset + self.indent)
        return lambda values: values[name]

    def _compare(self, left: ast.expr, ops: list[ast.cmpop], comparators: list[ast.expr], depth: int) -> Evaluate:
        sides = [self.read(side, depth + 1) for side in (left, *comparators)]
        tests = [_COMPARISONS[type(op)] for op in ops]

        def compare(values: Mapping[str, Value]) -> Value:
            seen = [side(values) for side in sides]
            return _number(_fold(np.logical_and, tuple(test(seen[i], seen[i + 1]) for i, test in enumerate(tests))))

        return compare

    def _call(self, node: ast.Call, depth: int) -> Evaluate:
        if not isinstance(node.func, ast.Name) or node.func.id not in FUNCTIONS:
            raise self.refuse(node.func, "there is no such function", f"there is {_known()}")
        least, most, function = FUNCTIONS[node.func.id]
        if node.keywords or not least <= len(node.args) <= most:
            count = str(least) if least == most else f"{least} to {most}"
            raise self.refuse(node, f"{node.func.id} takes {count} values", "give that many, separated by commas")
        if node.func.id == "pow":
            self._check_exponent(node.args[1])
        arguments = [self.read(argument, depth + 1) for argument in node.args]
        return lambda values: function(*(argument(values) for argument in arguments))


def _constant_value(node: ast.expr) -> float | None:
    """The value of an expression of numbers alone; infinite where it grows out of all bounds; None with names."""
    match node:
        case ast.Constant(value=bool()):
            return None
        case ast.Constant(value=int() | float() as number):
            return float(number) if abs(number) < 1e300 else float("inf")
        case ast.UnaryOp(op=ast.USub(), operand=operand):
            inner = _constant_value(operand)
            return None if inner is None else -inner
        case ast.BinOp(left=left, op=operator, right=right) if type(operator) in _OPERATORS:
            one, other = _constant_value(left), _constant_value(right)
            if one is None or other is None:
                return None
            with np.errstate(all="ignore"):
                return float(_OPERATORS[type(operator)](np.float64(one), np.float64(other)))
    return None


def _known() -> str:
    return ", ".join(FUNCTIONS)
