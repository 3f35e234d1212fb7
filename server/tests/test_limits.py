"""No request stops the others: what computing takes is bounded, takes its turn, and ends with its client."""

from __future__ import annotations

import threading
import time
from typing import Any
from unittest import mock

import numpy as np
from django.test import RequestFactory, SimpleTestCase, override_settings
from patience import PATIENCE, wait_until
from server_support import ServerTest, exr_bytes, plate

from config.errors import Refused
from nexal.errors import Cancelled, TooMuch
from nexal.work import Cost, Work
from stage.superseding import newest
from stage.work import LOOK_SECONDS, WAITING_EACH, Hall, RequestWork

HUGE = {"name": "huge", "op": "constant", "set": {"width": 32768, "height": 32768, "colour": [0.2, 0.3, 0.4, 1]}}
PLANE = {"name": "plane", "op": "constant", "set": {"width": 32768, "height": 32768, "colour": [0.5]}}
MARKS = [
    {"side": side, "x": 16000 + n, "y": 16000, "radius": 500} for n in range(250) for side in ("subject", "background")
]


def recipe(*steps: dict[str, Any]) -> dict[str, Any]:
    return {"nexal": 1, "steps": [HUGE, PLANE, *steps]}


class TooLarge(ServerTest):
    def refused(self, route: str, body: dict[str, Any], code: str = "too_much") -> None:
        with self.subTest(route, **{key: str(value)[:40] for key, value in body.items() if key != "recipe"}):
            answer = self.api.post(f"/api/shots/{self.shot.pk}/{route}", body)
            self.assertEqual(answer.status_code, 413, answer.content[:300])
            problem = answer.json()
            self.assertEqual(problem["code"], code)
            self.assertRegex(problem["message"], r"\d GB of memory and [\d.]+ s of work; .* are allowed")
            self.assertTrue(problem["remedy"])

    def test_what_needs_more_than_a_request_may_take_is_refused_with_figures(self) -> None:
        line = {"start": [0, 0], "end": [32000, 32000]}
        self.refused("profile", {"recipe": recipe(), "addresses": ["huge"], **line})
        for step in (
            {"name": "s", "op": "despeckle", "in": {"matte": "plane"}},
            {"name": "s", "op": "bleed", "in": {"picture": "huge"}},
        ):
            self.refused("probe", {"recipe": recipe(step), "addresses": ["s"], "x": 3, "y": 3})
        grown = {"name": "grown", "op": "grow", "in": {"matte": "plane"}, "set": {"distance": -4}}
        self.refused(
            "thin", {"recipe": recipe({**grown, "op": "stretch", "in": {"from": "plane"}, "set": {}}), "item": "grown"}
        )
        one = {"name": "one", "op": "resize", "in": {"from": "huge"}, "set": {"width": 1, "height": 1}}
        self.refused("view", {"recipe": recipe(one), "address": "one"})

    def test_many_large_marks_are_no_burden(self) -> None:
        self.upload("moth.exr", exr_bytes(plate(640, 480)))
        source = {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}}
        marks = [{**mark, "x": 100 + 400 * (mark["side"] == "subject"), "y": 200} for mark in MARKS]
        answer = self.api.post(
            f"/api/shots/{self.shot.pk}/scout", {"recipe": source, "address": "moth", "marks": marks}
        )
        self.assertIn(answer.status_code, (200, 422))

    @override_settings(NEXAL_JOB_BYTES=1 << 20)
    def test_a_render_beyond_its_bounds_fails_and_says_so(self) -> None:
        self.upload()
        self.save(self.story())
        path = f"/api/shots/{self.shot.pk}/deliverables"
        spec = {"name": "cut", "spec": {"from": "cut", "file": "cut.exr"}}
        with override_settings(NEXAL_JOB_BYTES=1 << 10):
            made = self.api.post(path, spec).json()
            render = self.api.post(f"{path}/{made['id']}/renders").json()
        self.assertEqual((render["state"], render["frames"][0]["error"]["code"]), ("failed", "too_much"))

    def test_work_adds_up_over_a_request(self) -> None:
        request = RequestFactory().get("/")
        request.user = self.owner
        work = RequestWork(request)
        work.claim(Cost(1, 0.001))
        with override_settings(NEXAL_REQUEST_SECONDS=10), self.assertRaises(TooMuch):
            for _ in range(12):
                work.claim(Cost(1, 0.99))
        work.end()


