"""Audit and shares of the light over HTTP."""

from __future__ import annotations

from typing import Any

import numpy as np
from server_support import ServerTest, exr_bytes, planes_of


def passes() -> dict[str, np.ndarray]:
    """A picture that is the sum of two lights, each even, with an alpha and a depth."""
    shape = (48, 64)
    x = np.linspace(0, 1, 64, dtype=np.float32)[None] * np.ones(shape, np.float32)
    planes: dict[str, np.ndarray] = {}
    for name, (rim, fill) in {"R": (0.5, 0.125), "G": (0.25, 0.125), "B": (0.125, 0.25)}.items():
        planes[f"rim.{name}"] = (rim * (x > 0.5)).astype(np.float16)
        planes[f"fill.{name}"] = np.full(shape, fill, np.float16)
        planes[name] = (planes[f"rim.{name}"] + planes[f"fill.{name}"]).astype(np.float16)
    return planes | {"A": np.ones(shape, np.float16), "depth.Z": x * 100}


class PassesTest(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.upload("render.exr", exr_bytes(passes()))
        self.path = f"/api/shots/{self.shot.pk}"

    def recipe(self, *steps: dict[str, Any]) -> dict[str, Any]:
        return {"nexal": 1, "sources": {"render": {"files": "render.exr"}}, "steps": list(steps)}


class Passes(PassesTest):
    def test_an_audit_and_its_steps(self) -> None:
        answer = self.api.post(f"{self.path}/audit", {"recipe": self.recipe(), "address": "render"}).json()
        self.assertEqual({part["layer"]: part["coefficient"] for part in answer["parts"]}, {"rim": 1, "fill": 1})
        self.assertEqual((answer["claimed"], answer["place"], answer["layers"]), (True, None, ["RGB", "fill", "rim"]))
        self.assertEqual(answer["residual"]["max"], 0)
        recipe = self.recipe(*answer["steps"])
        view = self.api.post(f"{self.path}/view", {"recipe": recipe, "address": "rebuilt"})
        got = planes_of(view)
        self.assertEqual(list(got), ["R", "G", "B", "A"])
        for name in ("R", "G", "B"):
            np.testing.assert_array_equal(got[name], passes()[name])
        left = planes_of(self.api.post(f"{self.path}/view", {"recipe": recipe, "address": "left"}))
        self.assertEqual(max(float(plane.max()) for plane in left.values()), 0)

    def test_a_layer_that_is_not_there(self) -> None:
        fault = self.api.post(f"{self.path}/audit", {"recipe": self.recipe(), "address": "render", "full": "sun"})
        self.assertEqual((fault.status_code, fault.json()["code"]), (422, "recipe"))
        self.assertIn("sun", fault.json()["message"])

    def shares(self, balance: list[dict[str, Any]]) -> list[dict[str, Any]]:
        inputs = {"passes": ["render.rim", "render.fill"]}
        step = {"name": "sum", "op": "sum_passes", "in": inputs, "set": {"passes": balance}}
        answer = self.api.post(f"{self.path}/shares", {"recipe": self.recipe(step), "item": "sum"})
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def test_shares_follow_the_balance(self) -> None:
        luma = np.array([0.2126, 0.7152, 0.0722])
        rim, fill = float(luma @ [0.5, 0.25, 0.125]) / 2, float(luma @ [0.125, 0.125, 0.25])
        rows = self.shares([])
        self.assertAlmostEqual(rows[0]["share"], rim / (rim + fill), 3)
        self.assertAlmostEqual(sum(row["share"] for row in rows), 1, 6)
        rows = self.shares([{"stops": 2}, {"tint": [0, 1, 0]}])
        green = 0.7152 * 0.125
        self.assertAlmostEqual(rows[0]["share"], 4 * rim / (4 * rim + green), 3)
        rows = self.shares([{"mute": True}])
        self.assertEqual([(row["sounds"], row["share"]) for row in rows], [(False, 0), (True, 1)])
        rows = self.shares([{"solo": True}])
        self.assertEqual([row["share"] for row in rows], [1, 0])

    def test_shares_of_what_adds_nothing_up(self) -> None:
        fault = self.api.post(f"{self.path}/shares", {"recipe": self.recipe(), "item": "render"})
        self.assertEqual((fault.status_code, fault.json()["where"]), (422, "step 'render'"))

    def test_products_count_pixel_by_pixel(self) -> None:
        inputs = {"passes": ["render.rim", "render.fill"]}
        step = {"name": "s", "op": "sum_passes", "in": inputs, "set": {"passes": [{"times": "render.rim"}]}}
        rows = self.api.post(f"{self.path}/shares", {"recipe": self.recipe(step), "item": "s"}).json()
        wanted = float(np.array([0.2126, 0.7152, 0.0722]) @ np.square([0.5, 0.25, 0.125])) / 2
        self.assertAlmostEqual(rows[0]["light"], wanted, 4)


class Warnings(PassesTest):
    def checks(self, addresses: list[str], **more: Any) -> list[dict[str, Any]]:
        step = {"name": "sum", "op": "sum_passes", "in": {"passes": addresses}} | more
        answer = self.api.post(f"{self.path}/checks", {"recipe": self.recipe(step), "item": "sum"})
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def test_a_sound_sum_is_left_in_peace(self) -> None:
        self.assertEqual(self.checks(["render.rim", "render.fill"]), [])

    def test_data_in_the_sum(self) -> None:
        balance = {"set": {"passes": [{"stops": 1}, {"stops": 2}, {"stops": 3}]}}
        (warning,) = self.checks(["render.rim", "render.depth.Z", "render.fill"], **balance)
        self.assertEqual(warning["code"], "data_in_sum")
        self.assertIn("render.depth.Z", warning["text"])
        wanted = {"in": {"passes": ["render.rim", "render.fill"]}, "set": {"passes": [{"stops": 1}, {"stops": 3}]}}
        self.assertEqual(warning["remedy"]["replace"], wanted)

    def test_light_added_twice(self) -> None:
        (warning,) = self.checks(["render.rim", "render.fill", "render.rim"])
        self.assertEqual(warning["code"], "light_twice")
        self.assertEqual(warning["remedy"]["replace"]["in"]["passes"], ["render.rim", "render.fill"])
        planes = passes()
        nested = {f"diffuse.{name}": plane for name, plane in planes.items() if name.startswith(("rim", "fill"))}
        nested |= {f"diffuse.{name}": planes[name] for name in ("R", "G", "B")}
        self.upload("nested.exr", exr_bytes(nested))
        addresses = ["n.diffuse", "n.diffuse.rim", "n.diffuse.fill"]
        step = {"name": "sum", "op": "sum_passes", "in": {"passes": addresses}}
        recipe = {"nexal": 1, "sources": {"n": {"files": "nested.exr"}}, "steps": [step]}
        (warning,) = self.api.post(f"{self.path}/checks", {"recipe": recipe, "item": "sum"}).json()
        self.assertEqual(warning["remedy"]["replace"]["in"]["passes"], addresses[1:])

    def test_encoded_values_added_as_light(self) -> None:
        import cv2

        codes = cv2.imencode(".png", np.full((48, 64, 3), 128, np.uint8))[1].tobytes()
        self.upload("lamp.png", codes)
        step = {"name": "sum", "op": "sum_passes", "in": {"passes": ["lamp", "render.rim"]}}
        for colour, count in (("auto", 0), ("linear", 1), ("data", 1)):
            sources = {"lamp": {"files": "lamp.png", "colour": colour}, "render": {"files": "render.exr"}}
            recipe = {"nexal": 1, "sources": sources, "steps": [step]}
            found = self.api.post(f"{self.path}/checks", {"recipe": recipe, "item": "sum"}).json()
            found = [row for row in found if row["code"] == "encoded_light"]
            self.assertEqual(len(found), count, colour)
        self.assertEqual(found[0]["remedy"]["read"], {"lamp": "auto"})
