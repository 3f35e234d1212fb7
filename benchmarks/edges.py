"""clear_backing and stack at 4K against a memory copy, and the diagnosis of a 4K picture."""

from collections.abc import Mapping, Sequence
from fractions import Fraction
from typing import Any

import numpy as np

from benchmarks.measure import best, report
from nexal.analysis.diagnose import diagnose
from nexal.engine import Engine, Plan
from nexal.picture import Alpha, Description, Plane, Window
from nexal.recipe import parse_recipe

WIDTH, HEIGHT = 4096, 2160


class Planes:
    """Planes in memory as a source, in full resolution and as every nth sample."""

    def __init__(
        self, name: str, planes: Mapping[str, Plane], alpha: Alpha = Alpha.NONE, data: frozenset[str] = frozenset()
    ) -> None:
        self.digest = name
        self.planes = dict(planes)
        height, width = next(iter(planes.values())).shape
        window = Window(0, 0, width, height)
        self.description = Description(tuple(planes), window, window, alpha, data)

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> Mapping[str, Plane]:
        n = scale.denominator
        window = self.description.window.scaled(scale)
        return {name: self.planes[name][::n, ::n][region.within(window)] for name in channels}


def soft(name: str) -> Planes:
    """A 4K picture with a soft alpha everywhere."""
    random = np.random.default_rng(len(name))
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    alpha = np.clip(0.5 + 0.7 * np.sin(x / 60) * np.cos(y / 45), 0, 1).astype(np.float32)
    planes = {n: (random.random((HEIGHT, WIDTH), np.float32) * 0.2 + 0.3) * alpha for n in "RGB"}
    planes = {n: p + np.float32(0.4) * (1 - alpha) for n, p in planes.items()} | {"A": alpha}
    return Planes(name, planes, Alpha.PREMULTIPLIED, frozenset("A"))


def main() -> None:
    over, under = soft("over"), soft("below")
    readers = {"over": over, "under": under}
    sources = {name: {"files": name} for name in readers}
    copied = np.stack(list(over.planes.values()))
    turn = iter(range(1, 100_000))

    def run(op: str, inputs: dict[str, str], settings: dict[str, Any]) -> None:
        step = {"name": "made", "op": op, "in": inputs, "set": settings}
        plan = Plan(parse_recipe({"nexal": 1, "sources": sources, "steps": [step]}), 1, readers)
        Engine(cache_bytes=1 << 20, threads=2).evaluate(plan.feed("made"), plan)

    def cleared(encoding: str) -> None:
        run("clear_backing", {"picture": "over"}, {"colour": [0.4, 0.4, next(turn) / 1e6], "encoding": encoding})

    def told() -> None:
        plan = Plan(parse_recipe({"nexal": 1, "sources": sources}), 1, readers)
        diagnose(Engine(threads=2), plan, plan.feed("over"))

    seconds = best(
        {
            "copy": lambda: copied.copy(),
            "linear": lambda: cleared("scene"),
            "encoded": lambda: cleared("display"),
            "stack": lambda: run("stack", {"under": "under", "over": "over"}, {"opacity": 1 - next(turn) / 1e6}),
            "diagnose": told,
        },
        rounds=5,
    )
    report(
        f"edges, {WIDTH} x {HEIGHT}, four planes",
        [
            f"clear_backing in linear light: {seconds['linear'] / seconds['copy']:.1f} memory copies of the same bytes",
            f"clear_backing in encoded values: {seconds['encoded'] / seconds['copy']:.1f}",
            f"stack: {seconds['stack'] / seconds['copy']:.1f}",
            f"diagnosis: {seconds['diagnose'] / seconds['copy']:.1f}; here {seconds['diagnose']:.2f} s (aim 1 s)",
        ],
    )
