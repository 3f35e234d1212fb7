"""Planning, regions, scales, cache, sharing and cancellation."""

from __future__ import annotations

import threading
import time
import unittest
from collections.abc import Mapping
from fractions import Fraction
from typing import Any
from unittest import mock

import numpy as np
from core_support import CoreTest, MemorySource, gradient, rgba, run

from nexal.engine import Cancellation, Engine, Plan
from nexal.errors import Cancelled, NexalError, Pending, SourceError
from nexal.operations import find
from nexal.picture import Alpha, Picture, Plane, Window
from nexal.recipe import parse_recipe

HALF = Fraction(1, 2)

EVERY_STEP = [
    {"name": "swap", "op": "route", "in": {"base": "p"}, "set": {"to": {"R": {"from": "q.G"}, "m": {"from": "p.A"}}}},
    {"name": "crossed", "op": "cross", "in": {"a": "p.R", "b": "q.B"}, "set": {"mode": "soft-light"}},
    {"name": "sums", "op": "arithmetic", "in": {"from": "p"}, "set": {"op": "multiply", "values": {"R": 0.7}}},
    {"name": "grey", "op": "weigh", "in": {"from": "p"}},
    {"name": "pulled", "op": "stretch", "in": {"from": "crossed"}, "set": {"black": 0.1, "white": 0.8, "middle": 0.4}},
    {"name": "hard", "op": "threshold", "in": {"from": "grey"}, "set": {"level": 0.5, "softness": 0.1}},
    {"name": "turned", "op": "invert", "in": {"from": "pulled"}},
    {"name": "held", "op": "clamp", "in": {"from": "sums"}, "set": {"low": 0.1, "high": 0.6}},
    {"name": "flat", "op": "constant", "in": {"like": "p"}, "set": {"colour": [0.1, 0.2, 0.3, 0.4]}},
    {
        "name": "slope",
        "op": "ramp",
        "in": {"like": "p"},
        "set": {"start": [3, 5], "end": [60, 40], "profile": "smooth"},
    },
    {"name": "soft", "op": "blur", "in": {"from": "p"}, "set": {"radius": 2.2}},
    {"name": "boxed", "op": "blur", "in": {"from": "pulled"}, "set": {"radius": 1.7, "filter": "box"}},
    {"name": "moved", "op": "place", "in": {"picture": "p"}, "set": {"x": 4.3, "y": -2, "rotate": 20, "scale": 0.8}},
    {"name": "cut", "op": "attach_alpha", "in": {"picture": "p", "alpha": "turned"}, "set": {"state": "premultiply"}},
    {"name": "multiplied", "op": "premultiply", "in": {"picture": "p"}},
    {"name": "divided", "op": "unpremultiply", "in": {"picture": "q"}},
    {
        "name": "stacked",
        "op": "stack",
        "in": {"under": "q", "over": "moved", "matte": "slope"},
        "set": {"opacity": 0.9},
    },
]


def sources() -> dict[str, MemorySource]:
    return {"p": rgba(64, 48, 1), "q": rgba(64, 48, 30, Alpha.PREMULTIPLIED)}


def light(picture: Picture) -> dict[str, Plane]:
    """The planes, straight colour times its alpha: where next to nothing covers, rounding says what colour it is."""
    result = dict(picture.planes)
    for name in picture.description.colour if picture.description.alpha is Alpha.STRAIGHT else ():
        if alpha := picture.description.alpha_of(name):
            result[name] = picture.planes[name] * picture.planes[alpha]
    return result


