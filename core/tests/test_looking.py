"""What pictures are shown as: ids as colours, data through a range, and the point mathematics behind."""

from __future__ import annotations

import unittest
from fractions import Fraction

import numpy as np
from core_support import CoreTest, MemorySource, gradient, rgb, write_exr

from nexal.analysis.view import probe, shown
from nexal.engine import Engine, Plan
from nexal.formats.reading import data_range
from nexal.kernels.labels import id_colours
from nexal.kernels.oklab import oklab_ab, rgb_of
from nexal.kernels.pointmath import uncovered, unpremultiplied, weighted_sum
from nexal.recipe import SourceSpec, parse_recipe
from nexal.session import Session


class Ids(CoreTest):
    def test_the_same_id_has_the_same_colour_anywhere_and_0_is_dark(self) -> None:
        ids = np.random.default_rng(1).integers(0, 40, (30, 50)).astype(np.float32)
        colours = id_colours(ids)
        again = id_colours(ids[::-1, ::3].copy())
        np.testing.assert_array_equal(again, colours[:, ::-1, ::3])
        self.assertTrue((colours >= 0).all() and (colours <= 1).all())
        self.assertLess(float(colours[:, ids == 0].max()), 0.1)
        self.assertGreater(float(colours[:, ids > 0].max(axis=0).min()), 0.4)

    def test_neighbouring_and_hashed_ids_are_told_apart(self) -> None:
        for ids in (np.arange(1, 61), np.random.default_rng(2).standard_normal(60) * 1e30):
            colours = id_colours(ids.astype(np.float32)[None])[:, 0].T
            apart = np.abs(colours[:, None] - colours[None]).max(axis=-1)[np.triu_indices(60, 1)]
            # Of 1770 pairs hardly any looks the same.
            self.assertLess(int((apart < 0.02).sum()), 12)

    def test_oklab_there_and_back(self) -> None:
        r, g, b = (float(v) for v in rgb_of(0.7, 0.08, -0.05))
        found = oklab_ab(*(np.float32(v) for v in (r, g, b)))
        np.testing.assert_allclose([float(v) for v in found], (0.08, -0.05), atol=1e-5)
        np.testing.assert_allclose([float(v) for v in rgb_of(1.0, 0.0, 0.0)], 1, atol=1e-6)


class Ranges(CoreTest):
    def test_by_hand(self) -> None:
        def report(low: float, high: float, p1: float, p99: float) -> dict[str, object]:
            return {"min": low, "max": high, "percentiles": {"1": p1, "99": p99}}

        self.assertIsNone(data_range(report(0.2, 0.9, 0.3, 0.8)))
        self.assertEqual(data_range(report(2, 1e9, 3, 40)), (3, 40))
        self.assertEqual(data_range(report(5, 5, 5, 5)), (5, 6))

    def test_data_keeps_its_range_through_steps_that_hand_it_on(self) -> None:
        depth = (3 + 20 * gradient(64, 48)).astype(np.float32)
        axes = zip("XYZ", (0.6, 0, -0.8), strict=True)
        normal = {f"normal.{axis}": np.full((48, 64), value, np.float16) for axis, value in axes}
        planes = rgb(64, 48) | {"depth.Z": depth} | normal
        path = write_exr(self.folder() / "p.exr", planes)
        route = {"name": "made", "op": "route", "in": {"base": "p"}, "set": {"to": {"far": {"from": "p.depth.Z"}}}}
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": [route]})
        with Session() as session:
            plan = Plan(recipe, 1, {"p": session.open(path, SourceSpec())})
            feed = plan.feed("made")
            region = feed.description.display

            def seen(*channels: str) -> list[tuple[float, float] | None]:
                return shown(session.engine, plan, feed, channels, Fraction(1), region).ranges

            low, high = seen("far")[0] or (0, 0)
            np.testing.assert_allclose((low, high), np.percentile(depth, (1, 99)), rtol=0.02)
            self.assertEqual(seen("R", "G"), [None, None])
            # One axis is negative, so that all three are shown from -1 to 1.
            self.assertEqual(seen("normal.X", "normal.Y", "normal.Z"), [(-1.0, 1.0)] * 3)

    def test_an_id_is_probed_with_all_digits_and_not_averaged(self) -> None:
        ids = np.full((20, 30), 16_777_217, np.uint32)
        ids[:, :15] = 5
        path = write_exr(self.folder() / "p.exr", {"id.object": ids, "R": np.ones((20, 30), np.float16)})
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}})
        with Session() as session:
            plan = Plan(recipe, 1, {"p": session.open(path, SourceSpec())})
            for x, wanted in ((14, 5), (15, 16_777_217)):
                row = probe(session.engine, plan, plan.feed("p"), x, 4, 5)
                self.assertEqual({c["name"]: c["value"] for c in row["channels"]}["id.object"], wanted)


class PointMath(CoreTest):
    def test_a_weighted_sum_is_the_plain_one_bit_by_bit(self) -> None:
        planes = [gradient(33, 21, seed) * 3 - 1 for seed in range(5)]
        gains = [1.0, 0.3, -2.0, 2.0**0.4, 7.0]
        total = planes[0] * np.float32(gains[0])
        for plane, gain in zip(planes[1:], gains[1:], strict=True):
            total = total + plane * np.float32(gain)
        kept = [plane.copy() for plane in planes]
        np.testing.assert_array_equal(weighted_sum(planes, gains), total)
        for plane, before in zip(planes, kept, strict=True):
            np.testing.assert_array_equal(plane, before)

    def test_of_one_of_none_and_of_numbers(self) -> None:
        plane = gradient(8, 6)
        np.testing.assert_array_equal(weighted_sum([plane], [2.0]), plane * 2)
        self.assertEqual(weighted_sum([], []), 0)
        np.testing.assert_allclose(weighted_sum([plane, np.float32(0.5)], [1.0, 4.0]), plane + 2)

    def test_straight_colour(self) -> None:
        mixed, alpha = np.array([0.3, 0.3, 0.3], np.float32), np.array([0.5, 0.0, 1.0], np.float32)
        np.testing.assert_allclose(unpremultiplied(mixed, alpha), [0.6, 0.3, 0.3])
        np.testing.assert_allclose(uncovered(mixed, alpha, np.float32(0.2)), [0.4, 0, 0.3], atol=1e-6)


class Engines(CoreTest):
    def test_blocks_of_a_sum_are_the_whole(self) -> None:
        planes = {f"p{i}.{n}": gradient(600, 500, i) for i in range(3) for n in "RGB"}
        step = {"name": "sum", "op": "sum_passes", "in": {"passes": [f"r.p{i}" for i in range(3)]}}
        recipe = parse_recipe({"nexal": 1, "sources": {"r": {"files": "r"}}, "steps": [step]})
        plan = Plan(recipe, 1, {"r": MemorySource(planes)})
        wanted = planes["p0.G"] + planes["p1.G"] + planes["p2.G"]
        for threads in (1, 2, 3):
            made = Engine(threads=threads).evaluate(plan.feed("sum"), plan).planes["G"]
            np.testing.assert_array_equal(made, wanted)


if __name__ == "__main__":
    unittest.main()
