"""The Packing bench in the browser: own layouts and finishes, what is looked at, and the proof."""

from __future__ import annotations

import re

from packing_support import PackingTest, texture_recipe
from playwright.sync_api import Route


class Sets(PackingTest):
    def test_an_own_layout_is_made_kept_and_packed_by(self) -> None:
        page = self.open_tin(texture_recipe(roughness=[{"from": "template.G"}]))
        page.get_by_label("Finishes").get_by_role("button", name="own…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Layout", exact=True).click()
        mine = dialog.get_by_label("Layout new layout")
        mine.get_by_label("Name").fill("gloss and glow")
        mine = dialog.get_by_label("Layout gloss and glow")
        green = mine.get_by_label("Meaning of G in gloss and glow")
        green.fill("roughness")
        green.blur()
        blue = mine.get_by_label("Meaning of B in gloss and glow")
        blue.fill("Lantern glow")
        blue.blur()
        mine.get_by_role("button", name="with alpha").click()
        mine.get_by_role("button", name="1 − v").nth(1).click()
        dialog.get_by_role("button", name="Keep", exact=True).click()
        dialog.wait_for(state="detached")
        self.project.refresh_from_db()
        kept = self.project.layouts[0]
        self.assertEqual(
            [(row["port"], row["meaning"], row["inverted"]) for row in kept["channels"]],
            [("r", "occlusion", False), ("g", "roughness", True), ("b", "lantern_glow", False), ("a", "mask", False)],
        )
        page.get_by_role("combobox", name="Layout").click()
        page.get_by_role("option", name="gloss and glow").click()
        self.wait_for_step("texture", layout=kept["name"])
        # Roughness the right way round is another channel than roughness turned round.
        self.comes_to(
            lambda: self.step("texture")["in"], {"r": "occlusion", "g": "roughness_2", "b": "lantern_glow", "a": "mask"}
        )
        page.get_by_label("Bay roughness").get_by_text("1 − v").wait_for()
        # A finish goes into a channel that holds the opposite as its opposite.
        page.get_by_label("Finishes").get_by_role("button", name="chalk").click()
        page.get_by_label("Apply chalk").get_by_role("button", name="Lay it in").click()
        self.wait_for_layers("roughness_2", [{"value": 0.08}])

    def test_a_wrong_set_is_refused_and_what_was_typed_stays(self) -> None:
        page = self.open_tin(texture_recipe())
        page.get_by_label("Finishes").get_by_role("button", name="own…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Layout", exact=True).click()
        mine = dialog.get_by_label("Layout new layout")
        red = mine.get_by_label("Meaning of R in new layout")
        red.fill("metallic")
        red.blur()
        dialog.get_by_role("button", name="Keep", exact=True).click()
        dialog.get_by_role("alert").get_by_text("'metallic' stands in two channels").wait_for()
        self.comes_to(lambda: red.input_value(), "metallic")
        self.project.refresh_from_db()
        self.assertEqual(self.project.layouts, [])

    def test_finishes_that_say_nothing_of_a_layout_cannot_be_laid_in(self) -> None:
        page = self.open_tin(texture_recipe())
        page.get_by_role("combobox", name="Layout").click()
        page.get_by_role("option", name="four masks").click()
        page.get_by_label("Bay mask 1").wait_for()
        self.comes_to(lambda: page.get_by_label("Finishes").get_by_role("button", name="wax").is_disabled(), True)
        page.get_by_text("R (mask_1), G (mask_2), B (mask_3) are 0 everywhere").wait_for()

    def test_an_empty_channel_is_filled_by_a_click(self) -> None:
        recipe = texture_recipe()
        recipe["steps"][0]["set"]["base"] = 0
        cover = {"name": "metal_mask", "op": "stretch", "in": {"from": "emblem.A"}}
        recipe["steps"].insert(0, cover)
        page = self.open_tin(recipe)
        empty = page.get_by_label("Warnings").get_by_text("is 0 everywhere")
        first = self.wait_for_lit()
        self.wait_for_count(empty, 2)
        page.get_by_role("button", name="Fill it at 100 %").click()
        self.wait_for(lambda: self.step("occlusion")["set"]["base"] == 1)
        lit = self.wait_for_lit(first)
        page.get_by_role("button", name="Lay metal_mask in").click()
        self.wait_for_layers("metallic", [{"from": "metal_mask"}])
        self.wait_for_lit(lit)
        self.wait_for_count(empty, 0)


