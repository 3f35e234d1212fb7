"""Cures of edges against independent formulas, and what a file really is."""

from __future__ import annotations

import math
import unittest
from fractions import Fraction
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, gradient, rgb, run

from nexal.analysis.diagnose import cure_of, diagnose
from nexal.analysis.edge_view import DiagnosedState, evidence, fringe, profile
from nexal.engine import Engine, Plan
from nexal.kernels.nearest import nearest_known
from nexal.picture import Alpha, Window
from nexal.recipe import parse_recipe


def srgb(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.0031308, 12.92 * v, 1.055 * np.maximum(v, 1e-9) ** (1 / 2.4) - 0.055)


def linear(v: np.ndarray) -> np.ndarray:
    return np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)


def soft_alpha(width: int = 64, height: int = 48) -> np.ndarray:
    """0, 1 and everything between."""
    return np.clip(gradient(width, height, 9) * 2.2 - 0.6, 0, 1).astype(np.float32)


def alone(op: str, inputs: dict[str, str], **settings: Any) -> list[dict[str, Any]]:
    return [{"name": "made", "op": op, "in": inputs, "set": settings}]


class Clearing(CoreTest):
    def setUp(self) -> None:
        self.colour = {name: np.float64(plane) * 0.9 + 0.05 for name, plane in rgb(seed=3).items()}
        self.alpha = soft_alpha()
        self.backing = (0.1, 0.5, 0.3)

    def matted(self, domain: str, backing: Any = None) -> MemorySource:
        """Straight colour over the backing, mixed in double precision."""
        planes = {}
        for index, (name, plane) in enumerate(self.colour.items()):
            b = self.backing[index] if backing is None else backing[name]
            if domain == "scene":
                mixed = plane * self.alpha + b * (1.0 - self.alpha)
            else:
                mixed = linear(srgb(plane) * self.alpha + b * (1.0 - self.alpha))
            planes[name] = mixed.astype(np.float32)
        return MemorySource(planes | {"A": self.alpha}, alpha=Alpha.STRAIGHT)

    def assert_recovered(self, got: Any, *, times_alpha: bool = False) -> None:
        seen = self.alpha > 0.1
        for name, plane in self.colour.items():
            wanted = plane * self.alpha if times_alpha else plane
            self.assertLess(float(np.abs(got.planes[name] - wanted)[seen].max()), 1e-5, name)
            self.assertEqual(float(np.abs(got.planes[name][self.alpha == 0]).max()), 0)
        np.testing.assert_array_equal(got.planes["A"], self.alpha)

    def test_straight_colour_comes_back_from_either_domain(self) -> None:
        for domain in ("scene", "display"):
            with self.subTest(domain):
                steps = alone("clear_backing", {"picture": "p"}, colour=list(self.backing), encoding=domain)
                got = run(steps, {"p": self.matted(domain)}, "made")
                self.assertIs(got.description.alpha, Alpha.STRAIGHT)
                self.assert_recovered(got)

    def test_premultiplied_result(self) -> None:
        steps = alone("clear_backing", {"picture": "p"}, colour=list(self.backing), result="premultiplied")
        got = run(steps, {"p": self.matted("scene")}, "made")
        self.assertIs(got.description.alpha, Alpha.PREMULTIPLIED)
        self.assert_recovered(got, times_alpha=True)

    def test_a_picture_as_backing(self) -> None:
        behind = {name: np.float64(plane) for name, plane in rgb(seed=21).items()}
        for domain in ("scene", "display"):
            with self.subTest(domain):
                mixed = {n: srgb(p) if domain == "display" else p for n, p in behind.items()}
                clean = MemorySource({n: p.astype(np.float32) for n, p in behind.items()})
                ports = {"picture": "p", "backing": "clean"}
                steps = alone("clear_backing", ports, encoding=domain, colour=[9.0, 9.0, 9.0])
                got = run(steps, {"p": self.matted(domain, mixed), "clean": clean}, "made")
                seen = self.alpha > 0.1
                for name, plane in self.colour.items():
                    self.assertLess(float(np.abs(got.planes[name] - plane)[seen].max()), 2e-5)

    def test_clamp(self) -> None:
        dark = MemorySource(
            {n: np.full((4, 4), 0.05, np.float32) for n in "RGB"} | {"A": np.full((4, 4), 0.5, np.float32)}
        )
        for clamp, wanted in ((True, 0.0), (False, (0.05 - 0.5 * 0.5) / 0.5)):
            steps = alone("clear_backing", {"picture": "p"}, colour=[0.5, 0.5, 0.5], clamp=clamp)
            self.assertAlmostEqual(float(run(steps, {"p": dark}, "made").planes["R"][1, 1]), wanted, 6)

    def test_a_picture_without_alpha_is_refused(self) -> None:
        bare = MemorySource(rgb())
        for op in ("clear_backing", "edge_melt", "bleed"):
            self.assert_refused(
                lambda op=op: run(alone(op, {"picture": "p"}), {"p": bare}, "made"), "step 'made'", "no alpha"
            )


