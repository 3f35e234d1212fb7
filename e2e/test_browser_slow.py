"""Slow steps: whatever the stage waits for says so and is computed; small pictures start nothing."""

from __future__ import annotations

import itertools
import json
from typing import Any

from browser_support import RECIPE, BrowserTest, backdrop, code, plate
from playwright.sync_api import Route
from server_support import exr_bytes

from stage.models import SlowResult

BANDS = itertools.count(6)


class Slow(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        # What a test before has computed is there at once, so that each has a setting of its own.
        band = {"band": next(BANDS)}
        steps: list[dict[str, Any]] = [
            {"name": "hair", "op": "fine_edge", "in": {"picture": "moth", "matte": "matte"}, "set": band},
            {"name": "soft", "op": "attach_alpha", "in": {"picture": "moth", "alpha": "hair"}},
        ]
        files = {"moth.exr": exr_bytes(plate()), "house.exr": exr_bytes(backdrop())}
        self.shot = self.make_shot("050 hair", {**RECIPE, "steps": [*RECIPE["steps"], *steps]}, files)

    def computed(self) -> None:
        note = self.page.get_by_text("Computing hair")
        note.wait_for()
        note.wait_for(state="hidden", timeout=90_000)
        self.comes_to(lambda: [row.state for row in SlowResult.objects.filter(shot=self.shot)], ["done"])

    refused = 0
    """How often the page was kept from beginning a slow step."""

    def no_start(self, route: Route) -> None:
        if route.request.method == "POST":
            self.refused += 1
            route.abort()
        else:
            route.continue_()

    def test_thumbnails_and_wall_tiles_start_nothing(self) -> None:
        page = self.page
        page.route("**/slow", self.no_start)
        self.open_shot(query="?item=hair")
        page.get_by_role("button", name="Two").click()
        # Its own tile says that it is not there yet.
        page.get_by_label("Channels").get_by_text("not computed yet").wait_for()
        self.choose_item(page, "moth")
        page.unroute("**/slow")
        # Whatever wants a slow step begins it after half a second.
        page.wait_for_timeout(1500)
        self.assertEqual(page.get_by_text("Computing hair").count(), 0)
        self.assertFalse(SlowResult.objects.filter(shot=self.shot).exists())

    def test_a_pin(self) -> None:
        page = self.page
        page.route("**/slow", self.no_start)
        self.open_shot(query="?item=hair")
        page.get_by_text("Computing hair").wait_for()
        page.keyboard.press("p")
        self.choose_item(page, "moth")
        page.get_by_text("Computing hair").wait_for(state="hidden")
        page.unroute("**/slow")
        page.get_by_role("button", name="Two").click()
        self.computed()
        self.assert_pixel(page, 160, 90, [255] * 3, "other")

    def test_it_is_seen_roughly_until_it_is_there(self) -> None:
        page = self.page
        page.route("**/slow", self.no_start)
        self.open_shot(query="?item=soft")
        page.get_by_text("Computing hair").wait_for()
        page.get_by_text("Seen roughly").wait_for()
        # The square is there, from the proxy, and round it the weave.
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        self.wait_for_page(page, lambda: len(set(self.pixel(page, 20, 20)[:3])) == 1, "the weave")
        # Else it would begin in between, and be there before it is looked for.
        self.wait_for_page(page, lambda: self.refused, "it would have been begun")
        self.assertFalse(SlowResult.objects.filter(shot=self.shot).exists())
        page.unroute("**/slow")
        self.choose_item(page, "hair")
        self.computed()
        self.comes_to(lambda: page.get_by_text("Seen roughly").count(), 0)

    def test_an_overlay(self) -> None:
        page = self.page
        page.route("**/slow", self.no_start)
        self.open_shot(query="?item=hair")
        page.get_by_text("Computing hair").wait_for()
        self.set_choice("Matte view", "hatch")
        page.get_by_text("hatched where").wait_for()
        page.unroute("**/slow")
        # The picture below does not wait.
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        self.computed()
        self.wait_for_page(page, lambda: self.hatched(300, 20), "lines where the matte removes")

    def hatched(self, x: float, y: float) -> bool:
        return len({tuple(self.pixel(self.page, x + n / 3, y)) for n in range(-30, 30)}) > 3

    def test_a_backdrop(self) -> None:
        page = self.open_shot(query="?item=cut")
        self.set_choice("Backdrop", "soft")
        # The picture in front does not wait.
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        self.computed()

    def test_no_overlay_of_before_stays_after_an_error(self) -> None:
        page = self.open_shot(query="?item=matte")
        self.assert_pixel(page, 160, 90, [255, 255, 255])
        self.set_choice("Matte view", "hatch")
        self.wait_for_page(page, lambda: self.hatched(300, 20), "lines where the matte removes")
        refusal = {"code": "made", "message": "made to fail", "where": "", "remedy": ""}

        def refuse(route: Route) -> None:
            if route.request.post_data_json.get("view", "").endswith("main-matte"):
                route.fulfill(status=422, content_type="application/json", body=json.dumps(refusal))
            else:
                route.continue_()

        page.route("**/view", refuse)
        self.choose_item(page, "pull")
        self.wait_for_page(page, lambda: not self.hatched(300, 20), "the lines of before are gone")
        page.unroute("**/view")

    def test_pictures_that_were_replaced_hold_no_memory(self) -> None:
        page = self.page
        page.add_init_script(
            """window.drawn = new Set();
            const draw = CanvasRenderingContext2D.prototype.drawImage;
            CanvasRenderingContext2D.prototype.drawImage = function (image, ...rest) {
              if (image instanceof ImageBitmap) window.drawn.add(image);
              return draw.call(this, image, ...rest);
            };"""
        )
        self.open_shot(query="?item=moth")
        warm = (0.75, 0.5, 0.25)
        field = page.get_by_label("Exposure", exact=True)
        for stops in range(-6, 0):
            field.fill(str(stops))
            field.press("Enter")
            self.assert_pixel(page, 160, 90, [code(value * 2.0**stops) for value in warm])
        count = "[...window.drawn].filter((bitmap) => bitmap.width %s).length"
        self.assertGreaterEqual(page.evaluate(count % ">= 0"), 6)
        self.wait_for_page(page, lambda: page.evaluate(count % "> 0") <= 1, "only what is shown is held")
