"""What moves: keys at every kind of passage, movements of paths and pictures, sources of many frames."""

from __future__ import annotations

import json
import unittest
from fractions import Fraction

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, rgb, rgba, run, write_exr
from hypothesis import given
from hypothesis import strategies as st
from patience import trials

from nexal.analysis.run import run_recipe
from nexal.engine import Engine, Plan
from nexal.engine.cost import cost_of
from nexal.errors import NexalError, SettingError, SourceError
from nexal.formats.reading import BlackSource
from nexal.keyed import settings_at, value_at
from nexal.operations import find, parse_settings
from nexal.operations.movement import Movement
from nexal.picture import Window
from nexal.recipe import SourceSpec, parse_recipe
from nexal.session import Session
from nexal.timing import choose, gaps

FRAMES = st.lists(st.integers(-50, 50), min_size=1, max_size=8, unique=True)
NUMBERS = st.floats(-100, 100, width=32)
WAYS = st.sampled_from(["linear", "smooth", "hold"])


def expected(keys: list, frame: float) -> float:
    """By the words of the rule: the nearest key before, the nearest after, and the way of the earlier one."""
    before = max((key for key in keys if key[0] <= frame), default=None, key=lambda key: key[0])
    after = min((key for key in keys if key[0] > frame), default=None, key=lambda key: key[0])
    if before is None:
        assert after is not None
        return after[1]
    if after is None:
        return before[1]
    t = (frame - before[0]) / (after[0] - before[0])
    part = {"linear": t, "smooth": 3 * t**2 - 2 * t**3, "hold": 0}[before[2]]
    return (1 - part) * before[1] + part * after[1]


