"""What the browser tests share: a server with a small shot, Chromium, and eyes for the stage."""

from __future__ import annotations

import atexit
import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from django.core.exceptions import ObjectDoesNotExist
from django.core.files.base import ContentFile
from django.test import Client, override_settings
from long_tasks import MOST_MS, LongTasks
from patience import PATIENCE, wait_until
from playwright.sync_api import Browser, Locator, Page, expect, sync_playwright
from playwright.sync_api import Error as PlaywrightError
from server_support import PASSWORD, exr_bytes

from accounts.models import User
from nexal.recipe import parse_recipe
from projects.models import Membership, Project, Role, Shot
from recipes.services import first_revision, save
from sources.models import Source, SourceState
from sources.services import import_file, library

WIDTH, HEIGHT = 320, 180
CHROMIUM = "/usr/bin/chromium"


def plate() -> dict[str, np.ndarray]:
    """A green backing, brighter to the right, and in the middle a warm square; values exact in half floats."""
    x = np.arange(WIDTH)[None, :] * np.ones((HEIGHT, 1))
    inside = np.zeros((HEIGHT, WIDTH), bool)
    inside[45:135, 110:210] = True
    backing = {"R": 0.125 + 0 * x, "G": 0.5 + x / 2048, "B": 0.0625 + 0 * x}
    subject = {"R": 0.75, "G": 0.5, "B": 0.25}
    return {name: np.where(inside, subject[name], backing[name]).astype(np.float16) for name in "RGB"}


def backdrop() -> dict[str, np.ndarray]:
    return {name: np.full((HEIGHT, WIDTH), value, np.float16) for name, value in (("R", 0.0), ("G", 0.0), ("B", 1.0))}


def code(value: float) -> int:
    """8-bit display code of scene-linear light, by IEC 61966-2-1."""
    v = min(1.0, max(0.0, value))
    return round(255 * (12.92 * v if v <= 0.0031308 else 1.055 * v ** (1 / 2.4) - 0.055))


RECIPE: dict[str, Any] = {
    "nexal": 1,
    "sources": {"moth": {"files": "moth.exr"}, "house": {"files": "house.exr"}},
    "steps": [
        {
            "name": "pull",
            "op": "cross",
            "in": {"a": "moth.G", "b": "moth.R"},
            "set": {"mode": "subtract", "domain": "scene"},
        },
        {"name": "core", "op": "stretch", "in": {"from": "pull"}, "set": {"black": 0.0, "white": 0.25}},
        {"name": "matte", "op": "invert", "in": {"from": "core"}},
        {"name": "cut", "op": "attach_alpha", "in": {"picture": "moth", "alpha": "matte"}},
        {"name": "comp", "op": "stack", "in": {"under": "house", "over": "cut"}},
    ],
}


@cache
def _chromium() -> Browser:
    """One Chromium for a process of tests: Playwright's loop can be entered once in a thread."""
    playwright = sync_playwright().start()
    browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox", "--disable-gpu"])
    atexit.register(playwright.stop)
    atexit.register(browser.close)
    return browser


@cache
def _long_tasks() -> LongTasks:
    return LongTasks(_chromium())