class Looking(PackingTest):
    def test_a_pane_brings_its_bay_into_focus_and_one_mask_changes_all_bays(self) -> None:
        bar = {"value": 0.9, "mask": "cover"}
        recipe = texture_recipe(roughness=[bar], metallic=[bar])
        cover = {"name": "cover", "op": "stretch", "in": {"from": "emblem.A"}, "set": {"black": 0.0, "white": 1.0}}
        recipe["steps"].insert(0, cover)
        page = self.open_tin(recipe)
        page.get_by_label("Bays as pictures").get_by_role("button", name="G roughness").click()
        page.locator('[data-item="roughness"][aria-current="true"]').wait_for()
        page.get_by_label(re.compile(r"Lay a value into roughness by a mask: \+ \d+ %")).wait_for()
        first = self.wait_for_lit()
        self.choose_item(page, "cover")
        page.get_by_label("Step", exact=True).get_by_role("button", name="Turn round").wait_for()
        page.keyboard.press("o")
        self.wait_for(lambda: self.step("cover").get("on") is False)
        page.keyboard.press("o")
        self.wait_for(lambda: self.step("cover").get("on") is None)
        white = page.get_by_label("Step", exact=True).get_by_label("White value", exact=True)
        black = page.get_by_label("Step", exact=True).get_by_label("Black value", exact=True)
        for field, value in ((white, "0"), (black, "1")):
            field.fill(value)
            field.press("Enter")
        self.wait_for_step("cover", black=1, white=0)
        self.wait_for_lit(first)

    def test_a_normal_map_bends_the_light_and_another_base_paints_the_object(self) -> None:
        page = self.open_tin(texture_recipe())
        first = self.wait_for_lit()
        page.get_by_role("combobox", name="Normal map").click()
        page.get_by_role("option", name="template").click()
        bent = self.wait_for_lit(first)
        page.get_by_role("combobox", name="Base colour").click()
        page.get_by_role("option", name="emblem").click()
        golden = self.wait_for_lit(bent)
        self.assertGreater(golden[0], golden[2])
        page.get_by_role("combobox", name="Base colour").click()
        page.get_by_role("option", name="plain grey").click()
        self.wait_for_lit(golden)

    def test_a_bar_is_fed_from_another_mask(self) -> None:
        page = self.open_tin(texture_recipe(metallic=[{"value": 1, "mask": "emblem.A"}]))
        self.wait_for_lit()
        page.get_by_label("Bay metallic").get_by_role("button", name="Bar 1 of metallic: emblem.A").click()
        whole = page.get_by_label("Bar 1 of metallic, everything")
        whole.get_by_label("Mask is fed from emblem.A").click()
        page.get_by_label("Find an address for Mask").fill("template.B")
        page.keyboard.press("Enter")
        self.wait_for_layers("metallic", [{"value": 1, "mask": "template.B"}])

    def test_proof_follows_format_and_dither(self) -> None:
        page = self.open_tin(texture_recipe(roughness=[{"from": "template.G"}]))
        proof = page.get_by_label("Proof", exact=True)
        proof.get_by_text("all values as meant").wait_for()
        proof.get_by_role("combobox", name="Dither").click()
        page.get_by_role("option", name="error diffusion").click()
        proof.get_by_text("all values as meant").wait_for()
        proof.get_by_role("combobox", name="Proven for").click()
        page.get_by_role("option", name="png 16").click()
        proof.get_by_role("cell", name="20000–45000").wait_for()
        self.comes_to(lambda: proof.get_by_role("combobox", name="Dither").count(), 0)
        proof.get_by_role("combobox", name="Proven for").click()
        page.get_by_role("option", name="exr float").click()
        proof.get_by_role("cell", name="1.000–1.000").wait_for()
        proof.get_by_role("button", name="Write and read back").click()
        proof.get_by_text("every sample came back").wait_for()


