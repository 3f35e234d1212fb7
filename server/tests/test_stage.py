"""Views, probe, histogram and inspection: exact numbers, drafts, caching, refusals."""

from __future__ import annotations

import json
import struct
import tempfile
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.test import Client, RequestFactory
from server_support import ServerTest, exr_bytes, planes_of, plate

from config.sessions import SessionStore
from nexal.engine import Plan
from nexal.errors import Cancelled, NexalError
from projects.models import Shot
from stage.answers import Samples
from stage.items import Item
from stage.services import engine
from stage.superseding import IN_GROUP, TurnCancellation, Turns, newest


class Stage(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.upload()
        self.save(self.story())
        self.path = f"/api/shots/{self.shot.pk}"

    def view(self, **ask: object) -> dict[str, np.ndarray]:
        answer = self.api.post(f"{self.path}/view", ask)
        self.assertEqual(answer.status_code, 200, answer.content)
        return planes_of(answer)

    def matte(self) -> np.ndarray:
        p = {name: plane.astype(float) for name, plane in plate().items()}
        return 1 - np.clip((p["G"] - p["R"] - 0.1) / 0.3, 0, 1)

    def test_a_view_holds_the_true_values(self) -> None:
        planes = self.view(address="cut")
        self.assertEqual(list(planes), ["R", "G", "B", "A"])
        np.testing.assert_allclose(planes["A"], self.matte(), atol=1e-3)
        np.testing.assert_array_equal(planes["R"], plate()["R"])

    def test_region_scale_and_channels(self) -> None:
        part = self.view(address="matte", region=[8, 4, 16, 10])
        np.testing.assert_allclose(part["Y"], self.matte()[4:14, 8:24], atol=1e-3)
        half = self.view(address="moth", scale=2, channels=["B"])
        mean = plate()["B"].astype(float).reshape(24, 2, 32, 2).mean((1, 3))
        np.testing.assert_allclose(half["B"], mean, atol=1e-3)

    def test_bytes_of_what_is_seen_at_an_exposure(self) -> None:
        answer = self.api.post(f"{self.path}/view", {"address": "matte", "exposure": 1})
        head = json.loads(answer["X-Nexal-View"])
        self.assertEqual((head["ends"], head["exposure"]), ([[0.0, 0.5]], 1.0))
        seen = np.frombuffer(answer.content, np.uint8).reshape(self.matte().shape)
        np.testing.assert_allclose(seen, 255 * np.clip(2 * self.matte(), 0, 1), atol=0.7)
        # What is brighter than white is seen through the alpha that a straight picture has beside it.
        draft = self.story()
        draft["steps"].append({"name": "apart", "op": "unpremultiply", "in": {"picture": "cut"}})
        whole = self.api.post(f"{self.path}/view", {"address": "apart", "recipe": draft, "exposure": 1})
        self.assertNotIn("ends", json.loads(whole["X-Nexal-View"]))
        self.assertEqual(len(planes_of(whole)), 4)
        refused = self.api.post(f"{self.path}/view", {"address": "matte", "exposure": 200})
        self.assertEqual(refused.status_code, 422)

    def test_a_draft_is_seen_without_being_saved(self) -> None:
        draft = self.story()
        draft["steps"][1]["set"] = {"black": 0.1, "white": 1.1}
        planes = self.view(address="core", recipe=draft)
        self.assertAlmostEqual(float(planes["Y"].max()), 0.4, 2)
        self.shot.refresh_from_db()
        self.assertEqual(self.shot.head.recipe, self.story())

    def test_upstream_of_the_dragged_setting_nothing_is_computed_again(self) -> None:
        draft = self.story()
        for white in (0.31, 0.32, 0.33):
            draft["steps"][1]["set"]["white"] = white
            self.view(address="cut", recipe=draft)
            counts = {"pull": engine().computed.get("pull"), "core": engine().computed.get("core")}
            if white == 0.31:
                before = counts
        self.assertEqual((counts["pull"], counts["core"]), (before["pull"], before["core"] + 2))

    def test_a_saved_revision_is_cached_by_its_tag(self) -> None:
        first = self.api.get(f"{self.path}/revisions/2/view/cut?scale=1")
        self.assertEqual(first["Cache-Control"], "private, no-cache")
        np.testing.assert_allclose(planes_of(first)["A"], self.matte(), atol=1e-3)
        again = self.api.get(f"{self.path}/revisions/2/view/cut?scale=1", headers={"If-None-Match": first["ETag"]})
        self.assertEqual((again.status_code, again.content), (304, b""))

    def test_small_pictures_of_revisions_are_made_once(self) -> None:
        address = f"{self.path}/revisions/2/view/cut?scale="
        first = self.api.get(f"{address}4")
        with mock.patch("stage.views.shown", side_effect=AssertionError("computed again")):
            again = self.api.get(f"{address}4")
            self.assertEqual((again.content, again["X-Nexal-View"]), (first.content, first["X-Nexal-View"]))
            # Large ones are not kept: the tag is asked for.
            with self.assertLogs("nexal", "ERROR"):
                self.assertEqual(self.api.get(f"{address}1").status_code, 500)
        for damage in (b"", b"\x80damaged", b"\x80\x04N.damaged"):
            for file in Path(settings.CACHES["pictures"]["LOCATION"]).glob("*.djcache"):
                file.write_bytes(damage)
            self.assertEqual(self.api.get(f"{address}4").content, first.content)
        with mock.patch("django.core.cache.backends.filebased.FileBasedCache.set", side_effect=OSError("no room")):
            self.assertEqual(self.api.get(f"{address}8").status_code, 200)

    def pictures(self, **ask: Any) -> list[dict[str, Any]]:
        """The rows of an answer of small pictures, with the bytes of each one's planes."""
        body = self.api.post(f"{self.path}/pictures", ask).content
        (told,) = struct.unpack_from("<I", body)
        rows: list[dict[str, Any]] = json.loads(body[4 : 4 + told])
        self.assertEqual((4 + told) % 2, 0)
        at = 4 + told
        for row in rows:
            row["planes"] = body[at : at + row.get("bytes", 0)]
            at += row.get("bytes", 0)
        self.assertEqual(at, len(body))
        return rows

    def test_small_pictures_come_together_each_as_by_itself(self) -> None:
        draft = self.story()
        draft["steps"][1]["set"] = {"black": 0.1, "white": 0.9}
        names = ["moth", "moth.R", "matte", "cut", "core"]
        for ask in ({}, {"recipe": draft}):
            rows = self.pictures(addresses=names, **ask)
            self.assertEqual([row["address"] for row in rows], names)
            for row in rows:
                alone = self.api.post(f"{self.path}/view", {"address": row["address"], "scale": 8, **ask})
                self.assertEqual((row["planes"], row["view"]), (alone.content, json.loads(alone["X-Nexal-View"])))

    def test_a_small_picture_that_fails_leaves_the_others(self) -> None:
        rows = self.pictures(addresses=["cut", "nobody", "moth.Z", "matte"], scale=4)
        self.assertEqual(["view" in row for row in rows], [True, False, False, True])
        self.assertIn("nobody", rows[1]["problem"]["message"])
        for odd in ({"addresses": []}, {"addresses": ["cut"] * 65}, {"addresses": ["cut"], "scale": 1}):
            self.assertEqual(self.api.post(f"{self.path}/pictures", odd).status_code, 422)

    def test_small_pictures_that_take_long_are_left_for_the_next_request(self) -> None:
        with mock.patch("stage.pictures.ENOUGH_SECONDS", 0.0):
            rows = self.pictures(addresses=["nobody", "cut", "matte"])
        self.assertIn("problem", rows[0])
        self.assertEqual([row.get("later") for row in rows], [None, True, True])
        with mock.patch("stage.pictures.ENOUGH_BYTES", 1):
            rows = self.pictures(addresses=["cut", "matte"])
        self.assertEqual([row.get("later") for row in rows], [None, True])

    def test_small_pictures_of_what_is_saved_are_kept_and_of_drafts_are_not(self) -> None:
        first = self.pictures(addresses=["cut"])
        draft = self.story()
        draft["steps"][1]["set"] = {"black": 0.1, "white": 0.9}
        self.pictures(addresses=["cut"], recipe=draft)
        with mock.patch("stage.views.shown", side_effect=NexalError("computed again")):
            self.assertEqual(self.pictures(addresses=["cut"]), first)
            self.assertEqual(self.pictures(addresses=["cut"], recipe=self.story()), first)
            self.assertIn("problem", self.pictures(addresses=["cut"], recipe=draft)[0])

    def test_answers_are_raw_on_loopback_and_zstd_elsewhere(self) -> None:
        import zstandard

        body = json.dumps({"address": "matte"})
        ask = {"content_type": "application/json", "headers": {"Accept-Encoding": "gzip, zstd"}}
        near = self.api.client.post(f"{self.path}/view", body, **ask)
        self.assertNotIn("Content-Encoding", near)
        far = self.api.client.post(f"{self.path}/view", body, REMOTE_ADDR="10.0.0.7", **ask)
        self.assertEqual(far["Content-Encoding"], "zstd")
        self.assertEqual(zstandard.decompress(far.content), near.content)

    def test_nobody_lays_an_answer_together_to_count_it(self) -> None:
        laid: list[str] = []
        plain: Any = HttpResponse.content

        def content(response: Samples) -> Any:
            laid.append(response["Content-Type"])
            return plain.fget(response)

        with mock.patch.object(Samples, "content", property(content, plain.fset), create=True):
            asked = [
                self.api.post(f"{self.path}/view", {"address": "matte"}),
                self.api.post(f"{self.path}/pictures", {"addresses": ["matte"]}),
            ]
        self.assertEqual(laid, [])
        for response in asked:
            self.assertEqual(response.status_code, 200)
            self.assertEqual(int(response["Content-Length"]), len(response.content))

    def test_probe_in_full_precision_and_averaged(self) -> None:
        ask = {"addresses": ["moth", "matte"], "x": 32, "y": 24}
        moth, matte = self.api.post(f"{self.path}/probe", ask).json()
        red = next(channel for channel in moth["channels"] if channel["name"] == "R")
        self.assertEqual(red["value"], float(np.float16(0.8)))
        self.assertAlmostEqual(red["encoded"], 1.055 * float(np.float16(0.8)) ** (1 / 2.4) - 0.055, 6)
        self.assertEqual(matte["channels"][0]["value"], 1)
        edge = {"addresses": ["moth"], "x": 32, "y": 8, "size": 9}
        row = self.api.post(f"{self.path}/probe", edge).json()[0]
        wanted = plate()["R"].astype(float)[4:13, 28:37].mean()
        self.assertAlmostEqual(row["channels"][0]["value"], wanted, 6)
        outside = self.api.post(f"{self.path}/probe", ask | {"x": 500}).json()[0]
        self.assertFalse(outside["inside"])

    def test_histogram_counts_every_pixel(self) -> None:
        row = self.api.post(f"{self.path}/histogram", {"address": "pull", "bins": 10}).json()
        pull = plate()["G"].astype(float) - plate()["R"]
        self.assertEqual((row["below"], row["total"]), (int((pull < 0).sum()), 64 * 48))
        self.assertEqual(sum(row["counts"]) + row["below"] + row["above"], row["total"])
        self.assertAlmostEqual(row["max"], pull.max(), 3)
        wide = self.api.post(f"{self.path}/histogram", {"address": "pull", "bins": 10, "low": -1, "high": 1}).json()
        self.assertEqual((wide["low"], wide["high"], wide["below"], sum(wide["counts"])), (-1, 1, 0, row["total"]))
        self.assertEqual(wide["max"], row["max"])
        self.assertEqual(self.api.post(f"{self.path}/histogram", {"address": "pull", "low": 2}).status_code, 422)

    def test_inspection_describes_every_item(self) -> None:
        rows = {row["name"]: row for row in self.api.post(f"{self.path}/inspect", {}).json()}
        self.assertEqual((rows["moth"]["channels"], rows["moth"]["alpha"]), (["R", "G", "B"], "none"))
        self.assertEqual((rows["matte"]["plane"], rows["matte"]["inputs"]), (True, ["core"]))
        self.assertEqual((rows["cut"]["alpha"], rows["cut"]["display"]), ("straight", [0, 0, 64, 48]))
        digest = rows["matte"]["digest"]
        draft = self.story()
        draft["steps"][3]["set"] = {"state": "premultiply"}
        after = {row["name"]: row for row in self.api.post(f"{self.path}/inspect", {"recipe": draft}).json()}
        self.assertEqual(after["matte"]["digest"], digest)
        self.assertNotEqual(after["cut"]["digest"], rows["cut"]["digest"])

    def test_a_page_that_is_come_back_to_is_told_what_is_so_then(self) -> None:
        for path in (self.path, f"{self.path}/sources", "/api/session", "/api/projects", "/api/operations"):
            self.assertEqual(self.api.client.get(path).headers.get("Cache-Control"), "private, no-store", path)

    def test_what_was_told_of_a_recipe_is_told_again_for_as_long_as_it_is_so(self) -> None:
        def told(path: str = self.path, **ask: object) -> list[dict[str, Any]]:
            rows: list[dict[str, Any]] = self.api.post(f"{path}/inspect", ask).json()
            # All that the interface promises, and nothing else.
            self.assertEqual([Item(**row).dict() for row in rows], rows)
            return rows

        draft = self.story()
        draft["sources"]["late"] = {"files": "late.exr"}
        draft["steps"].append({"name": "seen", "op": "invert", "in": {"from": "late.R"}})
        before = told(recipe=draft)
        with mock.patch.object(Plan, "inspect", side_effect=AssertionError):
            self.assertEqual(told(recipe=draft), before)
        self.assertIn("is not there", {row["name"]: row for row in before}["seen"]["problem"]["message"])
        self.upload("late.exr", exr_bytes({"R": np.zeros((3, 5), np.float32)}))
        after = {row["name"]: row for row in told(recipe=draft)}
        self.assertEqual((after["seen"]["problem"], after["seen"]["window"]), (None, [0, 0, 5, 3]))
        # Another shot's file of that name is another file.
        other = Shot.objects.create(project=self.project, name="other")
        rows = {row["name"]: row for row in told(f"/api/shots/{other.pk}", recipe=draft)}
        self.assertIn("is not there", rows["late"]["problem"]["message"])
        # Steps may differ from frame to frame.
        draft["steps"][-1] = {
            "name": "seen",
            "op": "blur",
            "in": {"from": "late.R"},
            "set": {"radius": {"keys": [[1, 1], [3, 5]]}},
        }
        first, second = (told(recipe=draft, frame=frame)[-1]["digest"] for frame in (1, 2))
        self.assertNotEqual(first, second)

    def test_what_cannot_be_shown_is_said(self) -> None:
        for ask, word in (
            ({"address": "nothing"}, "nothing"),
            ({"address": "moth.Q"}, "Q"),
            ({"address": "moth", "scale": 3}, "scale"),
            ({"address": "moth", "region": [0, 0, 100_000, 100_000]}, "region"),
            ({"address": "moth", "region": [0, 0, 0, 4]}, "region"),
            ({"address": "moth", "channels": ["Q"]}, "Q"),
        ):
            with self.subTest(ask):
                answer = self.api.post(f"{self.path}/view", ask)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(word, answer.json()["message"] + answer.json()["where"])

    def test_not_finite_values_reach_the_browser(self) -> None:
        self.upload("nan.exr", exr_bytes({"R": np.array([[np.nan, np.inf, 0.25, 1e9]], np.float32)}))
        recipe = {"nexal": 1, "sources": {"nan": {"files": "nan.exr"}}}
        values = self.view(address="nan", recipe=recipe)["R"][0]
        self.assertTrue(np.isnan(values[0]) and np.isinf(values[1]) and np.isinf(values[3]))
        row = self.api.post(f"{self.path}/probe", {"recipe": recipe, "addresses": ["nan"], "x": 0, "y": 0}).json()[0]
        self.assertEqual((row["channels"][0]["value"], row["channels"][0]["non_finite"]), (None, 1))


class Supersede(ServerTest):
    def request(self, page: str = "") -> HttpRequest:
        request = RequestFactory().get("/", headers={"X-Nexal-Page": page})
        request.session = SessionStore(session_key="s")
        return request

    def test_the_newer_request_of_a_view_cancels_the_older(self) -> None:
        first = newest(self.request(), 1, "main")
        others = [newest(self.request(), 1, "other"), newest(self.request("second"), 1, "main")]
        second = newest(self.request(), 1, "main")
        with self.assertRaises(Cancelled):
            first.check()
        for each in (second, *others):
            each.check()

    def test_no_two_views_share_a_place(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            turns = Turns(Path(folder) / "turns")
            # All in one group.
            with mock.patch("stage.superseding.GROUPS", 1):
                first = [TurnCancellation(turns, f"view {number}") for number in range(IN_GROUP)]
                for each in first:
                    each.check()
                again = TurnCancellation(turns, "view 3")
                self.assertRaises(Cancelled, first[3].check)
                # The one that asked longest ago makes room, and none of the others is cancelled for it.
                more = [TurnCancellation(turns, f"another {number}") for number in range(IN_GROUP // 2)]
                for each in (*first[:3], *first[4:], again, *more):
                    each.check()
                # Another process sees the same.
                elsewhere = TurnCancellation(Turns(Path(folder) / "turns"), "another 1")
                self.assertRaises(Cancelled, more[1].check)
                elsewhere.check()

    def test_the_page_is_served_for_every_address_of_the_application(self) -> None:
        for path in ("/", "/shots/1", "/projects/3", "/sign-in"):
            answer = Client().get(path)
            self.assertEqual(answer.status_code, 200)
            self.assertIn(b'<div id="root">', answer.content)
        self.assertEqual(Client().get("/api/nothing").status_code, 404)
