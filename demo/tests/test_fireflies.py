"""The fireflies: light over the glasshouse that its depth does not know."""

from __future__ import annotations

import unittest

import numpy as np

from demo.night.fireflies import COUNT, make_fireflies
from demo.recipes import SHOTS
from nexal.recipe import parse_recipe


class Fireflies(unittest.TestCase):
    def test_glows_add_light_where_cores_alone_cover(self) -> None:
        flies = make_fireflies()
        light, alpha = flies[..., :3], flies[..., 3]
        self.assertGreaterEqual(float(flies.min()), 0)
        self.assertLessEqual(float(alpha.max()), 1)
        glow = (alpha == 0) & (light.max(axis=-1) > 0.02)
        self.assertGreater(glow.sum(), 3 * (alpha > 0.5).sum())
        self.assertGreater((alpha > 0.5).sum(), COUNT * 4)
        np.testing.assert_array_equal(flies, make_fireflies())

    def test_they_lie_over_what_the_lens_has_blurred(self) -> None:
        recipe = parse_recipe(SHOTS["115 fireflies"])
        night = recipe.step("night")
        assert night
        self.assertEqual(night.inputs, {"under": "lens", "over": "flies"})


if __name__ == "__main__":
    unittest.main()
