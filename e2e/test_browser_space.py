"""The Space bench: what there is, handles on the elevation, picks on the stage, ids, warnings."""

from __future__ import annotations

from typing import Any

import numpy as np
from browser_support import HEIGHT, WIDTH, BrowserTest
from playwright.sync_api import Page, Route
from server_support import exr_bytes

from demo.night.naming import hashed_names, hashed_value

NEAR, FAR = 2.0, 8.0
FOCAL = 200.0


def render(*, data: tuple[str, ...] = ("depth", "position", "things00")) -> bytes:
    """A wall at 8 with a square at 2 before its left half; outside of the picture's lower third nothing covers."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH]
    square = (x > 40) & (x < 140) & (y > 30) & (y < 100)
    there = y < 120
    depth = np.where(square, NEAR, np.where(there, FAR, 1e10)).astype(np.float32)
    colour = np.where(square, 0.6, np.where(there, 0.2, 0.0)).astype(np.float16)
    planes = dict.fromkeys("RGB", colour) | {"A": there.astype(np.float16), "depth.Z": depth}
    place = {"X": (x - 159.5) * depth / FOCAL, "Y": (89.5 - y) * depth / FOCAL, "Z": depth}
    planes |= {f"position.{axis}": np.where(there, plane, 0).astype(np.float32) for axis, plane in place.items()}
    numbers = np.where(square, hashed_value("square"), np.where(there, hashed_value("wall"), 0))
    planes |= {"things00.R": numbers.astype(np.float32), "things00.G": there.astype(np.float32)}
    planes |= {"things00.B": np.zeros_like(depth), "things00.A": np.zeros_like(depth)}
    names = hashed_names("things", ("square", "wall"))
    # The eye is where the world begins and looks along z, y upwards.
    to_screen = [[FOCAL / WIDTH, 0, 0, 0], [0, -FOCAL / HEIGHT, 0, 0], [0.5, 0.5, 1, 1], [0, 0, -0.05, 0]]
    camera = {"worldToCamera": np.eye(4, dtype=np.float32), "worldToNDC": np.array(to_screen, np.float32)}
    kept = {name: plane for name, plane in planes.items() if name.split(".")[0] in (*"RGBA", *data)}
    return exr_bytes(kept, header=names | camera)


class Space(BrowserTest):
    def open_space(self, item: str = "scene", steps: list[Any] | None = None, content: bytes | None = None) -> Page:
        recipe = {"nexal": 1, "sources": {"scene": {"files": "scene.exr"}}, "steps": steps or []}
        self.shot = self.make_shot("110 space", recipe, {"scene.exr": content or render()})
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
        self.comes_to(lambda: self.step("slice")["in"], {"depth": "scene.depth.Z", "coverage": "scene.A"})
        # Where nothing is, nothing is taken, and that is said.
        picks.get_by_role("button", name="Farthest here").click()
        self.click_picture(160, 170)
        picks.get_by_text("there is nothing at that place").wait_for()
        self.comes_to(lambda: self.step("slice")["set"]["far"], FAR)
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
        # A double click is one.
        page.get_by_role("group", name="Make of it").get_by_role("button", name="Defocus").dblclick()
        page.get_by_role("group", name="On the stage").get_by_role("button", name="Sharp here").click()
        self.click_picture(240, 40)
        self.wait_for(lambda: self.step("defocus")["set"]["focus"] == FAR, what=str(self.recipe()))
        self.comes_to(lambda: [step["name"] for step in self.recipe()["steps"]], ["late", "defocus"])
        focus = page.get_by_label("Elevation", exact=True).get_by_role("slider", name="focus", exact=True)
        self.comes_to(lambda: focus.get_attribute("aria-valuenow"), str(int(FAR)))
        # From above, near wide, and zoomed: the plot follows.
        for name in ("from above", "near wide"):
            page.get_by_label("Elevation", exact=True).get_by_role("button", name=name).click()
        box = page.get_by_test_id("density").bounding_box()
        assert box
        page.mouse.move(box["x"] + 90, box["y"] + 60)
        page.mouse.wheel(0, -300)
        page.get_by_label("Elevation", exact=True).get_by_role("button", name="all", exact=True).click()

    def test_a_warning_moves_nothing_under_the_hand(self) -> None:
        fog = {"name": "late", "op": "fog", "in": {"picture": "scene", "depth": "scene.depth.Z"}, "set": {"start": 90}}
        held: list[Route] = []
        self.page.route("**/checks", lambda route: held.append(route))
        page = self.open_space("late", [fog])
        density = page.get_by_label("Step", exact=True).get_by_label("Density value", exact=True)
        density.wait_for()
        # What the scene is stands above, once it is known.
        page.get_by_role("group", name="Make of it").wait_for()
        self.wait_for_page(page, lambda: len(held) == 1)
        before = density.bounding_box()
        held[0].continue_()
        page.get_by_role("button", name="From the nearest to the farthest").wait_for()
        self.assertEqual(density.bounding_box(), before)

    def test_a_remedy_takes_back_nothing_that_was_done_since(self) -> None:
        fog = {"name": "late", "op": "fog", "in": {"picture": "scene", "depth": "scene.depth.Z"}, "set": {"start": 90}}
        page = self.open_space("late", [fog])
        remedy = page.get_by_role("button", name="From the nearest to the farthest")
        remedy.wait_for()
        # What the scene is now is told late: the remedy that still stands there is of what it was.
        page.route("**/checks", lambda route: None)
        curve = page.get_by_label("Step", exact=True).get_by_label("Density value", exact=True)
        curve.fill("0.25")
        curve.press("Enter")
        remedy.click(force=True)
        self.wait_for_step("late", density=0.25)
        remedy.click(force=True)
        page.wait_for_timeout(300)
        self.assertEqual(self.step("late")["set"], {"start": 90, "density": 0.25})
        self.comes_to(lambda: remedy.is_disabled(), True)

    def test_a_remedy_is_not_offered_for_what_nobody_has_looked_at_yet(self) -> None:
        fog = {"name": "late", "op": "fog", "in": {"picture": "scene", "depth": "scene.depth.Z"}, "set": {"start": 90}}
        page = self.open_space("late", [fog])
        remedy = page.get_by_role("button", name="From the nearest to the farthest")
        self.wait_for_page(page, remedy.is_enabled)
        # Away, and back: what was changed meanwhile is looked at then.
        page.context.set_offline(True)
        density = page.get_by_label("Step", exact=True).get_by_label("Density value", exact=True)
        density.fill("0.25")
        density.press("Enter")
        self.wait_for_page(page, remedy.is_disabled)
        page.context.set_offline(False)
        self.wait_for_page(page, remedy.is_enabled)
        remedy.click()
        self.wait_for_step("late", start=NEAR, end=FAR, density=0.25)

    def drag(self, label: str, x: float, y: float, *keys: str) -> None:
        """Takes hold of something of a shape and brings it by so many pixels of the picture."""
        page = self.page
        box = page.get_by_role("button", name=f"{label} on the picture").bounding_box()
        assert box
        at = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        (left, top), (right, bottom) = self.spot(page, 0, 0), self.spot(page, x, y)
        page.mouse.move(*at)
        page.mouse.down()
        for key in keys:
            page.keyboard.down(key)
        page.mouse.move(at[0] + right - left, at[1] + bottom - top, steps=5)
        page.mouse.up()
        for key in keys:
            page.keyboard.up(key)

    def settled(self, setting: str, wanted: list[float], within: float) -> None:
        self.wait_for(
            lambda: max(map(abs, np.subtract(self.step("ball")["set"].get(setting, [0.0] * 3), wanted))) <= within,
            what=f"{setting} {wanted}: {self.step('ball')}",
        )

    def test_a_shape_is_moved_sized_and_turned_on_the_picture_and_along_the_depth(self) -> None:
        ball = {
            "name": "ball",
            "op": "space_matte",
            "in": {"position": "scene.position", "coverage": "scene.A"},
            "set": {"centre": [0, 0, FAR], "size": [2, 1, 1], "softness": 0.0},
        }
        page = self.open_space("ball", [ball])
        self.assert_pixel(page, 200, 90, [255] * 3)
        # At 8 from the eye a unit of the world is 25 pixels.
        self.drag("radius", 25, 0)
        self.settled("size", [3, 1, 1], 0.1)
        self.assert_pixel(page, 225, 90, [255] * 3)
        self.drag("centre", 50, 20)
        self.settled("centre", [2, -0.8, FAR], 0.1)
        elevation = page.get_by_label("Elevation", exact=True)
        elevation.get_by_test_id("shape").first.wait_for(state="attached")
        along = elevation.get_by_role("slider", name="centre", exact=True)
        along.focus()
        page.keyboard.press("PageDown")
        self.wait_for(lambda: self.step("ball")["set"]["centre"][2] < FAR - 0.01, what=str(self.step("ball")))
        # It stays where it is seen.
        x, y, z = self.step("ball")["set"]["centre"]
        self.assertAlmostEqual(x / z, 0.25, delta=0.02)
        self.assertAlmostEqual(y / z, -0.1, delta=0.02)
        page.keyboard.press("Control+z")
        self.wait_for(lambda: self.step("ball")["set"]["centre"][2] == FAR)
        page.get_by_role("group", name="Shape").get_by_role("button", name="box").click()
        self.drag("turn", 25, 0)
        self.settled("rotation", [0, -10, 0], 1.5)
        self.drag("turn", 25, 0, "Shift")
        self.wait_for(lambda: abs(self.step("ball")["set"]["rotation"][2]) > 5, what=str(self.step("ball")))
        hold = page.get_by_role("button", name="height on the picture")
        hold.focus()
        before = self.step("ball")["set"]["size"][1]
        page.keyboard.press("Shift+ArrowUp")
        self.wait_for(lambda: self.step("ball")["set"]["size"][1] > before + 0.2, what=str(self.step("ball")))
        self.assertEqual(self.violations(page), [])

    def test_an_element_that_the_depth_does_not_know_is_laid_back_by_a_click(self) -> None:
        glow = {
            name: np.full((HEIGHT, WIDTH), value, np.float16)
            for name, value in zip("RGBA", (1, 1, 0, 0.5), strict=True)
        }
        glow = {name: np.where(np.arange(WIDTH) < 160, plane, 0).astype(np.float16) for name, plane in glow.items()}
        recipe = {
            "nexal": 1,
            "sources": {"scene": {"files": "scene.exr"}, "glow": {"files": "glow.exr"}},
            "steps": [
                {"name": "lit", "op": "stack", "in": {"under": "scene", "over": "glow"}},
                {"name": "lens", "op": "defocus", "in": {"picture": "lit", "depth": "scene.depth.Z"}},
            ],
        }
        self.shot = self.make_shot("110 glow", recipe, {"scene.exr": render(), "glow.exr": exr_bytes(glow)})
        page = self.open_shot(query="?item=lens&bench=space")
        page.get_by_text("scene.depth.Z knows nothing of glow").wait_for()
        page.get_by_role("button", name="Keep glow out, and lay it back on top").click()
        self.wait_for_step("lit_after")
        self.comes_to(lambda: self.step("lens")["in"], {"picture": "scene", "depth": "scene.depth.Z"})
        page.locator('[data-item="lit_after"][aria-current="true"]').wait_for()

    def test_how_depth_is_read_stands_in_the_recipe(self) -> None:
        page = self.open_space()
        page.get_by_label("Benches").get_by_role("button", name="Mattes").click()
        known = page.get_by_label("Space of the source")
        known.get_by_text("depth.Z: distance along the view, near is small").wait_for()
        self.set_choice("Depth is read", "distance, large is near")
        self.wait_for(lambda: self.recipe()["sources"]["scene"].get("depth") == "turned")
        known.get_by_text("depth.Z: distance, near is large").wait_for()
        box = known.get_by_label("Nothing is")
        box.fill("far")
        box.press("Enter")
        known.get_by_text("a number or none").wait_for()
        box.fill("8")
        box.press("Enter")
        self.wait_for(lambda: self.recipe()["sources"]["scene"].get("nothing") == FAR)
        self.assertEqual(self.violations(page), [])

    def test_depth_and_normals_are_made_of_positions(self) -> None:
        page = self.open_space(content=render(data=("position",)))
        known = page.get_by_test_id("known")
        known.get_by_text("Depth is not in the file, and follows from positions and its camera").wait_for()
        make = page.get_by_role("group", name="Make of it")
        make.get_by_role("button", name="Depth").click()
        self.wait_for_step("depth")
        self.choose_item(page, "scene")
        make.get_by_role("button", name="Slice").click()
        page.get_by_role("group", name="On the stage").get_by_role("button", name="Nearest here").click()
        self.click_picture(80, 60)
        self.wait_for(lambda: self.step("slice")["set"]["near"] == NEAR, what=str(self.recipe()))
        self.comes_to(lambda: self.step("slice")["in"]["depth"], "depth")
        self.choose_item(page, "scene")
        make.get_by_role("button", name="Normals").click()
        make.get_by_role("button", name="Light").click()
        self.wait_for_step("lamp")
        self.comes_to(lambda: self.step("lamp")["in"], {"position": "scene.position", "normals": "normals"})

    def test_a_shot_without_depth_says_so(self) -> None:
        page = self.open_shot(query="?bench=space")
        page.get_by_text("No depth, positions, normals or ids here yet", exact=False).wait_for()
        page.get_by_label("Elevation", exact=True).get_by_text("No depth here", exact=False).wait_for()
        self.assertEqual(self.violations(page), [])
