"""Whole mattes before coloured screens, estimated screens, and noise: against scenes whose alpha is known."""

from __future__ import annotations

import unittest
from functools import cache
from typing import Any
from unittest import mock

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, one, run
from screen_scenes import HEIGHT, NOISE, WIDTH, Array, Shot, filmed, noisy

from nexal.analysis.screens import ScreenFacts, screen_facts, whole_matte
from nexal.engine import Engine, Plan
from nexal.kernels import solving
from nexal.kernels.denoising import averaged, noise_of
from nexal.kernels.pointmath import decode, encode
from nexal.kernels.screens import bare_screen, commonest_screen, estimated, excess, joined
from nexal.kernels.solving import Solved, solve
from nexal.picture import Plane
from nexal.recipe import parse_recipe


def silent(done: float) -> None:
    """Nobody wants to know."""


@cache
def shot(name: str, screen: str, seed: int = 0) -> Shot:
    return filmed(name, screen, seed)


@cache
def solved(name: str, screen: str, *, clean: bool = False, seed: int = 0) -> Solved:
    made = shot(name, screen, seed)
    return solve(made.shot, screen, made.empty if clean else None, silent)


def pictured(planes: Array) -> MemorySource:
    return MemorySource(dict(zip("RGB", planes, strict=True)))


def error(alpha: Plane, truth: Plane) -> float:
    """Sum of absolute differences in thousands, as of a picture of 640 x 360."""
    return float(np.abs(np.clip(alpha, 0, 1) - truth).sum()) / 1000 * (640 * 360) / (WIDTH * HEIGHT)


def plain(made: Shot, plate: Array) -> Plane:
    pulled: Plane = 1 - np.clip(excess(made.shot, made.screen) / np.maximum(excess(plate, made.screen), 1e-4), 0, 1)
    return pulled


EVERY = [("head", "green"), ("veil", "blue"), ("leaves", "green"), ("thrown", "blue")]
"""The scenes, each before one of the screens. Before both: 6.3 for a plain pull and 1.2 for the whole matte."""


