"""What a file will hold, told before it is written: against the file that comes of it."""

from __future__ import annotations

import unittest
from pathlib import Path

import numpy as np
from core_support import CoreTest, plan_of, rgba

from nexal.engine import Engine
from nexal.errors import RecipeError
from nexal.formats.announcing import announced
from nexal.formats.targets import FORMATS, target_of
from nexal.formats.writing import write
from nexal.picture import Alpha
from nexal.recipe import parse_output
from nexal.session import Session, output_feed


class Announcing(CoreTest):
    def test_channels_size_depth_and_alpha_are_those_of_the_file(self) -> None:
        plan = plan_of([{"name": "matte", "op": "weigh", "in": {"from": "p"}}], {"p": rgba(20, 12)})
        folder = self.folder()
        for source in ("p", "matte", "p.R", {"R": "p.B", "G": "p.B", "B": "p.A", "mask": "matte"}):
            for name, known in FORMATS.items():
                if isinstance(source, dict) and name not in ("exr", "tiff"):
                    continue
                if name == "hdr" and source != "p":
                    # It holds three channels, and says so before.
                    output = parse_output({"from": source, "file": "a.hdr"}, "a")
                    description = output_feed(plan, output).description
                    self.assert_refused(lambda o=output, d=description: announced(o, d), "Radiance", "one channel")
                    continue
                for depth in known.depths:
                    for alpha in ("straight", "none") if known.alpha is not Alpha.NONE else ("none",):
                        spec = {"from": source, "file": f"a{known.suffixes[0]}", "depth": depth, "alpha": alpha}
                        with self.subTest(**spec):
                            output = parse_output(spec, "a")
                            feed = output_feed(plan, output)
                            told = announced(output, feed.description)
                            path = folder / output.file
                            write(Engine().evaluate(feed, plan), target_of(output), path, {})
                            self.assert_is(path, told.channels, (told.width, told.height))
                            self.assertIn("16" if depth == "16" else depth, told.depth)
                            has_alpha = source == "p" and alpha != "none"
                            self.assertEqual(told.alpha == "straight alpha", has_alpha)
                            self.assertEqual("A" in told.channels, has_alpha)

    def assert_is(self, path: Path, channels: tuple[str, ...], size: tuple[int, int]) -> None:
        with Session() as session:
            description = session.open(path).description
        window = description.window
        self.assertEqual((window.width, window.height), size)
        # A grey file's channel is called by its format.
        grey = len(channels) == 1
        self.assertEqual(len(description.channels), len(channels))
        if not grey:
            self.assertEqual({*description.channels}, {*channels})

    def test_how_values_are_encoded_is_said(self) -> None:
        plan = plan_of([{"name": "matte", "op": "weigh", "in": {"from": "p.A"}}], {"p": rgba(20, 12)})
        for spec, wanted in (
            ({"from": "p", "file": "a.exr"}, "linear light"),
            ({"from": "p", "file": "a.exr", "colour": "srgb"}, "sRGB-encoded"),
            ({"from": "p", "file": "a.exr", "colour": "ACEScg"}, "in ACEScg"),
            ({"from": "p", "file": "a.png"}, "sRGB-encoded, clipped to 0 to 1"),
            ({"from": "p", "file": "a.png", "colour": "data"}, "values as they are, clipped to 0 to 1"),
            ({"from": "p.A", "file": "a.png"}, "values as they are"),
        ):
            with self.subTest(**spec):
                output = parse_output(spec, "a")
                self.assertEqual(announced(output, output_feed(plan, output).description).encoding, wanted)

    def test_of_very_many_channels_a_few_are_named(self) -> None:
        source = rgba(8, 8)
        planes = {f"light{n}.R": np.zeros((8, 8), np.float32) for n in range(30)}
        plan = plan_of([], {"p": type(source)(planes)})
        output = parse_output({"from": "p", "file": "a.exr"}, "a")
        self.assertIn("light11.R and 18 more channels", announced(output, output_feed(plan, output).description).line())

    def test_a_picture_among_channels_never_becomes_one_of_them(self) -> None:
        plan = plan_of([{"name": "grade", "op": "grade", "in": {"picture": "p"}}], {"p": rgba(8, 8)})
        for address in ("grade", "p"):
            error = self.assert_refused(lambda address=address: plan.picture({"mask": address}), "4 channels", "'mask'")
            self.assertIsInstance(error, RecipeError)
            self.assertIn(f"{address}.R", error.remedy)
        self.assertEqual(plan.picture({"mask": "grade.A"}).description.channels, ("mask",))

    def test_a_suffix_against_the_format_is_an_error(self) -> None:
        for file, form in (("as_named.exr", "png"), ("a.TIF", "exr"), ("b.jpeg", "png"), ("c.png", "jpeg")):
            output = parse_output({"from": "p", "file": file, "format": form}, "a")
            self.assert_refused(lambda output=output: target_of(output), "ends like a file of", form)
        for file, form in (("a.exr", "exr"), ("b.JPG", "jpeg"), ("c.v2", "exr"), ("d", "png")):
            self.assertEqual(target_of(parse_output({"from": "p", "file": file, "format": form}, "a")).format, form)


if __name__ == "__main__":
    unittest.main()
