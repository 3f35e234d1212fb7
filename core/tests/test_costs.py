"""What computing takes is known before it begins, bounds hold, and what is given up ends soon."""

from __future__ import annotations

import sys
import tracemalloc
import unittest
from typing import Any
from unittest import mock

import numpy as np
from core_support import CoreTest, MemorySource
from test_mixing import CASES, SIZE, Alpha, sources

from nexal.analysis.marks import MOST_SAMPLES, Mark, marked
from nexal.engine import Engine, Plan
from nexal.engine import evaluate as evaluating
from nexal.errors import Cancelled, NexalError, TooMuch
from nexal.picture import Picture, Window
from nexal.recipe import parse_recipe
from nexal.work import Cost, Work, working

LIMIT = 1 << 30
HUGE = {"name": "huge", "op": "constant", "set": {"width": 32768, "height": 32768, "colour": [0.2, 0.3, 0.4, 1]}}
PLANE = {"name": "plane", "op": "constant", "set": {"width": 32768, "height": 32768, "colour": [0.5]}}
DOT = Window(5, 5, 1, 1)


class Bounded(Work):
    """Refuses what takes more than a gigabyte, and counts how often it is looked at."""

    def __init__(self, give_up_at: int = 1 << 60) -> None:
        self.costs: list[Cost] = []
        self.looks = 0
        self.give_up_at = give_up_at

    def claim(self, cost: Cost) -> None:
        self.costs.append(cost)
        if cost.bytes > LIMIT:
            raise TooMuch("needs too much")

    def check(self) -> None:
        self.looks += 1
        if self.looks >= self.give_up_at:
            raise Cancelled("was given up")


def planned(steps: list[dict[str, Any]], given: dict[str, MemorySource] | None = None) -> Plan:
    given = given or {}
    return Plan(parse_recipe({"nexal": 1, "sources": {name: {} for name in given}, "steps": steps}), 1, given)


def evaluated(steps: list[dict[str, Any]], work: Work, **options: Any) -> Picture:
    plan = planned(steps)
    with working(work):
        return Engine().evaluate(plan.feed(steps[-1]["name"]), plan, **options)


def tiled(factor: int) -> dict[str, MemorySource]:
    """The sources of the property tests, several times beside and below each other."""
    return {
        name: MemorySource(
            {channel: np.tile(plane, (factor, factor)) for channel, plane in source.planes.items()},
            alpha=source.description.alpha,
            data=list(source.description.data),
        )
        for name, source in sources(3, "noise", Alpha.STRAIGHT).items()
    }


class Bounds(CoreTest):
    def test_what_needs_everything_is_refused_before_it_begins(self) -> None:
        for step in (
            {"name": "s", "op": "despeckle", "in": {"matte": "plane"}},
            {"name": "s", "op": "bleed", "in": {"picture": "huge"}},
            {"name": "s", "op": "resize", "in": {"from": "huge"}, "set": {"width": 1, "height": 1}},
            {"name": "s", "op": "fine_edge", "in": {"picture": "huge", "matte": "plane"}},
            {"name": "s", "op": "recover_colour", "in": {"picture": "huge", "matte": "plane"}},
            {"name": "s", "op": "blocks", "in": {"from": "huge"}},
            {"name": "s", "op": "mip", "in": {"from": "huge"}, "set": {"level": 12}},
        ):
            with self.subTest(step["op"]):
                region = Window(0, 0, 1, 1)
                if step["op"] == "mip":
                    region = Window(0, 0, 32768, 1)
                work = Bounded()
                with self.assertRaises(TooMuch):
                    evaluated([HUGE, PLANE, step], work, region=region)
                self.assertEqual(work.looks, 1, "nothing was computed")

    def test_a_dot_of_what_needs_only_that_is_computed(self) -> None:
        steps = [
            HUGE,
            {"name": "a", "op": "grade", "in": {"picture": "huge"}, "set": {"exposure": 1}},
            {"name": "b", "op": "blur", "in": {"from": "a"}, "set": {"radius": 20}},
        ]
        work = Bounded()
        found = evaluated(steps, work, region=DOT)
        self.assertAlmostEqual(float(found.planes["R"][0, 0]), 0.4, 5)
        self.assertLess(work.costs[0].bytes, 1 << 20)

    def test_what_is_held_already_costs_no_work(self) -> None:
        engine, plan = Engine(), planned([{**PLANE, "set": {"width": 512, "height": 512, "colour": [1]}}])
        works = [Bounded(), Bounded()]
        for work in works:
            with working(work):
                engine.evaluate(plan.feed("plane"), plan, looked_at=True)
        self.assertGreater(works[0].costs[0].seconds, 2 * works[1].costs[0].seconds)

    def test_a_diamond_is_counted_once_and_a_long_chain_does_not_add_up(self) -> None:
        step = {"op": "blur", "set": {"radius": 1}}
        steps = [{**HUGE, "set": {**HUGE["set"], "width": 500, "height": 500}}]
        for number in range(300):
            steps.append({**step, "name": f"s{number}", "in": {"from": steps[-1]["name"]}})
        works = []
        for count in (3, 301):
            works.append(Bounded())
            plan = planned(steps[:count])
            with working(works[-1]), mock.patch.object(Engine, "_feed", return_value=dict.fromkeys("RGBA", 0)):
                Engine().evaluate(plan.feed(steps[count - 1]["name"]), plan, region=Window(100, 100, 50, 50))
        short, long = (work.costs[0] for work in works)
        self.assertLess(long.bytes, 200 * short.bytes)
        self.assertLess(long.bytes, 60 << 20)
        folded = [steps[0]]
        for number in range(40):
            before = folded[-1]["name"]
            folded.append({"name": f"d{number}", "op": "stack", "in": {"under": before, "over": before}})
        work = Bounded()
        evaluated(folded, work, region=DOT)
        self.assertLess(work.costs[0].seconds, 1e-3)

    def test_no_operation_takes_more_memory_than_it_says(self) -> None:
        given = tiled(6)
        for op, case in CASES.items():
            # Those are of a size of their own; the solver reserves memory that it never touches: see test_matting.
            if op in ("constant", "ramp", "noise", "fine_edge"):
                continue
            steps = [*case.before, {"name": "s", "op": op, "in": dict(case.ports), "set": dict(case.set)}]
            plan = planned(steps, given)
            engine = Engine(cache_bytes=1, threads=1)
            engine.evaluate(plan.feed("s"), plan, region=Window(0, 0, 8, 8))
            work = Bounded()
            tracemalloc.start()
            with working(work):
                engine.evaluate(plan.feed("s"), plan)
            _, peak = tracemalloc.get_traced_memory()
            tracemalloc.stop()
            with self.subTest(op):
                self.assertLess(peak, 1.1 * work.costs[0].bytes + (8 << 20))

    def test_many_large_marks_are_read_once_and_thinned_out(self) -> None:
        rows, columns = np.mgrid[0 : SIZE[0] * 8, 0 : SIZE[1] * 8].astype(np.float32)
        source = MemorySource({"R": rows, "G": columns})
        plan = planned([], {"pic": source})
        with mock.patch("nexal.analysis.marks.MOST_SAMPLES", 20_000):
            found = marked(Engine(), plan, plan.feed("pic"), ("R", "G"), [Mark(300, 250, 500)] * 100)
        self.assertEqual(source.reads, 1)
        self.assertLess(found.shape[1], 45_000)
        self.assertLess(abs(float(found[0].mean()) - float(rows.mean())), 3)
        self.assertGreater(MOST_SAMPLES, 1_000_000)


