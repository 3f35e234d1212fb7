"""Operations on channels, mattes and alpha against formulas written out here."""

from __future__ import annotations

import math
import unittest

import numpy as np
from core_support import CoreTest, MemorySource, gradient, one, rgb, rgba, run

from nexal.picture import Alpha, Window


def srgb(v: np.ndarray) -> np.ndarray:
    """IEC 61966-2-1 in double precision, odd-symmetric."""
    size = np.abs(v.astype(float))
    return np.copysign(np.where(size <= 0.0031308, 12.92 * size, 1.055 * size ** (1 / 2.4) - 0.055), v)


def linear(v: np.ndarray) -> np.ndarray:
    size = np.abs(v.astype(float))
    return np.copysign(np.where(size <= 0.04045, size / 12.92, ((size + 0.055) / 1.055) ** 2.4), v)


class Route(CoreTest):
    def test_any_channel_goes_anywhere_and_the_rest_stays(self) -> None:
        a, b = rgba(seed=1), MemorySource(rgb(seed=20))
        result = one(
            "route",
            {"base": "a"},
            {"a": a, "b": b},
            to={"R": {"from": "b.B"}, "mask": {"from": "a.G", "invert": True}, "flat": {"value": 0.25}},
        )
        self.assertEqual(result.description.channels, ("R", "G", "B", "A", "mask", "flat"))
        self.assert_planes(result.planes["R"], b.planes["B"], 0)
        self.assert_planes(result.planes["G"], a.planes["G"], 0)
        self.assert_planes(result.planes["mask"], 1 - a.planes["G"])
        self.assert_planes(result.planes["flat"], 0.25)
        self.assertIs(result.description.alpha, Alpha.STRAIGHT)

    def test_three_renders_each_feed_one_channel(self) -> None:
        sources = {name: MemorySource(rgb(seed=seed)) for name, seed in (("warm", 1), ("mid", 2), ("cold", 3))}
        result = one(
            "route",
            {},
            sources,
            to={"R": {"from": "warm.R"}, "G": {"from": "mid.G"}, "B": {"from": "cold.B"}},
        )
        self.assert_planes(result.planes["G"], sources["mid"].planes["G"], 0)
        self.assertEqual(result.description.colour, ("R", "G", "B"))

    def test_without_keep_only_what_is_named(self) -> None:
        result = one("route", {"base": "a"}, {"a": rgba()}, to={"Z": {"from": "a.R"}}, keep=False)
        self.assertEqual(result.description.channels, ("Z",))

    def test_alpha_routed_from_a_premultiplied_picture_keeps_its_state(self) -> None:
        a = rgba(alpha=Alpha.PREMULTIPLIED)
        result = one("route", {}, {"a": a}, to={name: {"from": f"a.{name}"} for name in "RGBA"})
        self.assertIs(result.description.alpha, Alpha.PREMULTIPLIED)

    def test_a_feed_needs_an_address_or_a_number(self) -> None:
        for feed in ({}, {"from": "a.R", "value": 1}):
            self.assert_refused(lambda f=feed: one("route", {"base": "a"}, {"a": rgba()}, to={"R": f}), "result")
        self.assert_refused(lambda: one("route", {}, {"a": rgba()}, to={"R": {"from": "a.Q"}}), "'Q'")


