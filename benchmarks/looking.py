"""In Chromium, on the running demo: a slider and a brush to pixels on the stage, and scrolling of a wall of channels.

Asks a server that runs with the demo: `./run demo`, then `./run bench looking`. Chromium draws without a graphics card
there, on the same two cores as the server.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import numpy as np

from benchmarks.measure import report
from benchmarks.playing import memory, signed_in
from benchmarks.serving import ready

if TYPE_CHECKING:
    from playwright.sync_api import Page

SHOT, ITEM = "040 moth", "screen"
STEPS = 30
CHANNELS, WIDTH, HEIGHT = 1000, 2048, 1080
LARGE = (4096, 2160)
# When the pointer was moved, and when the stage was drawn with another picture after that: the frame after the
# drawing has begun then.
WATCH = """(() => {
  window.moved = 0;
  window.drawn = [];
  addEventListener("pointermove", () => { window.moved = performance.now(); window.drawn = []; }, true);
  const draw = CanvasRenderingContext2D.prototype.drawImage;
  CanvasRenderingContext2D.prototype.drawImage = function (...given) {
    if (this.canvas.dataset.pane === "main" && given[0] !== window.last) {
      window.last = given[0];
      requestAnimationFrame(() => window.drawn.push(performance.now()));
    }
    return draw.apply(this, given);
  };
})()"""
# From a pointer's move to the frame in which the stage was drawn with what it painted.
FOLLOW = """() => {
  window.lags = [];
  let moved = null;
  addEventListener("pointermove", () => { moved ??= performance.now(); }, true);
  const draw = CanvasRenderingContext2D.prototype.drawImage;
  CanvasRenderingContext2D.prototype.drawImage = function (...given) {
    if (this.canvas.dataset.pane === "main" && this.canvas.dataset.strokes && moved !== null) {
      const began = moved;
      moved = null;
      requestAnimationFrame(() => window.lags.push(performance.now() - began));
    }
    return draw.apply(this, given);
  };
  let up = 0;
  addEventListener("pointerup", () => { up = performance.now(); window.settled = null; }, true);
  const stage = document.querySelector('canvas[data-pane="main"]');
  new MutationObserver(() => {
    if (up && !stage.dataset.strokes) [window.settled, up] = [performance.now() - up, 0];
  }).observe(stage, { attributes: true });
}"""
SCROLL = """async () => {
  const wall = [...document.querySelectorAll('[aria-label="Channels"] div.overflow-y-auto')].pop();
  const gaps = [];
  let last = performance.now();
  while (gaps.length < 240) {
    wall.scrollTop += 12;
    const now = await new Promise(requestAnimationFrame);
    gaps.push(now - last);
    last = now;
  }
  return gaps.slice(1);
}"""


def main() -> None:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        page = signed_in(playwright, {"width": 1820, "height": 960}, WATCH)
        page.get_by_role("link", name="Night Conservatory").click()
        page.get_by_role("link", name=SHOT).click()
        page.get_by_label("Lineage").wait_for()
        page.goto(page.url.split("?")[0] + f"?item={ITEM}")
        _slider(page)
        with _large_shot() as shot:
            page.goto(page.url.split("/shots/")[0] + f"/shots/{shot}?item=matte")
            _brush(page)
        with _wide_shot() as shot:
            page.goto(page.url.split("/shots/")[0] + f"/shots/{shot}")
            _wall(page)
        page.context.browser.close()  # type: ignore[union-attr]


def _slider(page: Page) -> None:
    slider = page.locator("[data-settings]").get_by_role("slider", name="White", exact=True)
    slider.wait_for()
    time.sleep(2)
    box = slider.bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    found = []
    for step in range(STEPS):
        # Back and forth, so that each step is a change.
        page.mouse.move(x + 30 + 3 * (step % 10), y)
        time.sleep(1.0)
        moved, drawn = page.evaluate("[window.moved, window.drawn[0] ?? null]")
        if drawn is not None:
            found.append(drawn - moved)
    page.keyboard.press("Escape")
    page.mouse.up()
    p50, p95 = np.percentile(found, [50, 95])
    report(
        f"a slider of {SHOT}, one step at a time, the stage about 1280 x 720",
        [f"from the pointer to pixels: p50 {p50:.0f} ms, p95 {p95:.0f} ms, {len(found)} of {STEPS} seen (aim: p95 50)"],
    )


def _brush(page: Page) -> None:
    stage = page.locator('canvas[data-pane="main"]')
    stage.wait_for()
    time.sleep(3)
    page.keyboard.press("t")
    page.evaluate(FOLLOW)
    box = stage.bounding_box()
    assert box
    for moves in (200, 2000):
        page.evaluate("window.lags.length = 0")
        for move in range(moves):
            # To and fro, rising and falling.
            x = box["x"] + box["width"] * (0.1 + 0.8 * abs(2 * ((move / 300) % 1) - 1))
            y = box["y"] + box["height"] * (0.5 + 0.25 * np.sin(move / 11))
            page.mouse.move(x, y)
            if not move:
                page.mouse.down()
        lags = np.array(page.evaluate("window.lags"))
        page.mouse.up()
        page.locator('canvas[data-pane="main"][data-strokes]').wait_for(state="detached")
        p50, p95 = np.percentile(lags, [50, 95])
        first, last = lags[: len(lags) // 10].mean(), lags[-len(lags) // 10 :].mean()
        report(
            f"a stroke of {moves} moves on {LARGE[0]} x {LARGE[1]}, the stage about 1280 x 720",
            [
                f"from the pointer to pixels: p50 {p50:.0f} ms, p95 {p95:.0f} ms (aim: p95 33)",
                f"the last tenth took {last / first:.2f} of the first",
                f"computed {page.evaluate('window.settled') / 1000:.2f} s after it was let go (aim 0.3)",
            ],
        )
    page.keyboard.press("Escape")


def _wall(page: Page) -> None:
    began = time.monotonic()
    page.get_by_role("button", name="Channel many.group00.c0").wait_for()
    while page.locator('[data-tile^="many."] canvas:not([class*="animate"])').count() < 6:
        time.sleep(0.05)
    first = time.monotonic() - began
    gaps = np.array(page.evaluate(SCROLL))
    time.sleep(2)
    report(
        f"a wall of {CHANNELS} channels of {WIDTH} x {HEIGHT}",
        [
            f"first pictures {first:.1f} s after the page was asked for (aim 1)",
            f"scrolled: {1000 / gaps.mean():.0f} frames a second, p95 of a frame {np.percentile(gaps, 95):.0f} ms "
            f"(aim 60), longest {gaps.max():.0f} ms",
            f"memory of the page {memory():.0f} MB",
        ],
    )


@contextmanager
def _wide_shot() -> Iterator[int]:
    """A shot of a picture of very many channels, while it is looked at."""
    ramp = np.linspace(0, 1, WIDTH, dtype=np.float16) * np.ones((HEIGHT, 1), np.float16)
    planes = {f"group{n // 10:02d}.c{n % 10}": ramp * np.float16(n / CHANNELS) for n in range(CHANNELS)}
    with _shot("many channels", "many", planes, []) as shot:
        yield shot


@contextmanager
def _large_shot() -> Iterator[int]:
    """A shot of a large picture and a matte of it, while it is painted on."""
    width, height = LARGE
    ramp = np.linspace(0, 1, width, dtype=np.float16) * np.ones((height, 1), np.float16)
    planes = {"R": ramp, "G": ramp[:, ::-1], "B": ramp * np.float16(0.5)}
    steps = [{"name": "matte", "op": "stretch", "in": {"from": "large.R"}, "set": {"black": 0.2, "white": 0.8}}]
    with _shot("large", "large", planes, steps) as shot:
        yield shot


@contextmanager
def _shot(name: str, source: str, planes: dict[str, np.ndarray], steps: list[dict[str, Any]]) -> Iterator[int]:
    """A shot of one picture in the demo's project."""
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
    ready()
    from django.conf import settings
    from django.core.files.base import ContentFile
    from server_support import exr_bytes

    from nexal.recipe import parse_recipe
    from projects.models import Project, Shot
    from recipes.services import first_revision, save
    from sources.services import import_file
    from wall.tidying import remove

    settings.NEXAL_JOBS = "inline"
    project = Project.objects.get(name="Night Conservatory")
    user: Any = project.memberships.filter(role="owner").first().user_id
    shot = Shot.objects.create(project=project, name=f"999 {name} {os.getpid()}")
    try:
        first_revision(shot, user)
        import_file(shot, f"{source}.exr", ContentFile(exr_bytes(planes), name=f"{source}.exr"))
        recipe = {"nexal": 1, "sources": {source: {"files": f"{source}.exr"}}, "steps": steps}
        save(shot, user, 1, parse_recipe(recipe))
        yield int(shot.pk)
    finally:
        remove(Shot.objects.get(pk=shot.pk))
