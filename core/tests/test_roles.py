"""What channels are: found by their names and numbers, told by hand, carried in their own types."""

from __future__ import annotations

import unittest
from fractions import Fraction
from typing import Any

import numpy as np
from core_support import CoreTest, gradient, rgb, rgba, write_exr

from nexal.analysis.run import run_recipe
from nexal.engine import Plan
from nexal.formats.roles import role_of
from nexal.picture import Window
from nexal.recipe import SourceSpec, parse_recipe
from nexal.session import Session


class Roles(unittest.TestCase):
    def test_names_and_contents(self) -> None:
        cases = {
            ("", ("R", "G", "B")): "colour",
            ("lantern", ("lantern.R", "lantern.G", "lantern.B")): "light",
            ("depth", ("depth.Z",)): "depth",
            ("", ("Z",)): "depth",
            ("position", ("position.X",)): "position",
            ("N", ("N.X", "N.Y", "N.Z")): "normal",
            ("id", ("id.object",)): "id",
            ("fog_mask", ("fog_mask.Y",)): "mask",
            ("whatever", ("whatever.Q",)): "unknown",
            ("", ("A",)): "alpha",
            ("", ("C", "M", "Y", "K")): "ink",
            ("view.left", ("view.left.R", "view.left.G", "view.left.B")): "colour",
        }
        for (layer, channels), role in cases.items():
            with self.subTest(layer=layer, channels=channels):
                self.assertEqual(role_of(layer, channels, ["half"]).role, role)
        self.assertEqual(role_of("numbers", ["numbers.x"], ["uint"]).role, "id")


class MadeRoles(CoreTest):
    def test_separations_are_inks(self) -> None:
        step = {"name": "s", "op": "ink_split", "in": {"picture": "p"}}
        source = rgba(16, 12)
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": [step]})
        description = Plan(recipe, 1, {"p": source}).feed("s").description
        self.assertEqual([description.trait(name).role for name in description.channels], ["ink"] * 4 + ["alpha"])


class FurtherChannels(CoreTest):
    def test_a_named_matte_stays_in_a_delivered_tiff_and_exr(self) -> None:
        folder = self.folder()
        colour, matte = rgb(32, 24), gradient(32, 24, 7)
        write_exr(
            folder / "plate.exr", {name: plane.astype(np.float32) for name, plane in colour.items()} | {"M": matte}
        )
        recipe = {
            "nexal": 1,
            "sources": {"p": {"files": "plate.exr"}},
            "steps": [
                {"name": "kept", "op": "route", "in": {"base": "p"}, "set": {"to": {"wing": {"from": "p.M"}}}},
                {"name": "cut", "op": "attach_alpha", "in": {"picture": "kept", "alpha": "p.M"}},
                {"name": "ink", "op": "ink_split", "in": {"picture": "p"}},
            ],
        }
        for suffix, depth, item in (("tif", "float", "kept"), ("tif", "16", "cut"), ("exr", "float", "kept")):
            with self.subTest(f"{item} {suffix} {depth}"):
                output = {"from": item, "file": f"out.{suffix}", "depth": depth, "colour": "data", "alpha": "straight"}
                parsed = parse_recipe(recipe | {"outputs": {"o": output}})
                (path,) = run_recipe(parsed, folder, {}, folder / suffix)
                with Session() as session:
                    source = session.open(path, SourceSpec(colour="data"))
                    names = source.description.channels
                    self.assertIn("wing", names)
                    window = source.description.window
                    planes = source.read(["wing", "R"], Fraction(1), window)
                    self.assert_planes(planes["wing"], matte, 1e-5)
                    self.assert_planes(planes["R"], colour["R"], 1e-5)
                    self.assertIn("wing", source.description.data)
        ink = parse_recipe(recipe | {"outputs": {"o": {"from": "ink", "file": "ink.png"}}})
        self.assert_refused(lambda: run_recipe(ink, folder, {}, folder), "output 'o'", "a PNG holds no inks", "TIFF")


