"""The tea tin: its files, and what the demo's recipe makes of them."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import cv2
import numpy as np

from demo.night.generate import write_tin
from demo.night.tin import RIM, SIZE, SMALL
from demo.recipes import SHOTS
from nexal.analysis.advice import advise
from nexal.analysis.proof import checked_target, proof
from nexal.engine import Plan
from nexal.recipe import parse_recipe
from nexal.session import Session

NAME = "200 tea tin"


class Tin(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory(prefix="nexal-tin-")))
        write_tin(cls.folder)

    def file(self, name: str) -> np.ndarray:
        return cv2.imread(str(self.folder / name), cv2.IMREAD_UNCHANGED)

    def test_files_come_in_the_depths_and_sizes_that_textures_come_in(self) -> None:
        for name, shape, kind in (
            ("tin_base.png", (SIZE, SIZE, 3), np.uint8),
            ("tin_template.png", (SIZE, SIZE, 3), np.uint16),
            ("tin_occlusion.png", (SIZE, SIZE), np.uint8),
            ("tin_metal.png", (SMALL, SMALL), np.uint16),
            ("emblem.png", (SMALL, SMALL, 4), np.uint8),
        ):
            with self.subTest(name):
                found = self.file(name)
                self.assertEqual((found.shape, found.dtype), (shape, kind))

    def test_the_seam_does_not_show_and_the_rims_are_metal(self) -> None:
        metal = self.file("tin_metal.png") / 65535
        rim = int(SMALL * RIM) - 8
        self.assertGreater(float(metal[:rim].min()), 0.99)
        self.assertGreater(float(metal[-rim:].min()), 0.99)
        rough = self.file("tin_template.png")[..., 1] / 65535
        across = np.abs(rough[:, 0] - rough[:, -1])
        beside = np.abs(rough[:, 1] - rough[:, 0])
        self.assertLess(float(np.median(across)), 4 * float(np.median(beside)) + 0.01)

    def test_the_emblem_is_soft_and_worn_places_are_few(self) -> None:
        alpha = self.file("emblem.png")[..., 3]
        self.assertGreater(int(((alpha > 20) & (alpha < 235)).sum()), 5_000)
        self.assertGreater(float((alpha == 255).mean()), 0.03)
        metal = self.file("tin_metal.png")[SMALL // 8 : -SMALL // 8] / 65535
        self.assertTrue(0.02 < float((metal > 0.5).mean()) < 0.3)

    def test_the_recipe_runs_without_a_fault_and_proves_itself(self) -> None:
        recipe = parse_recipe(SHOTS[NAME])
        files = {name: str(self.folder / spec.files) for name, spec in recipe.sources.items()}
        with Session() as session:
            plan = Plan(recipe, 1, session.readers(recipe, files, 1, recipe.sources))
            for item in ("tin_orm", "tin_mrc", "roughness", "metallic", "occlusion", "coat"):
                faults = [row for row in advise(session.engine, plan, item) if row["remedy"]]
                self.assertEqual(faults, [], item)
            feed = plan.feed("tin_orm")
            rows = proof(session.engine, plan, feed, checked_target(feed, {"depth": "8"}))
            self.assertEqual([row["clipped"] for row in rows], [0, 0, 0])
            self.assertLess(max(row["largest"] for row in rows), 0.501)
            # The template's own detail is still in the roughness where nothing is laid in.
            rough = session.engine.evaluate(plan.feed("roughness"), plan).planes["Y"]
            detail = self.file("tin_template.png")[..., 1] / 65535
            metal = cv2.resize(self.file("tin_metal.png"), (SIZE, SIZE), interpolation=cv2.INTER_NEAREST)
            emblem = cv2.resize(self.file("emblem.png")[..., 3], (SIZE, SIZE), interpolation=cv2.INTER_NEAREST)
            element = np.ones((25, 25), np.uint8)
            free = (cv2.dilate(metal, element) == 0) & (cv2.dilate(emblem, element) == 0)
            self.assertGreater(float(free.mean()), 0.15)
            self.assertLess(float(np.abs(rough - detail)[free].max()), 1e-4)
            self.assertGreater(float(detail[free].std()), 0.03)


if __name__ == "__main__":
    unittest.main()
