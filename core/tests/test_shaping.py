"""Edges moved, specks dropped, strokes and curves rasterised: against brute force and known areas."""

from __future__ import annotations

import math
import unittest
from fractions import Fraction

import numpy as np
from core_support import CoreTest, MemorySource, gradient, one, rgb, rgba, run
from hypothesis import given
from hypothesis import strategies as st
from patience import trials

from nexal.engine import Engine, Plan
from nexal.kernels.coverage import area_coverage, flatten
from nexal.kernels.formulas import FormulaError, parse_formula
from nexal.kernels.strokes import stroke_coverage
from nexal.picture import Window
from nexal.recipe import parse_recipe


def brute(plane: np.ndarray, radius: int, *, square: bool = False) -> np.ndarray:
    """Largest value in the neighbourhood of each pixel, one pixel at a time."""
    height, width = plane.shape
    result = np.empty_like(plane)
    for y in range(height):
        for x in range(width):
            best = -np.inf
            for dy in range(-radius, radius + 1):
                for dx in range(-radius, radius + 1):
                    inside = square or dx * dx + dy * dy <= radius * radius
                    if inside and 0 <= y + dy < height and 0 <= x + dx < width:
                        best = max(best, plane[y + dy, x + dx])
            result[y, x] = best
    return result


class Grow(CoreTest):
    def test_whole_and_fractional_sizes(self) -> None:
        plane = gradient(24, 18)
        source = {"m": MemorySource({"M": plane})}
        for shape in ("round", "square"):
            small, large = (brute(plane, size, square=shape == "square") for size in (2, 3))
            with self.subTest(shape):
                got = one("grow", {"matte": "m"}, source, distance=2, shape=shape)
                self.assert_planes(got.planes["Y"], small, 0)
                got = one("grow", {"matte": "m"}, source, distance=2.25, shape=shape)
                self.assert_planes(got.planes["Y"], small + 0.25 * (large - small), 1e-6)
                shrunk = one("grow", {"matte": "m"}, source, distance=-2.25, shape=shape)
                inner, outer = (-brute(-plane, size, square=shape == "square") for size in (2, 3))
                self.assert_planes(shrunk.planes["Y"], inner + 0.25 * (outer - inner), 1e-6)

    def test_half_a_pixel_of_an_edge(self) -> None:
        edge = np.zeros((5, 9), np.float32)
        edge[:, 4:] = 1
        got = one("grow", {"matte": "m"}, {"m": MemorySource({"M": edge})}, distance=0.5)
        self.assert_planes(got.planes["Y"][2], [0, 0, 0, 0.5, 1, 1, 1, 1, 1])

    def test_a_region_is_the_same_as_a_part_of_the_whole(self) -> None:
        plane = gradient(60, 40)
        steps = [{"name": "g", "op": "grow", "in": {"matte": "m"}, "set": {"distance": 4.5}}]
        whole = run(steps, {"m": MemorySource({"M": plane})}).planes["Y"]
        part = Window(20, 10, 15, 12)
        got = run(steps, {"m": MemorySource({"M": plane})}, region=part).planes["Y"]
        self.assert_planes(got, whole[part.y : part.bottom, part.x : part.right], 0)


