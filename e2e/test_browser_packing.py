"""The Packing bench in the browser: a texture from nothing, bars, finishes, the lit object, files out and in."""

from __future__ import annotations

import json
import re
import zipfile
from pathlib import Path

import cv2
import numpy as np
from packing_support import SOURCES, PackingTest, emblem, template, texture_recipe

from projects.models import Role


class Packing(PackingTest):
    def test_a_texture_from_nothing_to_the_delivered_file(self) -> None:
        page = self.open_tin({"nexal": 1, "sources": SOURCES}, "template")
        start = page.get_by_label("Start a texture")
        start.get_by_text("64 × 64").wait_for()
        start.get_by_role("button", name="Keep what template holds as detail").wait_for()
        start.get_by_role("button", name="Make the bays").click()
        self.wait_for(lambda: bool(self.step("packed_orm")))
        self.assertEqual(self.layers("roughness"), [{"from": "template.G"}])
        page.get_by_label("Bay roughness").get_by_text("kept").wait_for()
        before = self.wait_for_lit()

        # The template's metal is left out, the emblem laid in as brass and cut into the roughness.
        page.get_by_label("Bay metallic").get_by_role("button", name="Bar 1 of metallic: template.B").click()
        page.get_by_label("Bar 1 of metallic: remove").click()
        self.wait_for_layers("metallic", [])
        self.lay_in("metallic", "emblem.A")
        page.get_by_label("Bay metallic").get_by_text("lays in").wait_for()
        self.type_in("Bar 1 of metallic in per cent", "90")
        page.get_by_label("Bay roughness").get_by_role("button", name="roughness").first.click()
        self.lay_in("roughness", "emblem.A")
        page.get_by_label("Bay roughness").get_by_text("cuts to").wait_for()
        self.type_in("Bar 1 of roughness as a code of 255", "56")
        self.wait_for_layers("roughness", [{"from": "template.G"}, {"value": 0.219608, "mask": "emblem.A"}])
        self.type_in("Bar 1 of roughness as a part of 1", "0.22")
        self.wait_for_layers("roughness", [{"from": "template.G"}, {"value": 0.22, "mask": "emblem.A"}])
        self.comes_to(lambda: page.get_by_label("Bar 1 of roughness in per cent").input_value(), "22")
        brass = self.wait_for_lit(before)

        # One percentage more, and the object is seen to change.
        self.type_in("Bar 1 of metallic in per cent", "0")
        self.wait_for_lit(brass)
        self.type_in("Bar 1 of metallic in per cent", "90")
        self.wait_for_layers("metallic", [{"value": 0.9, "mask": "emblem.A"}])

        proof = page.get_by_label("Proof", exact=True)
        proof.get_by_text("all values as meant").wait_for()
        proof.get_by_role("cell", name="0–230").wait_for()
        proof.get_by_role("button", name="Write and read back").click()
        proof.get_by_text("every sample came back").wait_for()

        page.get_by_role("button", name="Deliver this texture").click()
        dialog = page.get_by_role("dialog")
        name = dialog.get_by_label("File name")
        self.wait_for_page(page, lambda: name.input_value() == "{shot}_{layout}.png", "a name by pattern")
        dialog.get_by_role("button", name="Render", exact=True).click()
        file = self.downloaded("210_new_tin_orm.png")
        written = cv2.imread(str(file), cv2.IMREAD_UNCHANGED)[..., ::-1]
        cover = emblem()[..., 3] / 255
        rough = template()[..., 1] / 65_535 * (1 - cover) + 0.22 * cover
        meant = np.stack([np.ones_like(rough), rough, 0.9 * cover], axis=-1)
        gap = np.abs(written.astype(int) - np.floor(meant * 255 + 0.5))
        middle = np.abs(meant * 255 % 1 - 0.5) < 0.001
        self.assertEqual(written.dtype, np.uint8)
        self.assertEqual(int(gap[~middle].max()), 0)

    def test_bars_are_ordered_turned_off_turned_round_copied_and_brought_back(self) -> None:
        emblem_bar, slope = {"value": 0.2, "mask": "emblem.A"}, {"from": "template.G"}
        page = self.open_tin(texture_recipe(roughness=[slope, emblem_bar]), "roughness")
        bars = page.get_by_label("Bars of roughness").get_by_role("listitem")
        self.wait_for_count(bars, 2)
        handle = bars.nth(0).get_by_title("Drag to another place in the bay")
        handle.drag_to(bars.nth(1))
        self.wait_for_layers("roughness", [emblem_bar, slope])
        # What hides the rest is told, and one click brings it back.
        page.get_by_text("template.G covers everything below it: emblem.A is lost").wait_for()
        page.get_by_role("button", name="Put it below them").click()
        self.wait_for_layers("roughness", [slope, emblem_bar])

        page.get_by_role("button", name="Bar 1 of roughness: emblem.A").click()
        whole = page.get_by_label("Bar 1 of roughness, everything")
        whole.get_by_role("button", name="outside of it").click()
        whole.get_by_label("Bar 1 of roughness: opacity in per cent").fill("50")
        whole.get_by_label("Bar 1 of roughness: opacity in per cent").press("Enter")
        self.wait_for_layers("roughness", [slope, emblem_bar | {"invert_mask": True, "opacity": 0.5}])
        whole.get_by_label("Bar 1 of roughness: down").click()
        self.wait_for_layers("roughness", [emblem_bar | {"invert_mask": True, "opacity": 0.5}, slope])
        page.keyboard.press("Control+z")
        self.wait_for_layers("roughness", [slope, emblem_bar | {"invert_mask": True, "opacity": 0.5}])
        page.get_by_role("button", name="Bar 1 of roughness: outside emblem.A").click()
        whole.get_by_role("button", name="Copy to…").click()
        page.get_by_role("menuitem", name="metallic").click()
        self.wait_for_layers("metallic", [emblem_bar | {"invert_mask": True, "opacity": 0.5}])
        whole.get_by_role("button", name="on", exact=True).click()
        self.wait_for(lambda: self.layers("roughness")[1].get("on") is False)
        page.get_by_label("Bar 1 of roughness", exact=True).get_by_text("off").first.wait_for()

    def test_a_tile_dropped_on_a_bay_is_laid_in_by_its_coverage(self) -> None:
        page = self.open_tin(texture_recipe(), "emblem")
        page.get_by_role("button", name="Channel emblem.A").drag_to(
            page.get_by_label("Bay metallic").get_by_text("base")
        )
        self.wait_for_layers("metallic", [{"value": 1, "mask": "emblem.A"}])

    def test_a_finish_is_laid_into_all_bays_and_own_ones_are_kept_for_the_project(self) -> None:
        page = self.open_tin(texture_recipe(roughness=[{"from": "template.G"}]))
        row = page.get_by_label("Finishes")
        row.get_by_role("button", name="bare brass").click()
        card = page.get_by_label("Apply bare brass")
        card.get_by_text("is covered up").wait_for()
        card.get_by_label("Where: everywhere").click()
        page.get_by_label("Addresses").get_by_role("button", name="emblem.A", exact=True).click()
        card.get_by_role("button", name="Lay it in").click()
        self.wait_for_layers("metallic", [{"value": 0.95, "mask": "emblem.A"}])
        self.assertEqual(self.layers("roughness"), [{"from": "template.G"}, {"value": 0.28, "mask": "emblem.A"}])
        self.assertEqual(self.layers("occlusion"), [])

        row.get_by_role("button", name="own…").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Finish", exact=True).click()
        mine = dialog.get_by_label("Finish new finish")
        mine.get_by_label("Name").fill("lamp soot")
        mine = dialog.get_by_label("Finish lamp soot")
        mine.get_by_label("lamp soot, roughness in per cent").fill("97")
        mine.get_by_label("lamp soot, roughness in per cent").press("Enter")
        dialog.get_by_role("button", name="Keep", exact=True).click()
        dialog.wait_for(state="detached")
        row.get_by_role("button", name="lamp soot").click()
        page.get_by_label("Apply lamp soot").get_by_text("97 %").wait_for()
        self.project.refresh_from_db()
        self.assertEqual(self.project.finishes[0]["values"]["roughness"], 0.97)

    def test_another_layout_takes_the_bays_that_are_there(self) -> None:
        page = self.open_tin(texture_recipe(metallic=[{"value": 1, "mask": "emblem.A"}]))
        page.get_by_role("combobox", name="Layout").click()
        page.get_by_role("option", name="metallic · roughness · coat").click()
        self.wait_for_step("texture", layout="mrc")
        self.comes_to(lambda: self.step("texture")["in"], {"r": "metallic", "g": "roughness", "b": "coat"})
        self.assertEqual(self.layers("metallic"), [{"value": 1, "mask": "emblem.A"}])
        page.get_by_label("Bay coat").wait_for()

    def test_the_object_is_turned_lit_and_compared(self) -> None:
        page = self.open_tin(texture_recipe())
        figure = page.get_by_role("img", name="Lit object")
        first = self.wait_for_lit()
        box = figure.bounding_box()
        assert box
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] / 2 + 60, box["y"] + box["height"] / 2, steps=6)

        def size() -> int:
            return int(figure.get_attribute("data-size") or 0)

        self.wait_for_page(page, lambda: 0 < size() <= 320, "half size while it is dragged", 30)
        page.mouse.up()
        self.comes_to(lambda: figure.get_attribute("data-turn"), "30.0 8.0")
        self.wait_for_page(page, lambda: size() > 400, "full size", 30)
        figure.focus()
        figure.press("ArrowLeft")
        self.comes_to(lambda: figure.get_attribute("data-turn"), "25.0 8.0")
        page.get_by_role("button", name="sphere").click()
        key = page.get_by_role("slider", name="Warm light")
        dark = self.wait_for_lit(first, 0.25, 0.5)
        spot = key.bounding_box()
        assert spot
        page.mouse.move(spot["x"] + 6, spot["y"] + 6)
        page.mouse.down()
        page.mouse.move(spot["x"] - 12, spot["y"] + 30, steps=5)
        page.mouse.up()
        self.wait_for_lit(dark, 0.25, 0.5)

        page.get_by_role("button", name="Keep as before").click()
        self.type_in("Base of metallic in per cent", "100")
        self.wait_for_page(
            page,
            lambda: (
                bool(self.lit_pixel(0.5, 0.3)) and self.lit_pixel(0.5, 0.3) != self.lit_pixel(0.5, 0.3, "lit-before")
            ),
            "before and now differ",
        )
        line = page.get_by_role("slider", name="Line between before and now")
        line.focus()
        line.press("ArrowRight")
        self.comes_to(lambda: line.get_attribute("aria-valuenow"), "52")
        page.get_by_role("button", name="Let go").click()
        line.wait_for(state="detached")

    def test_what_smaller_levels_and_blocks_lose_is_shown_and_counted(self) -> None:
        page = self.open_tin(texture_recipe(metallic=[{"value": 1, "mask": "emblem.A"}]))
        page.get_by_role("button", name="Mips").click()
        page.get_by_label("Mip level").get_by_role("button", name="4").click()
        losses = page.get_by_label("Losses")
        losses.get_by_text("What mip level 4 loses").wait_for()
        cover = emblem()[..., 3] / 255
        means = np.kron(cover.reshape(4, 16, 4, 16).mean((1, 3)), np.ones((16, 16)))
        wanted = f"{np.abs(means - cover).max() * 255:.2f}"
        losses.get_by_role("row").nth(3).get_by_role("cell", name=wanted).wait_for()
        page.get_by_role("button", name="Difference").click()
        page.get_by_role("button", name="Blocks 4×4").click()
        losses.get_by_text("What blocks of 4×4 lose").wait_for()
        losses.get_by_text("dB").first.wait_for()
        page.get_by_role("button", name="Bays + object").click()
        self.wait_for_lit()

    def test_channel_files_go_out_and_come_back(self) -> None:
        page = self.open_tin(texture_recipe(), "template")
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="New deliverable").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Format").click()
        page.get_by_role("option", name="png").click()
        dialog.get_by_role("button", name="each in a file of its own").click()
        dialog.get_by_role("button", name="Render", exact=True).click()
        archive = self.downloaded("template.zip")
        with zipfile.ZipFile(archive) as files:
            content = {name: files.read(name) for name in files.namelist()}
        self.assertEqual([*content], ["template.R.png", "template.G.png", "template.B.png", "template.channels.json"])
        self.assertEqual(json.loads(content["template.channels.json"])["channels"][1]["type"], "uint16")
        green = cv2.imdecode(np.frombuffer(content["template.G.png"], np.uint8), cv2.IMREAD_UNCHANGED)
        np.testing.assert_array_equal(green, template()[..., 1])

        page.get_by_label("Benches").get_by_role("button", name="Packing").click()
        content["rough.png"] = content.pop("template.G.png")
        files = [{"name": name, "mimeType": "", "buffer": data} for name, data in content.items()]
        page.locator('input[type="file"]').first.set_input_files(files)
        page.get_by_text("channel G came as rough.png, it was template.G.png").wait_for()
        self.wait_for(lambda: "template_2" in self.recipe()["sources"])
        kept = self.shot.sources.exclude(files="template.png").get(files__startswith="template")
        back = cv2.imread(str(Path(kept.original.path)), cv2.IMREAD_UNCHANGED)[..., ::-1]
        np.testing.assert_array_equal(back, template())

        content.pop("rough.png")
        files = [{"name": name, "mimeType": "", "buffer": data} for name, data in content.items()]
        page.locator('input[type="file"]').first.set_input_files(files)
        page.get_by_role("alert").get_by_text("template.G.png (channel G)").wait_for()

    def test_a_template_read_as_colour_is_told_and_mended(self) -> None:
        recipe = texture_recipe(roughness=[{"from": "template.G"}])
        recipe["sources"] = SOURCES | {"template": {"files": "template.png"}}
        page = self.open_tin(recipe, "roughness")
        page.get_by_text("template.G is read as sRGB-encoded colour").wait_for()
        page.get_by_role("button", name="Read template as data").click()
        self.wait_for(lambda: self.recipe()["sources"]["template"].get("colour") == "data")
        page.get_by_text("is read as sRGB-encoded").wait_for(state="detached")

    def test_somebody_who_may_only_look_changes_nothing(self) -> None:
        page = self.open_tin(texture_recipe(roughness=[{"from": "template.G"}]))
        self.project.memberships.update(role=Role.VIEWER)
        page.reload()
        page.get_by_label("Bay roughness").wait_for()
        self.comes_to(lambda: page.get_by_label("Base of roughness in per cent").is_disabled(), True)
        self.assertEqual(page.get_by_label(re.compile(r"Lay a value into roughness by a mask: \+ \d+ %")).count(), 0)
        self.comes_to(lambda: page.get_by_label("Finishes").get_by_role("button", name="wax").is_disabled(), True)
        self.assertEqual(page.get_by_role("button", name="Deliver this texture").count(), 0)
        self.wait_for_lit()
        page.get_by_label("Proof", exact=True).get_by_text("all values as meant").wait_for()
