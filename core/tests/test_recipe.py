"""Recipes and addresses: what is accepted, and how clearly the rest is refused."""

from __future__ import annotations

import json
import unittest
from typing import Any, ClassVar

from core_support import CoreTest, MemorySource, rgb, rgba, run

from nexal.addresses import readdressed, renamed_address, select, split_address
from nexal.errors import NexalError
from nexal.operations import catalogue, find
from nexal.operations.base import Operation, parse_settings
from nexal.picture import Window
from nexal.recipe import SourceSpec, load_recipe, numbered_file, numbers_in, parse_recipe, worded_file
from nexal.session import frames_of


def recipe(steps: list, **more: object) -> dict:
    return {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}, "steps": steps, **more}


class Addresses(CoreTest):
    channels = ("R", "G", "B", "A", "diffuse.key.R", "diffuse.key.G", "depth.Z", "odd.name.with.dots")

    def test_the_first_dot_splits(self) -> None:
        self.assertEqual(split_address("render.diffuse.key.R"), ("render", "diffuse.key.R"))
        self.assertEqual(split_address("render"), ("render", ""))
        for wrong in ("", "Render.R", "1st", ".R", "a-b"):
            self.assert_refused(lambda w=wrong: split_address(w), "address")

    def test_exact_names_then_layers(self) -> None:
        self.assertEqual(select("G", self.channels, "render"), {"G": "G"})
        self.assertEqual(select("diffuse.key", self.channels, "render"), {"R": "diffuse.key.R", "G": "diffuse.key.G"})
        self.assertEqual(select("depth", self.channels, "render"), {"Z": "depth.Z"})
        self.assertEqual(select("odd.name.with.dots", self.channels, "render"), {"dots": "odd.name.with.dots"})
        self.assertEqual(list(select("diffuse", self.channels, "render")), ["key.R", "key.G"])

    def test_a_wrong_name_lists_the_nearest(self) -> None:
        self.assert_refused(lambda: select("diffuse.kay", self.channels, "render"), "diffuse.kay", "diffuse.key")


