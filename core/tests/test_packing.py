"""Bays, packs and other sizes against independent arithmetic; channel files out and back again."""

from __future__ import annotations

import math
import unittest
from fractions import Fraction
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, gradient, one, rgba, run, write_exr, write_raster

from nexal.analysis.run import run_recipe
from nexal.formats.targets import target_of
from nexal.formats.writing import write
from nexal.kernels.quantising import codes
from nexal.picture import Alpha, Window
from nexal.recipe import Output, parse_recipe, worded_file
from nexal.session import Session


def plane(side: int = 32, seed: int = 1, name: str = "Y") -> MemorySource:
    return MemorySource({name: gradient(side, side, seed)}, data=[name])


def disc(side: int = 32) -> MemorySource:
    """Coverage that is 0, 1 and soft between."""
    y, x = np.mgrid[0:side, 0:side] + 0.5
    soft = np.clip((side * 0.35 - np.hypot(x - side / 2, y - side / 2)) / 3 + 0.5, 0, 1)
    return MemorySource({"Y": soft.astype(np.float32)}, data=["Y"])


def bay(name: str, base: float, *layers: dict[str, Any], **settings: Any) -> dict[str, Any]:
    return {"name": name, "op": "bay", "set": {"base": base, "layers": list(layers), **settings}}


class Bays(CoreTest):
    def test_bars_are_laid_in_over_the_base_bottom_first(self) -> None:
        detail, mask = plane(), disc()
        steps = [bay("rough", 0.42, {"from": "detail", "opacity": 0.5}, {"value": 0.22, "mask": "mask"})]
        got = run(steps, {"detail": detail, "mask": mask}).planes["Y"]
        d, m = np.float64(detail.planes["Y"]), np.float64(mask.planes["Y"])
        below = 0.42 * 0.5 + np.clip(d, 0, 1) * 0.5
        self.assert_planes(got, below * (1 - m) + 0.22 * m, 1e-6)

    def test_inverted_masks_modes_and_what_is_off(self) -> None:
        detail, mask = plane(seed=3), disc()
        sources = {"detail": detail, "mask": mask}
        d, m = np.float64(detail.planes["Y"]), np.float64(mask.planes["Y"])
        cases = {
            "outside": ([{"value": 1.0, "mask": "mask", "invert_mask": True}], 0.3 * m + (1 - m)),
            "multiplied": ([{"from": "detail", "mode": "multiply"}], 0.3 * d),
            "darkened by a mask": (
                [{"from": "detail", "mode": "darken", "mask": "mask"}],
                0.3 * (1 - m) + np.minimum(0.3, d) * m,
            ),
            "off": ([{"from": "detail", "on": False}], np.full_like(d, 0.3)),
        }
        for name, (layers, wanted) in cases.items():
            with self.subTest(name):
                got = run([bay("made", 0.3, *layers)], sources).planes["Y"]
                self.assert_planes(np.broadcast_to(got, wanted.shape), wanted, 1e-6)

    def test_both_ends_of_a_mask_are_exact(self) -> None:
        mask = disc()
        got = run([bay("made", 0.42, {"value": 0.22, "mask": "mask"})], {"mask": mask}).planes["Y"]
        m = mask.planes["Y"]
        self.assertEqual({*np.unique(got[m == 0])}, {np.float32(0.42)})
        self.assertEqual({*np.unique(got[m == 1])}, {np.float32(0.22)})

    def test_a_finish_in_a_region_leaves_every_value_outside_of_it_untouched(self) -> None:
        detail, mask = plane(seed=5), disc()
        sources = {"detail": detail, "mask": mask}
        before = run([bay("b", 0.4, {"from": "detail"})], sources).planes["Y"]
        after = run([bay("b", 0.4, {"from": "detail"}, {"value": 0.9, "mask": "mask"})], sources).planes["Y"]
        outside = mask.planes["Y"] == 0
        np.testing.assert_array_equal(after[outside], before[outside])
        self.assertGreater(int((after[~outside] != before[~outside]).sum()), 100)

    def test_size_is_that_of_like_else_of_the_largest_else_as_given(self) -> None:
        sources = {"small": plane(16), "large": plane(40)}
        got = run([bay("b", 0.5, {"value": 1, "mask": "small"}, {"from": "large"})], sources)
        self.assertEqual(got.planes["Y"].shape, (40, 40))
        like = {**bay("b", 0.5, {"from": "large"}), "in": {"like": "small"}}
        self.assertEqual(run([like], sources).planes["Y"].shape, (16, 16))
        self.assertEqual(run([bay("b", 0.5, width=24, height=12)], sources).planes["Y"].shape, (12, 24))

    def test_bars_of_another_size_lie_at_the_corner_unless_they_are_scaled(self) -> None:
        sources = {"small": MemorySource({"Y": np.ones((16, 16), np.float32)}, data=["Y"]), "large": plane(32)}
        steps = [{**bay("b", 0.0, {"value": 1.0, "mask": "small"}), "in": {"like": "large"}}]
        corner = run(steps, sources).planes["Y"]
        self.assertEqual(float(corner[:16, :16].min()), 1)
        self.assertEqual(float(corner[16:].max()), 0)
        steps[0]["set"]["fit"] = "scale"
        self.assert_planes(run(steps, sources).planes["Y"], 1)

    def test_what_a_bay_is_made_of_is_checked(self) -> None:
        sources = {"mask": disc()}
        for layer, words in (
            ({"mask": "mask"}, ("value", "from")),
            ({"value": 0.5, "from": "mask"}, ("value", "from")),
            ({"value": 1.5}, ("1",)),
            ({"value": 0.5, "mask": "gone"}, ("gone",)),
            ({"value": 0.5, "colour": 1}, ("colour",)),
        ):
            with self.subTest(layer):
                self.assert_refused(lambda layer=layer: run([bay("b", 0, layer)], sources), "step 'b'", *words)

    def test_parts_and_proxies_agree_with_the_whole(self) -> None:
        sources = {"detail": plane(64, 2), "mask": disc(32)}
        steps = [bay("b", 0.3, {"from": "detail"}, {"value": 0.9, "mask": "mask"}, fit="scale")]
        whole = run(steps, sources).planes["Y"]
        part = run(steps, sources, region=Window(9, 21, 30, 17)).planes["Y"]
        np.testing.assert_array_equal(part, whole[21:38, 9:39])
        half = run(steps, sources, scale=Fraction(1, 2)).planes["Y"]
        self.assert_planes(half, whole.reshape(32, 2, 32, 2).mean((1, 3)), 0.06)


