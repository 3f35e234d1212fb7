"""What travels with files, what reports and analyses say, and a file of a thousand channels."""

from __future__ import annotations

import json
import os
import time
import unittest
from fractions import Fraction
from pathlib import Path
from unittest import mock

import numpy as np
from core_support import CoreTest, MemorySource, gradient, rgb, rgba, run, write_exr, write_raster

import nexal
from nexal.analysis.compare import compare, exceeds
from nexal.analysis.run import run_recipe
from nexal.analysis.view import histogram, probe
from nexal.colour import from_working, to_working
from nexal.engine import Engine, Plan
from nexal.formats.decoding import decode_file
from nexal.formats.statistics import report
from nexal.formats.store import fingerprint
from nexal.picture import Window
from nexal.recipe import parse_recipe
from nexal.session import ALIVE, NEWBORN_SECONDS, SESSION_PREFIX, Session, clear_left_sessions, sources_behind


class Left(CoreTest):
    def test_folders_of_killed_sessions_go_and_those_of_newborn_ones_stay(self) -> None:
        place = self.folder()
        with mock.patch("tempfile.gettempdir", return_value=str(place)), mock.patch("tempfile.tempdir", str(place)):
            folders = {name: place / f"{SESSION_PREFIX}{name}" for name in ("newborn", "killed", "unborn")}
            for name, folder in folders.items():
                folder.mkdir()
                if name != "unborn":
                    (folder / ALIVE).touch()
            long_ago = time.time() - 2 * NEWBORN_SECONDS
            os.utime(folders["killed"] / ALIVE, (long_ago, long_ago))
            with Session() as held:
                own = Path(held._folder.name)
                os.utime(own / ALIVE, (long_ago, long_ago))
                clear_left_sessions()
                self.assertEqual({name for name, folder in folders.items() if folder.exists()}, {"newborn", "unborn"})
                self.assertTrue(own.exists(), "its lock is held")
            self.assertFalse(own.exists())