class Numbers(CoreTest):
    def test_arithmetic_on_named_channels_only(self) -> None:
        picture = rgba()
        cases = {
            "add": lambda v: v + 0.3,
            "subtract": lambda v: v - 0.3,
            "multiply": lambda v: v * 0.3,
            "divide": lambda v: v / 0.3,
            "power": lambda v: v**0.3,
            "minimum": lambda v: np.minimum(v, 0.3),
            "maximum": lambda v: np.maximum(v, 0.3),
        }
        for op, formula in cases.items():
            with self.subTest(op):
                result = one("arithmetic", {"from": "p"}, {"p": picture}, op=op, values={"G": 0.3})
                self.assert_planes(result.planes["G"], formula(picture.planes["G"].astype(float)))
                self.assert_planes(result.planes["R"], picture.planes["R"], 0)

    def test_arithmetic_clamps_when_told_and_refuses_division_by_zero(self) -> None:
        result = one("arithmetic", {"from": "p"}, {"p": rgba()}, op="multiply", values={"R": 5}, clamp=True)
        self.assertLessEqual(result.planes["R"].max(), 1)
        self.assert_refused(
            lambda: one("arithmetic", {"from": "p"}, {"p": rgba()}, op="divide", values={"R": 0}), "division by 0"
        )
        self.assert_refused(lambda: one("arithmetic", {"from": "p"}, {"p": rgba()}, values={"Q": 1}), "'Q'", "values")

    def test_a_single_number_is_meant_for_a_plane(self) -> None:
        result = one("arithmetic", {"from": "p.R"}, {"p": rgba()}, op="add", values={"R": 1})
        self.assert_planes(result.planes["Y"], rgba().planes["R"] + 1)

    def test_weigh_is_rec_709_luminance_by_default(self) -> None:
        picture = MemorySource(rgb())
        p = {name: plane.astype(float) for name, plane in picture.planes.items()}
        result = one("weigh", {"from": "p"}, {"p": picture})
        self.assert_planes(result.planes["Y"], 0.2126 * p["R"] + 0.7152 * p["G"] + 0.0722 * p["B"])
        result = one("weigh", {"from": "p"}, {"p": picture}, weights={"R": 3, "B": 1}, normalise=True, offset=0.1)
        self.assert_planes(result.planes["Y"], (3 * p["R"] + p["B"]) / 4 + 0.1)
        self.assert_refused(
            lambda: one("weigh", {"from": "p"}, {"p": picture}, weights={"R": 1, "G": -1}, normalise=True),
            "add up to 0",
        )

    def test_invert_leaves_alpha_unless_named(self) -> None:
        picture = rgba()
        result = one("invert", {"from": "p"}, {"p": picture})
        self.assert_planes(result.planes["B"], 1 - picture.planes["B"])
        self.assert_planes(result.planes["A"], picture.planes["A"], 0)
        result = one("invert", {"from": "p"}, {"p": picture}, channels=["A"])
        self.assert_planes(result.planes["A"], 1 - picture.planes["A"])
        self.assert_planes(result.planes["B"], picture.planes["B"], 0)

    def test_clamp(self) -> None:
        wide = MemorySource({"R": np.linspace(-2, 3, 24, dtype=np.float32).reshape(4, 6)})
        result = one("clamp", {"from": "p"}, {"p": wide}, low=-0.5, high=1.5)
        self.assert_planes(result.planes["R"], np.clip(wide.planes["R"], -0.5, 1.5), 0)
        self.assert_refused(lambda: one("clamp", {"from": "p"}, {"p": wide}, low=1, high=0), "low")


