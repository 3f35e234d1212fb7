"""What people judge by eye: point operations at 4096 x 2160 against a memory copy of the planes that they write."""

import numpy as np

from benchmarks.chain import HEIGHT, WIDTH, Memory
from benchmarks.chain import STEPS as CHAIN
from benchmarks.measure import best, report
from nexal.engine import Engine, Plan
from nexal.kernels.blending import BLENDS
from nexal.kernels.halves import from_halves, prepare, to_halves
from nexal.kernels.pointmath import encode
from nexal.picture import Alpha, Description, Plane, Window
from nexal.recipe import parse_recipe

Step = dict[str, object]
CROSS: Step = {"name": "cross", "op": "cross", "in": {"a": "moth.G", "b": "moth.R"}, "set": {"mode": "subtract"}}


def _in_display(step: Step) -> Step:
    return step | {"set": {name: value for name, value in step.get("set", {}).items() if name != "domain"}}  # type: ignore[attr-defined]


CASES: dict[str, tuple[list[Step], float]] = {
    "cross in display": ([CROSS], 5),
    "cross and stretch in display": (
        [CROSS, {"name": "s", "op": "stretch", "in": {"from": "cross"}, "set": {"black": 0.1, "white": 0.7}}],
        5,
    ),
    "six steps in scene light": (CHAIN, 1.5),
    "six steps in display": ([_in_display(step) for step in CHAIN], 3.5),
    "stack soft-light": (
        [{"name": "s", "op": "stack", "in": {"under": "moth", "over": "q"}, "set": {"mode": "soft-light"}}],
        4,
    ),
    "stretch of a picture": (
        [{"name": "s", "op": "stretch", "in": {"from": "moth"}, "set": {"black": 0.1, "white": 0.9, "middle": 0.4}}],
        4,
    ),
    "grade": (
        [
            {
                "name": "s",
                "op": "grade",
                "in": {"picture": "moth"},
                "set": {"slope": [1.1, 1.0, 0.9], "power": [1.1, 1.0, 1.2], "saturation": 0.8},
            }
        ],
        4,
    ),
    "clear_backing in encoded values": (
        [
            {
                "name": "s",
                "op": "clear_backing",
                "in": {"picture": "q"},
                "set": {"colour": [0.2, 0.3, 0.1], "encoding": "display"},
            }
        ],
        4,
    ),
    "hue_pull": ([{"name": "s", "op": "hue_pull", "in": {"picture": "moth"}, "set": {"colour": [0.1, 0.6, 0.1]}}], 6),
    "luma_pull in display": (
        [{"name": "s", "op": "luma_pull", "in": {"picture": "moth"}, "set": {"domain": "display"}}],
        6,
    ),
    "formula": (
        [
            {
                "name": "s",
                "op": "formula",
                "in": {"a": "moth"},
                "set": {"expressions": {"Y": "clamp(a.g - max(a.r, a.b) * 0.8) ** 0.7"}, "domain": "display"},
            }
        ],
        6,
    ),
}


class _Named(Memory):
    def __init__(self, digest: str, planes: dict[str, Plane], alpha: Alpha) -> None:
        super().__init__(planes)
        window = Window(0, 0, WIDTH, HEIGHT)
        self.digest = digest
        self.description = Description(tuple(planes), window, window, alpha, frozenset())


def main() -> None:
    random = np.random.default_rng(1)
    planes = {name: random.random((HEIGHT, WIDTH), np.float32) for name in "RGBA"}
    readers = {
        "moth": _Named("points moth", {name: planes[name] for name in "RGB"}, Alpha.NONE),
        "q": _Named("points q", planes, Alpha.STRAIGHT),
    }
    engine = Engine(cache_bytes=0)

    def plan_of(steps: list[Step]) -> Plan:
        recipe = {"nexal": 1, "sources": {name: {"files": name} for name in readers}, "steps": steps}
        return Plan(parse_recipe(recipe), 1, readers)

    plain = BLENDS["subtract"](encode(planes["G"]), encode(planes["R"]))
    plan = plan_of([CROSS])
    np.testing.assert_allclose(engine.evaluate(plan.feed("cross"), plan).planes["Y"], plain, rtol=1e-6, atol=1e-6)
    targets = [np.empty((HEIGHT, WIDTH), np.float32) for _ in range(4)]
    lines = []
    for title, (steps, aim) in CASES.items():
        plan = plan_of(steps)
        feed = plan.feed(str(steps[-1]["name"]))
        count = len(feed.description.channels)

        def copy(count: int = count) -> None:
            for target, plane in zip(targets[:count], planes.values(), strict=False):
                np.copyto(target, plane)

        seconds = best({"copy": copy, "run": lambda feed=feed, plan=plan: engine.evaluate(feed, plan)}, rounds=5)
        lines.append(f"{title}: {seconds['run'] / seconds['copy']:.1f} copies of {count} planes (aim: {aim:g})")
    report(f"point operations, {WIDTH} x {HEIGHT}", lines)
    _halves(planes["R"])


def _halves(plane: Plane) -> None:
    """Half floats read and written, against NumPy."""
    prepare()
    halves = plane.astype(np.float16)
    np.testing.assert_array_equal(to_halves(plane), halves)
    np.testing.assert_array_equal(from_halves(halves), halves.astype(np.float32))
    seconds = best(
        {
            "widen": lambda: from_halves(halves),
            "widen by NumPy": lambda: halves.astype(np.float32),
            "round": lambda: to_halves(plane),
            "round by NumPy": lambda: plane.astype(np.float16),
        },
        rounds=5,
    )
    lines = [f"{what}: {seconds[what] / seconds[f'{what} by NumPy']:.2f} of NumPy" for what in ("widen", "round")]
    report(f"half floats, {WIDTH} x {HEIGHT}", lines)