class Sizes(CoreTest):
    def test_shrinking_is_the_mean_of_exact_areas(self) -> None:
        source = plane(12, 4)
        v = np.float64(source.planes["Y"])
        half = one("resize", {"from": "p"}, {"p": source}, width=6, height=4).planes["Y"]
        self.assert_planes(half, v.reshape(4, 3, 6, 2).mean((1, 3)), 1e-6)
        # 12 to 5: each new pixel is 2.4 old ones wide.
        across = np.zeros((5, 12))
        for new in range(5):
            for old in range(12):
                across[new, old] = max(0.0, min(old + 1, (new + 1) * 2.4) - max(old, new * 2.4)) / 2.4
        odd = one("resize", {"from": "p"}, {"p": source}, width=5, height=12).planes["Y"]
        self.assert_planes(odd, v @ across.T, 1e-6)

    def test_growing_is_lanczos_with_three_lobes(self) -> None:
        source = plane(10, 6)
        v = np.float64(source.planes["Y"])
        got = one("resize", {"from": "p"}, {"p": source}, width=25, height=10, overshoot=True).planes["Y"]

        def weight(x: float) -> float:
            if x == 0:
                return 1.0
            return 0.0 if abs(x) >= 3 else 3 * math.sin(math.pi * x) * math.sin(math.pi * x / 3) / (math.pi * x) ** 2

        for new in (0, 7, 12, 24):
            centre = (new + 0.5) * 10 / 25 - 0.5
            taps = range(math.floor(centre) - 2, math.floor(centre) + 4)
            weights = [weight(tap - centre) for tap in taps]
            wanted = sum(w * v[:, min(9, max(0, tap))] for w, tap in zip(weights, taps, strict=True)) / sum(weights)
            self.assert_planes(got[:, new], wanted, 1e-6)

    def test_the_same_size_is_the_same_samples(self) -> None:
        source = plane(16, 8)
        for kind in ("auto", "area", "lanczos", "nearest"):
            got = one("resize", {"from": "p"}, {"p": source}, width=16, height=16, filter=kind).planes["Y"]
            self.assert_planes(got, source.planes["Y"], 1e-7, kind)

    def test_ids_are_never_mixed(self) -> None:
        ids = np.arange(64, dtype=np.float32).reshape(8, 8) * 1000
        path = write_exr(self.folder() / "ids.exr", {"id.object": ids.astype(np.uint32)})
        recipe = parse_recipe(
            {
                "nexal": 1,
                "sources": {"render": {"files": str(path)}},
                "steps": [
                    {"name": "larger", "op": "resize", "in": {"from": "render"}, "set": {"width": 20, "height": 5}},
                    {"name": "flat", "op": "bay", "set": {"width": 20, "height": 20}},
                    {"name": "packed", "op": "pack", "in": {"r": "render.id.object", "g": "flat", "b": "flat"}},
                ],
                "outputs": {
                    "larger": {"from": "larger", "file": "larger.exr", "depth": "float"},
                    "packed": {"from": "packed", "file": "packed.exr", "depth": "float"},
                },
            }
        )
        out = self.folder()
        run_recipe(recipe, out, {}, out)
        import OpenEXR

        with OpenEXR.File(str(out / "larger.exr"), separate_channels=True) as file:
            larger = file.channels()["id.object"].pixels
        self.assertTrue({*np.unique(larger)} <= {*ids.ravel()})
        self.assertEqual(larger.shape, (5, 20))
        with OpenEXR.File(str(out / "packed.exr"), separate_channels=True) as file:
            packed = file.channels()["R"].pixels
        self.assertTrue({*np.unique(packed)} <= {*ids.ravel()})

    def test_colour_does_not_come_in_from_where_nothing_covers(self) -> None:
        planes = {name: np.zeros((8, 8), np.float32) for name in "RGBA"}
        planes["R"][:, :4] = 1
        planes["G"][:, 4:] = 1
        planes["A"][:, :4] = 1
        source = MemorySource(planes, alpha=Alpha.STRAIGHT, data=["A"])
        for width in (2, 20):
            got = one("resize", {"from": "p"}, {"p": source}, width=width, height=8)
            seen = got.planes["A"] > 0.05
            self.assertGreater(float(got.planes["R"][seen].min()), 0.999)
            self.assertLess(float(np.abs(got.planes["G"][seen]).max()), 1e-3)

    def test_windows_move_along(self) -> None:
        source = rgba(20, 10, window=Window(4, 2, 20, 10), display=Window(0, 0, 32, 16))
        got = one("resize", {"from": "p"}, {"p": source}, width=64, height=32)
        self.assertEqual(got.description.display, Window(0, 0, 64, 32))
        self.assertEqual(got.description.window, Window(8, 4, 40, 20))


