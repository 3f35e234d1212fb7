"""Renders put together in the browser: a prism from three files, layers as pictures, warnings with remedies."""

from __future__ import annotations

from typing import Any

import numpy as np
from browser_support import HEIGHT, WIDTH, BrowserTest, code
from playwright.sync_api import Locator
from server_support import exr_bytes

DISPLAY = (0, 0, WIDTH, HEIGHT)
LEVELS = {"low": 0.2, "middle": 0.4, "high": 0.8}


def flat(level: float, width: int = WIDTH, height: int = HEIGHT) -> dict[str, np.ndarray]:
    """R, G and B of one level, each a little brighter than the one before."""
    return {name: np.full((height, width), level * (1 + 0.1 * i), np.float16) for i, name in enumerate("RGB")}


def soft() -> np.ndarray:
    """An alpha that rises across the middle of the picture."""
    x = np.linspace(0, 1, WIDTH, dtype=np.float32)[None] * np.ones((HEIGHT, 1), np.float32)
    return np.clip(3 * x - 1, 0, 1).astype(np.float16)


class AssemblyTest(BrowserTest):
    def bench(self) -> Locator:
        return self.page.get_by_label("Bench")

    def warnings(self) -> Locator:
        return self.bench().get_by_role("list", name="Warnings")

    def open_made(self, sources: list[str], files: dict[str, bytes], steps: list[dict[str, Any]], item: str) -> None:
        recipe = {"nexal": 1, "sources": {n: {"files": f"{n}.exr"} for n in sources}, "steps": steps}
        self.shot = self.make_shot("130 assembly", recipe, files)
        self.open_shot(query=f"?item={item}&bench=passes")


class Prism(AssemblyTest):
    def test_three_renders_feed_one_channel_each_and_the_alpha_comes_from_a_fourth(self) -> None:
        page = self.page
        files = {}
        for index, (name, level) in enumerate(LEVELS.items()):
            # Each render has a data window of its own.
            window = (8 * index, 4 * index, WIDTH - 16 * index, HEIGHT - 8 * index)
            files[f"{name}.exr"] = exr_bytes(flat(level, window[2], window[3]), display=DISPLAY, data=window)
        files["cover.exr"] = exr_bytes({"A": np.ones((HEIGHT, WIDTH), np.float16)})
        self.open_made([*LEVELS, "cover"], files, [], "low")
        self.add_step(page, "assemble channels")
        self.wait_for_step("route")
        for channel, address in (("G", "middle.G"), ("B", "high.B"), ("A", "cover.A")):
            self.bench().get_by_label("Name of a new channel").fill(channel)
            page.keyboard.press("Enter")
            self.wait_for(lambda c=channel: c in self.step("route")["set"]["to"])
            self.bench().get_by_role("button", name=f"{channel} is fed from").click()
            page.get_by_label(f"Find an address for {channel}").fill(address)
            page.keyboard.press("Enter")
            self.wait_for(lambda c=channel, a=address: self.step("route")["set"]["to"].get(c) == {"from": a})
        wanted = [code(0.2), code(0.4 * 1.1), code(0.8 * 1.2)]
        self.assert_pixel(page, WIDTH / 2, HEIGHT / 2, wanted)
        # Where the third render has no data, its channel is 0.
        self.assert_pixel(page, 4, HEIGHT / 2, [code(0.2), 0, 0])
        self.warnings().get_by_text("Data windows differ: low").wait_for()
        self.warnings().get_by_text("high 288 x 164 at 16, 8").wait_for()
        # Nothing is to be put right; the help is all that is offered.
        self.assertEqual(self.warnings().locator("button:not([aria-label^='About this'])").count(), 0)

    def test_passes_in_files_of_their_own_are_added_up(self) -> None:
        files = {f"{name}.exr": exr_bytes(flat(level)) for name, level in LEVELS.items()}
        self.open_made(list(LEVELS), files, [], "low")
        self.page.get_by_label("Desk").get_by_role("button", name="Add up 3 pictures").click()
        self.wait_for_step("rebuilt")
        self.comes_to(lambda: self.step("rebuilt")["in"]["passes"], list(LEVELS))
        total = sum(LEVELS.values())
        self.assert_pixel(self.page, 50, 50, [code(min(1, total * (1 + 0.1 * i))) for i in range(3)])


