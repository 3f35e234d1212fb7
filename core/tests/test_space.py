"""Depth, positions, ids, fog, light: against scenes whose space is known, and against separate formulas."""

from __future__ import annotations

import json
import math
from fractions import Fraction
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, one, rgba, run, write_exr
from hypothesis import given, settings
from hypothesis import strategies as st
from space_scenes import BALL, EYE, FOV, RADIUS, SIZE, camera_to_world, centres, header, subpixels

from demo.night.naming import hashed_names, hashed_value
from nexal.analysis.depth import depth_report, reports_of, sentences
from nexal.analysis.run import depth_file
from nexal.analysis.space_checks import _turned
from nexal.camera import Camera, ball_outline, camera_of_header, camera_of_positions, camera_of_view
from nexal.cli import main
from nexal.formats.decoded import tagged
from nexal.hashed_ids import bits_of, id_layers, manifest_files, manifest_in, ranked
from nexal.kernels.nowhere import is_nowhere
from nexal.operations.space import turned_axes
from nexal.picture import Alpha, Trait, Window
from nexal.recipe import SourceSpec
from nexal.session import Session

AXES = ("X", "Y", "Z")


def scene_sources(**more: MemorySource) -> dict[str, MemorySource]:
    """Depth, positions, normals and a grey picture of the scene, its camera in the header; nothing is 1e10."""
    found = centres()
    there = found.thing > 0
    whole = subpixels(4)
    cover = (whole.thing > 0).mean(axis=-1).astype(np.float32)
    made = {
        "deep": MemorySource({"Z": np.where(there, found.depth, 1e10)}, traits={"Z": Trait("depth")}),
        "where": MemorySource(dict(zip(AXES, found.position, strict=True)), data=AXES),
        "facing": MemorySource(dict(zip(AXES, found.normal, strict=True)), data=AXES),
        "cover": MemorySource({"Y": cover}, data=["Y"]),
        "pic": MemorySource(
            {name: np.full(SIZE, 0.3) * cover for name in "RGB"} | {"A": cover}, alpha=Alpha.PREMULTIPLIED
        ),
    }
    for source in made.values():
        source.description = source.description.changed(metadata=header())
    return made | more