class Despeckle(CoreTest):
    def matte(self) -> np.ndarray:
        plane = np.zeros((40, 60), np.float32)
        plane[5:25, 5:30] = 0.8
        plane[10:12, 10:12] = 0.1  # a hole of 4
        plane[30, 50] = plane[31, 51] = 0.9  # a speck of 2, joined over the corner
        plane[2, 40:46] = 0.7  # a speck of 6
        return plane

    def test_sizes_decide(self) -> None:
        plane = self.matte()
        got = one("despeckle", {"matte": "m"}, {"m": MemorySource({"M": plane})}, islands=5, holes=5).planes["Y"]
        wanted = plane.copy()
        wanted[30, 50] = wanted[31, 51] = 0
        wanted[10:12, 10:12] = 1
        self.assert_planes(got, wanted, 0)
        kept = one("despeckle", {"matte": "m"}, {"m": MemorySource({"M": plane})}, islands=2, holes=4).planes["Y"]
        self.assert_planes(kept, plane, 0)

    def test_a_part_knows_of_the_whole(self) -> None:
        """A large area of which a region shows a small corner is no speck."""
        steps = [{"name": "d", "op": "despeckle", "in": {"matte": "m"}, "set": {"islands": 100, "holes": 0}}]
        engine = Engine(threads=2)
        sources = {"m": MemorySource({"M": self.matte()})}
        corner = run(steps, sources, region=Window(4, 4, 3, 3), engine=engine).planes["Y"]
        self.assert_planes(corner, self.matte()[4:7, 4:7], 0)
        run(steps, sources, region=Window(0, 0, 10, 10), engine=engine)
        self.assertEqual(engine.computed["d"], 1)


def smooth(t: float) -> float:
    t = min(1.0, max(0.0, t))
    return t * t * (3 - 2 * t)