class Melting(CoreTest):
    def hard(self, alpha: Alpha) -> MemorySource:
        """A bright disc with a hard edge, black around."""
        y, x = np.mgrid[0:64, 0:96]
        cover = (np.hypot(x - 48, y - 32) < 18).astype(np.float32)
        planes = {name: 0.8 * cover if alpha is Alpha.PREMULTIPLIED else np.full_like(cover, 0.8) for name in "RGB"}
        return MemorySource(planes | {"A": cover}, alpha=alpha)

    def test_a_soft_edge_keeps_its_colour_over_white_and_black(self) -> None:
        settings = {"width": 12, "radius": 2}
        got = run(alone("edge_melt", {"picture": "p"}, **settings), {"p": self.hard(Alpha.PREMULTIPLIED)}, "made")
        a = got.planes["A"]
        # A hard edge has no soft pixel, so the band is empty and nothing melts.
        np.testing.assert_array_equal(a, self.hard(Alpha.PREMULTIPLIED).planes["A"])
        source = self.hard(Alpha.PREMULTIPLIED)
        soft = {n: _blur(p, 1.0) for n, p in source.planes.items()}
        picture = MemorySource(soft, alpha=Alpha.PREMULTIPLIED)
        got = run(alone("edge_melt", {"picture": "p"}, **settings), {"p": picture}, "made")
        cover = got.planes["A"]
        self.assertGreater(float(np.abs(cover - soft["A"]).max()), 0.05)
        for backdrop in (0.0, 1.0):
            over = got.planes["R"] + (1 - cover) * backdrop
            true = 0.8 * cover + (1 - cover) * backdrop
            self.assertLess(float(np.abs(over - true).max()), 1e-5)
        # Blurring alpha alone leaves a line of wrong colour at the same edge.
        plain = _blur(soft["A"], 2.0)
        self.assertGreater(float(np.abs(soft["R"] + (1 - plain) - (0.8 * plain + (1 - plain))).max()), 0.05)

    def test_only_the_band_melts_and_by_the_amount(self) -> None:
        source = self.hard(Alpha.PREMULTIPLIED)
        planes = {n: _blur(p, 1.0) for n, p in source.planes.items()}
        planes["R"] = planes["R"] * (1 + 0.2 * np.sin(np.arange(96))[None].astype(np.float32))
        picture = MemorySource(planes, alpha=Alpha.PREMULTIPLIED)
        made = {
            amount: run(alone("edge_melt", {"picture": "p"}, width=6, radius=2, amount=amount), {"p": picture}, "made")
            for amount in (0.0, 0.5, 1.0)
        }
        np.testing.assert_array_equal(made[0.0].planes["R"], planes["R"])
        half, whole = (made[amount].planes["R"] - planes["R"] for amount in (0.5, 1.0))
        np.testing.assert_allclose(half, whole / 2, atol=1e-6)
        middle = np.s_[26:38, 42:54]
        self.assertLess(float(np.abs(whole[middle]).max()), 2e-4)

    def test_straight_in_straight_out(self) -> None:
        planes = self.hard(Alpha.STRAIGHT).planes
        picture = MemorySource(planes | {"A": _blur(planes["A"], 1.0)}, alpha=Alpha.STRAIGHT)
        got = run(alone("edge_melt", {"picture": "p"}, width=12, radius=2), {"p": picture}, "made")
        self.assertIs(got.description.alpha, Alpha.STRAIGHT)
        self.assertLess(float(np.abs(got.planes["R"] - 0.8)[got.planes["A"] > 1e-3].max()), 1e-4)


