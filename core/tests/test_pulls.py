"""Mattes pulled from colour, put together, and used: each against a formula written out independently."""

from __future__ import annotations

import math
import unittest

import numpy as np
from core_support import CoreTest, MemorySource, gradient, one, rgb, rgba, run

from nexal.picture import Alpha


def flat(r: float, g: float, b: float, width: int = 6, height: int = 4) -> MemorySource:
    return MemorySource({name: np.full((height, width), v, np.float32) for name, v in zip("RGB", (r, g, b))})


def srgb(v: float) -> float:
    return 12.92 * v if v <= 0.0031308 else 1.055 * v ** (1 / 2.4) - 0.055


def oklab(r: float, g: float, b: float) -> tuple[float, float]:
    """OKLab by way of XYZ and the published M1 and M2, which is not how the operation computes it."""
    xyz = np.array(
        [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
    )
    m1 = np.array(
        [
            [0.8189330101, 0.3618667424, -0.1288597137],
            [0.0329845436, 0.9293118715, 0.0361456387],
            [0.0482003018, 0.2643662691, 0.6338517070],
        ]
    )
    m2 = np.array(
        [
            [0.2104542553, 0.7936177850, -0.0040720468],
            [1.9779984951, -2.4285922050, 0.4505937099],
            [0.0259040371, 0.7827717662, -0.8086757660],
        ]
    )
    _, a, bb = m2 @ np.cbrt(m1 @ (xyz @ [r, g, b]))
    return float(a), float(bb)


class ScreenPull(CoreTest):
    def value(self, picture: MemorySource, clean: MemorySource | None = None, **settings: object) -> float:
        sources = {"p": picture} | ({"c": clean} if clean else {})
        ports = {"picture": "p"} | ({"clean": "c"} if clean else {})
        return float(one("screen_pull", ports, sources, **settings).planes["Y"][1, 1])

    def test_a_pixel_by_hand(self) -> None:
        # d = 0.5 - max(0.2, 0.1) = 0.3; d0 = 0.8 - max(0.1, 0.2) = 0.6; alpha = 1 - 0.5
        self.assertAlmostEqual(self.value(flat(0.2, 0.5, 0.1), reference=[0.1, 0.8, 0.2]), 0.5, 6)
        # balance 1: d = 0.5 - 0.15 = 0.35; d0 = 0.8 - 0.15 = 0.65
        self.assertAlmostEqual(
            self.value(flat(0.2, 0.5, 0.1), reference=[0.1, 0.8, 0.2], balance=1), 1 - 0.35 / 0.65, 6
        )
        # stretched from 0.2..0.7
        self.assertAlmostEqual(self.value(flat(0.2, 0.5, 0.1), reference=[0.1, 0.8, 0.2], black=0.2, white=0.7), 0.6, 6)

    def test_blue_and_red_screens(self) -> None:
        self.assertAlmostEqual(self.value(flat(0.2, 0.1, 0.5), screen="blue", reference=[0.1, 0.2, 0.8]), 0.5, 6)
        self.assertAlmostEqual(self.value(flat(0.5, 0.1, 0.2), screen="red", reference=[0.8, 0.2, 0.1]), 0.5, 6)

    def test_a_clean_plate_takes_out_the_unevenness_of_the_screen(self) -> None:
        level = gradient(32, 16) * 0.5 + 0.2
        backing = {"R": level * 0.2, "G": level, "B": level * 0.3}
        alpha = np.clip(gradient(32, 16, 5), 0, 1)
        plate = {name: 0.1 * alpha + plane * (1 - alpha) for name, plane in backing.items()}
        pulled = one(
            "screen_pull", {"picture": "p", "clean": "c"}, {"p": MemorySource(plate), "c": MemorySource(backing)}
        )
        # A grey subject adds nothing to the difference: the pull is its very alpha.
        self.assert_planes(pulled.planes["Y"], alpha, 1e-5)
        even = one("screen_pull", {"picture": "p"}, {"p": MemorySource(plate)}, reference=[0.08, 0.4, 0.12])
        self.assertGreater(np.abs(even.planes["Y"] - alpha).mean(), 0.02)

    def test_where_the_clean_plate_shows_no_screen_all_is_kept(self) -> None:
        self.assertEqual(self.value(flat(0.2, 0.9, 0.1), flat(0.5, 0.2, 0.1)), 1)

    def test_a_reference_of_another_colour_is_refused(self) -> None:
        self.assert_refused(
            lambda: self.value(flat(0, 1, 0), reference=[0.5, 0.2, 0.1]), "step 'result'", "reference", "not green"
        )
        self.assert_refused(lambda: self.value(flat(0, 1, 0), black=0.5, white=0.5), "white", "apart")
        lone = MemorySource({"Z": gradient()})
        self.assert_refused(lambda: self.value(lone), "red, green and blue", "Z")

    def test_not_a_number_passes_through(self) -> None:
        planes = {name: np.full((2, 2), 0.3, np.float32) for name in "RGB"}
        planes["G"][0, 0] = np.nan
        pulled = one("screen_pull", {"picture": "p"}, {"p": MemorySource(planes)}).planes["Y"]
        self.assertEqual([bool(np.isnan(v)) for v in pulled.ravel()], [True, False, False, False])


class OtherPulls(CoreTest):
    def test_hue_by_published_matrices(self) -> None:
        colour = (0.1, 0.4, 0.1)
        for pixel in ((0.1, 0.4, 0.1), (0.05, 0.2, 0.05), (0.3, 0.4, 0.1), (0.4, 0.4, 0.4)):
            with self.subTest(pixel):
                distance = math.dist(oklab(*pixel), oklab(*colour))
                t = min(1.0, max(0.0, (distance - 0.05) / 0.1))
                settings = {"colour": colour, "tolerance": 0.05, "softness": 0.1}
                got = one("hue_pull", {"picture": "p"}, {"p": flat(*pixel)}, **settings).planes["Y"][0, 0]
                self.assertAlmostEqual(float(got), t * t * (3 - 2 * t), 3)

    def test_luminance_band(self) -> None:
        def pulled(level: float, **settings: object) -> float:
            picture = flat(level, level, level)
            return float(one("luma_pull", {"picture": "p"}, {"p": picture}, **settings).planes["Y"][0, 0])

        band = {"low": 0.4, "high": 0.6, "low_softness": 0.2, "high_softness": 0.1, "domain": "scene"}
        self.assertEqual([pulled(v, **band) for v in (0.4, 0.5, 0.6)], [1, 1, 1])
        self.assertAlmostEqual(pulled(0.3, **band), 0.5, 5)
        self.assertAlmostEqual(pulled(0.65, **band), 0.5, 5)
        self.assertEqual([pulled(v, **band) for v in (0.19, 0.71)], [0, 0])
        self.assertEqual(pulled(0.2, low=srgb(0.2) - 0.01, high=srgb(0.2) + 0.01, low_softness=0), 1)
        mixed = one("luma_pull", {"picture": "p"}, {"p": flat(1, 0.5, 0.25)}, low=0.5, high=0.6, low_softness=0)
        luminance = 0.2126 + 0.7152 * 0.5 + 0.0722 * 0.25
        self.assertEqual(float(mixed.planes["Y"][0, 0]), float(0.5 <= srgb(luminance) <= 0.6))
        self.assert_refused(lambda: pulled(0.5, low=0.8, high=0.2), "low is above high")

    def test_one_channel_alone_is_its_own_luminance(self) -> None:
        source = MemorySource(rgb())
        got = one("luma_pull", {"picture": "p.G"}, {"p": source}, low=0.5, high=0.9, low_softness=0, domain="scene")
        green = source.planes["G"]
        self.assert_planes(got.planes["Y"], (green >= np.float32(0.5)) & (green <= np.float32(0.9)))

    def test_difference_takes_the_largest_channel(self) -> None:
        settings = {"tolerance": 0.1, "softness": 0.2}
        sources = {"p": flat(0.5, 0.5, 0.5), "c": flat(0.45, 0.3, 0.5)}
        got = one("difference_pull", {"picture": "p", "clean": "c"}, sources, **settings).planes["Y"][0, 0]
        self.assertAlmostEqual(float(got), 0.5, 5)


class Together(CoreTest):
    A, B = 0.7, 0.4
    RESULTS = {
        "union": 0.7,
        "intersect": 0.4,
        "subtract": 0.7 * 0.6,
        "exclude": 0.7 + 0.4 - 2 * 0.28,
        "add": 1.0,
        "multiply": 0.28,
    }

    def test_every_mode_by_hand(self) -> None:
        source = flat(self.A, self.B, 0.2)
        for mode, wanted in self.RESULTS.items():
            with self.subTest(mode):
                got = one("logic", {"mattes": ["p.R", "p.G"]}, {"p": source}, mode=mode).planes["Y"][0, 0]
                self.assertAlmostEqual(float(got), wanted, 6)
        three = one("logic", {"mattes": ["p.R", "p.G", "p.B"]}, {"p": source}, mode="subtract").planes["Y"][0, 0]
        self.assertAlmostEqual(float(three), 0.7 * 0.6 * 0.8, 6)

    def test_a_soft_matte_for_edges_and_a_hard_one_for_the_core(self) -> None:
        soft = gradient(40, 30)
        steps = [
            {"name": "hard", "op": "threshold", "in": {"from": "m"}, "set": {"level": 0.6}},
            {"name": "both", "op": "logic", "in": {"mattes": ["m", "hard"]}},
        ]
        source = MemorySource({"M": soft})
        got = run(steps, {"m": source}).planes["Y"]
        self.assert_planes(got, np.where(soft >= np.float32(0.6), 1, soft))

    def test_lists_are_checked(self) -> None:
        source = {"p": flat(1, 1, 1)}
        self.assert_refused(lambda: one("logic", {"mattes": "p.R"}, source), "port 'mattes'", "list")
        self.assert_refused(lambda: one("logic", {"mattes": []}, source), "not fed")
        self.assert_refused(lambda: one("logic", {"mattes": ["p.R", "q.R"]}, source), "q")
        self.assert_refused(lambda: one("logic", {"mattes": ["p"]}, source), "plane")
        self.assert_refused(lambda: one("invert", {"from": ["p.R"]}, source), "one address")


class Use(CoreTest):
    def test_grade_through_a_matte_and_through_its_inverse(self) -> None:
        picture, matte = MemorySource(rgb()), MemorySource({"M": gradient(seed=9)})
        m = matte.planes["M"]
        for inverted in (False, True):
            settings = {"exposure": 1, "offset": [0.1, 0, 0], "power": 2, "invert_matte": inverted}
            got = one("grade", {"picture": "p", "matte": "m"}, {"p": picture, "m": matte}, **settings)
            part = 1 - m if inverted else m
            for name, offset in (("R", 0.1), ("G", 0.0)):
                c = picture.planes[name]
                self.assert_planes(got.planes[name], c + ((2 * c + offset) ** 2 - c) * part, 1e-5)

    def test_one_matte_serves_as_the_inverse_of_another_use(self) -> None:
        picture, matte = MemorySource(rgb()), MemorySource({"M": gradient(seed=9)})
        sources, m = {"p": picture, "m": matte}, matte.planes["M"]
        alpha = one("attach_alpha", {"picture": "p", "alpha": "m"}, sources, invert=True).planes
        self.assert_planes(alpha["A"], 1 - m)
        over = {"under": "p", "over": "p", "matte": "m"}
        shown = one("stack", over, sources, invert_matte=True, opacity=0.5, mode="plus").planes["G"]
        self.assert_planes(shown, picture.planes["G"] * (1 + 0.5 * (1 - m)))
        blurred = one("blur", {"from": "p"}, sources, radius=3).planes["G"]
        for inverted in (False, True):
            part = 1 - m if inverted else m
            through = one("blur", {"from": "p", "matte": "m"}, sources, radius=3, invert_matte=inverted).planes["G"]
            self.assert_planes(through, picture.planes["G"] + (blurred - picture.planes["G"]) * part, 1e-6)

    def test_saturation_keeps_luminance(self) -> None:
        got = one("grade", {"picture": "p"}, {"p": flat(0.6, 0.3, 0.1)}, saturation=0).planes
        luma = 0.2126 * 0.6 + 0.7152 * 0.3 + 0.0722 * 0.1
        for name in "RGB":
            self.assertAlmostEqual(float(got[name][0, 0]), luma, 6)

    def test_premultiplied_colour_is_graded_straight(self) -> None:
        source = rgba(alpha=Alpha.PREMULTIPLIED)
        got = one("grade", {"picture": "p"}, {"p": source}, offset=0.25)
        a, c = source.planes["A"], source.planes["G"]
        straight = np.divide(c, a, out=np.zeros_like(c), where=a > 0)
        self.assert_planes(got.planes["G"], np.where(a > 0, (straight + 0.25) * a, c), 1e-5)
        self.assert_planes(got.planes["A"], a)

    def test_despill(self) -> None:
        settings = {"amount": 0.5, "keep_luminance": 1}
        got = one("despill", {"picture": "p"}, {"p": flat(0.2, 0.6, 0.1)}, limit="max", **settings).planes
        spill = 0.5 * (0.6 - 0.2)
        self.assertAlmostEqual(float(got["G"][0, 0]), 0.6 - spill + 0.7152 * spill, 6)
        self.assertAlmostEqual(float(got["R"][0, 0]), 0.2 + 0.7152 * spill, 6)
        average = one("despill", {"picture": "p"}, {"p": flat(0.2, 0.6, 0.1)}).planes["G"][0, 0]
        self.assertAlmostEqual(float(average), 0.15, 6)
        clean = one("despill", {"picture": "p"}, {"p": flat(0.6, 0.2, 0.1)}).planes["G"][0, 0]
        self.assertAlmostEqual(float(clean), 0.2, 6)

    def test_ink_and_back(self) -> None:
        r, g, b = 0.6, 0.3, 0.05
        got = one("ink_split", {"picture": "p"}, {"p": flat(r, g, b)}).planes
        er, eg, eb = srgb(r), srgb(g), srgb(b)
        k = 1 - max(er, eg, eb)
        for name, value in (("C", er), ("M", eg), ("Y", eb)):
            self.assertAlmostEqual(float(got[name][0, 0]), (1 - value - k) / (1 - k), 5)
        self.assertAlmostEqual(float(got["K"][0, 0]), k, 5)
        source = MemorySource(rgb())
        steps = [
            {"name": "ink", "op": "ink_split", "in": {"picture": "p"}},
            {"name": "back", "op": "ink_join", "in": {"picture": "ink"}},
        ]
        back = run(steps, {"p": source})
        for name in "RGB":
            self.assert_planes(back.planes[name], np.clip(source.planes[name], 0, 1), 2e-5)
        black = one("ink_split", {"picture": "p"}, {"p": flat(0, 0, 0)}).planes
        self.assertEqual([float(black[name][0, 0]) for name in "CMYK"], [0, 0, 0, 1])
        self.assert_refused(lambda: one("ink_join", {"picture": "p"}, {"p": source}), "no channel C")

    def test_the_usual_build_by_hand_step_by_step(self) -> None:
        """Larger of two, subtract, stretch, invert, into alpha."""
        plate = MemorySource(rgb(), name="plate")
        steps = [
            {
                "name": "others",
                "op": "cross",
                "in": {"a": "p.R", "b": "p.B"},
                "set": {"mode": "lighten", "domain": "scene"},
            },
            {
                "name": "pull",
                "op": "cross",
                "in": {"a": "p.G", "b": "others"},
                "set": {"mode": "subtract", "domain": "scene"},
            },
            {"name": "ends", "op": "stretch", "in": {"from": "pull"}, "set": {"black": 0.02, "white": 0.1}},
            {"name": "matte", "op": "invert", "in": {"from": "ends"}},
            {"name": "cut", "op": "attach_alpha", "in": {"picture": "p", "alpha": "matte"}},
        ]
        got = run(steps, {"p": plate})
        r, g, b = (plate.planes[name].astype(np.float64) for name in "RGB")
        wanted = 1 - np.clip((g - np.maximum(r, b) - 0.02) / 0.08, 0, 1)
        self.assert_planes(got.planes["A"], wanted, 2e-6)
        self.assert_planes(got.planes["R"], plate.planes["R"], 0)


if __name__ == "__main__":
    unittest.main()