class Regions(CoreTest):
    def test_a_region_of_every_operation_equals_the_same_cut_of_the_whole(self) -> None:
        given = sources()
        for step in EVERY_STEP:
            name = step["name"]
            whole = run(EVERY_STEP, given, name)
            for region in (
                Window(0, 0, 16, 16),
                Window(21, 13, 30, 20),
                Window(-5, -4, 20, 12),
                Window(50, 40, 30, 20),
            ):
                part = run(EVERY_STEP, given, name, region=region)
                inner = region.intersect(whole.region)
                seen = light(part)
                for channel, plane in light(whole).items():
                    with self.subTest(step=name, region=region, channel=channel):
                        wanted = np.zeros((region.height, region.width), np.float32)
                        if not inner.empty:
                            wanted[inner.within(region)] = plane[inner.within(whole.region)]
                        self.assert_planes(seen[channel], wanted, 2e-6)

    def test_every_operation_at_half_scale_is_close_to_the_averaged_whole(self) -> None:
        smooth = np.add.outer(np.linspace(0.2, 0.5, 48), np.linspace(0, 0.4, 64)).astype(np.float32)
        alpha = (smooth * 0.9).astype(np.float32)
        given = {
            name: MemorySource(
                {c: smooth * k for c, k in zip("RGB", (1, 0.8, 0.6), strict=True)} | {"A": alpha}, alpha=state
            )
            for name, state in (("p", Alpha.STRAIGHT), ("q", Alpha.PREMULTIPLIED))
        }
        for step in EVERY_STEP:
            whole = run(EVERY_STEP, given, step["name"], region=Window(0, 0, 64, 48))
            half = run(EVERY_STEP, given, step["name"], region=Window(0, 0, 32, 24), scale=HALF)
            for channel, plane in half.planes.items():
                with self.subTest(step=step["name"], channel=channel):
                    mean = whole.planes[channel].reshape(24, 2, 32, 2).mean((1, 3))
                    inner = (slice(4, -4), slice(6, -6))
                    # A rotated picture's own border crosses the middle of the frame.
                    share = np.mean(np.abs(plane[inner] - mean[inner]) > 0.02)
                    self.assertLess(share, 0.03 if step["name"] not in ("moved", "stacked") else 0.15)

    def test_windows_of_different_origin_line_up(self) -> None:
        left = MemorySource({"Y": np.ones((4, 4))}, window=Window(0, 0, 4, 4), display=Window(0, 0, 8, 4), data=["Y"])
        right = MemorySource({"Y": np.ones((4, 6))}, window=Window(2, 0, 6, 4), display=Window(0, 0, 8, 4), data=["Y"])
        step = {"name": "sum", "op": "cross", "in": {"a": "l.Y", "b": "r.Y"}, "set": {"mode": "add"}}
        result = run([step], {"l": left, "r": right})
        self.assertEqual(result.region, Window(0, 0, 8, 4))
        self.assert_planes(result.planes["Y"][0], np.array([1, 1, 2, 2, 1, 1, 1, 1]), 0)

    def test_outside_its_data_window_an_inverted_plane_is_still_zero(self) -> None:
        small = MemorySource({"Y": np.zeros((2, 2))}, window=Window(1, 1, 2, 2), display=Window(0, 0, 4, 4), data=["Y"])
        result = run([{"name": "i", "op": "invert", "in": {"from": "s.Y"}}], {"s": small}, region=Window(0, 0, 4, 4))
        self.assertEqual(float(result.planes["Y"].sum()), 4)


