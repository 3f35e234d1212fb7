"""The desk: a fader of a twelve-pass sum moved, at stage size of a 2K render, against adding the planes up plainly."""

import time
from collections.abc import Mapping, Sequence
from fractions import Fraction

import numpy as np

from benchmarks.measure import best, report
from nexal.analysis.samples import half_planes
from nexal.engine import Engine, Plan
from nexal.picture import Alpha, Description, Plane, Window
from nexal.recipe import parse_recipe

WIDTH, HEIGHT, PASSES = 2048, 1152, 12
STAGE = Fraction(1, 2)


class Render:
    """Twelve passes of a 2K render with a proxy of half the size, as the plane store has it."""

    digest = "render"

    def __init__(self) -> None:
        random = np.random.default_rng(1)
        names = tuple(f"pass{index:02}.{name}" for index in range(PASSES) for name in "RGB")
        window = Window(0, 0, WIDTH, HEIGHT)
        self.description = Description(names, window, window, Alpha.NONE, frozenset())
        self.half = {name: random.random((HEIGHT // 2, WIDTH // 2), np.float32) for name in names}

    def read(self, channels: Sequence[str], scale: Fraction, region: Window) -> Mapping[str, Plane]:
        return {name: self.half[name][region.within(self.description.window.scaled(scale))] for name in channels}


def main() -> None:
    render, engine = Render(), Engine(threads=2)
    addresses = [f"r.pass{index:02}" for index in range(PASSES)]

    def moved(stops: float) -> bytes:
        passes = [{"stops": stops}] + [{"stops": 0.1 * index} for index in range(1, PASSES)]
        step = {"name": "sum", "op": "sum_passes", "in": {"passes": addresses}, "set": {"passes": passes}}
        recipe = parse_recipe({"nexal": 1, "sources": {"r": {"files": "r"}}, "steps": [step]})
        plan = Plan(recipe, 1, {"r": render})
        return bytes(half_planes(engine.evaluate(plan.feed("sum"), plan, scale=STAGE, looked_at=True)))

    def plain() -> list[Plane]:
        gains = [np.float32(2 ** (0.1 * index)) for index in range(PASSES)]
        return [sum(gains[i] * render.half[f"pass{i:02}.{name}"] for i in range(PASSES)) for name in "RGB"]

    turn = iter(range(1, 10_000))
    seconds = best({"fader": lambda: moved(next(turn) / 1000), "numpy": plain}, rounds=9)
    start = time.perf_counter()
    for _ in range(25):
        moved(next(turn) / 1000)
    rate = 25 / (time.perf_counter() - start)
    report(
        f"a fader of {PASSES} passes, {WIDTH} x {HEIGHT} seen at {WIDTH // 2} x {HEIGHT // 2}, half floats out",
        [
            f"{seconds['fader'] / seconds['numpy']:.2f} of adding the planes up with NumPy",
            f"here: {seconds['fader'] * 1e3:.0f} ms, {rate:.0f} pictures a second (aim 25)",
        ],
    )
