"""Whole mattes from marks, of pictures before anything: against scenes whose alpha is known."""

from __future__ import annotations

import unittest
from functools import cache
from typing import Any
from unittest import mock

import numpy as np
from core_support import CoreTest, MemorySource, run
from patience import wait_until
from screen_scenes import HEIGHT, SCENES, WIDTH, Array, Shot, composited, scribbles

from nexal.analysis.doubts import doubts
from nexal.analysis.marks import Mark
from nexal.analysis.scout import scout, steps_of
from nexal.engine import Engine, Plan
from nexal.errors import NexalError
from nexal.kernels import matting
from nexal.kernels.matting import closed_form
from nexal.kernels.shelf import MOST_BYTES, MOST_HELD, Shelf
from nexal.picture import PLANE_NAME, Picture, Plane
from nexal.recipe import parse_recipe


@cache
def shot(name: str, ground: str) -> Shot:
    return composited(name, ground)


def pictured(planes: Array) -> MemorySource:
    return MemorySource(dict(zip("RGB", planes, strict=True)))


def plane_of(picture: Picture) -> Plane:
    return picture.planes[PLANE_NAME]


def error(alpha: Plane, truth: Plane) -> float:
    """Sum of absolute differences in thousands, as of a picture of 640 x 360."""
    return float(np.abs(alpha - truth).sum()) / 1000 * (640 * 360) / (WIDTH * HEIGHT)


def solved(made: Shot, strokes: list[dict[str, Any]], *, clean: bool = False, **settings: Any) -> Plane:
    given = {"shot": pictured(made.shot), "empty": pictured(made.empty)}
    ports = {"picture": "shot"} | ({"clean": "empty"} if clean else {})
    step = {"name": "matte", "op": "mark_solve", "in": ports, "set": {"strokes": strokes, **settings}}
    return plane_of(run([step], given))


def crossed(made: Shot, strokes: list[dict[str, Any]]) -> Plane:
    """The scout's first row, with its stretch."""
    given = {"shot": pictured(made.shot)}
    recipe = parse_recipe({"nexal": 1, "sources": {"shot": {"files": "shot.exr"}}})
    plan = Plan(recipe, 1, given)
    sides = [
        [Mark(x, y, stroke["radius"]) for stroke in strokes if stroke["value"] == value for x, y in stroke["points"]]
        for value in (1.0, 0.0)
    ]
    found = scout(Engine(), plan, plan.feed("shot"), *sides, rows=1)
    return np.clip(plane_of(run(steps_of(found["rows"][0], "shot"), given)), 0, 1)


EVERY = [(name, ground) for name in SCENES for ground in ("plants", "room")]


class Marked(CoreTest):
    def test_it_has_half_the_error_of_the_best_crossing(self) -> None:
        errors = []
        for name, ground in EVERY:
            made = shot(name, ground)
            strokes = scribbles(made.alpha)
            errors.append((error(solved(made, strokes), made.alpha), error(crossed(made, strokes), made.alpha)))
        whole, crossing = np.mean(errors, axis=0)
        self.assertLess(whole, 14.0, errors)
        self.assertLess(whole, 0.5 * crossing, errors)
        self.assertGreaterEqual(sum(mine < 0.5 * theirs for mine, theirs in errors), 5, errors)

    def test_a_clean_background_needs_no_marks_and_helps_those_there_are(self) -> None:
        for name, ground in (("leaves", "plants"), ("thrown", "room")):
            made = shot(name, ground)
            strokes = scribbles(made.alpha)
            marked = error(solved(made, strokes), made.alpha)
            self.assertLess(error(solved(made, strokes, clean=True), made.alpha), 0.9 * marked, name)
            self.assertLess(error(solved(made, [], clean=True), made.alpha), 1.2 * marked, name)

    def test_what_it_says_of_its_doubt_holds(self) -> None:
        doubts, gone = [], []
        for name, ground in (("leaves", "room"), ("thrown", "plants"), ("head", "room")):
            made = shot(name, ground)
            strokes = scribbles(made.alpha)
            doubts.append(solved(made, strokes, gives="doubt").ravel())
            gone.append(np.abs(solved(made, strokes) - made.alpha).ravel())
        doubt, wrong = np.concatenate(doubts), np.concatenate(gone)
        levels = [(0.0, 0.1), (0.1, 0.2), (0.2, 0.35)]
        found = [float(np.sqrt(np.mean(wrong[(doubt >= low) & (doubt < high)] ** 2))) for low, high in levels]
        self.assertEqual(found, sorted(found))
        for (low, high), rms in zip(levels, found, strict=True):
            self.assertLess(rms, 2 * high, (low, found))

    def test_what_is_said_counts(self) -> None:
        made = shot("thrown", "plants")
        strokes = scribbles(made.alpha)
        spot = {"points": [[300, 20]], "radius": 8, "value": 1.0}
        alpha = solved(made, [*strokes, spot])
        np.testing.assert_allclose(alpha[14:26, 294:306], 1, atol=1e-6)
        again = solved(made, [*strokes, spot, spot | {"value": 0.0}])
        np.testing.assert_allclose(again[14:26, 294:306], 0, atol=1e-6)
        np.testing.assert_array_equal(solved(made, [*strokes, spot], gives="doubt")[14:26, 294:306], 0)

    def test_the_doubt_after_the_matte_is_not_solved_again(self) -> None:
        made = shot("thrown", "plants")
        strokes = scribbles(made.alpha)
        matte = solved(made, strokes)
        with mock.patch.object(matting, "closed_form", side_effect=AssertionError("it is known")):
            doubt = solved(made, strokes, gives="doubt")
            np.testing.assert_array_equal(solved(made, strokes), matte)
            with self.assertRaisesRegex(AssertionError, "it is known"):
                solved(made, strokes[:-1])
        self.assertGreater(doubt.max(), 0.1)

    def test_odd_material_is_answered_or_told(self) -> None:
        random = np.random.default_rng(1)
        two = [{"points": [[5, 5]], "radius": 3, "value": 1.0}, {"points": [[25, 20]], "radius": 3, "value": 0.0}]
        noise = random.random((3, 30, 40)).astype(np.float32)
        broken = noise.copy()
        broken[:, ::3, ::4] = np.nan
        broken[0, 1, 1] = np.inf
        for planes in (noise, noise * 0, broken, noise * 1e6, noise * -1, noise * 1e-20):
            given = {"p": pictured(planes)}
            for gives in ("matte", "doubt"):
                row = {"strokes": two, "gives": gives}
                made = plane_of(run([{"name": "r", "op": "mark_solve", "in": {"picture": "p"}, "set": row}], given))
                self.assertTrue(np.isfinite(made).all())
                self.assertTrue(made.min() >= 0 and made.max() <= 1)
        for planes, strokes in (
            (noise, []), (noise, two[:1]), (noise, two[1:]), (noise[:, :1, :1], two), (noise[:, :5], two)
        ):  # fmt: skip
            step = {"name": "r", "op": "mark_solve", "in": {"picture": "p"}, "set": {"strokes": strokes}}
            with self.assertRaises(NexalError):
                run([step], {"p": pictured(planes)})
        for wrong in ({"value": [1, 0, 0]}, {"channels": ["R"]}):
            step = {"name": "r", "op": "mark_solve", "in": {"picture": "p"}, "set": {"strokes": [two[0] | wrong]}}
            with self.assertRaises(NexalError):
                run([step], {"p": pictured(noise)})

    def test_a_clean_background_that_differs_nowhere_is_told(self) -> None:
        made = shot("thrown", "room")
        with self.assertRaisesRegex(NexalError, "differs"):
            solved(Shot(made.empty, made.plate, made.empty, made.alpha, ""), [], clean=True)


