"""Audit and shares of the light over HTTP."""

from __future__ import annotations

from typing import Any
from unittest import mock

import numpy as np
from server_support import ServerTest, exr_bytes, planes_of

from nexal.analysis.audit import MANY
from stage import slow
from stage.models import SlowResult


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


class ManyLayers(PassesTest):
    def setUp(self) -> None:
        super().setUp()
        random = np.random.default_rng(2)
        planes: dict[str, np.ndarray] = {}
        full = {name: np.zeros((24, 32), np.float32) for name in "RGB"}
        for number in range(MANY + 5):
            for name in "RGB":
                plane = (random.random((24, 32)) ** 4).astype(np.float16)
                planes[f"light_{number:02d}.{name}"] = plane
                if number < 3:
                    full[name] += plane.astype(np.float32)
        self.upload("many.exr", exr_bytes(planes | {name: plane.astype(np.float16) for name, plane in full.items()}))
        self.many = {"nexal": 1, "sources": {"many": {"files": "many.exr"}}}

    def ask(self, **more: Any) -> Any:
        return self.api.post(f"{self.path}/audit", {"recipe": self.many, "address": "many", "page": "p"} | more)

    def test_they_are_audited_in_the_background_once(self) -> None:
        with mock.patch("jobs.services.submit") as submitted:
            for _ in range(2):
                answer = self.ask()
                self.assertEqual((answer.status_code, answer.json()["code"]), (202, "pending"))
                self.assertIn("'audit of many'", answer.json()["where"])
            self.assertEqual(submitted.call_count, 1)
        (row,) = self.api.get(f"{self.path}/slow").json()
        self.assertEqual((row["item"], row["state"]), ("audit of many", "waiting"))
        slow.work(SlowResult.objects.get().pk)
        answer = self.ask().json()
        self.assertEqual([part["layer"] for part in answer["parts"]], ["light_00", "light_01", "light_02"])
        self.assertEqual(answer["steps"][0]["in"]["passes"], [f"many.light_0{number}" for number in range(3)])

    def test_it_can_be_stopped_and_asked_again(self) -> None:
        with mock.patch("jobs.services.submit"):
            self.ask()
        self.api.send("DELETE", f"{self.path}/slow/audit of many?page=p")
        self.assertEqual(SlowResult.objects.get().state, "stopped")
        self.assertEqual(self.ask().json()["explained"], 1)

    def test_a_fault_is_told(self) -> None:
        answer = self.ask(full="nothing")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("no colour layer 'nothing'", answer.json()["message"])


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
        self.assertEqual(warning["remedy"]["does"]["replace"], wanted)

    def test_light_added_twice(self) -> None:
        (warning,) = self.checks(["render.rim", "render.fill", "render.rim"])
        self.assertEqual(warning["code"], "light_twice")
        self.assertEqual(warning["remedy"]["does"]["replace"]["in"]["passes"], ["render.rim", "render.fill"])
        planes = passes()
        nested = {f"diffuse.{name}": plane for name, plane in planes.items() if name.startswith(("rim", "fill"))}
        nested |= {f"diffuse.{name}": planes[name] for name in ("R", "G", "B")}
        self.upload("nested.exr", exr_bytes(nested))
        addresses = ["n.diffuse", "n.diffuse.rim", "n.diffuse.fill"]
        step = {"name": "sum", "op": "sum_passes", "in": {"passes": addresses}}
        recipe = {"nexal": 1, "sources": {"n": {"files": "nested.exr"}}, "steps": [step]}
        (warning,) = self.api.post(f"{self.path}/checks", {"recipe": recipe, "item": "sum"}).json()
        self.assertEqual(warning["remedy"]["does"]["replace"]["in"]["passes"], addresses[1:])

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
        self.assertEqual(found[0]["remedy"]["does"]["read"], {"lamp": "auto"})


