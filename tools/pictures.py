"""Make docs/screenshots from the demo data: one picture of each main view at 1280 x 800.

python tools/pictures.py http://127.0.0.1:8000
"""

from __future__ import annotations

import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from demo.recipes import PASSWORD, PROJECT, USERNAME

TARGET = Path(__file__).resolve().parent.parent / "docs" / "screenshots"


def settle(page: Page) -> None:
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(900)


def take(page: Page, name: str) -> None:
    settle(page)
    page.screenshot(path=TARGET / f"{name}.png")
    print(f"docs/screenshots/{name}.png")


def choose(page: Page, label: str, option: str) -> None:
    page.get_by_role("combobox", name=label).click()
    page.get_by_role("option", name=option, exact=True).click()


def painted(page: Page) -> None:
    """Wait until every picture of a wall is painted: a canvas is 300 wide before."""
    page.locator("canvas").first.wait_for()
    # Asked again and again from here: the page's security policy lets no text be run as code inside of it.
    while page.evaluate("() => [...document.querySelectorAll('canvas')].some((canvas) => canvas.width === 300)"):
        page.wait_for_timeout(200)


def shot(page: Page, name: str, query: str = "") -> None:
    """Open a shot from the wall of its project."""
    page.goto(page.url.split("/shots")[0].split("/projects")[0] + "/projects")
    page.get_by_role("link", name=PROJECT).click()
    # The project's own link has the names of its newest shots, too.
    page.wait_for_url("**/projects/*")
    page.get_by_role("link", name=name).click()
    page.get_by_label("Lineage").wait_for()
    if query:
        page.goto(page.url.split("?")[0] + query)
    settle(page)


def main(address: str) -> None:
    TARGET.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/sign-in")
        page.get_by_label("Name").fill(USERNAME)
        page.get_by_label("Password").fill(PASSWORD)
        page.keyboard.press("Enter")
        page.get_by_role("link", name=PROJECT).wait_for()
        painted(page)
        take(page, "projects")
        page.get_by_role("link", name=PROJECT).click()
        page.get_by_role("link", name="040 moth").wait_for()
        painted(page)
        take(page, "shots")

        # It is drawn after the stills, while one looks at them.
        while not page.get_by_role("link", name="055 lantern swing").count():
            page.wait_for_timeout(1000)
            page.reload()
            page.get_by_role("link", name="040 moth").wait_for()
        shot(page, "050 moth in flight", "?item=wipe&frame=20")
        page.wait_for_timeout(2000)
        page.get_by_role("button", name="Key of start at frame 1").focus()
        take(page, "time")

        shot(page, "040 moth", "?item=screen")
        take(page, "stretch")
        # The matte over the plate, split against the pinned matte alone.
        shot(page, "040 moth", "?item=matte")
        page.keyboard.press("p")
        page.keyboard.press("m")
        page.keyboard.press("h")
        page.mouse.move(700, 300)
        take(page, "mattes")
        shot(page, "040 moth", "?item=others")
        page.keyboard.press("/")
        page.get_by_role("combobox", name="Add a step by name or by need").fill("matte")
        take(page, "finder")
        # The board: a row is previewed on the stage while it is highlighted.
        shot(page, "024 frond", "?item=frond")
        board = page.get_by_role("listbox", name="Candidates")
        board.get_by_role("option").nth(3).wait_for()
        board.focus()
        page.keyboard.press("ArrowDown")
        take(page, "scout")
        shot(page, "045 moth screen", "?item=over_house")
        take(page, "screen_pull")
        shot(page, "060 wing by the lamp", "?item=round")
        page.get_by_role("button", name="Draw shapes").click()
        page.get_by_label("Curves").get_by_role("button", name="Curve 1").first.click()
        take(page, "shapes")
        shot(page, "060 wing by the lamp", "?item=mended")
        page.mouse.move(560, 330)
        page.keyboard.down("t")
        page.get_by_label("Brush settings").wait_for()
        take(page, "touch_up")
        page.keyboard.up("t")
        shot(page, "110 glasshouse", "?item=house")
        take(page, "glasshouse")
        shot(page, "110 glasshouse", "?item=evening&bench=passes")
        page.get_by_role("button", name="Audit", exact=True).click()
        page.get_by_role("button", name="Take as steps").wait_for()
        take(page, "passes")
        shot(page, "130 prism", "?item=on_table&bench=passes")
        take(page, "prism")
        shot(page, "055 lantern swing", "?item=lens&bench=space&frame=9")
        page.get_by_label("Elevation", exact=True).get_by_role("slider", name="focus", exact=True).wait_for()
        page.mouse.move(640, 130)
        page.wait_for_timeout(3000)
        take(page, "space")
        shot(page, "140 pods", "?item=cleared&bench=edges")
        page.get_by_test_id("verdict").get_by_text("Straight").wait_for()
        page.get_by_role("button", name="Draw a line").click()
        box = page.get_by_test_id("edge-line").first.bounding_box()
        assert box
        page.mouse.move(box["x"] + 110, box["y"] + 190)
        page.mouse.down()
        page.mouse.move(box["x"] + 70, box["y"] + 190, steps=4)
        page.mouse.up()
        take(page, "edges")
        shot(page, "200 tea tin", "?item=roughness&bench=packing")
        page.locator('canvas[data-testid="lit"][data-state="ready"]').wait_for()
        page.get_by_label("Proof").get_by_text("all values as meant").wait_for()
        take(page, "packing")
        page.get_by_role("button", name="Mips").click()
        page.get_by_label("Mip level").get_by_role("button", name="4").click()
        page.get_by_label("Losses").get_by_text("dB").first.wait_for()
        take(page, "mips")
        shot(page, "040 moth", "?item=cut&bench=deliver")
        take(page, "deliver")
        shot(page, "040 moth", "?item=cut")
        page.keyboard.press("b")
        page.locator("[data-note]").first.wait_for()
        page.locator("[data-pin]").first.click()
        page.evaluate("document.documentElement.dataset.theme = 'bright'")
        take(page, "bright")
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1])
