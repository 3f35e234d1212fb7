"""The command as a user calls it: answers, files, exit codes and messages."""

from __future__ import annotations

import contextlib
import io
import json
import os
import subprocess
import sys
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from core_support import CoreTest, gradient, rgb, write_exr, write_raster
from ink_profiles import press, printed

import nexal
from nexal.cli import main

STORY = {
    "nexal": 1,
    "sources": {"moth": {"files": "moth.exr"}},
    "steps": [
        {
            "name": "others",
            "op": "cross",
            "in": {"a": "moth.R", "b": "moth.B"},
            "set": {"mode": "lighten", "domain": "scene"},
        },
        {
            "name": "pull",
            "op": "cross",
            "in": {"a": "moth.G", "b": "others"},
            "set": {"mode": "subtract", "domain": "scene"},
        },
        {
            "name": "core",
            "op": "stretch",
            "in": {"from": "pull"},
            "set": {"black": 0.02, "white": 0.3, "domain": "scene"},
        },
        {"name": "matte", "op": "invert", "in": {"from": "core"}},
        {"name": "cut", "op": "attach_alpha", "in": {"picture": "moth", "alpha": "matte"}},
    ],
    "outputs": {
        "cut": {"from": "cut", "file": "cut.%04d.exr", "format": "exr", "depth": "float", "alpha": "premultiplied"},
        "grey": {"from": "matte", "file": "matte.png"},
        "straight": {"from": "cut", "file": "cut16.png", "depth": 16},
        "mixed": {"from": {"R": "moth.B", "mask": "matte"}, "file": "mixed.exr", "compression": "piz"},
        "layer": {"from": "moth.G", "file": "green.tif", "depth": "float"},
    },
}


