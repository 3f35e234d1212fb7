"""In Chromium, on the running demo: from a moved slider to pixels on the stage, and scrolling of a wall of channels.

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
    """A shot of a picture of very many channels in the demo's project, while it is looked at."""
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
    shot = Shot.objects.create(project=project, name=f"999 many channels {os.getpid()}")
    try:
        first_revision(shot, user)
        ramp = np.linspace(0, 1, WIDTH, dtype=np.float16) * np.ones((HEIGHT, 1), np.float16)
        planes = {f"group{n // 10:02d}.c{n % 10}": ramp * np.float16(n / CHANNELS) for n in range(CHANNELS)}
        import_file(shot, "many.exr", ContentFile(exr_bytes(planes), name="many.exr"))
        save(shot, user, 1, parse_recipe({"nexal": 1, "sources": {"many": {"files": "many.exr"}}}))
        yield int(shot.pk)
    finally:
        remove(Shot.objects.get(pk=shot.pk))
