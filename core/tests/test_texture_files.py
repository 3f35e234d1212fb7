"""Textures from the command line: bays run from a recipe, channels split and put together, formats and dithers."""

from __future__ import annotations

import contextlib
import io
import json
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from core_support import CoreTest, write_exr, write_raster

from nexal.cli import main

SIDE = 48


def command(*arguments: str) -> tuple[int, str, str]:
    """Exit code, answer and messages of a call."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main(list(arguments))
    return code, out.getvalue(), err.getvalue()


def read(path: Path, count: int, kind: str) -> np.ndarray:
    """Samples as another library than ours gives them: H x W x count."""
    import OpenImageIO as oiio

    config = oiio.ImageSpec()
    config.attribute("oiio:UnassociatedAlpha", 1)
    opened = oiio.ImageInput.open(str(path), config)
    assert opened is not None, oiio.geterror()
    try:
        return np.asarray(opened.read_image(0, 0, 0, count, kind)).reshape(SIDE, SIDE, count)
    finally:
        opened.close()


class Recipes(CoreTest):
    """A texture of four channels over a template of 16 bit, a decal of 8 bit and a mask of another size."""

    def setUp(self) -> None:
        self.place = self.folder()
        random = np.random.default_rng(6)
        self.template = random.integers(0, 65_536, (SIDE, SIDE, 3), np.uint16)
        self.decal = random.integers(0, 256, (SIDE, SIDE, 4), np.uint8)
        self.metal = random.integers(0, 65_536, (SIDE // 2, SIDE // 2, 1), np.uint16)
        write_raster(self.place / "template.png", self.template, ["R", "G", "B"])
        write_raster(self.place / "decal.png", self.decal, ["R", "G", "B", "A"])
        write_raster(self.place / "metal.png", self.metal, ["Y"])
        self.t, self.d = self.template / 65_535, self.decal[..., 3] / 255

    def recipe(self, **outputs: dict[str, Any]) -> Path:
        data = {"colour": "data"}
        like = {"like": "template"}
        steps = [
            {"name": "occlusion", "op": "bay", "in": like, "set": {"base": 1, "layers": [{"from": "template.R"}]}},
            {
                "name": "roughness",
                "op": "bay",
                "in": like,
                "set": {
                    "base": 0.4,
                    "layers": [
                        {"from": "template.G", "mode": "multiply"},
                        {"value": 0.9, "mask": "decal.A", "invert_mask": True, "opacity": 0.5},
                    ],
                },
            },
            {
                "name": "metallic",
                "op": "bay",
                "in": like,
                "set": {"fit": "scale", "layers": [{"value": 1, "mask": "metal"}]},
            },
            {"name": "cover", "op": "bay", "in": like, "set": {"layers": [{"from": "decal.A"}]}},
            {
                "name": "texture",
                "op": "pack",
                "in": {"r": "occlusion", "g": "roughness", "b": "metallic", "a": "cover"},
                "set": {"layout": "orm with cover"},
            },
        ]
        recipe = {
            "nexal": 1,
            "sources": {
                "template": {"files": "template.png", **data},
                "decal": {"files": "decal.png"},
                "metal": {"files": "metal.png", **data},
            },
            "steps": steps,
            "outputs": {name: {"from": "texture", **output} for name, output in outputs.items()},
        }
        path = self.place / "tin.json"
        path.write_text(json.dumps(recipe))
        return path

    def meant(self) -> np.ndarray:
        multiplied = 0.4 * self.t[..., 1]
        coverage = (1 - self.d) * 0.5
        roughness = multiplied * (1 - coverage) + 0.9 * coverage
        return np.stack([self.t[..., 0], roughness, np.full_like(roughness, np.nan), self.d], axis=-1)

    def run_it(self, **outputs: dict[str, Any]) -> dict[str, Path]:
        code, out, err = command("run", str(self.recipe(**outputs)), "--out", str(self.place / "out"), "--json")
        self.assertEqual((code, err), (0, ""))
        return dict(zip(outputs, map(Path, json.loads(out)["written"]), strict=True))

    def test_codes_of_every_format_are_those_of_independent_arithmetic(self) -> None:
        straight = {"alpha": "straight"}
        written = self.run_it(
            png8={"file": "a.png", "depth": 8, **straight},
            png16={"file": "b.png", "depth": 16, **straight},
            tga={"file": "c.tga", **straight},
            tiff16={"file": "d.tif", "depth": 16, **straight},
        )
        for name, path in written.items():
            deep = name.endswith("16")
            most = 65_535 if deep else 255
            got = read(path, 4, "uint16" if deep else "uint8").astype(np.int64)
            for channel in (0, 1, 3):
                value = self.meant()[..., channel] * most
                gap = np.abs(got[..., channel] - np.floor(value + 0.5))
                clear = np.abs(value % 1 - 0.5) > (0.02 if deep else 0.001)
                self.assertEqual(int(gap[clear].max()), 0, (name, channel))
                self.assertLessEqual(int(gap.max()), 1, (name, channel))

    def test_floats_are_written_as_they_are_meant(self) -> None:
        written = self.run_it(tiff={"file": "e.tif", "depth": "float", "alpha": "straight"})
        got = read(written["tiff"], 4, "float")
        for channel in (0, 1, 3):
            np.testing.assert_allclose(got[..., channel], self.meant()[..., channel], atol=1e-6)

    def test_a_mask_of_half_the_size_keeps_its_mean_and_its_place(self) -> None:
        written = self.run_it(png={"file": "a.png", "depth": 16, "alpha": "straight"})
        metallic = read(written["png"], 4, "uint16")[..., 2] / 65_535
        mask = self.metal[..., 0] / 65_535
        means = metallic.reshape(SIDE // 2, 2, SIDE // 2, 2).mean((1, 3))
        self.assertAlmostEqual(float(metallic.mean()), float(mask.mean()), 2)
        self.assertGreater(float(np.corrcoef(means.ravel(), mask.ravel())[0, 1]), 0.95)

    def test_dithered_codes_lie_beside_the_rounded_ones_and_share_their_mean(self) -> None:
        kinds = ("none", "ordered", "diffusion")
        written = self.run_it(
            **{kind: {"file": f"{kind}.png", "depth": 8, "alpha": "straight", "dither": kind} for kind in kinds}
        )
        codes = {kind: read(path, 4, "uint8").astype(np.int64) for kind, path in written.items()}
        for kind in kinds[1:]:
            with self.subTest(kind):
                gap = codes[kind] - self.meant() * 255
                self.assertLessEqual(float(np.abs(gap[..., :2]).max()), 1.001)
                self.assertGreater(int((codes[kind] != codes["none"]).sum()), 500)
                self.assertLess(abs(float(gap[..., 1].mean())), 0.03)
                # Eight bit came in, eight bit go out: nothing to dither.
                np.testing.assert_array_equal(codes[kind][..., 3], codes["none"][..., 3])

    def test_names_are_filled_in_from_recipe_layout_and_output(self) -> None:
        written = self.run_it(map={"file": "{shot}/{name}_{layout}.png", "alpha": "straight"})
        self.assertEqual(written["map"], self.place / "out" / "tin" / "map_orm_with_cover.png")

    def test_the_layout_stands_in_the_file(self) -> None:
        import OpenEXR

        written = self.run_it(exr={"file": "a.exr"}, png={"file": "a.png", "alpha": "straight"})
        with OpenEXR.File(str(written["exr"])) as file:
            self.assertEqual(file.header()["layout"], "orm with cover")
        code, out, _ = command("info", str(written["png"]), "--json")
        self.assertEqual(code, 0)
        notes = json.loads(json.loads(out)["metadata"]["ImageDescription"])
        self.assertEqual((notes["nexal.layout"], notes["nexal.data"]), ("orm with cover", True))

    def test_a_source_that_goes_through_untouched_keeps_every_code(self) -> None:
        written = self.run_it(png={"file": "a.png", "depth": 16, "alpha": "straight"})
        got = read(written["png"], 4, "uint16")
        np.testing.assert_array_equal(got[..., 0], self.template[..., 0])
        np.testing.assert_array_equal(got[..., 3], self.decal[..., 3].astype(np.uint16) * 257)

    def test_faults_name_the_step_and_what_to_do(self) -> None:
        path = self.recipe(png={"file": "a.png", "alpha": "straight"})
        sound = json.loads(path.read_text())
        for change, words in (
            ({"op": "bay", "name": "cover", "set": {"base": 40}}, ("step 'cover'", "base")),
            (
                {"op": "bay", "name": "cover", "set": {"layers": [{"value": 0.1, "blend": "screen"}]}},
                ("cover", "blend"),
            ),
            ({"op": "bay", "name": "cover", "set": {"layers": [{"from": "decal"}, {}]}}, ("cover", "value")),
            ({"op": "pack", "name": "cover", "in": {}}, ("cover", "no channel is fed")),
            (
                {"op": "pack", "name": "cover", "in": dict.fromkeys("rgb", "metallic"), "set": {"width": 9000}},
                ("cover", "width"),
            ),
            ({"op": "resize", "name": "cover", "in": {"from": "decal"}, "set": {"width": 0}}, ("cover", "width")),
        ):
            with self.subTest(change):
                steps = [change if step["name"] == "cover" else step for step in sound["steps"]]
                path.write_text(json.dumps(sound | {"steps": steps}))
                code, out, err = command("run", str(path), "--out", str(self.place / "odd"))
                self.assertEqual((code, out), (2, ""))
                self.assertEqual(err.count("\n"), 1)
                for word in words:
                    self.assertIn(word, err)


class SplitAndReassemble(CoreTest):
    def setUp(self) -> None:
        self.place = self.folder()
        random = np.random.default_rng(3)
        self.pixels = random.integers(0, 65_536, (SIDE, SIDE, 4), np.uint16)
        write_raster(self.place / "map.png", self.pixels, ["R", "G", "B", "A"])

    def split(self) -> Path:
        code, out, err = command("split", str(self.place / "map.png"), "--out", str(self.place / "files"))
        self.assertEqual((code, err), (0, ""))
        names = [Path(line).name for line in out.splitlines()]
        self.assertEqual(names, ["map.R.png", "map.G.png", "map.B.png", "map.A.png", "map.channels.json"])
        return self.place / "files" / "map.channels.json"

    def test_out_and_back(self) -> None:
        manifest = self.split()
        code, out, err = command("reassemble", str(manifest), "--out", str(self.place / "back"), "--json")
        self.assertEqual((code, err), (0, ""))
        answer = json.loads(out)
        self.assertEqual(answer["told"], [])
        (written,) = answer["written"]
        np.testing.assert_array_equal(read(Path(written), 4, "uint16"), self.pixels)
        code, out, _ = command("compare", str(self.place / "map.png"), written, "--tolerance", "0")
        self.assertEqual(code, 0)

    def test_what_is_told_goes_to_the_messages_and_the_path_to_the_answer(self) -> None:
        manifest = self.split()
        (manifest.parent / "map.B.png").rename(manifest.parent / "blue.png")
        code, out, err = command("reassemble", str(manifest), "--out", str(self.place / "back"))
        self.assertEqual(code, 0)
        self.assertEqual(out.strip(), str(self.place / "back" / "map.png"))
        self.assertIn("warning: channel B came as blue.png", err)

    def test_faults_exit_with_2_and_one_line(self) -> None:
        manifest = self.split()
        (manifest.parent / "map.G.png").unlink()
        for arguments, words in (
            (("reassemble", str(manifest), "--out", str(self.place / "back")), ("map.G.png", "missing")),
            (("reassemble", str(self.place / "gone.json"), "--out", "x"), ("gone.json",)),
            (("split", str(self.place / "gone.png"), "--out", "x"), ("gone.png", "no such file")),
            (("split", str(manifest), "--out", str(self.place / "odd")), ("map.channels.json",)),
        ):
            with self.subTest(arguments[0]):
                code, out, err = command(*arguments)
                self.assertEqual((code, out), (2, ""))
                self.assertEqual(err.count("\n"), 1)
                for word in words:
                    self.assertIn(word, err)

    def test_ids_depth_and_light_of_a_render_come_back_whole(self) -> None:
        import OpenEXR

        random = np.random.default_rng(12)
        channels = {
            "R": random.random((SIDE, SIDE)).astype(np.float16),
            "depth.Z": random.random((SIDE, SIDE)).astype(np.float32) * 1e4,
            "id.object": random.integers(0, 1 << 32, (SIDE, SIDE), np.uint32),
        }
        path = write_exr(self.place / "render.exr", channels)
        code, out, _ = command("split", str(path), "--out", str(self.place / "parts"), "--json")
        self.assertEqual(code, 0)
        manifest = json.loads(out)["written"][-1]
        code, out, _ = command("reassemble", manifest, "--out", str(self.place / "back"))
        self.assertEqual(code, 0)
        with OpenEXR.File(out.strip(), separate_channels=True) as file:
            for name, plane in channels.items():
                back = file.channels()[name].pixels
                self.assertEqual(back.dtype, plane.dtype)
                np.testing.assert_array_equal(back, plane)


if __name__ == "__main__":
    unittest.main()