class Packs(CoreTest):
    def setUp(self) -> None:
        self.sources = {"a": plane(32, 1), "b": plane(16, 2), "c": plane(64, 3)}
        self.ports = {"r": "a", "g": "b", "b": "c"}

    def test_planes_come_into_the_size_of_the_largest(self) -> None:
        got = one("pack", self.ports, self.sources)
        self.assertEqual({plane.shape for plane in got.planes.values()}, {(64, 64)})
        np.testing.assert_array_equal(got.planes["B"], self.sources["c"].planes["Y"])
        self.assertTrue(got.description.all_data)
        self.assertIs(got.description.alpha, Alpha.NONE)

    def test_a_size_that_is_given_holds_for_all(self) -> None:
        got = one("pack", self.ports, self.sources, width=32, height=32)
        np.testing.assert_array_equal(got.planes["R"], self.sources["a"].planes["Y"])
        quarter = np.float64(self.sources["c"].planes["Y"]).reshape(32, 2, 32, 2).mean((1, 3))
        self.assert_planes(got.planes["B"], quarter, 1e-6)
        self.assertEqual(one("pack", self.ports, self.sources, width=16).planes["R"].shape, (16, 16))

    def test_two_channels_or_one_are_a_texture_too(self) -> None:
        planes = {name: gradient(16, 16, seed) for seed, name in enumerate("gb")}
        sources = {name: MemorySource({"Y": plane}, data=["Y"]) for name, plane in planes.items()}
        made = one("pack", {"g": "g", "b": "b"}, sources)
        self.assertEqual(made.description.channels, ("G", "B"))
        self.assert_planes(made.planes["B"], planes["b"], 0)
        self.assertEqual(one("pack", {"b": "b"}, sources).description.channels, ("B",))
        self.assert_refused(lambda: one("pack", {}, sources), "feed one channel")
        path = self.folder() / "two.png"
        target = target_of(Output.model_validate({"from": "t", "file": "two.png", "depth": 16}))
        write(made, target, path, {})
        with Session() as session:
            stored = session.open(path).stored
            self.assertEqual(list(stored.channels), ["R", "G", "B"])
            self.assertEqual(int(np.max(stored.samples("R"))), 0)
            np.testing.assert_allclose(stored.samples("G"), planes["g"] * 65535, atol=0.51)

    def test_alpha_is_data_and_multiplies_nothing(self) -> None:
        got = one("pack", self.ports | {"a": "a"}, self.sources)
        self.assertEqual(got.description.channels, ("R", "G", "B", "A"))
        self.assertIs(got.description.alpha, Alpha.STRAIGHT)
        self.assertTrue(got.description.all_data)

    def test_a_meaning_needs_a_plane(self) -> None:
        meanings = {"a": {"meaning": "coat"}}
        self.assert_refused(lambda: one("pack", self.ports, self.sources, meanings=meanings), "'a'", "meanings")

    def test_exact_codes_of_both_depths_and_layouts(self) -> None:
        """Written files hold floor(v * max + 0.5) of what independent arithmetic says, in 8 and in 16 bit."""
        folder = self.folder()
        rough = (np.arange(64 * 64, dtype=np.uint32).reshape(64, 64) * 13 % 65536).astype(np.uint16)
        cover = (np.arange(64 * 64, dtype=np.uint32).reshape(64, 64) * 7 % 256).astype(np.uint8)
        write_raster(folder / "template.png", rough[..., None], ["Y"])
        write_raster(folder / "mask.png", cover[..., None], ["Y"])
        steps = [
            bay("occlusion", 1.0, {"value": 0.5, "mask": "mask"}),
            bay("roughness", 0.42, {"from": "template"}, {"value": 0.22, "mask": "mask"}),
            bay("metallic", 0.0, {"value": 0.9, "mask": "mask", "invert_mask": True}),
            bay("coat", 0.6, {"value": 0.0, "mask": "mask", "opacity": 0.5}),
            {"name": "orm", "op": "pack", "in": {"r": "occlusion", "g": "roughness", "b": "metallic"}},
            {"name": "mrc", "op": "pack", "in": {"r": "metallic", "g": "roughness", "b": "coat"}},
        ]
        for name, step in (("orm", steps[-2]), ("mrc", steps[-1])):
            step["set"] = {"layout": name}
        outputs = {
            f"{name}_{depth}": {"from": name, "file": "{name}_{layout}.png", "depth": depth, "alpha": "straight"}
            for name in ("orm", "mrc")
            for depth in (8, 16)
        }
        data = {"colour": "data"}
        recipe = parse_recipe(
            {
                "nexal": 1,
                "sources": {"template": {"files": "template.png", **data}, "mask": {"files": "mask.png", **data}},
                "steps": steps,
                "outputs": outputs,
            }
        )
        written = run_recipe(recipe, folder, {}, folder / "out")
        self.assertEqual([path.name for path in written], [f"{name}_{name[:3]}.png" for name in outputs])
        t, m = rough / 65535.0, cover / 255.0
        meant = {
            "occlusion": 1 - m + 0.5 * m,
            "roughness": t * (1 - m) + 0.22 * m,
            "metallic": 0.9 * (1 - m),
            "coat": 0.6 * (1 - m * 0.5),
        }
        order = {"orm": ("occlusion", "roughness", "metallic"), "mrc": ("metallic", "roughness", "coat")}
        for path, (name, output) in zip(written, outputs.items(), strict=True):
            import OpenImageIO as oiio

            most = 255 if output["depth"] == 8 else 65535
            pixels = oiio.ImageInput.open(str(path)).read_image(0, 0, 0, 3, "uint8" if most == 255 else "uint16")
            for index, meaning in enumerate(order[name[:3]]):
                wanted = np.floor(meant[meaning] * most + 0.5)
                gap = np.abs(pixels[..., index].astype(np.int64) - wanted)
                # Where exact arithmetic lies on the middle between two codes, float32 may fall on either side.
                middle = np.abs(meant[meaning] * most - np.floor(meant[meaning] * most) - 0.5) < 0.01
                self.assertEqual(int(gap[~middle].max()), 0, (name, meaning))
                self.assertLessEqual(int(gap.max()), 1, (name, meaning))

    def test_a_written_texture_is_data_when_it_is_read_again(self) -> None:
        folder = self.folder()
        packed = {"name": "t", "op": "pack", "in": dict.fromkeys("rgb", "half")}
        recipe = parse_recipe(
            {
                "nexal": 1,
                "steps": [bay("half", 0.5, width=8, height=8), packed],
                "outputs": {"t": {"from": "t", "file": "t.png"}},
            }
        )
        run_recipe(recipe, folder, {}, folder)
        again = parse_recipe(
            {
                "nexal": 1,
                "sources": {"t": {"files": "t.png"}},
                "outputs": {"t": {"from": "t", "file": "t.exr", "depth": "float"}},
            }
        )
        run_recipe(again, folder, {}, folder)
        import OpenEXR

        with OpenEXR.File(str(folder / "t.exr"), separate_channels=True) as file:
            self.assertAlmostEqual(float(file.channels()["R"].pixels[0, 0]), 128 / 255, 6)