class Noise(CoreTest):
    def test_the_model_is_found_within_its_limits(self) -> None:
        slope = np.tile(np.linspace(0.02, 0.9, 400, dtype=np.float32), (300, 1))
        for base, rise in ((1e-5, 4e-4), (2e-4, 0.0), (1e-6, 2e-3)):
            sigma = np.sqrt(base + rise * slope)
            random = np.random.default_rng(3)
            found = noise_of(
                np.stack([slope + sigma * random.standard_normal(slope.shape) for _ in range(3)]).astype(np.float32)
            )
            for level in (0.05, 0.4, 0.8):
                true, told = base + rise * level, found.base + found.slope * level
                self.assertLess(abs(np.log(told / true)), np.log(1.4), (base, rise, level, found))

    def test_averages_come_nearer_to_the_truth_as_far_as_they_say(self) -> None:
        truth = np.stack([shot("head", "green").plate * 0 + 0.3][0])
        y, x = np.mgrid[0:HEIGHT, 0:WIDTH]
        truth = np.where((x // 40 + y // 40) % 2, truth, np.float32(0.1)).astype(np.float32)
        seen = noisy(truth, 9)
        variance = noise_of(seen).variance(seen)
        clean, factor = averaged(seen, variance, 5, 0.3, silent)
        before, after = np.mean((seen - truth) ** 2), np.mean((clean - truth) ** 2)
        self.assertLess(after, 0.12 * before)
        told = float(np.mean(variance.mean(axis=0) * factor))
        self.assertLess(abs(np.log(told / after)), np.log(2.5))

    def test_the_step_changes_colour_alone_and_tells_what_is_left(self) -> None:
        made = shot("leaves", "green")
        cover = np.ones_like(made.alpha)
        planes = dict(zip("RGB", made.shot, strict=True)) | {"A": cover, "Z": made.alpha * 9}
        sources = {"p": MemorySource(planes, data=["Z"])}
        clean = one("denoise", {"picture": "p"}, sources).planes
        self.assert_planes(clean["A"], cover, 0)
        self.assert_planes(clean["Z"], made.alpha * 9, 0)
        bare = made.alpha == 0
        for name, empty in zip("RGB", made.plate, strict=True):
            left = np.std((clean[name] - empty)[bare])
            self.assertLess(left, 0.35 * np.std((planes[name] - empty)[bare]))
        left = one("denoise", {"picture": "p"}, sources, gives="deviation").planes["Y"]
        self.assertLess(float(left.max()), 0.05)
        self.assertGreater(float(left.min()), 0)

    def test_a_plain_pull_gains_by_it(self) -> None:
        gains = []
        for name, screen in EVERY:
            made = shot(name, screen)
            clean, _ = averaged(made.shot, noise_of(made.shot).variance(made.shot), 5, 0.3, silent)
            after = Shot(clean, made.plate, made.empty, made.alpha, screen)
            gains.append(error(plain(after, made.plate), made.alpha) / error(plain(made, made.plate), made.alpha))
        self.assertLess(max(gains), 1.0)
        self.assertLess(float(np.mean(gains)), 0.8)


class Plates(CoreTest):
    def test_the_estimate_is_as_good_for_a_pull_as_the_true_plate(self) -> None:
        for name, screen in EVERY:
            made = shot(name, screen)
            self.assertEqual(commonest_screen(made.shot), screen)
            plate, doubt = estimated(made.shot, bare_screen(made.shot, screen))
            own = error(plain(made, made.plate), made.alpha)
            self.assertLess(error(plain(made, plate), made.alpha), 1.05 * own, (name, screen))
            away = np.abs(plate / made.plate - 1).mean(axis=0)
            self.assertLess(float(np.mean(away)), 0.02)
            self.assertLess(float(np.mean(away < 3 * doubt)), 1.01)
            self.assertGreater(float(np.mean(away < 3 * doubt)), 0.95, (name, screen))

    def test_the_step(self) -> None:
        made = shot("thrown", "blue")
        sources = {
            "p": MemorySource(dict(zip("RGB", made.shot, strict=True))),
            "m": MemorySource({"Y": made.alpha}, data=["Y"]),
        }
        plate = one("screen_plate", {"picture": "p", "matte": "m.Y"}, sources).planes
        self.assertEqual(set(plate), set("RGB"))
        for name, empty in zip("RGB", made.plate, strict=True):
            self.assertLess(float(np.mean(np.abs(plate[name] / empty - 1))), 0.02)
        doubt = one("screen_plate", {"picture": "p"}, sources, gives="doubt").planes["Y"]
        self.assertGreater(float(doubt[made.alpha > 0.99].mean()), 1.5 * float(doubt[made.alpha == 0].mean()))

    def test_what_one_frame_hides_is_seen_in_others(self) -> None:
        made = shot("head", "green")
        hidden = made.alpha > 0.5
        others = [moved(made, across, light) for across, light in ((90, 1.06), (-80, 0.97))]
        bare = bare_screen(made.shot, "green")
        alone, _ = estimated(made.shot, bare)
        plate, _ = estimated(*joined(made.shot, bare, others, "green"), joined=True)

        def off(plate: Array) -> float:
            return float(np.abs(plate / made.plate - 1).mean(axis=0)[hidden].mean())

        self.assertLess(off(plate), 0.5 * off(alone))
        # A camera that moved, or another screen, is no help, and does no harm.
        lit = np.roll(others[0], 60, axis=2) * np.linspace(0.8, 1.3, WIDTH, dtype=np.float32) ** 2
        wrong = [shot("head", "blue").shot, np.ascontiguousarray(lit * (1 + 0.2 * np.sin(np.arange(WIDTH) / 9)))]
        np.testing.assert_array_equal(
            estimated(*joined(made.shot, bare, [each.astype(np.float32) for each in wrong], "green"))[0], alone
        )
        ports = {"picture": "p", "others": ["a", "b"]}
        sources = {"p": pictured(made.shot), "a": pictured(others[0]), "b": pictured(others[1])}
        found = run([{"name": "r", "op": "screen_plate", "in": ports}], sources).planes
        np.testing.assert_allclose(np.stack([found[name] for name in "RGB"]), plate, rtol=1e-5)
        # A light that falls off to a point in the middle, as a lamp's does: its corners are no subject.
        y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
        lamp = (1.1 - 0.7 * np.hypot((x - 150) / WIDTH, (y - 80) / HEIGHT)).astype(np.float32)
        for name in sources:
            sources[name] = pictured(np.stack(list(sources[name].planes.values())) * lamp)
        found = run([{"name": "r", "op": "screen_plate", "in": ports}], sources).planes
        corners = np.s_[[0, 0, -1, -1], [0, -1, 0, -1]]
        np.testing.assert_allclose(found["G"][corners], (made.plate[1] * lamp)[corners], rtol=0.05)


def moved(made: Shot, across: int, light: float) -> Array:
    """The subject elsewhere before the same screen, under more or less light."""
    subject = np.roll(made.shot - made.plate * (1 - made.alpha), across, axis=2)
    return noisy((subject + made.plate * (1 - np.roll(made.alpha, across, axis=1))) * np.float32(light), across + 99)


class Whole(CoreTest):
    def test_it_halves_the_error_of_a_plain_pull_and_is_never_worse(self) -> None:
        own, alone = [], []
        for name, screen in EVERY:
            made = shot(name, screen)
            own.append(error(plain(made, made.plate), made.alpha))
            alone.append(error(solved(name, screen).alpha, made.alpha))
            self.assertLess(alone[-1], own[-1], (name, screen))
        self.assertLess(float(np.mean(alone)), 0.25 * float(np.mean(own)))

    def test_with_a_filmed_plate(self) -> None:
        for name, screen in (("veil", "blue"), ("thrown", "blue")):
            made = shot(name, screen)
            found = solved(name, screen, clean=True)
            self.assertLess(error(found.alpha, made.alpha), 0.5 * error(plain(made, made.plate), made.alpha))

    def test_what_it_says_of_its_doubt_holds(self) -> None:
        for name, screen in EVERY:
            made, found = shot(name, screen), solved(name, screen)
            away = np.abs(found.alpha - made.alpha)
            sure, unsure = found.doubt < 0.02, found.doubt >= np.percentile(found.doubt, 98)
            self.assertGreater(float(sure.mean()), 0.6, (name, screen))
            if name != "veil":
                self.assertLess(float(away[sure].mean()), 0.004, (name, screen))
            self.assertGreater(float(away[unsure].mean()), 4 * float(away[sure].mean()), (name, screen))

    def test_it_flickers_less_than_a_pull(self) -> None:
        shots = [shot("head", "green", seed) for seed in range(2)]
        found = [solved("head", "green", seed=seed).alpha for seed in range(2)]
        pulled = [plain(made, made.plate) for made in shots]
        alpha = shots[0].alpha
        for part, least in ((alpha == 0, 0.1), ((alpha > 0.05) & (alpha < 0.95), 1.0)):
            own, other = (float(np.std(np.stack(rows), axis=0)[part].mean()) for rows in (found, pulled))
            self.assertLess(own, least * other)
        self.assertLess(float(np.std(np.stack(found), axis=0)[alpha >= 1].mean()), 0.003)

    def test_colours_that_are_held_steady_it_and_cost_nothing(self) -> None:
        first = shot("veil", "blue").shot
        free = [solved("veil", "blue", seed=seed).alpha for seed in range(3)]
        taken = mock.Mock(side_effect=solving._colours)
        with mock.patch.object(solving, "_colours", taken):
            held = [solve(shot("veil", "blue", seed).shot, "blue", None, silent, held=first).alpha for seed in range(3)]
        # Twice for the frame that is held, and no more.
        self.assertEqual(taken.call_count, 3)
        alpha = shot("veil", "blue").alpha
        part = (alpha > 0.05) & (alpha < 0.95)
        own, other = (float(np.std(np.stack(rows), axis=0)[part].mean()) for rows in (held, free))
        self.assertLess(own, 0.98 * other)
        self.assertLess(
            float(np.mean([error(each, alpha) for each in held])),
            1.1 * float(np.mean([error(each, alpha) for each in free])),
        )
        sources = {"p": pictured(shot("veil", "blue", 1).shot), "h": pictured(first)}
        step = one("screen_solve", {"picture": "p", "held": "h"}, sources, screen="blue").planes["Y"]
        np.testing.assert_allclose(step, held[1], atol=1e-5)

    def test_eight_bits_are_enough(self) -> None:
        made = shot("leaves", "green")
        codes = np.rint(encode(np.clip(made.shot, 0, 1)) * 255) / np.float32(255)
        found = solve(decode(codes).astype(np.float32), "green", None, silent)
        self.assertLess(error(found.alpha, made.alpha), error(solved("leaves", "green").alpha, made.alpha) + 0.15)

    def test_what_is_said_to_be_kept_or_dropped_is(self) -> None:
        made = shot("veil", "blue")
        thin = (made.alpha > 0.2) & (made.alpha < 0.8)
        y, x = np.nonzero(thin)
        middle = int(np.median(y)), int(np.median(x))
        dab = np.hypot(*(np.mgrid[0:HEIGHT, 0:WIDTH] - np.array(middle)[:, None, None])) < 9
        for port, value in (("keep", 1.0), ("drop", 0.0)):
            found = solve(made.shot, "blue", None, silent, **{port: dab.astype(np.float32)})
            np.testing.assert_array_equal(found.alpha[dab], value)
            np.testing.assert_array_equal(found.doubt[dab], 0)
            far = np.hypot(*(np.mgrid[0:HEIGHT, 0:WIDTH] - np.array(middle)[:, None, None])) > 120
            before = solved("veil", "blue").alpha
            self.assertLess(float(np.abs(found.alpha - before)[far].mean()), 0.01)

    def test_what_is_said_later_is_answered_from_what_is_known(self) -> None:
        made = shot("head", "green")
        keep = np.zeros((HEIGHT, WIDTH), np.float32)
        keep[20:40, 20:60] = 1
        for clean in (made.empty, None):
            self.forget()
            alone = solve(*self.small(clean), silent, keep=keep[:90, :160])
            self.forget()
            first = solve(*self.small(clean), silent)
            with mock.patch.object(solving, "averaged", side_effect=AssertionError("it is known")):
                told = solve(*self.small(clean), silent, keep=keep[:90, :160])
                again = solve(*self.small(clean), silent)
            np.testing.assert_array_equal(told.alpha, alone.alpha)
            np.testing.assert_array_equal(told.doubt, alone.doubt)
            np.testing.assert_array_equal(again.alpha, first.alpha)

    @staticmethod
    def forget() -> None:
        """Something else is on the shelf."""
        solving._shelf._held.clear()

    @staticmethod
    def small(clean: Array | None) -> tuple[Array, str, Array | None]:
        made = shot("head", "green")
        plate = None if clean is None else np.ascontiguousarray(clean[:, ::2, ::2])
        return np.ascontiguousarray(made.shot[:, ::2, ::2]), "green", plate

    def test_strokes_say_so_too(self) -> None:
        made = shot("thrown", "blue")
        strokes = [
            {"points": [[300, 20], [310, 24]], "radius": 6, "value": 1.0},
            {"points": [[200, 90]], "radius": 5, "value": 0.0},
        ]
        alpha = self.step(made.shot, strokes=strokes)
        np.testing.assert_allclose(alpha[18:24, 298:308], 1, atol=1e-6)
        np.testing.assert_allclose(alpha[88:92, 198:202], 0, atol=1e-6)

    def step(self, planes: Array, **settings: Any) -> Plane:
        sources = {"p": pictured(planes)}
        made: Plane = one("screen_solve", {"picture": "p"}, sources, **settings).planes["Y"]
        return made

    def test_what_is_no_screen_is_told(self) -> None:
        made = shot("head", "green")
        random = np.random.default_rng(1)
        grey = np.repeat(random.random((1, 60, 80), np.float32), 3, axis=0)
        self.assert_refused(lambda: self.step(grey), "no green, blue or red screen is seen")
        subject = np.stack([plane + 0 * made.alpha for plane in (np.float32(0.3), np.float32(0.2), np.float32(0.1))])
        self.assert_refused(lambda: self.step(subject, screen="green"), "hardly any bare screen")
        self.assert_refused(lambda: self.step(made.shot[:, :1, :1]), "too small")
        ports = {"picture": "p", "clean": "c"}
        sources = {
            key: MemorySource(dict(zip("RGB", planes, strict=True)))
            for key, planes in (("p", made.shot), ("c", subject))
        }
        self.assert_refused(lambda: one("screen_solve", ports, sources, screen="green"), "shows no green screen")

    def test_odd_material(self) -> None:
        made = shot("head", "green")
        nothing = self.step(noisy(made.plate, 77))
        self.assertLess(float(nothing.mean()), 0.002)
        broken = made.shot.copy()
        broken[:, 40:44, 40:44] = np.nan
        broken[1, 90, 90] = np.inf
        found = self.step(broken)
        self.assertTrue(np.isfinite(found).all())
        sound = np.ones(found.shape, np.bool_)
        sound[30:54, 30:54] = sound[78:102, 78:102] = False
        self.assertLess(float(np.abs(found - solved("head", "green").alpha)[sound].mean()), 0.01)
        doubt = self.step(made.shot, gives="doubt")
        self.assert_planes(doubt, solved("head", "green").doubt, 1e-5)


class Refined(CoreTest):
    """`fine_edge` that knows the noise, and what the picture proves."""

    def refined(self, made: Shot, matte: Plane, **settings: Any) -> float:
        given = {"p": pictured(made.shot), "m": MemorySource({"Y": matte}, data=["Y"])}
        ports = {"picture": "p", "matte": "m"}
        return error(one("fine_edge", ports, given, band=6, **settings).planes["Y"], made.alpha)

    def test_noise_and_guard_harm_less_and_help_more(self) -> None:
        rows = []
        for name, screen in EVERY:
            made = shot(name, screen)
            good = solved(name, screen).alpha
            for matte in (good, cv2.GaussianBlur(made.alpha, (0, 0), 1.5), (made.alpha > 0.5).astype(np.float32)):
                kinds: tuple[dict[str, bool], ...] = ({}, {"noise": True}, {"noise": True, "guard": True})
                rows.append([error(matte, made.alpha), *(self.refined(made, matte, **kind) for kind in kinds)])
        found, plain_, quiet, guarded = np.mean(np.array(rows).reshape(len(EVERY), 3, 4), axis=0).T
        np.testing.assert_array_less(quiet, plain_)
        np.testing.assert_array_less(guarded, 0.85 * plain_)
        # What was good is hardly harmed any more, and what was not is better than it was found.
        self.assertLess(guarded[0] - found[0], 0.25 * (plain_[0] - found[0]))
        np.testing.assert_array_less(guarded[1:], found[1:])

    def test_odd_material(self) -> None:
        random = np.random.default_rng(4)
        for shape in ((3, 12, 12), (3, 40, 50)):
            matte = np.zeros(shape[1:], np.float32)
            matte[:, shape[2] // 2 :] = 1
            for planes in (random.random(shape), np.full(shape, np.nan), np.full(shape, 3e38), np.zeros(shape)):
                given = {"p": pictured(planes.astype(np.float32)), "m": MemorySource({"Y": matte}, data=["Y"])}
                ports = {"picture": "p", "matte": "m"}
                made = one("fine_edge", ports, given, band=3, noise=True, guard=True)
                self.assertTrue(np.isfinite(made.planes["Y"]).all())
        broken = matte.copy()
        broken[20, 24] = np.nan
        given["m"] = MemorySource({"Y": broken}, data=["Y"])
        given["p"] = pictured(random.random(shape).astype(np.float32))
        made = one("fine_edge", ports, given, band=3, noise=True, guard=True)
        self.assertTrue(np.isfinite(made.planes["Y"]).all())


class Facts(CoreTest):
    def facts(self, planes: Array, **more: Plane) -> ScreenFacts | None:
        sources = {"p": MemorySource(dict(zip("RGB", planes, strict=True)) | more)}
        plan = Plan(parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}}), 1, sources)
        return screen_facts(Engine(), plan, plan.feed("p"))

    def test_a_screen_is_told_with_its_figures(self) -> None:
        for name, screen in (("head", "green"), ("thrown", "blue")):
            made = shot(name, screen)
            found = self.facts(made.shot)
            assert found
            self.assertEqual(found.screen, screen)
            self.assertLess(abs(found.bare - float(np.mean(made.alpha == 0))), 0.2)
            own = made.plate[1 if screen == "green" else 2]
            low, middle, high = np.percentile(own[made.alpha == 0], (5, 50, 95))
            self.assertLess(abs(found.uneven - (high - low) / 2 / middle), 0.04)
            self.assertLess(abs(np.log(found.noise / (np.sqrt(NOISE[0] + NOISE[1] * middle) / middle))), np.log(1.3))

    def test_what_stands_before_none(self) -> None:
        random = np.random.default_rng(2)
        y, x = np.mgrid[0:120, 0:160]
        lawn = 0.2 + 0.15 * random.random((120, 160)).astype(np.float32)
        for planes in (
            np.stack([0.4 * lawn, lawn, 0.3 * lawn]),  # grass
            np.repeat(random.random((1, 120, 160), np.float32), 3, axis=0),
            np.zeros((3, 120, 160), np.float32),
            np.full((3, 120, 160), np.nan, np.float32),
            np.stack([(x / 160).astype(np.float32)] * 3),
            np.ones((3, 1, 1), np.float32),
        ):
            self.assertIsNone(self.facts(planes.astype(np.float32)))
        plane = MemorySource({"Y": lawn}, data=["Y"])
        plan = Plan(parse_recipe({"nexal": 1, "sources": {"p": {"files": "p"}}}), 1, {"p": plane})
        self.assertIsNone(screen_facts(Engine(), plan, plan.feed("p")))

    def test_its_steps_make_the_matte_and_its_colour(self) -> None:
        made = shot("thrown", "blue")
        sources = {"p": pictured(made.shot)}
        matte = run(whole_matte("p"), sources, "matte").planes["Y"]
        self.assertLess(error(matte, made.alpha), 0.3 * error(plain(made, made.plate), made.alpha))
        cut = run(whole_matte("p"), sources, "cut").planes
        plate = run(whole_matte("p"), sources, "plate").planes
        # Over its own screen the colour gives the shot back, within its noise.
        again = np.stack([cut[name] * cut["A"] + plate[name] * (1 - cut["A"]) for name in "RGB"])
        sigma = np.sqrt(NOISE[0] + NOISE[1] * np.maximum(made.shot, 0))
        self.assertLess(float(np.mean(np.abs(again - made.shot))), float(np.mean(sigma)))


if __name__ == "__main__":
    unittest.main()
