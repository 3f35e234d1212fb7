"""People's length: long strokes, many points, sources, frames and steps, an hour of work; and what guards the page."""

from __future__ import annotations

import base64
import math
from collections.abc import Callable
from typing import Any

import numpy as np
from browser_support import BrowserTest, plate
from django.core.files.base import ContentFile
from django.test import override_settings
from playwright.sync_api import Page
from server_support import exr_bytes

from nexal.recipe import parse_recipe
from projects.models import Shot
from recipes.services import first_revision, save
from sources.sequences import add_frame, create
from sources.services import import_file

PIXELS = """(name) => {
  const canvas = document.querySelector(`canvas[data-pane="${name}"]`);
  const { data } = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height);
  let text = "";
  for (let at = 0; at < data.length; at += 8192) text += String.fromCharCode(...data.subarray(at, at + 8192));
  return [canvas.height, canvas.width, btoa(text)];
}"""
BUSY = """() => setTimeout(() => {
  const end = performance.now() + 8000;
  while (performance.now() < end);
  window.done = true;
})"""
LIVE = 'canvas[data-pane="main"][data-strokes="live"]'


class Guard(BrowserTest):
    def test_a_page_that_computes_for_long_is_noticed(self) -> None:
        page = self.open_shot()
        page.evaluate(BUSY)
        page.wait_for_function("window.done")
        with self.assertRaisesRegex(AssertionError, "computed for .* without a break"):
            self.assert_never_frozen()

    def test_a_page_that_waits_is_not(self) -> None:
        page = self.open_shot()
        page.wait_for_timeout(900)
        self.assert_never_frozen()


class Long(BrowserTest):
    def heap(self, page: Page) -> float:
        """Megabytes of scripts that the page holds after a collection."""
        session = page.context.new_cdp_session(page)
        session.send("HeapProfiler.enable")
        session.send("HeapProfiler.collectGarbage")
        used = session.send("Runtime.getHeapUsage")["usedSize"] / 1e6
        session.detach()
        return used


