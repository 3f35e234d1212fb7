"""Mattes put to the proof: colour freed of the screen, the shot rebuilt, and the chain that one builds by hand."""

from __future__ import annotations

import unittest
from functools import cache
from typing import Any

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, one, run
from screen_scenes import NOISE, Array, Shot, filmed, subject_of

from nexal.analysis.matte_checks import _knows_itself, check_matte
from nexal.analysis.rebuilding import rebuilding, rebuilt
from nexal.analysis.screens import whole_matte
from nexal.engine import Engine, Plan
from nexal.picture import Plane
from nexal.recipe import parse_recipe

SCENES = [("veil", "blue"), ("thrown", "blue"), ("head", "green")]


@cache
def scene(name: str, screen: str) -> Shot:
    return filmed(name, screen)


@cache
def chain(name: str, screen: str) -> dict[str, dict[str, Plane]]:
    """What each step of the whole matte makes, and its colour without the spill taken out."""
    steps = whole_matte("p")
    plain = next(step for step in steps if step["name"] == "cut")
    ports = {port: address for port, address in plain["in"].items() if port != "spill"}
    steps.append({"name": "with_spill", "op": "recover_colour", "in": ports})
    source = MemorySource(dict(zip("RGB", scene(name, screen).shot, strict=True)))
    return {step["name"]: dict(run(steps, {"p": source}, step["name"]).planes) for step in steps}


def colour(planes: dict[str, Plane]) -> Array:
    return np.stack([planes[name] for name in "RGB"])


class Colour(CoreTest):
    def test_over_its_own_screen_the_shot_is_given_back(self) -> None:
        for name, screen in SCENES:
            made, found = scene(name, screen), chain(name, screen)
            alpha, plate = found["matte"]["Y"], colour(found["plate"])
            sigma = np.sqrt(NOISE[0] + NOISE[1] * np.maximum(made.shot, 0))
            comp = alpha * colour(found["with_spill"]) + (1 - alpha) * plate
            # With the light that was taken out laid on again.
            clean = alpha * colour(found["cut"]) + (1 - alpha + found["spill"]["Y"]) * plate
            for rebuilt_shot in (comp, clean):
                off = np.abs(rebuilt_shot - made.shot) / sigma
                self.assertLess(float(off.mean()), 1, (name, screen))
                self.assertLess(float(off[:, made.alpha > 0.02].mean()), 0.5, (name, screen))

    def test_without_the_spill_it_is_nearer_to_the_subject_and_never_further(self) -> None:
        before, after = [], []
        for name, screen in SCENES:
            found, truth = chain(name, screen), subject_of(name)
            alpha, seen = found["matte"]["Y"], scene(name, screen).alpha > 0.02
            for step, rows in (("with_spill", before), ("cut", after)):
                rows.append(float(np.abs(alpha * colour(found[step]) - truth)[:, seen].mean()))
            self.assertLess(after[-1], 1.02 * before[-1], (name, screen))
        self.assertLess(np.mean(after), 0.97 * np.mean(before))

    def test_spill_is_a_share_of_a_plate(self) -> None:
        planes = {"p": MemorySource({name: np.full((20, 20), 0.5, np.float32) for name in "RGB"})}
        planes["m"] = MemorySource({"Y": np.full((20, 20), 0.5, np.float32)}, data=["Y"])
        ports = {"picture": "p", "matte": "m.Y", "spill": "m.Y"}
        self.assert_refused(lambda: one("recover_colour", ports, planes), "spill", "clean")


