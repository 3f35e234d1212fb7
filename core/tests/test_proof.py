"""Proof of textures, what smaller and packed versions lose, and the warnings of the Packing bench."""

from __future__ import annotations

import unittest
from fractions import Fraction
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, gradient, one, run, write_raster

from nexal.analysis.advice import advise
from nexal.analysis.pack_checks import check_packing
from nexal.analysis.proof import checked_target, losses, proof, round_trip
from nexal.engine import Engine, Plan
from nexal.errors import Pending
from nexal.kernels.blending import BLENDS, HOLDING
from nexal.layouts import FINISHES, LAYOUTS, Finish, Layout, checked
from nexal.operations.base import Work
from nexal.picture import Plane, Window
from nexal.recipe import parse_recipe
from nexal.session import Session


def data(plane: Plane) -> MemorySource:
    return MemorySource({"Y": plane.astype(np.float32)}, data=["Y"])


def packed(**planes: MemorySource) -> tuple[list[dict[str, Any]], dict[str, MemorySource]]:
    """A pack step named `texture` of planes by port."""
    sources = {f"plane_{port}": plane for port, plane in planes.items()}
    return [{"name": "texture", "op": "pack", "in": {port: f"plane_{port}" for port in planes}}], sources


def plan_of(steps: list[dict[str, Any]], sources: dict[str, Any]) -> Plan:
    recipe = parse_recipe({"nexal": 1, "sources": {name: {"files": name} for name in sources}, "steps": steps})
    return Plan(recipe, 1, sources)


