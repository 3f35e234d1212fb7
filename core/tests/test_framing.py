"""Turned over, cut, fitted, sharpened, copied: against what NumPy and SciPy make of the same planes."""

from __future__ import annotations

import unittest
from typing import Any, ClassVar

import numpy as np
from core_support import CoreTest, MemorySource, gradient, one, rgb, rgba, run
from scipy import ndimage

from nexal.errors import SettingError
from nexal.picture import Alpha, Trait, Window


class WithoutOvershoot(CoreTest):
    """Hard edges of light and alpha, and light below nothing, moved and resampled: nothing beyond what there was."""

    CASES: ClassVar[dict[str, tuple[dict[str, str], dict[str, Any]]]] = {
        "place": ({"picture": "p"}, {"x": 3.3, "y": -2.7, "rotate": 11.3, "scale": 1.4}),
        "resize": ({"from": "p"}, {"width": 91, "height": 77}),
        "fit_to": ({"picture": "p", "like": "large"}, {"how": "stretch"}),
        "pack": ({"r": "p.R", "g": "p.A", "b": "large.R"}, {}),
    }

    def test_no_alpha_beyond_0_and_1_and_no_light_beyond_its_neighbours(self) -> None:
        rng = np.random.default_rng(8)
        alpha = (rng.random((48, 64)) > 0.5).astype(np.float32)
        planes = {name: np.where(rng.random((48, 64)) > 0.5, 40, -0.25).astype(np.float32) * alpha for name in "RGB"}
        for state in (Alpha.PREMULTIPLIED, Alpha.STRAIGHT):
            sources = {
                "p": MemorySource(planes | {"A": alpha}, alpha=state),
                "large": MemorySource({name: np.zeros((70, 110), np.float32) for name in "RGB"}),
            }
            for op, (ports, settings) in self.CASES.items():
                with self.subTest(f"{op} {state}"):
                    held = one(op, ports, sources, **settings).planes
                    free = one(op, ports, sources, **settings, overshoot=True).planes
                    cover = "G" if op == "pack" else "A"
                    self.assertTrue(((held[cover] >= 0) & (held[cover] <= 1)).all())
                    self.assertLess(free[cover].min(), -0.02)
                    for name in "R" if op == "pack" else "RGB":
                        # Straight colour is premultiplied light, divided: where little covers it has more than one.
                        light = held[name] * (held["A"] if state is Alpha.STRAIGHT and op != "pack" else 1)
                        self.assertTrue(((light >= -0.2501) & (light <= 40.01)).all())


class Mirror(CoreTest):
    def test_it_is_numpys_flip(self) -> None:
        for width, height in ((32, 16), (31, 17), (1, 5)):
            picture = rgba(width, height)
            for across, down in ((True, False), (False, True), (True, True)):
                result = one("mirror", {"picture": "p"}, {"p": picture}, across=across, down=down)
                axes = tuple(axis for axis, turned in ((0, down), (1, across)) if turned)
                for name, plane in picture.planes.items():
                    self.assert_planes(result.planes[name], np.flip(plane, axes), 0)
                self.assertEqual(result.description.display, Window(0, 0, width, height))

    def test_the_data_window_is_turned_over_within_the_display_window(self) -> None:
        source = MemorySource({"Y": gradient(8, 4)}, window=Window(20, -3, 8, 4), display=Window(0, 0, 40, 30))
        result = one("mirror", {"picture": "p"}, {"p": source}, across=True, down=True)
        self.assertEqual(result.description.window, Window(12, 29, 8, 4))
        inside = result.planes["Y"][Window(12, 29, 8, 1).intersect(result.region).within(result.region)]
        self.assert_planes(inside, source.planes["Y"][::-1, ::-1][:1], 0)

    def test_twice_is_nothing_and_ids_keep_their_digits(self) -> None:
        ids = np.arange(35).reshape(5, 7) + 2.0**31 + 1
        source = MemorySource({"id": ids}, data=["id"], traits={"id": Trait("id", samples="uint")})
        steps = [
            {"name": "once", "op": "mirror", "in": {"picture": "p"}},
            {"name": "twice", "op": "mirror", "in": {"picture": "once"}},
        ]
        np.testing.assert_array_equal(run(steps, {"p": source}).planes["id"], ids)


