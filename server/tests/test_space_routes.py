"""Routes of the Space bench: what there is, the scene from the side, what lies at a point; and its warnings."""

from __future__ import annotations

import base64
import json
from typing import Any

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import override_settings
from server_support import ServerTest, exr_bytes
from space_scenes import BALL, SIZE, camera_to_world, centres, header, subpixels

from deliveries import scheduled
from deliveries.models import Render
from demo.night.naming import hashed_bits, hashed_names, hashed_value
from nexal.formats.decoded import untagged
from nexal.session import MANIFEST_BYTES


def scene_bytes(*, averaged: bool = False, header: bool = True) -> bytes:
    """The known scene as a render: picture, depth, positions, normals and hashed ids."""
    found = centres()
    there = found.thing > 0
    depth = np.where(there, found.depth, 1e10)
    if averaged:
        fine = subpixels(4, sky=False)
        depth = fine.depth.mean(axis=-1)
    channels: dict[str, np.ndarray] = {name: np.full(SIZE, 0.3, np.float16) for name in "RGB"}
    channels |= {"A": there.astype(np.float16), "depth.Z": depth.astype(np.float32)}
    for index, axis in enumerate("XYZ"):
        channels[f"position.{axis}"] = found.position[index].astype(np.float32)
        channels[f"normal.{axis}"] = found.normal[index].astype(np.float16)
    values = np.array([0.0, *(hashed_value(name) for name in ("floor", "wall", "ball"))], np.float32)
    channels |= {"things00.R": values[found.thing], "things00.G": there.astype(np.float32)}
    channels |= {"things00.B": np.zeros(SIZE, np.float32), "things00.A": np.zeros(SIZE, np.float32)}
    return exr_bytes(channels, header=hashed_names("things", ("floor", "wall", "ball")) if header else None)


