"""The Space bench: what there is, handles on the elevation, picks on the stage, ids, warnings."""

from __future__ import annotations

from typing import Any

import numpy as np
from browser_support import HEIGHT, WIDTH, BrowserTest
from playwright.sync_api import Page
from server_support import exr_bytes

from demo.night.naming import hashed_names, hashed_value

NEAR, FAR = 2.0, 8.0


def render() -> bytes:
    """A wall at 8 with a square at 2 before its left half; outside of the picture's lower third nothing covers."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH]
    square = (x > 40) & (x < 140) & (y > 30) & (y < 100)
    there = y < 120
    depth = np.where(square, NEAR, np.where(there, FAR, 1e10)).astype(np.float32)
    colour = np.where(square, 0.6, np.where(there, 0.2, 0.0)).astype(np.float16)
    planes = dict.fromkeys("RGB", colour) | {"A": there.astype(np.float16), "depth.Z": depth}
    place = {"X": (x - 160) * depth / 200, "Y": (90 - y) * depth / 200, "Z": depth}
    planes |= {f"position.{axis}": np.where(there, plane, 0).astype(np.float32) for axis, plane in place.items()}
    numbers = np.where(square, hashed_value("square"), np.where(there, hashed_value("wall"), 0))
    planes |= {"things00.R": numbers.astype(np.float32), "things00.G": there.astype(np.float32)}
    planes |= {"things00.B": np.zeros_like(depth), "things00.A": np.zeros_like(depth)}
    return exr_bytes(planes, header=hashed_names("things", ("square", "wall")))


class Space(BrowserTest):
    def open_space(self, item: str = "scene", steps: list[Any] | None = None) -> Page:
        recipe = {"nexal": 1, "sources": {"scene": {"files": "scene.exr"}}, "steps": steps or []}
        self.shot = self.make_shot("110 space", recipe, {"scene.exr": render()})
        page = self.open_shot(query=f"?item={item}&bench=space")
        page.get_by_label("Elevation", exact=True).wait_for()
        return page

    def click_picture(self, x: float, y: float, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.down(key)
        self.page.mouse.click(*self.spot(self.page, x, y))
        for key in keys:
            self.page.keyboard.up(key)

    def test_a_slice_by_two_clicks_and_by_its_handles(self) -> None:
        page = self.open_space()
        page.get_by_test_id("known").get_by_text("depth.Z: ", exact=False).first.wait_for()
        page.get_by_test_id("known").get_by_text("ids things, 2 names", exact=False).wait_for()
        page.get_by_role("group", name="Make of it").get_by_role("button", name="Slice").click()
        picks = page.get_by_role("group", name="On the stage")
        picks.get_by_role("button", name="Nearest here").click()
        self.click_picture(80, 60)
        self.wait_for(lambda: self.step("slice")["set"]["near"] == NEAR, what=str(self.recipe()))
        picks.get_by_role("button", name="Farthest here").click()
        self.click_picture(240, 60)
        self.wait_for(lambda: self.step("slice")["set"]["far"] == FAR)
        self.assertEqual(self.step("slice")["in"], {"depth": "scene.depth.Z", "coverage": "scene.A"})
        # Where nothing is, nothing is taken, and that is said.
        picks.get_by_role("button", name="Farthest here").click()
        self.click_picture(160, 170)
        picks.get_by_text("there is nothing at that place").wait_for()
        self.assertEqual(self.step("slice")["set"]["far"], FAR)
        # Handles: by keys, and dragged; near never goes behind far.
        elevation = page.get_by_label("Elevation", exact=True)
        near = elevation.get_by_role("slider", name="near", exact=True)
        near.focus()
        page.keyboard.press("PageUp")
        self.wait_for(lambda: self.step("slice")["set"]["near"] > NEAR)
        box = near.bounding_box()
        assert box
        # A click alone moves nothing.
        held = self.step("slice")["set"]["near"]
        page.mouse.click(box["x"] + 8, box["y"] + 60)
        page.mouse.move(box["x"] + 6, box["y"] + 60)
        page.mouse.down()
        self.assertEqual(self.step("slice")["set"]["near"], held)
        page.mouse.move(box["x"] + 2000, box["y"] + 60, steps=6)
        page.mouse.up()
        self.wait_for(lambda: self.step("slice")["set"]["near"] == FAR)
        page.keyboard.press("Control+z")
        self.wait_for(lambda: self.step("slice")["set"]["near"] < FAR)
        self.assertEqual(self.violations(page), [])

    def test_what_lies_under_the_pointer_and_ids_by_clicks(self) -> None:
        page = self.open_space()
        self.click_picture(80, 60)
        plumb = page.get_by_test_id("plumb")
        self.wait_for_page(page, lambda: "depth 2" in plumb.inner_text() and "square" in plumb.inner_text())
        page.get_by_role("group", name="Make of it").get_by_role("button", name="Ids").click()
        picks = page.get_by_role("group", name="On the stage")
        picks.get_by_role("button", name="Pick things").click()
        # What would be picked is outlined before the click.
        page.mouse.move(*self.spot(page, 90, 70))
        page.get_by_test_id("under").first.wait_for()
        self.click_picture(80, 60)
        self.wait_for(lambda: self.step("picked").get("set", {}).get("pick") == ["square"])
        self.click_picture(240, 60, "Shift")
        self.wait_for(lambda: self.step("picked")["set"]["pick"] == ["square", "wall"])
        self.click_picture(80, 60, "Alt")
        self.wait_for(lambda: self.step("picked")["set"]["pick"] == ["wall"])
        page.keyboard.press("Escape")
        self.assert_pixel(page, 240, 60, [255, 255, 255])
        self.assert_pixel(page, 80, 60, [0, 0, 0])
        by_name = picks.get_by_label("Pick by name")
        by_name.fill("square")
        by_name.press("Enter")
        self.wait_for(lambda: self.step("picked")["set"]["pick"] == ["wall", "square"])
        picks.get_by_role("button", name="wall ×").click()
        self.wait_for(lambda: self.step("picked")["set"]["pick"] == ["square"])

    def test_a_lens_is_focused_by_a_click_and_warnings_have_a_remedy(self) -> None:
        fog = {"name": "late", "op": "fog", "in": {"picture": "scene", "depth": "scene.depth.Z"}, "set": {"start": 90}}
        page = self.open_space("late", [fog])
        page.get_by_text("Fog begins behind all there is", exact=False).wait_for()
        page.get_by_role("button", name="From the nearest to the farthest").click()
        self.wait_for_step("late", start=NEAR, end=FAR)
        self.choose_item(page, "scene")
        page.get_by_role("group", name="Make of it").get_by_role("button", name="Defocus").click()
        page.get_by_role("group", name="On the stage").get_by_role("button", name="Sharp here").click()
        self.click_picture(240, 40)
        self.wait_for(lambda: self.step("defocus")["set"]["focus"] == FAR, what=str(self.recipe()))
        focus = page.get_by_label("Elevation", exact=True).get_by_role("slider", name="focus", exact=True)
        self.assertEqual(focus.get_attribute("aria-valuenow"), str(int(FAR)))
        # From above, near wide, and zoomed: the plot follows.
        for name in ("from above", "near wide"):
            page.get_by_label("Elevation", exact=True).get_by_role("button", name=name).click()
        box = page.get_by_test_id("density").bounding_box()
        assert box
        page.mouse.move(box["x"] + 90, box["y"] + 60)
        page.mouse.wheel(0, -300)
        page.get_by_label("Elevation", exact=True).get_by_role("button", name="all", exact=True).click()

    def test_a_shot_without_depth_says_so(self) -> None:
        page = self.open_shot(query="?bench=space")
        page.get_by_text("No depth, positions, normals or ids here yet", exact=False).wait_for()
        page.get_by_label("Elevation", exact=True).get_by_text("No depth here", exact=False).wait_for()
        self.assertEqual(self.violations(page), [])