class Mattes(CoreTest):
    def stretch(self, v: np.ndarray, s: dict) -> np.ndarray:
        t = (v - s["black"]) / (s["white"] - s["black"])
        if s.get("clip", True):
            t = np.clip(t, 0, 1)
        t = np.sign(t) * np.abs(t) ** (math.log(0.5) / math.log(s.get("middle", 0.5)))
        ob, ow = s.get("out_black", 0), s.get("out_white", 1)
        return ob + t * (ow - ob)

    def test_stretch_of_data_and_of_scene_values(self) -> None:
        matte = MemorySource({"Y": gradient()}, data=["Y"])
        for settings in (
            {"black": 0.2, "white": 0.7},
            {"black": 0.2, "white": 0.7, "middle": 0.3},
            {"black": 0.7, "white": 0.2, "middle": 0.6, "clip": False},
            {"black": 0.1, "white": 0.9, "out_black": 0.2, "out_white": 0.8, "middle": 0.45},
        ):
            with self.subTest(settings):
                result = one("stretch", {"from": "m"}, {"m": matte}, **settings)
                self.assert_planes(result.planes["Y"], self.stretch(gradient().astype(float), settings))

    def test_middle_is_where_the_half_comes_from(self) -> None:
        flat = MemorySource({"Y": np.full((2, 2), 0.2 + 0.3 * 0.5)}, data=["Y"])
        result = one("stretch", {"from": "m"}, {"m": flat}, black=0.2, white=0.7, middle=0.3)
        self.assert_planes(result.planes["Y"], 0.5)

    def test_a_colour_plane_is_encoded_and_becomes_a_matte(self) -> None:
        picture = MemorySource(rgb())
        settings = {"black": 0.3, "white": 0.8}
        result = one("stretch", {"from": "p.G"}, {"p": picture}, **settings)
        self.assert_planes(result.planes["Y"], self.stretch(srgb(picture.planes["G"]), settings), 2e-4)
        self.assertTrue(result.description.all_data)

    def test_a_picture_stays_scene_linear_and_keeps_its_alpha(self) -> None:
        picture = rgba()
        settings = {"black": 0.1, "white": 0.9}
        result = one("stretch", {"from": "p"}, {"p": picture}, **settings)
        self.assert_planes(result.planes["R"], linear(self.stretch(srgb(picture.planes["R"]), settings)), 2e-4)
        self.assert_planes(result.planes["A"], picture.planes["A"], 0)

    def test_black_equal_to_white_is_refused(self) -> None:
        self.assert_refused(
            lambda: one("stretch", {"from": "p.R"}, {"p": rgba()}, black=0.4, white=0.4),
            "step 'result'",
            "white",
            "move them apart",
        )

    def test_threshold_hard_and_soft(self) -> None:
        values = gradient()
        matte = MemorySource({"Y": values}, data=["Y"])
        hard = one("threshold", {"from": "m"}, {"m": matte}, level=0.4)
        self.assert_planes(hard.planes["Y"], (values >= np.float32(0.4)).astype(float), 0)
        soft = one("threshold", {"from": "m"}, {"m": matte}, level=0.4, softness=0.2)
        t = np.clip((values.astype(float) - 0.3) / 0.2, 0, 1)
        self.assert_planes(soft.planes["Y"], t * t * (3 - 2 * t))

    def test_a_matte_is_not_encoded_a_second_time(self) -> None:
        picture = MemorySource(rgb())
        crossed = {"name": "c", "op": "cross", "in": {"a": "p.R", "b": "p.G"}, "set": {"mode": "lighten"}}
        result = run(
            [crossed, {"name": "t", "op": "threshold", "in": {"from": "c"}, "set": {"level": 0.6}}], {"p": picture}
        )
        larger = np.maximum(srgb(picture.planes["R"]), srgb(picture.planes["G"]))
        clear = np.abs(larger - 0.6) > 1e-4
        np.testing.assert_array_equal(result.planes["Y"][clear], (larger >= 0.6)[clear])


