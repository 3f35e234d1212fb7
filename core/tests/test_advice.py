"""Advice that helps: remedies on known truth, quiet where greys are meant, helpers that say what they did."""

from __future__ import annotations

import unittest
from typing import Any
from unittest import mock

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, run
from hypothesis import given
from hypothesis import strategies as st
from patience import trials

from nexal.analysis.advice import advise
from nexal.engine import Engine, Plan
from nexal.errors import Cancelled
from nexal.picture import Plane
from nexal.recipe import parse_recipe

SIZE = (180, 260)
JUDGED = ("grey_core", "background")


def truth(random: np.random.Generator, softness: float, hairs: int, veil: float = 0.0) -> Plane:
    """A soft-edged body with hairs, drawn at four times the size, and a veil beside it."""
    height, width = SIZE
    y, x = np.mgrid[0:height, 0:width]
    body = np.clip((55 - np.hypot(x - 120, y - 95)) / max(softness, 0.5) + 0.5, 0, 1)
    strands = np.zeros((height * 4, width * 4), np.float32)
    for _ in range(hairs):
        turn = random.random() * 6.28
        direction = np.array([np.cos(turn), np.sin(turn)])
        points = [np.array([480.0, 380.0]) + 200 * direction]
        for _ in range(12):
            direction = direction + random.normal(0, 0.2, 2)
            direction /= np.linalg.norm(direction)
            points.append(points[-1] + direction * 12)
        cv2.polylines(strands, [np.array(points, np.int32)], False, 1.0, int(random.integers(2, 6)), cv2.LINE_AA)
    alpha = np.maximum(body, cv2.resize(strands, (width, height), interpolation=cv2.INTER_AREA))
    if veil:
        cloth = np.clip((30 - np.abs(x - 215)) / 8, 0, 1) * np.clip((80 - np.abs(y - 90)) / 8, 0, 1)
        alpha = np.maximum(alpha, veil * cloth)
    return alpha.astype(np.float32)


def haze(random: np.random.Generator, low: float, high: float) -> Plane:
    """What an uneven screen leaves, from `low` to `high`."""
    coarse = random.random((5, 7)).astype(np.float32)
    smooth = np.clip(cv2.resize(coarse, SIZE[::-1], interpolation=cv2.INTER_CUBIC), 0, 1)
    return low + (high - low) * smooth


def told(plane: Plane, *more: dict[str, Any], item: str = "m") -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """Steps and the advice about the last of them, or about `item`."""
    steps = [{"name": "m", "op": "clamp", "in": {"from": "p.M"}}, *more]
    recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": steps})
    return steps, advise(Engine(threads=2), Plan(recipe, 1, {"p": MemorySource({"M": plane})}), item)


def taken(plane: Plane, steps: list[dict[str, Any]], row: dict[str, Any], item: str) -> Plane:
    """The matte after a remedy of kind `insert` or `replace`."""
    remedy = row["remedy"]
    if remedy["kind"] == "replace":
        steps = [step | remedy["replace"] if step["name"] == item else step for step in steps]
    else:
        steps = [*steps, *remedy["steps"]]
    return run(steps, {"p": MemorySource({"M": plane})}, item if remedy["kind"] == "replace" else None).planes["Y"]


