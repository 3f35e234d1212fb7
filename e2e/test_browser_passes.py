"""The Passes bench: audit taken as steps, faders, tint, mute and solo, balances kept and compared, delivery."""

from __future__ import annotations

from typing import Any

import numpy as np
from browser_support import HEIGHT, WIDTH, BrowserTest, code
from playwright.sync_api import Locator, Route
from server_support import exr_bytes

RIM, FILL = {"R": 0.5, "G": 0.25, "B": 0.125}, {"R": 0.125, "G": 0.125, "B": 0.25}


def passes(**more: float) -> dict[str, np.ndarray]:
    """Rim light on the right half, fill everywhere, their sum, and data that has to stay as it is."""
    shape = (HEIGHT, WIDTH)
    right = np.zeros(shape, np.float32)
    right[:, WIDTH // 2 :] = 1
    planes: dict[str, Any] = {}
    for name in "RGB":
        planes[f"light.rim.{name}"] = (RIM[name] * right).astype(np.float16)
        planes[f"light.fill.{name}"] = np.full(shape, FILL[name], np.float16)
        planes[name] = (planes[f"light.rim.{name}"] + planes[f"light.fill.{name}"]).astype(np.float16)
    planes["id.object"] = np.arange(WIDTH * HEIGHT, dtype=np.uint32).reshape(shape) * 70_001
    planes["depth.Z"] = np.random.default_rng(2).random(shape, np.float32) * 100
    return planes | {"A": np.ones(shape, np.float16)}


class Passes(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        recipe = {"nexal": 1, "sources": {"render": {"files": "render.exr"}}}
        self.shot = self.make_shot("110 glasshouse", recipe, {"render.exr": exr_bytes(passes())})
        self.open_shot(query="?item=render&bench=passes")

    def bench(self) -> Locator:
        return self.page.get_by_label("Bench")

    def desk(self) -> Locator:
        return self.page.get_by_label("Desk")

    def audit(self) -> None:
        self.bench().get_by_role("button", name="Audit", exact=True).click()
        self.bench().get_by_role("button", name="Take as steps").click()
        self.wait_for_step("rebuilt")
        self.page.locator('[data-item="rebuilt"][aria-current="true"]').wait_for()

    def balance(self) -> list[dict[str, Any]]:
        return self.step("rebuilt").get("set", {}).get("passes", [])

    def lit(self, rim: float = 1, fill: float = 1) -> list[int]:
        return [code(rim * RIM[name] + fill * FILL[name]) for name in "RGB"]

    def test_an_audit_becomes_a_sum_on_the_desk(self) -> None:
        page = self.page
        self.bench().get_by_role("button", name="Audit", exact=True).click()
        parts = self.bench().get_by_label("Parts of the sum").get_by_role("listitem")
        parts.first.wait_for()
        self.comes_to(lambda: sorted(parts.all_inner_texts()), ["light.fill\n1.000", "light.rim\n1.000"])
        self.bench().get_by_label("What is left").get_by_text("equal").wait_for()
        self.bench().get_by_role("button", name="Take as steps").click()
        self.wait_for_step("rebuilt")
        self.comes_to(lambda: sorted(self.step("rebuilt")["in"]["passes"]), ["render.light.fill", "render.light.rim"])
        self.comes_to(lambda: self.step("rebuilt")["in"]["alpha_from"], "render.A")
        self.assert_pixel(page, 240, 90, self.lit())
        self.wait_for_count(self.desk().get_by_label("Pass rim"), 1)
        self.choose_item(page, "left")
        self.assert_pixel(page, 240, 90, [0, 0, 0])

    def test_faders_mute_solo_and_tint(self) -> None:
        page = self.page
        self.audit()
        self.assert_pixel(page, 240, 90, self.lit())
        number = self.desk().get_by_label("Stops of rim, number")
        number.fill("-1")
        number.press("Enter")
        self.assert_pixel(page, 240, 90, self.lit(rim=0.5))
        self.wait_for(lambda: any(each.get("stops") == -1 for each in self.balance()), what="it is saved")
        # The fader is dragged: the stage follows before anything is saved, and one revision is made at the end.
        count = self.revisions_at_rest(page)
        thumb = self.desk().get_by_role("slider", name="Stops of fill")
        box = thumb.bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        places = [(x, y - 4 * step) for step in range(1, 7)]
        seen = self.seen_on_the_way(page, places, lambda: tuple(self.pixel(page, 40, 90)[:3]))
        self.assertGreaterEqual(len(seen), 5, seen)
        self.assertEqual(self.shot.revisions.count(), count)
        page.mouse.up()
        self.wait_for(lambda: self.shot.revisions.count() == count + 1)
        gain = 2 ** next(each["stops"] for each in self.balance() if each["stops"] > 0)
        self.assert_pixel(page, 40, 90, self.lit(rim=0, fill=gain))
        thumb.dblclick()
        self.assert_pixel(page, 40, 90, self.lit(rim=0))
        # Solo leaves one, mute takes one out; the meters follow.
        rim = self.desk().get_by_label("Pass rim")
        rim.get_by_role("button", name="solo").click()
        self.assert_pixel(page, 40, 90, [0, 0, 0])
        self.wait_for_page(
            page, lambda: rim.get_by_role("meter").get_attribute("aria-valuenow") == "100", "the rim gives all light"
        )
        rim.get_by_role("button", name="solo").click()
        rim.get_by_role("button", name="mute").click()
        self.assert_pixel(page, 240, 90, self.lit(rim=0))
        rim.get_by_role("button", name="mute").click()
        self.desk().get_by_role("button", name="Tint of fill").click()
        red = page.get_by_label("Tint of fill, red")
        red.fill("2")
        red.press("Enter")
        self.assert_pixel(page, 40, 90, [code(2 * FILL["R"]), code(FILL["G"]), code(FILL["B"])])
        # A drag of the dial is given up, and the dial stays; with nothing dragged, Escape closes it.
        count = self.revisions_at_rest(page)
        dial = page.get_by_label("Tint dial of fill")
        box = dial.bounding_box()
        assert box
        page.mouse.move(box["x"] + 0.5 * box["width"], box["y"] + 0.3 * box["height"])
        page.mouse.down()
        page.mouse.move(box["x"] + 0.3 * box["width"], box["y"] + 0.6 * box["height"], steps=5)
        self.wait_for_page(page, lambda: red.input_value() != "2.00")
        page.keyboard.press("Escape")
        page.mouse.move(box["x"] + 0.7 * box["width"], box["y"] + 0.6 * box["height"], steps=5)
        page.mouse.up()
        self.wait_for_page(page, lambda: red.input_value() == "2.00", "it is back")
        self.assertEqual(self.shot.revisions.count(), count)
        page.keyboard.press("Escape")
        dial.wait_for(state="hidden")
        self.desk().get_by_role("button", name="reset all").click()
        self.assert_pixel(page, 240, 90, self.lit())
        self.wait_for(lambda: self.balance() == [])

    def test_a_group_moves_together(self) -> None:
        self.audit()
        number = self.desk().get_by_label("Stops of all light, number")
        number.fill("1")
        number.press("Enter")
        self.wait_for(lambda: [each.get("stops") for each in self.balance()] == [1, 1])
        self.assert_pixel(self.page, 240, 90, self.lit(2, 2))

    def test_a_balance_is_kept_and_compared(self) -> None:
        page = self.page
        self.audit()
        number = self.desk().get_by_label("Stops of rim, number")
        number.fill("-2")
        number.press("Enter")
        self.assert_pixel(page, 240, 90, self.lit(rim=0.25))
        self.desk().get_by_label("Name for this balance").fill("dusk")
        self.desk().get_by_role("button", name="Keep").click()
        self.wait_for_step("dusk")
        self.desk().get_by_role("button", name="reset all").click()
        self.assert_pixel(page, 240, 90, self.lit())
        self.desk().get_by_role("button", name="dusk").click()
        # Right of the split the kept balance, left of it the one on the desk.
        self.assert_pixel(page, 300, 90, self.lit(rim=0.25))
        self.assert_pixel(page, 40, 90, self.lit(rim=0))

    def test_without_a_sum_the_desk_offers_one_and_takes_passes_in_and_out(self) -> None:
        page = self.page
        self.desk().get_by_role("button", name="Add up 2 layers").click()
        self.wait_for_step("rebuilt")
        self.assert_pixel(page, 240, 90, self.lit())
        self.desk().get_by_label("Pass rim").hover()
        self.desk().get_by_role("button", name="Take rim out of the sum").click()
        self.wait_for(lambda: self.step("rebuilt")["in"]["passes"] == ["render.light.fill"])
        self.assert_pixel(page, 240, 90, self.lit(rim=0))
        self.desk().get_by_role("button", name="Add a pass: choose").click()
        page.get_by_label("Find an address for Add a pass").fill("light.rim")
        page.keyboard.press("Enter")
        self.wait_for(lambda: len(self.step("rebuilt")["in"]["passes"]) == 2)
        self.assert_pixel(page, 240, 90, self.lit())

    def test_a_wrong_guess_is_corrected_and_kept_with_the_source(self) -> None:
        page = self.page
        kinds = self.bench().get_by_role("combobox", name="light.rim is")
        self.assertIn("light", kinds.inner_text())
        held: list[Route] = []
        page.route("**/inspect", lambda route: held.append(route))
        kinds.click()
        page.get_by_role("option", name="position", exact=True).click()
        self.wait_for(lambda: self.recipe()["sources"]["render"].get("roles") == {"light.rim": "position"})
        self.bench().get_by_text("as you say").wait_for()
        # What is no light is no candidate of the audit any longer; what the recipe's items are comes only after.
        self.bench().get_by_role("button", name="Audit", exact=True).click()
        self.bench().get_by_text("explained").wait_for()
        # The first first: who lets go of one lets it go on.
        for route in held:
            route.continue_()
        page.unroute("**/inspect")
        page.wait_for_timeout(1500)
        self.bench().get_by_text("explained").wait_for()
        self.wait_for_count(self.bench().get_by_text("light.rim", exact=True), 1)
        kinds.click()
        page.get_by_role("option", name="light", exact=True).click()
        self.wait_for(lambda: "roles" not in self.recipe()["sources"]["render"])

    def test_what_no_pass_has_is_shown_with_its_place(self) -> None:
        planes = passes()
        for name in "RGB":
            planes[name][60:80, 20:60] += np.float16(0.5)
        recipe = {"nexal": 1, "sources": {"render": {"files": "render.exr"}}}
        self.shot = self.make_shot("115 glow", recipe, {"render.exr": exr_bytes(planes)})
        page = self.open_shot(query="?item=render&bench=passes")
        self.bench().get_by_role("button", name="Audit", exact=True).click()
        self.bench().get_by_text("within 40 × 20 pixels at 20, 60").wait_for()
        self.wait_for_count(page.get_by_label("Lost or unexplained").locator("rect"), 1)

    def test_a_render_is_delivered_with_all_layers_as_they_were(self) -> None:
        path = self.delivered("render.exr")
        import OpenEXR

        with OpenEXR.File(str(path), separate_channels=True) as file:
            got = {name: channel.pixels for name, channel in file.channels().items()}
        wanted = passes()
        self.assertEqual(set(got), set(wanted))
        for name, plane in wanted.items():
            self.assertEqual((got[name].dtype, got[name].tobytes()), (plane.dtype, plane.tobytes()), name)