class Travelling(CoreTest):
    def setUp(self) -> None:
        self.place = self.folder()
        write_exr(self.place / "p.exr", rgb(16, 12), {"shotNote": "second take", "exposure": 1.5})

    def deliver(self, **output: object) -> Path:
        recipe = parse_recipe(
            {"nexal": 1, "sources": {"p": {"files": "p.exr"}}, "outputs": {"o": {"from": "p"} | output}}
        )
        return run_recipe(recipe, self.place, {}, self.place)[0]

    def notes(self, path: Path) -> dict[str, object]:
        with Session() as session:
            return session.open(path).stored.header["metadata"]

    def test_recipe_fingerprints_and_version_travel_in_exr_png_tiff_and_jpeg(self) -> None:
        sources = {"p": fingerprint(self.place / "p.exr")}
        for name in ("a.exr", "a.png", "a.tif", "a.jpg"):
            with self.subTest(name):
                found = self.notes(self.deliver(file=name))
                if name != "a.exr":
                    found = json.loads(str(found["ImageDescription"]))
                self.assertEqual(found["nexal.version"], nexal.__version__)
                self.assertEqual(json.loads(str(found["nexal.sources"])), sources)
                self.assertEqual(parse_recipe(json.loads(str(found["nexal.recipe"]))).outputs["o"].file, name)

    def test_unknown_attributes_of_an_exr_are_kept(self) -> None:
        found = self.notes(self.deliver(file="b.exr"))
        self.assertEqual((found["shotNote"], found["exposure"]), ("second take", 1.5))

    def test_attributes_of_every_plain_type_come_through(self) -> None:
        import OpenEXR

        given = {
            "iso": 400,
            "aperture": 2.5,
            "lens": "35 mm",
            "takes": ["a", "b"],
            "corner": np.array([3, 4], np.int32),
            "sun": np.array([1.5, 2, 3], np.float32),
            "worldToCamera": np.arange(16, dtype=np.float32).reshape(4, 4),
        }
        write_exr(self.place / "p.exr", rgb(16, 12), given)
        found = OpenEXR.File(str(self.deliver(file="b.exr")), header_only=True).header()
        for name, value in given.items():
            with self.subTest(name):
                self.assertEqual(type(found[name]), type(value))
                np.testing.assert_array_equal(found[name], value)
                if isinstance(value, np.ndarray):
                    self.assertEqual(found[name].dtype, value.dtype)

    def test_attributes_that_are_no_texts_are_not_turned_into_texts(self) -> None:
        import OpenEXR

        write_exr(self.place / "p.exr", rgb(16, 12), {"envmap": OpenEXR.ENVMAP_LATLONG})
        with Session() as session:
            header = session.open(self.place / "p.exr").stored.header
        self.assertIn("LATLONG", header["metadata"]["envmap:text"])
        self.assertNotIn("envmap", OpenEXR.File(str(self.deliver(file="b.exr")), header_only=True).header())

    def test_windows_of_an_exr_are_kept(self) -> None:
        box = (np.array([10, 20], np.int32), np.array([41, 43], np.int32))
        data = (np.array([12, 18], np.int32), np.array([27, 29], np.int32))
        write_exr(self.place / "p.exr", rgb(16, 12), {"displayWindow": box, "dataWindow": data})
        path = self.deliver(file="w.exr", depth="float")
        with Session() as session:
            part = session.open(path).stored.header["parts"][0]
        self.assertEqual((part["display"], part["data"]), ([10, 20, 32, 24], [12, 18, 16, 12]))

    def test_a_png_of_such_a_picture_holds_the_display_window(self) -> None:
        box = (np.array([0, 0], np.int32), np.array([31, 23], np.int32))
        data = (np.array([4, 6], np.int32), np.array([19, 17], np.int32))
        write_exr(
            self.place / "p.exr",
            {name: plane * 0 + 1 for name, plane in rgb(16, 12).items()},
            {"displayWindow": box, "dataWindow": data},
        )
        with Session() as session:
            samples = session.open(self.deliver(file="w.png")).stored.samples("R")
            self.assertEqual(samples.shape, (24, 32))
            self.assertEqual((int(samples.sum()) // 255, int(samples[6:18, 4:20].min())), (192, 255))

    def test_a_failed_write_leaves_nothing_behind(self) -> None:
        blocked = self.place / "blocked"
        blocked.write_text("a file where a folder is wanted")
        self.assert_refused(lambda: self.deliver(file="blocked/a.exr"))
        self.assertEqual([path.name for path in self.place.iterdir() if path.name.startswith(".")], [])


class Reports(CoreTest):
    def test_a_report_by_hand(self) -> None:
        values = np.linspace(-1, 3, 1000, dtype=np.float32).reshape(25, 40)
        row = report(values, encoded=False)
        self.assertEqual((row["min"], row["max"], row["non_finite"]), (-1, 3, 0))
        self.assertAlmostEqual(row["mean"], 1, 5)
        self.assertAlmostEqual(row["percentiles"]["50"], 1, 2)
        self.assertEqual(sum(row["histogram"]["counts"]), 1000)

    def test_noise_tells_a_noisy_plane_from_a_smooth_one(self) -> None:
        smooth = np.add.outer(np.linspace(0, 1, 100), np.linspace(0, 1, 100)).astype(np.float32)
        noisy = smooth + np.random.default_rng(1).normal(0, 0.02, smooth.shape).astype(np.float32)
        self.assertLess(report(smooth, encoded=False)["noise"], 1e-5)
        self.assertGreater(report(noisy, encoded=False)["noise"], 0.02)

    def test_extremes_of_every_sample_type(self) -> None:
        for dtype, ends in (
            (np.uint8, (0, 200 / 255)),
            (np.uint16, (0, 200 / 65535)),
            (np.float16, (-4, 200)),
            (np.float32, (-4, 200)),
            (np.uint32, (0, 200)),
        ):
            plane = np.zeros((5, 5), dtype)
            plane[2, 3] = 200
            if ends[0] < 0:
                plane[1, 1] = -4
            row = report(plane, encoded=False)
            self.assertAlmostEqual(row["min"], ends[0], 6, str(dtype))
            self.assertAlmostEqual(row["max"], ends[1], 6, str(dtype))

    def test_a_plane_of_nothing_but_nan(self) -> None:
        row = report(np.full((4, 4), np.nan, np.float32), encoded=True)
        self.assertEqual((row["non_finite"], row["min"], row["max"]), (1, 0, 0))
        json.dumps(row, allow_nan=False)


class Views(CoreTest):
    def plan(self, source: MemorySource) -> Plan:
        return Plan(parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}}), 1, {"p": source})

    def test_probe_averages_what_lies_inside(self) -> None:
        source = rgba(16, 12)
        plan = self.plan(source)
        row = probe(Engine(threads=1), plan, plan.feed("p"), 0, 0, 3)
        wanted = source.planes["R"][:2, :2].astype(float).mean()
        self.assertAlmostEqual(row["channels"][0]["value"], wanted, 6)
        self.assertFalse(probe(Engine(threads=1), plan, plan.feed("p"), 40, 2)["inside"])

    def test_histogram_in_both_domains(self) -> None:
        source = MemorySource({"R": np.full((8, 8), 0.25), "G": np.full((8, 8), 2.0), "B": np.full((8, 8), -1.0)})
        plan = self.plan(source)
        for domain, place in (("scene", 2), ("display", 5)):
            row = histogram(Engine(threads=1), plan, plan.feed("p"), domain, 10)
            self.assertEqual(row["counts"][place], 64, domain)
            self.assertEqual((row["below"], row["above"], row["min"], row["max"]), (64, 64, -1, 2))
        self.assert_refused(lambda: histogram(Engine(threads=1), plan, plan.feed("p"), "other"), "domain")

    def test_comparison_counts_what_is_not_finite(self) -> None:
        a = np.array([[np.nan, 1, np.inf, 0]], np.float32)
        b = np.array([[np.nan, 1.5, np.inf, np.nan]], np.float32)
        rows = compare({"R": a, "G": a}, {"R": b, "G": a})
        self.assertEqual((rows["R"]["max"], rows["R"]["non_finite"]), (None, 1))
        self.assertEqual(rows["G"]["max"], 0)
        self.assertEqual(exceeds(rows, 10), ["R"])


