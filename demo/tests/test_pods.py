"""Drifting pods in every state: what each is told to be, and what the cure gives back."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import ClassVar
from unittest import mock

import numpy as np

from demo.night import generate
from demo.night.pods import Pods, make_pods
from demo.night.states import State, mixed, plan_of, states
from demo.recipes import SHOTS
from nexal.analysis.diagnose import diagnose
from nexal.analysis.run import diagnose_file
from nexal.engine import Engine, Plan
from nexal.recipe import parse_recipe
from nexal.session import Session

BACKDROPS = ((0.0, 0.0, 0.0), (1.0, 1.0, 1.0), (0.9, 0.05, 0.4))


class PodsTest(unittest.TestCase):
    pods: ClassVar[Pods]

    @classmethod
    def setUpClass(cls) -> None:
        cls.pods = make_pods(640, 360)


class Drawn(PodsTest):
    def test_edges_are_soft_and_colour_is_straight(self) -> None:
        alpha = self.pods.alpha
        self.assertGreater(float(((alpha > 0.03) & (alpha < 0.97)).mean()), 0.1)
        self.assertEqual(float(np.abs(self.pods.colour[alpha == 0]).max()), 0)
        white = self.pods.over((1, 1, 1))
        np.testing.assert_allclose(white[alpha == 0], 1, atol=1e-6)


class Told(PodsTest):
    def test_every_state_backing_encoding_and_depth(self) -> None:
        count = 0
        for state in states(self.pods.colour, self.pods.alpha):
            count += 1
            with self.subTest(state.name):
                plan = plan_of(state)
                answer = diagnose(Engine(), plan, plan.feed("p"))
                self.assertEqual((answer["verdict"], answer["domain"]), (state.verdict, state.domain))
                np.testing.assert_allclose(answer["backing"], state.backing, atol=0.005)
                self.assertGreater(answer["confidence"], 0.5)
        self.assertEqual(count, 36)


class Cured(PodsTest):
    def cleared(self, state: State) -> dict[str, np.ndarray]:
        settings = {"colour": list(state.backing), "encoding": state.domain}
        plan = plan_of(state, {"name": "made", "op": "clear_backing", "in": {"picture": "p"}, "set": settings})
        return dict(Engine().evaluate(plan.feed("made"), plan).planes)

    def halo(self, colour: np.ndarray, alpha: np.ndarray) -> float:
        """Mean absolute error of the comp in the soft band, over black, white and a saturated colour."""
        soft = (self.pods.alpha > 0.03) & (self.pods.alpha < 0.97)
        true = self.pods.premultiplied
        gaps = []
        for backdrop in BACKDROPS:
            back = np.array(backdrop, np.float32)
            made = colour * alpha[..., None] + back * (1 - alpha[..., None])
            gaps.append(np.abs(made - true - back * (1 - self.pods.alpha[..., None]))[soft].mean())
        return float(np.mean(gaps))

    def test_straight_colour_comes_back_and_the_halo_goes(self) -> None:
        for state in states(self.pods.colour, self.pods.alpha):
            if state.verdict != "matted":
                continue
            with self.subTest(state.name):
                made = self.cleared(state)
                colour = np.stack([made[name] for name in "RGB"], axis=-1)
                seen = self.pods.alpha > 0.1
                gap = np.abs(colour - self.pods.colour)[seen]
                if state.name.endswith("float"):
                    self.assertLess(float(gap.max()), 2e-3)
                    # At least twenty times less than when the file is taken for straight.
                    before, after = self.halo(state.colour, state.alpha), self.halo(colour, made["A"])
                    self.assertLess(20 * after, before)
                elif state.name.endswith("8 bit") and state.domain == "display":
                    # One code value of what was mixed, times 1 / alpha for the part that alpha had of it.
                    from nexal.kernels.pointmath import encode

                    share = self.pods.alpha[seen][..., None]
                    codes = np.abs(encode(colour) - encode(self.pods.colour))[seen] * share * 255
                    self.assertLess(float(np.percentile(codes, 99)), 1.5)


class Files(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.folder = Path(place.name)
        with mock.patch("demo.night.pods.make_pods", return_value=make_pods(640, 360)):
            generate.write_pods(cls.folder)

    def test_each_file_is_told_for_what_it_is(self) -> None:
        cases = {
            "pods_straight.exr": ("straight", None, "premultiplied"),
            "pods_premultiplied.exr": ("premultiplied", "scene", "premultiplied"),
            "pods_teal.exr": ("matted", "scene", "premultiplied"),
            "pods_black.png": ("premultiplied", "display", "straight"),
            "pods_teal.png": ("matted", "display", "straight"),
            "pods_grey.png": ("matted", "display", "straight"),
        }
        for name, wanted in cases.items():
            with self.subTest(name):
                answer = diagnose_file(self.folder / name, None)
                self.assertEqual((answer["verdict"], answer["domain"], answer["claims"]), wanted)
        answer = diagnose_file(self.folder / "pods_picture.png", self.folder / "pods_alpha.png")
        self.assertEqual((answer["verdict"], answer["domain"], answer["claims"]), ("matted", "display", "none"))
        np.testing.assert_allclose(answer["backing"], 0.5, atol=0.005)

    def test_the_recipes_of_the_shots_cure_them(self) -> None:
        true = self.read("pods_true.exr")
        for shot, item in (("140 pods", "cleared"), ("145 pods in two files", "cleared")):
            with Session() as session, self.subTest(shot):
                recipe = parse_recipe(SHOTS[shot])
                here = {n: s for n, s in recipe.sources.items() if (self.folder / s.files).exists()}
                plan = Plan(recipe, 1, {n: session.open(self.folder / s.files, s) for n, s in here.items()})
                made = session.engine.evaluate(plan.feed(item), plan).planes
                seen = true["A"] > 0.5
                for name in "RGB":
                    self.assertLess(float(np.abs(made[name] - true[name])[seen].mean()), 0.004)

    def read(self, name: str) -> dict[str, np.ndarray]:
        with Session() as session:
            source = session.open(self.folder / name)
            plan = Plan(parse_recipe({"nexal": 1, "sources": {"p": {"files": name}}}), 1, {"p": source})
            return dict(session.engine.evaluate(plan.feed("p"), plan).planes)


class Mixing(unittest.TestCase):
    def test_a_pixel_by_hand(self) -> None:
        colour, alpha = np.full((1, 1, 3), 0.5, np.float32), np.full((1, 1), 0.25, np.float32)
        self.assertAlmostEqual(float(mixed(colour, alpha, (1, 0, 0), "scene")[0, 0, 0]), 0.125 + 0.75, 6)
        encoded = 1.055 * 0.5 ** (1 / 2.4) - 0.055
        back = ((encoded * 0.25 + 0.75 * 0.2 + 0.055) / 1.055) ** 2.4
        self.assertAlmostEqual(float(mixed(colour, alpha, (0.2, 0, 0), "display")[0, 0, 0]), back, 5)
