"""The six-step point chain of the story at 4096 x 2160, against a memory copy and against plain NumPy."""

from collections.abc import Mapping, Sequence
from fractions import Fraction

import numpy as np

from benchmarks.measure import best, report
from nexal.engine import Engine, Plan
from nexal.picture import Alpha, Description, Plane, Window
from nexal.recipe import parse_recipe

WIDTH, HEIGHT = 4096, 2160
STEPS = [
    {
        "name": "others",
        "op": "cross",
        "in": {"a": "moth.R", "b": "moth.B"},
        "set": {"mode": "lighten", "domain": "scene"},
    },
    {
        "name": "pull",
        "op": "cross",
        "in": {"a": "moth.G", "b": "others"},
        "set": {"mode": "subtract", "domain": "scene"},
    },
    {"name": "core", "op": "stretch", "in": {"from": "pull"}, "set": {"black": 0.02, "white": 0.3, "domain": "scene"}},
    {"name": "matte", "op": "invert", "in": {"from": "core"}},
    {"name": "cut", "op": "attach_alpha", "in": {"picture": "moth", "alpha": "matte"}},
    {"name": "closed", "op": "premultiply", "in": {"picture": "cut"}},
]


class Memory:
    """Planes in memory, as a source."""

    digest = "benchmark"

    def __init__(self, planes: dict[str, Plane]) -> None:
        self.planes = planes
        window = Window(0, 0, WIDTH, HEIGHT)
        self.description = Description(tuple(planes), window, window, Alpha.NONE, frozenset())

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> Mapping[str, Plane]:
        return {name: self.planes[name][region.within(self.description.window)] for name in channels}


def main() -> None:
    random = np.random.default_rng(1)
    planes = {name: random.random((HEIGHT, WIDTH), np.float32) for name in "RGB"}
    recipe = parse_recipe({"nexal": 1, "sources": {"moth": {"files": "moth"}}, "steps": STEPS})
    engine = Engine(cache_bytes=0)
    plan = Plan(recipe, 1, {"moth": Memory(planes)})
    targets = [np.empty((HEIGHT, WIDTH), np.float32) for _ in range(4)]
    given = [planes["R"], planes["G"], planes["B"], planes["R"]]

    def copy() -> None:
        for target, plane in zip(targets, given, strict=True):
            np.copyto(target, plane)

    def plain() -> list[Plane]:
        matte = 1 - np.clip((planes["G"] - np.maximum(planes["R"], planes["B"]) - 0.02) / 0.28, 0, 1)
        return [planes[name] * matte for name in "RGB"] + [matte]

    def chain() -> Mapping[str, Plane]:
        return engine.evaluate(plan.feed("closed"), plan).planes

    for got, wanted in zip(chain().values(), plain(), strict=True):
        np.testing.assert_allclose(got, wanted, atol=1e-5)
    seconds = best({"copy": copy, "numpy": plain, "chain": chain})
    report(
        "six-step point chain, 4096 x 2160, four planes out",
        [
            f"{seconds['chain'] / seconds['copy']:.2f} memory copies of the same bytes (aim: at most 12)",
            f"{seconds['chain'] / seconds['numpy']:.2f} of plain NumPy",
            "here: " + ", ".join(f"{name} {value * 1e3:.0f} ms" for name, value in seconds.items()),
        ],
    )
