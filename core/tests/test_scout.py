"""Scout against brute force, thin parts and checks on mattes with known faults, fine edges on known alpha."""

from __future__ import annotations

import itertools
import json
import math
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, gradient, one, rgb, run, write_exr
from hypothesis import example, given
from hypothesis import strategies as st
from patience import trials

from nexal.analysis.marks import Mark, marked
from nexal.analysis.matte_checks import check_matte, thin_parts
from nexal.analysis.scout import best_stretch, candidates, exact_auc, extended, scout, steps_of
from nexal.cli import main
from nexal.engine import Cancellation, Engine, Kept, Plan
from nexal.errors import Cancelled, Pending
from nexal.kernels.blending import BLENDS
from nexal.kernels.pointmath import encode
from nexal.kernels.ranking import MODES, crossed
from nexal.picture import Window
from nexal.recipe import parse_recipe

WIDTH, HEIGHT = 160, 96


def fern() -> MemorySource:
    """Fronds on a wall of nearly their tone: red and green each overlap, their difference does not."""
    random = np.random.default_rng(3)
    wall = 0.3 + 0.5 * gradient(WIDTH, HEIGHT, 2)
    frond = np.zeros((HEIGHT, WIDTH), bool)
    frond[:, 60:100] = True
    green = np.where(frond, 0.05, -0.05)
    planes = {
        "R": wall - green / 2 + random.normal(0, 0.004, wall.shape),
        "G": wall + green / 2 + random.normal(0, 0.004, wall.shape),
        "B": 0.4 * wall + random.normal(0, 0.03, wall.shape),
    }
    return MemorySource({name: plane.astype(np.float32) for name, plane in planes.items()})


INSIDE = [Window(70, 10, 20, 12), Window(64, 60, 16, 16)]
OUTSIDE = [Window(5, 5, 20, 20), Window(120, 40, 20, 30)]