class CommandLine(CoreTest):
    def setUp(self) -> None:
        self.place = self.folder()
        self.planes = {name: plane.astype(np.float16) for name, plane in rgb(32, 24).items()}
        write_exr(self.place / "moth.exr", self.planes)
        self.recipe = self.place / "recipe.json"
        self.recipe.write_text(json.dumps(STORY))

    def call(self, *arguments: object, code: int = 0) -> tuple[str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            got = main([str(argument) for argument in arguments])
        self.assertEqual(got, code, err.getvalue())
        return out.getvalue(), err.getvalue()

    def matte(self) -> np.ndarray:
        p = {name: plane.astype(float) for name, plane in self.planes.items()}
        return 1 - np.clip((p["G"] - np.maximum(p["R"], p["B"]) - 0.02) / 0.28, 0, 1)

    def test_the_story_from_a_recipe_file(self) -> None:
        import OpenEXR

        out, _ = self.call("run", self.recipe, "--out", self.place / "out")
        self.assertEqual(len(out.split()), 5)
        part = OpenEXR.File(str(self.place / "out/cut.0001.exr"), separate_channels=True).parts[0]
        matte = self.matte()
        np.testing.assert_allclose(part.channels["A"].pixels, matte, atol=1e-5)
        np.testing.assert_allclose(part.channels["G"].pixels, self.planes["G"].astype(float) * matte, atol=1e-5)
        recipe = json.loads(part.header["nexal.recipe"])
        self.assertEqual(recipe["steps"], STORY["steps"])
        self.assertEqual(part.header["nexal.version"], nexal.__version__)
        self.assertEqual(len(json.loads(part.header["nexal.sources"])["moth"]), 64)

    def test_integers_round_half_up_and_mattes_are_not_encoded(self) -> None:
        import cv2

        self.call("run", self.recipe, "--out", self.place, "--only", "grey", "--only", "straight")
        codes = cv2.imread(str(self.place / "matte.png"), cv2.IMREAD_UNCHANGED)
        self.assertEqual(codes.ndim, 2)
        exact = self.matte() * 255
        clear = np.abs(exact % 1 - 0.5) > 1e-3
        np.testing.assert_array_equal(codes[clear], np.floor(exact + 0.5)[clear])
        codes = cv2.imread(str(self.place / "cut16.png"), cv2.IMREAD_UNCHANGED)
        green = self.planes["G"].astype(float)
        encoded = np.where(green <= 0.0031308, 12.92 * green, 1.055 * green ** (1 / 2.4) - 0.055) * 65535
        self.assertLessEqual(np.abs(codes[..., 1] - encoded).max(), 1.5)
        self.assertFalse((self.place / "cut.0001.exr").exists())

    def test_channels_put_together_in_an_output(self) -> None:
        import OpenEXR

        self.call("run", self.recipe, "--out", self.place, "--only", "mixed")
        part = OpenEXR.File(str(self.place / "mixed.exr"), separate_channels=True).parts[0]
        self.assertEqual(sorted(part.channels), ["R", "mask"])
        np.testing.assert_array_equal(part.channels["R"].pixels, self.planes["B"])

    def test_a_recipe_names_its_ink_profile_as_a_source(self) -> None:
        from PIL import Image

        (self.place / "press.icc").write_bytes(press())
        inks = np.zeros((8, 8, 4), np.uint8)
        inks[..., 1], inks[..., 3] = 128, 64
        Image.fromarray(inks, "CMYK").save(self.place / "leaflet.tif")
        recipe = {
            "nexal": 1,
            "sources": {"leaflet": {"files": "leaflet.tif"}, "press": {"files": "press.icc"}},
            "steps": [
                {
                    "name": "seen",
                    "op": "ink_join",
                    "in": {"picture": "leaflet"},
                    "set": {"profile": {"from": "press"}, "intent": "absolute"},
                }
            ],
            "outputs": {"seen": {"from": "seen", "file": "seen.exr", "depth": "float"}},
        }
        self.recipe.write_text(json.dumps(recipe))
        self.call("run", self.recipe, "--out", self.place)
        info, _ = self.call("info", self.place / "seen.exr", "--json")
        got = {channel["name"]: channel["mean"] for channel in json.loads(info)["parts"][0]["channels"]}
        for name, value in zip("RGB", printed(np.array([0, 128, 0, 64]) / 255), strict=True):
            self.assertAlmostEqual(got[name], value, 2)

    def test_inks_are_delivered_as_inks_with_their_profile(self) -> None:
        from PIL import Image

        (self.place / "press.icc").write_bytes(press())
        wanted = np.array([0.5, 0.25, 0.125, 0.0])
        colour = {name: np.full((8, 8), value) for name, value in zip("RGB", printed(wanted), strict=True)}
        write_exr(self.place / "p.exr", {name: plane.astype(np.float32) for name, plane in colour.items()})
        clear = [
            {"name": "cut", "op": "attach_alpha", "in": {"picture": "p", "alpha": "p.B"}},
            {"name": "clear", "op": "ink_split", "in": {"picture": "cut"}},
        ]
        step: dict[str, Any] = {"name": "inks", "op": "ink_split", "in": {"picture": "p"}}
        recipe = {
            "nexal": 1,
            "sources": {"p": {"files": "p.exr"}, "press": {"files": "press.icc"}},
            "steps": [
                step | {"set": {"profile": {"from": "press"}, "intent": "absolute"}},
                step | {"name": "simple"},
                *clear,
            ],
            "outputs": {
                name: {"from": of, "file": f"{name}.tif", "depth": depth}
                for name, of, depth in (("eight", "inks", 8), ("sixteen", "inks", 16), ("simple", "simple", 8))
            }
            | {"clear": {"from": "clear", "file": "clear.tif", "depth": "float", "compression": "zip"}},
        }
        self.recipe.write_text(json.dumps(recipe))
        self.call("run", self.recipe, "--out", self.place)
        with Image.open(self.place / "eight.tif") as picture:
            self.assertEqual(picture.mode, "CMYK")
            self.assertEqual(picture.info["icc_profile"], press())
            np.testing.assert_allclose(np.array(picture.getpixel((3, 3))) / 255, wanted, atol=0.02)
        with Image.open(self.place / "simple.tif") as picture:
            self.assertEqual(picture.mode, "CMYK")
            self.assertNotIn("icc_profile", picture.info)
        info, _ = self.call("info", self.place / "sixteen.tif", "--json")
        row = json.loads(info)
        channels = row["parts"][0]["channels"]
        self.assertEqual([(channel["name"], channel["type"]) for channel in channels], [(c, "uint16") for c in "CMYK"])
        np.testing.assert_allclose([channel["mean"] for channel in channels], wanted, atol=0.02)
        info, _ = self.call("info", self.place / "clear.tif", "--json")
        channels = {channel["name"]: channel for channel in json.loads(info)["parts"][0]["channels"]}
        self.assertEqual((*channels,), (*"CMYK", "A"))
        self.assertEqual({channel["type"] for channel in channels.values()}, {"float"})
        self.assertAlmostEqual(channels["A"]["mean"], colour["B"][0, 0], 5)
        # What was delivered is read with its inks again.
        joined = {"name": "back", "op": "ink_join", "in": {"picture": "sixteen"}}
        recipe = {
            "nexal": 1,
            "sources": {"sixteen": {"files": "sixteen.tif"}},
            "steps": [joined | {"set": {"profile": {"from": "sixteen"}, "intent": "absolute"}}],
            "outputs": {"back": {"from": "back", "file": "back.exr", "depth": "float"}},
        }
        self.recipe.write_text(json.dumps(recipe))
        self.call("run", self.recipe, "--out", self.place)
        info, _ = self.call("info", self.place / "back.exr", "--json")
        back = {channel["name"]: channel["mean"] for channel in json.loads(info)["parts"][0]["channels"]}
        for name, plane in colour.items():
            # Between the nodes of the press' own tables the way to ink is not exact.
            self.assertAlmostEqual(back[name], plane[0, 0], delta=0.012)

    def test_a_picture_of_any_format_becomes_an_exr(self) -> None:
        codes = np.full((8, 8, 3), 128, np.uint8)
        for suffix in ("png", "tif", "jpg", "tga", "webp", "bmp", "dpx"):
            write_raster(self.place / f"p.{suffix}", codes, "RGB")
            recipe = {
                "nexal": 1,
                "sources": {"p": {"files": f"p.{suffix}"}},
                "outputs": {"p": {"from": "p", "file": f"{suffix}.exr", "depth": "float"}},
            }
            self.recipe.write_text(json.dumps(recipe))
            self.call("run", self.recipe, "--out", self.place)
            info, _ = self.call("info", self.place / f"{suffix}.exr", "--json")
            mean = json.loads(info)["parts"][0]["channels"][0]["mean"]
            self.assertAlmostEqual(mean, ((128 / 255 + 0.055) / 1.055) ** 2.4, 2, suffix)

    def test_another_source_scale_and_region(self) -> None:
        write_exr(self.place / "other.exr", {name: plane * 0 + np.float16(0.25) for name, plane in self.planes.items()})
        out, _ = self.call(
            "run",
            self.recipe,
            "--source",
            f"moth={self.place / 'other.exr'}",
            "--out",
            self.place / "o",
            "--only",
            "layer",
            "--scale",
            "1/2",
            "--region",
            "8,4,16,8",
            "--json",
        )
        file = json.loads(out)["written"][0]
        info, _ = self.call("info", file, "--json")
        part = json.loads(info)["parts"][0]
        self.assertEqual(part["data_window"][2:], [8, 4])
        self.assertAlmostEqual(part["channels"][0]["max"], 0.25, 5)

    def test_sequences(self) -> None:
        for frame in (1, 2, 3):
            write_exr(self.place / f"s.{frame:04d}.exr", {"R": np.full((4, 4), frame / 4, np.float16)})
        recipe = {
            "nexal": 1,
            "sources": {"s": {"files": "s.%04d.exr"}},
            "steps": [],
            "outputs": {"o": {"from": "s.R", "file": "o.%03d.png"}, "still": {"from": "s.R", "file": "still.png"}},
        }
        self.recipe.write_text(json.dumps(recipe))
        out, _ = self.call("run", self.recipe, "--out", self.place / "o", "--only", "o")
        self.assertEqual([Path(line).name for line in out.split()], ["o.001.png", "o.002.png", "o.003.png"])
        out, _ = self.call("run", self.recipe, "--out", self.place / "p", "--only", "o", "--frames", "2-3")
        self.assertEqual(len(out.split()), 2)
        _, err = self.call("run", self.recipe, "--out", self.place, "--only", "still", code=2)
        self.assertIn("output 'still', 'file'", err)
        out, err = self.call("run", self.recipe, "--out", self.place / "q", "--only", "o", "--frames", "6-7")
        self.assertEqual(len(out.split()), 2)
        self.assertIn("source 's': after its range, frames 1 to 3, 3 is held", err)
        recipe["sources"]["s"]["after"] = "error"
        self.recipe.write_text(json.dumps(recipe))
        _, err = self.call("run", self.recipe, "--out", self.place, "--only", "o", "--frames", "7", code=2)
        self.assertIn("source 's': there is nothing at frame 7", err)

    def test_info(self) -> None:
        out, _ = self.call("info", self.place / "moth.exr", "--json")
        row = json.loads(out)
        self.assertEqual((row["format"], row["alpha"]), ("exr", "none"))
        part = row["parts"][0]
        self.assertEqual(part["display_window"], [0, 0, 32, 24])
        self.assertEqual(
            [(c["name"], c["type"]) for c in part["channels"]],
            [("R", "half"), ("G", "half"), ("B", "half")]
            if part["channels"][0]["name"] == "R"
            else [("B", "half"), ("G", "half"), ("R", "half")],
        )
        self.assertEqual(part["layers"][0]["role"], "colour")
        text, _ = self.call("info", self.place / "moth.exr")
        self.assertIn("32 x 24", text)

    def test_compare(self) -> None:
        a = write_exr(self.place / "a.exr", {"R": np.full((4, 4), 0.5, np.float32), "G": gradient(4, 4)})
        b = write_exr(self.place / "b.exr", {"R": np.full((4, 4), 0.75, np.float32), "G": gradient(4, 4)})
        out, _ = self.call("compare", a, b, "--json", "--tolerance", "0.2", code=1)
        rows = json.loads(out)["channels"]
        self.assertEqual((rows["R"]["max"], rows["R"]["mean"]), (0.25, 0.25))
        self.assertAlmostEqual(rows["R"]["psnr"], 12.0412, 4)
        self.assertEqual(rows["G"], {"max": 0.0, "mean": 0.0, "psnr": None})
        self.call("compare", a, b, "--tolerance", "0.3")
        self.call("compare", a, b)
        small = write_exr(self.place / "small.exr", {"R": gradient(2, 2)})
        self.assertIn("pixels", self.call("compare", a, small, code=2)[1])

    def test_compare_of_encoded_files_is_in_codes_over_255(self) -> None:
        codes = np.full((4, 4, 1), 100, np.uint8)
        a = write_raster(self.place / "a.png", codes, ["Y"])
        b = write_raster(self.place / "b.png", codes + 3, ["Y"])
        rows = json.loads(self.call("compare", a, b, "--json")[0])["channels"]
        self.assertAlmostEqual(rows["Y"]["max"], 3 / 255, 6)

    def test_operations(self) -> None:
        rows = {row["op"]: row for row in json.loads(self.call("operations", "--json")[0])}
        self.assertLessEqual({"route", "cross", "stretch", "attach_alpha", "stack", "place", "blur"}, set(rows))
        self.assertEqual(rows["cross"]["settings"]["mode"]["default"], "multiply")
        self.assertEqual([port["name"] for port in rows["stack"]["ports"]], ["under", "over", "matte"])
        self.assertIn("cross", self.call("operations")[0])

    def test_messages_name_the_place_and_exit_with_2(self) -> None:
        cases: list[tuple[list[object], str]] = [
            (["run", self.place / "none.json", "--out", self.place], "no such file"),
            (["run", self.recipe, "--out", self.place, "--only", "nothing"], "output 'nothing'"),
            (["run", self.recipe, "--out", self.place, "--source", "moon=x.exr"], "source 'moon'"),
            (["run", self.recipe, "--out", self.place, "--source", "moth=gone.exr"], "gone.exr"),
            (["run", self.recipe, "--out", self.place, "--scale", "1/3"], "--scale"),
            (["run", self.recipe, "--out", self.place, "--frames", "9-1"], "--frames"),
            (["run", self.recipe, "--out", self.place, "--region", "1,2"], "--region"),
            (["run", self.recipe], "--out"),
            (["info", self.place / "gone.exr"], "gone.exr"),
            (["inform"], "command line"),
            ([], "command line"),
        ]
        for arguments, word in cases:
            with self.subTest(arguments):
                out, err = self.call(*arguments, code=2)
                self.assertEqual(out, "")
                self.assertIn(word, err)
                self.assertRegex(err, r"^nexal: [^\n]+: [^\n]+; [^\n]+\n$")

    def test_outputs_that_a_format_cannot_hold(self) -> None:
        for change, word in (
            ({"from": "cut", "file": "x.jpg", "alpha": "straight"}, "no alpha"),
            ({"from": "cut", "file": "x.png", "depth": "half"}, "depth"),
            ({"from": "cut", "file": "x.what"}, "format"),
            ({"from": "cut", "file": "x.exr", "compression": "zap"}, "compression"),
            ({"from": {"u": "moth.R", "v": "moth.G"}, "file": "x.png"}, "R, G, B"),
            ({"from": "gone", "file": "x.png"}, "gone"),
            ({"from": "cut", "file": "x.png", "colour": "nowhere"}, "nowhere"),
        ):
            with self.subTest(word):
                self.recipe.write_text(json.dumps(STORY | {"outputs": {"o": change}}))
                _, err = self.call("run", self.recipe, "--out", self.place, code=2)
                self.assertIn("output 'o'", err)
                self.assertIn(word, err)
        self.assertEqual(list(self.place.glob("x.*")), [])

    def test_as_a_process_without_server_packages(self) -> None:
        blocked = "import sys; sys.modules['django'] = None; from nexal.cli import main; sys.exit(main(sys.argv[1:]))"
        done = subprocess.run(
            [sys.executable, "-c", blocked, "run", str(self.recipe), "--out", str(self.place / "o"), "--only", "grey"],
            env=os.environ | {"PYTHONPATH": str(Path(nexal.__file__).parent.parent)},
            capture_output=True,
            text=True,
            timeout=180,
        )
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertTrue((self.place / "o/matte.png").is_file())


class Round(CoreTest):
    """What is written is read back as it was meant."""

    def test_every_format_depth_and_alpha(self) -> None:
        from nexal.session import Session

        place = self.folder()
        a = np.clip(gradient(24, 16, 9) * 1.4 - 0.2, 0, 1).astype(np.float32)
        write_exr(place / "p.exr", {name: plane * a for name, plane in rgb(24, 16).items()} | {"A": a})
        outputs = {
            "exr_half": {"file": "a.exr"},
            "exr_float": {"file": "b.exr", "depth": "float", "alpha": "straight"},
            "png8": {"file": "c.png"},
            "png16": {"file": "d.png", "depth": "16"},
            "tiff8": {"file": "e.tif", "depth": 8},
            "tiff16": {"file": "f.tif", "alpha": "straight"},
            "tiff_float": {"file": "g.tiff", "depth": "float"},
            "tga": {"file": "h.tga"},
            "jpeg": {"file": "i.jpg"},
            "hdr": {"file": "j.hdr"},
            "dpx": {"file": "k.dpx"},
        }
        recipe = place / "r.json"
        recipe.write_text(
            json.dumps(
                {
                    "nexal": 1,
                    "sources": {"p": {"files": "p.exr"}},
                    "steps": [],
                    "outputs": {name: {"from": "p"} | spec for name, spec in outputs.items()},
                }
            )
        )
        with contextlib.redirect_stdout(io.StringIO()):
            self.assertEqual(main(["run", str(recipe), "--out", str(place)]), 0)
        tolerance = {
            "exr_half": 6e-4,
            "exr_float": 1e-6,
            "png8": 0.006,
            "png16": 4e-5,
            "tiff8": 0.006,
            "tiff16": 4e-5,
            "tiff_float": 1e-6,
            "tga": 0.006,
            "jpeg": 0.1,
            "hdr": 0.01,
            "dpx": 0.003,
        }
        plain = rgb(24, 16)["G"].astype(float)
        with Session() as session:
            for name, spec in outputs.items():
                with self.subTest(name):
                    source = session.open(place / spec["file"])
                    planes = source.read(source.description.channels, 1, source.description.window)
                    state = source.description.alpha.value
                    straight = state == "straight" or name == "exr_float"
                    if "A" in planes:
                        self.assert_planes(planes["A"], a, tolerance[name])
                    wanted = np.where(a > 0, plain, 0) if straight else plain * a
                    solid = a > 0.2 if straight else a >= 0
                    gap = np.abs(planes["G"] - wanted)[solid]
                    limit = tolerance[name] * (3 if straight else 1)
                    self.assertLess(gap.max(), limit)
                    self.assertEqual(state, {"exr": "premultiplied", "png": "straight"}.get(spec["file"][2:], state))


if __name__ == "__main__":
    unittest.main()