class Alphas(CoreTest):
    def test_attach_alpha_in_three_ways(self) -> None:
        picture = MemorySource(rgb())
        matte = MemorySource({"Y": gradient(seed=40)}, data=["Y"])
        sources = {"p": picture, "m": matte}
        for state, factor, said in (
            ("straight", 1, Alpha.STRAIGHT),
            ("premultiply", matte.planes["Y"], Alpha.PREMULTIPLIED),
            ("premultiplied", 1, Alpha.PREMULTIPLIED),
        ):
            result = one("attach_alpha", {"picture": "p", "alpha": "m"}, sources, state=state)
            self.assert_planes(result.planes["R"], picture.planes["R"] * factor)
            self.assert_planes(result.planes["A"], matte.planes["Y"], 0)
            self.assertIs(result.description.alpha, said)

    def test_premultiply_and_back(self) -> None:
        picture = rgba()
        a = picture.planes["A"]
        result = one("premultiply", {"picture": "p"}, {"p": picture})
        self.assert_planes(result.planes["R"], picture.planes["R"] * a)
        steps = [
            {"name": "p1", "op": "premultiply", "in": {"picture": "p"}},
            {"name": "p2", "op": "unpremultiply", "in": {"picture": "p1"}},
        ]
        back = run(steps, {"p": picture})
        self.assert_planes(back.planes["R"], np.where(a > 0, picture.planes["R"], 0))

    def test_unpremultiply_keeps_colour_where_alpha_is_zero(self) -> None:
        picture = MemorySource({"R": np.full((1, 3), 0.4), "A": np.array([[0, 0.5, 1]])}, alpha=Alpha.PREMULTIPLIED)
        result = one("unpremultiply", {"picture": "p"}, {"p": picture})
        self.assert_planes(result.planes["R"], [[0.4, 0.8, 0.4]])

    def test_each_layer_goes_by_its_own_alpha(self) -> None:
        planes = {
            "R": np.ones((2, 2)),
            "A": np.full((2, 2), 0.5),
            "fog.R": np.ones((2, 2)),
            "fog.A": np.full((2, 2), 0.25),
        }
        picture = MemorySource(planes, alpha=Alpha.STRAIGHT, data=["A", "fog.A"])
        result = one("premultiply", {"picture": "p"}, {"p": picture})
        self.assert_planes(result.planes["R"], 0.5)
        self.assert_planes(result.planes["fog.R"], 0.25)

    def test_a_picture_without_alpha_cannot_be_premultiplied(self) -> None:
        self.assert_refused(
            lambda: one("premultiply", {"picture": "p"}, {"p": MemorySource(rgb())}), "no alpha", "attach_alpha"
        )

    def test_a_plane_port_takes_the_alpha_of_a_picture_but_never_its_luminance(self) -> None:
        picture = rgba()
        result = one("invert", {"from": "m"}, {"m": picture})
        self.assertEqual(len(result.planes), 4)
        sources = {"p": MemorySource(rgb()), "m": picture}
        cut = one("attach_alpha", {"picture": "p", "alpha": "m"}, sources)
        self.assert_planes(cut.planes["A"], picture.planes["A"], 0)
        self.assert_refused(
            lambda: one("attach_alpha", {"picture": "p", "alpha": "p"}, {"p": MemorySource(rgb())}),
            "a plane is wanted",
            "p.R",
            "weigh",
        )


class Made(CoreTest):
    def test_constant_in_three_kinds(self) -> None:
        grey = one("constant", {}, {}, colour=[0.25], width=8, height=4)
        self.assertEqual(grey.planes["Y"].shape, (4, 8))
        self.assert_planes(grey.planes["Y"], 0.25)
        like = one("constant", {"like": "p"}, {"p": rgba(20, 10)}, colour=[1, 0.5, 2, 0.5])
        self.assertEqual(like.planes["B"].shape, (10, 20))
        self.assert_planes(like.planes["B"], 2)
        self.assertIs(like.description.alpha, Alpha.STRAIGHT)
        self.assert_refused(lambda: one("constant", {}, {}, colour=[1, 2]), "one, three or four")

    def test_ramps(self) -> None:
        y, x = np.mgrid[0:8, 0:16] + 0.5
        straight = np.clip(((x - 2) * 10 + (y - 1) * 5) / 125, 0, 1)
        common = {"start": [2, 1], "end": [12, 6], "width": 16, "height": 8}
        self.assert_planes(one("ramp", {}, {}, **common).planes["Y"], straight)
        smooth = one("ramp", {}, {}, profile="smooth", **common).planes["Y"]
        self.assert_planes(smooth, straight**2 * (3 - 2 * straight))
        radial = one("ramp", {}, {}, profile="radial", **common).planes["Y"]
        self.assert_planes(radial, np.clip(np.hypot(x - 2, y - 1) / math.sqrt(125), 0, 1))