class Cameras(CoreTest):
    def camera(self) -> Camera:
        return camera_of_view(camera_to_world().tolist(), FOV, SIZE[1], SIZE[0])

    def test_positions_fall_on_their_own_pixels(self) -> None:
        found = centres()
        there = found.thing > 0
        by_header = camera_of_header(header(), SIZE[1], SIZE[0])
        assert by_header is not None
        y, x = np.nonzero(there)
        for camera in (self.camera(), by_header):
            at, away = camera.seen(found.position[:, there].T)
            np.testing.assert_allclose(at, np.stack([x + 0.5, y + 0.5], axis=1), atol=2e-3)
            np.testing.assert_allclose(away, found.depth[there], rtol=1e-5)
            np.testing.assert_allclose(camera.eye, EYE, atol=1e-5)
            self.assertAlmostEqual(camera.field_of_view, FOV, 4)

    def test_a_camera_is_found_by_positions_alone(self) -> None:
        found = centres()
        there = found.thing > 0
        noisy = found.position.copy()
        noisy[:, 60:64, 100:104] += 3.0
        solved = camera_of_positions(noisy, there)
        assert solved is not None
        self.assertLess(abs(solved.camera.field_of_view - FOV), 0.002)
        np.testing.assert_allclose(solved.camera.eye, EYE, atol=2e-4)
        self.assertGreater(solved.share, 0.95)
        # Points of one plane say nothing.
        self.assertIsNone(camera_of_positions(found.position, found.thing == 1))
        self.assertIsNone(camera_of_positions(found.position, np.zeros(SIZE, bool)))
        self.assertIsNone(camera_of_positions(np.random.default_rng(1).random((3, *SIZE)), there))

    def test_what_is_no_camera_is_told(self) -> None:
        self.assertIsNone(camera_of_header({}, 100, 50))
        for matrix in (np.zeros((4, 4)), np.ones((4, 4)), np.ones(7)):
            self.assert_refused(
                lambda matrix=matrix: camera_of_header({"worldToNDC": tagged(matrix)}, 100, 50), "no camera's matrix"
            )
        self.assert_refused(lambda: camera_of_view(np.zeros((4, 4)).tolist(), 50, 100, 50), "camera_to_world")

    def test_depth_and_normals_follow_from_positions(self) -> None:
        found = centres()
        there = found.thing > 0
        planes = {axis: np.where(there, p, 0).astype(np.float32) for axis, p in zip(AXES, found.position, strict=True)}
        where = MemorySource(planes, data=list(AXES))
        where.description = where.description.changed(metadata=header())
        depth = one("depth_from_position", {"position": "where"}, {"where": where}).planes["Y"]
        self.assert_planes(depth[there], found.depth[there], 1e-4)
        self.assertTrue(np.isinf(depth[~there]).all())
        radial = one("depth_from_position", {"position": "where"}, {"where": where}, radial=True).planes["Y"]
        away = np.linalg.norm(found.position - np.array(EYE)[:, None, None], axis=0)
        self.assert_planes(radial[there], away[there], 1e-4)
        made = one("normals_from_position", {"position": "where"}, {"where": where}).planes
        normal = np.stack([made[axis] for axis in AXES])
        self.assert_planes(np.linalg.norm(normal[:, there], axis=0), 1, 1e-4)
        self.assertTrue((normal[:, ~there] == 0).all())
        # Off the edges of things they are those of the scene: exact on planes, within half a pixel's turn on the ball.
        turn = np.degrees(np.arccos(np.clip((normal * found.normal).sum(axis=0), -1, 1)))
        inner = there & (found.thing == np.roll(found.thing, 1, 0)) & (found.thing == np.roll(found.thing, 1, 1))
        self.assertLess(float(np.median(turn[inner & (found.thing != 3)])), 0.1)
        self.assertLess(float(np.percentile(turn[inner & (found.thing == 3)], 90)), 8)
        # Without a camera they face as in a right-handed world.
        bare = MemorySource(planes, data=list(AXES))
        again = one("normals_from_position", {"position": "where"}, {"where": bare}).planes
        hand = np.sign(np.linalg.det(camera_to_world()[:3, :3]))
        agree = hand * (normal * np.stack([again[axis] for axis in AXES])).sum(axis=0)[there]
        self.assertGreater(float(np.mean(agree > 0)), 0.99)
        self.assert_refused(lambda: one("depth_from_position", {"position": "where"}, {"where": bare}), "no camera")

    def test_the_outline_of_a_ball_touches_it(self) -> None:
        camera = self.camera()
        outline = ball_outline(camera, BALL.tolist(), RADIUS)
        assert outline is not None
        rays = (camera.steps @ np.concatenate([outline, np.ones((len(outline), 1))], axis=1).T).T
        along = rays / np.linalg.norm(rays, axis=1, keepdims=True)
        away = BALL - camera.eye
        near = np.linalg.norm(away - (along @ away)[:, None] * along, axis=1)
        np.testing.assert_allclose(near, RADIUS, rtol=1e-6)
        self.assertIsNone(ball_outline(camera, camera.eye.tolist(), 1.0), "the eye is inside")
        self.assertIsNone(ball_outline(camera, (camera.eye - 3 * camera.forward).tolist(), 1.0), "it is behind")

    def test_position_from_depth(self) -> None:
        found, sources = centres(), scene_sources()
        for settings_ in (
            {},
            {"camera": "view", "fov_x": FOV, "camera_to_world": camera_to_world().tolist()},
        ):
            made = one("position_from_depth", {"depth": "deep.Z"}, sources, **settings_)
            for axis, plane in zip(AXES, found.position, strict=True):
                self.assert_planes(made.planes[axis], plane, 2e-4)
        # What was made of the depth still knows the camera.
        mended = run(
            [
                {"name": "mended", "op": "depth_edges", "in": {"depth": "deep.Z"}},
                {"name": "places", "op": "position_from_depth", "in": {"depth": "mended"}},
            ],
            sources,
        )
        close = np.abs(mended.planes["Z"] - found.position[2]) < 0.05
        self.assertGreater(float(close.mean()), 0.99)
        # The way to the eye instead of along the view.
        to_eye = np.linalg.norm(found.position - EYE[:, None, None], axis=0)
        sources["deep"].planes["Z"] = np.where(found.thing > 0, to_eye, np.inf).astype(np.float32)
        made = one("position_from_depth", {"depth": "deep.Z"}, sources, radial=True)
        self.assert_planes(made.planes["Z"], found.position[2], 2e-4)
        sources["deep"].description = sources["deep"].description.changed(metadata={})
        self.assert_refused(
            lambda: one("position_from_depth", {"depth": "deep.Z"}, sources), "no camera", "field of view"
        )


