"""In the hand: merging, keys, dropped recipes, replaced sources, and what a first-time user meets on the way."""

from __future__ import annotations

import json
import re
import zipfile
from typing import Any

import numpy as np
from browser_support import HEIGHT, WIDTH, BrowserTest, plate
from playwright.sync_api import Page, Route
from server_support import PASSWORD, exr_bytes

from accounts.models import User
from projects.models import Membership, Role


class TwoPeople(BrowserTest):
    expected_console = ("Failed to load resource",)

    def setUp(self) -> None:
        super().setUp()
        # Who hears of the other's change before their own has nothing to merge.
        self.page.route("**/news?*", lambda route: route.abort())
        other = User.objects.create_user("odo", password=PASSWORD, first_name="Odo")
        Membership.objects.create(project=self.project, user=other, role=Role.ARTIST)
        self.open_shot(query="?item=core")
        self.others = self.open_shot(self.sign_in(other), query="?item=core")

    @staticmethod
    def put(page: Page, label: str, value: str) -> None:
        field = page.get_by_label(f"{label} value", exact=True)
        field.fill(value)
        field.press("Enter")

    def test_what_touches_nothing_in_common_is_merged_and_told(self) -> None:
        self.put(self.others, "White", "0.3")
        self.wait_for_step("core", white=0.3)
        self.put(self.page, "Black", "0.05")
        self.page.get_by_text("by Odo was merged in").wait_for()
        self.wait_for_step("core", white=0.3, black=0.05)
        self.comes_to(lambda: self.page.get_by_label("White value", exact=True).input_value(), "0.300")
        # One undo takes mine back, and leaves theirs.
        self.page.get_by_role("button", name="Undo").click()
        self.wait_for(lambda: "black" not in self.step("core")["set"] or self.step("core")["set"]["black"] == 0)
        self.comes_to(lambda: self.step("core")["set"]["white"], 0.3)
        self.page.get_by_text("not saved").wait_for(state="hidden")

    def test_one_value_changed_by_both_is_shown_with_both_and_chosen(self) -> None:
        self.put(self.others, "White", "0.3")
        self.wait_for_step("core", white=0.3)
        page = self.page
        self.put(page, "White", "0.4")
        row = page.get_by_role("table", name="Changed by both").get_by_role("row").nth(1)
        row.wait_for()
        self.comes_to(lambda: row.locator("th, td").all_inner_texts(), ["core: white", "0.4", "0.3"])
        # It can wait, and is not forgotten.
        page.keyboard.press("Escape")
        page.get_by_role("dialog").wait_for(state="hidden")
        page.get_by_role("button", name="Two versions: choose").click()
        page.get_by_role("button", name="Keep mine there").click()
        self.wait_for_step("core", white=0.4)


class GivingUp(BrowserTest):
    def test_escape_in_a_drag_brings_back_what_was_before(self) -> None:
        page = self.open_shot(query="?item=core")
        number = page.get_by_label("White value", exact=True)
        before, count = number.input_value(), self.revisions_at_rest(page)
        sliders = page.locator("[data-settings]").get_by_role("slider", name="White", exact=True)
        for control in (sliders, page.get_by_role("slider", name="white post"), number):
            box = control.bounding_box()
            assert box
            x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
            page.mouse.move(x, y)
            page.mouse.down()
            page.mouse.move(x - 40, y, steps=5)
            self.wait_for_page(page, lambda: number.input_value() != before)
            page.keyboard.press("Escape")
            self.wait_for_page(page, lambda: number.input_value() == before, "it is back")
            # What the pointer still does until it is let go makes no difference.
            page.mouse.move(x - 80, y, steps=5)
            page.mouse.up()
            page.get_by_text("not saved").wait_for(state="hidden")
            page.wait_for_timeout(300)
            self.assertEqual(number.input_value(), before)
        self.assertEqual(self.shot.revisions.count(), count)
        # The next drag is one again, and Escape after it takes nothing back.
        box = sliders.bounding_box()
        assert box
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] - 30, box["y"] + box["height"] / 2, steps=5)
        page.mouse.up()
        self.wait_for(lambda: self.shot.revisions.count() == count + 1)
        page.keyboard.press("Escape")
        page.wait_for_timeout(300)
        self.assertNotEqual(number.input_value(), before)
        self.assertEqual(self.shot.revisions.count(), count + 1)