class Proofs(CoreTest):
    def setUp(self) -> None:
        self.slope = np.tile(np.linspace(0.1, 0.6, 64, dtype=np.float32), (64, 1))

    def proven(self, spec: dict[str, Any], **planes: MemorySource) -> dict[str, dict[str, Any]]:
        plan = plan_of(*packed(**planes))
        feed = plan.feed("texture")
        return {row["name"]: row for row in proof(Engine(threads=2), plan, feed, checked_target(feed, spec))}

    def test_ranges_codes_and_errors(self) -> None:
        whole = np.full((64, 64), 51 / 255, np.float32)
        rows = self.proven({"depth": 8}, r=data(self.slope), g=data(whole), b=data(self.slope[::-1]))
        red, green = rows["R"], rows["G"]
        self.assertAlmostEqual(red["low"], 0.1, 6)
        self.assertAlmostEqual(red["high"], 0.6, 6)
        self.assertEqual((red["first"], red["last"], red["most"]), (26, 153, 255))
        errors = np.abs(np.floor(np.float64(self.slope) * 255 + 0.5) - np.float64(self.slope) * 255)
        self.assertAlmostEqual(red["largest"], float(errors.max()), 3)
        self.assertAlmostEqual(red["mean"], float(errors.mean()), 3)
        self.assertEqual((green["first"], green["last"]), (51, 51))
        self.assertLess(green["largest"], 1e-4)
        self.assertEqual((red["clipped"], green["clipped"]), (0, 0))

    def test_clipped_values_and_what_is_no_number_are_counted(self) -> None:
        plane = self.slope.copy()
        plane[0, :4] = [1.5, -0.3, np.nan, np.inf]
        plane[0, 4] = 1 + 0.4 / 255
        rows = self.proven({"depth": 8}, r=data(plane), g=data(self.slope), b=data(self.slope))
        self.assertAlmostEqual(rows["R"]["clipped"], 4 / 64**2, 9)
        self.assertEqual(rows["G"]["clipped"], 0)

    def test_values_that_a_bay_cuts_off_count_as_clipped_where_they_are_seen(self) -> None:
        high = self.slope.copy()
        high[:, 60:] = 1.3
        right = np.zeros((64, 64), np.float32)
        right[:32] = 1
        sources = {"high": data(high), "right": data(right)}
        for layers, share in (
            ([{"from": "high"}], 4 / 64),
            ([{"from": "high", "mask": "right"}], 2 / 64),
            ([{"from": "high", "mask": "right", "invert_mask": True, "opacity": 0.4}], 2 / 64),
            ([{"from": "high"}, {"value": 0.5, "mask": "right"}], 2 / 64),
            ([{"from": "high", "on": False}], 0),
            ([{"from": "high", "mode": "screen"}], 4 / 64),
            ([{"value": 0.5}, {"from": "right"}], 0),
        ):
            with self.subTest(layers=layers):
                steps = [
                    {"name": "b", "op": "bay", "set": {"layers": layers}},
                    {"name": "texture", "op": "pack", "in": {"r": "b", "g": "right"}},
                ]
                plan = plan_of(steps, sources)
                feed = plan.feed("texture")
                rows = proof(Engine(threads=2), plan, feed, checked_target(feed, {"format": "png", "depth": "8"}))
                self.assertAlmostEqual(rows[0]["clipped"], share, 9)
                self.assertEqual(rows[1]["clipped"], 0)

    def test_blend_functions_that_hold_their_inputs_are_named(self) -> None:
        given, held = np.float32(2.5), np.float32(1)
        holding = {name for name, blend in BLENDS.items() if blend(given, given) == blend(held, held)}
        self.assertLessEqual(HOLDING, holding)
        self.assertLessEqual(holding - HOLDING, {"difference", "subtract", "divide"})

    def test_bits_that_nothing_needs(self) -> None:
        eight = np.round(self.slope * 255) / 255
        two = np.where(self.slope > 0.3, 1.0, 0.0)
        rows = self.proven({"depth": 16}, r=data(eight), g=data(two), b=data(gradient(64, 64)))
        self.assertEqual(rows["R"]["unused"], 16 - 6)
        self.assertEqual(rows["G"]["unused"], 15)
        self.assertEqual(rows["B"]["bits"], 16)

    def test_floats_are_proven_by_value(self) -> None:
        high = self.slope * 100
        rows = self.proven({"format": "exr", "depth": "half"}, r=data(high), g=data(high), b=data(high * 1e5))
        self.assertIsNone(rows["R"]["most"])
        gap = np.abs(high.astype(np.float16).astype(np.float64) - high)
        self.assertAlmostEqual(rows["R"]["largest"], float(gap.max()), 6)
        # Beyond what a half can hold.
        self.assertAlmostEqual(rows["B"]["clipped"], float((high * 1e5 > 65519).mean()), 6)
        exact = self.proven({"format": "exr", "depth": "float"}, r=data(high), g=data(high), b=data(high))
        self.assertEqual(exact["R"]["largest"], 0)

    def test_every_format_gives_every_sample_back(self) -> None:
        plan = plan_of(*packed(r=data(self.slope), g=data(gradient(64, 64)), b=data(self.slope.T), a=data(self.slope)))
        feed = plan.feed("texture")
        for kind, depth, suffix in (
            ("png", "8", ".png"),
            ("png", "16", ".png"),
            ("tga", "8", ".tga"),
            ("tiff", "16", ".tif"),
            ("tiff", "float", ".tif"),
            ("exr", "half", ".exr"),
            ("exr", "float", ".exr"),
        ):
            with self.subTest(kind=kind, depth=depth):
                target = checked_target(feed, {"format": kind, "depth": depth, "alpha": "straight"})
                told = round_trip(Engine(threads=2), plan, feed, target, suffix)
                self.assertEqual([(row["name"], row["wrong"]) for row in told["channels"]], [(c, 0) for c in "RGBA"])
                self.assertGreater(told["bytes"], 100)

    def test_colour_is_not_proven(self) -> None:
        colour = MemorySource(dict.fromkeys("RGB", self.slope))
        plan = plan_of([], {"colour": colour})
        self.assert_refused(lambda: checked_target(plan.feed("colour"), {}), "colour", "packed texture")


class Counting(Work):
    def __init__(self) -> None:
        self.seen: list[float] = []

    def report(self, done: float) -> None:
        self.seen.append(done)