class Keys(CoreTest):
    @given(st.data(), FRAMES)
    @trials(200)
    def test_numbers_and_lists_go_over_as_their_keys_say(self, data: st.DataObject, frames: list[int]) -> None:
        keys = [[frame, data.draw(NUMBERS), data.draw(WAYS)] for frame in frames]
        at = data.draw(st.floats(-60, 60))
        self.assertAlmostEqual(value_at(keys, at), expected(keys, at), delta=1e-9)
        points = [[frame, [value, [value / 2, -value]], way] for frame, value, way in keys]
        whole, (half, turned) = value_at(points, at)
        for got, factor in ((whole, 1), (half, 0.5), (turned, -1)):
            self.assertAlmostEqual(got, factor * expected(keys, at), delta=1e-9)

    def test_everything_that_is_keyed_is_found_however_deep(self) -> None:
        keyed = {"keys": [[1, 0], [11, 10]]}
        moving = {
            "plain": keyed,
            "layers": [{"value": keyed, "on": True}, {"value": 3}],
            "colour": [0, keyed, 1],
            "values": {"R": {"keys": [[1, [1, 2]], [3, [3, 4]]]}},
            "name": "keys",
        }
        self.assertEqual(
            settings_at(moving, 2),
            {
                "plain": 1,
                "layers": [{"value": 1, "on": True}, {"value": 3}],
                "colour": [0, 1, 1],
                "values": {"R": [2, 3]},
                "name": "keys",
            },
        )
        self.assertEqual(moving["layers"][0]["value"], keyed, "what was given stays")

    def test_whole_numbers_are_rounded_to_the_nearest(self) -> None:
        for frame, seed in ((1, 3), (2, 4), (3, 4), (4, 5), (5, 5)):
            with self.subTest(frame):
                moving = settings_at({"seed": {"keys": [[1, 3], [5, 5]]}}, frame)
                self.assertEqual(parse_settings(find("noise"), moving).model_dump()["seed"], seed)
        deep = settings_at({"strokes": []} | {"levels": 3}, 1)
        self.assertEqual(deep["levels"], 3)

    def test_keys_that_make_no_sense_are_told_with_their_place(self) -> None:
        for keys, words in (
            ([], "0 keys"),
            ([[1, 2], [1, 3]], "two keys stand at frame 1"),
            ([[1, 2, "bounce"]], "bounce"),
            ([[1, "red"]], "numbers and lists of numbers"),
            ([[1, True]], "numbers and lists of numbers"),
            ([[1, [1, 2]], [2, [1, 2, 3]]], "another number of values"),
            ([[float("nan"), 1]], "is not [frame, value]"),
            ([5], "is not [frame, value]"),
            ([[1, float("inf")]], "numbers and lists of numbers"),
        ):
            with self.subTest(words), self.assertRaises(SettingError) as caught:
                settings_at({"a": [{"b": {"keys": keys}}]}, 1)
            self.assertIn("'a.1.b'", caught.exception.where)
            self.assertIn(words, str(caught.exception))

    def test_a_keyed_ramp_wipes_from_one_picture_to_another(self) -> None:
        a, b = MemorySource(rgb(seed=1)), MemorySource(rgb(seed=5))
        moving = {
            "start": {"keys": [[1, [-8, 0]], [9, [64, 0]]]},
            "end": {"keys": [[1, [0, 0]], [9, [72, 0]]]},
        }
        steps = [
            {"name": "wipe", "op": "ramp", "in": {"like": "a"}, "set": moving},
            {
                "name": "both",
                "op": "stack",
                "in": {"under": "a", "over": "b", "matte": "wipe"},
                "set": {"mode": "normal"},
            },
        ]
        sources = {"a": a, "b": b}
        for frame in (1, 4, 9):
            end = (frame - 1) * 9
            t = np.clip((np.arange(64) + 0.5 - (end - 8)) / 8, 0, 1)[None, :]
            got = run(steps, sources, frame=frame)
            wanted = a.planes["R"] + (b.planes["R"] - a.planes["R"]) * t
            with self.subTest(frame):
                self.assert_planes(got.planes["R"], wanted, 2e-6)

    def test_what_does_not_depend_on_the_frame_is_computed_once_for_all(self) -> None:
        source = rgba()

        def keyed(value: float) -> dict:
            return {"radius": {"keys": [[1, 2], [5, value]]}}

        recipe = parse_recipe(
            {
                "nexal": 1,
                "sources": {"s": {"files": "s"}},
                "steps": [
                    {"name": "still", "op": "blur", "in": {"from": "s"}, "set": {"radius": 2}},
                    {"name": "held", "op": "blur", "in": {"from": "s"}, "set": keyed(2)},
                    {
                        "name": "moving",
                        "op": "blur",
                        "in": {"from": "s"},
                        "set": {"radius": {"keys": [[1, 2], [5, 3]]}},
                    },
                    {"name": "above", "op": "invert", "in": {"from": "moving"}},
                ],
            }
        )
        engine = Engine(threads=2)
        digests = []
        for frame in (1, 2, 3):
            plan = Plan(recipe, frame, {"s": source})
            digests.append({name: plan.node(name).digest for name in recipe.items()})
            engine.evaluate(plan.feed("still"), plan, looked_at=True)
        self.assertEqual(source.reads, 1)
        for name, different in (("s", 1), ("still", 1), ("held", 1), ("moving", 3), ("above", 3)):
            with self.subTest(name):
                self.assertEqual(len({each[name] for each in digests}), different)


class OnlyMeasured(CoreTest):
    def test_a_picture_whose_size_is_taken_alone_makes_no_difference_with_its_pixels(self) -> None:
        steps = [
            {"name": "ramp", "op": "ramp", "in": {"like": "s"}, "set": {"end": [64, 0]}},
            {"name": "shape", "op": "shape", "in": {"like": "s"}, "set": {"paths": [{"points": SQUARE}]}},
            {"name": "fitted", "op": "fit_to", "in": {"picture": "still", "like": "s"}},
            {"name": "read", "op": "invert", "in": {"from": "s"}},
        ]
        sources = {"s": {"files": "s"}, "still": {"files": "t"}}
        recipe = parse_recipe({"nexal": 1, "sources": sources, "steps": steps})
        still = MemorySource(rgb(width=32, height=24))
        plans = [Plan(recipe, 1, {"s": source, "still": still}) for source in (rgba(seed=1), rgba(seed=2))]
        larger = Plan(recipe, 1, {"s": rgba(width=80), "still": still})
        for name in ("ramp", "shape", "fitted"):
            with self.subTest(name):
                one, two = (plan.node(name).digest for plan in plans)
                self.assertEqual(one, two)
                self.assertNotEqual(one, larger.node(name).digest)
        self.assertNotEqual(plans[0].node("read").digest, plans[1].node("read").digest)


