"""Ink by the profile of a press: brought in, chosen, told where it is not used."""

from __future__ import annotations

import io
import tempfile
from pathlib import Path

import numpy as np
from browser_support import BrowserTest, code
from ink_profiles import press, printed
from PIL import Image


def leaflet() -> bytes:
    """A CMYK TIFF of one colour that carries the profile of its press."""
    inks = np.zeros((90, 160, 4), np.uint8)
    inks[...] = (51, 102, 153, 26)
    file = io.BytesIO()
    Image.fromarray(inks, "CMYK").save(file, "TIFF", icc_profile=press("Leaflet press"))
    return file.getvalue()


SEEN = [code(value) for value in printed(np.array([51, 102, 153, 26]) / 255)]

WARM = [code(value) for value in (0.75, 0.5, 0.25)]
"""The square in the middle of the plate."""


class Inks(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def bring_in(self, name: str, data: bytes) -> str:
        (self.place / name).write_bytes(data)
        self.page.get_by_test_id("picture-files").set_input_files(self.place / name)
        item = name.partition(".")[0]
        self.wait_for_page(self.page, lambda: item in self.recipe()["sources"])
        self.choose_item(self.page, item)
        self.page.get_by_role("button", name=f"Channel {item}.K").wait_for()
        return item

    def test_a_picture_is_separated_for_a_press_and_comes_back(self) -> None:
        page = self.open_shot()
        self.bring_in("press.icc", press())
        page.get_by_label("Source", exact=True).get_by_text("Night press").first.wait_for()
        self.choose_item(page, "moth")
        self.assert_pixel(page, 160, 90, WARM)
        self.add_step(page, "separations")
        self.wait_for_step("ink_split")
        step = page.get_by_label("Step", exact=True)
        step.get_by_text("black takes over all grey").wait_for()
        step.get_by_role("combobox", name="Profile").click()
        page.get_by_role("option", name="press").click()
        self.wait_for_step("ink_split", profile={"from": "press"})
        step.get_by_text("Night press").wait_for()
        self.add_step(page, "RGB from CMYK")
        self.wait_for_step("ink_join")
        step.get_by_role("combobox", name="Profile").click()
        page.get_by_role("option", name="press").click()
        self.wait_for_step("ink_join", profile={"from": "press"})
        self.assert_pixel(page, 160, 90, WARM, near=6)

    def test_the_profile_that_a_picture_carries_is_offered_and_followed(self) -> None:
        page = self.open_shot()
        self.bring_in("leaflet.tif", leaflet())
        self.add_step(page, "RGB from CMYK")
        self.wait_for_step("ink_join")
        page.get_by_label("Warnings").get_by_text("Leaflet press").wait_for()
        page.get_by_role("button", name="Use its profile").click()
        self.wait_for_step("ink_join", profile={"from": "leaflet"})
        step = page.get_by_label("Step", exact=True)
        step.get_by_role("combobox", name="Intent").click()
        page.get_by_role("option", name="absolute").click()
        self.wait_for_step("ink_join", intent="absolute")
        self.assert_pixel(page, 40, 40, SEEN)
        page.get_by_text("the simple way shows other colours").wait_for(state="hidden")

    def test_what_is_no_profile_of_inks_is_told(self) -> None:
        page = self.open_shot()
        for name, data, words in (
            ("screen.icc", press(space=b"RGB "), "is a profile of RGB, not of inks"),
            ("text.icm", b"no profile at all", "is not an ICC profile"),
        ):
            (self.place / name).write_bytes(data)
            page.get_by_test_id("picture-files").set_input_files(self.place / name)
            alert = page.get_by_label("Channels").get_by_role("alert").filter(has_text=name)
            alert.get_by_text(words).first.wait_for()
            alert.get_by_role("button", name="Put away").click()