def _blur(plane: np.ndarray, sigma: float) -> np.ndarray:
    """A Gaussian by explicit convolution, edges extended."""
    reach = math.ceil(4 * sigma)
    weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
    weights /= weights.sum()
    for axis in (0, 1):
        pad = [(reach, reach) if a == axis else (0, 0) for a in (0, 1)]
        wide = np.pad(plane.astype(np.float64), pad, mode="edge")
        size = plane.shape[axis]
        plane = sum(w * np.take(wide, range(i, i + size), axis) for i, w in enumerate(weights))
    return plane.astype(np.float32)


class Bleeding(CoreTest):
    def test_the_nearest_pixel_is_found_exactly(self) -> None:
        random = np.random.default_rng(5)
        for share in (0.003, 0.05, 0.6):
            known = random.random((37, 53)) < share
            rows, columns = nearest_known(known)
            ys, xs = np.nonzero(known)
            y, x = np.mgrid[0:37, 0:53]
            wanted = np.min(np.hypot(y[..., None] - ys, x[..., None] - xs), axis=-1)
            np.testing.assert_allclose(np.hypot(rows - y, columns - x), wanted, atol=1e-9)
            self.assertTrue(known[rows, columns].all())
        self.assertTrue((nearest_known(np.zeros((3, 4), bool))[1] == -1).all())

    def test_colour_is_carried_outward_and_alpha_stays(self) -> None:
        alpha = np.zeros((40, 60), np.float32)
        alpha[:, :20], alpha[:, 40:] = 0.5, 1.0
        straight = np.zeros_like(alpha)
        straight[:, :20], straight[:, 40:] = 0.25, 0.75
        picture = MemorySource(dict.fromkeys("RGB", straight * alpha) | {"A": alpha}, alpha=Alpha.PREMULTIPLIED)
        got = run(alone("bleed", {"picture": "p"}), {"p": picture}, "made")
        self.assertIs(got.description.alpha, Alpha.STRAIGHT)
        np.testing.assert_array_equal(got.planes["A"], alpha)
        red = got.planes["R"]
        np.testing.assert_allclose(red[:, :20], 0.25, atol=1e-6)
        np.testing.assert_allclose(red[:, [22, 37]], [[0.25, 0.75]] * 40, atol=0.01)
        self.assertTrue((np.diff(red[10]) >= -1e-6).all())
        near = run(alone("bleed", {"picture": "p"}, distance=4), {"p": picture}, "made").planes["R"]
        np.testing.assert_allclose(near[:, [21, 38]], [[0.25, 0.75]] * 40, atol=0.01)
        self.assertEqual(float(np.abs(near[:, 25:35]).max()), 0)

    def test_all_clear_and_all_solid(self) -> None:
        for level in (0.0, 1.0):
            planes = rgb(12, 8) | {"A": np.full((8, 12), level, np.float32)}
            got = run(alone("bleed", {"picture": "p"}), {"p": MemorySource(planes, alpha=Alpha.STRAIGHT)}, "made")
            np.testing.assert_array_equal(got.planes["G"], planes["G"])


