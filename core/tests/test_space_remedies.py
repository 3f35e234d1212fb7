"""What one click mends on the Space bench, by the pixels that come of it."""

from __future__ import annotations

from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, one

from nexal.analysis.advice import advise
from nexal.analysis.trying import tried
from nexal.engine import Engine, Plan
from nexal.picture import Alpha, Plane, Trait
from nexal.recipe import parse_recipe

SIZE = (64, 96)
LENS = {"focus": 4.0, "radius": 9.0, "grain": 0.0}


def sources() -> dict[str, MemorySource]:
    """A striped wall at 8 behind a square at 2, a glow and a spark that lie over them, and the square's matte."""
    y, x = np.mgrid[0 : SIZE[0], 0 : SIZE[1]].astype(np.float32)
    square = (abs(y - 32) < 14) & (abs(x - 40) < 16)
    wall = 0.4 + 0.3 * np.sin(x / 3)
    render = {
        name: np.where(square, 0.7, wall * part).astype(np.float32)
        for name, part in zip("RGB", (1, 0.8, 0.5), strict=True)
    }
    glow = np.exp(-((x - 60) ** 2 + (y - 30) ** 2) / 90).astype(np.float32)
    spark = ((abs(x - 20) < 3) & (abs(y - 20) < 3)).astype(np.float32)
    over = [{"R": 0.9 * a, "G": 0.8 * a, "B": 0.2 * a, "A": a} for a in (glow * 0.8, spark)]
    depth = np.where(square, 2.0, 8.0).astype(np.float32)
    return {
        "render": MemorySource(render | {"Z": depth}, data=["Z"], traits={"Z": Trait("depth")}),
        "deep": MemorySource({"Z": depth}, traits={"Z": Trait("depth")}),
        "glow": MemorySource(over[0], alpha=Alpha.PREMULTIPLIED),
        "spark": MemorySource(over[1], alpha=Alpha.PREMULTIPLIED),
        "cut": MemorySource({"Y": square.astype(np.float32)}, data=["Y"]),
    }


def step(name: str, op: str, fed: dict[str, str], **given: Any) -> dict[str, Any]:
    return {"name": name, "op": op, "in": fed, "set": given}


class Remedies(CoreTest):
    def setUp(self) -> None:
        super().setUp()
        self.engine = Engine()
        self.given = sources()
        self.fed = {"depth": "render.Z"}

    def planned(self, *steps: dict[str, Any]) -> Plan:
        specs = {name: {"files": f"{name}.exr"} for name in self.given}
        return Plan(parse_recipe({"nexal": 1, "sources": specs, "steps": list(steps)}), 1, self.given)

    def warned(self, plan: Plan, item: str, code: str) -> dict[str, Any] | None:
        return next((row for row in advise(self.engine, plan, item) if row["code"] == code), None)

    def rgb(self, plan: Plan, item: str) -> Plane:
        feed = plan.feed(item)
        planes = self.engine.evaluate(feed, plan, channels=list("RGB"), region=feed.description.display).planes
        return np.stack([planes[name] for name in "RGB"])

    def test_what_the_depth_does_not_know_is_kept_out_and_laid_back(self) -> None:
        lens = {"picture": "both"} | self.fed
        plan = self.planned(
            step("glowing", "stack", {"under": "render", "over": "glow"}, mode="normal"),
            step("both", "stack", {"under": "glowing", "over": "spark"}, opacity=0.6),
            step("lens", "defocus", lens, **LENS),
            step("later", "grade", {"picture": "lens"}, exposure=1.0),
        )
        warning = self.warned(plan, "lens", "unknown_elements")
        assert warning
        self.assertIn("nothing of spark and glow", warning["text"])
        after = tried(plan, "lens", warning["remedy"])
        assert after
        mended, item = after
        self.assertIsNone(self.warned(mended, "lens", "unknown_elements"))
        # The truth: the render alone through the lens, and both laid over it as sharp as they were.
        blurred = self.planned(
            step("alone", "defocus", {"picture": "render"} | self.fed, **LENS),
            step("glowing", "stack", {"under": "alone", "over": "glow"}),
            step("both", "stack", {"under": "glowing", "over": "spark"}, opacity=0.6),
            step("later", "grade", {"picture": "both"}, exposure=1.0),
        )
        np.testing.assert_allclose(self.rgb(mended, item), self.rgb(blurred, "both"), atol=1e-6)
        np.testing.assert_allclose(self.rgb(mended, "later"), self.rgb(blurred, "later"), atol=1e-6)
        self.assertGreater(np.abs(self.rgb(plan, "lens") - self.rgb(mended, item)).max(), 0.1)

    def test_what_was_changed_since_is_told_without_a_remedy(self) -> None:
        plan = self.planned(
            step("glowing", "stack", {"under": "render", "over": "glow"}),
            step("graded", "grade", {"picture": "glowing"}, exposure=0.5),
            step("misty", "fog", {"picture": "graded"} | self.fed),
            step("off", "stack", {"under": "render", "over": "glow"}) | {"on": False},
            step("plain", "fog", {"picture": "off"} | self.fed),
        )
        warning = self.warned(plan, "misty", "unknown_elements")
        assert warning
        self.assertIsNone(warning["remedy"])
        self.assertIsNone(self.warned(plan, "plain", "unknown_elements"))

    def test_what_a_depth_of_another_file_knows_is_not_guessed(self) -> None:
        plan = self.planned(
            step("comp", "stack", {"under": "glow", "over": "render"}),
            step("lens", "defocus", {"picture": "comp", "depth": "deep.Z"}),
            step("own", "defocus", {"picture": "comp"} | self.fed),
        )
        self.assertIsNone(self.warned(plan, "lens", "unknown_elements"))
        # What lies behind the render is as far away as can be, whatever it is.
        self.assertIsNone(self.warned(plan, "own", "unknown_elements"))

    def test_a_matte_goes_through_the_same_lens(self) -> None:
        lens = step("lens", "defocus", {"picture": "render"} | self.fed, **LENS, highlight=3.0)
        for op, fed in (
            ("grade", {"picture": "lens", "matte": "cut.Y"}),
            ("attach_alpha", {"picture": "lens", "alpha": "cut.Y"}),
            ("stack", {"under": "glow", "over": "lens", "matte": "cut.Y"}),
        ):
            plan = self.planned(lens, step("used", op, fed))
            warning = self.warned(plan, "used", "sharp_matte")
            assert warning, op
            after = tried(plan, "used", warning["remedy"])
            assert after, op
            mended, _ = after
            self.assertIsNone(self.warned(mended, "used", "sharp_matte"), op)
        cut = self.given["cut"].planes["Y"]
        white = MemorySource(dict.fromkeys("RGB", cut))
        wanted = one("defocus", {"picture": "white", "depth": "deep.Z"}, self.given | {"white": white}, **LENS).planes
        feed = mended.feed("cut_soft")
        got = self.engine.evaluate(feed, mended).planes[feed.description.channels[0]]
        np.testing.assert_allclose(got, wanted["R"], atol=1e-6)
        self.assertGreater(np.abs(got - cut).max(), 0.3)

    def test_what_is_no_light_is_not_spread(self) -> None:
        self.assert_refused(
            lambda: one("defocus", {"picture": "deep.Z", "depth": "deep.Z"}, self.given), "depth is no light"
        )
