"""The lineage and the bench: steps chosen, fed, renamed, turned off, duplicated, moved, deleted; tiles dragged."""

from __future__ import annotations

from browser_support import RECIPE, BrowserTest, backdrop, code, plate
from server_support import exr_bytes


class Lineage(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.open_shot(query="?item=matte")
        self.page.get_by_role("button", name="More for matte").wait_for()

    def names(self) -> list[str]:
        return [step["name"] for step in self.recipe()["steps"]]

    def menu(self, item: str, choice: str) -> None:
        self.page.get_by_role("button", name=f"More for {item}").click()
        self.page.get_by_role("menuitem", name=choice).click()

    def test_steps_are_copied_to_another_shot_and_give_the_same_pixels(self) -> None:
        page = self.page
        names = self.names()
        self.choose_item(page, "matte")
        page.locator('[data-item="matte"]').focus()
        self.assert_pixel(page, 160, 90, [255] * 3)
        here = [self.pixel(page, x, 90) for x in (20, 115, 160)]
        page.keyboard.press("Control+C")
        # Within the shot: under free names, on what they hung on.
        page.keyboard.press("Control+V")
        self.wait_for_step("matte_2")
        self.assertEqual(len(self.names()), len(names) + len(self.needed("matte", names)))
        first = self.shot
        # Elsewhere the picture has another name: what is it to be?
        files = {"moth.exr": exr_bytes(plate()), "house.exr": exr_bytes(backdrop())}
        sources = {"wall": {"files": "house.exr"}, "leaf": {"files": "moth.exr"}}
        self.shot = self.make_shot("060 other", {"nexal": 1, "sources": sources, "steps": []}, files)
        self.open_shot(query="?item=leaf")
        page.locator('[data-item="leaf"]').focus()
        page.keyboard.press("Control+V")
        dialog = page.get_by_role("dialog")
        dialog.get_by_text("moth").first.wait_for()
        dialog.get_by_role("button", name="For moth").click()
        page.get_by_label("Addresses").get_by_role("button", name="leaf", exact=True).click()
        dialog.get_by_role("button", name="Paste").click()
        self.wait_for_step("matte")
        self.assertEqual(self.names(), self.needed("matte", names))
        page.locator('[data-item="matte"][aria-current="true"]').wait_for()
        for x, value in zip((20, 115, 160), here, strict=True):
            self.assert_pixel(page, x, 90, value[:3], near=0)
        # It is one change: undo takes it all back. What is no step is nothing to paste.
        page.get_by_role("button", name="Undo").click()
        self.wait_for(lambda: not self.recipe().get("steps"))
        page.evaluate("document.dispatchEvent(new ClipboardEvent('paste', {bubbles: true}))")
        page.wait_for_timeout(500)
        self.assertFalse(self.recipe().get("steps"))
        self.shot = first

    def needed(self, item: str, names: list[str]) -> list[str]:
        """A step of the story and the steps that it hangs on, in order."""
        steps = {step["name"]: step for step in RECIPE["steps"]}
        wanted = [item]
        for name in wanted:
            for address in steps[name]["in"].values():
                if address.partition(".")[0] in steps:
                    wanted.append(address.partition(".")[0])
        return [name for name in names if name in wanted]

    def test_rename_carries_its_users_along(self) -> None:
        page = self.page
        self.menu("matte", "Rename")
        field = page.get_by_role("dialog").get_by_label("Name")
        for wrong, why in (("!7", "begins with a letter"), ("cut", "already")):
            field.fill(wrong)
            page.get_by_role("dialog").get_by_text(why).wait_for()
            self.comes_to(lambda: page.get_by_role("button", name="Rename").is_disabled(), True)
        field.fill("inside")
        field.press("Enter")
        self.wait_for(lambda: "inside" in self.names())
        self.comes_to(lambda: self.step("cut")["in"]["alpha"], "inside")
        page.locator('[data-item="inside"][aria-current="true"]').wait_for()

    def test_rename_a_source(self) -> None:
        self.menu("moth", "Rename")
        field = self.page.get_by_role("dialog").get_by_label("Name")
        field.fill("plate")
        field.press("Enter")
        self.wait_for(lambda: "plate" in self.recipe()["sources"])
        self.comes_to(lambda: self.step("pull")["in"], {"a": "plate.G", "b": "plate.R"})
        self.assert_pixel(self.page, 160, 90, [255] * 3)

    def test_off_and_on_again(self) -> None:
        page = self.page
        page.keyboard.press("o")
        self.wait_for(lambda: self.step("matte").get("on") is False)
        self.assert_pixel(page, 160, 90, [0] * 3)
        page.get_by_role("button", name="Turn on").click()
        self.wait_for(lambda: self.step("matte").get("on", True))
        self.assert_pixel(page, 160, 90, [255] * 3)

    def test_duplicate_move_and_delete(self) -> None:
        page = self.page
        self.menu("matte", "Duplicate")
        self.wait_for(lambda: self.names() == ["pull", "core", "matte", "matte_2", "cut", "comp"])
        self.menu("matte_2", "Move right")
        self.wait_for(lambda: self.names()[4] == "matte_2")
        page.locator('[data-item="matte_2"][aria-current="true"]').wait_for()
        self.menu("matte_2", "Delete")
        self.wait_for(lambda: "matte_2" not in self.names())
        # The step on its left comes into focus, and the address follows.
        page.locator('[data-item="cut"][aria-current="true"]').wait_for()
        page.wait_for_url("**item=cut*")

    def test_a_step_never_passes_what_it_hangs_on(self) -> None:
        page = self.page
        page.get_by_role("button", name="More for core").click()
        left = page.get_by_role("menuitem", name="Stays right of pull")
        self.comes_to(lambda: left.get_attribute("aria-disabled"), "true")
        page.get_by_role("menuitem", name="Stays left of matte").wait_for()
        page.keyboard.press("Escape")

    def test_dialogs_have_the_focus_where_one_types(self) -> None:
        page = self.page
        focused = "document.activeElement.tagName + ' ' + (document.activeElement.getAttribute('aria-label') ?? '')"
        self.menu("core", "Rename")
        page.get_by_role("dialog").wait_for()
        page.keyboard.type("My Core")
        self.comes_to(lambda: page.get_by_role("dialog").get_by_label("Name").input_value(), "my_core")
        page.keyboard.press("Enter")
        self.wait_for(lambda: "my_core" in self.names())
        self.menu("my_core", "Note")
        page.get_by_role("dialog").wait_for()
        page.keyboard.type("n o z")
        self.comes_to(lambda: page.evaluate(focused), "TEXTAREA Note")
        page.get_by_role("button", name="Keep", exact=True).click()
        self.wait_for(lambda: self.step("my_core").get("note") == "n o z")
        # None of the page's own keys was pressed by it.
        self.assertTrue(self.step("my_core").get("on", True))
        page.keyboard.press("?")
        page.get_by_role("dialog").wait_for()
        page.keyboard.type("pin")
        self.comes_to(lambda: page.get_by_label("Search the help").input_value(), "pin")
        page.keyboard.press("Escape")
        page.get_by_role("dialog").wait_for(state="hidden")

    def test_the_finder_knows_the_words_that_people_bring(self) -> None:
        page = self.page
        page.keyboard.press("/")
        finder = page.get_by_role("combobox", name="Add a step by name or by need")
        first = page.get_by_role("listbox", name="Steps").get_by_role("option").first
        words = {"levels": "stretch", "choke": "grow", "transform": "place", "gamma": "grade", "flip": "mirror"}
        for word, step in words.items():
            finder.fill(word)
            first.get_by_text(step, exact=True).wait_for()
        finder.fill("histogram")
        page.get_by_role("dialog").get_by_text("Skylines lie under every tile").wait_for()
        page.keyboard.press("Escape")

    def test_deleting_what_others_use_says_who_and_offers_to_feed_them(self) -> None:
        page = self.page
        self.menu("core", "Delete")
        page.get_by_role("dialog").get_by_text("matte").first.wait_for()
        page.get_by_role("button", name="Delete, feed them from pull").click()
        self.wait_for(lambda: self.names() == ["pull", "matte", "cut", "comp"])
        self.comes_to(lambda: self.step("matte")["in"]["from"], "pull")

    def test_removing_a_source_says_which_steps_use_it_and_undo_brings_it_back(self) -> None:
        page = self.page
        self.menu("house", "Remove")
        page.get_by_role("dialog").get_by_text("One step uses it: comp").wait_for()
        page.get_by_role("button", name="Remove", exact=True).click()
        self.wait_for(lambda: "house" not in self.recipe()["sources"])
        page.get_by_label("Lineage").get_by_role("button", name="comp, stack of house, cut, with a fault").wait_for()
        page.get_by_role("button", name="Undo").click()
        self.wait_for(lambda: "house" in self.recipe()["sources"])
        self.choose_item(page, "comp")
        self.assert_pixel(page, 300, 20, [0, 0, 255])

    def test_a_step_is_fed_anew_from_the_list(self) -> None:
        page = self.page
        self.choose_item(page, "comp")
        page.get_by_label("Bench").get_by_role("button", name="Under is fed from house").click()
        page.get_by_label("Find an address for Under").fill("moth")
        page.get_by_role("button", name="moth", exact=True).last.click()
        self.wait_for(lambda: self.step("comp")["in"]["under"] == "moth")
        self.assert_pixel(page, 300, 20, [code(0.125), code(0.5 + 300 / 2048), code(0.0625)])

    def test_tiles_are_dragged_onto_ports_and_onto_each_other(self) -> None:
        page = self.page
        self.choose_item(page, "pull")
        tile = page.get_by_role("button", name="Channel moth.B")
        tile.drag_to(page.get_by_label("Bench").get_by_role("button", name="B is fed from"))
        self.wait_for(lambda: self.step("pull")["in"]["b"] == "moth.B")
        page.get_by_role("button", name="Channel moth.R").drag_to(page.get_by_role("button", name="Channel moth.G"))
        self.wait_for(lambda: self.step("cross").get("in") == {"a": "moth.R", "b": "moth.G"})
        page.get_by_role("button", name="Channel moth.R").drag_to(page.get_by_role("button", name="add /"))
        self.wait_for(lambda: self.step("stretch").get("in") == {"from": "moth.R"})

    def test_steps_are_dragged_into_another_order(self) -> None:
        page = self.page
        self.menu("comp", "Duplicate")
        self.wait_for(lambda: self.names()[-1] == "comp_2")
        page.locator('[data-item="comp_2"]').drag_to(page.locator('[data-cell="comp"]'))
        self.wait_for(lambda: self.names()[-2:] == ["comp_2", "comp"])
        # As far as what feeds it allows.
        page.locator('[data-item="comp"]').drag_to(page.locator('[data-cell="pull"]'))
        self.wait_for(lambda: self.names() == ["pull", "core", "matte", "cut", "comp", "comp_2"])

    def test_a_note_is_kept(self) -> None:
        page = self.page
        self.menu("matte", "Note")
        page.get_by_label("Note", exact=True).fill("turned for the wings")
        page.get_by_role("button", name="Keep").click()
        self.wait_for(lambda: self.step("matte").get("note") == "turned for the wings")
        page.get_by_label("Bench").get_by_text("turned for the wings").wait_for()

    def test_arrow_keys_walk_the_lineage(self) -> None:
        page = self.page
        page.locator('[data-item="matte"]').focus()
        page.keyboard.press("ArrowRight")
        page.locator('[data-item="cut"][aria-current="true"]').wait_for()
        page.keyboard.press("ArrowLeft")
        page.keyboard.press("ArrowLeft")
        page.locator('[data-item="core"][aria-current="true"]').wait_for()

    def test_a_default_comes_back_with_a_double_click(self) -> None:
        page = self.page
        self.choose_item(page, "core")
        page.get_by_label("Bench").get_by_text("White", exact=True).dblclick()
        self.wait_for_step("core", white=1)

    def test_routes_are_edited(self) -> None:
        page = self.page
        self.choose_item(page, "moth")
        self.add_step(page, "route")
        self.wait_for_step("route")
        page.get_by_label("Name of a new channel").fill("R")
        page.keyboard.press("Enter")
        self.wait_for(lambda: "R" in self.step("route")["set"]["to"])
        page.get_by_label("Bench").get_by_role("button", name="R is fed from").click()
        page.get_by_label("Find an address for R").fill("house.B")
        page.keyboard.press("Enter")
        self.wait_for(lambda: self.step("route")["set"]["to"]["R"] == {"from": "house.B"})