class RemediesOnKnownTruth(CoreTest):
    @trials(30)
    @given(
        seed=st.integers(0, 10_000),
        softness=st.sampled_from([1.0, 6.0, 25.0, 50.0]),
        hairs=st.sampled_from([0, 20, 120]),
        dirt=st.sampled_from([0.03, 0.1, 0.3, 0.45]),
        core=st.sampled_from([0.0, 0.05, 0.3]),
        inside_stretch=st.booleans(),
    )
    def test_what_is_offered_makes_the_matte_better(
        self, seed: int, softness: float, hairs: int, dirt: float, core: float, inside_stretch: bool
    ) -> None:
        random = np.random.default_rng(seed)
        true = truth(random, softness, hairs)
        seen = np.clip(true * (1 - haze(random, 0, core)) + (1 - true) * haze(random, 0, dirt), 0, 1)
        seen += random.normal(0, 0.003, SIZE).astype(np.float32)
        more = [{"name": "s", "op": "stretch", "in": {"from": "m"}, "set": {"middle": 0.45}}] if inside_stretch else []
        item = "s" if more else "m"
        steps, rows = told(seen.astype(np.float32), *more, item=item)
        before = run(steps, {"p": MemorySource({"M": seen.astype(np.float32)})}, item).planes["Y"]
        for row in rows:
            if row["code"] in JUDGED and row["remedy"]:
                after = taken(seen.astype(np.float32), steps, row, item)
                errors = [float(np.abs(plane - true).mean()) for plane in (before, after)]
                self.assertLess(errors[1], errors[0], f"{row['code']} {row['remedy']['label']} {seed}")
                self.assertIn("%", row["remedy"]["effect"])

    def test_dirt_that_only_a_deep_pull_would_clear_is_told_without_a_remedy(self) -> None:
        random = np.random.default_rng(1)
        true = truth(random, 50, 120)
        seen = true.copy()
        seen[5:45, 5:50] = 0.4 * random.random((40, 45)).astype(np.float32)
        _, rows = told(seen)
        (row,) = [row for row in rows if row["code"] == "background"]
        self.assertIsNone(row["remedy"])

    def test_a_faint_haze_has_one(self) -> None:
        random = np.random.default_rng(1)
        true = truth(random, 3, 10)
        _, rows = told(np.clip(true + (1 - true) * haze(random, 0.02, 0.06), 0, 1))
        (row,) = [row for row in rows if row["code"] == "background"]
        self.assertEqual(row["remedy"]["kind"], "insert")

    def test_in_a_stretch_its_own_posts_move(self) -> None:
        random = np.random.default_rng(2)
        true = truth(random, 2, 0)
        seen = (0.2 + 0.6 * np.clip(true * 0.95 + (1 - true) * haze(random, 0.06, 0.1), 0, 1)).astype(np.float32)
        posts = {"black": 0.2, "white": 0.8, "middle": 0.6}
        stretch = {"name": "s", "op": "stretch", "in": {"from": "m"}, "set": posts}
        steps, rows = told(seen, stretch, item="s")
        by_code = {row["code"]: row for row in rows}
        for code, post in (("background", "black"), ("grey_core", "white")):
            remedy = by_code[code]["remedy"]
            self.assertEqual(remedy["kind"], "replace")
            self.assertEqual(set(remedy["replace"]["set"]), {"black", "white", "middle"})
            self.assertNotEqual(remedy["replace"]["set"][post], posts[post])
            after = taken(seen, steps, by_code[code], "s")
            side = true < 0.001 if post == "black" else true > 0.999
            self.assertLess(float(np.abs(after - true)[side].max()), 0.02)


class QuietWhereGreysAreMeant(CoreTest):
    def codes(self, plane: Plane, *more: dict[str, Any], item: str = "m") -> set[str]:
        return {row["code"] for row in told(plane, *more, item=item)[1]} & {*JUDGED, "turned"}

    def test_veils(self) -> None:
        for value in (0.25, 0.4, 0.6, 0.8):
            self.assertEqual(self.codes(truth(np.random.default_rng(3), 2, 0, veil=value)), set(), value)

    def test_steps_that_are_soft_on_purpose_and_finished_stacks(self) -> None:
        plane = truth(np.random.default_rng(3), 2, 0)
        plane[60:90, 100:130] = np.linspace(0.55, 0.9, 30)
        self.assertIn("grey_core", self.codes(plane))
        blur = {"name": "b", "op": "blur", "in": {"from": "m"}, "set": {"radius": 0.1}}
        self.assertEqual(self.codes(plane, blur, item="b"), set())
        lifted = {"name": "p2", "op": "attach_alpha", "in": {"picture": "p", "alpha": "m"}}
        stack = {"name": "st", "op": "stack", "in": {"under": "p2", "over": "p2"}}
        self.assertIn("grey_core", self.codes(plane, lifted, item="p2"))
        self.assertEqual(self.codes(plane, lifted, stack, item="st"), set())


