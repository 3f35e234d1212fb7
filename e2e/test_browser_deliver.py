"""Deliver: what is written is said before and stands there afterwards; a suffix says which format is meant."""

from __future__ import annotations

import shutil

from browser_support import RECIPE, BrowserTest, backdrop, plate
from playwright.sync_api import Locator, Page, Route
from server_support import exr_bytes

from projects.models import Shot


class Delivering(BrowserTest):
    def dialog(self, page: Page) -> Locator:
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="New deliverable").click()
        return page.get_by_role("dialog")

    def line(self, dialog: Locator) -> Locator:
        return dialog.get_by_role("status", name="What will be written")

    def test_a_suffix_that_is_typed_sets_the_format_and_its_defaults(self) -> None:
        page = self.open_shot(query="?item=cut")
        dialog = self.dialog(page)
        self.line(dialog).get_by_text("OpenEXR, half floats").wait_for()
        dialog.get_by_label("File name").fill("as_named.png")
        self.line(dialog).get_by_text(
            "PNG, 8 bit; sRGB-encoded, clipped to 0 to 1; straight alpha; R, G, B, A; 320 x 180; one file, as_named.png"
        ).wait_for()
        # Another format takes the name along, with a suffix of its own.
        dialog.get_by_role("combobox", name="Format").click()
        page.get_by_role("option", name="tiff").click()
        self.assertEqual(dialog.get_by_label("File name").input_value(), "as_named.tif")
        self.line(dialog).get_by_text("TIFF, 16 bit").wait_for()
        dialog.get_by_label("File name").fill("as_named.EXR")
        told = self.line(dialog).get_by_text("OpenEXR, half floats")
        told.wait_for()
        line = told.inner_text()
        self.assertIn("linear light; premultiplied alpha; R, G, B, A; 320 x 180; one file, as_named.EXR", line)
        dialog.get_by_role("button", name="Render", exact=True).click()
        row = page.locator("[data-written=cut]")
        row.wait_for()
        self.assertEqual(row.inner_text(), line)
        self.assertEqual(self.downloaded("as_named.EXR").read_bytes()[:4], b"\x76\x2f\x31\x01")

    def test_a_suffix_that_is_typed_before_the_formats_are_known_sets_the_format_too(self) -> None:
        waiting: list[Route] = []
        self.page.route("**/api/formats", lambda route: waiting.append(route))
        page = self.open_shot(query="?item=cut")
        dialog = self.dialog(page)
        dialog.get_by_label("File name").fill("early.png")
        self.wait_for_page(page, lambda: bool(waiting))
        for route in waiting:
            route.continue_()
        self.line(dialog).get_by_text("PNG, 8 bit").wait_for()

    def test_another_shot_begins_with_its_own_choice(self) -> None:
        page = self.open_shot(query="?item=cut")
        dialog = self.dialog(page)
        dialog.get_by_label("File name").fill("preview.png")
        self.line(dialog).get_by_text("PNG, 8 bit").wait_for()
        dialog.get_by_role("button", name="Render", exact=True).click()
        page.locator("[data-written=cut]").wait_for()
        files = {"moth.exr": exr_bytes(plate()), "house.exr": exr_bytes(backdrop())}
        other = self.make_shot("041 moth", RECIPE, files)
        self.open_shot(page, query="?item=cut", shot=other)
        self.line(self.dialog(page)).get_by_text("OpenEXR, half floats").wait_for()

    def test_what_was_delivered_and_is_not_kept_says_so(self) -> None:
        page = self.open_shot(query="?item=cut")
        dialog = self.dialog(page)
        dialog.get_by_role("button", name="Render", exact=True).click()
        deliver = page.get_by_label("Deliver", exact=True)
        deliver.get_by_text("done, rev 2").wait_for()
        self.downloaded("cut.exr")
        # As in a house that was restored: archives hold nothing that can be made again.
        shutil.rmtree(self.media / "media" / "deliveries")
        page.reload()
        deliver.get_by_text("was delivered, rev 2; not kept: render again").wait_for()
        self.wait_for_count(deliver.get_by_role("link", name="cut.exr"), 0)
        self.wait_for_count(deliver.get_by_role("link", name="Download all"), 0)
        deliver.get_by_role("button", name="Render", exact=True).click()
        deliver.get_by_text("done, rev 2").wait_for()
        self.downloaded("cut.exr")

    def test_many_equal_files_are_told_before_they_are_made(self) -> None:
        """A still over which a range was set: as many files as there are frames, of one picture."""
        Shot.objects.filter(pk=self.shot.pk).update(first_frame=1, last_frame=40, own_range=True)
        page = self.open_shot(query="?item=cut")
        dialog = self.dialog(page)
        dialog.get_by_label("File name").fill("cut.%04d.exr")
        self.line(dialog).get_by_text("40 files, cut.0001.exr to cut.0040.exr").wait_for()
        self.line(dialog).get_by_text("All 40 files will hold the same picture").wait_for()
        dialog.get_by_label("File name").fill("cut.exr")
        self.line(dialog).get_by_text("one file, cut.exr").wait_for()
        self.wait_for_count(self.line(dialog).get_by_text("the same picture"), 0)