class Neighbourhood(CoreTest):
    def test_gaussian_blur_with_edges_extended(self) -> None:
        plane = gradient(40, 30).astype(float)
        result = one("blur", {"from": "p"}, {"p": MemorySource({"Y": plane}, data=["Y"])}, radius=2.5)
        reach = 10
        weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / 2.5) ** 2)
        weights /= weights.sum()
        padded = np.pad(plane, reach, mode="edge")
        rows = np.apply_along_axis(lambda line: np.convolve(line, weights, "valid"), 1, padded)
        wanted = np.apply_along_axis(lambda line: np.convolve(line, weights, "valid"), 0, rows)
        self.assert_planes(result.planes["Y"], wanted)

    def test_box_blur_covers_fractions_of_pixels(self) -> None:
        line = np.zeros((1, 9), np.float32)
        line[0, 4] = 1
        result = one(
            "blur",
            {"from": "p"},
            {"p": MemorySource({"Y": np.repeat(line, 9, 0)}, data=["Y"])},
            radius=1.5,
            filter="box",
        )
        self.assert_planes(result.planes["Y"][4], np.array([0, 0, 0.125, 0.25, 0.25, 0.25, 0.125, 0, 0]))

    def test_blur_of_named_channels_leaves_others(self) -> None:
        picture = rgba()
        result = one("blur", {"from": "p"}, {"p": picture}, radius=3, channels=["A"])
        self.assert_planes(result.planes["R"], picture.planes["R"], 0)
        self.assertGreater(np.abs(result.planes["A"] - picture.planes["A"]).max(), 0.01)
        self.assert_planes(one("blur", {"from": "p"}, {"p": picture}, radius=0).planes["A"], picture.planes["A"], 0)

    def test_place_by_whole_pixels_is_exact_and_moves_the_data_window(self) -> None:
        picture = rgba(32, 16)
        for kind in ("nearest", "linear", "cubic"):
            result = one("place", {"picture": "p"}, {"p": picture}, x=5, y=-3, filter=kind)
            inside = Window(5, -3, 32, 16)
            self.assertTrue(result.description.window.contains(inside), kind)
            cut = result.planes["R"][inside.within(result.region)]
            self.assert_planes(cut, picture.planes["R"], 1e-6)
            self.assertEqual(result.description.display, Window(0, 0, 32, 16))

    def test_place_turns_clockwise_about_the_middle(self) -> None:
        plane = np.zeros((9, 9), np.float32)
        plane[0, 4] = 1  # twelve o'clock
        result = one(
            "place", {"picture": "p"}, {"p": MemorySource({"Y": plane}, data=["Y"])}, rotate=90, filter="nearest"
        )
        y, x = np.argwhere(result.planes["Y"] > 0.5)[0]
        self.assertEqual((x + result.region.x, y + result.region.y), (8, 4))  # three o'clock

    def test_place_linear_between_pixels(self) -> None:
        plane = gradient(12, 6)
        result = one("place", {"picture": "p"}, {"p": MemorySource({"Y": plane}, data=["Y"])}, x=0.25, filter="linear")
        inner = result.planes["Y"][Window(1, 0, 11, 6).within(result.region)]
        self.assert_planes(inner, plane[:, 1:] * 0.75 + plane[:, :-1] * 0.25)

    def test_place_shrinks_without_aliasing(self) -> None:
        stripes = np.tile(np.array([0, 1], np.float32), (32, 16))
        result = one("place", {"picture": "p"}, {"p": MemorySource({"Y": stripes}, data=["Y"])}, scale=0.25)
        middle = result.planes["Y"][Window(14, 14, 4, 4).within(result.region)]
        self.assert_planes(middle, 0.5, 0.06)


if __name__ == "__main__":
    unittest.main()