class Pages(BrowserTest):
    def test_a_page_that_stopped_tells_the_log_what_happened(self) -> None:
        page = self.open_shot()
        self.expected_console = ("Failed to load resource", "TypeError", "%o", "React Router caught", "Error")
        page.route("**/inspect", lambda route: route.fulfill(json=[None]))
        page.reload()
        page.get_by_role("heading", name="This page stopped").wait_for()
        with self.assertLogs("nexal.browser", "ERROR") as logs:
            page.get_by_label("What did you do last?").fill("opened the shot")
            page.get_by_role("button", name="Send what happened").click()
            page.get_by_text("It is in the log").wait_for()
        self.assertIn("opened the shot", logs.output[0])
        self.assertIn(f"/shots/{self.shot.pk}", logs.output[0])
        self.complaints.clear()

    def test_keys_reach_every_part(self) -> None:
        page = self.open_shot(query="?item=core")
        page.locator('[data-tile="moth.R"]').wait_for()
        parts = ",".join(f"[aria-label={name}]" for name in ("Channels", "Stage", "Bench", "Lineage"))
        where = f"document.activeElement.closest('{parts}')?.ariaLabel"
        seen = []
        for _ in range(4):
            page.keyboard.press("F6")
            seen.append(page.evaluate(where))
        self.assertEqual(seen, ["Channels", "Stage", "Bench", "Lineage"])
        page.keyboard.press("w")
        self.comes_to(lambda: page.evaluate("document.activeElement.dataset.tile"), "core.Y")
        page.keyboard.press("ArrowDown")
        self.comes_to(lambda: page.evaluate("document.activeElement.dataset.tile"), "moth.R")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("Enter")
        page.locator('[data-tile="moth.G"][aria-pressed="true"]').wait_for()
        page.keyboard.press("l")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("e")
        self.comes_to(lambda: page.evaluate(where), "Bench")
        page.keyboard.press("Shift+Digit4")
        page.get_by_label("Diagnosis").wait_for()
        self.assertIn("bench=edges", page.url)
        # Each bench has its number; beyond the last one nothing happens.
        benches = page.get_by_label("Benches").get_by_role("button")
        for number, bench in enumerate(benches.all_inner_texts(), 1):
            page.keyboard.press(f"Shift+Digit{number}")
            self.wait_for_page(page, lambda bench=bench: f"bench={bench.lower()}" in page.url, bench)
        page.keyboard.press(f"Shift+Digit{benches.count() + 1}")
        self.assertIn("bench=deliver", page.url)

    def test_what_was_added_is_set_next_and_the_finder_is_a_key_away(self) -> None:
        page = self.open_shot(query="?item=matte")
        self.add_step(page, "blur")
        self.wait_for_step("blur")
        self.wait_for_page(page, lambda: page.evaluate("document.activeElement.ariaLabel") == "Radius")
        page.keyboard.press("ArrowRight")
        self.wait_for_step("blur", radius=4.1)
        self.add_step(page, "despeckle")
        self.wait_for_step("despeckle", islands="auto")
        page.keyboard.press("/")
        page.get_by_role("combobox", name="Add a step by name or by need").wait_for()

    def test_what_is_typed_in_a_number_is_no_key_of_the_page(self) -> None:
        page = self.open_shot(query="?item=core")
        field = page.locator("[data-settings]").get_by_label("White value", exact=True)
        steps = len(self.recipe()["steps"])
        # Every key of the help's list that can stand in a text, in a field that has the focus.
        keys = "1234567890zvmpxhjdt-=wselbiu,.gk/noc?+*%()qayrf"
        for key in [*keys, "Shift+1", "Delete", "ArrowLeft", "Home", "Space"]:
            field.focus()
            page.keyboard.press(key)
            self.assertEqual(page.evaluate("document.activeElement.ariaLabel"), "White value", key)
        self.wait_for_count(page.get_by_role("dialog"), 0)
        # What can't be read is told, and stays there to be put right.
        field.fill("abc")
        field.press("Enter")
        page.get_by_text("“abc” can't be read as a number").wait_for()
        page.get_by_label("Bench").get_by_role("slider", name="Black", exact=True).focus()
        self.assertEqual(field.input_value(), "abc")
        field.press("Escape")
        self.assertEqual(float(field.input_value()), 0.25)
        self.assertEqual((len(self.recipe()["steps"]), self.step("core")["set"]["white"]), (steps, 0.25))

    def test_numbers_take_arithmetic(self) -> None:
        page = self.open_shot(query="?item=core")
        field = page.locator("[data-settings]").get_by_label("White value", exact=True)
        revisions = self.revisions_at_rest(page)
        for number, (text, wanted) in enumerate((("1/3", 1 / 3), ("*1.5", 0.5), ("+0.02", 0.52), ("50%", 0.5)), 1):
            field.fill(text)
            page.get_by_text(f"= {wanted:.2f}").wait_for()
            field.press("Enter")
            self.wait_for(lambda wanted=wanted: abs(self.step("core")["set"]["white"] - wanted) < 1e-9, what=text)
            self.comes_to(lambda: self.shot.revisions.count(), revisions + number)
        field.fill("1/0")
        page.get_by_text("division by zero").wait_for()
        field.press("Escape")
        page.keyboard.press("Control+z")
        self.wait_for(lambda: abs(self.step("core")["set"]["white"] - 0.52) < 1e-9)

    def test_the_probe_stands_where_the_pointer_does_not_and_goes_away(self) -> None:
        page = self.open_shot(query="?item=moth")
        probe = page.get_by_test_id("probe")
        page.mouse.move(*self.spot(page, 100, 20))
        probe.wait_for()
        below = probe.bounding_box()
        page.mouse.move(*self.spot(page, 250, 160))
        self.wait_for_page(page, lambda: (probe.bounding_box() or below) != below)
        above = probe.bounding_box()
        assert below
        assert above
        self.assertLess(above["y"], below["y"])
        page.keyboard.press("i")
        probe.wait_for(state="hidden")
        page.keyboard.press("i")
        probe.wait_for()

    def test_every_control_says_what_it_is(self) -> None:
        controls = "button, input:not([hidden]), a, textarea, [role=slider], [role=switch]"
        bare = f"""() => [...document.querySelectorAll('{controls}')]
            .filter((each) => each.offsetParent && !each.closest('[title]') && !each.hasAttribute('data-state'))
            .map((each) => each.outerHTML.slice(0, 120))"""
        for bench in ("mattes", "passes", "edges", "packing", "deliver"):
            page = self.open_shot(query=f"?bench={bench}&item=core")
            self.assertEqual(page.evaluate(bare), [], bench)

    def test_a_picture_that_fails_says_why_where_it_should_be_also_after_a_reload(self) -> None:
        problem = {
            "code": "too_much",
            "message": "needs 9.9 GB of memory",
            "where": "'moth'",
            "remedy": "make it smaller",
        }
        page = self.page
        page.route("**/{view,pictures}", lambda route: route.fulfill(status=413, json=problem))
        self.open_shot(query="?item=moth")
        for _ in range(2):
            page.locator('[data-tile="moth.R"]').get_by_text("needs 9.9 GB").wait_for()
            page.locator('[data-item="moth"]').get_by_text("needs 9.9 GB").wait_for()
            page.get_by_label("Stage", exact=True).get_by_text("needs 9.9 GB").wait_for()
            page.reload()

    def test_work_that_takes_long_leaves_no_faults_in_the_console(self) -> None:
        self.expected_console = ()
        page = self.open_shot(query="?item=matte")
        self.add_step(page, "fine edge")
        self.wait_for_step("fine_edge", band="auto")
        page.get_by_text("Changed").first.wait_for()


