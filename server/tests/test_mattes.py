"""Marks, scout, thin parts, checks and slow work over HTTP."""

from __future__ import annotations

import json
import threading
import time
from unittest import mock

import numpy as np
from django.test import override_settings
from server_support import ServerTest, exr_bytes, planes_of, plate

from nexal.engine import Cancellation
from nexal.recipe import parse_recipe
from stage import slow
from stage.models import SlowResult
from stage.services import engine

MARKS = [
    {"side": "subject", "x": 32.0, "y": 24.0, "on": "moth", "radius": 6.0},
    {"side": "background", "x": 8.0, "y": 8.0, "on": "moth", "radius": 5.0},
]


class MattesTest(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        self.upload()
        self.save(self.story())
        self.path = f"/api/shots/{self.shot.pk}"
        engine().cache.clear()


class Whole(MattesTest):
    def test_the_scout_gives_the_whole_matte_of_its_marks(self) -> None:
        answer = self.api.send("POST", f"{self.path}/scout", {"address": "moth", "marks": MARKS})
        steps = answer.json()["whole"]
        self.assertEqual([step["op"] for step in steps], ["mark_solve", "recover_colour"])
        self.assertEqual([stroke["value"] for stroke in steps[0]["set"]["strokes"]], [1.0, 0.0])
        self.save(self.story() | {"steps": [{**steps[0], "name": "whole"}]})
        asked = {"item": "whole", "page": "one"}
        with override_settings(NEXAL_JOBS="inline"):
            found = self.api.send("POST", f"{self.path}/doubts", asked)
        self.assertEqual(found.status_code, 200)
        self.assertLessEqual(0, found.json()["share"])
        for place in found.json()["places"]:
            self.assertGreater(place["doubt"], 0.1)
            self.assertGreater(min(place["width"], place["height"]), 0)

    def test_of_what_knows_no_doubt_nothing_is_told_and_nothing_is_begun(self) -> None:
        for item in ("moth", "core"):
            answer = self.api.send("POST", f"{self.path}/doubts", {"item": item})
            self.assertEqual((answer.status_code, answer.json()), (200, None), item)
        self.assertFalse(SlowResult.objects.exists())


class Marks(MattesTest):
    def test_marks_stay_with_the_shot_and_make_no_revision(self) -> None:
        self.assertEqual(self.api.get(self.path).json()["marks"], [])
        answer = self.api.send("PUT", f"{self.path}/marks", {"marks": MARKS})
        self.assertEqual((answer.status_code, answer.json()["marks"]), (200, MARKS))
        whole = self.api.get(self.path).json()
        self.assertEqual((whole["marks"], whole["head"]["number"]), (MARKS, 2))
        self.api.send("PUT", f"{self.path}/marks", {"marks": []})
        self.assertEqual(self.api.get(self.path).json()["marks"], [])

    def test_marks_that_a_page_sent_before_but_that_come_later_change_nothing(self) -> None:
        def keep(marks: list[dict], page: str, turn: int) -> None:
            answer = self.api.send("PUT", f"{self.path}/marks", {"marks": marks, "page": page, "turn": turn})
            self.assertEqual(answer.status_code, 200)

        keep(MARKS, "one", 2)
        keep(MARKS[:1], "one", 1)
        self.assertEqual(self.api.get(self.path).json()["marks"], MARKS)
        keep(MARKS[:1], "another", 1)
        self.assertEqual(self.api.get(self.path).json()["marks"], MARKS[:1])

    def test_marks_that_make_no_sense_are_refused_and_nothing_is_lost(self) -> None:
        self.api.send("PUT", f"{self.path}/marks", {"marks": MARKS})
        for mark in (
            MARKS[0] | {"side": "sky"},
            MARKS[0] | {"radius": 0},
            MARKS[0] | {"x": 1e12},
            {"side": "subject"},
        ):
            with self.subTest(mark):
                answer = self.api.send("PUT", f"{self.path}/marks", {"marks": [mark]})
                self.assertEqual(answer.status_code, 422)
        many = self.api.send("PUT", f"{self.path}/marks", {"marks": MARKS * 300})
        self.assertEqual(many.status_code, 422)
        self.assertEqual(self.api.get(self.path).json()["marks"], MARKS)


class Scout(MattesTest):
    def test_rows_with_steps_that_make_the_matte(self) -> None:
        answer = self.api.post(f"{self.path}/scout", {"address": "moth", "marks": MARKS, "rows": 5})
        self.assertEqual(answer.status_code, 200, answer.content)
        scouted = answer.json()
        self.assertGreaterEqual(scouted["tried"], 500)
        self.assertEqual(len(scouted["rows"]), 5)
        row = scouted["rows"][0]
        self.assertEqual(row["separation"], 1)
        recipe = self.story()
        recipe["steps"] = row["steps"]
        view = self.api.post(f"{self.path}/view", {"recipe": recipe, "address": "matte"})
        planes = planes_of(view)
        disc = plate()["R"] > 0.5
        np.testing.assert_allclose(planes["Y"], disc, atol=0.02)

    def test_without_marks_it_says_what_is_missing(self) -> None:
        answer = self.api.post(f"{self.path}/scout", {"address": "moth", "marks": MARKS[:1]})
        self.assertEqual((answer.status_code, answer.json()["where"]), (422, "background"))
        self.assertIn("8 are wanted", answer.json()["message"])

    def test_skylines_of_the_marks(self) -> None:
        ask = {"address": "pull", "domain": "scene", "bins": 100, "marks": MARKS}
        row = self.api.post(f"{self.path}/histogram", ask).json()
        pull = float(np.float16(0.6)) - float(np.float16(0.1))
        self.assertEqual(int(np.argmax(row["background"])), int(pull * 100))
        # The disc's pull lies below 0: none of its pixels is in the skyline.
        self.assertEqual(sum(row["subject"]), 0)
        self.assertGreater(sum(row["background"]), 60)
        self.assertIsNone(self.api.post(f"{self.path}/histogram", {"address": "pull"}).json()["subject"])


class Judging(MattesTest):
    def test_thin_parts(self) -> None:
        plane = np.zeros((48, 64), np.float32)
        plane[20:40, 5:30] = 1
        plane[10, 34:60] = 0.4
        self.upload("lines.exr", exr_bytes({"M": plane}))
        step = {"name": "s", "op": "stretch", "in": {"from": "lines.M"}, "set": {"black": 0.3, "white": 1}}
        recipe = {"nexal": 1, "sources": {"lines": {"files": "lines.exr"}}, "steps": [step]}
        answer = self.api.post(f"{self.path}/thin", {"recipe": recipe, "item": "s"}).json()
        self.assertEqual(answer, {"thin": 1, "lost": 1, "boxes": [[34, 10, 26, 1]]})
        fault = self.api.post(f"{self.path}/thin", {"item": "cut"})
        self.assertEqual((fault.status_code, fault.json()["where"]), (422, "step 'cut'"))

    def test_a_warning_with_its_remedy(self) -> None:
        (advice,) = self.api.post(f"{self.path}/checks", {"item": "core", "marks": MARKS}).json()
        self.assertEqual(advice["code"], "turned")
        self.assertEqual(advice["remedy"]["does"]["steps"][0]["op"], "invert")
        self.assertEqual(self.api.post(f"{self.path}/checks", {"item": "matte", "marks": MARKS}).json(), [])


class Slow(MattesTest):
    def recipe(self, band: int = 4) -> dict[str, object]:
        recipe = self.story()
        recipe["steps"].append(
            {"name": "fine", "op": "fine_edge", "in": {"picture": "moth", "matte": "matte"}, "set": {"band": band}}
        )
        return recipe

    def test_views_do_not_wait_and_the_work_is_done_in_the_background(self) -> None:
        recipe = self.recipe()
        answer = self.api.post(f"{self.path}/view", {"recipe": recipe, "address": "fine"})
        self.assertEqual((answer.status_code, answer.json()["code"]), (202, "pending"))
        self.assertEqual(answer.json()["where"], "step 'fine'")
        probe = self.api.post(f"{self.path}/probe", {"recipe": recipe, "addresses": ["fine"], "x": 3, "y": 3})
        self.assertEqual(probe.json()["code"], "pending")
        rough = self.api.post(f"{self.path}/view", {"recipe": recipe, "address": "fine", "rough": True})
        told = json.loads(rough["X-Nexal-View"])
        self.assertEqual((told["pending"]["code"], told["pending"]["where"]), ("pending", "step 'fine'"))
        np.testing.assert_allclose(planes_of(rough)["Y"], plate()["R"] > 0.5, atol=0.05)
        rows = self.api.post(f"{self.path}/slow", {"recipe": recipe, "address": "fine"}).json()["rows"]
        self.assertEqual([(row["item"], row["state"], row["done"]) for row in rows], [("fine", "done", 1)])
        view = self.api.post(f"{self.path}/view", {"recipe": recipe, "address": "fine"})
        np.testing.assert_allclose(planes_of(view)["Y"], plate()["R"] > 0.5, atol=0.02)
        self.assertIsNone(json.loads(view["X-Nexal-View"])["pending"])
        # Nothing is left to do for what is there, or for what needs nothing slow.
        left = self.api.post(f"{self.path}/slow", {"address": "matte"}).json()
        self.assertEqual((left["digest"], len(left["rows"])), ("", 1))

    def test_what_cannot_be_computed_is_told(self) -> None:
        rows = self.api.post(f"{self.path}/slow", {"recipe": self.recipe(band=60), "address": "fine"}).json()["rows"]
        self.assertEqual((rows[0]["state"], rows[0]["problem"]["code"]), ("failed", "setting"))
        self.assertIn("surely", rows[0]["problem"]["message"])

    def start(self, who: str, digest: str) -> SlowResult:
        recipe = parse_recipe(self.recipe())
        with mock.patch("stage.slow.jobs.submit"):
            return slow.start(self.shot, who, recipe, 1, "fine", digest)

    def state(self, result: SlowResult) -> str:
        result.refresh_from_db()
        return result.state

    def test_two_people_with_different_drafts_do_not_take_each_other_s_work(self) -> None:
        first = self.start("mira", "a")
        self.assertEqual(self.start("mira", "a"), first)
        second = self.start("mira", "b")
        self.assertEqual((self.state(first), self.state(second)), ("stopped", "waiting"))
        for _ in range(3):
            theirs = self.start("orla", "c")
            self.assertEqual(self.start("mira", "b"), second)
        self.assertEqual((self.state(second), self.state(theirs)), ("waiting", "waiting"))
        # What both want goes on until both want it no more.
        self.assertEqual(self.start("mira", "c"), theirs)
        self.assertEqual(self.state(second), "stopped")
        slow.stop(self.shot, "fine", "mira")
        self.assertEqual(self.state(theirs), "waiting")
        slow.stop(self.shot, "fine", "orla")
        self.assertEqual(self.state(theirs), "stopped")
        self.assertEqual(self.state(self.start("mira", "c")), "waiting")

    def test_what_is_stopped_while_it_is_computed_gives_up(self) -> None:
        result = self.start("mira", "a")

        def held(result: SlowResult, cancellation: Cancellation) -> None:
            slow.stop(self.shot, "fine", "mira")
            for _ in range(2000):
                cancellation.check()
                time.sleep(0.005)

        with (
            override_settings(NEXAL_JOBS="thread"),
            mock.patch("stage.slow._compute", side_effect=held),
            mock.patch("stage.slow._watch", watching),
        ):
            slow.work(result.pk)
        self.assertEqual(self.state(result), "stopped")
        slow.work(result.pk)
        self.assertEqual(self.state(result), "stopped")

    def test_a_fault_in_the_background_is_told_and_logged(self) -> None:
        result = self.start("mira", "a")
        with (
            mock.patch("stage.slow._compute", side_effect=ZeroDivisionError),
            self.assertLogs("nexal.slow", "ERROR") as logged,
        ):
            slow.work(result.pk)
        self.assertIn("ZeroDivisionError", logged.output[0])
        self.assertEqual((self.state(result), result.problem["message"]), ("failed", "failed on the server"))


def watching(pk: int, cancellation: Cancellation, over: threading.Event) -> None:
    """A watch that sees the database of a test, whose transaction no other thread does."""
    cancellation.cancel()


class ManyStrokes(MattesTest):
    def test_a_recipe_of_a_thousand_strokes_is_saved_and_shown(self) -> None:
        strokes = [{"points": [[i % 64, i % 48], [(i * 7) % 64, 10]], "radius": 3} for i in range(1000)]
        recipe = self.story()
        recipe["steps"].append({"name": "t", "op": "touch_up", "in": {"matte": "matte"}, "set": {"strokes": strokes}})
        self.assertEqual(self.save(recipe).status_code, 200)
        view = self.api.post(f"{self.path}/view", {"address": "t"})
        self.assertEqual(view.status_code, 200)
        self.assertGreater(float(planes_of(view)["Y"].astype(float).mean()), 0.5)
        history = self.api.get(f"{self.path}/revisions").json()
        self.assertLess(len(history[-1]["sentence"]), 80)
