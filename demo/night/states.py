"""Every state that soft alpha comes in: straight, premultiplied, matted; by backing, encoding and bit depth."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from nexal.engine import Plan
from nexal.kernels.pointmath import decode, encode
from nexal.picture import Alpha, Description, Window
from nexal.recipe import parse_recipe

Array = NDArray[np.float32]

BACKINGS = {"teal": (0.05, 0.4, 0.4), "grey": (0.5, 0.5, 0.5), "dim green": (0.08, 0.1, 0.05), "white": (1.0, 1.0, 1.0)}
"""Colours in the values of the mixing."""
DEPTHS = {"float": 0, "16 bit": 65535, "8 bit": 255}


@dataclass(frozen=True)
class State:
    """A picture as it is read (scene-linear), with its alpha and what it truly is."""

    name: str
    colour: Array
    alpha: Array
    verdict: str
    domain: str | None
    backing: tuple[float, float, float]


def stored(values: Array, depth: str) -> Array:
    """Encoded values as a file of that depth gives them back."""
    full = DEPTHS[depth]
    return (np.floor(np.clip(values, 0, 1) * full + 0.5) / full).astype(np.float32) if full else values


def mixed(colour: Array, alpha: Array, backing: tuple[float, float, float], domain: str) -> Array:
    """Straight scene-linear colour over a backing, mixed in a domain; the result is scene-linear."""
    cover, back = alpha[..., None], np.array(backing, np.float32)
    if domain == "scene":
        return colour * cover + back * (1 - cover)
    return decode(encode(colour) * cover + back * (1 - cover))


def states(colour: Array, alpha: Array) -> Iterator[State]:
    """All of them, for a picture of straight colour and its alpha."""
    for depth in DEPTHS:
        cover = stored(alpha, depth)

        def kept(values: Array, depth: str = depth) -> Array:
            return values if depth == "float" else decode(stored(encode(values), depth))

        yield State(f"straight, {depth}", kept(colour), cover, "straight", None, (0, 0, 0))
        lit = np.where(alpha[..., None] > 0, colour, np.float32(0.2))
        yield State(f"straight, grey where alpha is 0, {depth}", kept(lit), cover, "straight", None, (0, 0, 0))
        for domain, words in (("scene", "linear"), ("display", "encoded")):
            black = kept(mixed(colour, alpha, (0, 0, 0), domain))
            yield State(f"premultiplied, {words}, {depth}", black, cover, "premultiplied", domain, (0, 0, 0))
            for name, backing in BACKINGS.items():
                made = kept(mixed(colour, alpha, backing, domain))
                yield State(f"over {name}, {words}, {depth}", made, cover, "matted", domain, backing)


class _Planes:
    """A state's colour and alpha as a source."""

    def __init__(self, state: State) -> None:
        self.digest = state.name
        self.planes = {name: np.ascontiguousarray(state.colour[..., i]) for i, name in enumerate("RGB")}
        self.planes["A"] = state.alpha
        height, width = state.alpha.shape
        window = Window(0, 0, width, height)
        self.description = Description(tuple("RGBA"), window, window, Alpha.STRAIGHT, frozenset("A"))

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> dict[str, Array]:
        return {name: self.planes[name][region.within(self.description.window)] for name in channels}


def plan_of(state: State, *steps: dict[str, object]) -> Plan:
    """A recipe's plan with the state as its source `p`."""
    return Plan(
        parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": list(steps)}), 1, {"p": _Planes(state)}
    )