class Growing(CoreTest):
    """Alpha of a picture grown and shrunk, its colour with it."""

    def disc(self, alpha: Alpha) -> MemorySource:
        y, x = np.mgrid[0:60, 0:80]
        cover = np.clip(18.5 - np.hypot(x - 40, y - 30), 0, 1).astype(np.float32)
        colour = {"R": 0.8, "G": 0.4, "B": 0.1}
        planes = {n: v * (cover if alpha is Alpha.PREMULTIPLIED else np.ones_like(cover)) for n, v in colour.items()}
        if alpha is Alpha.STRAIGHT:
            planes = {n: np.where(cover > 0, p, 0).astype(np.float32) for n, p in planes.items()}
        return MemorySource(planes | {"A": cover}, alpha=alpha)

    def test_the_new_edge_has_the_colour_of_the_old(self) -> None:
        for alpha in (Alpha.PREMULTIPLIED, Alpha.STRAIGHT):
            for distance in (4.0, -3.0):
                with self.subTest(f"{alpha} {distance}"):
                    picture = self.disc(alpha)
                    ports = {"matte": "p.A", "picture": "p"}
                    got = run(alone("grow", ports, distance=distance), {"p": picture}, "made")
                    plain = run(alone("grow", {"matte": "p.A"}, distance=distance), {"p": picture}, "made")
                    a = got.planes["A"]
                    np.testing.assert_array_equal(a, plain.planes["Y"])
                    self.assertIs(got.description.alpha, alpha)
                    seen = a > 0.01
                    for name, value in (("R", 0.8), ("G", 0.4), ("B", 0.1)):
                        wanted = value * a if alpha is Alpha.PREMULTIPLIED else np.full_like(a, value)
                        np.testing.assert_allclose(got.planes[name][seen], wanted[seen], atol=1e-5)

    def test_a_part_equals_the_whole(self) -> None:
        picture, ports = self.disc(Alpha.PREMULTIPLIED), {"matte": "p.A", "picture": "p"}
        whole = run(alone("grow", ports, distance=4.0), {"p": picture}, "made")
        part = Window(10, 8, 25, 20)
        cut = run(alone("grow", ports, distance=4.0), {"p": picture}, "made", region=part)
        np.testing.assert_allclose(cut.planes["R"], whole.planes["R"][part.within(whole.region)], atol=1e-6)

    def test_without_alpha_it_is_refused(self) -> None:
        sources = {"p": self.disc(Alpha.STRAIGHT), "bare": MemorySource(rgb(80, 60))}
        ports = {"matte": "p.A", "picture": "bare"}
        self.assert_refused(lambda: run(alone("grow", ports), sources, "made"), "step 'made'", "no alpha")


class Recovering(CoreTest):
    def test_the_foreground_loses_what_showed_through(self) -> None:
        y, x = np.mgrid[0:48, 0:64]
        alpha = np.clip((22 - np.hypot(x - 32, y - 24)) / 10, 0, 1).astype(np.float32)
        fore, back = (0.7, 0.3, 0.1), (0.1, 0.2, 0.9)
        planes = {n: (fore[i] * alpha + back[i] * (1 - alpha)).astype(np.float32) for i, n in enumerate("RGB")}
        steps = alone("recover_colour", {"picture": "p", "matte": "p.M"})
        got = run(steps, {"p": MemorySource(planes | {"M": alpha})}, "made")
        self.assertEqual(list(got.planes), ["R", "G", "B", "A"])
        np.testing.assert_array_equal(got.planes["A"], alpha)
        seen = alpha > 0.3
        for index, name in enumerate("RGB"):
            self.assertLess(float(np.abs(got.planes[name] - fore[index])[seen].mean()), 0.03)
            self.assertGreater(float(np.abs(planes[name] - fore[index])[seen & (alpha < 0.8)].mean()), 0.04)

    def test_light_above_one_is_kept(self) -> None:
        alpha = np.ones((16, 16), np.float32)
        alpha[:, :4] = 0
        planes = {n: np.full((16, 16), 6.0, np.float32) for n in "RGB"}
        steps = alone("recover_colour", {"picture": "p", "matte": "p.M"})
        got = run(steps, {"p": MemorySource(planes | {"M": alpha})}, "made")
        np.testing.assert_allclose(got.planes["R"][:, 6:], 6.0, atol=0.05)


