"""Playback in Chromium of the demo's moving shot: pictures a second of a range that is held, its gaps, its memory.

Asks a server that runs with the demo: `./run demo`, then `./run bench playing`.
"""

from __future__ import annotations

import json
import os
import statistics
import time
from itertools import pairwise
from pathlib import Path
from typing import TYPE_CHECKING

from benchmarks.measure import report

if TYPE_CHECKING:
    from playwright.sync_api import Page, Playwright

SHOT, ITEM = "050 moth in flight", "over_house"
FRAMES, RATE = 48, 24
# The stage is then about 1280 x 720.
WINDOW = {"width": 1820, "height": 960}
WATCH = """(milliseconds) => new Promise((done) => {
  const line = document.querySelector('[aria-label="Timeline"]');
  const seen = [];
  let last = "";
  const began = performance.now();
  const look = (now) => {
    const frame = line.dataset.frame;
    if (frame !== last) { seen.push([now, Number(frame)]); last = frame; }
    if (now - began < milliseconds) requestAnimationFrame(look);
    else done(seen);
  };
  requestAnimationFrame(look);
})"""


def memory() -> float:
    """Resident megabytes of the largest Chromium process: the page's."""
    found = [0.0]
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                if b"--type=renderer" in (entry / "cmdline").read_bytes():
                    pages = int((entry / "statm").read_text().split()[1])
                    found.append(pages * os.sysconf("SC_PAGE_SIZE") / 1e6)
            except OSError:
                continue
    return max(found)


def signed_in(playwright: Playwright, window: dict[str, int], script: str = "") -> Page:
    """A page of the running demo at its projects, which runs a script before anything else."""
    from demo.recipes import PASSWORD, USERNAME

    root = Path(__file__).resolve().parent.parent
    house = Path(os.environ.get("NEXAL_VAR", root / "var")) / "house" / "state.json"
    address = f"http://127.0.0.1:{json.loads(house.read_text())['server']['port']}"
    browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
    page = browser.new_page(viewport=window)  # type: ignore[arg-type]
    page.add_init_script(script)
    page.goto(f"{address}/sign-in?next=/projects")
    page.get_by_label("Name").fill(USERNAME)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/projects")
    return page


def main() -> None:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        page = signed_in(playwright, WINDOW)
        page.get_by_role("link", name="Night Conservatory").click()
        page.get_by_role("link", name=SHOT).click()
        page.get_by_label("Lineage").wait_for()
        page.goto(page.url.split("?")[0] + f"?item={ITEM}")
        page.get_by_label("Timeline", exact=True).wait_for()
        time.sleep(3)
        before = memory()
        page.keyboard.press("g")
        first = page.evaluate(WATCH, 12_000)
        # Once round it is held.
        time.sleep(3)
        seen = page.evaluate(WATCH, 6_000)
        taken = memory()
        page.context.browser.close()  # type: ignore[union-attr]
    times = [at for at, _ in seen]
    gaps = [b - a for a, b in pairwise(times)]
    frames = [frame for _, frame in seen]
    skipped = sum((b - a) % FRAMES != 1 for a, b in pairwise(frames))
    made = [(b[0] - a[0]) for a, b in pairwise(first)][:FRAMES]
    report(
        f"playback of {SHOT}, {ITEM}, {FRAMES} frames, seen at about 1280 x 720",
        [
            f"held: {1000 / statistics.mean(gaps):.1f} pictures a second of {RATE}; longest gap {max(gaps):.0f} ms; "
            f"{skipped} left out",
            f"the first time round: {1000 / statistics.mean(made):.1f} a second",
            f"memory of the page {taken:.0f} MB, {before:.0f} MB before it played (aim: 512)",
        ],
    )


if __name__ == "__main__":
    main()