class CutWindow(CoreTest):
    def test_both_windows(self) -> None:
        picture = rgba(32, 16)
        result = one("cut_window", {"picture": "p"}, {"p": picture}, x=5, y=3, width=10, height=7)
        self.assertEqual(result.description.display, Window(0, 0, 10, 7))
        self.assertEqual(result.description.window, Window(0, 0, 10, 7))
        self.assertEqual(result.description.origin, (5, 3))
        for name, plane in picture.planes.items():
            self.assert_planes(result.planes[name], plane[3:10, 5:15], 0)

    def test_the_data_alone_leaves_the_size(self) -> None:
        picture = rgba(32, 16)
        result = one("cut_window", {"picture": "p"}, {"p": picture}, x=5, y=3, width=10, height=7, cuts="data")
        self.assertEqual(result.description.display, Window(0, 0, 32, 16))
        self.assertEqual(result.description.window, Window(5, 3, 10, 7))
        inside = result.planes["A"][result.description.window.within(result.region)]
        self.assert_planes(inside, picture.planes["A"][3:10, 5:15], 0)

    def test_the_display_alone_keeps_overscan(self) -> None:
        picture = rgba(32, 16)
        result = one("cut_window", {"picture": "p"}, {"p": picture}, x=-4, y=2, width=20, height=8, cuts="display")
        self.assertEqual(result.description.window, Window(4, -2, 32, 16))
        seen = one("mirror", {"picture": "p"}, {"p": picture}, across=False)
        cut = result.planes["R"][Window(4, 0, 16, 8).within(result.region)]
        self.assert_planes(cut, seen.planes["R"][2:10, :16], 0)

    def test_what_leaves_nothing_is_refused_with_the_picture_s_own_window(self) -> None:
        with self.assertRaises(SettingError) as caught:
            one("cut_window", {"picture": "p"}, {"p": rgba(32, 16)}, x=40, width=5, height=5)
        self.assertIn("32 x 16 at 0, 0", str(caught.exception.remedy))


class FitTo(CoreTest):
    def fitted(self, how: str, size: tuple[int, int], to: tuple[int, int], **more: object) -> object:
        source = MemorySource(rgb(*size))
        like = MemorySource({"Y": np.zeros(to[::-1], np.float32)}, data=["Y"])
        return source, one("fit_to", {"picture": "p", "like": "l"}, {"p": source, "l": like}, how=how, **more)

    def test_the_rectangle_that_each_rule_gives(self) -> None:
        for how, size, to, expected in (
            ("contain", (40, 20), (60, 60), Window(0, 15, 60, 30)),
            ("contain", (20, 40), (61, 60), Window(15, 0, 30, 60)),
            ("cover", (40, 20), (60, 60), Window(0, 0, 60, 60)),
            ("stretch", (40, 20), (33, 77), Window(0, 0, 33, 77)),
            ("centre", (40, 20), (60, 60), Window(10, 20, 40, 20)),
            ("centre", (40, 20), (10, 60), Window(0, 20, 10, 20)),
            ("contain", (4000, 2), (10, 10), Window(0, 4, 10, 1)),
        ):
            with self.subTest(how=how, size=size, to=to):
                _, result = self.fitted(how, size, to)
                self.assertEqual(result.description.display, Window(0, 0, *to))
                self.assertEqual(result.description.window, expected)

    def test_it_holds_what_resize_holds(self) -> None:
        source, result = self.fitted("contain", (40, 20), (60, 60))
        resized = one("resize", {"from": "p"}, {"p": source}, width=60, height=30)
        for name in "RGB":
            inside = result.planes[name][result.description.window.within(result.region)]
            self.assert_planes(inside, resized.planes[name], 1e-6)

    def test_cover_is_the_middle_of_the_larger_picture(self) -> None:
        source, result = self.fitted("cover", (40, 20), (60, 60))
        resized = one("resize", {"from": "p"}, {"p": source}, width=120, height=60)
        self.assert_planes(result.planes["G"], resized.planes["G"][:, 30:90], 1e-6)

    def test_centre_changes_no_sample(self) -> None:
        source, result = self.fitted("centre", (40, 20), (10, 60))
        inside = result.planes["B"][result.description.window.within(result.region)]
        self.assert_planes(inside, source.planes["B"][:, 15:25], 1e-6)