class Access(PackingTest):
    def test_no_serious_violation_on_the_bench_in_either_theme(self) -> None:
        self.open_tin(texture_recipe(roughness=[{"from": "template.G"}, {"value": 0.2, "mask": "emblem.A"}]))
        page = self.page
        found: list[str] = []
        for theme in ("dark", "bright"):
            page.evaluate(f"localStorage.setItem('nexal-theme', '{theme}')")
            page.reload()
            page.get_by_label("Proof", exact=True).get_by_text("all values as meant").wait_for()
            self.wait_for_lit()
            page.get_by_role("button", name="Keep as before").click()
            page.get_by_label("Bay roughness").get_by_role("button", name="Bar 1 of roughness: emblem.A").click()
            page.get_by_role("slider", name="Line between before and now").wait_for()
            found += [f"bays, {theme}: {row}" for row in self.violations(page)]
            page.get_by_label("Finishes").get_by_role("button", name="wax").click()
            page.get_by_label("Apply wax").wait_for()
            found += [f"finish, {theme}: {row}" for row in self.violations(page)]
            page.keyboard.press("Escape")
            page.get_by_label("Finishes").get_by_role("button", name="own…").click()
            dialog = page.get_by_role("dialog")
            dialog.get_by_role("button", name="Copy to change").first.click()
            dialog.get_by_role("button", name="Copy to change").last.click()
            dialog.get_by_label("Layout four masks, own", exact=True).wait_for()
            found += [f"sets, {theme}: {row}" for row in self.violations(page)]
            dialog.get_by_role("button", name="Cancel").click()
            page.get_by_role("button", name="Mips").click()
            page.get_by_label("Losses").get_by_text("dB").first.wait_for()
            found += [f"mips, {theme}: {row}" for row in self.violations(page)]
            page.goto(f"{self.live_server_url}/shots/{self.tin.pk}?bench=packing&item=texture")
        self.assertEqual(found, [])


class Overtaken(PackingTest):
    def test_a_proof_is_never_that_of_a_recipe_which_its_items_do_not_know_yet(self) -> None:
        page = self.open_tin(texture_recipe(metallic=[{"value": 0.5, "mask": "emblem.A"}]))
        proof = page.get_by_label("Proof", exact=True)
        proof.get_by_role("cell", name="0–128").wait_for()
        held: list[Route] = []
        with page.expect_response("**/inspect"):
            self.type_in("Bar 1 of metallic in per cent", "90")
        # The next change is there before the one before it has settled, and nobody has described it yet.
        page.route("**/inspect", lambda route: held.append(route))
        self.type_in("Bar 1 of metallic in per cent", "0")
        page.wait_for_timeout(900)
        for route in held:
            route.continue_()
        page.unroute("**/inspect")
        proof.get_by_role("cell", name="0–0").wait_for()
        self.type_in("Bar 1 of metallic in per cent", "90")
        proof.get_by_role("cell", name="0–230").wait_for()

    def test_undo_while_a_save_is_on_its_way_takes_back_what_is_seen(self) -> None:
        page = self.open_tin(texture_recipe(metallic=[{"value": 0.5, "mask": "emblem.A"}]))
        held: list[Route] = []
        page.route("**/revisions", lambda route: held.append(route))
        self.type_in("Bar 1 of metallic in per cent", "90")
        self.wait_for_page(page, lambda: len(held) == 1, "the save is on its way")
        page.keyboard.press("Control+z")
        page.wait_for_timeout(300)
        held[0].continue_()
        page.unroute("**/revisions")
        self.wait_for_page(
            page, lambda: page.get_by_label("Bar 1 of metallic in per cent").input_value() == "50", "what was before"
        )
        self.wait_for_layers("metallic", [{"value": 0.5, "mask": "emblem.A"}])
        page.get_by_role("button", name="Redo").click()
        self.wait_for_layers("metallic", [{"value": 0.9, "mask": "emblem.A"}])