class Long(CoreTest):
    def test_nothing_recurses_by_step(self) -> None:
        """Chains of a hundred times the depth that is walked in one go, under the interpreter's own limit."""
        ways: dict[str, dict[str, Any]] = {
            "point": {"op": "grade", "set": {"exposure": 0.001}},
            "blur": {"op": "blur", "set": {"radius": 0.3}},
            "passed": {"op": "grade", "on": False},
        }
        limit = sys.getrecursionlimit()
        self.addCleanup(sys.setrecursionlimit, limit)
        sys.setrecursionlimit(1000)
        for name, step in ways.items():
            port = "from" if step["op"] == "blur" else "picture"
            steps = [{"name": "a", "op": "constant", "set": {"width": 16, "height": 8, "colour": [0.25, 0.5, 1]}}]
            for number in range(1500):
                steps.append({**step, "name": f"s{number}", "in": {port: steps[-1]["name"]}})
            for looked_at in (True, False):
                with self.subTest(name, looked_at=looked_at):
                    plan = planned(steps)
                    found = Engine().evaluate(plan.feed("s1499"), plan, looked_at=looked_at)
                    factor = 2 ** (0.001 * 1500) if name == "point" else 1
                    np.testing.assert_allclose(found.planes["R"], 0.25 * factor, rtol=1e-3)

    def test_a_fault_far_down_is_told_where_it_arose(self) -> None:
        steps = [{"name": "a", "op": "blur", "in": {"from": "nothing"}}]
        for number in range(300):
            steps.append({"name": f"s{number}", "op": "blur", "in": {"from": steps[-1]["name"]}})
        plan = planned(steps)
        for item in ("s299", "s100"):
            with self.assertRaises(NexalError) as told:
                plan.node(item)
            self.assertIn("step 'a'", told.exception.where)


class GivenUp(CoreTest):
    def test_strips_give_what_the_whole_gives(self) -> None:
        given = tiled(2)
        for op, case in CASES.items():
            steps = [*case.before, {"name": "s", "op": op, "in": dict(case.ports), "set": dict(case.set)}]
            plan = planned(steps, given)
            feed = plan.feed("s")
            with mock.patch.object(evaluating, "STRIP_SECONDS", 1e9):
                whole = Engine().evaluate(feed, plan).planes
            with mock.patch.object(evaluating, "STRIP_SECONDS", 1e-5), self.subTest(op):
                parts = Engine().evaluate(feed, plan).planes
                for name, plane in whole.items():
                    np.testing.assert_allclose(parts[name], plane, rtol=1e-5, atol=2e-6)

    def test_long_computations_look_whether_they_are_wanted(self) -> None:
        size = {"width": 2000, "height": 2000}
        strokes = [{"points": [[0, 0], [1900, 1900]], "radius": 300}] * 100
        formulas = {f"c{n}": "sin(a) + cos(a)" for n in range(300)}
        # Three looks are had before the operation itself begins.
        for step, looks in (
            ({"op": "noise", "set": {**size, "octaves": 8}}, 8),
            ({"op": "grow", "in": {"matte": "plane"}, "set": {"distance": 100}}, 4),
            ({"op": "blur", "in": {"from": "plane"}, "set": {"radius": 400}}, 8),
            ({"op": "touch_up", "in": {"matte": "plane"}, "set": {"strokes": strokes}}, 8),
            ({"op": "formula", "in": {"a": "plane"}, "set": {"expressions": formulas}}, 8),
        ):
            steps = [{**PLANE, "set": {**PLANE["set"], **size}}, {"name": "s", **step}]
            with self.subTest(step["op"]):
                work = Bounded(give_up_at=looks)
                with self.assertRaises(Cancelled):
                    evaluated(steps, work, channels=["c0"] if step["op"] == "formula" else None)


if __name__ == "__main__":
    unittest.main()