class Validation(CoreTest):
    def refused(self, data: object, *words: str) -> None:
        def work() -> None:
            parsed = parse_recipe(data)
            steps = [step.model_dump(by_alias=True) for step in parsed.steps]
            for step in steps:
                run(steps, {"moth": rgba()}, step["name"])

        self.assert_refused(work, *words)

    def step(self, **change: object) -> dict:
        return {"name": "pull", "op": "cross", "in": {"a": "moth.R", "b": "moth.B"}} | change

    def test_faults_name_step_setting_and_remedy(self) -> None:
        cases = [
            (self.step(op="crosss"), "step 'pull'", "crosss", "cross"),
            (self.step(set={"mod": "add"}), "step 'pull'", "mod", "mode"),
            (self.step(set={"mode": "nonsense"}), "step 'pull'", "mode", "multiply"),
            (self.step(set={"mix": "much"}), "step 'pull'", "mix"),
            (self.step(**{"in": {"a": "moth.R"}}), "step 'pull'", "'b'", "address"),
            (self.step(**{"in": {"a": "moth.R", "b": "moth.B", "c": "moth.G"}}), "step 'pull'", "'c'"),
            (self.step(**{"in": {"a": "moth.R", "b": "month.B"}}), "step 'pull'", "'month'", "moth"),
            (self.step(**{"in": {"a": "moth.R", "b": "moth.Q"}}), "step 'pull'", "'Q'"),
            (self.step(**{"in": {"a": "moth.R", "b": "pull"}}), "step 'pull'", "circle"),
            (self.step(**{"in": {"a": "moth.R", "b": ["moth.G"]}}), "step 'pull'", "one address"),
            (self.step(colour=1), "step 'pull'", "colour", "not a known key"),
            (self.step(set={"mix": {"keys": []}}), "step 'pull'", "mix"),
            (self.step(set={"mix": {"keys": [[1, 2, "jump"]]}}), "step 'pull'", "mix"),
        ]
        for step, *words in cases:
            with self.subTest(words):
                self.refused(recipe([step]), *words)

    def test_faults_of_the_whole(self) -> None:
        self.refused([], "JSON object")
        self.refused({"steps": []}, "nexal")
        self.refused({"nexal": 2}, "nexal")
        self.refused(recipe([], pictures={}), "pictures")
        self.refused(recipe([self.step(name="Pull")]), "'Pull'", "lower case")
        self.refused(recipe([self.step(name="moth")]), "used twice")
        self.refused(recipe([self.step(), self.step()]), "used twice")
        self.refused(recipe([], sources={"moth": {"files": "a", "colour": 3}}), "source 'moth'", "colour")
        self.refused(recipe([], outputs={"o": {"from": "moth", "file": "../x.png"}}), "output 'o'", "file")

    def test_a_step_sees_only_what_stands_above(self) -> None:
        first = self.step(name="first", **{"in": {"a": "moth.R", "b": "second"}})
        second = self.step(name="second")
        self.refused(recipe([first, second]), "step 'first'", "second", "above")

    def test_a_fault_is_told_where_it_arose(self) -> None:
        steps = [self.step(set={"mode": "bad"}), {"name": "turn", "op": "invert", "in": {"from": "pull"}}]
        error = self.assert_refused(lambda: run(steps, {"moth": rgba()}, "turn"))
        self.assertTrue(error.where.startswith("step 'pull'"))

    def test_a_file_that_is_no_recipe(self) -> None:
        path = self.folder() / "recipe.json"
        self.assert_refused(lambda: load_recipe(path), "recipe.json", "no such file")
        path.write_text("{nexal: 1}")
        self.assert_refused(lambda: load_recipe(path), "is not JSON", "line 1")
        path.write_bytes(b"\xff\xfe\x00")
        self.assert_refused(lambda: load_recipe(path), "recipe.json")

    def test_a_recipe_survives_the_way_through_json(self) -> None:
        data = recipe(
            [self.step(set={"mode": "add"}, note="by hand")], outputs={"o": {"from": "pull", "file": "o.exr"}}
        )
        self.assertEqual(parse_recipe(json.loads(json.dumps(parse_recipe(data).as_json()))).as_json(), data)


class Numbered(CoreTest):
    def test_patterns(self) -> None:
        self.assertEqual(numbered_file("shots/moth_green.%04d.exr", 7), "shots/moth_green.0007.exr")
        self.assertEqual(numbered_file("moth.####.exr", 12), "moth.0012.exr")
        self.assertEqual(numbered_file("moth.exr", 12), "moth.exr")
        self.assertEqual(numbered_file("moth.%10d.exr", 12), "moth.0000000012.exr")

    def test_names_that_no_disk_takes_are_refused_before_they_are_made(self) -> None:
        names = ["%0999999999d.exr", "%" + "9" * 5000 + "d", "#" * 11, "a" * 201, "a/" * 500, "a\nb.exr", "\ud800.exr"]
        for name in names:
            for data in (
                {"nexal": 1, "sources": {"m": {"files": name}}},
                {"nexal": 1, "outputs": {"o": {"from": "m", "file": name}}},
            ):
                with self.subTest(name[:20]), self.assertRaises(NexalError):
                    parse_recipe(data)

    def test_what_is_filled_in_leaves_a_name_that_a_disk_takes(self) -> None:
        name = worded_file("{shot}_{name}.exr", {"shot": "a" * 190, "name": "b" * 60})
        self.assertEqual((len(name), name[-4:]), (200, ".exr"))

    def test_frames_on_disk_that_all_sources_have(self) -> None:
        folder = self.folder()
        for number in (1, 2, 3, 5):
            (folder / f"a.{number:04d}.exr").touch()
        for number in (2, 3, 4, 5):
            (folder / f"b_{number:03d}.png").touch()
        files = {"a": str(folder / "a.%04d.exr"), "b": str(folder / "b_###.png"), "still": "c.png"}
        specs = {name: SourceSpec() for name in files}
        self.assertEqual(frames_of(files, specs), [2, 3, 4, 5])
        moved = specs | {"b": SourceSpec(offset=2), "a": SourceSpec(last=4)}
        self.assertEqual(frames_of(files, moved), [4])
        self.assertEqual(frames_of({"still": "c.png"}, specs), [1])
        for own in ({"a": SourceSpec(last=1)}, {"a": SourceSpec(first=4, last=4)}, {"b": SourceSpec(offset=9)}):
            with self.subTest(own), self.assertRaises(NexalError):
                frames_of(files, specs | own)
        with self.assertRaises(NexalError):
            frames_of({"a": str(folder / "none.%04d.exr")}, specs)

    def test_only_numbers_that_a_pattern_itself_would_write_are_its_frames(self) -> None:
        names = ["a.0001.x", "a.12345.x", "a.00012.x", "a.-003.x", "a.12.x", "a.0007.y", "b.0001.x", "a.0001.x.part"]
        self.assertEqual(numbers_in("a.%04d.x", names), (-3, 1, 12345))
        self.assertEqual(numbers_in("a.%d.x", names), (12, 12345))
        self.assertEqual(numbers_in("s##/a#.x", ["s01/a1.x", "s02/a1.x"]), ())


