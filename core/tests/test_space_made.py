"""Fog, mattes and light by where things are: against scenes whose space is known, and against separate formulas."""

from __future__ import annotations

import math

import numpy as np
from core_support import CoreTest, MemorySource, one, run
from space_scenes import AXES, BALL, EYE, RADIUS, SIZE, centres, scene_sources, subpixels

from nexal.operations.space import turned_axes
from nexal.picture import Alpha, Window


class Fogs(CoreTest):
    def test_laws_on_premultiplied_light(self) -> None:
        sources, found = scene_sources(), centres()
        d = np.where(found.thing > 0, found.depth, np.inf)
        way = np.maximum(d - 2, 0)
        laws = {
            "linear": np.clip(way / 10, 0, 1),
            "exponential": 1 - np.exp(-0.2 * way),
            "squared": 1 - np.exp(-((0.2 * way) ** 2)),
        }
        whole = (subpixels(4).thing > 0).mean(axis=-1)
        same = (whole == 0) | (whole == 1)
        for law, f in laws.items():
            for behind in ("keep", "fog"):
                ask = {"law": law, "start": 2.0, "end": 12.0, "density": 0.2, "colour": [0.6, 0.7, 0.8], "opacity": 0.9}
                made = one("fog", {"picture": "pic", "depth": "deep.Z"}, sources, **ask, behind=behind).planes
                f_ = 0.9 * f
                fill = 0.9 if behind == "fog" else 0.0
                wanted = 0.3 * whole * (1 - f_) + (whole * f_ + (1 - whole) * fill) * 0.7
                np.testing.assert_allclose(made["G"][same], wanted[same], atol=1e-5)
                np.testing.assert_allclose(made["A"], whole + (1 - whole) * fill, atol=1e-5)

    def test_low_fog_is_the_integral_along_the_ray(self) -> None:
        sources, found = scene_sources(), centres()
        ask = {"law": "low", "density": 0.4, "height": 0.5, "falloff": 0.8, "colour": [1.0, 1.0, 1.0]}
        made = one("fog", {"picture": "pic", "depth": "deep.Z", "position": "where"}, sources, **ask).planes["R"]
        for y, x in ((70, 60), (100, 150), (60, 110), (118, 3)):
            place = found.position[:, y, x]
            length = np.linalg.norm(place - EYE)
            t = (np.arange(20000) + 0.5) / 20000
            heights = EYE[1] + (place[1] - EYE[1]) * t
            thick = length * np.mean(0.4 * np.exp(-(heights - 0.5) / 0.8))
            law = 1 - np.exp(-thick)
            self.assertAlmostEqual(float(made[y, x]), 0.3 * (1 - law) + law, delta=2e-4)
        self.assert_refused(
            lambda: one("fog", {"picture": "pic", "depth": "deep.Z"}, sources, **ask), "needs positions"
        )
        sources["where"].description = sources["where"].description.changed(metadata={})
        self.assert_refused(
            lambda: one("fog", {"picture": "pic", "depth": "deep.Z", "position": "where"}, sources, **ask),
            "where the eye",
        )

    def test_clouds_stick_to_the_set_and_fade_where_pixels_are_larger(self) -> None:
        from nexal.kernels.space import clouds_in_space

        y, x = np.mgrid[0:42, 0:62].astype(np.float32) * np.float32(0.1)
        there = np.ones(x.shape, bool)
        here = clouds_in_space([x, y, x * 0 + 3], there, 1.0, 4, 7, (0, 0, 0))
        moved = clouds_in_space([x + 5, y, x * 0 + 3], there, 1.0, 4, 7, (5, 0, 0))
        np.testing.assert_allclose(here, moved, atol=2e-4)
        self.assertTrue(0.1 < here.std() < 0.5 and abs(here.mean()) < 0.15, (here.std(), here.mean()))
        coarse = clouds_in_space([x * 40, y * 40, x * 0], there, 1.0, 4, 7, (0, 0, 0))
        self.assert_planes(coarse, 0)

    def test_it_fills_all_that_is_seen_around_a_small_cut_out(self) -> None:
        cut = {name: np.full((8, 8), 0.5, np.float32) for name in "RGBA"}
        small = MemorySource(
            cut, alpha=Alpha.PREMULTIPLIED, window=Window(20, 20, 8, 8), display=Window(0, 0, 200, 120)
        )
        ask = {"law": "linear", "start": 0.0, "end": 1.0, "colour": [1.0, 1.0, 1.0], "opacity": 0.8}
        ports = {"picture": "small", "depth": "deep.Z"}
        for behind, corner in (("fog", 0.8), ("keep", 0.0)):
            made = one("fog", ports, scene_sources(small=small), **ask, behind=behind)
            whole = run(
                [{"name": "f", "op": "fog", "in": ports, "set": ask | {"behind": behind}}], scene_sources(small=small),
                region=Window(0, 0, 200, 120),
            )  # fmt: skip
            self.assertAlmostEqual(float(whole.planes["A"][0, 0]), corner, 5)
            self.assertEqual(made.description.window.width, 200 if behind == "fog" else 8)

    def test_a_texture_takes_fog_away(self) -> None:
        sources = scene_sources(soot=MemorySource({"Y": np.full(SIZE, 0.25, np.float32)}, data=["Y"]))
        ports = {"picture": "pic", "depth": "deep.Z", "texture": "soot"}
        ask = {"law": "linear", "start": 0.0, "end": 0.001, "colour": [1, 1, 1], "texture_amount": 0.8}
        made = one("fog", ports, sources, **ask).planes["R"]
        share = 1 + 0.8 * (0.25 - 1)
        self.assertAlmostEqual(float(made[100, 100]), 0.3 * (1 - share) + share, 4)