class TouchUp(CoreTest):
    def paint(self, strokes: list[dict], plane: np.ndarray | None = None, **options: object) -> np.ndarray:
        source = MemorySource({"M": np.zeros((40, 60), np.float32) if plane is None else plane})
        steps = [{"name": "t", "op": "touch_up", "in": {"matte": "m.M"}, "set": {"strokes": strokes}}]
        return run(steps, {"m": source}, **options).planes["Y"]

    def test_a_soft_dab_by_distance(self) -> None:
        got = self.paint([{"points": [[30, 20]], "radius": 12, "hardness": 0.25, "opacity": 0.8}])
        for x, y in ((30, 20), (33, 20), (36, 24), (41, 20), (43, 20)):
            d = math.hypot(x + 0.5 - 30, y + 0.5 - 20)
            # 1 up to a quarter of the radius, 0 from the radius on
            self.assertAlmostEqual(float(got[y, x]), 0.8 * smooth((12 - d) / 9), 5)

    def test_a_hard_dab_has_the_area_of_its_disc(self) -> None:
        got = self.paint([{"points": [[30.3, 19.6]], "radius": 9}])
        self.assertAlmostEqual(float(got.sum()), math.pi * 81, delta=math.pi * 81 * 0.01)
        self.assertEqual((float(got[19, 30]), float(got[0, 0])), (1, 0))

    def test_nothing_builds_up_where_a_stroke_crosses_itself(self) -> None:
        cross = [[10, 10], [50, 30], [50, 10], [10, 30]]
        got = self.paint([{"points": cross, "radius": 3, "opacity": 0.5}])
        self.assertAlmostEqual(float(got.max()), 0.5, 6)
        twice = self.paint([{"points": cross[:2], "radius": 3, "opacity": 0.5}] * 2)
        self.assertAlmostEqual(float(twice.max()), 0.75, 6)

    def test_a_line_is_the_distance_to_it(self) -> None:
        got = self.paint([{"points": [[10, 20], [50, 20]], "radius": 8, "hardness": 0}])
        column = [smooth((8 - abs(y + 0.5 - 20)) / 8) for y in range(40)]
        self.assert_planes(got[:, 30], column, 1e-5)

    def test_pressure_scales_the_radius(self) -> None:
        full = self.paint([{"points": [[30, 20]], "radius": 5}])
        half = self.paint([{"points": [[30, 20, 0.5]], "radius": 10}])
        self.assert_planes(half, full, 1e-6)

    @trials(30)
    @given(st.integers(0, 10_000), st.integers(1, 60), st.floats(0.3, 80), st.floats(0, 1), st.booleans())
    def test_long_strokes_are_the_largest_of_their_dabs(
        self, seed: int, count: int, radius: float, hardness: float, pressed: bool
    ) -> None:
        """Whatever is left out of a sweep decides nothing: against all segments compared at all pixels."""
        random = np.random.default_rng(seed)
        points = np.ones((count, 3))
        points[:, :2] = np.round(np.cumsum(random.normal(0, random.uniform(0.1, 40), (count, 2)), 0) + 75, 1)
        if pressed:
            points[:, 2] = np.round(random.uniform(0, 1, count), 2)
        shape = (130, 150)
        y, x = np.mgrid[: shape[0], : shape[1]] + 0.5
        wanted = np.zeros(shape)
        for (ax, ay, ap), (bx, by, bp) in zip(points, np.vstack([points[1:], points[-1:]]), strict=True):
            length = (bx - ax) ** 2 + (by - ay) ** 2
            t = np.clip(((x - ax) * (bx - ax) + (y - ay) * (by - ay)) / length, 0, 1) if length else 0 * x
            size = radius * (ap + (bp - ap) * t)
            half = np.maximum(size * (1 - hardness), 1) / 2
            distance = np.hypot(x - ax - t * (bx - ax), y - ay - t * (by - ay))
            s = np.clip((size * (1 + hardness) / 2 + half - distance) / (2 * half), 0, 1)
            dab = s * s * (3 - 2 * s) * np.minimum(1, 2 * size) * (size > 0)
            wanted = np.maximum(wanted, dab)
        got = stroke_coverage(shape, points.astype(np.float32), radius, hardness, (0, 0))
        self.assert_planes(got, wanted, 1e-4)
        part = stroke_coverage((50, 40), points.astype(np.float32), radius, hardness, (37, 21))
        np.testing.assert_allclose(part, got[21:71, 37:77], atol=1e-6)

    def test_strokes_are_painted_in_order_over_what_is_there(self) -> None:
        plane = gradient(60, 40)
        strokes = [
            {"points": [[20, 20]], "radius": 10, "value": 1},
            {"points": [[26, 20]], "radius": 10, "value": 0},
        ]
        got = self.paint(strokes, plane)
        self.assertEqual((float(got[20, 26]), float(got[20, 12])), (0, 1))
        self.assertEqual(float(got[2, 55]), float(plane[2, 55]))

    def test_colour_alone_alpha_alone_or_all(self) -> None:
        source = rgba()
        dab = {"points": [[32, 24]], "radius": 6, "value": 0.25}
        for channels, touched in (([], "RGBA"), (["A"], "A"), (["R", "G", "B"], "RGB")):
            stroke = dab | ({"channels": channels} if channels else {})
            got = one("touch_up", {"matte": "p"}, {"p": source}, strokes=[stroke]).planes
            for name in "RGBA":
                wanted = 0.25 if name in touched else float(source.planes[name][24, 32])
                self.assertAlmostEqual(float(got[name][24, 32]), wanted, 6, f"{name} of {channels}")
        red = one("touch_up", {"matte": "p"}, {"p": source}, strokes=[dab | {"value": [0.9, 0.1, 0.2]}]).planes
        self.assertEqual([round(float(red[n][24, 32]), 4) for n in "RGB"], [0.9, 0.1, 0.2])

    def test_a_picture_without_alpha_says_so(self) -> None:
        stroke = {"points": [[3, 3]], "radius": 2, "channels": ["A"]}
        opaque = {"p": MemorySource(rgb())}
        self.assert_refused(
            lambda: one("touch_up", {"matte": "p"}, opaque, strokes=[stroke]), "stroke 1", "no alpha", "attach_alpha"
        )

    def test_a_fault_far_down_is_told_by_its_place_in_the_whole(self) -> None:
        strokes = [{"points": [[3, 3]], "radius": 2} for _ in range(50)]
        strokes[40]["channels"] = ["mask"]
        opaque = {"p": MemorySource(rgb())}
        self.assert_refused(lambda: one("touch_up", {"matte": "p"}, opaque, strokes=strokes), "stroke 41", "mask")

    def test_bad_strokes_are_refused_with_their_place(self) -> None:
        for stroke, word in (
            ({"points": [], "radius": 3}, "points"),
            ({"points": [[1]], "radius": 3}, "[x, y]"),
            ({"points": [[1, 2, 7]], "radius": 3}, "pressure"),
            ({"points": [[1, 2]], "radius": 0}, "radius"),
            ({"points": [[1, 2]], "radius": 3, "hardness": 2}, "hardness"),
            ({"points": [[1, float("nan")]], "radius": 3}, "points"),
            ({"points": [[1, 2]], "radius": 3, "value": [1, 2]}, "red, green and blue"),
            ({"points": [[1, 2]], "radius": 3, "colour": 1}, "colour"),
        ):
            with self.subTest(stroke):
                self.assert_refused(lambda stroke=stroke: self.paint([stroke]), "step 't'", "strokes", word)

    def test_a_change_of_the_last_stroke_leaves_the_others_alone(self) -> None:
        """Parts of 32 strokes are kept: of 300, only the last part is painted anew."""
        strokes = [{"points": [[i % 60, i % 40]], "radius": 2} for i in range(300)]
        engine, source = Engine(threads=2), MemorySource({"M": np.zeros((40, 60), np.float32)})

        def painted(now: list[dict]) -> int:
            steps = [{"name": "t", "op": "touch_up", "in": {"matte": "m"}, "set": {"strokes": now}}]
            run(steps, {"m": source}, engine=engine)
            return engine.computed["t"]

        self.assertEqual(painted(strokes), 10)
        self.assertEqual(painted([*strokes[:-1], strokes[-1] | {"radius": 4}]), 11)

    def test_proxies_and_regions_show_the_same_strokes(self) -> None:
        strokes = [{"points": [[8, 8], [40, 24]], "radius": 8, "hardness": 0}]
        whole = self.paint(strokes)
        half = self.paint(strokes, scale=Fraction(1, 2))
        self.assert_planes(half, whole.reshape(20, 2, 30, 2).mean((1, 3)), 0.02)
        part = Window(12, 6, 20, 14)
        self.assert_planes(self.paint(strokes, region=part), whole[6:20, 12:32], 0)