class Codes(CoreTest):
    def test_rounding_is_the_standards(self) -> None:
        values = np.array([[-0.2, 0, 0.5 / 255, 0.49 / 255, 1, 1.3, np.nan, 0.5]], np.float32)
        self.assertEqual(codes(values, 255).tolist(), [[0, 0, 1, 0, 255, 255, 0, 128]])
        self.assertEqual(codes(values, 65535).dtype, np.uint16)

    def test_dithers_keep_the_mean_and_never_leave_the_two_nearest_codes(self) -> None:
        slope = np.tile(np.linspace(0.2, 0.215, 256, dtype=np.float32), (64, 1))
        for kind in ("ordered", "diffusion"):
            with self.subTest(kind):
                got = codes(slope, 255, kind).astype(np.float64)
                gap = got - slope * 255
                self.assertLessEqual(float(np.abs(gap).max()), 1.0)
                blocks = gap.reshape(8, 8, 32, 8).mean((1, 3))
                self.assertLess(float(np.abs(blocks).max()), 0.12)
                # Rounding would leave whole blocks off by up to half a code.
                plain = (codes(slope, 255).astype(np.float64) - slope * 255).reshape(8, 8, 32, 8).mean((1, 3))
                self.assertGreater(float(np.abs(plain).max()), 0.4)

    def test_whole_codes_pass_every_dither_as_they_are(self) -> None:
        whole = (np.arange(256, dtype=np.float32) / 255).reshape(16, 16)
        whole = np.concatenate([whole, np.zeros((4, 16), np.float32), np.ones((4, 16), np.float32)])
        for kind in ("ordered", "diffusion"):
            np.testing.assert_array_equal(codes(whole, 255, kind), np.round(whole * 255))

    def test_dither_is_for_eight_bit(self) -> None:
        folder = self.folder()
        steps = [bay("b", 0.5, width=8, height=8)]
        output = {"from": "b", "file": "b.png", "depth": 16, "dither": "ordered"}
        recipe = parse_recipe({"nexal": 1, "steps": steps, "outputs": {"b": output}})
        self.assert_refused(lambda: run_recipe(recipe, folder, {}, folder), "output 'b'", "dither")

    def test_words_in_file_names(self) -> None:
        self.assertEqual(
            worded_file("{shot}_{layout}.png", {"shot": "200 tea tin", "layout": "orm"}), "200_tea_tin_orm.png"
        )
        self.assert_refused(lambda: worded_file("{layout}.png", {}), "{layout}", "pack")
        self.assert_refused(
            lambda: parse_recipe({"nexal": 1, "outputs": {"a": {"from": "a", "file": "{moon}.png"}}}),
            "{moon}",
            "{shot}",
        )


if __name__ == "__main__":
    unittest.main()