class Advice(CoreTest):
    def test_greys_are_judged_where_nothing_tells_veils_from_solids(self) -> None:
        """A hard core offered for lace would be a remedy that harms: a whole matte knows its veils, a pull does not."""
        made = scene("veil", "blue")
        source = {"p": MemorySource(dict(zip("RGB", made.shot, strict=True)))}
        steps = [
            *whole_matte("p"),
            {"name": "off", "op": "invert", "in": {"from": "matte"}, "on": False},
            {"name": "again", "op": "attach_alpha", "in": {"picture": "p", "alpha": "off"}},
            {"name": "pull", "op": "screen_pull", "in": {"picture": "p", "clean": "plate"}, "set": {"screen": "blue"}},
            {"name": "other", "op": "recover_colour", "in": {"picture": "p", "matte": "pull"}},
            {"name": "hard", "op": "threshold", "in": {"from": "matte"}},
        ]
        plan = Plan(parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": steps}), 1, source)
        for address in ("matte", "cut.A", "off", "again.A"):
            self.assertTrue(_knows_itself(plan.feed(address)), address)
        for address in ("pull", "other.A", "hard", "p.R", "cut.R"):
            self.assertFalse(_knows_itself(plan.feed(address)), address)
        engine = Engine()
        for item in ("matte", "cut"):
            engine.evaluate(plan.feed(item), plan)
            self.assertEqual(check_matte(engine, plan, item), [], item)


class Proof(CoreTest):
    def plan(self, alpha: Plane | None, name: str = "head", screen: str = "green", **more: Any) -> Plan:
        """A matte that is given, or solved, of a scene."""
        sources = {"p": MemorySource(dict(zip("RGB", scene(name, screen).shot, strict=True)))}
        ports = {"picture": "p"}
        if alpha is not None:
            sources["given"] = MemorySource({"Y": alpha}, data=["Y"])
            sides = {"keep": "given", "drop": "out"}
            steps = [{"name": "out", "op": "invert", "in": {"from": "given"}}]
        else:
            sides, steps = {}, []
        steps.append({"name": "matte", "op": "screen_solve", "in": ports | sides, "set": more})
        files = {source: {"files": source} for source in sources}
        return Plan(parse_recipe({"nexal": 1, "sources": files, "steps": steps}), 1, sources)

    def test_what_is_wrong_shows_and_what_is_right_does_not(self) -> None:
        truth = scene("head", "green").alpha
        clouds = cv2.GaussianBlur(np.random.default_rng(0).standard_normal(truth.shape).astype(np.float32), (0, 0), 5)
        clouds /= clouds.std()
        blotched = np.clip(truth + 0.25 * (clouds > 1.3) - 0.25 * (clouds < -1.3), 0, 1).astype(np.float32)
        good, bad = (rebuilt(Engine(), self.plan(alpha), "matte") for alpha in (truth, blotched))
        self.assertLess(good["share"], 0.01)
        self.assertLess(good["mean"], 1)
        self.assertGreater(bad["share"], 3 * good["share"])
        self.assertGreater(bad["worst"], good["worst"])

    def test_beside_the_chain_by_hand(self) -> None:
        name, screen = "thrown", "blue"
        plan = self.plan(None, name, screen)
        found = rebuilt(Engine(), plan, "matte")
        hand = found["by_hand"]
        self.assertEqual([step["op"] for step in hand["steps"]], ["denoise", "screen_plate", "screen_pull"])
        posts = hand["steps"][-1]["set"]
        self.assertEqual(posts["screen"], screen)
        self.assertLess(0, posts["black"] + 0.05)
        self.assertLess(posts["black"], posts["white"])
        # It differs where it is wrong.
        steps = [{"name": "matte", "op": "screen_solve", "in": {"picture": "p"}}, *hand["steps"]]
        source = {"p": MemorySource(dict(zip("RGB", scene(name, screen).shot, strict=True)))}
        truth = scene(name, screen).alpha
        own, other = (run(steps, source, item).planes["Y"] for item in ("matte", "by_hand"))
        self.assertAlmostEqual(hand["share"], float((np.abs(own - other) > 0.1).mean()), places=5)
        self.assertLess(np.abs(own - truth).mean(), np.abs(other - truth).mean())

    def test_what_cannot_be_proved_is_said(self) -> None:
        recipe = {"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": []}
        source = {"p": MemorySource(dict(zip("RGB", scene("head", "green").shot, strict=True)))}
        steps = [
            {"name": "grey", "op": "weigh", "in": {"from": "p"}},
            {"name": "matte", "op": "mark_solve", "in": {"picture": "p", "keep": "grey", "drop": "grey"}},
        ]
        plan = Plan(parse_recipe(recipe | {"steps": steps}), 1, source)
        self.assert_refused(lambda: rebuilding(plan, "matte"), "behind its subject", "clean")
        self.assert_refused(lambda: rebuilding(plan, "grey"), "no matte of a picture")
        self.assert_refused(lambda: rebuilding(plan, "p"), "no matte of a picture")

    def test_the_step_counts_in_units_of_noise(self) -> None:
        flat = np.full((200, 300), 0.25, np.float32)
        sigma = 0.01
        random = np.random.default_rng(4)
        seen = {name: (flat + sigma * random.standard_normal(flat.shape)).astype(np.float32) for name in "RGB"}
        off = {name: flat + np.float32(5 * sigma) for name in "RGB"}
        sources = {"p": MemorySource(seen), "same": MemorySource(dict.fromkeys("RGB", flat)), "off": MemorySource(off)}
        near = one("noise_residual", {"picture": "p", "rebuilt": "same"}, sources).planes["Y"]
        far = one("noise_residual", {"picture": "p", "rebuilt": "off"}, sources).planes["Y"]
        self.assertAlmostEqual(float(np.sqrt((near**2).mean())), 1, delta=0.25)
        self.assertAlmostEqual(float(np.sqrt((far**2).mean())), np.sqrt(26), delta=1.2)


if __name__ == "__main__":
    unittest.main()
