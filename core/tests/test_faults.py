"""What is wrong in a recipe is told all at once, each fault with its place and a remedy that helps."""

from __future__ import annotations

import contextlib
import io
import json
import unittest
from typing import Any

from core_support import CoreTest, MemorySource, gradient, rgb, write_exr

from nexal.cli import main
from nexal.engine import Plan
from nexal.errors import NexalError
from nexal.operations import catalogue, find, parse_settings
from nexal.recipe import parse_recipe


def told(work: Any) -> list[str]:
    try:
        work()
    except NexalError as error:
        return [str(each) for each in (error, *error.also)]
    raise AssertionError("nothing was refused")


class Faults(CoreTest):
    def assert_told(self, lines: list[str], *wanted: tuple[str, str]) -> None:
        """Each line has its place and its remedy, in order."""
        self.assertEqual(len(lines), len(wanted), lines)
        for line, (place, remedy) in zip(lines, wanted, strict=True):
            self.assertIn(place, line)
            self.assertTrue(line.endswith(remedy), f"{line!r} does not end in {remedy!r}")

    def test_every_fault_of_a_recipe_s_form(self) -> None:
        recipe = {
            "nexal": 1,
            "sorces": {},
            "steps": [{"name": "a", "op": "blur", "inn": {}}, {"name": "A!", "op": 3}, {"op": "x"}],
            "outputs": {"o": {"from": "a", "fle": "x", "depth": 12}},
        }
        lines = told(lambda: parse_recipe(recipe))
        for place, remedy in (
            ("recipe, 'sorces'", "did you mean sources"),
            ("step 'a', 'inn'", "did you mean in"),
            ("step 'A!', 'op'", "give text in quotes"),
            ("step 'number 3', 'name'", "add it"),
            ("output 'o', 'fle'", "did you mean file"),
            ("output 'o', 'file'", "add it"),
            ("output 'o', 'depth'", "'16'"),
        ):
            self.assertTrue(any(place in line and remedy in line for line in lines), f"{place}: {remedy} in {lines}")

    def test_every_fault_of_a_step_s_settings(self) -> None:
        rows: list[tuple[str, dict[str, Any], list[tuple[str, str]]]] = [
            (
                "blur",
                {"radius": -3, "radios": 4, "filter": "x"},
                [
                    ("'radius'", "give 0.0 or more"),
                    ("'filter'", "use 'gaussian' or 'box'"),
                    ("has no setting 'radios'", "did you mean radius"),
                ],
            ),
            ("shape", {"paths": [{"pionts": [[1, 2]]}]}, [("'paths.1.pionts'", "did you mean points")]),
            ("route", {"to": {"x": {"form": "p.R"}}}, [("'to.x.form'", "did you mean from")]),
            ("touch_up", {"strokes": [{"points": [[1, 2]]}]}, [("'strokes.1.radius': is missing", "add it")]),
            (
                "noise",
                {"octaves": 1.5, "seed": "no"},
                [("'seed'", "give a whole number"), ("'octaves'", "give a whole number")],
            ),
            ("constant", {"colour": [1, 2]}, [("one, three or four", "[0.0, 0.0, 0.0]")]),
            ("bay", {"base": float("nan")}, [("'base'", "give a number that is finite")]),
        ]
        for op, values, wanted in rows:
            with self.subTest(op=op):
                self.assert_told(told(lambda: parse_settings(find(op), values)), *wanted)  # noqa: B023

    def test_no_operation_suggests_what_it_refuses(self) -> None:
        for name, operation in catalogue().items():
            if not operation.Settings.model_fields:
                continue
            (line,) = told(lambda: parse_settings(operation, {"nothing_of_the_kind": 1}))  # noqa: B023
            self.assertNotIn("nothing_of_the_kind", line.rpartition(";")[2], name)
            self.assertRegex(line, "there is |did you mean ", name)

    def test_the_command_line_tells_of_all_steps_at_once(self) -> None:
        folder = self.folder()
        write_exr(folder / "p.exr", {"R": gradient(8, 8)})
        recipe = {
            "nexal": 1,
            "sources": {"p": {"files": "p.exr"}},
            "steps": [
                {"name": "one", "op": "blur", "in": {"from": "p"}, "set": {"radius": -1}},
                {"name": "two", "op": "blurr", "in": {"from": "p"}},
                {"name": "other", "op": "nothing", "in": {}},
                {"name": "sum", "op": "route", "set": {"to": {"R": {"from": "one"}, "G": {"from": "two"}}}},
            ],
            "outputs": {"o": {"from": "sum", "file": "o.exr"}, "q": {"from": "p.Q", "file": "q.exr"}},
        }
        (folder / "r.json").write_text(json.dumps(recipe))
        with contextlib.redirect_stderr(io.StringIO()) as heard:
            self.assertEqual(main(["run", str(folder / "r.json"), "--out", str(folder / "out")]), 2)
        lines = heard.getvalue().splitlines()
        self.assertEqual(len(lines), 3, lines)
        for line, word in zip(lines, ("step 'one'", "step 'two'", "output 'q'"), strict=True):
            self.assertTrue(line.startswith(f"nexal: {word}"), line)
        self.assertFalse((folder / "out").exists())

    def test_a_step_tells_of_all_its_settings_in_the_plan(self) -> None:
        step = {"name": "b", "op": "blur", "in": {"from": "p"}, "set": {"radius": -3, "filter": "x"}}
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": [step]})
        lines = told(lambda: Plan(recipe, 1, {"p": MemorySource(rgb())}).node("b"))
        self.assertEqual([line.startswith("step 'b'") for line in lines], [True, True])


if __name__ == "__main__":
    unittest.main()