class Files(BrowserTest):
    def drop(self, name: str, content: bytes) -> None:
        self.page.get_by_test_id("picture-files").set_input_files(
            [{"name": name, "mimeType": "application/octet-stream", "buffer": content}]
        )

    def test_channels_of_several_files_are_put_together(self) -> None:
        page = self.open_shot(query="?item=moth")
        page.locator('[data-tile="moth.R"]').click()
        page.locator('[data-tile="house.B"]').click(modifiers=["Shift"])
        self.wait_for(lambda: bool(self.step("together")))
        self.comes_to(lambda: self.step("together")["set"]["to"], {"R": {"from": "moth.R"}, "G": {"from": "house.B"}})
        page.locator('[data-item="together"][aria-current="true"]').wait_for()
        page.locator('[data-tile="moth.G"]').click(modifiers=["Shift"])
        self.wait_for(lambda: self.step("together")["set"]["to"].get("B") == {"from": "moth.G"})

    def test_who_is_quicker_than_the_catalogue_is_not_left_without_an_answer(self) -> None:
        held: list[Route] = []
        self.page.route("**/api/operations", lambda route: held.append(route))
        page = self.open_shot(query="?item=moth")
        page.locator('[data-tile="moth.G"]').click()
        page.keyboard.press("c")
        self.wait_for_page(page, lambda: bool(held))
        page.wait_for_timeout(300)
        self.assertEqual(self.step("copy_channel"), {})
        for route in held:
            route.continue_()
        self.wait_for(lambda: self.step("copy_channel").get("in") == {"from": "moth.G"})
        page.locator('[data-item="copy_channel"][aria-current="true"]').wait_for()

    def test_a_channel_is_copied_by_key_by_name_and_by_drag(self) -> None:
        page = self.open_shot(query="?item=moth")
        page.locator('[data-tile="moth.G"]').click()
        page.keyboard.press("c")
        self.wait_for(lambda: self.step("copy_channel").get("in") == {"from": "moth.G"})
        page.locator('[data-item="copy_channel"][aria-current="true"]').wait_for()
        self.choose_item(page, "moth")
        page.locator('[data-tile="moth.B"]').click()
        self.add_step(page, "copy the channel")
        self.wait_for(lambda: self.step("copy_channel_2").get("in") == {"from": "moth.B"})
        page.locator('[data-tile="house.R"]').drag_to(page.locator('[data-cell="comp"]'))
        self.wait_for(lambda: self.step("copy_channel_3").get("in") == {"from": "house.R"})

    def test_a_recipe_that_is_dropped_is_understood(self) -> None:
        page = self.open_shot()
        recipe: dict[str, Any] = {
            "nexal": 1,
            "sources": {"wing": {"files": "shots/040/Moth.exr"}, "lost": {"files": "lost.exr"}},
            "steps": [{"name": "turned", "op": "invert", "in": {"from": "wing"}}],
        }
        self.drop("night.json", json.dumps(recipe).encode())
        dialog = page.get_by_role("dialog")
        dialog.get_by_text("no file called lost.exr").wait_for()
        dialog.get_by_role("button", name="Take this recipe").click()
        self.wait_for(lambda: bool(self.step("turned")))
        self.comes_to(lambda: self.recipe()["sources"]["wing"], {"files": "moth.exr"})
        page.get_by_role("button", name="Undo").click()
        self.wait_for(lambda: bool(self.step("comp")))
        for content, word in ((b"{", "is no JSON"), (b"{}", "has no `nexal`"), (b'{"nexal": 2}', "not understood")):
            self.drop("odd.json", content)
            page.get_by_text(re.compile(word)).first.wait_for()

    def test_a_source_is_replaced_with_a_look_before_and_taken_back(self) -> None:
        page = self.open_shot(query="?item=moth")
        page.get_by_role("button", name="Replace the file…").click()
        newer = {name: np.tile(plane, (2, 2)) for name, plane in plate().items() if name != "B"}
        page.get_by_test_id("replacing-file").set_input_files(
            [{"name": "moth_v2.exr", "mimeType": "image/x-exr", "buffer": exr_bytes(newer)}]
        )
        dialog = page.get_by_role("dialog")
        facts = dialog.get_by_label("What changes")
        facts.get_by_text(f"{WIDTH} × {HEIGHT} → {2 * WIDTH} × {2 * HEIGHT}").wait_for()
        facts.get_by_text("3 → 2").wait_for()
        self.assertIn("B", facts.inner_text())
        self.comes_to(lambda: dialog.get_by_role("alert").count(), 0)
        dialog.get_by_role("button", name="Replace", exact=True).click()
        self.wait_for(lambda: self.recipe()["sources"]["moth"]["files"] == "moth_v2.exr")
        self.comes_to(lambda: self.step("pull")["in"], {"a": "moth.G", "b": "moth.R"})
        page.get_by_role("button", name="Undo").click()
        self.wait_for(lambda: self.recipe()["sources"]["moth"]["files"] == "moth.exr")

    def test_deliverables_are_edited_duplicated_remembered_and_fetched_together(self) -> None:
        page = self.open_shot(query="?bench=deliver&item=cut")
        page.get_by_role("button", name="New deliverable").click()
        dialog = page.get_by_role("dialog")
        self.set_choice("Format", "png")
        dialog.get_by_role("button", name="Render", exact=True).click()
        page.get_by_role("link", name="cut.png").wait_for()
        # The format is remembered for pictures; a duplicate has a name of its own.
        page.get_by_role("button", name="More for the deliverable cut", exact=True).click()
        page.get_by_role("menuitem", name="Duplicate").click()
        self.comes_to(lambda: dialog.get_by_role("combobox", name="Format").inner_text(), "png")
        dialog.get_by_label("File name").fill("cut_again.png")
        dialog.get_by_role("button", name="Render", exact=True).click()
        page.get_by_role("link", name="cut_again.png").wait_for()
        page.get_by_role("button", name="More for the deliverable cut_2").click()
        page.get_by_role("menuitem", name="Edit").click()
        self.set_choice("Depth", "16 bit")
        dialog.get_by_role("button", name="Render", exact=True).click()
        dialog.wait_for(state="hidden")
        self.wait_for(lambda: self.shot.deliverables.get(name="cut_2").spec.get("depth") == "16")
        self.comes_to(lambda: self.shot.deliverables.count(), 2)
        page.get_by_role("button", name="New deliverable").click()
        self.comes_to(lambda: dialog.get_by_role("combobox", name="Format").inner_text(), "png")
        page.keyboard.press("Escape")
        self.wait_for(
            lambda: all(row.renders.first().state == "done" for row in self.shot.deliverables.all()),
            what="all are done",
        )
        with page.expect_download() as waiting:
            page.get_by_role("link", name="Download all").click()
        with zipfile.ZipFile(waiting.value.path()) as archive:
            self.assertEqual(sorted(archive.namelist()), ["cut.png", "cut_again.png"])

    def test_a_matte_is_kept_as_a_channel_of_its_picture(self) -> None:
        page = self.open_shot(query="?bench=deliver&item=matte")
        page.get_by_role("button", name="New deliverable").click()
        page.get_by_role("button", name="Keep it as a channel of moth").click()
        page.get_by_role("dialog").get_by_role("button", name="Render", exact=True).click()
        page.get_by_role("link", name="moth_with_matte.exr").wait_for()
        self.comes_to(lambda: self.step("moth_with_matte")["set"]["to"], {"matte": {"from": "matte"}})