SQUARE = [[10, 10], [20, 10], [20, 20], [10, 20]]


def shape(frame: int = 1, scale: Fraction = Fraction(1), **path: object) -> np.ndarray:
    steps = [{"name": "s", "op": "shape", "set": {"width": 64, "height": 48, "paths": [path]}}]
    return run(steps, {}, frame=frame, scale=scale).planes["Y"]


class MovingPaths(CoreTest):
    def test_points_go_over_as_their_keys_say_in_both_ways_of_writing(self) -> None:
        there = [[x + 16, y + 8] for x, y in SQUARE]
        for way, part in (("linear", 0.25), ("smooth", 3 / 16 - 2 / 64), ("hold", 0)):
            keys = [[1, SQUARE, way], [9, there]]
            wanted = shape(points=[[x + 16 * part, y + 8 * part] for x, y in SQUARE])
            for path in ({"keys": keys}, {"points": {"keys": keys}}):
                with self.subTest(way):
                    self.assert_planes(shape(3, **path), wanted, 1e-6)
                    self.assert_planes(shape(99, **path), shape(points=there), 0)

    def test_opacity_and_feather_move_too_and_keys_keep_the_feather_of_their_path(self) -> None:
        moving = {"keys": [[1, 0], [5, 4]]}
        self.assert_planes(shape(3, points=SQUARE, feather=moving), shape(points=SQUARE, feather=2), 1e-6)
        half = shape(2, points=SQUARE, opacity={"keys": [[1, 1], [3, 0]]})
        self.assert_planes(half, shape(points=SQUARE) * np.float32(0.5), 1e-6)
        keys = [[1, SQUARE], [5, [[x + 4, y] for x, y in SQUARE]]]
        got = shape(3, keys=keys, feather=3)
        self.assert_planes(got, shape(points=[[x + 2, y] for x, y in SQUARE], feather=3), 1e-6)

    def test_curves_and_corners_go_over_into_each_other(self) -> None:
        curved = [[x, y, -2, 1, 2, -1] for x, y in SQUARE]
        got = shape(2, keys=[[1, SQUARE], [3, curved]])
        self.assert_planes(got, shape(points=[[x, y, -1, 0.5, 1, -0.5] for x, y in SQUARE]), 1e-6)

    def test_a_movement_moves_points_and_the_places_of_feathers(self) -> None:
        twice = [2, 0, 3, 0, 2, -5, 0, 0, 1]
        movement = {"from": 1, "matrices": {"1": [1, 0, 0, 0, 1, 0, 0, 0, 1], "5": twice}}
        got = shape(5, points=SQUARE, feather=1, movement=movement)
        self.assert_planes(got, shape(points=[[2 * x + 3, 2 * y - 5] for x, y in SQUARE], feather=2), 1e-6)
        between = shape(3, points=SQUARE, movement=movement)
        self.assert_planes(between, shape(points=[[1.5 * x + 1.5, 1.5 * y - 2.5] for x, y in SQUARE]), 1e-6)
        self.assert_planes(shape(1, points=SQUARE, movement=movement), shape(points=SQUARE), 0)

    def test_a_perspective_takes_the_curve_itself(self) -> None:
        matrix = np.array([[1.1, 0.1, 2], [0.05, 0.9, 1], [0.002, 0.004, 1]])
        movement = {"from": 1, "matrices": {"2": (matrix * 3).ravel().tolist()}}
        curve = [[20, 8, -6, 0, 6, 0], [32, 24, 0, -8, 0, 8], [20, 40, 6, 0, -6, 0], [8, 24, 0, 8, 0, -8]]
        t = np.linspace(0, 1, 200, endpoint=False)[:, None]
        lines = []
        for here, after in zip(curve, curve[1:] + curve[:1], strict=True):
            a, d = np.array(here[:2]), np.array(after[:2])
            b, c = a + here[4:6], d + after[2:4]
            lines.append(a * (1 - t) ** 3 + 3 * b * t * (1 - t) ** 2 + 3 * c * t * t * (1 - t) + d * t**3)
        moved = cv2.perspectiveTransform(np.concatenate(lines)[:, None], matrix)[:, 0]
        got = shape(2, points=curve, movement=movement)
        self.assert_planes(got, shape(points=moved.tolist()), 2e-3)

    def test_movements_that_make_no_sense_are_told(self) -> None:
        for matrices, words in (
            ({}, "1 at least"),
            ({"1": [1, 0, 0]}, "not nine"),
            ({"1": [1, 0, 0, 0, 0, 0, 0, 0, 1]}, "flattens"),
            ({"one": [1, 0, 0, 0, 1, 0, 0, 0, 1]}, "give a whole number"),
        ):
            with self.subTest(words), self.assertRaises(NexalError) as caught:
                shape(1, points=SQUARE, movement={"from": 1, "matrices": matrices})
            self.assertIn("movement", str(caught.exception))