def risen(value: float, low: float, high: float, profile: str) -> float:
    if high <= low:
        return float(value > low)
    t = min(max((value - low) / (high - low), 0), 1)
    return t if profile == "linear" else 3 * t * t - 2 * t**3


class Depths(CoreTest):
    def depth(self, values: Any) -> dict[str, MemorySource]:
        return {"deep": MemorySource({"Z": np.array([values], np.float32)}, traits={"Z": Trait("depth")})}

    @settings(max_examples=60, deadline=None, derandomize=True)
    @given(
        st.lists(st.floats(0.125, 60, width=32), min_size=4, max_size=9),
        st.floats(0, 20), st.floats(0, 20), st.floats(0, 5), st.floats(0, 5), st.sampled_from(["linear", "smooth"]),
        st.booleans(),
    )  # fmt: skip
    def test_a_slice_is_what_its_formula_says(
        self, values: list[float], near: float, deep: float, before: float, behind: float, profile: str, invert: bool
    ) -> None:
        far = near + deep
        made = one(
            "depth_slice", {"depth": "deep.Z"}, self.depth([*values, math.inf]), near=near, far=far,
            feather_near=before, feather_far=behind, profile=profile, invert=invert,
        )  # fmt: skip
        for value, got in zip([*values, math.inf], made.planes["Y"][0], strict=True):
            if min(abs(value - edge) for edge in (near - before, near, far, far + behind)) < 1e-4:
                continue
            wanted = risen(value, near - before, near, profile) - risen(value, far, far + behind, profile)
            self.assertAlmostEqual(float(got), 1 - wanted if invert else wanted, delta=2e-3)

    def test_range_and_unit(self) -> None:
        sources = self.depth([1, 2, 5, 9, 1e10, math.nan, -math.inf])
        made = one("depth_range", {"depth": "deep.Z"}, sources, near=1.0, far=9.0)
        self.assert_planes(made.planes["Y"], [[1, 7 / 8, 0.5, 0, 0, 0, 0]])
        turned = one("depth_range", {"depth": "deep.Z"}, sources, near=9.0, far=1.0, invert=True)
        self.assert_planes(turned.planes["Y"], [[1, 7 / 8, 0.5, 0, 1, 1, 1]])
        made = one("depth_unit", {"depth": "deep.Z"}, sources, kind="inverse", near=1.0, far=10.0, far_value=10.0)
        wanted = [1 / (1 + value / 10 * (0.1 - 1)) for value in (1, 2, 5, 9)]
        np.testing.assert_allclose(made.planes["Y"][0, :4], wanted, rtol=1e-5)
        self.assertTrue(np.isinf(made.planes["Y"][0, 4:]).all())
        self.assert_refused(lambda: one("depth_range", {"depth": "deep.Z"}, sources, near=3, far=3), "same depth")
        self.assert_refused(lambda: one("depth_slice", {"depth": "deep.Z"}, sources, near=5, far=3), "behind far")

    def test_auto_finds_ends_and_direction(self) -> None:
        found = centres(sky=False)
        for turned in (False, True):
            depth = 20 - found.depth if turned else found.depth
            sources = {"deep": MemorySource({"Z": depth.astype(np.float32)}, traits={"Z": Trait("depth")})}
            made = one("depth_range", {"depth": "deep.Z"}, sources).planes["Y"]
            low, high = np.percentile(found.depth, (0.5, 99.5))
            self.assert_planes(made, np.clip((high - found.depth) / (high - low), 0, 1), 1e-3)

    def test_with_coverage_edges_are_as_soft_as_the_picture(self) -> None:
        sources, fine = scene_sources(), subpixels(8)
        ask = {"near": 2.0, "far": 8.0, "feather_near": 0.0, "feather_far": 0.0}
        truth = ((fine.depth >= 2) & (fine.depth <= 8)).mean(axis=-1)
        sky = (fine.thing == 0).mean(axis=-1)
        edge = (sky > 0.02) & (sky < 0.98) & (truth > 0.02)
        plain = one("depth_slice", {"depth": "deep.Z"}, sources, **ask).planes["Y"]
        soft = one("depth_slice", {"depth": "deep.Z", "coverage": "cover"}, sources, **ask).planes["Y"]
        rms = [float(np.sqrt(np.mean((plane - truth)[edge] ** 2))) for plane in (plain, soft)]
        self.assertGreater(rms[0], 0.2)
        self.assertLess(rms[1], 0.06)

    def test_averaged_edges_are_found_and_mended(self) -> None:
        fine, sharp = subpixels(8, sky=False), centres(sky=False)
        averaged = fine.depth.mean(axis=-1).astype(np.float32)
        good, bad = (
            depth_report("Z", plane.astype(np.float32), None, scene_sources()["deep"].description)
            for plane in (sharp.depth, averaged)
        )
        self.assertLess(good.averaged, 0.06)
        self.assertGreater(bad.averaged, 0.2)
        self.assertTrue(any("averaged" in text for text in bad.warnings), bad.warnings)
        self.assertEqual([text for text in good.warnings if "averaged" in text], [])
        sources = {"deep": MemorySource({"Z": averaged}, traits={"Z": Trait("depth")})}
        ball = (fine.thing == 3).mean(axis=-1)
        edge = (ball > 0.05) & (ball < 0.95) & (fine.depth.max(axis=-1) - fine.depth.min(axis=-1) > 1)
        snapped = one("depth_edges", {"depth": "deep.Z"}, sources).planes["Y"]
        between = [
            float(np.mean(np.minimum(abs(d - fine.depth.min(-1)), abs(d - fine.depth.max(-1)))[edge] > 0.2))
            for d in (averaged, snapped)
        ]
        self.assertGreater(between[0], 0.6)
        self.assertLess(between[1], 0.15)
        parts = one("depth_edges", {"depth": "deep.Z"}, sources, mend="part").planes
        found = edge & (parts["share"] < 1)
        self.assertGreater(found.sum() / edge.sum(), 0.8)
        self.assertLess(float(np.median(np.abs(parts["share"] - ball)[found])), 0.02)
        # Of unfiltered depth next to nothing is changed.
        sources["deep"].planes["Z"] = sharp.depth.astype(np.float32)
        kept = one("depth_edges", {"depth": "deep.Z"}, sources).planes["Y"]
        self.assertGreater(float(np.mean(np.abs(kept - sharp.depth) < 0.05)), 0.995)