class LongHand(Long):
    def stage(self, page: Page) -> np.ndarray:
        """The bytes of the stage, H x W x 4."""
        height, width, text = page.evaluate(PIXELS, "main")
        return np.frombuffer(base64.b64decode(text), np.uint8).reshape(height, width, 4).astype(np.int16)

    def wave(self, count: int) -> list[tuple[float, float]]:
        """Places of the picture along a long wave that comes back again and again."""
        return [(40 + 240 * abs(2 * ((i / 160) % 1) - 1), 90 + 60 * math.sin(i / 9)) for i in range(count)]

    def paint(self, page: Page, places: list[tuple[float, float]]) -> None:
        """Press at the first place, go by the others, and hold on."""
        for number, place in enumerate(places):
            page.mouse.move(*self.spot(page, *place))
            if not number:
                page.mouse.down()

    def processor(self, page: Page) -> Callable[[], float]:
        """Tells the seconds of processor time that the page's main thread has used."""
        session = page.context.new_cdp_session(page)
        session.send("Performance.enable")

        def spent() -> float:
            metrics = {row["name"]: row["value"] for row in session.send("Performance.getMetrics")["metrics"]}
            return metrics["ThreadTime"]

        return spent

    def set_brush(self, page: Page, **settings: float) -> None:
        for name, value in settings.items():
            field = page.get_by_label("Tools").get_by_label(f"{name.capitalize()} value", exact=True)
            field.fill(str(value))
            field.press("Enter")

    def stage_at_rest(self, page: Page) -> np.ndarray:
        """The bytes of the stage once it has stopped changing."""
        seen = [self.stage(page)]

        def rests() -> bool:
            page.wait_for_timeout(200)
            seen.append(self.stage(page))
            return bool((seen[-1] == seen[-2]).all())

        self.wait_for_page(page, rests, "the stage rests")
        return seen[-1]

    def test_what_is_seen_while_painting_is_what_is_computed(self) -> None:
        """On a matte, a matte laid over its picture, a picture, its alpha over the weave; soft, hard and half."""
        page = self.open_shot()
        for item, view, scope, brush in (
            ("matte", "matte off", None, {"radius": 24, "hardness": 0.2, "value": 1}),
            ("matte", "matte off", None, {"radius": 9, "hardness": 1, "opacity": 0.5, "value": 0}),
            ("matte", "hatch", None, {"radius": 30, "hardness": 0, "value": 0.3}),
            ("moth", "matte off", "all", {"radius": 24, "hardness": 0.4, "value": 0.18}),
            ("cut", "matte off", "alpha", {"radius": 20, "hardness": 0.1, "opacity": 0.8, "value": 0.4}),
            ("cut", "matte off", "colour", {"radius": 16, "hardness": 0.5, "value": 0.6}),
        ):
            what = f"{item}, {view}, {scope}, {brush}"
            self.choose_item(page, item)
            self.set_choice("Matte view", view)
            page.keyboard.press("t")
            if scope:
                page.get_by_role("group", name="Works on").get_by_role("button", name=scope).click()
            self.set_brush(page, **brush)
            before = self.stage_at_rest(page)
            self.paint(page, self.wave(60))
            painted = self.stage_at_rest(page)
            page.mouse.up()
            page.locator(LIVE).wait_for(state="detached")
            page.mouse.move(10, 10)
            computed = self.stage_at_rest(page)
            self.assertGreater(np.abs(painted - before).max(), 40, what)
            self.assertLessEqual(np.abs(painted - computed).max(), 4, what)
            page.keyboard.press("Escape")
            page.keyboard.press("Control+z")
            self.wait_for(lambda: not self.step("touch_up"))

    def test_a_stroke_costs_the_same_at_its_end_as_at_its_beginning(self) -> None:
        page = self.open_shot(query="?item=matte")
        page.keyboard.press("t")
        heap = self.heap(page)
        places = self.wave(1000)
        self.paint(page, places[:1])
        processor = self.processor(page)
        spent: list[float] = []
        for start in range(0, 1000, 100):
            begun = processor()
            self.paint_on(page, places[start : start + 100])
            spent.append(processor() - begun)
        page.mouse.up()
        self.wait_for(lambda: bool(self.step("touch_up")))
        page.locator(LIVE).wait_for(state="detached")
        self.assertLessEqual(spent[-1], 1.5 * spent[0], spent)
        self.assertLess(self.heap(page) - heap, 50)
        points = self.step("touch_up")["set"]["strokes"][0]["points"]
        # Points that the course does not need are left out, and what stays passes by all of them.
        self.assertLess(len(points), 900)
        line = np.array(points)[:, :2]
        for x, y in places[5:1000:37]:
            a, b = line[:-1], line[1:]
            way = b - a
            t = np.clip(((np.array([x, y]) - a) * way).sum(1) / np.maximum(1e-9, (way**2).sum(1)), 0, 1)
            # A pixel of the screen is half a pixel of this picture, and positions are kept to a tenth.
            self.assertLess(np.hypot(*(a + way * t[:, None] - (x, y)).T).min(), 0.3 + 0.5)

    def paint_on(self, page: Page, places: list[tuple[float, float]]) -> None:
        for place in places:
            page.mouse.move(*self.spot(page, *place))

    def test_strokes_in_quick_succession_stay_until_they_are_computed(self) -> None:
        """While the server holds its answers back, all of them are seen, and none comes twice."""
        page = self.open_shot(query="?item=matte")
        page.keyboard.press("t")
        self.set_brush(page, radius=6, hardness=1, opacity=0.5)
        # Nobody answers for as long as nothing is done with a request.
        page.route("**/view", lambda route: None)
        for y in (20, 40, 60):
            self.paint(page, [(40, y), (90, y)])
            page.mouse.up()
        for y in (20, 40, 60):
            self.assert_pixel(page, 60, y, [128] * 3, near=4)
        # A fourth is given up: the others stay.
        self.paint(page, [(40, 80), (90, 80)])
        self.assert_pixel(page, 60, 80, [128] * 3, near=4)
        page.keyboard.press("Escape")
        page.mouse.up()
        for y, wanted in ((20, 128), (40, 128), (60, 128), (80, 0)):
            self.assert_pixel(page, 60, y, [wanted] * 3, near=4)
        page.unroute("**/view")
        page.locator(LIVE).wait_for(state="detached")
        for y, wanted in ((20, 128), (40, 128), (60, 128), (80, 0)):
            self.assert_pixel(page, 60, y, [wanted] * 3, near=4)
        self.assertEqual(len(self.step("touch_up")["set"]["strokes"]), 3)

    def test_a_shape_of_300_points_is_dragged(self) -> None:
        points = [
            [160 + 100 * math.cos(turn), 90 + 60 * math.sin(turn)] for turn in np.linspace(0, 2 * math.pi, 300)[:-1]
        ]
        steps = [{"name": "around", "op": "shape", "in": {"like": "moth"}, "set": {"paths": [{"points": points}]}}]
        self.shot = self.make_shot(
            "long shape",
            {"nexal": 1, "sources": {"moth": {"files": "moth.exr"}}, "steps": steps},
            {"moth.exr": exr_bytes(plate())},
        )
        page = self.open_shot(query="?item=around")
        page.get_by_role("button", name="Draw shapes").click()
        self.assert_pixel(page, 200, 90, [255] * 3)
        # The whole curve, then one of its points.
        for start, by in (((160, 90), 0.3), ((260, 90), 0.2)):
            self.paint(page, [(start[0] + by * i, start[1] - by * i / 2) for i in range(100)])
            page.mouse.up()
        self.wait_for(lambda: self.step("around")["set"]["paths"][0]["points"][0][0] > 265)

    def test_marks_of_a_long_drag(self) -> None:
        page = self.open_shot(query="?item=moth")
        page.get_by_label("Bench").get_by_role("button", name="Subject").click()
        self.paint(page, self.wave(300))
        page.mouse.up()
        self.wait_for(lambda: len(Shot.objects.get(pk=self.shot.pk).marks) > 20)