def planned(source: MemorySource, steps: list[dict[str, Any]] | None = None) -> Plan:
    return Plan(parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": steps or []}), 1, {"p": source})


def roc_area(subject: np.ndarray, background: np.ndarray) -> float:
    """By counting every pair."""
    s, b = subject[:, None], background[None, :]
    area = float(((s > b) + 0.5 * (s == b)).mean())
    return max(area, 1 - area)


class Scout(CoreTest):
    def setUp(self) -> None:
        self.source, self.engine = fern(), Engine(threads=2)
        self.plan = planned(self.source)
        self.feed = self.plan.feed("p")

    def scouted(self, **options: Any) -> dict[str, Any]:
        return scout(self.engine, self.plan, self.feed, INSIDE, OUTSIDE, **options)

    def samples(self, windows: list[Window]) -> dict[str, np.ndarray]:
        return {
            name: np.concatenate([encode(plane[w.y : w.bottom, w.x : w.right]).ravel() for w in windows])
            for name, plane in self.source.planes.items()
        }

    def test_rank_1_reaches_what_brute_force_finds(self) -> None:
        inside, outside = self.samples(INSIDE), self.samples(OUTSIDE)
        best = max(roc_area(inside[name], outside[name]) for name in "RGB")
        for a, b in itertools.permutations("RGB", 2):
            for mode, turn_a, turn_b in itertools.product(BLENDS, (0, 1), (0, 1)):
                values = [
                    BLENDS[mode](1 - s[a] if turn_a else s[a], 1 - s[b] if turn_b else s[b]) for s in (inside, outside)
                ]
                best = max(best, roc_area(*values))
        top = self.scouted()["rows"][0]
        self.assertGreaterEqual(top["separation"], best - 1e-4)
        single = max(roc_area(inside[name], outside[name]) for name in "RGB")
        self.assertGreater(top["separation"], single + 0.05)

    def test_figures_of_the_rows_by_hand(self) -> None:
        inside, outside = self.samples(INSIDE), self.samples(OUTSIDE)
        rows = [row for row in self.scouted(rows=200)["rows"] if {row["a"], row.get("b", "R")} <= {"R", "G", "B"}]
        self.assertGreater(len(rows), 12)
        for row in rows[:12]:
            values = []
            for samples in (inside, outside):
                a = 1 - samples[row["a"]] if row["invert_a"] else samples[row["a"]]
                if "mode" in row:
                    b = 1 - samples[row["b"]] if row["invert_b"] else samples[row["b"]]
                    a = BLENDS[row["mode"]](a, b)
                values.append(a.astype(np.float64))
            s, b = values
            with self.subTest(row["words"]):
                self.assertAlmostEqual(row["separation"], roc_area(s, b), 5)
                self.assertAlmostEqual(
                    row["fisher"], (s.mean() - b.mean()) ** 2 / (s.var() + b.var()), delta=0.01 * row["fisher"]
                )
                posts = row["stretch"]
                stretched = [np.clip((v - posts["black"]) / (posts["white"] - posts["black"]), 0, 1) for v in (s, b)]
                self.assertGreater(stretched[0].mean(), stretched[1].mean())
                self.assertTrue(0 <= row["edge_kept"] <= 1 and row["noise"] >= 0)

    def test_at_least_five_hundred_are_tried_and_rows_differ(self) -> None:
        answer = self.scouted()
        self.assertGreaterEqual(answer["tried"], 500)
        seen = [
            (round(row["separation"], 5), f"{row['fisher']:.3g}", round(row["edge_kept"], 3)) for row in answer["rows"]
        ]
        self.assertEqual(len(seen), len(set(seen)))
        self.assertGreater(self.scouted(ink=True)["tried"], 2000)

    def test_every_pair_mode_and_inversion_is_among_the_candidates(self) -> None:
        codes = {tuple(code) for code in candidates(3).tolist()}
        self.assertEqual(len(codes), 6 + 3 * (8 * 4 + 7 * 2 * 4))
        self.assertIn((0, 1, MODES.index("darken"), 0, 1), codes)
        self.assertIn((1, 0, MODES.index("subtract"), 0, 0), codes)

    def test_compiled_modes_are_those_of_the_operations(self) -> None:
        random = np.random.default_rng(5)
        planes = random.uniform(-0.3, 1.4, (2, 500)).astype(np.float32)
        planes[:, :6] = [[0, 1, 0, 1, 0.5, np.nan], [0, 0, 1, 1, 0.5, 0.2]]
        for place, mode in enumerate(MODES):
            with self.subTest(mode):
                got = crossed(planes, np.array([0, 1, place, 0, 1], np.int32))
                with np.errstate(all="ignore"):
                    wanted = BLENDS[mode](planes[0], np.float32(1) - planes[1])
                np.testing.assert_allclose(got, wanted, rtol=2e-5, atol=2e-6)

    def test_a_row_taken_as_steps_is_that_matte(self) -> None:
        for row in self.scouted(ink=True, rows=60)["rows"][:60:6]:
            steps = steps_of(row, "p")
            matte = run(steps, {"p": self.source}, "matte").planes["Y"]
            with self.subTest(row["words"]):
                inside = np.concatenate([matte[w.y : w.bottom, w.x : w.right].ravel() for w in INSIDE])
                outside = np.concatenate([matte[w.y : w.bottom, w.x : w.right].ravel() for w in OUTSIDE])
                self.assertGreater(inside.mean(), outside.mean())
                # A clipped stretch can only make values equal, never swap them.
                self.assertGreater(roc_area(inside, outside), row["separation"] - 0.08)

    def test_marks_are_discs_and_not_finite_pixels_are_left_out(self) -> None:
        planes = {name: plane.copy() for name, plane in self.source.planes.items()}
        planes["R"][12, 72] = np.nan
        source = MemorySource(planes)
        plan = planned(source)
        disc = marked(self.engine, plan, plan.feed("p"), ("G",), [Mark(80, 50, 6)])
        self.assertAlmostEqual(disc.shape[1], math.pi * 36, delta=6)
        answer = scout(self.engine, plan, plan.feed("p"), [Mark(72, 12, 5)], [Mark(20, 20, 8)])
        self.assertTrue(all(math.isfinite(row["separation"]) for row in answer["rows"]))

    def test_too_few_marks_are_said(self) -> None:
        for subject, word in (([], "0 marked"), ([Window(0, 0, 2, 2)], "4 marked"), ([Mark(-90, 0, 5)], "0 marked")):
            with self.subTest(word):
                self.assert_refused(
                    lambda subject=subject: scout(self.engine, self.plan, self.feed, subject, OUTSIDE), "subject", word
                )

    def test_a_picture_of_one_channel_and_data(self) -> None:
        plan = planned(MemorySource({"Z": gradient(64, 48)}))
        answer = scout(self.engine, plan, plan.feed("p"), [Window(50, 20, 10, 10)], [Window(2, 20, 10, 10)])
        self.assertEqual((answer["rows"][0]["a"], answer["rows"][0]["words"]), ("Z", "Z alone"))

    def test_the_area_and_the_posts_on_small_sets(self) -> None:
        self.assertEqual(exact_auc(np.array([3.0, 4.0]), np.array([1.0, 2.0])), 1)
        self.assertEqual(exact_auc(np.array([1.0, 2.0]), np.array([1.0, 2.0])), 0.5)
        s, b = np.linspace(0.6, 0.9, 101), np.linspace(0.1, 0.3, 101)
        black, white = best_stretch(s, b, bright=True)
        self.assertAlmostEqual(black, 0.1 + 0.2 * 0.98, 3)
        self.assertAlmostEqual(white, 0.6 + 0.3 * 0.02, 3)
        self.assertGreaterEqual(np.mean(b <= black), 0.98)
        self.assertGreaterEqual(np.mean(s >= white), 0.98)
        black, white = best_stretch(b, s, bright=False)
        self.assertGreater(black, white)
        self.assertGreaterEqual(np.mean(s >= black), 0.98)
        self.assertGreaterEqual(np.mean(b <= white), 0.98)
        same = np.linspace(0.2, 0.4, 50)
        black, white = best_stretch(same, same, bright=True)
        self.assertLess(black, white)

    def test_luminance_and_ink_as_they_are_judged(self) -> None:
        planes = np.array([[0.5], [0.2], [0.1]], np.float32)
        seen, names = extended(planes, ["R", "G", "B"], [False] * 3, ink=True)
        self.assertEqual(names, ("R", "G", "B", "luminance", "ink.C", "ink.M", "ink.Y", "ink.K"))
        e = [1.055 * v ** (1 / 2.4) - 0.055 for v in (0.5, 0.2, 0.1)]
        luminance = 0.2126 * 0.5 + 0.7152 * 0.2 + 0.0722 * 0.1
        self.assertAlmostEqual(float(seen[3, 0]), 1.055 * luminance ** (1 / 2.4) - 0.055, 5)
        k = 1 - e[0]
        self.assertAlmostEqual(float(seen[5, 0]), (1 - e[1] - k) / (1 - k), 5)
        self.assertAlmostEqual(float(seen[7, 0]), k, 5)

    def test_on_the_command_line(self) -> None:
        path = write_exr(self.folder() / "fern.exr", self.source.planes)
        marks = [f"--subject={w.x},{w.y},{w.width},{w.height}" for w in INSIDE]
        marks += [f"--background={w.x},{w.y},{w.width},{w.height}" for w in OUTSIDE]
        code, out, _ = command("scout", str(path), *marks, "--json")
        answer = json.loads(out)
        self.assertEqual(code, 0)
        wanted = self.scouted()["rows"][0]
        self.assertEqual(answer["rows"][0]["words"], wanted["words"])
        self.assertAlmostEqual(answer["rows"][0]["separation"], wanted["separation"], 5)
        for key in ("fisher", "edge_kept", "noise", "direction", "stretch", "invert_a", "invert_b"):
            self.assertIn(key, answer["rows"][0])
        for wrong in (["--subject", "1,2,3"], ["--subject", "900,900,9,9"], ["--subject", "0,0,2,2"]):
            code, out, err = command("scout", str(path), *wrong, *marks[2:])
            self.assertEqual((code, out), (2, ""))
            self.assertEqual(err.count("\n"), 1, err)


def command(*arguments: str) -> tuple[int, str, str]:
    import contextlib
    import io

    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main(arguments)
    return code, out.getvalue(), err.getvalue()


def lines(width: int = 200, height: int = 120) -> np.ndarray:
    """A block of 1 and, standing off it, five lines of one pixel: three at 0.5, two at 0.9."""
    plane = np.zeros((height, width), np.float32)
    plane[30:90, 20:80] = 1
    for index, value in enumerate((0.5, 0.5, 0.5, 0.9, 0.9)):
        plane[20 + index * 15, 100:180] = value
    return plane


class ThinParts(CoreTest):
    def lost(self, plane: np.ndarray, **settings: float) -> dict[str, Any]:
        step = {"name": "s", "op": "stretch", "in": {"from": "p.M"}, "set": settings}
        plan = planned(MemorySource({"M": plane}), [step])
        return thin_parts(Engine(threads=2), plan, plan.feed("p.M"), plan.feed("s"), "display")

    def test_what_vanishes_is_counted_and_placed(self) -> None:
        self.assertEqual(self.lost(lines(), black=0, white=1), {"thin": 5, "lost": 0, "boxes": []})
        pulled = self.lost(lines(), black=0.45, white=1)
        self.assertEqual((pulled["thin"], pulled["lost"]), (5, 3))
        self.assertEqual({tuple(box) for box in pulled["boxes"]}, {(100, 20 + i * 15, 80, 1) for i in range(3)})
        # 0.9 comes out as 0.6, 0.6 - more than half is kept
        self.assertEqual(self.lost(lines(), black=0.75, white=1)["lost"], 3)
        self.assertEqual(self.lost(lines(), black=0.85, white=1)["lost"], 5)

    def test_a_matte_that_is_turned_round_on_the_way(self) -> None:
        pulled = self.lost(1 - lines(), black=0.55, white=0)
        self.assertEqual((pulled["thin"], pulled["lost"]), (5, 3))

    def test_wide_parts_are_none_of_its_business(self) -> None:
        plane = np.zeros((60, 60), np.float32)
        plane[20:23, 5:55] = 0.5
        plane[40:50, 5:55] = 1
        self.assertEqual(self.lost(plane, black=0.9, white=1)["thin"], 0)


class Checks(CoreTest):
    def codes(self, plane: np.ndarray, **marks: list[Mark]) -> dict[str, dict[str, Any]]:
        plan = planned(MemorySource({"M": plane}), [{"name": "m", "op": "clamp", "in": {"from": "p.M"}}])
        return {row["code"]: row for row in check_matte(Engine(threads=2), plan, "m", **marks)}

    def clean(self) -> np.ndarray:
        plane = np.zeros((120, 160), np.float32)
        plane[30:90, 40:120] = 1
        return plane

    def taken(self, plane: np.ndarray, code: str) -> np.ndarray:
        """The matte after the remedy's steps."""
        remedy = self.codes(plane)[code]["remedy"]
        steps = [{"name": "m", "op": "clamp", "in": {"from": "p.M"}}, *remedy["steps"]]
        return run(steps, {"p": MemorySource({"M": plane})}).planes["Y"]

    def test_a_clean_matte_is_left_in_peace(self) -> None:
        self.assertEqual(self.codes(self.clean()), {})
        soft = one("blur", {"from": "m"}, {"m": MemorySource({"Y": self.clean()})}, radius=1.5).planes["Y"]
        self.assertEqual(self.codes(soft), {})

    def test_greys_inside_the_core(self) -> None:
        plane = self.clean()
        plane[55:65, 70:90] = 0.7
        warning = self.codes(plane)["grey_core"]
        self.assertIn("0.70", warning["text"])
        self.assert_planes(self.taken(plane, "grey_core"), self.clean())

    def test_background_not_clean(self) -> None:
        plane = self.clean()
        plane[5:20, 5:60] = 0.12
        self.assertIn("0.12", self.codes(plane)["background"]["text"])
        cured = self.taken(plane, "background")
        self.assert_planes(cured, self.clean())

    def test_the_wrong_way_round(self) -> None:
        plane = 1 - self.clean()
        self.assertEqual(list(self.codes(plane)), ["turned"])
        self.assert_planes(self.taken(plane, "turned"), self.clean())
        marks = {"subject": [Mark(10, 10, 5)], "background": [Mark(80, 60, 5)]}
        self.assertEqual(list(self.codes(self.clean(), **marks)), ["turned"])
        self.assertEqual(self.codes(1 - self.clean(), **marks), {})

    def test_a_step_that_alters_a_whole_picture(self) -> None:
        plan = planned(MemorySource(rgb()), [{"name": "s", "op": "stretch", "in": {"from": "p"}}])
        (warning,) = check_matte(Engine(threads=2), plan, "s")
        self.assertEqual((warning["code"], warning["remedy"]["feed"]), ("colour", {"port": "from", "address": "p.G"}))

    def test_planes_that_are_no_mattes_are_not_judged(self) -> None:
        self.assertEqual(self.codes(gradient(160, 120)), {})
        self.assertEqual(self.codes(np.full((20, 20), 7, np.float32)), {})


class Unsound(CoreTest):
    def test_on_pure_black_and_white_nothing_is_better_than_one_channel(self) -> None:
        plane = np.zeros((60, 80), np.float32)
        plane[15:45, 20:60] = 1
        source = MemorySource(dict.fromkeys("RGB", plane))
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}})
        plan = Plan(recipe, 1, {"p": source})
        found = scout(Engine(threads=2), plan, plan.feed("p"), [Window(25, 20, 20, 15)], [Window(2, 2, 14, 50)])
        self.assertNotIn("mode", found["rows"][0])
        for row in found["rows"]:
            self.assertLess(max(abs(row["stretch"]["black"]), abs(row["stretch"]["white"])), 4.1, row["words"])
            self.assertNotEqual(row.get("mode"), "divide")

    def test_a_sound_division_is_still_a_candidate(self) -> None:
        random = np.random.default_rng(2)
        shade = 0.3 + 0.6 * random.random((60, 80)).astype(np.float32)
        inside = np.zeros((60, 80), bool)
        inside[15:45, 20:60] = True
        planes = {"R": shade * np.where(inside, 0.9, 0.5), "G": shade, "B": 0.5 * shade}
        source = MemorySource({name: plane.astype(np.float32) for name, plane in planes.items()})
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}})
        plan = Plan(recipe, 1, {"p": source})
        found = scout(Engine(threads=2), plan, plan.feed("p"), [Window(25, 20, 20, 15)], [Window(2, 2, 14, 50)])
        self.assertIn("divide", {row.get("mode") for row in found["rows"][:3]})