class Reports(CoreTest):
    def report(self, depth: Any, *, with_position: bool = True, sky: bool = False) -> Any:
        found = centres(sky=sky)
        position = [plane.astype(np.float32) for plane in found.position] if with_position else None
        return depth_report("Z", np.asarray(depth, np.float32), position, scene_sources()["deep"].description)

    def kinds(self) -> dict[str, tuple[Any, str]]:
        found = centres(sky=False)
        z = found.depth
        to_eye = np.linalg.norm(found.position - EYE[:, None, None], axis=0)
        return {
            "planar": (z * 2.5, "small"),
            "radial": (to_eye, "small"),
            "inverse": (3 / z, "large"),
            "buffer": ((1 / 0.1 - 1 / z) / (1 / 0.1 - 1 / 100), "small"),
        }

    def test_each_kind_is_told_by_the_positions(self) -> None:
        for kind, (depth, near) in self.kinds().items():
            report = self.report(depth)
            self.assertEqual((report.kind, report.near_is, report.likely), (kind, near, False), kind)
        self.assertAlmostEqual(self.report(self.kinds()["planar"][0]).unit, 1 / 2.5, 4)
        wrong = self.report(np.random.default_rng(2).random(SIZE))
        self.assertTrue(any("does not agree" in text for text in wrong.warnings))

    def test_without_positions_slopes_tell(self) -> None:
        z = centres(sky=False).depth
        for depth, near in ((z, "small"), (30 - z, "large"), (1 / z, "large")):
            report = self.report(depth, with_position=False)
            self.assertEqual((report.near_is, report.likely), (near, True))

    def test_what_is_turned_round_keeps_its_proportions(self) -> None:
        z = centres(sky=False).depth
        for stored in (3 / z, 0.02 / z):
            sources = {"deep": MemorySource({"Z": stored.astype(np.float32)}, traits={"Z": Trait("depth")})}
            made = one("depth_unit", {"depth": "deep.Z"}, sources, **_turned(self.report(stored))).planes["Y"]
            ratio = made / z
            np.testing.assert_allclose(ratio, np.median(ratio), rtol=1e-3)
        # Of any kind what is near comes to lie nearer.
        for kind, stored in (("buffer", 5 + 1 / z), ("distance", 30 - z)):
            made = one("depth_unit", {"depth": "deep.Z"}, {
                "deep": MemorySource({"Z": stored.astype(np.float32)}, traits={"Z": Trait("depth")}),
            }, **_turned(self.report(stored, with_position=kind == "buffer"))).planes["Y"]  # fmt: skip
            self.assertGreater(float(np.corrcoef(made.ravel(), z.ravel())[0, 1]), 0.9, kind)

    def test_where_nowhere_is(self) -> None:
        sound = [1.0, 0.0, 0.0]
        for wrong in ([0.0, 0.0, 0.0], [math.nan, 1, 1], [1, math.inf, 1], [1, 1, -1e9]):
            places = np.array([sound, wrong], np.float32).T
            self.assertEqual(is_nowhere(places).tolist(), [False, True], wrong)

    def test_bad_material_is_told(self) -> None:
        found = centres()
        hole = np.where(found.thing > 0, found.depth, np.nan)
        hole[50:60, 50:60] = np.inf
        report = self.report(np.where(found.thing > 0, found.depth, 0), with_position=False)
        self.assertEqual(report.nothing, [0.0])
        self.assertGreater(report.range[0], 0.5)
        self.assertEqual(self.report(hole, with_position=False).kind, "distance")
        self.assertEqual(self.report(np.full(SIZE, 4.0)).kind, "flat")
        self.assertEqual(self.report(np.full(SIZE, np.inf)).kind, "empty")
        self.assertTrue(any("below 0" in text for text in self.report(-found.depth, with_position=False).warnings))

    def test_on_the_command_line(self) -> None:
        found = centres()
        channels = {"depth.Z": np.where(found.thing > 0, found.depth, 1e10).astype(np.float32)}
        channels |= {f"position.{axis}": p.astype(np.float32) for axis, p in zip(AXES, found.position, strict=True)}
        path = write_exr(self.folder() / "scene.exr", channels)
        (answer,) = depth_file(path)
        self.assertEqual((answer["kind"], answer["nothing"]), ("planar", [1e10]))
        self.assertAlmostEqual(answer["camera"]["field_of_view"], FOV, 1)
        self.assertIn("by the positions", " ".join(answer["sentences"]))
        self.assertEqual(main(["depth", str(path)]), 0)
        self.assertEqual(main(["depth", str(path), "--layer", "nowhere"]), 2)

    def test_the_recipe_says_what_depth_is_and_where_nothing_is(self) -> None:
        depth = np.full((16, 16), 4.0, np.float32)
        depth[:, 8:] = 77.0
        depth[:, 4:8] = np.linspace(1.5, 3, 4, dtype=np.float32)
        path = write_exr(self.folder() / "odd.exr", {"depth.Z": depth, "R": np.full((16, 16), 77.0, np.float32)})
        window = Window(0, 0, 16, 16)
        with Session() as session:
            plain, told = session.open(path), session.open(path, SourceSpec(depth="turned", nothing=77.0))
            (before,), (after,) = reports_of(plain), reports_of(told)
            read = told.read(["depth.Z", "R"], Fraction(1), window)
            self.assertTrue(np.isinf(read["depth.Z"][:, 8:]).all())
            self.assert_planes(read["depth.Z"][:, :8], depth[:, :8])
            self.assert_planes(read["R"], 77.0 + 0 * depth, message="what is no depth stays")
            self.assertIsNone(told.raw("depth.Z", window))
            # What is there is not averaged with what is not, and nothing stays nothing.
            small = told.read(["depth.Z"], Fraction(1, 8), window.scaled(Fraction(1, 8)))["depth.Z"]
            self.assert_planes(small[:, 0], [depth[:8, :8].mean()] * 2, 1e-3)
            self.assertTrue(np.isinf(small[:, 1]).all())
            self.assertNotEqual(plain.digest, told.digest)
            # Another kind changes what is said, and no pixel.
            self.assertEqual(plain.digest, session.open(path, SourceSpec(depth="planar")).digest)
        self.assertEqual((before.near_is, before.range[1] > 70), ("small", True))
        self.assertEqual((after.kind, after.near_is, after.likely), ("distance", "large", False))
        self.assertAlmostEqual(after.nothing_share, 0.5)
        self.assertLess(after.range[1], 5)
        self.assertIn("the recipe says so", " ".join(sentences(after)))


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