class RecoveringBeforeACleanPlate(CoreTest):
    def scene(self) -> tuple[dict[str, np.ndarray], dict[str, np.ndarray], np.ndarray, np.ndarray]:
        """A textured disc with a soft edge before a textured plate, both with noise: shot, plate, colour, alpha."""
        random = np.random.default_rng(4)

        def texture(coarse: int, low: float, high: float) -> np.ndarray:
            return low + (high - low) * np.kron(
                random.random((160 // coarse, 240 // coarse)), np.ones((coarse, coarse))
            )

        y, x = np.mgrid[0:160, 0:240]
        alpha = np.clip((60 - np.hypot(x - 120, y - 80)) / 25 + 0.5, 0, 1)
        colour = np.stack([texture(8, 0.1, 0.8) for _ in "RGB"])
        plate = np.stack([texture(20, 0.1, 0.6) for _ in "RGB"])
        pair = (
            light + np.sqrt(2e-5 + 4e-4 * light) * random.standard_normal(light.shape)
            for light in (colour * alpha + plate * (1 - alpha), plate)
        )
        shot, seen = ({name: part[index].astype(np.float32) for index, name in enumerate("RGB")} for part in pair)
        return shot, seen, colour, alpha.astype(np.float32)

    def recovered(self, shot: dict[str, np.ndarray], alpha: np.ndarray, clean: MemorySource | None) -> np.ndarray:
        given = {"p": MemorySource(shot | {"M": alpha})} | ({"c": clean} if clean else {})
        steps = alone("recover_colour", {"picture": "p", "matte": "p.M"} | ({"clean": "c"} if clean else {}))
        planes = run(steps, given, "made").planes
        return np.stack([planes[name] for name in "RGB"])

    def test_the_error_in_soft_pixels_falls(self) -> None:
        shot, plate, colour, alpha = self.scene()
        soft = (alpha > 0.05) & (alpha < 0.95)
        without, led = (
            float(np.abs(self.recovered(shot, alpha, clean) - colour)[:, soft].mean())
            for clean in (None, MemorySource(plate))
        )
        self.assertLess(led, 0.65 * without)

    def test_a_plate_that_does_not_reach_leaves_the_rest_as_it_was(self) -> None:
        shot, plate, _, alpha = self.scene()
        plate["R"][5, 5] = np.nan
        half = {name: plane[:, :120] for name, plane in plate.items()}
        clean = MemorySource(half, window=Window(0, 0, 120, 160), display=Window(0, 0, 240, 160))
        without, led, whole = (self.recovered(shot, alpha, c) for c in (None, clean, MemorySource(plate)))
        np.testing.assert_array_equal(led[:, :, 120:], without[:, :, 120:])
        np.testing.assert_array_equal(led[:, :, :120], whole[:, :, :120])
        self.assertTrue(np.isfinite(led).all())


class Diagnosing(CoreTest):
    def told(
        self, planes: dict[str, np.ndarray], alpha: Alpha = Alpha.STRAIGHT, apart: str | None = None
    ) -> dict[str, Any]:
        plan = Plan(
            parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}}), 1, {"p": MemorySource(planes, alpha=alpha)}
        )
        return diagnose(Engine(), plan, plan.feed("p"), plan.feed(apart) if apart else None)

    def texture(self, seed: int = 1) -> np.ndarray:
        random = np.random.default_rng(seed)
        coarse = random.random((24, 32))
        return np.kron(coarse, np.ones((8, 8))) * 0.6 + 0.1 + random.random((192, 256)) * 0.1

    def soft(self) -> np.ndarray:
        y, x = np.mgrid[0:192, 0:256]
        return np.clip((80 - np.hypot(x - 128, y - 96)) / 50, 0, 1)

    def made(self, backing: tuple[float, float, float] | None) -> dict[str, np.ndarray]:
        a = self.soft()
        planes = {}
        for index, name in enumerate("RGB"):
            f = self.texture(index)
            planes[name] = (f if backing is None else f * a + backing[index] * (1 - a)).astype(np.float32)
        return planes | {"A": a.astype(np.float32)}

    def test_the_three_states_and_their_cures(self) -> None:
        straight = self.told(self.made(None), Alpha.PREMULTIPLIED)
        self.assertEqual(
            (straight["verdict"], straight["domain"], straight["claims"]), ("straight", None, "premultiplied")
        )
        self.assertEqual(cure_of(straight, "p")["read"], "straight")
        black = self.told(self.made((0, 0, 0)), Alpha.PREMULTIPLIED)
        self.assertEqual((black["verdict"], black["domain"], black["backing"]), ("premultiplied", "scene", [0, 0, 0]))
        self.assertIsNone(cure_of(black, "p"))
        teal = self.told(self.made((0.02, 0.3, 0.3)))
        self.assertEqual((teal["verdict"], teal["domain"]), ("matted", "scene"))
        np.testing.assert_allclose(teal["backing"], (0.02, 0.3, 0.3), atol=0.004)
        (step,) = cure_of(teal, "p")["steps"]
        self.assertEqual((step["op"], step["set"]["encoding"]), ("clear_backing", "scene"))
        got = run([step], {"p": MemorySource(self.made((0.02, 0.3, 0.3)), alpha=Alpha.STRAIGHT)}, "cleared")
        seen = self.soft() > 0.3
        self.assertLess(float(np.abs(got.planes["R"] - self.texture(0))[seen].max()), 0.02)

    def test_an_alpha_that_came_apart(self) -> None:
        planes = self.made((0.02, 0.3, 0.3))
        planes["M"] = planes.pop("A")
        answer = self.told(planes, Alpha.NONE, "p.M")
        self.assertEqual((answer["verdict"], answer["claims"]), ("matted", "none"))
        names = [step["name"] for step in cure_of(answer, "p", "p.M")["steps"]]
        self.assertEqual(names, ["joined", "cleared"])
        self.assertEqual(self.told(planes, Alpha.NONE)["verdict"], "no_alpha")

    def test_nothing_is_guessed_without_a_soft_pixel(self) -> None:
        planes = self.made((0.02, 0.3, 0.3))
        planes["A"] = (planes["A"] > 0.5).astype(np.float32)
        answer = self.told(planes)
        self.assertEqual((answer["verdict"], answer["confidence"]), ("cannot_tell", 0))
        self.assertIsNone(cure_of(answer, "p"))
        planes["A"] = np.ones_like(planes["A"])
        self.assertEqual(self.told(planes)["verdict"], "unused_alpha")

    def test_how_sure_it_is_follows_the_evidence(self) -> None:
        straight, mixed = self.made(None), self.made((0.0, 0.0, 0.0))
        for planes, verdict in ((straight, "straight"), (mixed, "premultiplied")):
            answer = self.told(planes)
            self.assertEqual(answer["verdict"], verdict)
            self.assertGreater(answer["confidence"], 0.9)
        # What was cured is straight, and as surely.
        alpha = mixed["A"]
        cured = {name: np.where(alpha > 0, plane / np.maximum(alpha, 1e-6), 0) for name, plane in mixed.items()}
        answer = self.told({name: plane.astype(np.float32) for name, plane in cured.items()} | {"A": alpha})
        self.assertEqual(answer["verdict"], "straight")
        self.assertGreater(answer["confidence"], 0.9)
        # One half says one thing, the other another.
        left = np.arange(256) < 128
        torn = {name: np.where(left, straight[name], mixed[name]) for name in "RGB"} | {"A": alpha}
        self.assertLess(self.told(torn)["confidence"], 0.9)

    def test_evidence_in_figures(self) -> None:
        planes = self.made((0.02, 0.3, 0.3))
        figures = self.told(planes)["figures"]
        a = planes["A"]
        self.assertAlmostEqual(figures["soft"], float(((a > 0.03) & (a < 0.97)).mean()), 6)
        self.assertEqual(figures["under"]["share"], 1)
        np.testing.assert_allclose(figures["under"]["colour"], (0.02, 0.3, 0.3), atol=1e-6)
        self.assertGreater(figures["brighter"], 0.3)
        self.assertEqual(self.told(self.made((0, 0, 0)))["figures"]["under"]["share"], 0)

    def test_a_picture_moved_out_of_sight_is_told_all_the_same(self) -> None:
        moved = {"name": "moved", "op": "place", "in": {"picture": "p"}, "set": {"x": 900}}
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}, "steps": [moved]})
        plan = Plan(recipe, 1, {"p": MemorySource(self.made((0.02, 0.3, 0.3)), alpha=Alpha.STRAIGHT)})
        self.assertEqual(diagnose(Engine(), plan, plan.feed("moved"))["verdict"], "matted")

    def test_values_that_are_not_finite_do_no_harm(self) -> None:
        planes = self.made((0.02, 0.3, 0.3))
        planes["R"][::16, ::16] = np.nan
        planes["G"][5, 5] = np.inf
        self.assertEqual(self.told(planes)["verdict"], "matted")

    def test_pictures_without_colour_or_of_another_size_are_refused(self) -> None:
        data = MemorySource({"Z": np.ones((8, 8), np.float32)})
        plan = Plan(parse_recipe({"nexal": 1, "sources": {"d": {"files": "d"}}}), 1, {"d": data})
        self.assert_refused(lambda: diagnose(Engine(), plan, plan.feed("d")), "d", "no colour")
        picture, other = MemorySource(rgb()), MemorySource({"M": gradient(20, 10)}, display=Window(0, 0, 20, 10))
        names = {"p": {"files": "p"}, "o": {"files": "o"}}
        both = Plan(parse_recipe({"nexal": 1, "sources": names}), 1, {"p": picture, "o": other})
        self.assert_refused(lambda: diagnose(Engine(), both, both.feed("p"), both.feed("o.M")), "o", "differ in size")