class Sharpen(CoreTest):
    def test_it_adds_what_a_gaussian_takes_away(self) -> None:
        plane = np.random.default_rng(3).random((40, 50)).astype(np.float32)
        source = MemorySource({"Y": plane}, data=["Y"])
        result = one("sharpen", {"from": "p"}, {"p": source}, radius=2, amount=0.8)
        blurred = ndimage.gaussian_filter(plane.astype(np.float64), 2, mode="nearest", truncate=4)
        self.assert_planes(result.planes["Y"], plane + 0.8 * (plane - blurred), 2e-5)

    def test_the_alpha_stays_and_a_flat_colour_under_it_too(self) -> None:
        alpha = np.zeros((30, 30), np.float32)
        alpha[8:20, 8:20], alpha[20:22] = 1, 0.4
        for state in (Alpha.STRAIGHT, Alpha.PREMULTIPLIED):
            light = alpha if state is Alpha.PREMULTIPLIED else np.ones_like(alpha)
            source = MemorySource(dict.fromkeys("RGB", light * 0.6) | {"A": alpha}, alpha=state)
            result = one("sharpen", {"from": "p"}, {"p": source}, radius=3, amount=2)
            self.assert_planes(result.planes["A"], alpha, 0)
            seen = alpha > 0
            self.assert_planes(result.planes["R"][seen], source.planes["R"][seen], 1e-4)

    def test_a_matte_says_where(self) -> None:
        plane = np.random.default_rng(3).random((40, 50)).astype(np.float32)
        matte = np.zeros((40, 50), np.float32)
        matte[:, 25:] = 1
        given = {"p": MemorySource({"Y": plane}, data=["Y"]), "m": MemorySource({"Y": matte}, data=["Y"])}
        whole = one("sharpen", {"from": "p"}, given).planes["Y"]
        part = one("sharpen", {"from": "p", "matte": "m"}, given).planes["Y"]
        self.assert_planes(part, np.where(matte > 0, whole, plane), 1e-5)

    def test_what_is_no_number_does_not_spread(self) -> None:
        plane = np.full((20, 20), 0.5, np.float32)
        plane[10, 10] = np.nan
        source = MemorySource({"Y": plane}, data=["Y"])
        result = one("sharpen", {"from": "p"}, {"p": source}, radius=2).planes["Y"]
        self.assertEqual(int(np.isnan(result).sum()), 1)


class CopyChannel(CoreTest):
    def test_it_is_the_channel_with_all_that_is_known_of_it(self) -> None:
        ids = np.arange(12).reshape(3, 4) + 2.0**31 + 1
        source = MemorySource({"id": ids, "R": gradient(4, 3)}, data=["id"], traits={"id": Trait("id", samples="uint")})
        result = one("copy_channel", {"from": "p.id"}, {"p": source})
        np.testing.assert_array_equal(result.planes["Y"], ids)
        self.assertEqual(result.description.trait("Y").role, "id")
        self.assertFalse(one("copy_channel", {"from": "p.R"}, {"p": source}).description.all_data)


if __name__ == "__main__":
    unittest.main()