class Ids(CoreTest):
    NAMES = ("moth", "post", "pot")

    def hashed(self, **more: Any) -> MemorySource:
        cover = np.zeros((8, 12, 2), np.float32)
        cover[:, :6, 0], cover[:, 6:, 0] = 1, 0.6
        cover[:, 6:, 1] = 0.4
        numbers = [hashed_value(name) for name in self.NAMES]
        first = np.where(np.arange(12) < 6, numbers[0], numbers[1]) + np.zeros((8, 1))
        second = np.where(np.arange(12) < 6, 0.0, numbers[2]) + np.zeros((8, 1))
        planes = {"things00.R": first, "things00.G": cover[..., 0], "things00.B": second, "things00.A": cover[..., 1]}
        traits = {name: Trait("id", samples=more.get("samples", "float")) for name in planes}
        source = MemorySource(planes, data=list(planes), traits=traits)
        told = more.get("header", hashed_names("things", self.NAMES))
        source.description = source.description.changed(metadata={key: tagged(value) for key, value in told.items()})
        return source

    def test_hashes_agree_with_another_writer_of_them(self) -> None:
        for name in ("", "a", "moth", "über uns", "pod_17/left wing", "x" * 300):
            self.assertEqual(np.float32(hashed_value(name)).view(np.uint32), bits_of(name), name)
        self.assertEqual(bits_of("\ud800"), bits_of("?"), "half of a letter is no fault")

    def test_coverage_of_picked_names(self) -> None:
        sources = {"ids": self.hashed()}
        cases = (
            (["moth"], [1, 0]), (["post"], [0, 0.6]), (["pot"], [0, 0.4]), (["moth", "pot", "post"], [1, 1]),
            ([f"{bits_of('post'):08x}"], [0, 0.6]), ([], [0, 0]),
        )  # fmt: skip
        for pick, (left, right) in cases:
            made = one("id_pick", {"ids": "ids"}, sources, pick=pick).planes["Y"]
            self.assert_planes(made[:, :6], left, 1e-6)
            self.assert_planes(made[:, 6:], right, 1e-6)
        small = run(
            [{"name": "m", "op": "id_pick", "in": {"ids": "ids"}, "set": {"pick": ["post"]}}], sources,
            scale=Fraction(1, 2),
        )  # fmt: skip
        self.assertEqual(set(np.unique(small.planes["Y"])), {np.float32(0), np.float32(0.6)})
        inverted = one("id_pick", {"ids": "ids"}, sources, pick=["post"], invert=True).planes["Y"]
        self.assert_planes(inverted[:, 6:], 0.4, 1e-6)

    def test_what_cannot_be_picked_is_told(self) -> None:
        sources = {"ids": self.hashed(), "half": self.hashed(samples="half"), "pic": rgba()}
        self.assert_refused(lambda: one("id_pick", {"ids": "ids"}, sources, pick=["mott"]), "no 'mott'", "moth")
        self.assert_refused(lambda: one("id_pick", {"ids": "half"}, sources, pick=["moth"]), "stored as halves")
        self.assert_refused(lambda: one("id_pick", {"ids": "pic"}, sources, pick=["moth"]), "no layer of hashed ids")
        self.assert_refused(
            lambda: one("id_pick", {"ids": "ids"}, sources, pick=["moth"], layer="x"), "no layer of ids 'x'"
        )
        self.assert_refused(lambda: one("id_pick", {"ids": "pic.R"}, sources, pick=["moth"]), "is no number")

    def test_manifests_that_do_not_match_and_files_without_one(self) -> None:
        told = hashed_names("things", self.NAMES)
        key = next(name for name in told if name.endswith("manifest"))
        wrong = told | {key: json.dumps({"moth": f"{bits_of('post'):08x}", "post": f"{bits_of('post'):08x}"})}
        (layer,) = id_layers({name: tagged(value) for name, value in wrong.items()}).values()
        self.assertIn("1 of 2 names", layer.problem)
        broken = told | {key: "{not"}
        (layer,) = id_layers({name: tagged(value) for name, value in broken.items()}).values()
        self.assertIn("cannot be read", layer.problem)
        # Without a header names are hashed, and found.
        made = one("id_pick", {"ids": "ids"}, {"ids": self.hashed(header={})}, pick=["moth"]).planes["Y"]
        self.assert_planes(made[:, :6], 1)
        self.assertEqual(
            ranked("a", ["a01.red", "a01.green", "a00.R", "a00.G", "a00.B", "a00.A", "ab00.R"]),
            [("a00.R", "a00.G"), ("a00.B", "a00.A"), ("a01.red", "a01.green")],
        )

    def test_a_manifest_in_a_file_beside_the_picture(self) -> None:
        place = self.folder()
        told = hashed_names("things", ("moth", "pot"))
        key = next(iter(told)).rpartition("/")[0]
        text = told.pop(f"{key}/manifest")
        told[f"{key}/manif_file"] = "names\\Things.json"
        ids = np.full((4, 6), hashed_value("moth"), np.float32)
        planes = {"things00.R": ids, "things00.G": np.ones_like(ids), "things00.B": 0 * ids, "things00.A": 0 * ids}
        path = write_exr(place / "ids.exr", planes, told)
        heard: list[str] = []
        with Session(warn=heard.append) as session:
            self.assertEqual(id_layers(session.open(path).description.metadata)["things"].names, {})
            self.assertIn("Things.json", " ".join(heard))
            (place / "Things.json").write_text("{1: ", encoding="utf-8")
            session.open(path)
            self.assertIn("is no manifest of ids", heard[-1])
            (place / "Things.json").write_text(text, encoding="utf-8")
            named = session.open(path)
            layer = id_layers(named.description.metadata)["things"]
            self.assertEqual((set(layer.names), layer.problem), ({"moth", "pot"}, ""))
            # Delivered on, the names stand in the header, and the file is not asked for any more.
            self.assertEqual(manifest_files(named.description.metadata), {})
        for wrong in (b"[]", b'{"moth": 3}', b'{"moth": "123456789"}', b"\xff", b'{"moth": "zz"}'):
            self.assert_refused(lambda wrong=wrong: manifest_in(wrong, "x.json"), "is no manifest of ids")
        self.assertEqual(
            manifest_files({f"{key}/name": "things", f"{key}/manif_file": tagged("../../x/")}), {"x": f"{key}/manifest"}
        )

    def test_plain_numbers(self) -> None:
        ids = np.array([[0, 3, 3, 16777217, np.nan, -2]], np.float64)
        source = MemorySource(
            {"id": ids}, data=["id"], traits={"id": Trait("id", samples="uint")}, window=Window(0, 0, 6, 1)
        )
        cover = MemorySource({"Y": np.full((1, 6), 0.5, np.float32)}, data=["Y"])
        for pick, wanted in (([3], [0, 1, 1, 0, 0, 0]), ([16777217, -2], [0, 0, 0, 1, 0, 1]), ([16777216], [0] * 6)):
            made = one("id_pick", {"ids": "ids.id"}, {"ids": source}, pick=pick).planes["Y"]
            self.assert_planes(made, [wanted])
        made = one("id_pick", {"ids": "ids.id", "coverage": "cover"}, {"ids": source, "cover": cover}, pick=["3"])
        self.assert_planes(made.planes["Y"], [[0, 0.5, 0.5, 0, 0, 0]])


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
