"""Defocus against pictures that were averaged over a lens, and what holds of every lens."""

from __future__ import annotations

import math
from typing import Any

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, one, run
from numpy.typing import NDArray
from space_scenes import lens_layers, through_lens, through_pinhole

from nexal.kernels.defocusing import defocused
from nexal.kernels.iris import STEP, Iris, outline, spans
from nexal.operations.base import parse_settings
from nexal.operations.defocusing import Defocus, circles
from nexal.picture import Alpha, Plane, Trait

Mask = NDArray[np.bool_]


def psnr(got: Plane, wanted: Plane, where: Mask) -> float:
    error = float(np.mean((np.clip(got[where], 0, 1) - np.clip(wanted[where], 0, 1)) ** 2))
    return 10 * math.log10(1 / max(error, 1e-12))


def edges(circle: Plane) -> tuple[Mask, Mask]:
    """Where the blur of an edge of something near, and of something far, reaches."""
    near, far = np.zeros(circle.shape, np.uint8), np.zeros(circle.shape, np.uint8)
    for axis in (0, 1):
        a = circle[:-1] if axis == 0 else circle[:, :-1]
        b = circle[1:] if axis == 0 else circle[:, 1:]
        low, high = np.minimum(a, b), np.maximum(a, b)
        for mask, chosen, radius in ((near, low < -1, -low), (far, low >= -1, np.abs(high))):
            rows, columns = np.nonzero((high - low > 2.5) & chosen)
            for y, x in zip(rows, columns, strict=True):
                cv2.circle(mask, (int(x), int(y)), max(2, math.ceil(radius[y, x]) + 1), 1, -1)
    return near > 0, (far > 0) & (near == 0)