class Caching(CoreTest):
    steps = [
        {"name": "a", "op": "cross", "in": {"a": "p.R", "b": "p.G"}},
        {"name": "b", "op": "blur", "in": {"from": "a"}, "set": {"radius": 2}},
        {"name": "c", "op": "stretch", "in": {"from": "b"}, "set": {"black": 0.1, "white": 0.9}},
        {"name": "d", "op": "invert", "in": {"from": "c"}},
    ]

    def changed(self, white: float) -> list[dict]:
        return [*self.steps[:2], self.steps[2] | {"set": {"black": 0.1, "white": white}}, self.steps[3]]

    def test_upstream_of_a_changed_step_nothing_is_computed_again(self) -> None:
        engine, given = Engine(threads=2), {"p": rgba()}
        for white in (0.9, 0.8, 0.7):
            run(self.changed(white), given, "d", engine=engine, looked_at=True)
        self.assertEqual(engine.computed, {"a": 1, "b": 1, "c": 3, "d": 3})

    def test_inside_of_a_chain_that_is_looked_at_only_what_is_wanted_again_is_kept(self) -> None:
        """What hangs on a dragged setting is never wanted again; what it hangs on is, with every step of the drag."""
        engine, given = Engine(threads=2), {"p": rgba()}
        chain = [
            {"name": "a", "op": "cross", "in": {"a": "p.R", "b": "p.G"}},
            {"name": "b", "op": "invert", "in": {"from": "a"}},
            {"name": "c", "op": "stretch", "in": {"from": "b"}, "set": {"white": 0.9}},
            {"name": "d", "op": "invert", "in": {"from": "c"}},
        ]
        held = []
        for white in (0.9, 0.8, 0.7, 0.6):
            chain[2] = chain[2] | {"set": {"white": white}}
            result = run(chain, given, "d", engine=engine, looked_at=True)
            self.assert_planes(result.planes["Y"], run(chain, given, "d").planes["Y"], 0)
            held.append(engine.cache.held // result.planes["Y"].nbytes)
        self.assertEqual(engine.computed, {"a": 2, "b": 2, "c": 4, "d": 4})
        # First d alone, with the second a and b besides, with all others d again.
        self.assertEqual(held, [1, 4, 5, 6])

    def test_a_chain_leaves_only_its_ends(self) -> None:
        engine = Engine(threads=2)
        chain = [
            {"name": "a", "op": "cross", "in": {"a": "p.R", "b": "p.G"}},
            {"name": "b", "op": "stretch", "in": {"from": "a"}},
            {"name": "c", "op": "invert", "in": {"from": "b"}},
        ]
        result = run(chain, {"p": rgba()}, engine=engine)
        # Two planes read and the result; nothing of the chain between.
        self.assertEqual(engine.cache.held, result.planes["Y"].nbytes)
        self.assertEqual(engine.computed, {"a": 1, "b": 1, "c": 1})

    def test_chains_and_single_steps_give_the_same_pixels(self) -> None:
        given = sources()
        for step in EVERY_STEP:
            apart = run(EVERY_STEP, given, step["name"], looked_at=True)
            fused = run(EVERY_STEP, given, step["name"])
            for channel, plane in fused.planes.items():
                np.testing.assert_array_equal(plane, apart.planes[channel], f"{step['name']}.{channel}")

    def test_inputs_are_left_as_they_were(self) -> None:
        given = sources()
        before = {name: {c: plane.copy() for c, plane in source.planes.items()} for name, source in given.items()}
        for step in EVERY_STEP:
            run(EVERY_STEP, given, step["name"])
        for name, source in given.items():
            for channel, plane in source.planes.items():
                np.testing.assert_array_equal(plane, before[name][channel])


class Told(CoreTest):
    """What is told of a recipe's items is kept by its digest: whatever may change it, changes that."""

    def plan(self, frame: int = 1, absent: NexalError | None = None, **given: Any) -> Plan:
        recipe = {"nexal": 1, "sources": {"m": {"files": "m", "colour": given.pop("colour", "auto")}}, "steps": []}
        source = MemorySource({name: np.zeros((4, 4), np.float32) for name in given.pop("channels", "RGB")}, **given)
        # The same file, whatever is known of it.
        source.digest = "file"
        return Plan(parse_recipe(recipe), frame, {} if absent else {"m": source}, {"m": absent} if absent else {})

    def test_the_digest_changes_with_everything_that_is_told(self) -> None:
        self.assertEqual(self.plan().digest, self.plan().digest)
        fault, other = SourceError("is not there"), SourceError("is not there")
        other.with_others([SourceError("another is missing")])
        plans = {
            "as it is": self.plan(),
            "frame": self.plan(2),
            "recipe": self.plan(colour="data"),
            "channels": self.plan(channels="RGBA"),
            "alpha": self.plan(channels="RGBA", alpha=Alpha.STRAIGHT),
            "data": self.plan(data=["R"]),
            "window": self.plan(window=Window(1, 0, 4, 4)),
            "display": self.plan(display=Window(0, 0, 8, 8)),
            "absent": self.plan(absent=fault),
            "absent, said otherwise": self.plan(absent=SourceError("is not there", remedy="import it")),
            "absent, with others": self.plan(absent=other),
        }
        self.assertEqual(len({plan.digest for plan in plans.values()}), len(plans))


class SlowSource(MemorySource):
    """A source that takes a while."""

    def read(self, *arguments, **more):  # type: ignore[no-untyped-def]
        time.sleep(0.15)
        return super().read(*arguments, **more)


class HeldSource(MemorySource):
    """A source that tells when it is read, and reads on only when it is let."""

    def __init__(self, planes: Mapping[str, np.ndarray]) -> None:
        super().__init__(planes)
        self.entered, self.let_go = threading.Event(), threading.Event()

    def read(self, *arguments, **more):  # type: ignore[no-untyped-def]
        self.entered.set()
        self.let_go.wait(30)
        return super().read(*arguments, **more)


class Threads(CoreTest):
    def test_two_requests_for_one_key_share_one_computation(self) -> None:
        engine, source = Engine(threads=2), SlowSource({"R": gradient(), "G": gradient(seed=2)})
        steps = [{"name": "a", "op": "cross", "in": {"a": "p.R", "b": "p.G"}}]
        results = []
        threads = [
            threading.Thread(target=lambda: results.append(run(steps, {"p": source}, engine=engine, looked_at=True)))
            for _ in range(6)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(30)
        self.assertEqual(len(results), 6)
        self.assertEqual(engine.computed, {"a": 1})
        self.assertEqual(source.reads, 1)

    def test_a_cancelled_request_gives_up_and_the_next_one_works(self) -> None:
        engine, source = Engine(threads=2), HeldSource({"R": gradient()})
        steps = [{"name": f"s{n}", "op": "blur", "in": {"from": "p.R" if n == 0 else f"s{n - 1}"}} for n in range(4)]
        cancellation = Cancellation()

        def lose_patience() -> None:
            source.entered.wait(30)
            cancellation.cancel()
            source.let_go.set()

        threading.Thread(target=lose_patience).start()
        with self.assertRaises(Cancelled):
            run(steps, {"p": source}, engine=engine, cancellation=cancellation)
        self.assertLess(engine.computed.get("s3", 0), 1)
        self.assertEqual(run(steps, {"p": source}, engine=engine).planes["Y"].shape, (48, 64))

    def test_one_waiter_is_not_cancelled_with_another(self) -> None:
        engine, source = Engine(threads=2), HeldSource({"R": gradient()})
        steps = [{"name": "a", "op": "blur", "in": {"from": "p.R"}}]
        cancellation, results = Cancellation(), []

        def impatient() -> None:
            try:
                run(steps, {"p": source}, engine=engine, cancellation=cancellation)
            except Cancelled:
                results.append("cancelled")

        first = threading.Thread(target=impatient)
        second = threading.Thread(target=lambda: results.append(run(steps, {"p": source}, engine=engine)))
        first.start()
        source.entered.wait(30)
        second.start()
        cancellation.cancel()
        source.let_go.set()
        first.join(30)
        second.join(30)
        self.assertIn("cancelled", results)
        self.assertEqual(len(results), 2)


class Roughly(CoreTest):
    """What a slow step makes of a small proxy stands in for its result, and is never taken for it."""

    STEPS = [
        {"name": "own", "op": "recover_colour", "in": {"picture": "p", "matte": "p.A"}},
        {"name": "lit", "op": "grade", "in": {"picture": "own"}, "set": {"exposure": 1}},
        {"name": "packed", "op": "blocks", "in": {"from": "lit"}},
    ]
    QUARTER = Fraction(1, 4)

    def asked(self, item: str = "lit", **options: Any) -> Picture:
        return run(self.STEPS, {"p": self.source}, item, engine=self.engine, scale=self.QUARTER, **options)

    def setUp(self) -> None:
        super().setUp()
        self.engine, self.source = Engine(threads=2), rgba(96, 64)

    def test_it_is_what_the_step_makes_of_the_proxy(self) -> None:
        small = self.source.read("RGBA", self.QUARTER, Window(0, 0, 24, 16))
        wanted = run(self.STEPS[:2], {"p": MemorySource(small, alpha=Alpha.STRAIGHT)}).planes
        rough = self.asked(patient=False, rough=True)
        for name in "RGBA":
            self.assert_planes(rough.planes[name], wanted[name], 1e-6)
        part = self.asked(patient=False, rough=True, region=Window(5, 4, 9, 7)).planes
        self.assert_planes(part["G"], wanted["G"][4:11, 5:14], 1e-6)

    def test_it_is_never_taken_for_the_result_and_gives_way_to_it(self) -> None:
        wanted = run(self.STEPS, {"p": self.source}, "lit", scale=self.QUARTER).planes
        rough = self.asked(patient=False, rough=True).planes
        self.assertGreater(float(np.abs(rough["R"] - wanted["R"]).max()), 1e-3)
        with self.assertRaises(Pending):
            self.asked(patient=False)
        true = self.asked().planes
        after = self.asked(patient=False, rough=True).planes
        for name in "RGBA":
            self.assert_planes(true[name], wanted[name], 0)
            self.assert_planes(after[name], wanted[name], 0)

    def test_what_a_proxy_tells_nothing_of_stays_pending(self) -> None:
        for _ in range(2):
            with self.assertRaises(Pending) as caught:
                self.asked("packed", patient=False, rough=True)
            self.assertEqual(caught.exception.item, "packed")


class SlowResults(CoreTest):
    """A slow step is computed once, however many want it, and only for those who wait for it."""

    RECIPE = [{"name": "fine", "op": "recover_colour", "in": {"picture": "p", "matte": "p.A"}}]

    def setUp(self) -> None:
        super().setUp()
        self.engine, self.source = Engine(threads=2), rgba()
        operation = find("recover_colour")
        real = type(operation).compute
        self.began, self.go_on, self.runs = threading.Event(), threading.Event(), 0

        def held(this, inputs, channels, settings, scene):  # type: ignore[no-untyped-def]
            self.runs += 1
            self.began.set()
            while not self.go_on.wait(0.005):
                scene.work.check()
            return real(this, inputs, channels, settings, scene)

        self.enterContext(mock.patch.object(type(operation), "compute", held))

    def wanted(self, results: list[object], **options: object) -> threading.Thread:
        def work() -> None:
            try:
                results.append(run(self.RECIPE, {"p": self.source}, engine=self.engine, **options))
            except Exception as error:
                results.append(error)

        thread = threading.Thread(target=work)
        thread.start()
        return thread

    def test_several_at_once_at_any_scale_share_one_computation(self) -> None:
        results: list[object] = []
        threads = [self.wanted(results)]
        self.began.wait(30)
        threads += [self.wanted(results, scale=scale) for scale in (HALF, Fraction(1, 8), Fraction(1))]
        time.sleep(0.1)
        self.go_on.set()
        for thread in threads:
            thread.join(30)
        self.assertEqual((self.runs, len(results)), (1, 4))
        self.assertFalse([result for result in results if isinstance(result, Exception)])

    def test_a_view_is_told_at_once_and_a_delivery_beside_it_waits(self) -> None:
        views: list[object] = []
        deliveries: list[object] = []
        thread = self.wanted(deliveries)
        self.began.wait(30)
        self.wanted(views, patient=False).join(30)
        self.assertIsInstance(views[0], Pending)
        self.go_on.set()
        thread.join(30)
        self.assertFalse(isinstance(deliveries[0], Exception), deliveries)

    def test_who_waits_for_another_can_give_up_alone_and_takes_over_where_the_other_gave_up(self) -> None:
        results: list[object] = []
        first, second = Cancellation(), Cancellation()
        threads = [self.wanted(results, cancellation=first)]
        self.began.wait(30)
        threads += [self.wanted(results, cancellation=second), self.wanted(results)]
        time.sleep(0.1)
        second.cancel()
        threads[1].join(30)
        self.assertIsInstance(results[0], Cancelled)
        self.began.clear()
        first.cancel()
        threads[0].join(30)
        self.began.wait(30)
        self.go_on.set()
        threads[2].join(30)
        self.assertEqual(self.runs, 2)
        self.assertFalse(isinstance(results[2], Exception), results)


class Keyed(CoreTest):
    def test_a_keyed_setting_moves_with_the_frame(self) -> None:
        flat = MemorySource({"Y": np.full((2, 2), 0.5)}, data=["Y"])
        keys = {"keys": [[1, 1.0, "linear"], [11, 2.0, "hold"], [21, 4.0, "smooth"], [31, 8.0]]}
        steps = [{"name": "s", "op": "stretch", "in": {"from": "p"}, "set": {"white": keys, "domain": "scene"}}]
        for frame, white in ((0, 1), (1, 1), (6, 1.5), (11, 2), (20, 2), (21, 4), (26, 6), (40, 8)):
            result = run(steps, {"p": flat}, frame=frame)
            self.assert_planes(result.planes["Y"], 0.5 / white, 1e-6, f"frame {frame}")

    def test_a_step_turned_off_passes_its_first_input(self) -> None:
        source = rgba()
        steps = [
            {"name": "c", "op": "cross", "in": {"a": "p.G", "b": "p.B"}, "on": False},
            {"name": "i", "op": "invert", "in": {"from": "c"}},
        ]
        self.assert_planes(run(steps, {"p": source}).planes["Y"], 1 - source.planes["G"])

    def test_two_hundred_steps_are_no_trouble(self) -> None:
        steps = [{"name": f"s{n}", "op": "invert", "in": {"from": "p" if n == 0 else f"s{n - 1}"}} for n in range(200)]
        source = MemorySource({"Y": gradient()}, data=["Y"])
        self.assert_planes(run(steps, {"p": source}).planes["Y"], gradient(), 2e-5)
        self.assert_planes(run(steps, {"p": source}, looked_at=True).planes["Y"], gradient(), 2e-5)

    def test_only_channels_that_are_needed_are_read(self) -> None:
        source = rgba()
        asked = []
        original = source.read
        source.read = lambda channels, *rest: asked.extend(channels) or original(channels, *rest)  # type: ignore[method-assign]
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": []})
        plan = Plan(recipe, 1, {"p": source})
        Engine(threads=1).evaluate(plan.feed("p.B"), plan)
        self.assertEqual(asked, ["B"])


if __name__ == "__main__":
    unittest.main()