class NotMarkedYet(CoreTest):
    def test_kinds_of_places_that_no_mark_is_like_are_told_the_widest_first(self) -> None:
        planes = {
            name: np.full((120, 160), value, np.float32) for name, value in zip("RGB", (0.1, 0.5, 0.1), strict=True)
        }
        for rows, columns, colour in (
            (np.s_[:40], np.s_[:], (0.5, 0.7, 1.0)),
            (np.s_[90:], np.s_[100:], (0.02, 0.02, 0.02)),
            (np.s_[50:80], np.s_[60:90], (0.8, 0.2, 0.1)),
            (np.s_[44:47], np.s_[10:13], (1.0, 1.0, 1.0)),
        ):
            for name, value in zip("RGB", colour, strict=True):
                planes[name][rows, columns] = value
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}})
        plan = Plan(recipe, 1, {"p": MemorySource(planes)})
        subject, background = [Mark(75, 65, 8)], [Mark(20, 100, 8)]
        found = scout(Engine(threads=2), plan, plan.feed("p"), subject, background)["unmarked"]
        self.assertEqual([round(row["share"], 2) for row in found], [0.33, 0.09])
        self.assertLess(found[0]["y"], 40)
        self.assertGreater(found[1]["x"], 100)
        marked = [*background, Mark(80, 15, 8), Mark(130, 105, 8)]
        self.assertEqual(scout(Engine(threads=2), plan, plan.feed("p"), subject, marked)["unmarked"], [])


