"""Cameras, depth and what is found of it: against scenes whose space is known, and against separate formulas."""

from __future__ import annotations

import math
from fractions import Fraction
from typing import Any

import numpy as np
from core_support import CoreTest, MemorySource, one, run, write_exr
from hypothesis import given
from hypothesis import strategies as st
from patience import trials
from space_scenes import AXES, BALL, EYE, FOV, RADIUS, SIZE, camera_to_world, centres, header, scene_sources, subpixels

from nexal.analysis.depth import _as_said, depth_report, reports_of, sentences
from nexal.analysis.run import depth_file
from nexal.analysis.space_checks import _turned
from nexal.camera import Camera, ball_outline, camera_of_header, camera_of_positions, camera_of_view
from nexal.cli import main
from nexal.formats.decoded import tagged
from nexal.kernels.depths import near_is_large
from nexal.kernels.nowhere import is_nowhere
from nexal.picture import Trait, Window
from nexal.recipe import SourceSpec
from nexal.session import Session


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

    @trials(60)
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

    def test_every_kind_at_both_signs_and_with_every_sky(self) -> None:
        """Without positions: which end is near is told rightly, or asked; never wrongly."""
        found = centres()
        there = found.thing > 0
        z = np.where(there, found.depth, 1.0)
        # What each kind and sign makes of a distance, and which end is near then.
        kinds = {
            ("distance", 1): (z, "small"),
            ("distance", -1): (-z, "large"),
            ("turned", 1): (30 - z, "large"),
            ("inverse", 1): (0.8 / z, "large"),
            ("inverse", -1): (-0.8 / z, "small"),
            ("buffer", 1): (1 - 0.045 / z, "small"),
            ("buffer", -1): (0.045 / z - 1, "large"),
            ("buffer of both signs", 1): (1 - 2.5 / z, "small"),
        }
        far = {("inverse", 1): 0.0, ("inverse", -1): 0.0, ("buffer", 1): 1.0, ("buffer", -1): -1.0}
        far["buffer of both signs", 1] = 1.0
        told = 0
        for (kind, sign), (stored, near) in kinds.items():
            skies = {"its far end": far.get((kind, sign), np.inf), "infinite": np.inf, "other": -np.inf, "none": None}
            skies |= {"0": 0.0} if kind == "distance" else {}
            for name, sky in skies.items():
                with self.subTest(f"{kind} {sign}, sky {name}"):
                    depth = np.where(there, stored, np.nan if sky is None else sky)
                    report = self.report(depth, with_position=False)
                    if report.asks:
                        self.assertTrue(any("can't be told" in text for text in report.warnings))
                        self.assertNotEqual(name, "its far end")
                    else:
                        self.assertEqual(report.near_is, near)
                        told += 1
                    # The operation that looks by itself says the same.
                    self.assertEqual(near_is_large(depth.astype(np.float32)), report.near_is == "large")
        self.assertGreaterEqual(told, 30)

    def test_a_shallow_z_buffer_is_never_turned_round(self) -> None:
        """From 0.982 to 0.9975 with the sky at 1, as one was seen: its remedy would have turned it wrongly."""
        found = centres()
        there = found.thing > 0
        z = np.where(there, found.depth, 1.0)
        nearest, farthest = z[there].min(), z[there].max()
        scale = (0.9975 - 0.982) / (1 / nearest - 1 / farthest)
        depth = np.where(there, 0.982 + scale * (1 / nearest - 1 / z), 1.0).astype(np.float32)
        report = self.report(depth, with_position=False)
        self.assertEqual((report.kind, report.near_is, report.asks, report.nothing), ("buffer", "small", False, [1.0]))
        sources = {"p": scene_sources()["deep"], "z": MemorySource({"Z": depth}, traits={"Z": Trait("depth")})}
        made = one("depth_range", {"depth": "z.Z"}, sources).planes["Y"]
        self.assertLess(float(np.corrcoef(made[there], z[there])[0, 1]), -0.8, "near is 1")

    def test_where_either_end_may_be_near_it_asks_and_offers_nothing(self) -> None:
        z = centres(sky=False).depth
        depth = (1 / z - (1 / z).min()) / np.ptp(1 / z) * 0.9 + 0.05
        report = self.report(depth, with_position=False)
        self.assertTrue(report.asks)
        self.assertFalse(any("turned" in reason for reason in report.reasons))
        said = _as_said(report, "buffer")
        self.assertEqual((said.asks, said.near_is, said.warnings), (False, "small", []))
        self.assertEqual(_as_said(report, "inverse").near_is, "large")

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