class EveryRemedyIsTried(CoreTest):
    def test_one_that_does_not_help_is_not_offered(self) -> None:
        # Turning it round is offered where that makes it the right way round ...
        plane = 1 - truth(np.random.default_rng(4), 2, 0)
        (row,) = [row for row in told(plane)[1] if row["code"] == "turned"]
        self.assertEqual(row["remedy"]["kind"], "insert")
        after = taken(plane, told(plane)[0], row, "m")
        self.assertGreater(float(after[95, 120]), 0.9)

    def test_a_source_may_be_called_as_a_remedy_s_step_is(self) -> None:
        plane = np.clip(truth(np.random.default_rng(1), 3, 0) + haze(np.random.default_rng(2), 0.03, 0.05), 0, 1)
        sources = {"p": MemorySource({"M": plane}), "clean": MemorySource({"M": plane})}
        recipe = parse_recipe(
            {
                "nexal": 1,
                "sources": {name: {"files": name} for name in sources},
                "steps": [{"name": "m", "op": "clamp", "in": {"from": "p.M"}}],
            }
        )
        rows = advise(Engine(threads=2), Plan(recipe, 1, sources), "m")
        self.assertEqual([row["remedy"]["kind"] for row in rows if row["code"] == "background"], ["insert"])

    def test_a_request_that_was_given_up_ends_with_its_trial(self) -> None:
        plane = 1 - truth(np.random.default_rng(4), 2, 0)
        with mock.patch("nexal.analysis.advice.tried", side_effect=Cancelled("gone")), self.assertRaises(Cancelled):
            told(plane)

    def test_names_that_are_taken_and_addresses_in_settings_are_followed(self) -> None:
        from nexal.analysis.trying import tried

        steps = [
            {"name": "hard", "op": "constant"},
            {"name": "b", "op": "bay", "set": {"layers": [{"from": "p.M", "mask": "hard"}]}},
        ]
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": steps})
        plan = Plan(recipe, 1, {"p": MemorySource({"M": truth(np.random.default_rng(1), 2, 0)})})
        inverted = {"name": "hard", "op": "invert", "in": {"from": "p.M"}}
        after, item = tried(plan, "b", {"kind": "instead", "steps": [inverted], "instead": "p.M"}) or (plan, "")
        self.assertEqual([step.name for step in after.recipe.steps], ["hard", "hard_2", "b"])
        self.assertEqual(after.recipe.steps[2].settings["layers"], [{"from": "hard_2", "mask": "hard"}])
        self.assertEqual(item, "b")
        self.assertIsNone(tried(plan, "b", {"kind": "read", "read": {"p": "data"}}))