CIRCLE = 4 / 3 * math.tan(math.pi / 8)


def circle(x: float, y: float, radius: float) -> list[list[float]]:
    """Four curves that are a circle to within 0.03 %."""
    k = radius * CIRCLE
    return [
        [x + radius, y, 0, -k, 0, k],
        [x, y + radius, k, 0, -k, 0],
        [x - radius, y, 0, k, 0, -k],
        [x, y - radius, -k, 0, k, 0],
    ]


class Shapes(CoreTest):
    def draw(self, paths: list[dict], frame: int = 1, **options: object) -> np.ndarray:
        steps = [{"name": "s", "op": "shape", "set": {"paths": paths, "width": 60, "height": 40}}]
        return run(steps, {}, frame=frame, **options).planes["Y"]

    def test_area_coverage_of_a_box_is_exact(self) -> None:
        got = self.draw([{"points": [[10.25, 5.5], [20.5, 5.5], [20.5, 15.75], [10.25, 15.75]]}])
        self.assertEqual(float(got[10, 10]), 0.75)
        self.assertEqual(float(got[10, 20]), 0.5)
        self.assertEqual(float(got[5, 15]), 0.5)
        self.assertAlmostEqual(float(got[15, 20]), 0.75 * 0.5, 6)
        self.assertAlmostEqual(float(got.sum()), 10.25 * 10.25, 4)

    def test_slanted_edges_against_many_samples(self) -> None:
        corners = np.array([[7.3, 3.1], [50.2, 12.7], [31.9, 36.4]])
        got = area_coverage((40, 60), corners)
        fine = 32
        y, x = (np.mgrid[0 : 40 * fine, 0 : 60 * fine] + 0.5) / fine
        inside = np.ones_like(x, bool)
        for (ax, ay), (bx, by) in zip(corners, np.roll(corners, -1, axis=0), strict=True):
            inside &= (bx - ax) * (y - ay) - (by - ay) * (x - ax) >= 0
        self.assert_planes(got, inside.reshape(40, fine, 60, fine).mean((1, 3)), 0.01)
        self.assertAlmostEqual(
            float(got.sum()), 0.5 * abs(np.linalg.det([corners[1] - corners[0], corners[2] - corners[0]])), 2
        )

    def test_curves_and_what_lies_outside_of_the_picture(self) -> None:
        got = self.draw([{"points": circle(30, 20, 15)}])
        self.assertAlmostEqual(float(got.sum()), math.pi * 225, delta=0.5)
        corner = self.draw([{"points": circle(0, 0, 15)}])
        self.assertAlmostEqual(float(corner.sum()), math.pi * 225 / 4, delta=0.5)
        right = self.draw([{"points": circle(60, 40, 15)}])
        self.assertAlmostEqual(float(right.sum()), math.pi * 225 / 4, delta=0.5)

    def test_the_direction_of_drawing_does_not_matter(self) -> None:
        points = circle(30, 20, 12)
        turned = [[x, y, *point[4:6], *point[2:4]] for point in reversed(points) for x, y in [point[:2]]]
        self.assert_planes(self.draw([{"points": turned}]), self.draw([{"points": points}]), 1e-5)

    def test_add_cut_and_opacity(self) -> None:
        box = {"points": [[10, 10], [30, 10], [30, 30], [10, 30]]}
        hole = {"points": [[15, 15], [25, 15], [25, 25], [15, 25]], "mode": "cut", "opacity": 0.5}
        got = self.draw([box, hole])
        self.assertEqual((float(got[12, 12]), float(got[20, 20]), float(got[5, 5])), (1, 0.5, 0))

    def test_feather_inward_and_outward(self) -> None:
        box = {"points": [[10, -40], [200, -40], [200, 80], [10, 80]], "feather": [2, 6]}
        row = self.draw([box])[20]
        # From 6 px outside of x = 10 to 2 px inside of it.
        self.assert_planes(row[:20], [smooth((x + 0.5 - 4) / 8) for x in range(20)], 1e-5)
        even = self.draw([box | {"feather": 4}])[20]
        self.assert_planes(even[:20], [smooth((x + 0.5 - 6) / 8) for x in range(20)], 1e-5)

    def test_a_point_may_have_its_own_feather(self) -> None:
        soft = [10, 10, 0, 0, 0, 0, 0, 8]
        points = [soft, [50, 10], [50, 35], [10, 35]]
        got = self.draw([{"points": points}])
        self.assertGreater(float(got[7, 12]), 0.2)
        self.assertLess(float(got[7, 48]), 0.02)

    def test_keys_move_every_number(self) -> None:
        here, there = [[0, 0], [10, 0], [10, 10], [0, 10]], [[20, 20], [30, 20], [30, 30], [20, 30]]
        path = {"keys": [[1, here], [11, there]]}
        for frame, corner in ((-5, 0), (1, 0), (6, 10), (11, 20), (40, 20)):
            with self.subTest(frame):
                got = self.draw([path], frame=frame)
                self.assertEqual(float(got[corner : corner + 10, corner : corner + 10].sum()), 100)
                self.assertEqual(float(got.sum()), 100)

    def test_crossing_and_empty_paths(self) -> None:
        eight = [[10, 10], [30, 30], [30, 10], [10, 30]]
        got = self.draw([{"points": eight}])
        self.assertEqual((float(got[20, 12]), float(got[20, 28]), float(got[12, 20])), (1, 1, 0))
        for nothing in ([], [[5, 5]], [[5, 5], [20, 20]]):
            self.assertEqual(float(self.draw([{"points": nothing}]).sum()), 0)

    def test_bad_paths_say_why(self) -> None:
        for path, word in (
            ({"points": [[1, 2, 3]]}, "in_x"),
            ({}, "points or keys"),
            ({"points": [[1, 2]], "keys": [[1, [[1, 2]]]]}, "points or keys"),
            ({"keys": [[1, [[1, 2]]], [2, [[1, 2], [3, 4]]]]}, "same number"),
            ({"points": [[1, 2]], "mode": "xor"}, "mode"),
            ({"points": [[1, 2]], "feather": -3}, "feather"),
        ):
            with self.subTest(path):
                self.assert_refused(lambda path=path: self.draw([path]), "step 's'", "paths", word)

    def test_flattening_stays_within_its_tolerance(self) -> None:
        points = np.zeros((4, 8))
        points[:, :6] = circle(0, 0, 1000)
        outline = flatten(points)
        self.assertLess(np.abs(np.hypot(outline[:, 0], outline[:, 1]) - 1000).max(), 0.3)
        middles = (outline + np.roll(outline, -1, axis=0)) / 2
        self.assertLess(1000 - np.hypot(middles[:, 0], middles[:, 1]).min(), 0.06)