class Spaces(CoreTest):
    def test_there_and_back_through_a_colour_space(self) -> None:
        planes = [gradient(seed=n) for n in range(3)]
        for space in ("srgb", "linear", "ACEScg", "ACEScct"):
            for plane, back in zip(planes, to_working(from_working(planes, space), space), strict=True):
                self.assert_planes(back, plane, 2e-5, space)


class Thousand(CoreTest):
    def test_a_file_of_a_thousand_channels(self) -> None:
        place = self.folder()
        planes = {f"group{n // 10:02d}.part.c{n % 10}": np.full((8, 8), n, np.float32) for n in range(1000)}
        path = write_exr(place / "many.exr", planes)
        with Session() as session:
            source = session.open(path)
            self.assertEqual(len(source.description.channels), 1000)
            planes = source.read(["group73.part.c4"], Fraction(1), source.description.window)
            self.assertEqual(float(planes["group73.part.c4"][0, 0]), 734)

    def test_a_decode_can_be_given_up(self) -> None:
        place = self.folder()
        noise = (np.random.default_rng(1).random((1500, 1500, 3)) * 255).astype(np.uint8)
        path = write_raster(place / "a.png", noise, ["R", "G", "B"])
        self.assert_refused(lambda: decode_file(path, place / "s", cancelled=lambda: True), "a.png")


class Behind(unittest.TestCase):
    def test_only_sources_that_an_output_needs_are_opened(self) -> None:
        recipe = parse_recipe(
            {
                "nexal": 1,
                "sources": {name: {"files": name} for name in ("a", "b", "c")},
                "steps": [
                    {"name": "x", "op": "cross", "in": {"a": "a.R", "b": "a.G"}},
                    {"name": "y", "op": "route", "set": {"to": {"R": {"from": "b.R"}, "A": {"from": "x"}}}},
                ],
            }
        )
        self.assertEqual(sources_behind(recipe, ["x"]), ["a"])
        self.assertEqual(sources_behind(recipe, ["y.R"]), ["a", "b"])

    def test_places_of_different_display_windows(self) -> None:
        small, large = rgba(8, 6), rgba(16, 12, display=Window(0, 0, 16, 12))
        step = {"name": "s", "op": "stack", "in": {"under": "l", "over": "s0"}}
        result = run([step], {"l": large, "s0": small})
        self.assertEqual(result.description.display, Window(0, 0, 16, 12))
        outside = result.planes["R"][8:, 10:]
        wanted = (large.planes["R"] * large.planes["A"])[8:, 10:]
        np.testing.assert_allclose(outside, wanted, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