class Lens(CoreTest):
    def test_against_a_lens_of_many_points(self) -> None:
        for seed, radius in ((3, 20.0), (11, 10.0)):
            layers = lens_layers(radius, seed)
            sharp, circle = through_pinhole(layers)
            truth = through_lens(layers, 1024)
            planes = [np.ascontiguousarray(sharp[..., c]) for c in range(3)] + [np.ones_like(circle)]
            # Sides have to be multiples of eight.
            room = ((0, -circle.shape[0] % 8), (0, -circle.shape[1] % 8))
            padded = [np.pad(plane, room, mode="edge") for plane in planes]
            reach = float(np.abs(circle).max()) * 1.001
            made = defocused(padded, np.pad(circle, room, mode="edge"), reach, 0, Iris(), opaque=True)
            got = np.stack([plane[: circle.shape[0], : circle.shape[1]] for plane in made[:3]], axis=-1)
            near, far = edges(circle)
            found = [psnr(got, truth, where) for where in (near, far, ~(near | far))]
            before = [psnr(sharp, truth, where) for where in (near, far, ~(near | far))]
            for value, least, untouched in zip(found, (31.0, 36.0, 40.0), before, strict=True):
                self.assertGreater(value, least, (seed, radius, found))
                self.assertGreater(value, untouched + 3)

    def test_every_iris_keeps_light(self) -> None:
        for iris in (Iris(), Iris(5), Iris(6, 0.4, 20), Iris(9, 0.9, -40)):
            x, y = outline(iris)
            area = 0.5 * np.sum(x * np.roll(y, -1) - np.roll(x, -1) * y)
            self.assertAlmostEqual(float(area), math.pi, 4)
            table = spans(20.0, iris)
            for side in range(2):
                for radius in (0.0, 2.0, 7.75, 20.0):
                    index = round(radius / STEP)
                    first, half = int(table.first[side, index]), int(table.half[side, index])
                    total = 0.0
                    for row in range(first, first + 2 * half + 1):
                        line = np.zeros(80, np.float64)
                        w = table.weights[row]
                        for at, value in ((table.left[row], w[0]), (table.left[row] + 1, w[1]),
                                          (table.right[row], -w[2]), (table.right[row] + 1, -w[3])):  # fmt: skip
                            line[at + 40] += value
                        total += float(np.cumsum(line).sum())
                    self.assertAlmostEqual(total, 1.0, 4, (iris, side, radius))

    def test_a_point_becomes_the_iris_and_keeps_its_light(self) -> None:
        for blades in (0, 6):
            for depth in (100.0, 1.5):
                made = self.made({"focus": 3.0, "radius": 9.0, "blades": blades}, depth=depth)
                plane = made["R"]
                self.assertAlmostEqual(float(plane.sum()), 30.0, delta=0.15)
                spread = np.abs(
                    np.asarray(circles(np.array([[depth]], np.float32), self.settings(focus=3.0, radius=9.0)))
                )
                lit = plane > 0.5 * plane.max()
                self.assertAlmostEqual(math.sqrt(lit.sum() / math.pi), float(spread[0, 0]), delta=0.6)

    def settings(self, **given: Any) -> Any:
        return parse_settings(Defocus(), given)

    def made(self, ask: dict[str, Any], *, depth: float | Plane, **ports: Plane) -> dict[str, Plane]:
        light = np.zeros((96, 96), np.float32)
        light[48, 48] = 30.0
        sources = {
            "pic": MemorySource(dict.fromkeys("RGB", light)),
            "deep": MemorySource({"Z": np.zeros((96, 96)) + depth}, traits={"Z": Trait("depth")}),
        } | {name: MemorySource({"Y": plane}, data=["Y"]) for name, plane in ports.items()}
        fed = {"picture": "pic", "depth": "deep.Z"} | {name: name for name in ports}
        return dict(one("defocus", fed, sources, **ask).planes)

    def test_circles(self) -> None:
        depth = np.array([[0.5, 1, 2, 4, 8, 1e9, np.inf, -3]], np.float32)
        found = circles(depth, self.settings(focus=2.0, radius=10.0))[0]
        np.testing.assert_allclose(found, [-30, -10, 0, 5, 7.5, 10, 10, 10], atol=1e-4)
        found = circles(depth, self.settings(focus=3.0, range=[1.0, 1.0], radius=10.0))[0]
        np.testing.assert_allclose(found[:5], [-60, -20, 0, 0, 5], atol=1e-4)
        # However near to the focus the radius is wanted, no circle is larger than a lens can be asked for.
        beside = self.settings(focus=3.0, radius=400.0, radius_at=3.0000001)
        self.assertEqual(float(np.abs(circles(depth, beside)).max()), 400.0)
        # Wanted at a depth: that is what it has there.
        for at in (1.0, 8.0):
            found = circles(
                np.array([[at]], np.float32), self.settings(focus=3.0, range=[1, 1], radius=7.0, radius_at=at)
            )
            self.assertAlmostEqual(abs(float(found[0, 0])), 7.0, 4)
        for wrong in ({"blades": 3}, {"range": [9, 0]}, {"radius_at": 5.2, "range": [1, 1]}, {"focus": 0}):
            self.assert_refused(lambda wrong=wrong: self.settings(**wrong), "setting")

    def test_what_is_in_focus_or_spared_stays(self) -> None:
        made = self.made({"focus": 4.0, "radius": 20.0}, depth=4.0)
        self.assertEqual(float(made["R"][48, 48]), 30.0)
        spared = np.zeros((96, 96), np.float32)
        spared[40:56, 40:56] = 1
        made = self.made({"focus": 4.0, "radius": 20.0}, depth=50.0, spared=spared)
        self.assertEqual(float(made["R"][48, 48]), 30.0)
        self.assertLess(float(made["R"][10, 10]), 1e-4)

    def test_a_cut_out_spreads_beyond_its_own_data(self) -> None:
        from nexal.picture import Window

        light = np.full((16, 16), 0.5, np.float32)
        planes = dict.fromkeys("RGB", light) | {"A": np.ones_like(light)}
        sources = {
            "pic": MemorySource(
                planes, alpha=Alpha.PREMULTIPLIED, window=Window(40, 40, 16, 16), display=Window(0, 0, 96, 96)
            ),
            "deep": MemorySource({"Z": np.full((96, 96), 50.0, np.float32)}, traits={"Z": Trait("depth")}),
        }
        made = one("defocus", {"picture": "pic", "depth": "deep.Z"}, sources, focus=3.0, radius=10.0)
        inner = made.description.window
        self.assertEqual((inner.x, inner.width), (18, 60))
        self.assertAlmostEqual(float(made.planes["A"].sum()), 256.0, delta=0.1)
        self.assertGreater(float(made.planes["A"][:22].sum()), 20.0, "it reaches beyond where it had data")

    def test_what_is_no_number_poisons_nothing(self) -> None:
        random = np.random.default_rng(4)
        planes = {name: random.random((64, 80)).astype(np.float32) for name in "RGB"} | {
            "A": np.ones((64, 80), np.float32)
        }
        planes["R"][10, 10], planes["G"][20, 20], planes["A"][5, 5] = np.nan, np.inf, np.nan
        depth = random.choice([1.0, 4.0, np.nan, np.inf, -2.0, 0.0], (64, 80)).astype(np.float32)
        sources = {
            "pic": MemorySource(planes, alpha=Alpha.STRAIGHT),
            "deep": MemorySource({"Z": depth}, traits={"Z": Trait("depth")}),
        }
        made = one("defocus", {"picture": "pic", "depth": "deep.Z"}, sources, focus=2.0, radius=15.0).planes
        for name, plane in made.items():
            self.assertTrue(np.isfinite(plane).all(), name)
        self.assertTrue(float(made["A"].min()) >= 0 and float(made["A"].max()) <= 1)

    def test_highlights_and_grain(self) -> None:
        plain = self.made({"focus": 3.0, "radius": 9.0}, depth=50.0)["R"]
        bright = self.made({"focus": 3.0, "radius": 9.0, "highlight": 1.0, "threshold": 10.0}, depth=50.0)["R"]
        self.assertAlmostEqual(float(bright.sum() / plain.sum()), (10 + 20 * 2) / 30, 3)
        ask = {"focus": 3.0, "radius": 9.0, "grain": 0.02}
        grained = self.made(ask, depth=50.0)
        self.assertAlmostEqual(float((grained["R"] - plain).std()), 0.02, delta=0.001)
        self.assertGreater(float(np.abs(grained["R"] - grained["G"]).max()), 0.02)
        mono = self.made(ask | {"grain_mono": True}, depth=50.0)
        self.assert_planes(mono["R"] - mono["G"], 0)
        sources = {
            "pic": MemorySource({name: np.full((32, 32), 0.2, np.float32) for name in "RGB"}),
            "deep": MemorySource({"Z": np.full((32, 32), 50.0, np.float32)}, traits={"Z": Trait("depth")}),
        }
        step = {"name": "d", "op": "defocus", "in": {"picture": "pic", "depth": "deep.Z"}, "set": ask}
        first, again, second = (run([step], sources, frame=frame).planes["R"] for frame in (1, 1, 2))
        self.assert_planes(first - again, 0)
        self.assertGreater(float(np.abs(first - second).max()), 0.02, "grain is another one in each frame")
