"""The Edges bench: a matted pair joined, diagnosed, cured, compared over four backdrops, and delivered."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import cv2
import numpy as np
from browser_support import HEIGHT, WIDTH, BrowserTest, code
from playwright.sync_api import Locator
from server_support import exr_bytes

from nexal.kernels.pointmath import decode, encode

GREY = 0.5
"""Backing of the pair, in the encoded values in which it was mixed."""


def soft() -> np.ndarray:
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH]
    return np.clip((80 - np.hypot(x - WIDTH / 2, y - HEIGHT / 2)) / 40, 0, 1)


def straight() -> np.ndarray:
    """Encoded colour: orange with a texture of blocks."""
    blocks = np.kron(np.random.default_rng(4).random((HEIGHT // 10, WIDTH // 10)), np.ones((10, 10)))
    return np.stack([0.7 + 0.2 * blocks, 0.4 + 0.2 * blocks, 0.1 + 0.1 * blocks], axis=-1)


def codes(values: np.ndarray) -> np.ndarray:
    return np.floor(np.clip(values, 0, 1) * 255 + 0.5).astype(np.uint8)


def png(pixels: np.ndarray) -> bytes:
    return cv2.imencode(".png", pixels[..., ::-1] if pixels.ndim == 3 else pixels)[1].tobytes()


class EdgesTest(BrowserTest):
    def bench(self) -> Locator:
        return self.page.get_by_label("Bench")

    def verdict(self) -> Locator:
        return self.page.get_by_test_id("verdict")

    def open_with(self, recipe: dict[str, Any], files: dict[str, bytes], item: str) -> None:
        self.shot = self.make_shot("140 pods", {"nexal": 1, **recipe}, files)
        self.open_shot(query=f"?item={item}&bench=edges")


class Pair(EdgesTest):
    def setUp(self) -> None:
        super().setUp()
        a = soft()[..., None]
        files = {"picture.png": png(codes(straight() * a + GREY * (1 - a))), "alpha.png": png(codes(soft()))}
        sources = {"picture": {"files": "picture.png"}, "cover": {"files": "alpha.png", "colour": "data"}}
        self.open_with({"sources": sources}, files, "picture")

    def four(self, index: int) -> str:
        return f"four-{index}" if index else "main"

    def quarter(self, x: float, y: float, index: int) -> list[int]:
        return self.pixel(self.page, x, y, self.four(index))[:3]

    def told_matted(self) -> None:
        self.bench().get_by_text("No alpha", exact=True).wait_for()
        self.bench().get_by_role("button", name="Its alpha is fed from").click()
        self.page.get_by_label("Find an address for Its alpha").fill("cover")
        self.page.keyboard.press("Enter")
        self.verdict().get_by_text("Matted with").wait_for()
        self.verdict().get_by_text("mixed in encoded values").wait_for()

    def cure(self) -> None:
        self.told_matted()
        self.bench().get_by_role("button", name="Clear the backing out of the soft edge").click()
        self.wait_for_step("cleared")
        self.page.locator('[data-item="cleared"][aria-current="true"]').wait_for()

    def test_joined_diagnosed_cured_and_delivered(self) -> None:
        page = self.page
        self.cure()
        step = self.step("cleared")
        self.comes_to(lambda: (self.step("joined")["op"], step["set"]["encoding"]), ("attach_alpha", "display"))
        np.testing.assert_allclose(step["set"]["colour"], [GREY] * 3, atol=0.01)
        self.verdict().get_by_text("Straight").wait_for()
        # Far outside there is only the backdrop; in the middle of the disc only the picture.
        inside = codes(straight())[HEIGHT // 2, WIDTH // 2].tolist()
        for index, outside in ((0, 0), (1, 255), (2, 128)):
            self.wait_for_page(page, lambda i=index, o=outside: abs(self.quarter(10, 10, i)[0] - o) < 3)
            got = self.quarter(WIDTH / 2 + 1, HEIGHT / 2 + 1, index)
            self.assertLess(max(abs(a - b) for a, b in zip(got, inside, strict=True)), 12)
        # Half way out over white: the true comp, not one with the grey of the backing.
        x, y = WIDTH // 2 + 60, HEIGHT // 2
        a = float(soft()[y, x])
        true = [code(decode(np.float32(v)) * a + (1 - a)) for v in straight()[y, x]]
        self.assertLess(max(abs(p - q) for p, q in zip(self.quarter(x, y, 1), true, strict=True)), 10)
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        for name, suffix, state in (("png", ".png", "straight"), ("exr", ".exr", "premultiplied")):
            page.get_by_role("button", name="New deliverable").click()
            dialog = page.get_by_role("dialog")
            dialog.get_by_role("combobox", name="Format").click()
            page.get_by_role("option", name=name.upper()).click()
            dialog.get_by_role("button", name="Render", exact=True).click()
            path = self.downloaded(f"cleared{suffix}")
            self.assert_delivered(path, state)

    def assert_delivered(self, path: Path, state: str) -> None:
        seen = soft() > 0.5
        if state == "straight":
            pixels = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[..., [2, 1, 0, 3]] / 255
            colour, alpha = pixels[..., :3], pixels[..., 3]
        else:
            import OpenEXR

            with OpenEXR.File(str(path), separate_channels=True) as file:
                planes = {name: channel.pixels.astype(np.float32) for name, channel in file.channels().items()}
            alpha = planes["A"]
            colour = np.stack([planes[n] / np.maximum(alpha, 1e-3) for n in "RGB"], axis=-1)
            colour = encode(colour.astype(np.float32))
        self.assertLess(float(np.abs(alpha - soft()).max()), 0.005)
        self.assertLess(float(np.abs(colour - straight())[seen].max()), 0.02)

    def test_a_cure_is_laid_once_however_often_it_is_clicked(self) -> None:
        self.told_matted()
        cure = self.bench().get_by_role("button", name="Clear the backing out of the soft edge")
        cure.dblclick()
        self.wait_for_step("cleared")
        self.verdict().get_by_text("Straight").wait_for()
        self.comes_to(lambda: [step["name"] for step in self.recipe()["steps"]], ["joined", "cleared"])

    def test_the_fringe_is_seen_before_and_gone_after(self) -> None:
        page = self.page
        self.cure()
        self.choose_item(page, "joined")
        self.verdict().get_by_text("Matted with").wait_for()
        self.bench().get_by_text("which is not so").wait_for()
        self.bench().get_by_role("button", name="Fringe").click()
        at = (WIDTH / 2 + 60, HEIGHT / 2)

        def spread() -> int:
            got = self.pixel(page, *at, "fringe")[:3] if self.pane(page, "fringe").count() else [0]
            return max(got) - min(got)

        self.wait_for_page(page, lambda: spread() > 40)
        self.choose_item(page, "cleared")
        self.verdict().get_by_text("Straight").wait_for()
        self.bench().get_by_role("button", name="Fringe").click()
        self.wait_for_page(page, lambda: self.pane(page, "fringe").count() == 1 and spread() == 0)

    def test_before_and_after_in_every_pane_by_split_and_blink(self) -> None:
        page = self.page
        self.cure()
        right, left = (WIDTH // 2 + 60, HEIGHT // 2), (WIDTH // 2 - 60, HEIGHT // 2)
        # Over black: the colour of the true comp, and that of the file with its backing still in it.
        true, matted = ([0] * 3 for _ in range(2))
        for (x, y), place in ((left, true), (right, matted)):
            a, f = float(soft()[y, x]), straight()[y, x]
            stored = f if place is true else f * a + GREY * (1 - a)
            place[:] = [code(decode(np.float32(v)) * a) for v in stored]
        self.choose_item(page, "joined")
        self.verdict().get_by_text("Matted with").wait_for()
        page.keyboard.press("p")
        self.choose_item(page, "cleared")
        self.verdict().get_by_text("Straight").wait_for()
        self.assert_pixel(page, *left, true, near=9)
        self.assert_pixel(page, *right, matted, near=9)
        page.keyboard.press("j")
        seen: set[int] = set()

        def both() -> bool:
            seen.add(self.pixel(page, *right)[0])
            return max(seen) - min(seen) > 15

        self.wait_for_page(page, both)

    def drawn(self, curve: Locator) -> str | None:
        """A curve once the last answer that was waited for has come: it stays as it is for a while."""
        seen: list[str | None] = []

        def stays() -> bool:
            seen.append(curve.get_attribute("d"))
            return len(seen) > 12 and len({*seen[-12:]}) == 1

        self.wait_for_page(self.page, stays, "the curve comes to rest")
        return seen[-1]

    def test_a_line_across_the_edge_is_drawn_kept_and_dragged(self) -> None:
        page = self.page
        self.cure()
        self.bench().get_by_role("button", name="Draw a line").click()
        page.mouse.move(*self.spot(page, WIDTH / 2 + 20, HEIGHT / 2))
        page.mouse.down()
        page.mouse.move(*self.spot(page, WIDTH / 2 + 90, HEIGHT / 2), steps=4)
        page.mouse.up()
        after = self.bench().locator('[data-curve="cleared.a"]')
        after.wait_for()
        self.wait_for_count(self.bench().locator('[data-curve^="joined"]'), 4)
        first = self.drawn(after)
        page.reload()
        after.wait_for()
        self.wait_for_page(page, lambda: after.get_attribute("d") == first)
        page.mouse.move(*self.spot(page, WIDTH / 2 + 90, HEIGHT / 2))
        page.mouse.down()
        page.mouse.move(*self.spot(page, WIDTH / 2 + 90, HEIGHT / 2 + 60), steps=4)
        page.mouse.up()
        self.wait_for_page(page, lambda: after.get_attribute("d") != first)
        self.bench().get_by_role("button", name="Profile over black").click()
        self.bench().get_by_role("button", name="Remove", exact=True).click()
        self.bench().get_by_role("button", name="Draw a line").wait_for()


class Odd(EdgesTest):
    def test_an_alpha_alone_is_no_picture_to_diagnose(self) -> None:
        files = {"cover.exr": exr_bytes({"A": soft().astype(np.float16)})}
        self.open_with({"sources": {"cover": {"files": "cover.exr"}}}, files, "cover")
        self.bench().get_by_text("Choose a picture").wait_for()
        self.assertEqual(self.bench().get_by_label("Edge profile").count(), 0)
        self.assertEqual(self.page.get_by_role("alert").count(), 0)


class Comp(EdgesTest):
    def test_a_placed_picture_is_dragged_on_the_stage(self) -> None:
        page = self.page
        level = {n: np.full((60, 80), 0.5, np.float16) for n in "RGB"} | {"A": np.ones((60, 80), np.float16)}
        house = {n: np.full((HEIGHT, WIDTH), 0.1, np.float16) for n in "RGB"}
        files = {"card.exr": exr_bytes(level), "house.exr": exr_bytes(house)}
        steps = [
            {"name": "put", "op": "place", "in": {"picture": "card"}, "set": {"x": 20, "y": 20}},
            {"name": "comp", "op": "stack", "in": {"under": "house", "over": "put"}},
        ]
        sources = {"card": {"files": "card.exr"}, "house": {"files": "house.exr"}}
        self.open_with({"sources": sources, "steps": steps}, files, "comp")
        page.get_by_role("button", name="Four", exact=True).click()
        self.assert_pixel(page, 60, 50, [code(0.5)] * 3)
        page.mouse.move(*self.spot(page, 60, 50))
        page.mouse.down()
        page.mouse.move(*self.spot(page, 160, 90), steps=6)
        page.mouse.up()
        self.wait_for_step("put", x=120, y=60)
        self.assert_pixel(page, 160, 90, [code(0.5)] * 3)
        self.assert_pixel(page, 60, 50, [code(0.1)] * 3)

    def test_a_picture_that_is_not_what_it_says_is_told_where_it_is_stacked(self) -> None:
        a = soft()
        linear = decode(straight().astype(np.float32))
        planes = {n: (linear[..., i] * a + 0.3 * (1 - a)).astype(np.float32) for i, n in enumerate("RGB")}
        house = {n: np.full((HEIGHT, WIDTH), 0.1, np.float16) for n in "RGB"}
        files = {"pod.exr": exr_bytes(planes | {"A": a.astype(np.float32)}), "house.exr": exr_bytes(house)}
        stack = {"name": "comp", "op": "stack", "in": {"under": "house", "over": "pod"}}
        sources = {"pod": {"files": "pod.exr"}, "house": {"files": "house.exr"}}
        self.open_with({"sources": sources, "steps": [stack]}, files, "comp")
        warnings = self.bench().get_by_role("list", name="Warnings")
        warnings.get_by_text("pod is matted with a colour, and is laid in as premultiplied").wait_for()
        warnings.get_by_role("button", name="Clear the backing").click()
        self.wait_for(lambda: self.step("comp")["in"]["over"] == "cleared")
        # Outside the pod the house is clean again.
        self.page.get_by_role("button", name="Four", exact=True).click()
        self.assert_pixel(self.page, 10, 10, [code(0.1)] * 3)