class LongShot(Long):
    SOURCES, FRAMES, STEPS, EDITS = 40, 100, 300, 240

    def large_shot(self) -> Shot:
        """Forty sources, one of them of a hundred frames, and three hundred steps."""
        shot = Shot.objects.create(project=self.project, name="900 long", first_frame=1, last_frame=self.FRAMES)
        revision = first_revision(shot, self.user.pk)
        small = {name: np.full((18, 32), value, np.float16) for name, value in zip("RGB", (0.5, 0.25, 0.125))}
        with override_settings(NEXAL_JOBS="inline"):
            flight = create(shot, "flight.%04d.exr")
            for number in range(1, self.FRAMES + 1):
                planes = small | {"R": np.full((18, 32), number / 128, np.float16)}
                add_frame(flight, number, ContentFile(exr_bytes(planes), name="x.exr"))
            for number in range(1, self.SOURCES):
                file = f"light_{number}.exr"
                import_file(shot, file, ContentFile(exr_bytes(small), name=file))
        steps: list[dict[str, Any]] = [{"name": "s0", "op": "weigh", "in": {"from": "flight"}}]
        for number in range(1, self.STEPS - 1):
            # Chains of ten, so that not everything hangs on everything.
            above = f"s{number - 1}" if number % 10 else "s0"
            steps.append({"name": f"s{number}", "op": "stretch", "in": {"from": above}, "set": {"white": 0.99}})
        steps.append({"name": "end", "op": "stretch", "in": {"from": "s0"}, "set": {"white": 0.5, "domain": "scene"}})
        sources = {"flight": {"files": "flight.%04d.exr"}}
        sources |= {f"light_{number}": {"files": f"light_{number}.exr"} for number in range(1, self.SOURCES)}
        save(shot, self.user.pk, revision.number, parse_recipe({"nexal": 1, "sources": sources, "steps": steps}))
        return shot

    def test_an_hour_of_work_in_a_large_shot(self) -> None:
        self.shot = self.large_shot()
        page = self.open_shot(query="?item=end")
        slider = page.locator("[data-settings]").get_by_role("slider", name="White", exact=True)
        slider.wait_for()
        page.wait_for_timeout(2000)
        begun = self.revisions_at_rest(page)
        slider.focus()
        for _ in range(20):
            page.keyboard.press("ArrowRight")
        page.wait_for_timeout(1500)
        heap = self.heap(page)
        for edit in range(self.EDITS):
            page.keyboard.press("ArrowLeft" if edit % 12 < 6 else "ArrowRight")
            if edit % 20 == 19:
                page.keyboard.press("Control+z")
                slider.focus()
            if edit % 30 == 29:
                # On through time, as one does meanwhile.
                page.keyboard.press("Escape")
                page.keyboard.press(".")
                slider.focus()
        self.wait_for(lambda: self.shot.revisions.count() > begun + 20)
        # The lineage and the wall from one end to the other, and a range played.
        for label in ("Lineage", "Channels"):
            page.get_by_label(label, exact=True).first.hover()
            for _ in range(20):
                page.mouse.wheel(600, 600)
                page.wait_for_timeout(30)
        page.wait_for_timeout(1000)
        self.assertLess(self.heap(page) - heap, 60)
        self.assertEqual(len(self.recipe()["steps"]), self.STEPS)