class SpaceMattes(CoreTest):
    def test_balls_boxes_and_slabs(self) -> None:
        sources, found = scene_sources(), centres()
        there = found.thing > 0
        centre, turn = np.array([0.5, 0.4, 3.0]), (20.0, 35.0, -10.0)
        away = found.position - centre[:, None, None]
        own = np.tensordot(turned_axes(turn), away, 1)
        inwards = {
            "ball": 1.5 - np.linalg.norm(away, axis=0),
            "box": np.min(np.array([1.5, 0.8, 1.1])[:, None, None] - np.abs(own), axis=0),
            "slab": 1.1 - np.abs(own[2]),
        }
        for shape, depth in inwards.items():
            ask = {"shape": shape, "centre": centre.tolist(), "size": [1.5, 0.8, 1.1], "rotation": list(turn)}
            made = one("space_matte", {"position": "where"}, sources, **ask, softness=0.4, profile="linear")
            self.assert_planes(made.planes["Y"], np.where(there, np.clip(depth / 0.4, 0, 1), 0), 2e-4)
            made = one("space_matte", {"position": "where"}, sources, **ask, softness=0, invert=True)
            self.assertGreater(float(np.mean(made.planes["Y"] == np.where(there, depth < 0, 0))), 0.999)
        # Turns are about x, then y, then z.
        np.testing.assert_allclose(turned_axes((0, 0, 90)).T @ [1, 0, 0], [0, 1, 0], atol=1e-12)
        np.testing.assert_allclose(turned_axes((90, 0, 90)).T @ [0, 1, 0], [0, 0, 1], atol=1e-12)
        self.assert_refused(lambda: one("space_matte", {"position": "pic.A"}, sources), "three axes")

    def test_nothing_is_in_no_shape(self) -> None:
        for nothing in (0.0, math.nan, 1e10, -math.inf):
            planes = {axis: np.full((2, 3), 0.2, np.float32) for axis in AXES}
            for plane in planes.values():
                plane[0, 0] = nothing
            source = {"where": MemorySource(planes, data=AXES)}
            for invert in (False, True):
                made = one("space_matte", {"position": "where"}, source, size=[9, 9, 9], invert=invert).planes["Y"]
                self.assertEqual(float(made[0, 0]), 0.0)
                self.assertEqual(float(made[1, 1]), 0.0 if invert else 1.0)