class Noise(CoreTest):
    def test_the_same_everywhere_and_within_its_bounds(self) -> None:
        steps = [{"name": "n", "op": "noise", "set": {"width": 96, "height": 64, "scale": 24, "seed": 3}}]
        whole = run(steps, {}).planes["Y"]
        self.assert_planes(run(steps, {}, region=Window(20, 8, 30, 40)).planes["Y"], whole[8:48, 20:50], 1e-6)
        self.assertTrue(whole.min() >= 0 and whole.max() <= 1)
        self.assertAlmostEqual(float(whole.mean()), 0.5, delta=0.1)
        self.assertGreater(float(whole.std()), 0.05)
        other = run([steps[0] | {"set": steps[0]["set"] | {"seed": 4}}], {}).planes["Y"]
        self.assertGreater(float(np.abs(other - whole).mean()), 0.02)

    def test_on_the_lattice_one_octave_is_grey(self) -> None:
        """Gradient noise is 0 on its lattice; at 1/2 px from a point of it next to nothing."""
        settings = {"width": 65, "height": 65, "scale": 1000, "octaves": 1}
        got = run([{"name": "n", "op": "noise", "set": settings}], {}).planes["Y"]
        self.assertAlmostEqual(float(got[0, 0]), 0.5, 3)


class Formula(CoreTest):
    def value(self, text: str, **settings: object) -> np.ndarray:
        sources = {"p": MemorySource(rgb()), "q": MemorySource({"M": gradient(seed=8)})}
        return one("formula", {"a": "p", "m": "q"}, sources, expressions={"Y": text}, **settings).planes["Y"]

    def test_every_function_against_numpy(self) -> None:
        p, m = rgb(), gradient(seed=8).astype(np.float64)
        r, g, b = (p[name].astype(np.float64) for name in "RGB")
        t = np.clip((g - 0.2) / 0.5, 0, 1)
        x, y = np.arange(64)[None] + 0.5, np.arange(48)[:, None] + 0.5
        for text, wanted in (
            ("a.g - max(a.r, a.b)", g - np.maximum(r, b)),
            ("min(a.R, a.G, a.B) * 2 + 1 / 4", np.minimum(np.minimum(r, g), b) * 2 + 0.25),
            ("-a.r ** 2", -(r**2)),
            ("clamp(a.r * 2) + clamp(a.g, 0.3, 0.4)", np.clip(r * 2, 0, 1) + np.clip(g, 0.3, 0.4)),
            ("mix(a.r, a.g, m)", r + (g - r) * m),
            ("step(0.4, a.r)", (r >= 0.4).astype(float)),
            ("smoothstep(0.2, 0.7, a.g)", t * t * (3 - 2 * t)),
            ("abs(a.r - a.g) + sqrt(a.b)", np.abs(r - g) + np.sqrt(b)),
            ("exp(a.r) + log(a.g + 1) + pow(a.b, 3)", np.exp(r) + np.log(g + 1) + b**3),
            ("sin(x / 9) * cos(y / 7)", np.sin(x / 9) * np.cos(y / 7)),
            ("x / width + y / height", x / 64 + y / 48),
            ("a.r if m > 0.5 else a.g", np.where(m > 0.5, r, g)),
            ("0.2 < a.r <= 0.6", ((r > 0.2) & (r <= 0.6)).astype(float)),
            ("frame + 0 * m", np.ones_like(m)),
            ("0.25", np.full_like(m, 0.25)),
        ):
            with self.subTest(text):
                self.assert_planes(self.value(text), wanted, 3e-6)

    def test_pictures_and_domains(self) -> None:
        source = MemorySource(rgb())
        halves = {"R": "a.r / 2", "G": "a.g", "B": "0"}
        got = one("formula", {"a": "p"}, {"p": source}, expressions=halves)
        self.assertEqual(list(got.planes), ["R", "G", "B"])
        self.assert_planes(got.planes["R"], source.planes["R"] / 2)
        seen = one("formula", {"a": "p"}, {"p": source}, expressions=halves, domain="display").planes["R"]
        encoded = 1.055 * source.planes["R"].astype(np.float64) ** (1 / 2.4) - 0.055
        self.assert_planes(seen, (((encoded / 2) + 0.055) / 1.055) ** 2.4, 1e-5)

    def test_frames_are_told_apart(self) -> None:
        source, engine = {"p": MemorySource(rgb())}, Engine(threads=1)
        steps = [{"name": "f", "op": "formula", "in": {"a": "p"}, "set": {"expressions": {"Y": "frame / 10"}}}]
        values = [float(run(steps, source, frame=n, engine=engine).planes["Y"][0, 0]) for n in (1, 5)]
        self.assertAlmostEqual(values[0], 0.1, 6)
        self.assertAlmostEqual(values[1], 0.5, 6)

    def test_what_is_not_arithmetic_is_refused_at_its_place(self) -> None:
        for text, place, word in (
            ("a.g + nothing", 7, "nothing"),
            ("a.q", 1, "'q'"),
            ("1 + a", 5, "picture"),
            ("a.__class__", 1, "__class__"),
            ("a.r.__init__.__globals__", 1, "not a channel"),
            ("__import__('os')", 1, "no such function"),
            ("(lambda: 1)()", 2, "no such function"),
            ("[1, 2][0]", 1, "not accepted"),
            ("'x' * 9", 1, "not accepted"),
            ("a.r if True else 0", 8, "not accepted"),
            ("a.r ** 9 ** 9", 8, "exponent"),
            ("9**9**9**9**9", 4, "exponent"),
            ("pow(2, 1e9)", 8, "exponent"),
            ("1e400 * a.r", 1, "too large"),
            ("a.r +", 0, "not an expression"),
            ("max(a.r)", 1, "2 to 8"),
            ("clamp(a.r, low=0)", 1, "clamp takes"),
            ("a.r; a.g", 0, "not an expression"),
            ("(" * 500 + "1" + ")" * 500, 41, "nested"),
            ("-" * 1500 + "1", 41, "nested"),
            ("1+" * 1500 + "1", 2001, "longer"),
            ("", 1, "empty"),
        ):
            with self.subTest(text[:40]):
                error = self.assert_refused(lambda text=text: self.value(text), "expressions.Y", word)
                if place:
                    self.assertIn(f"at character {place}", str(error))

    def test_long_sums_are_followed_or_refused_but_never_crash(self) -> None:
        parse_formula("+".join(["a.r"] * 100))
        with self.assertRaises(FormulaError):
            parse_formula("+".join(["a"] * 900))

    def test_ports_must_be_names_and_must_be_there(self) -> None:
        source = {"p": MemorySource(rgb())}
        self.assert_refused(lambda: one("formula", {"A!": "p"}, source, expressions={"Y": "1"}), "A!")
        self.assert_refused(lambda: one("formula", {}, source, expressions={"Y": "1"}), "size")
        self.assert_refused(lambda: one("formula", {"x": "p"}, source, expressions={"Y": "1"}), "'x'", "another name")
        recipe = parse_recipe(
            {"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": [{"name": "f", "op": "formula", "in": {"a": "zz"}}]}
        )
        self.assert_refused(lambda: Plan(recipe, 1, source).feed("f"), "zz")


if __name__ == "__main__":
    unittest.main()
