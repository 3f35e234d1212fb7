from __future__ import annotations

import io
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, run
from ink_profiles import GRID, press, printed

from nexal.analysis.advice import advise
from nexal.engine import Engine, Plan
from nexal.formats.reading import StoredSource
from nexal.picture import Plane
from nexal.recipe import SourceSpec, parse_recipe
from nexal.session import Session


def encoded(linear: Any) -> Any:
    return np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * np.maximum(linear, 0) ** (1 / 2.4) - 0.055)


def decoded(seen: Any) -> Any:
    return np.where(seen <= 0.04045, seen / 12.92, ((seen + 0.055) / 1.055) ** 2.4)


def inks_of(planes: Any) -> Plane:
    return np.stack([planes[ink] for ink in "CMYK"], axis=-1)


class InkProfiles(CoreTest):
    def setUp(self) -> None:
        self.place = self.folder()
        self.session = Session()
        self.addCleanup(self.session.__exit__)

    def stored(self, name: str, data: bytes) -> StoredSource:
        path = self.place / name
        path.write_bytes(data)
        return self.session.open(path, SourceSpec(files=name))

    def press(self, **how: Any) -> StoredSource:
        return self.stored("press.icc", press(**how))

    @staticmethod
    def step(op: str, of: str, profile: str = "press", **settings: Any) -> dict[str, Any]:
        return {
            "name": f"{op}_of_{of}",
            "op": op,
            "in": {"picture": of},
            "set": {"profile": {"from": profile}, **settings},
        }

    def test_inks_print_the_colours_that_the_press_has(self) -> None:
        random = np.random.default_rng(3)
        inks = random.integers(0, GRID, (24, 32, 4)) / (GRID - 1)
        sources = {
            "press": self.press(),
            "inks": MemorySource(dict(zip("CMYK", np.moveaxis(inks, -1, 0), strict=True))),
        }
        got = run([self.step("ink_join", "inks", intent="absolute")], sources)
        self.assertEqual(got.description.channels, ("R", "G", "B"))
        wanted = np.clip(printed(inks), 0, 1)
        for index, name in enumerate("RGB"):
            # Tables of 16 bit: a step of Lab is seen in the encoded values.
            self.assert_planes(encoded(got.planes[name]).astype(np.float32), encoded(wanted[..., index]), 4e-4)

    def test_colours_come_back_from_the_inks_that_print_them(self) -> None:
        cover = np.random.default_rng(5).uniform(0.1, 0.7, (24, 32, 3))
        colour = printed(np.concatenate([cover, np.zeros((24, 32, 1))], axis=-1)).astype(np.float32)
        planes = {name: colour[..., index] for index, name in enumerate("RGB")}
        sources = {"press": self.press(), "p": MemorySource(planes)}
        split = run([self.step("ink_split", "p", intent="absolute")], sources)
        self.assertTrue(split.description.all_data)
        inks = inks_of(split.planes)
        # Between the nodes of the press' own tables the way back is not exact.
        np.testing.assert_allclose(inks[..., :3], cover, atol=0.06)
        self.assertLess(np.abs(inks[..., :3] - cover).mean(), 0.006)
        self.assertEqual(inks[..., 3].max(), 0)
        steps = [self.step("ink_split", "p"), self.step("ink_join", "ink_split_of_p")]
        back = run(steps, sources)
        for name in "RGB":
            self.assert_planes(encoded(back.planes[name]).astype(np.float32), encoded(planes[name]), 0.03)

    def test_paper_and_black_are_met_by_the_intent(self) -> None:
        inks = {name: np.full((8, 8), value, np.float32) for name, value in zip("CMYK", (1, 1, 1, 1), strict=True)}
        sources = {"press": self.press(), "full": MemorySource(inks)}
        darkest = {
            intent: float(run([self.step("ink_join", "full", intent=intent)], sources).planes["G"][0, 0])
            for intent in ("relative", "absolute")
        }
        self.assertAlmostEqual(darkest["relative"], 0, 4)
        self.assertAlmostEqual(darkest["absolute"], float(printed(np.ones(4))[1]), 4)
        self.assertGreater(darkest["absolute"], darkest["relative"])

    def test_odd_values_are_held(self) -> None:
        odd = np.array([[np.nan, np.inf, -np.inf, -1, 2, 0.5, 0, 1]] * 2, np.float32)
        planes = dict.fromkeys("RGB", odd)
        sources = {"press": self.press(), "p": MemorySource(planes | {"A": np.ones_like(odd)})}
        got = run([self.step("ink_split", "p")], sources)
        self.assertEqual(got.description.channels, (*"CMYK", "A"))
        inks = inks_of(got.planes)
        self.assertTrue(np.isfinite(inks).all() and inks.min() >= 0 and inks.max() <= 1)
        np.testing.assert_array_equal(inks[:, 1], inks[:, 7])
        np.testing.assert_array_equal(inks[:, 2], inks[:, 6])

    def test_a_profile_is_imported_as_a_chart_of_its_inks(self) -> None:
        source = self.press()
        self.assertEqual(source.stored.header["format"], "icc")
        self.assertEqual(source.stored.header["metadata"], {"profile": "Night press"})
        assert source.description.inks
        self.assertEqual((source.description.inks.name, source.description.inks.read()), ("Night press", press()))
        chart = run([self.step("ink_join", "press", intent="absolute")], {"press": source})
        height, width = chart.planes["R"].shape
        self.assertEqual((width, height), (264, 144))
        # Each wedge begins with bare paper; the first ends with full cyan.
        for name, wanted in zip("RGB", printed(np.array([1.0, 0, 0, 0])), strict=True):
            self.assert_planes(chart.planes[name][:, :24], 1, 2e-3)
            self.assert_planes(chart.planes[name][:16, -24:], wanted, 1e-3)

    def test_pictures_carry_their_profile(self) -> None:
        from PIL import Image

        inks = np.zeros((16, 16, 4), np.uint8)
        inks[..., 0], inks[..., 3] = 200, 20
        for name in ("ink.jpg", "ink.tif"):
            file = io.BytesIO()
            kind = {"jpg": "JPEG", "tif": "TIFF"}[name[-3:]]
            Image.fromarray(inks, "CMYK").save(file, kind, quality=98, icc_profile=press("Leaflet press"))
            source = self.stored(name, file.getvalue())
            assert source.description.inks
            self.assertEqual(source.description.inks.name, "Leaflet press", name)
            got = run([self.step("ink_join", "leaflet", "leaflet", intent="absolute")], {"leaflet": source})
            wanted = printed(np.array([200 / 255, 0, 0, 20 / 255]))
            for channel, value in zip("RGB", wanted, strict=True):
                self.assert_planes(got.planes[channel], value, 0.012)
        # What is no sound profile of inks is left behind, the picture is not.
        for odd in (b"nothing", press(space=b"RGB ")):
            file = io.BytesIO()
            Image.fromarray(inks, "CMYK").save(file, "TIFF", icc_profile=odd)
            self.assertIsNone(self.stored("odd.tif", file.getvalue()).description.inks)

    def test_what_is_no_profile_of_inks_is_refused(self) -> None:
        whole = press()
        for name, data, words in (
            ("rgb.icc", press(space=b"RGB "), "is a profile of RGB, not of inks"),
            ("cut.icc", whole[:200], "damaged profile"),
            ("text.icm", b"no profile at all", "is not an ICC profile"),
        ):
            self.assert_refused(lambda name=name, data=data: self.stored(name, data), words, name)

    def test_steps_say_what_their_profile_lacks(self) -> None:
        planes = {name: np.full((8, 8), 0.4, np.float32) for name in "RGB"}
        sources = {"press": self.press(back=False), "p": MemorySource(planes)}
        refused = self.assert_refused(lambda: run([self.step("ink_split", "p")], sources), "no way from colour to ink")
        self.assertIn("profile", refused.where)
        self.assert_refused(lambda: run([self.step("ink_split", "p", "p")], sources), "carries no ink profile")
        self.assert_refused(lambda: run([self.step("ink_split", "p", "pres")], sources), "'pres'", "press")

    def test_a_profile_that_is_not_used_is_told(self) -> None:
        from PIL import Image

        file = io.BytesIO()
        Image.fromarray(np.full((16, 16, 4), 40, np.uint8), "CMYK").save(file, "TIFF", icc_profile=press())
        sources: dict[str, Any] = {"leaflet": self.stored("leaflet.tif", file.getvalue())}
        step = {"name": "seen", "op": "ink_join", "in": {"picture": "leaflet"}}

        def told() -> list[dict[str, Any]]:
            recipe = parse_recipe({"nexal": 1, "sources": {"leaflet": {"files": "leaflet.tif"}}, "steps": [step]})
            rows = advise(Engine(threads=2), Plan(recipe, 1, sources), "seen")
            return [row for row in rows if row["code"] == "inks"]

        (row,) = told()
        self.assertIn("Night press", row["text"])
        step |= row["remedy"]["replace"]
        self.assertEqual(step["set"], {"profile": {"from": "leaflet"}})
        self.assertEqual(told(), [])