class Previews(CoreTest):
    def test_a_mip_level_is_the_mean_of_its_blocks(self) -> None:
        plane = gradient(64, 48, 2)
        for level in (1, 2, 4):
            edge = 2**level
            got = one("mip", {"from": "p"}, {"p": data(plane)}, level=level).planes["Y"]
            means = np.float64(plane).reshape(48 // edge, edge, 64 // edge, edge).mean((1, 3))
            self.assert_planes(got, np.kron(means, np.ones((edge, edge))), 1e-6)

    def test_mip_levels_of_parts_proxies_and_odd_sizes(self) -> None:
        plane = gradient(37, 21, 3)
        steps = [{"name": "m", "op": "mip", "in": {"from": "p"}, "set": {"level": 2}}]
        whole = run(steps, {"p": data(plane)}).planes["Y"]
        self.assertAlmostEqual(float(whole[20, 36]), float(plane[20:21, 36:37].mean()), 6)
        self.assertAlmostEqual(float(whole[19, 5]), float(plane[16:20, 4:8].mean(dtype=np.float64)), 6)
        part = run(steps, {"p": data(plane)}, region=Window(3, 5, 20, 9)).planes["Y"]
        np.testing.assert_array_equal(part, whole[5:14, 3:23])
        even = gradient(64, 64, 4)
        half = run(steps, {"p": data(even)}, scale=Fraction(1, 2)).planes["Y"]
        self.assert_planes(half[::2, ::2], np.float64(even).reshape(16, 4, 16, 4).mean((1, 3)), 1e-6)

    def test_blocks_of_few_colours_are_exact(self) -> None:
        """Two colours of 5:6:5 bits, and grey of 8 bits alone, lose nothing."""
        low = np.array([8, 12, 24]) / np.array([31, 63, 31])
        high = np.array([20, 60, 3]) / np.array([31, 63, 31])

        def expanded(colour: np.ndarray) -> np.ndarray:
            r, g, b = (round(part * most) for part, most in zip(colour, (31, 63, 31), strict=True))
            return np.array([(r << 3) | (r >> 2), (g << 2) | (g >> 4), (b << 3) | (b >> 2)]) / 255

        pattern = np.random.default_rng(3).random((16, 16)) > 0.5
        planes = {
            name: np.where(pattern, expanded(high)[index], expanded(low)[index]).astype(np.float32)
            for index, name in enumerate("RGB")
        }
        planes["A"] = np.where(pattern, 200 / 255, 17 / 255).astype(np.float32)
        got = one("blocks", {"from": "p"}, {"p": MemorySource(planes, data=list("RGBA"))})
        for name, plane in planes.items():
            self.assert_planes(got.planes[name], plane, 1e-6, name)

    def test_a_block_has_four_colours_on_a_line_and_a_lone_channel_eight_values(self) -> None:
        planes = {name: gradient(16, 16, seed) for seed, name in enumerate("RGBA")}
        got = one("blocks", {"from": "p"}, {"p": MemorySource(planes, data=list("RGBA"))}).planes
        for top in range(0, 16, 4):
            for left in range(0, 16, 4):
                cut = np.s_[top : top + 4, left : left + 4]
                colours = np.unique(np.stack([got[name][cut].ravel() for name in "RGB"], axis=1), axis=0)
                self.assertLessEqual(len(colours), 4)
                gaps = colours - colours[0]
                self.assertLessEqual(int(np.linalg.matrix_rank(gaps, tol=1e-4)), 1)
                self.assertLessEqual(np.unique(got["A"][cut]).size, 8)

    def test_a_channel_pulls_at_its_neighbours_in_a_block_and_not_alone(self) -> None:
        random = np.random.default_rng(8)
        still = np.full((32, 32), 0.5, np.float32)
        loud = random.random((32, 32)).astype(np.float32)
        together = one(
            "blocks", {"from": "p"}, {"p": MemorySource({"R": loud, "G": loud.T, "B": still}, data=list("RGB"))}
        )
        apart = one("blocks", {"from": "p"}, {"p": data(still)})
        self.assertGreater(float(np.abs(together.planes["B"] - still).max()), 0.01)
        self.assertLess(float(np.abs(apart.planes["Y"] - still).max()), 0.5 / 255 + 1e-6)

    def test_the_chosen_line_is_near_the_best(self) -> None:
        """Against all pairs of the block's own colours as endpoints, the error is no larger."""
        random = np.random.default_rng(11)
        texels = random.random((4, 4, 3))
        source = MemorySource(
            {name: texels[..., i].astype(np.float32) for i, name in enumerate("RGB")}, data=list("RGB")
        )
        got = one("blocks", {"from": "p"}, {"p": source}).planes
        own = sum(float(((got[name] - texels[..., i]) ** 2).sum()) for i, name in enumerate("RGB"))
        flat = texels.reshape(-1, 3)
        best = min(float(min_error(flat, a, b)) for a in flat for b in flat)
        self.assertLess(own, best * 1.02)

    def test_work_tells_how_far_it_is(self) -> None:
        from nexal.operations import find
        from nexal.operations.base import Scene, Settings

        plane = gradient(64, 600)
        source = data(plane)
        work = Counting()
        scene = Scene(1, Fraction(1), Window(0, 0, 64, 600), {"from": source.description}, work)
        find("blocks").compute({"from": source.planes}, ["Y"], Settings(), scene)
        self.assertGreaterEqual(len(work.seen), 3)
        self.assertEqual(work.seen, sorted(work.seen))

    def test_losses_of_a_level_are_those_against_the_texture(self) -> None:
        plane = gradient(64, 64, 5)
        steps, sources = packed(r=data(plane), g=data(plane.T), b=data(plane * 0))
        steps += [
            {"name": "smaller", "op": "mip", "in": {"from": "texture"}, "set": {"level": 3}},
            {"name": "packed", "op": "blocks", "in": {"from": "texture"}},
        ]
        plan = plan_of(steps, sources)
        texture = plan.feed("texture")
        rows = {row["name"]: row for row in losses(Engine(threads=2), plan, texture, plan.feed("smaller"))}
        means = np.kron(np.float64(plane).reshape(8, 8, 8, 8).mean((1, 3)), np.ones((8, 8)))
        gap = np.abs(means - plane)
        self.assertAlmostEqual(rows["R"]["max"], float(gap.max()), 5)
        self.assertAlmostEqual(rows["R"]["psnr"], -10 * float(np.log10((gap**2).mean())), 2)
        self.assertIsNone(rows["B"]["psnr"])
        with self.assertRaises(Pending):
            losses(Engine(threads=2), plan, texture, plan.feed("packed"))


def min_error(texels: np.ndarray, a: np.ndarray, b: np.ndarray) -> float:
    steps = np.array([0, 1 / 3, 2 / 3, 1])[:, None]
    palette = a + (b - a) * steps
    return float(((texels[:, None] - palette[None]) ** 2).sum(-1).min(1).sum())


class Warnings(CoreTest):
    def told(self, steps: list[dict[str, Any]], sources: dict[str, Any], item: str) -> dict[str, dict[str, Any]]:
        return {row["code"]: row for row in check_packing(Engine(threads=2), plan_of(steps, sources), item)}

    def test_alpha_at_0_everywhere_and_its_remedies(self) -> None:
        planes = {port: data(gradient(64, 64, seed)) for seed, port in enumerate("rgb")}
        steps, sources = packed(**planes, a=data(np.zeros((64, 64))))
        remedy = self.told(steps, sources, "texture")["alpha_zero"]["remedy"]
        self.assertEqual(set(remedy["replace"]["in"]), {"r", "g", "b"})
        steps.insert(0, {"name": "mask", "op": "bay", "in": {"like": "plane_r"}})
        steps[1]["in"]["a"] = "mask"
        remedy = self.told(steps, sources, "texture")["alpha_zero"]["remedy"]
        self.assertEqual(remedy["change"]["mask"]["set"]["base"], 1.0)
        steps[0]["set"] = remedy["change"]["mask"]["set"]
        self.assertNotIn("alpha_zero", self.told(steps, sources, "texture"))

    def test_empty_and_equal_channels(self) -> None:
        plane = gradient(64, 64)
        steps, sources = packed(r=data(plane), g=data(plane.copy()), b=data(plane * 0))
        told = self.told(steps, sources, "texture")
        self.assertIn("B is 0 everywhere", told["empty"]["text"])
        self.assertIsNone(told["empty"]["remedy"])
        remedy = told["equal_G"]["remedy"]
        self.assertEqual(remedy["feed"], {"port": "g", "address": remedy["steps"][0]["name"]})
        steps, sources = packed(r=data(plane), g=data(plane.T), b=data(plane[::-1]))
        self.assertEqual(self.told(steps, sources, "texture"), {})

    def with_empty(self, meaning: str, bay: dict[str, Any], **sources: MemorySource) -> dict[str, Any] | None:
        """The remedy for a green channel whose bay holds nothing."""
        planes = {port: data(gradient(64, 64, seed)) for seed, port in enumerate("rb")}
        steps, given = packed(**planes)
        steps[0]["in"]["g"] = "green"
        steps[0]["set"] = {"meanings": {"g": {"meaning": meaning}}}
        bay = {"name": "green", "op": "bay", "in": {"like": "plane_r"}, "set": bay}
        self.steps = [bay, *steps]
        self.sources = {**sources, **given}
        return self.remedy()

    def remedy(self) -> dict[str, Any] | None:
        told = self.told(self.steps, self.sources, "texture")
        if "empty" in told:
            self.assertIn("G (", told["empty"]["text"])
            return None
        return told["empty_G"]["remedy"]

    def assert_remedied(self, remedy: dict[str, Any]) -> None:
        for name, change in remedy.get("change", {}).items():
            next(step for step in self.steps if step["name"] == name).update(change)
        if feed := remedy.get("feed"):
            self.steps[-1]["in"][feed["port"]] = feed["address"]
        told = self.told(self.steps, self.sources, "texture")
        self.assertFalse({"empty", "empty_G"} & set(told))

    def test_an_empty_channel_is_fed_with_what_is_called_like_it(self) -> None:
        full, hollow = data(gradient(64, 64, 7)), data(np.zeros((64, 64)))
        remedy = self.with_empty("roughness", {}, brass_metal=full, rough_old=hollow, tin_roughness=full)
        self.assertEqual(remedy["label"], "Lay tin_roughness in")
        self.assertEqual(remedy["change"]["green"]["set"]["layers"], [{"from": "tin_roughness"}])
        self.assert_remedied(remedy)
        # A bar that is there stays where it is, below.
        masked = {"layers": [{"value": 0.5, "mask": "hollow"}]}
        remedy = self.with_empty("dirt", masked, hollow=hollow, old_dirt=full)
        self.assertEqual(remedy["change"]["green"]["set"]["layers"], [*masked["layers"], {"from": "old_dirt"}])
        self.assert_remedied(remedy)

    def test_what_is_not_computed_yet_is_not_offered(self) -> None:
        full = data(gradient(64, 64, 7))
        self.with_empty("roughness", {}, detail=full, rough_old=full)
        self.steps.insert(0, {"name": "rough", "op": "blocks", "in": {"from": "detail"}})
        self.sources.pop("rough_old")
        self.assertEqual(self.remedy()["label"], "Fill it at 60 %")

    def test_an_empty_channel_is_filled_with_what_its_meaning_begins_with(self) -> None:
        remedy = self.with_empty("occlusion", {})
        self.assertEqual(remedy["label"], "Fill it at 100 %")
        self.assert_remedied(remedy)
        self.assertIsNone(self.with_empty("metallic", {}))
        self.assertIsNone(self.with_empty("occlusion", {"layers": [{"value": 0.0}]}))

    def test_an_empty_channel_without_a_bay_is_fed_anew(self) -> None:
        full, hollow = data(gradient(64, 64, 7)), data(np.zeros((64, 64)))
        self.with_empty("coat", {}, hollow=hollow, varnish=full)
        self.steps[-1]["in"]["g"] = "hollow"
        remedy = self.remedy()
        self.assertEqual(remedy["feed"], {"port": "g", "address": "varnish"})
        self.assert_remedied(remedy)
        self.steps[-1]["set"]["meanings"]["g"]["inverted"] = True
        self.steps[-1]["in"]["g"] = "hollow"
        self.assertIsNone(self.remedy())

    def test_sizes_are_told_with_how_they_are_met(self) -> None:
        steps, sources = packed(r=data(gradient(64, 64)), g=data(gradient(32, 32)), b=data(gradient(64, 64, 2)))
        row = self.told(steps, sources, "texture")["sizes"]
        self.assertIn("plane_g is 32 x 32", row["text"])
        self.assertIn("grown by Lanczos", row["text"])
        steps = [{"name": "b", "op": "bay", "in": {"like": "plane_r"}, "set": {"layers": [{"from": "plane_g"}]}}]
        remedy = self.told(steps, sources, "b")["sizes"]["remedy"]
        self.assertEqual(remedy["replace"]["set"]["fit"], "scale")

    def test_sides_that_blocks_or_halving_do_not_fit(self) -> None:
        for side, words, fitting in ((62, "multiple of four", 64), (96, "power of two", 128)):
            planes = {port: data(gradient(side, side, seed)) for seed, port in enumerate("rgb")}
            row = self.told(*packed(**planes), "texture")["side"]
            self.assertIn(words, row["text"])
            self.assertEqual(row["remedy"]["replace"]["set"]["width"], fitting)

    def test_a_bar_that_hides_what_is_below_it(self) -> None:
        sources = {"detail": data(gradient(64, 64)), "flat": data(gradient(64, 64, 2))}
        layers: list[dict[str, Any]] = [{"from": "detail"}, {"value": 0.5}]
        steps = [{"name": "b", "op": "bay", "set": {"layers": layers}}]
        row = self.told(steps, sources, "b")["covered"]
        self.assertEqual(row["text"], "50% covers everything below it: detail is lost")
        self.assertEqual(row["remedy"]["replace"]["set"]["layers"], layers[::-1])
        for change in ({"opacity": 0.5}, {"mask": "flat"}, {"on": False}, {"mode": "multiply"}):
            steps[0]["set"] = {"layers": [{"from": "detail"}, {"value": 0.5, **change}]}
            self.assertNotIn("covered", self.told(steps, sources, "b"), change)

    def test_gloss_for_roughness_by_its_name_and_by_its_metal(self) -> None:
        y, x = np.mgrid[0:64, 0:64] / 64
        metal = (x > 0.5).astype(np.float32)
        turned = np.where(metal > 0, 0.8, 0.3) + y * 0.1
        meanings = {"g": {"meaning": "roughness"}, "b": {"meaning": "metallic"}}
        steps, sources = packed(r=data(y), g=data(turned), b=data(metal))
        steps[0]["set"] = {"meanings": meanings}
        row = self.told(steps, sources, "texture")["inverted"]
        self.assertIn("rougher", row["text"])
        self.assertEqual(row["remedy"]["feed"]["port"], "g")
        sources["tin_gloss"] = data(1 - turned)
        bay = {"name": "rough", "op": "bay", "set": {"layers": [{"from": "tin_gloss"}]}}
        steps = [bay, {**steps[0], "in": {"r": "plane_r", "g": "rough", "b": "plane_b"}}]
        row = self.told(steps, sources, "texture")["inverted"]
        self.assertIn("tin_gloss is gloss by its name", row["text"])
        self.assertEqual((row["remedy"]["within"], row["remedy"]["instead"]), ("rough", "tin_gloss"))

    def test_it_is_found_through_bays_and_masks_to_any_depth_and_in_the_proof(self) -> None:
        grey = write_raster(self.folder() / "occlusion.png", np.full((8, 8, 1), 108, np.uint8), ["Y"])
        photo = write_raster(self.folder() / "photo.png", np.full((8, 8, 3), 90, np.uint8), ["R", "G", "B"])
        files = {"occlusion": str(grey), "photo": str(photo)}
        steps = [
            {"name": "soft", "op": "blur", "in": {"from": "occlusion"}},
            {"name": "inner", "op": "bay", "set": {"layers": [{"value": 1, "mask": "soft.Y"}]}},
            {"name": "grown", "op": "grow", "in": {"matte": "inner"}},
            {"name": "outer", "op": "bay", "set": {"layers": [{"from": "grown", "opacity": 0.5}]}},
            {"name": "judged", "op": "stretch", "in": {"from": "photo.G"}},
            {"name": "as_light", "op": "stretch", "in": {"from": "occlusion"}, "set": {"domain": "scene"}},
            {"name": "routed", "op": "route", "set": {"to": {"mask": {"from": "occlusion"}}}},
            {"name": "as_alpha", "op": "attach_alpha", "in": {"picture": "photo", "alpha": "occlusion"}},
            {"name": "math", "op": "formula", "in": {"a": "occlusion"}, "set": {"expressions": {"Y": "a * 0.5"}}},
            {"name": "late", "op": "bay", "set": {"layers": [{"from": "as_light"}]}},
            {"name": "later", "op": "bay", "set": {"layers": [{"from": "routed.mask"}]}},
            {"name": "thick", "op": "grow", "in": {"matte": "occlusion", "picture": "as_alpha"}},
            {"name": "thickest", "op": "bay", "set": {"layers": [{"from": "thick.A"}]}},
            {"name": "latest", "op": "bay", "set": {"layers": [{"value": 1, "mask": "as_alpha.A"}]}},
            {"name": "counted", "op": "bay", "set": {"layers": [{"from": "math.Y"}]}},
            {"name": "clean", "op": "bay", "set": {"layers": [{"value": 0.3, "mask": "judged"}]}},
            {"name": "texture", "op": "pack", "in": {"r": "outer", "g": "clean"}},
        ]
        for colour, expected in (("auto", ["occlusion"]), ("data", [])):
            sources = {name: {"files": path} for name, path in files.items()}
            sources["occlusion"]["colour"] = colour
            recipe = parse_recipe({"nexal": 1, "sources": sources, "steps": steps})
            with Session() as session:
                plan = Plan(recipe, 1, session.readers(recipe, files, 1, list(files)))
                for item in ("inner", "outer", "texture", "late", "later", "latest", "counted", "thickest"):
                    told = {row["code"]: row for row in advise(session.engine, plan, item)}
                    self.assertEqual("encoded_data" in told, bool(expected), f"{item} {colour}")
                    if expected:
                        self.assertEqual(told["encoded_data"]["remedy"]["read"], {"occlusion": "data"})
                feed = plan.feed("texture")
                rows = proof(session.engine, plan, feed, checked_target(feed, {"format": "png", "depth": "8"}))
                self.assertEqual([row["bent"] for row in rows], [expected, []])

    def test_a_source_read_as_encoded_colour(self) -> None:
        path = write_raster(self.folder() / "mask.png", np.full((8, 8, 1), 128, np.uint8), ["Y"])
        steps = [{"name": "b", "op": "bay", "set": {"layers": [{"value": 1, "mask": "mask"}]}}]
        for colour, expected in (("auto", True), ("data", False)):
            recipe = parse_recipe(
                {"nexal": 1, "sources": {"mask": {"files": str(path), "colour": colour}}, "steps": steps}
            )
            with Session() as session:
                readers = session.readers(recipe, {"mask": str(path)}, 1, ["mask"])
                plan = Plan(recipe, 1, readers)
                told = {row["code"]: row for row in advise(session.engine, plan, "b")}
                self.assertEqual("encoded_data" in told, expected)
                value = session.engine.evaluate(plan.feed("b"), plan).planes["Y"][0, 0]
            if expected:
                self.assertEqual(told["encoded_data"]["remedy"]["read"], {"mask": "data"})
                self.assertAlmostEqual(float(value), 0.2158, 3)
            else:
                self.assertAlmostEqual(float(value), 128 / 255, 6)


class Sets(CoreTest):
    def test_what_comes_with_the_program_is_sound(self) -> None:
        self.assertEqual([layout.name for layout in LAYOUTS], ["orm", "mrc", "masks"])
        self.assertEqual([each.meaning for each in LAYOUTS[0].channels], ["occlusion", "roughness", "metallic"])
        self.assertEqual(len({finish.name for finish in FINISHES}), len(FINISHES))

    def test_own_layouts_and_finishes_are_checked(self) -> None:
        channels = [{"port": port, "meaning": f"mask_{port}"} for port in "rgb"]
        good = checked(Layout, [{"name": "own", "title": "own", "channels": channels}], LAYOUTS)
        self.assertEqual(good[0].channels[1].meaning, "mask_g")
        for kind, row, words in (
            (Layout, {"name": "orm", "title": "x", "channels": channels}, ("orm", "taken")),
            (Layout, {"name": "own", "title": "x", "channels": channels[:2]}, ("own",)),
            (Layout, {"name": "own", "title": "x", "channels": channels[::-1]}, ("r, g, b",)),
            (
                Layout,
                {"name": "own", "title": "x", "channels": [*channels[:2], channels[1] | {"port": "b"}]},
                ("mask_g",),
            ),
            (Finish, {"name": "wax_own", "title": "x", "values": {"coat": 1.2}}, ("wax_own", "coat")),
            (Finish, {"name": "Wax", "title": "x", "values": {"coat": 1}}, ("Wax",)),
        ):
            with self.subTest(row):
                self.assert_refused(
                    lambda kind=kind, row=row: checked(kind, [row], LAYOUTS if kind is Layout else FINISHES), *words
                )


if __name__ == "__main__":
    unittest.main()
