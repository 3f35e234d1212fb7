"""What travels with files, what reports and analyses say, and a file of a thousand channels."""

from __future__ import annotations

import errno
import json
import os
import time
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from core_support import CoreTest, MemorySource, gradient, rgb, rgba, run, write_exr, write_raster

import nexal
from nexal.analysis.compare import compare, exceeds
from nexal.analysis.frames import FrameDone, FrameTask, render_frame
from nexal.analysis.run import run_recipe
from nexal.analysis.view import histogram, probe
from nexal.colour import from_working, to_working
from nexal.engine import Engine, Plan
from nexal.errors import NexalError
from nexal.formats.decoding import decode_file
from nexal.formats.reading import reading
from nexal.formats.statistics import report
from nexal.formats.store import fingerprint
from nexal.formats.targets import FORMATS
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


class LongLived(CoreTest):
    """A worker lives for days, while files come, go and change."""

    def setUp(self) -> None:
        self.place = self.folder()
        self.session = self.enterContext(Session())
        recipe = {
            "nexal": 1,
            "sources": {"s": {"files": "s.%04d.exr"}},
            "outputs": {"o": {"from": "s", "file": "o.%04d.exr", "depth": "float"}},
        }
        self.recipe = parse_recipe(recipe).as_json()
        for number in (1, 2, 4):
            self.frame(number)

    def frame(self, number: int, value: float | None = None) -> Path:
        level = number / 8 if value is None else value
        planes = {name: np.full((6, 8), level, np.float16) for name in "RGB"}
        return write_exr(self.place / f"s.{number:04d}.exr", planes)

    def render(self, frame: int, **more: Any) -> FrameDone:
        files = {"s": str(self.place / "s.%04d.exr")}
        out = str(self.place / "out")
        return render_frame(FrameTask(self.recipe, files, ("s",), ("o",), out, frame, many=True, **more), self.session)

    def red(self, frame: int) -> float:
        (file,) = self.render(frame).files
        with Session() as session:
            return float(session.open(Path(file)).read(["R"], Fraction(1), Window(0, 0, 1, 1))["R"][0, 0])

    def test_a_frame_that_comes_later_is_seen(self) -> None:
        done = self.render(3)
        self.assertEqual(len([text for text in done.told if "number 3 is not there" in text]), 1)
        self.assertEqual(self.red(3), 2 / 8)
        self.frame(3)
        self.assertEqual(self.red(3), 3 / 8)
        self.assertEqual(self.render(3).told, ())

    def test_a_frame_that_was_replaced_is_read_anew(self) -> None:
        self.assertEqual(self.red(2), 2 / 8)
        self.frame(2, 0.75)
        self.assertEqual(self.red(2), 0.75)
        path = self.place / "s.0002.exr"
        content = path.read_bytes()
        path.write_bytes(content[: len(content) // 3])
        with self.assertRaises(NexalError) as caught:
            self.render(2)
        self.assertIn("at frame 2", str(caught.exception))
        path.unlink()
        self.assertIn("number 2 is not there; 1 stands for it", " ".join(self.render(2).told))
        self.frame(2)
        self.assertEqual(self.red(2), 2 / 8)

    def test_what_a_full_store_dropped_is_decoded_again(self) -> None:
        self.session._library.budget = 0
        self.session._library.in_use_seconds = 0
        for _ in range(2):
            for frame in (1, 2, 4):
                self.assertEqual(self.red(frame), frame / 8)

    def test_warnings_come_back_with_each_frame(self) -> None:
        path = self.frame(2)
        with mock.patch("nexal.session.reading", wraps=reading):
            stored = self.session.open(path).stored
            stored.header["warnings"].append("its last lines are missing")
        for _ in range(2):
            self.assertIn("s.0002.exr: its last lines are missing", self.render(2).told)
        self.assertEqual(self.render(1).told, ())

    def test_a_fault_of_the_disk_is_that_of_its_frame(self) -> None:
        real = fingerprint

        def failing(path: Path) -> str:
            if path.name == "s.0002.exr":
                raise OSError(errno.EIO, "Input/output error", str(path))
            return real(path)

        with mock.patch("nexal.session.fingerprint", side_effect=failing):
            self.assertEqual(self.red(1), 1 / 8)
            with self.assertRaises(NexalError) as caught:
                self.render(2)
            self.assertIn("Input/output error", str(caught.exception))
        self.assertEqual(self.red(2), 2 / 8)

    def test_a_file_that_is_written_to_while_it_is_read_is_read_again(self) -> None:
        real, times = fingerprint, []

        def written(path: Path) -> str:
            digest = real(path)
            times.append(path)
            if len(times) == 1:
                self.frame(2, 0.5)
            return digest

        with mock.patch("nexal.session.fingerprint", side_effect=written):
            (file,) = self.render(2).files
        self.assertEqual(self.red(2), 0.5)
        with Session() as session:
            plane = session.open(Path(file)).read(["R"], Fraction(1), Window(0, 0, 1, 1))["R"]
        self.assertEqual(float(plane[0, 0]), 0.5)

    def test_resume_leaves_what_is_whole_and_made_of_the_same(self) -> None:
        self.render(1)
        self.render(2)
        self.assertEqual((len(self.render(1, resume=True).kept), len(self.render(2, resume=True).kept)), (1, 1))
        # Another picture, another depth, another step: made again.
        self.frame(2, 0.625)
        done = self.render(2, resume=True)
        self.assertEqual((len(done.files), done.kept), (1, ()))
        self.recipe["outputs"]["o"]["depth"] = "half"
        self.assertEqual(self.render(1, resume=True).kept, ())
        self.assertEqual(len(self.render(1, resume=True).kept), 1)
        other = self.recipe | {"steps": [{"name": "g", "op": "grade", "in": {"picture": "s"}, "set": {"exposure": 1}}]}
        other["outputs"] = {"o": {"from": "g", "file": "o.%04d.exr", "depth": "half"}}
        self.recipe = other
        self.assertEqual(self.render(1, resume=True).kept, ())

    def test_every_format_tells_what_it_was_made_of(self) -> None:
        for name, known in FORMATS.items():
            self.recipe["outputs"] = {"o": {"from": "s", "file": f"o_%04d{known.suffixes[0]}"}}
            # A long recipe leaves no room in some.
            for note in ("", "x" * 100_000):
                step = {"name": "g", "op": "grade", "in": {"picture": "s"}, "note": note}
                self.recipe["steps"] = [step]
                with self.subTest(name, note=len(note)):
                    (file,) = self.render(1).files
                    self.assertEqual(self.session.made_note(Path(file)), self.render(1, resume=True).made["o"])
                    self.assertEqual(self.render(1, resume=True).kept, (file,))


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