class Windows(CoreTest):
    def test_scaled_windows_hold_every_block_they_touch(self) -> None:
        from fractions import Fraction

        self.assertEqual(Window(3, -3, 5, 7).scaled(Fraction(1, 2)), Window(1, -2, 3, 4))
        self.assertEqual(Window(0, 0, 1920, 1081).scaled(Fraction(1, 8)), Window(0, 0, 240, 136))

    def test_intersection_and_union(self) -> None:
        a, b = Window(0, 0, 4, 4), Window(2, 3, 5, 5)
        self.assertEqual(a.intersect(b), Window(2, 3, 2, 1))
        self.assertEqual(a.union(b), Window(0, 0, 7, 8))
        self.assertTrue(a.intersect(Window(9, 9, 1, 1)).empty)

    def test_a_source_of_one_channel_feeds_a_plane_port(self) -> None:
        grey = MemorySource({"Y": rgb()["R"]}, data=["Y"])
        step = {"name": "t", "op": "threshold", "in": {"from": "g"}}
        self.assertEqual(list(run([step], {"g": grey}).planes), ["Y"])


class Renaming(CoreTest):
    """Names of items in every place of a step that can hold them."""

    SETTINGS: ClassVar[dict[str, dict[str, Any]]] = {
        "route": {"to": {"R": {"from": "old.G"}, "mask": {"from": "old"}, "from": {"value": 1}}},
        "ink_split": {"profile": {"from": "old"}},
        "ink_join": {"profile": {"from": "old"}},
        "bay": {"layers": [{"from": "old.R", "mask": "old.A"}, {"value": 1, "mask": "older"}]},
        "sum_passes": {"passes": [{"stops": 1}, {"times": "old.albedo"}]},
    }

    def test_every_operation_whose_settings_hold_addresses_is_tried(self) -> None:
        holding = {
            name for name, operation in catalogue().items() if type(operation).references is not Operation.references
        }
        self.assertEqual(holding, set(self.SETTINGS))

    def test_ports_and_settings_get_the_new_name_and_nothing_else_does(self) -> None:
        for op, settings in self.SETTINGS.items():
            with self.subTest(op):
                step = {"name": "old", "op": op, "in": {"a": "old.R", "b": ["older", "old"]}, "set": settings}
                now = readdressed(step, {"old": "new"})
                self.assertEqual(now["in"], {"a": "new.R", "b": ["older", "new"]})
                self.assertEqual((now["name"], now["op"]), ("old", op))
                operation = find(op)
                before, after = (operation.references(parse_settings(operation, each["set"])) for each in (step, now))
                self.assertEqual(after, {key: renamed_address(at, {"old": "new"}) for key, at in before.items()})
                self.assertNotEqual(after, before)
                self.assertEqual(readdressed(now, {"new": "old"}), step)


if __name__ == "__main__":
    unittest.main()