class BrowserTest(StaticLiveServerTestCase):
    """For each test a fresh person, project and shot, and a signed-in page at 1280x800."""

    browser: Browser
    expected_console: tuple[str, ...] = ("Failed to load resource",)
    long_tasks_because: str = ""
    """Why a page may be busy for long without a break; without a reason, none may."""

    @classmethod
    def setUpClass(cls) -> None:
        os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
        cls.media = Path(tempfile.mkdtemp(prefix="nexal-e2e-"))
        cls.enterClassContext(override_settings(MEDIA_ROOT=cls.media / "media", NEXAL_STORE=cls.media / "store"))
        library.cache_clear()
        super().setUpClass()
        cls.browser = _chromium()

    @classmethod
    def tearDownClass(cls) -> None:
        super().tearDownClass()
        library.cache_clear()
        shutil.rmtree(cls.media, ignore_errors=True)

    def setUp(self) -> None:
        self.complaints: list[str] = []
        self.user = User.objects.create_user("mira", password=PASSWORD, first_name="Mira")
        self.project = Project.objects.create(name="Night Conservatory")
        Membership.objects.create(project=self.project, user=self.user, role=Role.OWNER)
        self.shot = self.make_shot(
            "040 moth", RECIPE, {"moth.exr": exr_bytes(plate()), "house.exr": exr_bytes(backdrop())}
        )
        self.page = self.sign_in(self.user)

    def tearDown(self) -> None:
        self.wait_for(lambda: not Source.objects.filter(state__in=[SourceState.WAITING, SourceState.READING]).exists())
        try:
            self.assert_never_frozen()
        finally:
            for context in self.browser.contexts:
                context.close()
        self.assertEqual(self.complaints, [])

    def assert_never_frozen(self) -> None:
        """No page's main thread computed for long without a break since this was asked last."""
        # What a page reported at last comes with its next answer.
        for context in self.browser.contexts:
            for page in context.pages:
                with suppress(PlaywrightError):
                    page.wait_for_timeout(50)
        long_tasks = _long_tasks().take()
        if long_tasks:
            longest = long_tasks[0]
            print(f"{self.id()}: a task of {longest.clock:.0f} ms, {longest.processor:.0f} ms of it computed")
            if longest.processor > MOST_MS and not self.long_tasks_because:
                most = _long_tasks().most()
                if longest.processor > most:
                    self.fail(f"the page computed for {longest.processor:.0f} ms without a break, of {most:.0f}")

    def make_shot(self, name: str, recipe: dict[str, Any], files: dict[str, bytes]) -> Shot:
        shot = Shot.objects.create(project=self.project, name=name)
        revision = first_revision(shot, self.user.pk)
        with override_settings(NEXAL_JOBS="inline"):
            for file, content in files.items():
                import_file(shot, file, ContentFile(content, name=file))
        if recipe.get("sources"):
            save(shot, self.user.pk, revision.number, parse_recipe(recipe))
        return shot

    def new_page(self) -> Page:
        # What breathes or moves while it waits is drawn by the processor here, sixty times a second.
        context = self.browser.new_context(
            viewport={"width": 1280, "height": 800}, accept_downloads=True, reduced_motion="reduce"
        )
        _long_tasks().watch(context)
        page = context.new_page()
        page.set_default_timeout(PATIENCE * 1000)
        page.on("pageerror", lambda error: self.complaints.append(f"page error: {error}"))
        page.on(
            "console",
            lambda message: (
                message.type == "error"
                and not message.text.startswith(self.expected_console)
                and self.complaints.append(message.text)
            ),
        )
        return page

    def sign_in(self, user: User, path: str = "") -> Page:
        """A page of somebody who is signed in, at an address, or nowhere yet."""
        client = Client()
        client.force_login(user)
        page = self.new_page()
        page.context.add_cookies(
            [{"name": "sessionid", "value": client.cookies["sessionid"].value, "url": self.live_server_url}]
        )
        if path:
            page.goto(f"{self.live_server_url}{path}")
        return page

    def open_shot(self, page: Page | None = None, query: str = "", shot: Shot | None = None) -> Page:
        page = page or self.page
        page.goto(f"{self.live_server_url}/shots/{(shot or self.shot).pk}{query}")
        page.get_by_label("Lineage").wait_for()
        return page

    def wait_for(self, holds: Callable[[], bool], seconds: float = PATIENCE, what: str = "") -> None:
        wait_until(holds, what, seconds)

    def wait_for_page(self, page: Page, holds: Callable[[], bool], what: str = "", seconds: float = PATIENCE) -> None:
        """Like `wait_for`, letting the page's own events through."""
        wait_until(holds, what, seconds, lambda: page.wait_for_timeout(100))

    def revisions_at_rest(self, page: Page) -> int:
        """How many revisions the shot has once a page has saved all that was done in it: what is saved a moment after
        it is seen would count with what comes later."""
        saving = page.get_by_role("status").get_by_text("saving", exact=True)
        quiet = 0

        def rests() -> bool:
            nonlocal quiet
            quiet = 0 if saving.count() else quiet + 1
            return quiet >= 3

        self.wait_for_page(page, rests, "everything is saved")
        return self.shot.revisions.count()

    def comes_to(self, look: Callable[[], Any], wanted: Any) -> None:
        """What is looked at comes to be this: a page shows a moment later what it was told, and saves it after that."""
        seen: list[Any] = []

        def holds() -> bool:
            with suppress(ObjectDoesNotExist):
                seen[:] = [look()]
            return seen == [wanted]

        pages = [page for context in self.browser.contexts for page in context.pages]
        try:
            wait_until(holds, pause=lambda: pages[0].wait_for_timeout(50) if pages else time.sleep(0.05))
        except AssertionError:
            self.assertEqual(seen, [wanted])

    def wait_for_count(self, found: Locator, count: int) -> None:
        """As many as that stand there in the end: what comes with an answer is not there at the first look."""
        expect(found).to_have_count(count, timeout=PATIENCE * 1000)

    def seen_on_the_way(self, page: Page, places: Iterable[tuple[float, float]], look: Callable[[], Any]) -> set[Any]:
        """What there is to see while the pointer goes from place to place, waiting a while at each for a change."""
        seen = [look()]
        for x, y in places:
            page.mouse.move(x, y)
            deadline = time.monotonic() + 3
            while look() == seen[-1] and time.monotonic() < deadline:
                page.wait_for_timeout(100)
            seen.append(look())
        return set(seen)

    def delivered(self, file: str) -> Path:
        """The item in focus delivered as it is proposed, and downloaded."""
        page = self.page
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="New deliverable").click()
        page.get_by_role("dialog").get_by_role("button", name="Render", exact=True).click()
        return self.downloaded(file)

    def downloaded(self, file: str) -> Path:
        link = self.page.get_by_role("link", name=file)
        # A render is worked off behind everything that the page asks for.
        link.wait_for(timeout=2 * PATIENCE * 1000)
        with self.page.expect_download() as waiting:
            link.click()
        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / file
        waiting.value.save_as(path)
        return path

    # The stage

    def pane(self, page: Page, name: str = "main") -> Locator:
        return page.locator(f'canvas[data-pane="{name}"]')

    def spot(self, page: Page, x: float, y: float, name: str = "main") -> tuple[float, float]:
        """Where a picture position lies on the screen, the picture fitted into its pane."""
        box = self.pane(page, name).bounding_box()
        assert box
        zoom = min(box["width"] / WIDTH, box["height"] / HEIGHT)
        left, top = box["width"] / 2 - WIDTH / 2 * zoom, box["height"] / 2 - HEIGHT / 2 * zoom
        return box["x"] + left + x * zoom, box["y"] + top + y * zoom

    def pixel(self, page: Page, x: float, y: float, name: str = "main") -> list[int]:
        """Bytes of the stage at a picture position, the picture fitted."""
        box = self.pane(page, name).bounding_box()
        assert box
        sx, sy = self.spot(page, x, y, name)
        return self.screen_pixel(page, sx - box["x"], sy - box["y"], name)

    def screen_pixel(self, page: Page, x: float, y: float, name: str = "main") -> list[int]:
        return page.evaluate(
            """([name, x, y]) => {
              const canvas = document.querySelector(`canvas[data-pane="${name}"]`);
              const ratio = canvas.width / canvas.getBoundingClientRect().width;
              return [...canvas.getContext("2d").getImageData(Math.round(x * ratio), Math.round(y * ratio), 1, 1).data];
            }""",
            [name, x, y],
        )

    def assert_pixel(
        self, page: Page, x: float, y: float, wanted: list[int], name: str = "main", near: int = 2
    ) -> None:
        """The stage comes to show these bytes at a picture position."""
        got: list[int] = []

        def holds() -> bool:
            nonlocal got
            if self.pane(page, name).count() == 0 or self.pane(page, name).bounding_box() is None:
                return False
            got = self.pixel(page, x, y, name)
            return all(abs(a - b) <= near for a, b in zip(got, wanted, strict=False))

        try:
            self.wait_for_page(page, holds)
        except AssertionError:
            self.fail(f"the stage shows {got[:3]} at {x}, {y}, not {wanted}")

    def recipe(self) -> dict[str, Any]:
        self.shot.refresh_from_db()
        assert self.shot.head
        return self.shot.head.recipe

    def step(self, name: str) -> dict[str, Any]:
        return next((step for step in self.recipe().get("steps", []) if step["name"] == name), {})

    def wait_for_step(self, name: str, **wanted: Any) -> None:
        """The server comes to hold these settings of a step."""
        self.wait_for(
            lambda: (
                all(self.step(name).get("set", {}).get(key) == value for key, value in wanted.items())
                and bool(self.step(name))
            ),
            what=f"{name} has {wanted}; at first it was {self.step(name)}",
        )

    def choose_item(self, page: Page, name: str) -> None:
        page.locator(f'[data-item="{name}"]').click()
        page.locator(f'[data-item="{name}"][aria-current="true"]').wait_for()

    def set_choice(self, label: str, option: str) -> None:
        self.page.get_by_role("combobox", name=label).click()
        self.page.get_by_role("option", name=option, exact=True).click()

    def add_step(self, page: Page, text: str) -> None:
        """With the quick finder, as the keys do it."""
        page.keyboard.press("/")
        finder = page.get_by_role("combobox", name="Add a step by name or by need")
        finder.fill(text)
        page.get_by_role("listbox", name="Steps").get_by_role("option").first.wait_for()
        finder.press("Enter")
        finder.wait_for(state="hidden")

    def violations(self, page: Page) -> list[str]:
        """What is seriously wrong with a page for people who cannot see or point well, by axe-core."""
        axe = (Path(settings.ROOT) / "web/node_modules/axe-core/axe.min.js").read_text()
        self.assert_never_frozen()
        # The page's policy forbids scripts from elsewhere; evaluate goes past it, a script tag would not.
        page.evaluate(axe)
        result = page.evaluate("axe.run(document, { resultTypes: ['violations'] })")
        # What reads the whole page at once freezes it.
        page.wait_for_timeout(50)
        _long_tasks().take()
        return [
            f"{row['id']}: {row['nodes'][0]['html'][:150]}"
            for row in result["violations"]
            if row["impact"] in ("serious", "critical")
        ]