class Assembling(PassesTest):
    """Warnings where pictures are put together."""

    def setUp(self) -> None:
        super().setUp()
        x = np.linspace(0, 1, 64, dtype=np.float32)[None] * np.ones((48, 64), np.float32)
        soft = np.clip(2 * x - 0.5, 0, 1).astype(np.float16)
        for index, name in enumerate(("rim", "fill")):
            planes = {channel: (soft * np.float16(0.25 * (index + 1))).astype(np.float16) for channel in "RGB"}
            self.upload(f"{name}.exr", exr_bytes(planes | {"A": soft}))
        self.upload("small.exr", exr_bytes({name: plane[:24, :32] for name, plane in planes.items()}))
        self.upload("wide.exr", exr_bytes({"R": np.ones((48, 128), np.float16)}))
        self.upload("hard.exr", exr_bytes(planes | {"A": np.ones((48, 64), np.float16)}))
        self.names = ("render", "rim", "fill", "small", "wide", "hard")

    def made(self, *steps: dict[str, Any]) -> dict[str, Any]:
        sources = {name: {"files": f"{name}.exr"} for name in self.names}
        return {"nexal": 1, "sources": sources, "steps": list(steps)}

    def found(self, *steps: dict[str, Any]) -> list[dict[str, Any]]:
        answer = self.api.post(f"{self.path}/checks", {"recipe": self.made(*steps), "item": steps[-1]["name"]})
        self.assertEqual(answer.status_code, 200, answer.content)
        return [row for row in answer.json() if row["code"] in ("own_alphas", "sizes_differ", "windows_differ")]

    @staticmethod
    def stack(name: str, under: str, over: str, **settings: Any) -> dict[str, Any]:
        return {"name": name, "op": "stack", "in": {"under": under, "over": over}, "set": settings}

    def test_passes_each_with_its_own_alpha_become_one_sum(self) -> None:
        added = self.stack("added", "rim", "fill", mode="plus", opacity=0.5)
        (warning,) = self.found(added)
        self.assertEqual(warning["code"], "own_alphas")
        step = {"name": "added", **warning["remedy"]["does"]["replace"]}
        self.assertEqual(step["in"], {"passes": ["rim", "fill"], "alpha_from": "rim.A"})
        before, after = (
            planes_of(self.api.post(f"{self.path}/view", {"recipe": self.made(each), "address": "added"}))
            for each in (added, step)
        )
        # The light stays as it was; the edge is counted once.
        np.testing.assert_allclose(after["R"].astype(float), before["R"].astype(float), atol=1e-3)
        x = np.linspace(0, 1, 64, dtype=np.float32)
        np.testing.assert_allclose(after["A"][5].astype(float), np.clip(2 * x - 0.5, 0, 1), atol=1e-3)
        self.assertGreater(float(np.abs(before["A"].astype(float) - after["A"].astype(float)).max()), 0.2)

    def test_a_pile_of_three_and_alphas_that_steps_attached(self) -> None:
        lit = {"name": "lit", "op": "attach_alpha", "in": {"picture": "render.rim", "alpha": "rim.A"}}
        first = self.stack("first", "rim", "fill", mode="plus")
        (warning,) = self.found(lit, first, self.stack("all", "first", "lit", mode="plus"))
        self.assertEqual(warning["remedy"]["does"]["replace"]["in"]["passes"], ["rim", "fill", "render.rim"])

    def test_what_is_no_sum_of_passes_is_left_in_peace(self) -> None:
        for step in (
            self.stack("s", "hard", "rim"),
            self.stack("s", "hard", "hard", mode="plus"),
            self.stack("s", "rim", "fill", mode="multiply"),
            self.stack("s", "rim", "fill", mode="plus", opacity=0),
        ):
            with self.subTest(step["set"]):
                self.assertEqual(self.found(step), [])

    def test_sizes_that_differ_are_told_and_scaled(self) -> None:
        (warning,) = self.found(self.stack("s", "hard", "small"))
        self.assertEqual(warning["code"], "sizes_differ")
        self.assertIn("hard is 64 x 48, small is 32 x 24", warning["text"])
        (place,) = warning["remedy"]["does"]["steps"]
        scaled = self.stack("s", "hard", place["name"])
        self.assertEqual(self.found(place, scaled), [])
        items = self.api.post(f"{self.path}/inspect", {"recipe": self.made(place, scaled)}).json()
        x, y, width, height = next(row["window"] for row in items if row["name"] == place["name"])
        # It covers the larger picture, but for the soft border of the filter.
        self.assertTrue(-4 <= x <= 0 and -4 <= y <= 0 and 64 <= x + width <= 68 and 48 <= y + height <= 52)
        (warning,) = self.found(self.stack("s", "hard", "wide"))
        self.assertEqual(warning["remedy"]["does"]["steps"][0]["set"], {"scale": 0.5, "x": -32.0, "y": 0.0})

    def test_windows_that_differ_are_told_without_a_remedy(self) -> None:
        path = exr_bytes({"R": np.ones((8, 16), np.float16)}, data=(4, 2, 16, 8), display=(0, 0, 64, 48))
        self.upload("part.exr", path)
        self.names += ("part",)
        route = {"name": "s", "op": "route", "set": {"to": {"R": {"from": "part.R"}, "G": {"from": "rim.G"}}}}
        (note,) = self.found(route)
        self.assertEqual((note["code"], note["remedy"]), ("windows_differ", None))
        self.assertIn("part 16 x 8 at 4, 2; rim 64 x 48 at 0, 0", note["text"])

    def test_ids_are_shown_as_colours_and_probed_as_numbers(self) -> None:
        ids = np.repeat(np.array([0, 1, 2, 70_000_001], np.uint32), 16)[None] * np.ones((48, 1), np.uint32)
        self.upload("ids.exr", exr_bytes({"id.object": ids, "R": np.ones((48, 64), np.float16)}))
        recipe = {"nexal": 1, "sources": {"ids": {"files": "ids.exr"}}, "steps": []}
        answer = self.api.post(f"{self.path}/view", {"recipe": recipe, "address": "ids", "channels": ["id.object"]})
        got = planes_of(answer)
        self.assertEqual(list(got), ["R", "G", "B"])
        colours = [tuple(round(float(got[name][3, column]), 3) for name in "RGB") for column in (3, 20, 40, 60)]
        self.assertEqual(len(set(colours)), 4)
        for one in range(1, 4):
            for other in range(one):
                self.assertGreater(max(abs(a - b) for a, b in zip(colours[one], colours[other], strict=True)), 0.1)
        self.assertEqual(float(np.ptp(got["R"][:, 16:32].astype(float))), 0)
        rows = self.api.post(f"{self.path}/probe", {"recipe": recipe, "addresses": ["ids"], "x": 60, "y": 2}).json()
        self.assertEqual([c["value"] for c in rows[0]["channels"] if c["name"] == "id.object"], [70_000_001.0])