class GivenRoles(CoreTest):
    def test_a_layer_is_what_the_user_says(self) -> None:
        folder = self.folder()
        planes = {f"depth_glow.{n}": p for n, p in rgb(8, 6).items()} | {f"spare.{n}": p for n, p in rgb(8, 6).items()}
        write_exr(folder / "p.exr", {name: plane.astype(np.float16) for name, plane in planes.items()})
        given = SourceSpec(roles={"depth_glow": "light", "spare": "position"})
        with Session() as session:
            guessed, told = (session.open(folder / "p.exr", spec) for spec in (SourceSpec(), given))
            self.assertEqual(set(guessed.description.colour), {f"spare.{n}" for n in "RGB"})
            self.assertEqual(set(told.description.colour), {f"depth_glow.{n}" for n in "RGB"})
            self.assertNotEqual(told.digest, guessed.digest)
        self.assert_refused(
            lambda: parse_recipe({"nexal": 1, "sources": {"p": {"files": "x", "roles": {"a": "sun"}}}}),
            "source 'p'",
            "roles",
        )


class OwnTypes(CoreTest):
    def test_layers_that_nothing_changed_are_delivered_bit_exactly(self) -> None:
        folder, random = self.folder(), np.random.default_rng(4)
        shape = (24, 32)
        planes: dict[str, Any] = {name: random.random(shape).astype(np.float16) for name in ("R", "G", "B")}
        planes["key.R"] = random.random(shape).astype(np.float16)
        planes["depth.Z"] = (random.random(shape) * 1e4).astype(np.float32)
        planes["depth.Z"][0, :3] = (np.nan, np.inf, -0.0)
        planes["id.object"] = random.integers(0, 2**32, shape, dtype=np.uint32)
        write_exr(folder / "render.exr", planes)
        matte = {"name": "matte", "op": "stretch", "in": {"from": "p.G"}}
        route = {"name": "kept", "op": "route", "in": {"base": "p"}, "set": {"to": {"mask": {"from": "matte"}}}}
        grade = {"name": "graded", "op": "grade", "in": {"picture": "kept"}, "set": {"exposure": 1}}
        dab = {"points": [[16, 12]], "radius": 3, "channels": ["mask"]}
        paint = {"name": "painted", "op": "touch_up", "in": {"matte": "graded"}, "set": {"strokes": [dab]}}
        recipe = {"nexal": 1, "sources": {"p": {"files": "render.exr"}}, "steps": [matte, route, grade, paint]}

        def delivered(**output: Any) -> dict[str, Any]:
            import OpenEXR

            parsed = parse_recipe(recipe | {"outputs": {"o": {"from": "painted", "file": "o.exr"} | output}})
            (path,) = run_recipe(parsed, folder, {}, folder / "out")
            with OpenEXR.File(str(path), separate_channels=True) as file:
                return {name: channel.pixels for name, channel in file.channels().items()}

        got = delivered()
        for name in ("key.R", "depth.Z", "id.object"):
            self.assertEqual(got[name].dtype, planes[name].dtype)
            self.assertEqual(got[name].tobytes(), planes[name].tobytes(), name)
        self.assertEqual((got["R"].dtype, got["mask"].dtype), (np.float16, np.float16))
        np.testing.assert_allclose(got["R"].astype(float), 2 * planes["R"].astype(float), rtol=1e-3)
        floats = delivered(depth="float")
        np.testing.assert_array_equal(floats.pop("id.object"), planes["id.object"])
        self.assertEqual({plane.dtype for plane in floats.values()}, {np.dtype(np.float32)})

    def test_a_source_read_otherwise_is_not_handed_on(self) -> None:
        folder = self.folder()
        planes = {name: np.full((4, 6), 0.25, np.float32) for name in "RGB"} | {
            "Z": np.full((4, 6), np.nan, np.float32)
        }
        write_exr(folder / "p.exr", planes)
        window = Window(0, 0, 6, 4)
        with Session() as session:
            plain = session.open(folder / "p.exr", SourceSpec())
            self.assertIsNotNone(plain.raw("R", window))
            self.assertIsNone(session.open(folder / "p.exr", SourceSpec(colour="srgb")).raw("R", window))
            self.assertIsNotNone(session.open(folder / "p.exr", SourceSpec(colour="srgb")).raw("Z", window))
            self.assertIsNone(session.open(folder / "p.exr", SourceSpec(non_finite="zero")).raw("Z", window))
            beyond = plain.raw("R", Window(-2, -1, 10, 6))
            assert beyond is not None
            self.assertEqual((float(beyond[0, 0]), float(beyond[1, 2]), float(beyond.sum())), (0, 0.25, 6.0))


if __name__ == "__main__":
    unittest.main()
