"""How often the browser asks, and what it gives up."""

from __future__ import annotations

import time

from browser_support import BrowserTest, code
from playwright.sync_api import Route


class Asking(BrowserTest):
    def test_while_something_is_dragged_items_are_asked_about_a_few_times_a_second(self) -> None:
        page = self.open_shot(query="?item=core")
        slider = page.get_by_role("slider", name="White", exact=True).last
        slider.wait_for()
        page.wait_for_timeout(1000)
        asked: list[str] = []
        page.on("request", lambda request: request.url.endswith("/inspect") and asked.append(request.url))
        began = time.monotonic()
        slider.focus()
        for _ in range(60):
            page.keyboard.press("ArrowRight")
        page.wait_for_timeout(400)
        self.assertGreater(len(asked), 0)
        self.assertLessEqual(len(asked), (time.monotonic() - began) / 0.15 + 3)

    def test_another_item_is_asked_for_at_once_whatever_is_still_on_its_way(self) -> None:
        page = self.open_shot(query="?item=comp")
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        held: list[Route] = []
        page.route("**/view", lambda route: held.append(route))

        def asked(address: str) -> bool:
            views = [route.request.post_data_json for route in held]
            return any(view["address"] == address and "-main-picture" in view.get("view", "") for view in views)

        self.choose_item(page, "pull")
        self.wait_for_page(page, lambda: asked("pull"), "the first view is on its way")
        self.choose_item(page, "house")
        self.wait_for_page(page, lambda: asked("house"), "the other view does not wait for it", seconds=10)
        page.unroute("**/view")
