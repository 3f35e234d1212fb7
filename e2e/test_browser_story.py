"""The story from signing in to a file in one's hands, with mouse and keys."""

from __future__ import annotations

import contextlib
import io
import json
import tempfile
from pathlib import Path

import numpy as np
from browser_support import BrowserTest, backdrop, code, plate
from server_support import PASSWORD, exr_bytes

from nexal.cli import main


class Story(BrowserTest):
    def test_sign_in_is_refused_then_granted_and_leads_to_the_shot(self) -> None:
        page = self.new_page()
        page.goto(f"{self.live_server_url}/shots/{self.shot.pk}")
        page.wait_for_url("**/sign-in**")
        page.get_by_label("Name").fill("mira")
        page.get_by_label("Password").fill("wrong")
        page.keyboard.press("Enter")
        page.get_by_role("alert").get_by_text("name or password is wrong").wait_for()
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        page.wait_for_url(f"**/shots/{self.shot.pk}")
        page.get_by_role("button", name="More", exact=True).click()
        page.get_by_role("menuitem", name="Sign out").click()
        page.wait_for_url("**/sign-in")
        page.goto(f"{self.live_server_url}/projects")
        page.wait_for_url("**/sign-in**")

    def test_from_projects_to_a_matte_over_a_backdrop(self) -> None:
        shot = self.make_shot(
            "050 bare",
            {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}, "house": {"files": "house.exr"}}},
            {"moth.exr": exr_bytes(plate()), "house.exr": exr_bytes(backdrop())},
        )
        self.shot = shot
        page = self.page
        page.goto(f"{self.live_server_url}/projects")
        page.get_by_role("link", name="Night Conservatory").click()
        page.get_by_role("img", name="Shot 040 moth").wait_for()
        page.get_by_role("link", name="050 bare").click()
        page.get_by_label("Lineage").wait_for()

        # The plate, and a channel alone and back again.
        self.choose_item(page, "moth")
        self.assert_pixel(page, 20, 20, [code(0.125), code(0.5 + 20 / 2048), code(0.0625)])
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        tile = page.get_by_role("button", name="Channel moth.R")
        tile.click()
        self.assert_pixel(page, 160, 90, [code(0.75)] * 3)
        tile.click()
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        page.keyboard.press("3")
        self.assert_pixel(page, 160, 90, [code(0.25)] * 3)
        page.keyboard.press("0")
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])

        # Cross the two most different channels; step through modes and see each.
        page.get_by_role("button", name="Channel moth.G").click()
        self.add_step(page, "cross")
        self.wait_for_step("cross")
        self.comes_to(lambda: self.step("cross")["in"]["a"], "moth.G")
        bench = page.get_by_label("Bench")
        bench.get_by_role("button", name="B is fed from").click()
        page.get_by_label("Find an address for B").fill("moth.R")
        page.keyboard.press("Enter")
        bench.get_by_role("group", name="Domain").get_by_role("button", name="scene").click()
        values = {"multiply": 0.5 * 0.75, "screen": 0.5 + 0.75 - 0.375, "overlay": 0.75, "darken": 0.5, "lighten": 0.75}
        for mode, value in values.items():
            self.assert_pixel(page, 160, 90, [round(255 * value)] * 3)
            self.wait_for_step("cross", **({} if mode == "multiply" else {"mode": mode}))
            bench.get_by_role("button", name="Next mode").click()
        bench.get_by_label("Mode", exact=True).click()
        page.get_by_role("option", name="subtract").click()
        bench.get_by_role("switch", name="Invert a").click()
        self.assert_pixel(page, 20, 20, [round(255 * (1 - 0.5 - 20 / 2048 - 0.125))] * 3)
        bench.get_by_role("switch", name="Invert a").click()
        self.assert_pixel(page, 160, 90, [0, 0, 0])

        # Pull the ends in, turn it round, give it to the picture, lay it over the house.
        self.add_step(page, "pull the ends")
        self.wait_for_step("stretch")
        white = bench.get_by_label("White value", exact=True)
        white.fill("0.25")
        white.press("Enter")
        self.assert_pixel(page, 20, 20, [255, 255, 255])
        page.keyboard.press("n")
        self.wait_for_step("stretch_turned")
        self.assert_pixel(page, 20, 20, [0, 0, 0])
        self.assert_pixel(page, 160, 90, [255, 255, 255])
        self.add_step(page, "use a matte as alpha")
        self.wait_for_step("attach_alpha")
        self.comes_to(lambda: self.step("attach_alpha")["in"], {"picture": "moth", "alpha": "stretch_turned"})
        self.add_step(page, "stack")
        self.wait_for_step("stack")
        self.comes_to(lambda: self.step("stack")["in"], {"under": "house", "over": "attach_alpha"})
        self.assert_pixel(page, 20, 20, [0, 0, 255])
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        self.wait_for_count(page.get_by_label("Lineage").locator("[data-item]"), 7)

    def test_a_slider_drag_is_followed_continuously_and_saved_once(self) -> None:
        page = self.open_shot(query="?item=core")
        self.assert_pixel(page, 20, 20, [255, 255, 255])
        number = self.revisions_at_rest(page)
        post = page.get_by_role("slider", name="white post")
        box = post.bounding_box()
        assert box
        y = box["y"] + box["height"] / 2
        page.mouse.move(box["x"] + box["width"] / 2, y)
        page.mouse.down()
        places = [(box["x"] + box["width"] / 2 + offset, y) for offset in range(20, 200, 20)]
        seen = self.seen_on_the_way(page, places, lambda: self.pixel(page, 20, 20)[0])
        self.assertGreaterEqual(len(seen), 6, seen)
        self.assertEqual(self.shot.revisions.count(), number)
        page.mouse.up()
        self.wait_for(lambda: self.shot.revisions.count() == number + 1)
        shown = self.step("core")["set"]["white"]
        self.assertGreater(shown, 0.7)
        self.assert_pixel(page, 20, 20, [round(255 * (0.375 + 20 / 2048) / shown)] * 3)

    def test_the_slope_plot_by_keys_and_by_picking_from_the_picture(self) -> None:
        page = self.open_shot(query="?item=core")
        page.get_by_role("slider", name="black post").focus()
        page.keyboard.press("ArrowRight")
        self.wait_for_step("core", black=0.01)
        page.keyboard.press("Shift+ArrowLeft")
        self.wait_for_step("core", black=0.009)
        page.get_by_role("button", name="white", exact=True).click()
        page.get_by_text("Click in the picture").wait_for()
        page.mouse.click(*self.spot(page, 20, 20))
        picked = np.mean([0.375 + x / 2048 for x in (19, 20, 21)])
        self.wait_for(lambda: abs(self.step("core")["set"]["white"] - picked) < 0.0011)

    def test_deliver_download_and_run_the_recipe_without_the_server(self) -> None:
        import cv2
        import OpenEXR

        page = self.open_shot(query="?item=cut&bench=deliver")
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

        def deliver(choices: dict[str, str], suffix: str) -> Path:
            page.get_by_role("button", name="New deliverable").click()
            dialog = page.get_by_role("dialog")
            for label, choice in choices.items():
                dialog.get_by_role("combobox", name=label).click()
                page.get_by_role("option", name=choice, exact=True).click()
            dialog.get_by_role("button", name="Render").click()
            link = page.get_by_role("link", name=f"cut{suffix}")
            link.wait_for()
            with page.expect_download() as download:
                link.click()
            target = folder / f"browser{suffix}"
            download.value.save_as(target)
            return target

        matte = 1 - np.clip((plate()["G"].astype(float) - plate()["R"]) / 0.25, 0, 1)
        exr = OpenEXR.File(str(deliver({"Depth": "float"}, ".exr")), separate_channels=True).parts[0]
        np.testing.assert_allclose(exr.channels["A"].pixels, matte, atol=1e-5)
        np.testing.assert_allclose(exr.channels["R"].pixels, plate()["R"].astype(float) * matte, atol=1e-5)
        self.assertEqual(json.loads(exr.header["nexal.recipe"])["steps"], self.recipe()["steps"])
        png = cv2.imread(str(deliver({"Format": "png", "Depth": "16 bit"}, ".png")), cv2.IMREAD_UNCHANGED)
        self.assertEqual((png.dtype, png.shape), (np.uint16, (180, 320, 4)))
        np.testing.assert_allclose(png[..., 3] / 65535, matte, atol=2e-5)
        self.assertLessEqual(abs(int(png[90, 160, 2]) - 65535 * (1.055 * 0.75 ** (1 / 2.4) - 0.055)), 1)

        with page.expect_download() as download:
            page.get_by_role("link", name="Download the recipe").click()
        download.value.save_as(folder / "recipe.json")
        originals = {source.files: source.original.path for source in self.shot.sources.all()}
        arguments = [f"--source={name}={originals[f'{name}.exr']}" for name in ("moth", "house")]
        with contextlib.redirect_stdout(io.StringIO()):
            self.assertEqual(main(["run", str(folder / "recipe.json"), *arguments, "--out", str(folder)]), 0)
            for suffix in (".exr", ".png"):
                same = main(
                    ["compare", str(folder / f"browser{suffix}"), str(folder / f"cut{suffix}"), "--tolerance", "0"]
                )
                self.assertEqual(same, 0, suffix)

    def test_undo_survives_a_reload_and_redo_comes_back(self) -> None:
        page = self.open_shot(query="?item=core")
        white = page.get_by_label("White value", exact=True)
        white.fill("0.5")
        white.press("Enter")
        self.wait_for_step("core", white=0.5)
        page.reload()
        page.get_by_test_id("revision").get_by_text("rev 3").wait_for()
        page.get_by_label("Lineage").click(position={"x": 5, "y": 100})
        page.keyboard.press("Control+z")
        page.get_by_test_id("revision").get_by_text("rev 2").wait_for()
        self.assert_pixel(page, 20, 20, [255, 255, 255])
        page.reload()
        page.get_by_test_id("revision").get_by_text("rev 2").wait_for()
        page.get_by_role("button", name="Redo").click()
        page.get_by_test_id("revision").get_by_text("rev 3").wait_for()
        self.assert_pixel(page, 20, 20, [round(255 * (0.375 + 20 / 2048) / 0.5)] * 3)