class FineEdge(CoreTest):
    def hair(self) -> tuple[MemorySource, np.ndarray]:
        """A dark block with fine hairs over a bright backing that varies slowly, and its true alpha."""
        alpha = np.zeros((80, 120), np.float32)
        alpha[25:55, 30:80] = 1
        for x in range(34, 78, 6):
            alpha[14:25, x] = 0.7
        backing = {n: v + 0.1 * gradient(120, 80, 4) for n, v in (("R", 0.7), ("G", 0.6), ("B", 0.3))}
        colour = {"R": 0.1, "G": 0.15, "B": 0.25}
        planes = {n: colour[n] * alpha + backing[n] * (1 - alpha) for n in "RGB"}
        return MemorySource({n: p.astype(np.float32) for n, p in planes.items()}), alpha

    def refine(self, **options: Any) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        source, alpha = self.hair()
        rough = np.zeros_like(alpha)
        rough[25:55, 30:80] = 1
        steps = [{"name": "f", "op": "fine_edge", "in": {"picture": "p", "matte": "m.M"}, "set": {"band": 12}}]
        got = run(steps, {"p": source, "m": MemorySource({"M": rough})}, **options).planes["Y"]
        return got, rough, alpha

    def test_hair_comes_back(self) -> None:
        got, rough, alpha = self.refine()
        self.assertLess(np.abs(got - alpha).sum(), 0.25 * np.abs(rough - alpha).sum())
        self.assertLess(np.abs(got - alpha)[14:25, 30:80].mean(), 0.05)

    def test_a_ready_trimap_against_the_library_itself(self) -> None:
        from pymatting import estimate_alpha_cf

        source, _ = self.hair()
        trimap = np.full((80, 120), 0.5, np.float32)
        trimap[30:50, 36:74] = 1
        trimap[:8] = trimap[70:] = 0
        trimap[:, :16] = trimap[:, 100:] = 0
        steps = [{"name": "f", "op": "fine_edge", "in": {"picture": "p", "matte": "m.M"}, "set": {"band": 0}}]
        got = run(steps, {"p": source, "m": MemorySource({"M": trimap})}).planes["Y"]
        image = np.stack([source.planes[n] for n in "RGB"], axis=-1).astype(np.float64)
        self.assert_planes(got, estimate_alpha_cf(image, trimap.astype(np.float64)), 2e-3)

    def test_proxies_are_reduced_from_the_full_result(self) -> None:
        from fractions import Fraction

        full, _, _ = self.refine()
        half, _, _ = self.refine(scale=Fraction(1, 2))
        self.assert_planes(half, full.reshape(40, 2, 60, 2).mean((1, 3)), 1e-5)

    def test_progress_cancel_patience_and_keeping(self) -> None:
        source, alpha = self.hair()
        rough = MemorySource({"M": (alpha > 0.9).astype(np.float32)})
        steps = [{"name": "f", "op": "fine_edge", "in": {"picture": "p", "matte": "m.M"}, "set": {"band": 12}}]
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}, "m": {"files": "m"}}, "steps": steps})
        plan = Plan(recipe, 1, {"p": source, "m": rough})
        kept = Kept(self.folder(), 1 << 20)
        engine = Engine(threads=2, kept=kept)
        with self.assertRaises(Pending) as caught:
            engine.evaluate(plan.feed("f"), plan, patient=False)
        self.assertEqual(caught.exception.item, "f")
        stopped = Cancellation()
        stopped.cancel()
        with self.assertRaises(Cancelled):
            engine.evaluate(plan.feed("f"), plan, cancellation=stopped)

        class Following(Cancellation):
            def __init__(self) -> None:
                super().__init__()
                self.seen: list[float] = []

            def report(self, done: float) -> None:
                self.seen.append(done)

        following = Following()
        first = engine.evaluate(plan.feed("f"), plan, cancellation=following).planes["Y"]
        self.assertEqual((following.seen[0], following.seen[-1]), (0.0, 1.0))
        self.assertEqual(following.seen, sorted(following.seen))
        self.assertGreater(len(following.seen), 5)
        again = Engine(threads=2, kept=kept)
        self.assert_planes(again.evaluate(plan.feed("f"), plan, patient=False).planes["Y"], first, 0)
        self.assertEqual(again.computed, {})

    def test_a_band_that_swallows_all_is_said(self) -> None:
        source, alpha = self.hair()
        matte = {"m": MemorySource({"M": alpha}), "p": source}
        for band, planes in ((40, None), (3, np.zeros_like(alpha))):
            sources = matte if planes is None else matte | {"m": MemorySource({"M": planes})}
            self.assert_refused(
                lambda band=band, sources=sources: one(
                    "fine_edge", {"picture": "p", "matte": "m.M"}, sources, band=band
                ),
                "surely inside",
                "band",
            )