class HelpersSayWhatTheyDid(CoreTest):
    def shot(self, seed: int) -> tuple[dict[str, Plane], Plane]:
        random = np.random.default_rng(seed)
        true = truth(random, 3, 60)
        planes = {}
        for name, front, back in (("R", 0.6, 0.1), ("G", 0.5, 0.4), ("B", 0.3, 0.15)):
            texture = cv2.resize(random.random((20, 28)).astype(np.float32), SIZE[::-1]) * 0.1
            light = true * (front + texture) + (1 - true) * back
            planes[name] = (light + random.normal(0, 0.004, SIZE)).astype(np.float32)
        return planes, true

    def run_on(
        self, planes: dict[str, Plane], matte: Plane, op: str, **values: Any
    ) -> tuple[Plane, list[dict[str, Any]]]:
        ports = {"picture": "p", "matte": "m.Y"} if op == "fine_edge" else {"matte": "m.Y"}
        steps = [{"name": "h", "op": op, "in": ports, "set": values}]
        given_sources = {"p": MemorySource(planes), "m": MemorySource({"Y": matte}, data=["Y"])}
        recipe = parse_recipe(
            {"nexal": 1, "sources": {name: {"files": name} for name in given_sources}, "steps": steps}
        )
        engine, plan = Engine(threads=2), Plan(recipe, 1, given_sources)
        result = engine.evaluate(plan.feed("h"), plan).planes["Y"]
        return result, advise(engine, plan, "h")

    def test_the_band_of_a_soft_matte_does_less_harm_than_a_fixed_one(self) -> None:
        planes, true = self.shot(5)
        noise = np.random.default_rng(1).normal(0, 0.01, SIZE).astype(np.float32)
        good = np.clip(true + np.where((true > 0) & (true < 1), noise, 0), 0, 1)
        for soft in (good, cv2.GaussianBlur(true, (0, 0), 1.5), cv2.GaussianBlur(true, (0, 0), 4)):
            fixed, _ = self.run_on(planes, soft, "fine_edge", band=12)
            auto, rows = self.run_on(planes, soft, "fine_edge", band="auto")
            errors = [float(np.abs(plane - true).mean()) for plane in (fixed, auto)]
            self.assertLess(errors[1], 0.93 * errors[0])
            (row,) = [row for row in rows if row["code"] == "changed"]
            self.assertRegex(row["text"], r"Changed \d+\.\d\d% of the pixels, coverage .* band \d+ px")
            self.assertIsNone(row["remedy"])

    def test_a_hard_matte_gets_the_usual_band(self) -> None:
        planes, true = self.shot(5)
        hard = (true > 0.5).astype(np.float32)
        auto, _ = self.run_on(planes, hard, "fine_edge", band="auto")
        fixed, _ = self.run_on(planes, hard, "fine_edge", band=12)
        np.testing.assert_array_equal(auto, fixed)

    def test_an_edge_that_the_picture_does_not_show_is_told(self) -> None:
        flat = {name: np.full(SIZE, 0.3, np.float32) for name in "RGB"}
        flat["R"][:, 200:] = 0.9
        matte = np.zeros(SIZE, np.float32)
        matte[40:140, 40:120] = 1
        _, rows = self.run_on(flat, matte, "fine_edge", band=12)
        self.assertIn("astray", {row["code"] for row in rows})
        planes, true = self.shot(5)
        _, rows = self.run_on(planes, true, "fine_edge", band="auto")
        self.assertNotIn("astray", {row["code"] for row in rows})

    def test_specks_go_and_pieces_of_hair_stay(self) -> None:
        true = np.zeros(SIZE, np.float32)
        true[60:120, 60:140] = 1
        true[20, 30:45] = true[30:42, 200] = 1
        seen = true.copy()
        seen[150:154, 20:24] = seen[10:12, 100:103] = 1
        seen[80:82, 80:83] = 0
        auto, rows = self.despeckled(seen, "auto")
        np.testing.assert_array_equal(auto[20, 30:45], 1)
        np.testing.assert_array_equal(auto[30:42, 200], 1)
        self.assertEqual(float(auto[10:12, 100:103].max()), 0)
        self.assertEqual(float(auto[80:82, 80:83].min()), 1)
        usual, _ = self.despeckled(seen, 20.0)
        self.assertLess(float(np.abs(auto - true).mean()), float(np.abs(usual - true).mean()))
        (row,) = rows
        self.assertIn("1 specks gone", row["text"])
        self.assertIn("1 holes filled", row["text"])

    def despeckled(self, matte: Plane, size: Any) -> tuple[Plane, list[dict[str, Any]]]:
        return self.run_on(dict.fromkeys("RGB", matte), matte, "despeckle", islands=size, holes=size)


if __name__ == "__main__":
    unittest.main()