class MovedPictures(CoreTest):
    def place(self, source: MemorySource, frame: int = 2, **options: object) -> dict[str, np.ndarray]:
        set_ = {name: options.pop(name) for name in list(options) if name != "region"}
        steps = [{"name": "p", "op": "place", "in": {"picture": "s"}, "set": set_}]
        return dict(run(steps, {"s": source}, frame=frame, **options).planes)

    def movement(self, matrix: list) -> dict:
        return {"from": 1, "matrices": {"1": np.eye(3).ravel().tolist(), "2": np.ravel(matrix).tolist()}}

    def test_a_movement_is_what_the_settings_do_and_steady_turns_it_back(self) -> None:
        source = rgba(window=Window(8, 8, 64, 48), display=Window(0, 0, 80, 64))
        turn, size = np.radians(17), 1.3
        c, s = size * np.cos(turn), size * np.sin(turn)
        matrix = [[c, -s, 40 - c * 40 + s * 32 + 3.5], [s, c, 32 - s * 40 - c * 32 - 2], [0, 0, 1]]
        by_settings = self.place(source, x=3.5, y=-2, scale=1.3, rotate=17)
        by_movement = self.place(source, movement=self.movement(matrix))
        for name, plane in by_settings.items():
            np.testing.assert_allclose(by_movement[name], plane, atol=2e-4)
        shifted = self.movement([[1, 0, 5], [0, 1, -3], [0, 0, 1]])
        there = self.place(source, movement=shifted)
        back = self.place(source, movement=shifted, steady=True)
        for name, plane in source.planes.items():
            inside = (slice(2, -2), slice(2, -2))
            self.assert_planes(there[name][inside], plane, 0)
            self.assert_planes(back[name][inside], plane, 0)

    def test_a_perspective_samples_where_the_matrix_says(self) -> None:
        y, x = np.mgrid[0:60, 0:80].astype(np.float32) + np.float32(0.5)
        plane = 0.3 + 0.003 * x + 0.004 * y
        source = MemorySource({"R": plane, "G": plane, "B": plane, "A": np.ones_like(plane)})
        matrix = np.array([[1.02, 0.05, -2], [-0.03, 0.97, 1], [0.0008, -0.0005, 1]])
        region = Window(15, 15, 45, 30)
        for kind in ("cubic", "linear"):
            got = self.place(source, movement=self.movement(matrix), filter=kind, region=region)
            px, py = np.meshgrid(np.arange(15, 60) + 0.5, np.arange(15, 45) + 0.5)
            back = cv2.perspectiveTransform(np.dstack([px, py]), np.linalg.inv(matrix))
            with self.subTest(kind):
                self.assert_planes(got["R"], 0.3 + 0.003 * back[..., 0] + 0.004 * back[..., 1], 5e-4)
        turned = np.array([[1, 0, 0], [0, 1, 0], [-0.03, 0, 1]])
        self.assertTrue(np.isfinite(self.place(source, movement=self.movement(turned), steady=True)["R"]).all())

    def test_a_region_under_a_perspective_is_a_part_of_the_whole(self) -> None:
        source = rgba(width=90, height=70)
        matrix = np.array([[0.9, 0.1, 4], [-0.1, 0.8, 6], [0.002, 0.001, 1]])
        whole = self.place(source, movement=self.movement(matrix), region=Window(0, 0, 90, 70))
        part = Window(31, 17, 20, 25)
        got = self.place(source, movement=self.movement(matrix), region=part)
        for name, plane in got.items():
            self.assert_planes(plane, whole[name][17:42, 31:51], 1e-6)

    def test_a_perspective_costs_what_its_own_shrinking_asks_for(self) -> None:
        source = rgba(width=90, height=70)

        def seconds(matrix: list) -> float:
            steps = [{"name": "p", "op": "place", "in": {"picture": "s"}, "set": {"movement": self.movement(matrix)}}]
            recipe = parse_recipe({"nexal": 1, "sources": {"s": {"files": "s"}}, "steps": steps})
            plan = Plan(recipe, 2, {"s": source})
            feed = plan.feed("p")
            whole = Window(0, 0, 90, 70)
            return cost_of(feed, feed.description.channels, whole, 2, Fraction(1), True, lambda *_: False).seconds

        for size in (1, 0.5):
            mild, affine = (seconds([[size, 0.02, 3], [-0.01, size, 2], [p, p, 1]]) for p in (1e-5, 0))
            self.assertAlmostEqual(mild / affine, 1, delta=0.3)

    def test_matrices_are_interpolated_after_their_last_element_is_one(self) -> None:
        movement = Movement.model_validate(
            {"from": 1, "matrices": {"1": [1, 0, 0, 0, 1, 0, 0, 0, 1], "3": [2, 0, 8, 0, 2, 4, 0, 0, 2]}}
        )
        np.testing.assert_allclose(movement.at(2), [[1, 0, 2], [0, 1, 1], [0, 0, 1]])
        np.testing.assert_allclose(movement.at(-4), np.eye(3))
        np.testing.assert_allclose(movement.at(40), [[1, 0, 4], [0, 1, 2], [0, 0, 1]])