class Doubts(CoreTest):
    def test_the_worst_places_come_first_and_hold_the_errors(self) -> None:
        made = shot("head", "room")
        step = {
            "name": "matte",
            "op": "mark_solve",
            "in": {"picture": "shot"},
            "set": {"strokes": scribbles(made.alpha)},
        }
        recipe = parse_recipe({"nexal": 1, "sources": {"shot": {"files": "shot.exr"}}, "steps": [step]})
        plan = Plan(recipe, 1, {"shot": pictured(made.shot)})
        found = doubts(Engine(), plan, "matte")
        places = found["places"]
        self.assertTrue(places)
        weight = [place["doubt"] for place in places]
        self.assertTrue(all(value > 0.2 for value in weight))
        wrong = np.abs(solved(made, scribbles(made.alpha)) - made.alpha) > 0.4
        inside = np.zeros(wrong.shape, bool)
        for place in places:
            x, y = place["x"], place["y"]
            inside[y : y + place["height"], x : x + place["width"]] = True
        self.assertGreater(wrong[inside].mean(), 2 * wrong[~inside].mean())
        with self.assertRaisesRegex(NexalError, "unsure"):
            doubts(Engine(), plan, "shot")


class Shelves(CoreTest):
    def test_things_of_bounded_size_for_a_while(self) -> None:
        shelf = Shelf[str]()
        shelf.put(b"a", "first", 10)
        self.assertIsNone(shelf.take(b"b"))
        self.assertEqual(shelf.take(b"a"), "first")
        self.assertIsNone(shelf.take(b"a"))
        shelf.put(b"a", "first", 10)
        shelf.put(b"b", "large", 1 << 40)
        self.assertEqual(shelf.take(b"a"), "first")
        shelf.put(b"a", "first", MOST_BYTES // 2)
        shelf.put(b"b", "second", MOST_BYTES // 2)
        self.assertEqual(shelf.take(b"a"), "first")
        shelf.put(b"a", "first", MOST_BYTES // 2)
        # The oldest makes room.
        shelf.put(b"c", "third", 10)
        self.assertIsNone(shelf.take(b"b"))
        for number in range(MOST_HELD):
            shelf.put(str(number).encode(), "more", 10)
        self.assertIsNone(shelf.take(b"a"))
        self.assertIsNone(shelf.take(b"c"))
        with mock.patch("nexal.kernels.shelf.SECONDS", 0.05):
            shelf.put(b"b", "second", 10)
        wait_until(lambda: b"b" not in shelf._held)
        self.assertIsNone(shelf.take(b"b"))


class ClosedForm(CoreTest):
    def test_soft_specks_among_nothing_are_solved(self) -> None:
        random = np.random.default_rng(2)
        image = random.random((40, 60, 3))
        trimap = np.zeros((40, 60), np.float32)
        trimap[10:30, 5:15] = 1
        trimap[8:32, 3:5] = trimap[8:32, 15:18] = 0.5
        # Around these nothing but 0 is known.
        trimap[5:8, 40:44] = trimap[30, 50] = 0.5
        alpha = closed_form(image, trimap, lambda done: None)
        self.assertTrue(np.isfinite(alpha).all())
        np.testing.assert_array_equal(alpha[5:8, 40:44], 0)
        self.assertEqual(alpha[30, 50], 0)


if __name__ == "__main__":
    unittest.main()