class Seen(CoreTest):
    """The profile of an edge and the fringe, against values by hand."""

    def plan(self, planes: dict[str, np.ndarray], alpha: Alpha) -> Plan:
        recipe = parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}})
        return Plan(recipe, 1, {"p": MemorySource(planes, alpha=alpha)})

    def ramp(self) -> dict[str, np.ndarray]:
        """Alpha that rises by 1/40 a pixel from column 10 on; colour 0.5 everywhere, straight."""
        a = np.clip((np.arange(60) - 10) / 40, 0, 1).astype(np.float32)[None] * np.ones((20, 1), np.float32)
        return dict.fromkeys("RGB", np.full_like(a, 0.5)) | {"A": a}

    def test_the_comp_along_a_line(self) -> None:
        plan = self.plan(self.ramp(), Alpha.STRAIGHT)
        row = profile(Engine(), plan, plan.feed("p"), (10.5, 9.5), (50.5, 9.5), (1.0, 0.0, 0.2))
        a = np.linspace(0, 1, len(row["a"]))
        np.testing.assert_allclose(row["a"], a, atol=1e-5)
        for name, back in (("r", 1.0), ("g", 0.0), ("b", 0.2)):
            np.testing.assert_allclose(row[name], srgb(0.5 * a + (1 - a) * back), atol=2e-3)
        self.assertAlmostEqual(row["step"], 40 / (len(row["a"]) - 1), 6)

    def test_lines_that_say_nothing_are_refused(self) -> None:
        plan = self.plan(self.ramp(), Alpha.STRAIGHT)
        for end, words in (((5.0, 5.2), "no length"), ((900.0, 900.0), "outside")):
            start = (5.0, 5.0) if words == "no length" else (800.0, 800.0)
            self.assert_refused(lambda s=start, e=end: profile(Engine(), plan, plan.feed("p"), s, e), "line", words)

    def test_a_picture_of_alpha_alone_is_refused_and_beyond_the_picture_is_nothing(self) -> None:
        bare = self.plan({"A": self.ramp()["A"]}, Alpha.STRAIGHT)
        whole, told = Window(0, 0, 60, 20), DiagnosedState("straight", None, (0, 0, 0))
        for look in (
            lambda: profile(Engine(), bare, bare.feed("p"), (5.0, 5.0), (40.0, 5.0)),
            lambda: fringe(Engine(), bare, bare.feed("p"), Fraction(1), whole, told),
            lambda: evidence(Engine(), bare, bare.feed("p"), "under", Fraction(1), whole),
        ):
            self.assert_refused(look, "p", "no colour")
        plan = self.plan(self.ramp(), Alpha.STRAIGHT)
        row = profile(Engine(), plan, plan.feed("p"), (50.0, 10.0), (90.0, 10.0), (0.0, 1.0, 0.0))
        self.assertEqual((row["a"][-1], row["r"][-1]), (0, 0))
        self.assertAlmostEqual(row["g"][-1], 1, 5)
        self.assertEqual(row["a"][5], 1)

    def test_the_fringe_is_warm_where_too_bright_and_cold_where_too_dark(self) -> None:
        planes = self.ramp()
        whole = Window(0, 0, 60, 20)
        for backing, warm in ((0.9, True), (0.0, False)):
            mixed = {n: planes["A"] * 0.5 + (1 - planes["A"]) * np.float32(backing) for n in "RGB"} | {"A": planes["A"]}
            plan = self.plan(mixed, Alpha.STRAIGHT)
            told = DiagnosedState("matted", "scene", (backing, backing, backing))
            seen = fringe(Engine(), plan, plan.feed("p"), Fraction(1), whole, told).planes
            middle = [float(seen[name][10, 24]) for name in "RGB"]
            self.assertEqual(middle[0] > middle[2], warm)
            self.assertGreater(abs(middle[0] - middle[2]), 0.3)
            # Nothing is said of what is clear or solid.
            self.assertEqual(len({round(float(seen[name][10, 58]), 5) for name in "RGB"}), 1)
        plan = self.plan(planes, Alpha.STRAIGHT)
        told = DiagnosedState("straight", None, (0, 0, 0))
        clean = fringe(Engine(), plan, plan.feed("p"), Fraction(1), whole, told).planes
        np.testing.assert_allclose(clean["R"], clean["B"], atol=1e-6)


if __name__ == "__main__":
    unittest.main()
