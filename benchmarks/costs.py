"""What operations say they take, against what they take: a ratio for each, near 1 where the estimate is good."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Any

import numpy as np

from nexal.engine import Engine, Plan
from nexal.engine.cost import cost_of
from nexal.engine.evaluate import SCALES
from nexal.recipe import parse_recipe

sys.path.insert(0, str(Path(__file__).parent.parent / "core" / "tests"))

SIDE = 1024
LARGE: dict[str, dict[str, Any]] = {
    "blur": {"radius": 100},
    "grow": {"distance": 60.5},
    "noise": {"octaves": 8, "width": SIDE, "height": SIDE},
    "touch_up": {"strokes": [{"points": [[0, 0], [900, 900]], "radius": 200}] * 30},
}
"""Settings that take longer than those of the property tests."""


def main() -> None:
    from core_support import MemorySource
    from test_mixing import CASES, SIZE, Alpha, sources

    print(f"{'operation':20} {'settings':10} {'said / took':>12}")
    across = (-(-SIDE // SIZE[0]), -(-SIDE // SIZE[1]))
    given = {
        name: MemorySource(
            {channel: np.tile(plane, across)[:SIDE, :SIDE] for channel, plane in source.planes.items()},
            alpha=source.description.alpha,
            data=list(source.description.data),
        )
        for name, source in sources(1, "noise", Alpha.STRAIGHT).items()
    }
    for op, case in CASES.items():
        for kind, own in (("usual", case.set), ("large", LARGE.get(op))):
            if own is None:
                continue
            sized = {"width": SIDE, "height": SIDE} if op in ("constant", "ramp", "noise") else {}
            step = {"name": "result", "op": op, "in": dict(case.ports), "set": {**own, **sized}}
            recipe = parse_recipe({"nexal": 1, "sources": {name: {} for name in given}, "steps": [*case.before, step]})
            plan = Plan(recipe, 1, given)
            feed = plan.feed("result")
            names, window = feed.description.channels, feed.description.window
            Engine().evaluate(feed, plan)
            said = cost_of(feed, names, window, 1, SCALES[0], True, lambda *_: False)
            began = time.perf_counter()
            Engine(threads=1).evaluate(feed, plan)
            took = time.perf_counter() - began
            print(f"{op:20} {kind:10} {said.seconds / took:12.2f}   ({took * 1000:.0f} ms)")