class SpaceTest(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.path = f"/api/shots/{self.shot.pk}"

    def given(self, content: bytes | None = None, steps: Any = ()) -> None:
        self.upload("scene.exr", content if content is not None else scene_bytes())
        recipe = {"nexal": 1, "sources": {"scene": {"files": "scene.exr"}}, "steps": list(steps)}
        self.assertEqual(self.save(recipe).status_code, 200)

    def post(self, route: str, **body: Any) -> Any:
        answer = self.api.post(f"{self.path}/{route}", body)
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def test_what_a_render_knows_of_its_space(self) -> None:
        self.given()
        (row,) = self.post("space")
        self.assertEqual((row["source"], row["position"], row["normals"]), ("scene", "scene.position", "scene.normal"))
        self.assertEqual((row["alpha"], row["albedo"], row["camera"]), ("scene.A", "", None))
        (depth,) = row["depths"]
        self.assertEqual((depth["channel"], depth["kind"], depth["near_is"]), ("depth.Z", "planar", "small"))
        self.assertIn("by the positions", " ".join(depth["sentences"]))
        (ids,) = row["ids"]
        self.assertEqual((ids["layer"], ids["names"]), ("things", ["ball", "floor", "wall"]))
        self.upload()
        recipe = {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}}
        self.assertEqual(self.post("space", recipe=recipe), [])

    def test_the_scene_from_the_side_and_from_above(self) -> None:
        self.given()
        found = centres()
        ask = {"address": "scene.depth.Z", "columns": 100, "rows": 60, "span": [2, 6]}
        for side, at in (("side", 0), ("above", 1)):
            answer = self.post("elevation", **ask, side=side)
            density = np.frombuffer(base64.b64decode(answer["density"]), np.uint8).reshape(60, 100)
            rows, columns = np.nonzero(found.thing == 3)
            place = (rows, columns)[at]
            # The ball fills its depths at its own height; at that height nothing is before it.
            middle = int(place.mean() / SIZE[at] * 60)
            nearest = int((found.depth[found.thing == 3].min() - 2) / 4 * 100)
            self.assertGreater(int(density[middle, nearest + 1 : nearest + 12].max()), 100, side)
            if side == "side":
                self.assertEqual(int(density[middle, : nearest - 2].max()), 0)
        wide = self.post("elevation", address="scene.depth.Z", columns=100, rows=60, inverse=True)
        self.assertAlmostEqual(wide["all_low"], float(np.percentile(found.depth[found.thing > 0], 0.1)), 1)
        self.assertEqual(wide["low"], wide["all_low"])

    def test_what_lies_at_a_point(self) -> None:
        self.given()
        found = centres()
        rows, columns = np.nonzero(found.thing == 3)
        y, x = int(rows.mean()), int(columns.mean())
        ask = {"depth": "scene.depth.Z", "position": "scene.position", "ids": "scene"}
        answer = self.post("locate", x=x + 0.5, y=y + 0.5, **ask)
        self.assertAlmostEqual(answer["depth"], found.depth[y, x], 2)
        np.testing.assert_allclose(answer["position"], found.position[:, y, x], atol=0.02)
        self.assertLess(np.linalg.norm(np.array(answer["position"]) - BALL), 0.95)
        self.assertEqual([(row["name"], row["coverage"]) for row in answer["ids"]], [("ball", 1.0)])
        (line,) = self.post("locate", x=x + 0.5, y=y + 0.5, ids="scene", outline=True)["outline"]
        away = np.linalg.norm(np.array(line) - (columns.mean() + 0.5, rows.mean() + 0.5), axis=1)
        self.assertTrue((np.abs(away - np.sqrt(len(rows) / np.pi)) < 4).all(), "a ball is seen as nearly a circle")
        # One pixel inside of the ball's edge the ball is meant, not what is behind.
        left = int(columns[rows == y].min())
        answer = self.post("locate", x=left + 0.5, y=y + 0.5, **ask)
        self.assertLess(abs(answer["depth"] - found.depth[y, left]), 0.4)
        self.assertEqual(
            self.post("locate", x=5, y=2, **ask), {"depth": None, "position": None, "ids": [], "outline": []}
        )
        self.assertEqual(self.post("locate", x=-500, y=2, **ask)["depth"], None)

    def test_names_of_ids_from_a_file_of_their_own(self) -> None:
        told = hashed_names("things", ("moth", "pot"))
        key = next(iter(told)).rpartition("/")[0]
        text = told.pop(f"{key}/manifest")
        ids = np.full((4, 6), hashed_value("moth"), np.float32)
        planes = {"things00.R": ids, "things00.G": np.ones_like(ids), "things00.B": 0 * ids, "things00.A": 0 * ids}
        self.given(exr_bytes(planes, header=told | {f"{key}/manif_file": "things.json"}))
        ask = {"x": 2, "y": 2, "ids": "scene"}
        self.assertEqual(self.post("locate", **ask)["ids"][0]["name"], "")

        def sent(name: str, content: str, user: Any = None) -> Any:
            file = SimpleUploadedFile(name, content.encode())
            return self.as_user(user or self.owner).client.post(f"{self.path}/sources/manifest", {"file": file})

        self.assertEqual(sent("things.json", text, self.viewer).status_code, 403)
        answer = sent("things.json", "[1]")
        self.assertEqual((answer.status_code, answer.json()["message"]), (422, "is no manifest of ids"))
        # What a row of the database cannot hold is refused before it is read.
        self.assertEqual(sent("things.json", text + " " * MANIFEST_BYTES).status_code, 413)
        answer = sent("THINGS.json", text)
        self.assertEqual(answer.status_code, 200, answer.content)
        self.assertIn("scene.exr", answer.json()["told"][0])
        self.assertEqual(self.post("locate", **ask)["ids"][0]["name"], "moth")
        self.assertEqual(self.post("space")[0]["ids"][0]["names"], ["moth", "pot"])
        # On a farm they go along with the frame, to be known by machines that never saw the file.
        spec = {"from": "scene", "file": "scene.exr"}
        made = self.api.post(f"{self.path}/deliverables", {"name": "scene", "spec": spec}).json()
        with override_settings(NEXAL_JOBS="thread"):
            render = self.api.post(f"{self.path}/deliverables/{made['id']}/renders", {"first": 1, "last": 1}).json()
        task = scheduled._task(Render.objects.get(pk=render["id"]), 1)
        self.assertEqual(task.manifests, {"scene": {"things.json": text}})
        # A newer one takes its place; another picture's names are not taken for those of this one.
        self.assertEqual(sent("other.json", json.dumps({"pot": f"{hashed_bits('pot'):08x}"})).status_code, 200)
        self.assertEqual(self.post("space")[0]["ids"][0]["names"], ["pot"])
        for name in ("two", "three"):
            self.upload(f"{name}.exr", exr_bytes(planes, header=told | {f"{key}/manif_file": f"{name}.json"}))
        answer = sent("things.txt", text)
        self.assertEqual((answer.status_code, answer.json()["code"]), (422, "unasked_manifest"))
        self.assertIn("three.json, two.json", answer.json()["message"])

    def test_plain_ids_are_told_with_all_their_digits(self) -> None:
        numbers = np.full((8, 8), 16777217, np.uint32)
        numbers[:, 4:] = 4000000001
        self.upload("ids.exr", exr_bytes({"id.object": numbers}))
        self.save({"nexal": 1, "sources": {"ids": {"files": "ids.exr"}}})
        for x, wanted in ((1, "16777217"), (6, "4000000001")):
            (found,) = self.post("locate", x=x, y=3, ids="ids.id.object", outline=True)["ids"]
            self.assertEqual(found["id"], wanted)
            step = self.step("picked", "id_pick", {"ids": "ids.id.object"}, pick=[found["id"]])
            recipe = {"nexal": 1, "sources": {"ids": {"files": "ids.exr"}}, "steps": [step]}
            rows = self.post("probe", recipe=recipe, addresses=["picked"], x=x, y=3)
            self.assertEqual(rows[0]["channels"][0]["value"], 1.0)

    def checks(self, item: str) -> dict[str, Any]:
        return {row["code"]: row for row in self.post("checks", item=item, marks=[])}

    def step(self, name: str, op: str, given: dict[str, str], **settings: Any) -> dict[str, Any]:
        return {"name": name, "op": op, "in": given, "set": settings}

    def test_warnings_with_remedies(self) -> None:
        picture, depth = {"picture": "scene"}, {"depth": "scene.depth.Z"}
        self.given(
            steps=[
                self.step("beyond", "depth_slice", depth, near=80.0, far=90.0),
                self.step("inside", "depth_slice", depth, near=2.0, far=4.0),
                self.step("late", "fog", picture | depth, start=70.0),
                self.step("lens", "defocus", picture | depth, focus=4.0),
                self.step("again", "defocus", {"picture": "lens"} | depth, focus=4.0),
                self.step("graded", "grade", {"picture": "lens", "matte": "inside"}, exposure=1.0),
            ]
        )
        self.assertEqual(self.checks("inside"), {})
        for item, code in (("beyond", "slice_outside"), ("late", "fog_outside"), ("again", "defocus_twice")):
            found = self.checks(item)
            self.assertIn(code, found)
            self.assertIsNotNone(found[code]["remedy"], code)
        self.assertIn("The same lens", self.checks("graded")["sharp_matte"]["remedy"]["label"])

    def test_what_does_not_lie_over_the_picture_is_told(self) -> None:
        small = exr_bytes({"Z": np.full((30, 50), 4.0, np.float32)})
        covered = exr_bytes({name: np.ones(SIZE, np.float16) for name in "RGBA"})
        for name, content in (("small.exr", small), ("covered.exr", covered)):
            self.upload(name, content)
        self.upload("scene.exr", scene_bytes())
        fogs = [
            self.step("off", "fog", {"picture": "scene", "depth": "small.Z"}),
            self.step("full", "fog", {"picture": "covered", "depth": "scene.depth.Z"}),
            self.step("sound", "fog", {"picture": "scene", "depth": "scene.depth.Z"}),
        ]
        sources = {name: {"files": f"{name}.exr"} for name in ("scene", "small", "covered")}
        self.assertEqual(self.save({"nexal": 1, "sources": sources, "steps": fogs}).status_code, 200)
        remedy = self.checks("off")["depth_size"]["remedy"]
        self.assertEqual(remedy["does"]["steps"][0]["set"]["width"], SIZE[1])
        self.assertIn("disagree", self.checks("full")["alpha_and_depth"]["text"])
        self.assertEqual(self.checks("sound"), {})

    def test_positions_of_camera_space_are_told(self) -> None:
        for wrong in (False, True):
            name = f"wrong_{wrong}".lower()
            found = centres()
            points = found.position.reshape(3, -1)
            if wrong:
                around = np.linalg.inv(camera_to_world())
                points = around[:3, :3] @ points + around[:3, 3:]
            planes = {axis: p.reshape(SIZE).astype(np.float32) for axis, p in zip("XYZ", points, strict=True)}
            planes = {axis: np.where(found.thing > 0, plane, np.float32(0)) for axis, plane in planes.items()}
            raw = {key: untagged(value) for key, value in header().items()}
            self.upload(f"{name}.exr", exr_bytes(planes, header=raw))
            steps = [self.step("pool", "space_matte", {"position": name})]
            self.save({"nexal": 1, "sources": {name: {"files": f"{name}.exr"}}, "steps": steps})
            self.assertEqual(set(self.checks("pool")), {"camera_space"} if wrong else set())

    def test_averaged_depth_is_mended_by_a_click(self) -> None:
        self.given(scene_bytes(averaged=True, header=False), [
            self.step("fogged", "fog", {"picture": "scene", "depth": "scene.depth.Z"}),
        ])  # fmt: skip
        remedy = self.checks("fogged")["averaged_depth"]["remedy"]
        self.assertEqual(remedy["does"]["feed"]["port"], "depth")
        self.assertEqual(remedy["does"]["steps"][0]["op"], "depth_edges")