class KeptPlanes(CoreTest):
    def test_the_oldest_goes_and_damage_is_no_harm(self) -> None:
        import os

        folder: Path = self.folder()
        kept = Kept(folder, 3 * (128 + 400))
        files: list[Path] = []
        for index in range(4):
            kept.put(f"k{index}", np.full((10, 10), index, np.float32))
            files += [file for file in folder.iterdir() if file not in files]
            os.utime(files[index], (index, index)) if index < 3 else None
        self.assertIsNone(kept.find("k0"))
        found = kept.find("k3")
        assert found is not None
        self.assert_planes(found, 3, 0)
        files[3].write_bytes(b"damaged")
        self.assertIsNone(kept.find("k3"))

    @trials(60)
    @given(st.lists(st.text(max_size=300), min_size=2, max_size=4, unique=True))
    @example(["a/b", "a\\b", "../a", "a:b"])
    @example(["a\n", "a\0", "\u202egrown", "\U0001f98b" * 300])
    def test_keys_may_hold_any_name_of_a_channel(self, keys: list[str]) -> None:
        with tempfile.TemporaryDirectory() as folder:
            kept = Kept(Path(folder) / "kept", 1 << 20)
            for number, key in enumerate(keys):
                kept.put(key, np.full((2, 3), number, np.float32))
            for number, key in enumerate(keys):
                found = kept.find(key)
                assert found is not None
                self.assert_planes(found, number, 0)
            # Nothing was written elsewhere, and nothing unfinished is left.
            self.assertEqual([path.name for path in Path(folder).iterdir()], ["kept"])
            self.assertEqual(len(list((Path(folder) / "kept").iterdir())), len(keys))

    def test_several_that_write_the_same_at_once_never_share_a_file(self) -> None:
        kept = Kept(self.folder(), 1 << 24)
        planes = [np.full((300, 300), number, np.float32) for number in range(8)]

        def write(plane: np.ndarray) -> None:
            for _ in range(20):
                kept.put("same", plane)
                found = kept.find("same")
                assert found is not None
                self.assertEqual(found.min(), found.max())

        with ThreadPoolExecutor(8) as pool:
            list(pool.map(write, planes))
        self.assertEqual(len(list(kept.folder.iterdir())), 1)


if __name__ == "__main__":
    unittest.main()
