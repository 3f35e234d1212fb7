"""Float32 to half float and back: many times faster than NumPy's conversions, bit for bit as they are."""

from __future__ import annotations

import platform
from functools import cache
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from nexal.memory import empty
from nexal.picture import Plane

if TYPE_CHECKING:
    from nexal.kernels import half_codes  # noqa: F401 - met by its name, but part of every version of a result
    from nexal.kernels.ahead import Call

FEW = 1 << 17
"""Samples below which NumPy is done before the compiled code is loaded."""
_known: dict[str, Call] = {}


@cache
def _knows_halves() -> bool:
    """Whether this processor has instructions for half floats."""
    if platform.machine() != "x86_64":
        return platform.machine() in ("aarch64", "arm64")
    from llvmlite import binding

    try:
        return bool(binding.get_host_cpu_features().get("f16c"))
    except RuntimeError:
        return False


def _named(what: str) -> str:
    return what if _knows_halves() else f"{what}_by_bits"


def _code(what: str, count: int) -> Call | None:
    """Compiled code for so many samples, where it was made before; NumPy does until then."""
    known = _known.get(what)
    if known is None and count >= FEW:
        from nexal.kernels.ahead import met

        known = met("nexal.kernels.half_codes", _named(what), "iii")
        if known is not None:
            _known[what] = known
    return known


def prepare() -> None:
    """Make the compiled code where it is not there yet, which takes some seconds. Raises RuntimeError."""
    from nexal.kernels.ahead import loaded

    for what in ("narrow", "widen"):
        loaded("nexal.kernels.half_codes", _named(what), "iii")


def _address(array: NDArray[Any]) -> int:
    return int(array.__array_interface__["data"][0])


def write_halves(plane: Plane, result: NDArray[np.uint16]) -> None:
    """Write the half floats of a plane H x W, as their bits, into a contiguous array of the same size."""
    narrow = _code("narrow", plane.size)
    if narrow is None:
        # What is too large is infinite, and what is no number is none.
        with np.errstate(over="ignore", invalid="ignore"):
            result[...] = plane.astype(np.float16).view(np.uint16)
        return
    values = np.ascontiguousarray(plane, np.float32)
    narrow(_address(values), _address(result), values.size)


def to_halves(plane: Plane) -> NDArray[np.float16]:
    """A plane H x W as half floats: rounded to the nearest, ties to even (IEEE 754); what is too large is infinite."""
    result = empty(plane.shape, np.uint16)
    write_halves(plane, result)
    return result.view(np.float16)


def from_halves(samples: NDArray[np.float16]) -> Plane:
    """Half floats H x W as float32, which holds every one of them."""
    widen = _code("widen", samples.size)
    if widen is None:
        return samples.astype(np.float32)
    halves = np.ascontiguousarray(samples)
    result = empty(halves.shape)
    widen(_address(halves), _address(result), halves.size)
    return result
