"""What the browser asks the server: nothing twice for the same thing."""

from __future__ import annotations

import json
import threading
import time
from collections import Counter
from typing import Any
from unittest import mock

import numpy as np
from browser_support import BrowserTest, code
from django.http import HttpRequest, HttpResponse
from patience import PATIENCE
from playwright.sync_api import APIResponse, Page, Request, Route
from server_support import PASSWORD, exr_bytes

from config.middleware import ContentSecurityPolicy
from nexal.recipe import parse_recipe
from projects.models import Shot
from recipes.services import save
from stage.answers import Answer
from stage.views import answer_for

AGAIN = ("/news", "/slow", "/api/session")
"""What is asked again on purpose, since the answer changes by itself."""


class Asked(BrowserTest):
    def watch(self, page: Page) -> list[str]:
        """Everything that the page asks from now on, with its body."""
        asked: list[str] = []

        def note(request: Request) -> None:
            path = request.url.removeprefix(self.live_server_url)
            if path.startswith("/api/") and not path.partition("?")[0].endswith(AGAIN):
                asked.append(f"{request.method} {path} {request.post_data or ''}")

        page.on("request", note)
        return asked

    def settle(self, page: Page, asked: list[str]) -> None:
        """Wait until nothing was asked for a while, by the page's own clock, and nothing is on its way."""
        under_way: list[Request] = []

        def over(request: Request) -> None:
            if request in under_way:
                under_way.remove(request)

        page.on("request", lambda request: under_way.append(request))
        page.on("requestfinished", over)
        page.on("requestfailed", over)
        seen = -1
        while seen != len(asked) or under_way:
            seen = len(asked)
            page.evaluate("new Promise((done) => setTimeout(done, 900))")

    def assert_once(self, asked: list[str]) -> None:
        twice = {request[:400]: count for request, count in Counter(asked).items() if count > 1}
        self.assertEqual(twice, {})

    # However busy the machine is, all that are asked for together are answered together.
    @mock.patch("stage.pictures.ENOUGH_SECONDS", 60.0)
    def test_a_shot_is_opened(self) -> None:
        page = self.page
        asked = self.watch(page)
        self.open_shot(page, "?item=cut")
        page.get_by_role("button", name="Channel moth.R").wait_for()
        self.settle(page, asked)
        self.assert_once(asked)
        # One question describes all items, and few bring the small pictures of all: what comes into sight together is
        # asked for together.
        inspected = [request for request in asked if "/inspect " in request]
        self.assertEqual(len(inspected), 1)
        pictures = [request for request in asked if "/pictures " in request]
        self.assertLessEqual(len(pictures), 4, pictures)
        addresses = [address for request in pictures for address in self.told(request)["addresses"]]
        self.assertLessEqual({"moth", "house", "pull", "core", "matte", "cut", "comp", "cut.R"}, {*addresses})
        self.assertEqual(len(addresses), len({*addresses}))
        self.assertLess(len(asked), 40, asked)

    def test_a_shot_is_asked_for_before_it_is_known_who_looks(self) -> None:
        page = self.page
        asked = self.watch(page)
        held: list[Route] = []
        page.route("**/api/session", lambda route: held.append(route))
        page.goto(f"{self.live_server_url}/shots/{self.shot.pk}?item=cut")
        self.wait_for_page(page, lambda: sum("/inspect " in request for request in asked) == 1, str(asked))
        self.assertIn(f"GET /api/shots/{self.shot.pk}/sources ", asked)
        self.assertEqual(page.get_by_label("Lineage").count(), 0)
        self.assertEqual(len(held), 1)
        held[0].continue_()
        page.unroute("**/api/session")
        page.get_by_label("Lineage").wait_for()
        self.settle(page, asked)
        self.assert_once(asked)

    def test_a_shot_whose_first_answer_is_lost_is_asked_for_again(self) -> None:
        page = self.page
        lost: list[str] = []

        def lose(route: Route) -> None:
            if lost:
                route.continue_()
            else:
                lost.append(route.request.url)
                route.abort()

        page.route(f"**/api/shots/{self.shot.pk}", lose)
        self.open_shot(page, "?item=cut")
        self.assertEqual(len(lost), 1)
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        # Left by a link, and on coming back: it is asked for as it is then.
        page.unroute(f"**/api/shots/{self.shot.pk}")
        page.get_by_role("link", name=self.project.name).click()
        page.get_by_role("link", name=self.shot.name).first.wait_for()
        asked = self.watch(page)
        page.go_back()
        page.get_by_label("Lineage").wait_for()
        self.assertIn(f"GET /api/shots/{self.shot.pk} ", asked)
        self.assertIn(f"GET /api/shots/{self.shot.pk}/sources ", asked)

    def test_a_shot_that_begins_later_is_asked_for_at_its_own_frame_only(self) -> None:
        Shot.objects.filter(pk=self.shot.pk).update(first_frame=1001, last_frame=1010)
        asked = self.watch(self.page)
        self.open_shot(self.page, "?item=cut")
        self.settle(self.page, asked)
        frames = [self.told(request)["frame"] for request in asked if "/inspect " in request]
        self.assertEqual(frames, [1001])
        self.open_shot(self.page, "?item=cut&frame=1004")
        self.settle(self.page, asked)
        frames = [self.told(request)["frame"] for request in asked if "/inspect " in request]
        self.assertEqual(frames, [1001, 1004])

    def test_who_is_not_signed_in_is_asked_first_and_sees_the_shot_then(self) -> None:
        page = self.new_page()
        page.goto(f"{self.live_server_url}/shots/{self.shot.pk}?item=cut")
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_label("Name").fill(self.user.username)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_label("Lineage").wait_for()
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])

    def told(self, request: str) -> dict[str, Any]:
        """The body of a request."""
        body: dict[str, Any] = json.loads(request.partition(" ")[2].partition(" ")[2])
        return body

    def test_looking_about_asks_for_what_was_not_seen_yet_and_for_nothing_else(self) -> None:
        page = self.page
        self.open_shot(page, "?item=cut")
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        asked = self.watch(page)
        self.settle(page, asked)
        box = self.pane(page).bounding_box()
        assert box
        middle = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.move(*middle)
        asked.clear()
        for stops in ("1", "0"):
            page.get_by_label("Exposure").fill(stops)
            page.get_by_label("Exposure").press("Enter")
        for _ in range(2):
            page.keyboard.press("v")
            page.wait_for_timeout(300)
        page.mouse.move(*middle)
        for _ in range(5):
            page.mouse.wheel(0, -200)
            page.wait_for_timeout(100)
        self.settle(page, asked)
        views = [self.told(request) for request in asked if "/view " in request]
        self.assertEqual(views, [], "exposure, backdrops and a closer look at what is there")

        # Moved aside, only the strip that comes into sight is asked for.
        def pan(by: float) -> None:
            page.mouse.move(*middle)
            page.mouse.down()
            page.mouse.move(middle[0] + by, middle[1], steps=6)
            page.mouse.up()
            self.settle(page, asked)

        pan(-200)
        pan(400)
        views = [self.told(request) for request in asked if "/view " in request]
        self.assertEqual(views, [], "a pan over what was seen before")

    def wide_shot(self) -> Shot:
        """A shot of a picture that is larger than the stage: a ramp, and a stretch of it."""
        wide = np.tile(np.linspace(0, 1, 2600, dtype=np.float16), (400, 1))
        stretch = {"name": "core", "op": "stretch", "in": {"from": "wide.R"}, "set": {"black": 0.0, "white": 0.5}}
        recipe = {"nexal": 1, "sources": {"wide": {"files": "wide.exr"}}, "steps": [stretch]}
        return self.make_shot("060 wide", recipe, {"wide.exr": exr_bytes(dict.fromkeys("RGB", wide))})

    def test_what_is_dragged_is_followed_with_fewer_samples_and_seen_in_full_at_rest(self) -> None:
        page = self.page
        self.shot = self.wide_shot()
        self.open_shot(page, "?item=core")
        slider = page.locator("[data-settings]").get_by_role("slider", name="White", exact=True)
        slider.wait_for()
        asked = self.watch(page)
        self.settle(page, asked)
        box = slider.bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        asked.clear()
        for step in range(12):
            page.mouse.move(x + 2 * step, y)
            page.wait_for_timeout(60)

        def looks() -> list[dict[str, Any]]:
            return [self.told(request) for request in asked if "/view " in request]

        # Held still, it is seen in full before it is let go; on a busy machine also between two steps.
        self.wait_for_page(page, lambda: looks()[-1]["scale"] == 2)
        self.settle(page, asked)
        views = looks()
        scales = [view["scale"] for view in views]
        self.assertEqual((scales[0], scales[-2:]), (4, [4, 2]), scales)
        # And with no more of each than is seen.
        self.assertEqual([view.get("exposure") for view in views], [0 if scale == 4 else None for scale in scales])
        # The wall and the lineage see it at rest, and then too before it is let go.
        described = sum("/inspect " in request for request in asked)
        self.assertTrue(1 <= described <= scales.count(2), (described, scales))
        page.mouse.up()
        self.wait_for(lambda: self.step("core")["set"]["white"] != 0.5)

    def test_what_takes_long_to_come_is_told_to_be_computed(self) -> None:
        page = self.page
        self.open_shot(page, "?item=core")
        self.settle(page, self.watch(page))

        told = threading.Event()

        def late(*asked: Any) -> Answer:
            told.wait(PATIENCE)
            return answer_for(*asked)

        with mock.patch("stage.views.answer_for", late):
            field = page.get_by_label("White value", exact=True)
            field.fill("0.4")
            field.press("Enter")
            page.get_by_text("computing", exact=True).wait_for()
            told.set()
            page.get_by_text("computing", exact=True).wait_for(state="hidden")

    def test_a_pan_asks_for_the_strip_that_comes_into_sight(self) -> None:
        shot = self.wide_shot()
        page = self.page
        asked = self.watch(page)
        self.open_shot(page, "?item=wide", shot)
        self.settle(page, asked)
        box = self.pane(page).bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.keyboard.press("z")
        self.settle(page, asked)
        whole = [self.told(request)["region"] for request in asked if "/view " in request][-1]
        asked.clear()
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 200, y, steps=2)
        page.mouse.up()
        self.settle(page, asked)
        views = [self.told(request)["region"] for request in asked if "/view " in request]
        self.assertTrue(views)
        for view in views:
            self.assertLess(view[2] * view[3], whole[2] * whole[3] / 3, views)
        # What is seen is where it belongs: the ramp goes on without a seam.
        line = page.evaluate(
            """() => {
              const canvas = document.querySelector('canvas[data-pane="main"]');
              const middle = Math.round(canvas.height / 2);
              const row = canvas.getContext("2d").getImageData(0, middle, canvas.width, 1).data;
              return Array.from({ length: canvas.width }, (_, index) => row[4 * index]);
            }"""
        )
        inside = line[10:-10]
        self.assertGreater(inside[-1], inside[0] + 20)
        steps = np.diff(np.array(inside))
        self.assertGreaterEqual(int(steps.min()), 0)
        self.assertLessEqual(int(steps.max()), 3)

    def test_a_slider_is_dragged_for_two_seconds(self) -> None:
        page = self.page
        self.open_shot(page, "?item=core")
        slider = page.locator("[data-settings]").get_by_role("slider", name="White", exact=True)
        slider.wait_for()
        opened = self.watch(page)
        self.settle(page, opened)
        box = slider.bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        asked = self.watch(page)
        page.mouse.move(x, y)
        page.mouse.down()
        for step in range(40):
            page.mouse.move(x + step, y)
            page.wait_for_timeout(50)
        page.mouse.up()
        self.settle(page, asked)
        self.assert_once(asked)
        views = [request for request in asked if request.startswith("POST") and "/view " in request]
        self.assertGreater(len(views), 4)
        saves = [request for request in asked if "/revisions " in request and request.startswith("POST")]
        self.assertEqual(len(saves), 1)

    def test_what_is_saved_here_and_answered_late_is_no_news(self) -> None:
        page = self.page
        self.open_shot(page, "?item=pull")
        page.get_by_role("button", name="Channel moth.R").wait_for()
        self.settle(page, self.watch(page))
        asked, answer = self.watch(page), ContentSecurityPolicy.__call__
        late: list[str] = []

        def answer_late(own: ContentSecurityPolicy, request: HttpRequest) -> HttpResponse:
            response = answer(own, request)
            if request.method == "POST" and request.path.endswith("/revisions"):
                late.append(request.path)
                time.sleep(7)
            return response

        with mock.patch.object(ContentSecurityPolicy, "__call__", answer_late):
            page.get_by_role("button", name="Next mode").click()
            page.wait_for_timeout(9000)
            self.settle(page, asked)
        self.assertEqual(len(late), 1)
        self.assertTrue([request for request in asked if "/revisions " in request])
        self.assertEqual([request for request in asked if request == f"GET /api/shots/{self.shot.pk} "], [])

    def test_news_of_what_was_before_a_save_is_asked_again_and_brings_others_work(self) -> None:
        page = self.page
        self.open_shot(page, "?item=pull")
        page.get_by_role("button", name="Channel moth.R").wait_for()
        self.settle(page, self.watch(page))
        held: list[tuple[Route, APIResponse]] = []
        number = self.revisions_at_rest(page)

        def hold(route: Route) -> None:
            # Answered now, told later.
            answer = route.fetch()
            if "revision" in answer.text() and not held:
                held.append((route, answer))
            else:
                route.fulfill(response=answer)

        page.route("**/news?*", hold)
        page.get_by_role("button", name="Next mode").click()
        self.wait_for_page(page, lambda: bool(held), "news of the first change")
        page.get_by_role("button", name="Next mode").click()
        self.comes_to(lambda: self.shot.revisions.count(), number + 2)
        self.settle(page, [])
        asked = self.watch(page)
        route, answer = held[0]
        with page.expect_request("**/news?*") as again:
            route.fulfill(response=answer)
        self.assertEqual(again.value.url, route.request.url)
        self.settle(page, asked)
        self.assertEqual([request for request in asked if request == f"GET /api/shots/{self.shot.pk} "], [])
        # What somebody else did is heard as ever.
        self.shot.refresh_from_db()
        assert self.shot.head
        recipe = parse_recipe({**self.shot.head.recipe, "steps": self.shot.head.recipe["steps"][:1]})
        save(self.shot, self.user.pk, self.shot.head.number, recipe)
        page.locator('[data-item="comp"]').wait_for(state="detached")

    def test_modes_are_stepped_through_and_back(self) -> None:
        page = self.page
        self.open_shot(page, "?item=pull")
        page.get_by_role("button", name="Channel moth.R").wait_for()
        before = self.watch(page)
        self.settle(page, before)
        asked = self.watch(page)
        for turn in ("Next mode", "Next mode", "Next mode", "Mode before", "Mode before", "Mode before"):
            page.get_by_role("button", name=turn).click()
            # Small pictures that are passed by before they come are asked for again.
            self.settle(page, asked)
        # The way back asks for no small picture and no description again; the stage asks for what it shows.
        self.assert_once([request for request in asked if "/view " not in request and "/revisions" not in request])
        small = [request for request in asked if "/view " in request and '"scale":8' in request]
        self.assert_once(small)
