"""Channels as files of their own, and put together again: bit by bit, and with what is worth telling."""

from __future__ import annotations

import json
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from core_support import CoreTest, write_exr, write_raster

from nexal.analysis.run import reassemble_files, run_recipe, split_file
from nexal.recipe import parse_recipe


class ChannelFiles(CoreTest):
    def assert_same_samples(self, first: Path, second: Path) -> None:
        from nexal.session import Session

        with Session() as session:
            a, b = session.open(first).stored, session.open(second).stored
            self.assertEqual(list(a.channels), list(b.channels))
            for name in a.channels:
                x, y = np.asarray(a.samples(name)), np.asarray(b.samples(name))
                self.assertEqual(x.dtype, y.dtype)
                np.testing.assert_array_equal(x.view(f"u{x.itemsize}"), y.view(f"u{y.itemsize}"), name)
                self.assertEqual(a.window(name), b.window(name))

    def pictures(self) -> dict[str, Path]:
        folder = self.folder()
        random = np.random.default_rng(4)
        eight = random.integers(0, 256, (20, 30, 4), np.uint8)
        sixteen = random.integers(0, 65536, (20, 30, 3), np.uint16)
        halves = random.normal(0, 2, (20, 30)).astype(np.float16)
        floats = random.normal(0, 1e6, (20, 30)).astype(np.float32)
        floats[3, 4] = np.nan
        ids = random.integers(0, 1 << 32, (20, 30), np.uint32)
        window = {
            "dataWindow": (np.array([5, 3], np.int32), np.array([34, 22], np.int32)),
            "displayWindow": (np.array([0, 0], np.int32), np.array([63, 47], np.int32)),
        }
        inks = random.integers(0, 65536, (20, 30, 4), np.uint16)
        tifffile.imwrite(folder / "inks.tif", inks, photometric="separated", planarconfig="contig", metadata=None)
        return {
            "inks": folder / "inks.tif",
            "eight": write_raster(folder / "eight.png", eight, ["R", "G", "B", "A"]),
            "sixteen": write_raster(folder / "sixteen.png", sixteen, ["R", "G", "B"]),
            "render": write_exr(
                folder / "render.exr",
                {"R": halves, "G": halves * 2, "B": halves / 2, "depth.Z": floats, "id.object": ids},
                window,
            ),
        }

    def test_every_sample_comes_back_in_its_own_type(self) -> None:
        for name, path in self.pictures().items():
            with self.subTest(name):
                out = self.folder()
                written = split_file(path, out)
                self.assertEqual(written[-1].name, f"{name}.channels.json")
                joined, told = reassemble_files(written[-1], out / "joined")
                self.assertEqual(told, [])
                self.assert_same_samples(path, joined)

    def test_a_renamed_file_is_known_by_what_it_holds(self) -> None:
        out = self.folder()
        *files, manifest = split_file(self.pictures()["sixteen"], out)
        files[1].rename(out / "green channel.png")
        joined, told = reassemble_files(manifest, out / "joined")
        self.assertEqual(told, ["channel G came as green channel.png, it was sixteen.G.png"])
        self.assert_same_samples(self.pictures()["sixteen"], joined)

    def test_a_lost_file_and_one_of_another_size_are_told(self) -> None:
        out = self.folder()
        *files, manifest = split_file(self.pictures()["sixteen"], out)
        files[2].unlink()
        self.assert_refused(lambda: reassemble_files(manifest, out / "joined"), "sixteen.B.png", "missing")
        write_raster(files[2], np.zeros((20, 31, 1), np.uint16), ["Y"])
        self.assert_refused(lambda: reassemble_files(manifest, out / "joined"), "sixteen.B.png", "31 x 20", "30 x 20")

    def test_a_changed_file_comes_in_and_is_told(self) -> None:
        out = self.folder()
        *files, manifest = split_file(self.pictures()["eight"], out)
        write_raster(files[0], np.full((20, 30, 1), 7, np.uint8), ["Y"])
        write_raster(files[1], np.full((20, 30, 1), 9, np.uint16), ["Y"])
        joined, told = reassemble_files(manifest, out / "joined")
        self.assertIn("eight.R.png was changed since it was split", told)
        self.assertIn("eight.G.png holds uint16 samples now, uint8 before", told)
        from nexal.session import Session

        with Session() as session:
            stored = session.open(joined).stored
            # The deeper file makes all of them deep; what an 8 bit code stands for stays.
            self.assertEqual(int(stored.samples("R")[0, 0]), 7 * 257)
            self.assertEqual(int(stored.samples("G")[0, 0]), 9)

    def test_grey_saved_as_three_equal_channels_is_taken_and_colour_is_not(self) -> None:
        out = self.folder()
        *files, manifest = split_file(self.pictures()["sixteen"], out)
        random = np.random.default_rng(9)
        grey = random.integers(0, 65536, (20, 30, 1), np.uint16)
        write_raster(files[0], np.repeat(grey, 3, axis=-1), ["R", "G", "B"])
        reassemble_files(manifest, out / "joined")
        write_raster(files[0], np.concatenate([grey, grey // 2, grey], axis=-1), ["R", "G", "B"])
        self.assert_refused(lambda: reassemble_files(manifest, out / "joined"), "sixteen.R.png", "grey")

    def test_names_from_files_lead_nowhere_else(self) -> None:
        out = self.folder()
        planes = {
            name: np.full((4, 5), index, np.float32) for index, name in enumerate(("a/b.R", "a_b.R", "A_B.r", ".."))
        }
        *files, manifest = split_file(write_exr(self.folder() / "odd.exr", planes), out)
        self.assertEqual({path.parent for path in files}, {out})
        self.assertEqual(len({path.name.lower() for path in files}), 4)
        listing = json.loads(manifest.read_text())
        self.assertEqual({row["name"] for row in listing["channels"]}, set(planes))
        manifest.write_text(json.dumps(listing | {"name": "../../moth"}))
        joined, _ = reassemble_files(manifest, out / "deep" / "joined")
        self.assertEqual(joined.parent, out / "deep" / "joined")
        doubled = listing | {"channels": [*listing["channels"], listing["channels"][0]]}
        manifest.write_text(json.dumps(doubled))
        self.assert_refused(lambda: reassemble_files(manifest, out), "twice")
        manifest.write_text(json.dumps(listing | {"alpha": "moonlit"}))
        self.assert_refused(lambda: reassemble_files(manifest, out), "alpha")

    def test_what_is_no_manifest_is_refused(self) -> None:
        path = self.folder() / "odd.channels.json"
        for text in ("moth", "[]", "{}", json.dumps({"nexal_channels": 2, "name": "a", "width": 1, "height": 1})):
            with self.subTest(text):
                path.write_text(text)
                self.assert_refused(lambda: reassemble_files(path, path.parent), "odd.channels.json")

    def test_a_made_picture_is_split_in_the_depth_that_is_asked_for(self) -> None:
        out = self.folder()
        steps: list[dict[str, Any]] = [
            {"name": "b", "op": "bay", "set": {"base": 0.25, "width": 8, "height": 8}},
            {"name": "t", "op": "pack", "in": dict.fromkeys("rgb", "b")},
        ]
        output = {"from": "t", "file": "t.png", "depth": 8, "split": True}
        recipe = parse_recipe({"nexal": 1, "steps": steps, "outputs": {"t": output}})
        written = run_recipe(recipe, out, {}, out)
        self.assertEqual([path.name for path in written], ["t.R.png", "t.G.png", "t.B.png", "t.channels.json"])
        self.assertEqual(json.loads(written[-1].read_text())["encoding"], "data")
        joined, told = reassemble_files(written[-1], out / "joined")
        self.assertEqual(told, [])
        from nexal.session import Session

        with Session() as session:
            self.assertEqual(int(session.open(joined).stored.samples("G")[3, 3]), 64)


if __name__ == "__main__":
    unittest.main()