class SourcesInTime(CoreTest):
    @given(st.lists(st.integers(0, 30), min_size=1, max_size=10, unique=True), st.integers(-20, 60), st.data())
    @trials(300)
    def test_what_stands_at_a_frame(self, numbers: list[int], frame: int, data: st.DataObject) -> None:
        numbers = sorted(numbers)
        beyond = st.sampled_from(["hold", "loop", "black", "error"])
        spec = SourceSpec(
            offset=data.draw(st.integers(-5, 5)),
            before=data.draw(beyond),
            after=data.draw(beyond),
            missing=data.draw(st.sampled_from(["hold", "black", "error"])),
        )
        wanted = frame - spec.offset
        first, last = numbers[0], numbers[-1]
        kind = spec.before if wanted < first else spec.after if wanted > last else "within"
        if kind == "error":
            self.assertRaises(SourceError, choose, numbers, spec, frame)
            return
        if kind == "hold":
            wanted = min(max(wanted, first), last)
        if kind == "loop":
            length = last - first + 1
            while not first <= wanted <= last:
                wanted += length if wanted < first else -length
        if kind == "black":
            self.assertTrue(choose(numbers, spec, frame).black)
        elif wanted in numbers:
            choice = choose(numbers, spec, frame)
            self.assertEqual((choice.number, choice.black), (wanted, False))
            self.assertEqual(bool(choice.told), kind == "hold")
        elif spec.missing == "error":
            self.assertRaises(SourceError, choose, numbers, spec, frame)
        else:
            choice = choose(numbers, spec, frame)
            self.assertEqual(choice.number, max(number for number in numbers if number < wanted))
            self.assertEqual((choice.black, bool(choice.told)), (spec.missing == "black", True))

    def test_gaps(self) -> None:
        self.assertEqual(gaps([1, 2, 5, 6, 8]), [(3, 4), (7, 7)])
        self.assertEqual(gaps([4]), [])

    def files(self) -> None:
        self.place = self.folder()
        for number in (3, 4, 6):
            channels = {name: np.full((4, 6), number / 8, np.float16) for name in "RGBA"}
            if number == 6:
                channels["extra.Y"] = channels["R"]
            write_exr(self.place / f"s.{number:03d}.exr", channels)

    def rendered(self, spec: dict, frames: range, of: str = "s") -> list[float]:
        recipe = {
            "nexal": 1,
            "sources": {"s": {"files": "s.%03d.exr"} | spec},
            "outputs": {"o": {"from": of, "file": "o.%02d.exr"}},
        }
        self.told: list[str] = []
        out = self.folder()
        files = run_recipe(
            parse_recipe(recipe), self.place, {}, out, frames=list(frames) or None, warn=self.told.append
        )
        with Session() as session:
            found = []
            for file in files:
                source = session.open(file)
                region = source.description.window
                name = "R" if "R" in source.description.channels else "Y"
                found.append(float(source.read([name], Fraction(1), region)[name][0, 0]))
        return found

    def test_numbered_files_are_moved_held_looped_and_black_as_the_recipe_says(self) -> None:
        self.files()
        for spec, frames, wanted in (
            ({}, range(0), [3, 4, 4, 6]),
            ({}, range(2, 8), [3, 3, 4, 4, 6, 6]),
            ({"missing": "black", "before": "black", "after": "loop"}, range(2, 9), [0, 3, 4, 0, 6, 3, 4]),
            ({"offset": 10, "first": 4, "before": "loop"}, range(12, 17), [4, 6, 4, 4, 6]),
            ({"last": 5}, range(3, 7), [3, 4, 4, 4]),
        ):
            with self.subTest(spec):
                self.assertEqual(self.rendered(spec, frames), [number / 8 for number in wanted])
        self.assertEqual(self.told, ["source 's': number 5 is not there; 4 stands for it", *self.told[1:]])
        self.assertEqual(len(self.told), 2, "each once")

    def test_what_can_not_be_read_at_a_frame_names_it(self) -> None:
        self.files()
        self.assert_refused(lambda: self.rendered({"missing": "error"}, range(3, 7)), "source 's'", "number 5")
        self.assert_refused(lambda: self.rendered({"after": "error"}, range(6, 8)), "nothing at frame 7", "3 to 6")
        self.assert_refused(lambda: self.rendered({"first": 5, "last": 4}, range(3, 4)), "its first is after its last")
        self.assert_refused(lambda: self.rendered({"first": 7}, range(7, 8)), "no file with a number from 7 to 6")
        self.assert_refused(lambda: self.rendered({}, range(3, 4), "s.extra.Y"), "in its frame 3")
        self.assertEqual(self.rendered({}, range(6, 7), "s.extra.Y"), [6 / 8])

    def test_black_has_the_size_and_the_channels_of_its_neighbour(self) -> None:
        self.files()
        recipe = parse_recipe({"nexal": 1, "sources": {"s": {"files": "s", "missing": "black"}}})
        with Session() as session:
            (reader,) = session.readers(recipe, {"s": str(self.place / "s.###.exr")}, 5, ["s"]).values()
            self.assertIsInstance(reader, BlackSource)
            self.assertEqual(reader.description.channels, ("R", "G", "B", "A"))
            planes = reader.read(["R", "A"], Fraction(1, 2), Window(0, 0, 3, 2))
            self.assertEqual({name: (plane.shape, plane.max()) for name, plane in planes.items()},
                             {"R": ((2, 3), 0), "A": ((2, 3), 0)})  # fmt: skip

    def test_a_recipe_with_time_in_it_comes_back_as_it_was(self) -> None:
        spec = {"files": "s.%03d.exr", "offset": 3, "after": "loop", "missing": "error", "last": 9}
        recipe = {"nexal": 1, "sources": {"s": spec}, "steps": [], "outputs": {}}
        self.assertEqual(parse_recipe(json.loads(json.dumps(parse_recipe(recipe).as_json()))).as_json(),
                         {"nexal": 1, "sources": {"s": spec}})  # fmt: skip


if __name__ == "__main__":
    unittest.main()