class Relit(CoreTest):
    def test_lamp_and_sun(self) -> None:
        sources, found = scene_sources(), centres()
        there = found.thing > 0
        lamp = np.array([1.0, 2.5, 3.0])
        away = lamp[:, None, None] - found.position
        length = np.linalg.norm(away, axis=0)
        for wrap, reach in ((0.0, 0.0), (0.3, 6.0)):
            facing = ((found.normal * away).sum(0) / length + wrap) / (1 + wrap)
            fall = 0.25 / (length**2 + 0.25)
            fall = fall * np.maximum(1 - (length / reach) ** 4, 0) ** 2 if reach else fall
            ask = {
                "at": lamp.tolist(),
                "size": 0.5,
                "wrap": wrap,
                "reach": reach,
                "colour": [1, 0.5, 0.2],
                "intensity": 3,
            }
            made = one("relight", {"position": "where", "normals": "facing"}, sources, **ask).planes
            wanted = np.where(there, 3 * np.maximum(facing, 0) * fall, 0)
            self.assert_planes(made["R"], wanted, 1e-4)
            self.assert_planes(made["B"], 0.2 * wanted, 1e-4)
        made = one("relight", {"position": "where", "normals": "facing"}, sources, light="sun", direction=[0, 3, -3])
        wanted = np.where(there, np.maximum((found.normal[1] - found.normal[2]) / math.sqrt(2), 0), 0)
        self.assert_planes(made.planes["R"], wanted, 1e-4)

    def test_light_from_all_around(self) -> None:
        sources = scene_sources()
        there = centres().thing > 0
        ports = {"position": "where", "normals": "facing"}
        made = one("relight", ports, sources, light="ambient", colour=[0.5, 1, 2], intensity=3.0, shadow=1.0).planes
        for name, value in (("R", 1.5), ("G", 3.0), ("B", 6.0)):
            self.assert_planes(made[name], np.where(there, value, 0), 1e-5)
        # The mean of what a picture covers, however it is stored.
        alpha = np.zeros(SIZE, np.float32)
        alpha[:, :40] = 0.5
        light = {"R": 0.2, "G": 0.4, "B": 0.8}
        for state in (Alpha.STRAIGHT, Alpha.PREMULTIPLIED):
            by = alpha if state is Alpha.PREMULTIPLIED else np.float32(1)
            around = {name: np.full(SIZE, value, np.float32) * by for name, value in light.items()}
            more = sources | {"own": MemorySource(around | {"A": alpha}, alpha=state)}
            made = one("relight", ports | {"around": "own"}, more, light="ambient", colour=[1, 1, 1]).planes
            for name, value in light.items():
                self.assert_planes(made[name], np.where(there, value, 0), 1e-5)
        hidden = one("relight", ports, sources, light="ambient", colour=[1, 1, 1], occlusion=1.0).planes["R"]
        self.assertLess(float(hidden[there].min()), 0.8)
        self.assertLessEqual(float(hidden.max()), 1.0 + 1e-6)

    def test_the_ball_throws_its_shadow_on_the_floor(self) -> None:
        sources, found = scene_sources(), centres()
        ask = {"light": "sun", "direction": [-0.6, 1.0, 0.1], "colour": [1, 1, 1]}
        ports = {"position": "where", "normals": "facing"}
        clear = one("relight", ports, sources, **ask).planes["R"]
        shaded = one("relight", ports, sources, **ask, shadow=1.0, thickness=2.0).planes["R"]
        towards = np.array([-0.6, 1.0, 0.1]) / np.linalg.norm([-0.6, 1.0, 0.1])
        floor = found.thing == 1
        to_ball = BALL[:, None, None] - found.position
        near = np.linalg.norm(to_ball - (to_ball * towards[:, None, None]).sum(0) * towards[:, None, None], axis=0)
        dark = floor & (near < RADIUS) & ((to_ball * towards[:, None, None]).sum(0) > 0)
        right = ((shaded < 0.5 * clear) == dark)[floor]
        self.assertGreater(dark.sum(), 100)
        self.assertGreater(float(right.mean()), 0.97)

    def test_a_corner_is_hidden_and_a_plane_is_open(self) -> None:
        sources, found = scene_sources(), centres(sky=False)
        sources["where"].planes = {a: p.astype(np.float32) for a, p in zip(AXES, found.position, strict=True)}
        sources["facing"].planes = {a: p.astype(np.float32) for a, p in zip(AXES, found.normal, strict=True)}
        ask = {"light": "sun", "direction": [0.0, 1.0, -1.0], "occlusion_radius": 1.0}
        ports = {"position": "where", "normals": "facing"}
        clear = one("relight", ports, sources, **ask).planes["R"]
        made = one("relight", ports, sources, **ask, occlusion=1.0).planes["R"]
        open_ = made / np.maximum(clear, 1e-6)
        floor = found.thing == 1
        apart = floor & (found.position[2] < 6) & (np.linalg.norm(found.position - BALL[:, None, None], axis=0) > 2.2)
        self.assertGreater(float(open_[apart].mean()), 0.93)
        corner = floor & (found.position[2] > 8.9)
        self.assertTrue(0.45 < float(open_[corner].mean()) < 0.75, "half is hidden, less what lies far")
        sources["where"].description = sources["where"].description.changed(metadata={})
        self.assert_refused(lambda: one("relight", ports, sources, **ask, occlusion=1.0), "where the eye is")
