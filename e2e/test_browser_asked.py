"""What the browser asks the server: nothing twice for the same thing."""

from __future__ import annotations

from collections import Counter

from browser_support import BrowserTest
from playwright.sync_api import Page, Request

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
        """Wait until nothing was asked for a while."""
        seen = -1
        while seen != len(asked):
            seen = len(asked)
            page.wait_for_timeout(900)

    def assert_once(self, asked: list[str]) -> None:
        twice = {request[:400]: count for request, count in Counter(asked).items() if count > 1}
        self.assertEqual(twice, {})

    def test_a_shot_is_opened(self) -> None:
        page = self.page
        asked = self.watch(page)
        self.open_shot(page, "?item=cut")
        page.get_by_role("button", name="Channel moth.R").wait_for()
        self.settle(page, asked)
        self.assert_once(asked)
        # One question describes all items; each of them has one picture, each channel on the wall one skyline.
        inspected = [request for request in asked if "/inspect " in request]
        self.assertEqual(len(inspected), 1)
        self.assertLess(len(asked), 60, asked)

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

    def test_modes_are_stepped_through_and_back(self) -> None:
        page = self.page
        self.open_shot(page, "?item=pull")
        page.get_by_role("button", name="Channel moth.R").wait_for()
        before = self.watch(page)
        self.settle(page, before)
        asked = self.watch(page)
        for turn in ("Next mode", "Next mode", "Next mode", "Mode before", "Mode before", "Mode before"):
            page.get_by_role("button", name=turn).click()
            page.wait_for_timeout(700)
        self.settle(page, asked)
        # The way back asks for no small picture and no description again; the stage asks for what it shows.
        self.assert_once([request for request in asked if "/view " not in request and "/revisions" not in request])
        small = [request for request in asked if "/view " in request and '"scale":8' in request]
        self.assert_once(small)