class TwoBrowsers(BrowserTest):
    def change_white(self, page: object, value: str) -> None:
        field = page.get_by_label("White value", exact=True)  # type: ignore[attr-defined]
        field.fill(value)
        field.press("Enter")

    def test_the_second_save_is_refused_with_a_choice(self) -> None:
        mine, theirs = self.open_shot(query="?item=core"), self.sign_in(self.user)
        # Of what is heard in time there is nothing to choose.
        mine.route("**/news?*", lambda route: route.abort())
        self.open_shot(theirs, "?item=core")
        for keep, number in (("Keep mine there", 4), ("Take theirs there", 5)):
            theirs.reload()
            theirs.get_by_label("White value", exact=True).wait_for()
            mine.wait_for_timeout(200)
            self.change_white(theirs, f"0.{number}1")
            self.wait_for_step("core", white=float(f"0.{number}1"))
            self.change_white(mine, f"0.{number}2")
            mine.get_by_role("dialog").get_by_text("saved revision").wait_for()
            self.assertEqual(self.step("core")["set"]["white"], float(f"0.{number}1"))
            mine.get_by_role("button", name=keep).click()
            mine.get_by_role("dialog").wait_for(state="hidden")
            if number == 4:
                self.wait_for_step("core", white=0.42)
                self.assertEqual(self.shot.revisions.get(number=3).recipe["steps"][1]["set"]["white"], 0.41)
            else:
                mine.get_by_test_id("revision").get_by_text("rev 5").wait_for()
                self.comes_to(lambda: mine.get_by_label("White value", exact=True).input_value(), "0.510")
                self.comes_to(lambda: self.step("core")["set"]["white"], 0.51)