class Layers(AssemblyTest):
    def setUp(self) -> None:
        super().setUp()
        ids = np.ones((HEIGHT, WIDTH), np.uint32)
        ids[:, WIDTH // 2 :] = 70_000_001
        ids[: HEIGHT // 2] = 0
        normal = {axis: np.full((HEIGHT, WIDTH), v, np.float16) for axis, v in zip("XYZ", (0.6, 0, -0.8), strict=True)}
        planes = flat(0.3) | {f"key.{n}": p for n, p in flat(0.6).items()} | {"id.object": ids}
        planes |= {f"normal.{axis}": plane for axis, plane in normal.items()}
        self.open_made(["render"], {"render.exr": exr_bytes(planes)}, [], "render")

    def wall(self) -> Locator:
        return self.page.get_by_label("Channels", exact=True)

    def find(self, text: str) -> None:
        self.page.get_by_label("Filter channels or roles").fill(text)

    def test_a_layer_is_one_tile_and_its_channels_are_further_ones(self) -> None:
        page = self.page
        self.find("key")
        tile = self.wall().get_by_role("img", name="Channels render.key, R G B")
        tile.click()
        self.assert_pixel(page, 50, 50, [code(0.6), code(0.66), code(0.72)])
        tile.click()
        self.assert_pixel(page, 50, 50, [code(0.3), code(0.33), code(0.36)])

    def test_normals_are_a_colour_from_minus_one_to_one(self) -> None:
        self.find("normal")
        self.wall().get_by_role("img", name="Channels render.normal, X Y Z").click()
        self.assert_pixel(self.page, 50, 50, [round(0.8 * 255), 128, round(0.1 * 255)])

    def test_ids_are_distinct_colours_with_the_numbers_in_the_probe(self) -> None:
        page = self.page
        self.find("id")
        self.wall().get_by_role("img", name="Channel render.id.object").click()
        # Nothing is dark, and the two others are far from it and from each other.
        self.assert_pixel(page, 50, 20, [15, 15, 15])
        one, two = (self.pixel(page, x, HEIGHT - 20)[:3] for x in (40, WIDTH - 40))
        self.assertGreater(max(abs(a - b) for a, b in zip(one, two, strict=True)), 40)
        self.assertGreater(min(max(one), max(two)), 100)
        page.mouse.move(*self.spot(page, WIDTH - 40, HEIGHT - 20))
        page.get_by_test_id("probe").get_by_text("id.object 70000001").wait_for()

    def test_a_lone_channel_in_its_own_colour(self) -> None:
        page = self.page
        self.assert_pixel(page, 50, 50, [code(0.3), code(0.33), code(0.36)])
        page.keyboard.press("1")
        self.assert_pixel(page, 50, 50, [code(0.3)] * 3)
        page.get_by_role("combobox", name="Lone channel").click()
        page.get_by_role("option", name="in its colour").click()
        self.wait_for_page(page, lambda: self.pixel(page, 50, 50)[1] < code(0.3) // 2)
        self.assertAlmostEqual(self.pixel(page, 50, 50)[0], code(0.3), delta=2)
        page.keyboard.press("0")
        page.get_by_role("combobox", name="Backdrop").wait_for()


class Remedies(AssemblyTest):
    def test_passes_with_an_alpha_each_become_a_sum_with_one(self) -> None:
        page = self.page
        alpha = soft()
        passes = {
            name: exr_bytes({c: (alpha * np.float16(level)).astype(np.float16) for c in "RGB"} | {"A": alpha})
            for name, level in (("rim.exr", 0.25), ("fill.exr", 0.5))
        }
        added = {"name": "added", "op": "stack", "in": {"under": "rim", "over": "fill"}, "set": {"mode": "plus"}}
        self.open_made(["rim", "fill"], passes, [added], "added")
        self.warnings().get_by_text("each with its own alpha").wait_for()
        self.warnings().get_by_role("button", name="Add them as light, one alpha at the end").click()
        self.wait_for(lambda: self.step("added")["op"] == "sum_passes")
        self.comes_to(lambda: self.step("added")["in"], {"passes": ["rim", "fill"], "alpha_from": "rim.A"})
        page.get_by_role("combobox", name="Backdrop").click()
        page.get_by_role("option", name="white").click()
        # In the middle of the edge: light of 0.75 at half coverage, half of the white behind it.
        self.assert_pixel(page, WIDTH / 2, 50, [code(0.375 + 0.5)] * 3, near=3)
        self.warnings().get_by_text("each with its own alpha").wait_for(state="detached")

    def test_a_smaller_picture_is_scaled_to_fit(self) -> None:
        page = self.page
        files = {
            "house.exr": exr_bytes(flat(0.1)),
            "half.exr": exr_bytes(flat(0.5, WIDTH // 2, HEIGHT // 2) | {"A": np.ones((90, 160), np.float16)}),
        }
        stack = {"name": "over_house", "op": "stack", "in": {"under": "house", "over": "half"}}
        self.open_made(["house", "half"], files, [stack], "over_house")
        self.assert_pixel(page, WIDTH - 30, HEIGHT - 30, [code(0.1), code(0.11), code(0.12)])
        self.warnings().get_by_text("Sizes differ: house is 320 x 180, half is 160 x 90").wait_for()
        self.warnings().get_by_role("button", name="Scale half to fit").click()
        self.wait_for_step("half_scaled", scale=2)
        self.wait_for(lambda: self.step("over_house")["in"]["over"] == "half_scaled")
        self.assert_pixel(page, WIDTH - 30, HEIGHT - 30, [code(0.5), code(0.55), code(0.6)])
        self.comes_to(lambda: self.recipe()["steps"][0]["name"], "half_scaled")


class Delivered(AssemblyTest):
    def test_a_position_pass_from_another_file_goes_out_with_the_render_bit_by_bit(self) -> None:
        where = {
            f"position.{axis}": np.random.default_rng(index).standard_normal((HEIGHT, WIDTH)).astype(np.float32)
            for index, axis in enumerate("XYZ")
        }
        to = {name: {"from": f"where.{name}"} for name in where}
        route = {"name": "whole", "op": "route", "in": {"base": "render"}, "set": {"to": to}}
        files = {"render.exr": exr_bytes(flat(0.4)), "where.exr": exr_bytes(where)}
        self.open_made(["render", "where"], files, [route], "whole")
        path = self.delivered("whole.exr")
        import OpenEXR

        with OpenEXR.File(str(path), separate_channels=True) as file:
            got = {name: channel.pixels for name, channel in file.channels().items()}
        for name, plane in (flat(0.4) | where).items():
            self.assertEqual((got[name].dtype, got[name].tobytes()), (plane.dtype, plane.tobytes()), name)