class Turns(SimpleTestCase):
    def setUp(self) -> None:
        self.hall = Hall(2)
        self.order: list[str] = []
        self.threads: list[threading.Thread] = []

    def come(self, who: str, seconds: float, name: str, work: Work | None = None, size: float = 0) -> None:
        """Somebody waits, comes in, and goes when told."""

        def wait() -> None:
            place = self.hall.enter(who, Cost(size, seconds), work or Work())
            self.order.append(name)
            self.hall.leave(place)

        before = self.hall._arrivals
        self.threads.append(threading.Thread(target=wait, daemon=True))
        self.threads[-1].start()
        wait_until(lambda: self.hall._arrivals > before)

    def joined(self) -> list[str]:
        for thread in self.threads:
            thread.join(PATIENCE)
        return self.order

    def test_who_has_least_computing_then_what_takes_least_then_who_came_first(self) -> None:
        first, second = (self.hall.enter(who, Cost(0, 0.5), Work()) for who in ("ada", "ada"))
        self.hall.slots = 1
        self.come("ada", 0.1, "ada quick")
        self.come("bo", 0.6, "bo slow")
        self.come("bo", 0.2, "bo quick")
        self.come("bo", 0.2, "bo quick, later")
        self.hall.leave(second)
        self.assertEqual(self.order, [])
        self.hall.slots = 2
        self.hall.leave(self.hall.enter("cy", Cost(0, 0.01), Work()))
        self.assertEqual(self.joined(), ["bo quick", "bo quick, later", "bo slow", "ada quick"])
        self.hall.leave(first)

    def test_heavy_work_leaves_a_place_for_what_is_quick(self) -> None:
        heavy = self.hall.enter("ada", Cost(0, 5), Work())
        self.come("bo", 5, "heavy")
        self.come("bo", 0.1, "quick")
        wait_until(lambda: "quick" in self.order)
        self.assertEqual(self.order, ["quick"])
        self.hall.leave(heavy)
        self.assertEqual(self.joined(), ["quick", "heavy"])

    def test_what_all_take_together_is_bounded(self) -> None:
        self.hall.slots, self.hall.most_bytes = 3, 100
        large = self.hall.enter("ada", Cost(70, 0.1), Work())
        self.come("bo", 0.1, "large", size=60)
        self.come("bo", 0.5, "small", size=30)
        self.threads[1].join(PATIENCE)
        self.assertEqual(self.order, ["small"])
        self.hall.leave(large)
        self.assertEqual(self.joined(), ["small", "large"])
        # What is larger than all may take together is let in alone.
        self.hall.leave(self.hall.enter("ada", Cost(500, 0.1), Work()))

    def test_who_gives_up_waits_no_more_and_too_many_are_refused(self) -> None:
        places = [self.hall.enter("ada", Cost(0, 0.1), Work()) for _ in range(2)]

        class GivenUp(Work):
            def check(self) -> None:
                raise Cancelled("was given up")

        with self.assertRaises(Cancelled):
            self.hall.enter("bo", Cost(0, 0.1), GivenUp())
        self.assertEqual(self.hall._waiting, [])
        for number in range(WAITING_EACH):
            self.come("bo", 0.1, f"bo {number}")
        with self.assertRaises(Refused) as refused:
            self.hall.enter("bo", Cost(0, 0.1), Work())
        self.assertEqual(refused.exception.status, 429)
        self.come("cy", 0.1, "cy")
        for place in places:
            self.hall.leave(place)
        self.assertEqual(len(self.joined()), WAITING_EACH + 1)
        self.assertEqual(self.hall._inside, [])


class HungUp(ServerTest):
    def test_a_view_whose_client_is_gone_stops_between_strips(self) -> None:
        gone: list[bool] = []
        steps = [{"name": "n", "op": "noise", "set": {"width": 4000, "height": 4000, "octaves": 1}}]

        def compute(inputs: Any, channels: Any, settings: Any, scene: Any) -> dict[str, np.ndarray]:
            gone.append(True)
            time.sleep(2 * LOOK_SECONDS)
            return {"Y": np.zeros((scene.region.height, scene.region.width), np.float32)}

        with mock.patch("nexal.operations.making.Noise.compute", side_effect=compute) as computed:
            answer = self.api.client.post(
                f"/api/shots/{self.shot.pk}/view",
                {"recipe": {"nexal": 1, "steps": steps}, "address": "n"},
                content_type="application/json",
                **{"waitress.client_disconnected": lambda: len(gone) > 1},
            )
        self.assertEqual((answer.status_code, answer.json()["code"], computed.call_count), (202, "cancelled", 2))


class Superseded(ServerTest):
    def test_a_view_that_waits_for_its_turn_is_given_up_for_a_newer_one(self) -> None:
        full = Hall(1)
        place = full.enter("somebody", Cost(0, 0.1), Work())
        steps = [{"name": "n", "op": "noise", "set": {"width": 2000, "height": 2000}}]
        body = {"recipe": {"nexal": 1, "steps": steps}, "address": "n", "view": "v"}
        request = RequestFactory().get("/")
        request.session = self.api.client.session

        def ask_anew() -> None:
            wait_until(lambda: full._waiting)
            newest(request, self.shot.pk, "v")

        with mock.patch("stage.work.hall", return_value=full):
            threading.Thread(target=ask_anew).start()
            answer = self.api.post(f"/api/shots/{self.shot.pk}/view", body)
        self.assertEqual((answer.status_code, answer.json()["code"]), (202, "cancelled"))
        full.leave(place)
        self.assertEqual((full._waiting, full._inside), ([], []))


class Viewers(ServerTest):
    def test_a_viewer_has_only_the_saved_recipe_computed(self) -> None:
        self.upload()
        steps = [
            *self.story()["steps"],
            {"name": "hair", "op": "fine_edge", "in": {"picture": "moth", "matte": "matte"}},
        ]
        self.save({**self.story(), "steps": steps})
        narrow = [*steps[:-1], {**steps[-1], "set": {"band": 5}}]
        path = f"/api/shots/{self.shot.pk}/slow"
        with mock.patch("stage.mattes.slow_steps.start") as start:
            self.as_user(self.viewer).post(path, {"recipe": {**self.story(), "steps": narrow}, "address": "hair"})
            self.api.post(path, {"recipe": {**self.story(), "steps": narrow}, "address": "hair"})
        asked = [call.args[2].step("hair").settings for call in start.call_args_list]
        self.assertEqual(asked, [{}, {"band": 5}])
