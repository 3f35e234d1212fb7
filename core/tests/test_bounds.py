"""One rule for what is not finite: endless light is as the brightest half float, no number is nothing."""

from __future__ import annotations

import json
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, gradient, plan_of

import nexal
from nexal.analysis.audit import audit
from nexal.analysis.diagnose import diagnose
from nexal.analysis.scout import scout
from nexal.analysis.screens import screen_facts
from nexal.engine import Engine
from nexal.kernels.bounds import MOST_LIGHT, bounded, covering, share
from nexal.picture import Alpha, Window


def render(bright: float, none: float) -> MemorySource:
    """Two lights and their sum, with a soft alpha; in one place both are as bright as can be, in another nothing."""
    alpha = np.clip(gradient(96, 64, 3) * 2 - 0.4, 0, 1).astype(np.float32)
    planes: dict[str, Any] = {}
    for index, name in enumerate("RGB"):
        key, fill = (gradient(96, 64, 5 + index + 9 * light) * alpha for light in (0, 1))
        for light in (key, fill):
            light[20:23, 30:36] = bright
            light[50:52, 70:75] = none
        planes |= {f"key.{name}": key, f"fill.{name}": fill, name: np.minimum(key + fill, bright)}
    return MemorySource(planes | {"A": alpha}, alpha=Alpha.PREMULTIPLIED)


class Rule(unittest.TestCase):
    def test_each_kind_of_value_is_held_in_its_way(self) -> None:
        values = np.array([np.nan, np.inf, -np.inf, 1e9, -1e9, 0.5, -0.25, 3], np.float32)
        most = float(MOST_LIGHT)
        np.testing.assert_array_equal(bounded(values), [0, most, -most, most, -most, 0.5, -0.25, 3])
        np.testing.assert_array_equal(covering(values), np.float32([0, 1, 0, 1e9, -1e9, 0.5, -0.25, 3]))
        np.testing.assert_array_equal(share(values), [0, 1, 0, 1, 0, 0.5, 0, 1])
        self.assertTrue(np.isnan(values[0]), "what was given stays as it was")

    def test_no_other_module_has_a_rule_of_its_own(self) -> None:
        core = Path(nexal.__file__).parent
        own = [
            str(path.relative_to(core))
            for path in core.rglob("*.py")
            if "nan_to_num" in path.read_text(encoding="utf-8") and path.name != "bounds.py"
        ]
        # A distance that is no number is no place at all: no light, and the furthest instead of nothing.
        self.assertEqual(own, ["analysis/space_checks.py"])


class Analyses(CoreTest):
    def both(self, ask: Callable[[Engine, Any], Any]) -> None:
        answers = []
        for bright, none in ((float(MOST_LIGHT), 0.0), (np.inf, np.nan)):
            plan = plan_of([], {"p": render(bright, none)})
            answers.append(json.dumps(ask(Engine(), plan), sort_keys=True, default=str))
        self.assertEqual(answers[0], answers[1])

    def test_each_answers_as_if_endless_light_were_the_brightest(self) -> None:
        marks = {"subject": [Window(10, 10, 9, 9)], "background": [Window(80, 40, 9, 9)]}
        questions: dict[str, Callable[[Engine, Any], Any]] = {
            "diagnose": lambda engine, plan: diagnose(engine, plan, plan.feed("p")),
            "audit": lambda engine, plan: audit(engine, plan, plan.feed("p"), "RGB"),
            "scout": lambda engine, plan: scout(engine, plan, plan.feed("p"), marks["subject"], marks["background"]),
            "screen": lambda engine, plan: screen_facts(engine, plan, plan.feed("p")),
        }
        for name, ask in questions.items():
            with self.subTest(name):
                self.both(ask)


if __name__ == "__main__":
    unittest.main()
