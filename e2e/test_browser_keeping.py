"""Work is not lost: offline and back, reloads, crashes, leaving, two people; steps added as fast as one types."""

from __future__ import annotations

import itertools
from unittest import mock

from browser_support import BrowserTest
from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from playwright.sync_api import Error, Page, Route
from server_support import PASSWORD

from accounts.models import User
from config.middleware import ContentSecurityPolicy
from deliveries.models import Deliverable, Render
from nexal.recipe import parse_recipe
from projects.models import Role, Shot
from recipes.services import save


class Keeping(BrowserTest):
    expected_console = ("Failed to load resource", "WebSocket")

    def setUp(self) -> None:
        super().setUp()
        self.open_shot(query="?item=core")
        self.white().wait_for()

    def white(self, page: Page | None = None):
        return (page or self.page).get_by_label("White value", exact=True)

    def put_white(self, value: str, page: Page | None = None) -> None:
        field = self.white(page)
        field.fill(value)
        field.press("Enter")

    def status(self, page: Page | None = None) -> str:
        return (page or self.page).get_by_role("banner").first.inner_text()

    def test_offline_an_edit_online_again(self) -> None:
        page = self.page
        page.context.set_offline(True)
        self.put_white("0.6")
        page.get_by_role("button", name="Try again").wait_for()
        self.put_white("0.7")
        page.context.set_offline(False)
        self.wait_for_step("core", white=0.7)
        page.get_by_role("button", name="Try again").wait_for(state="hidden")
        self.assertNotIn("not saved", self.status())
        page.wait_for_timeout(1500)
        self.assertEqual(self.white().input_value(), "0.700")
        self.assertEqual(self.step("core")["set"]["white"], 0.7)

    def test_who_comes_back_by_the_browser_s_own_way_sees_what_was_saved(self) -> None:
        page = self.page
        self.put_white("0.6")
        self.wait_for_step("core", white=0.6)
        page.goto(f"{self.live_server_url}/projects")
        page.get_by_role("link", name="Night Conservatory").wait_for()
        page.go_back()
        self.comes_to(lambda: self.white().input_value(), "0.600")

    def test_the_history_is_looked_at_named_compared_and_restored(self) -> None:
        page = self.page
        self.put_white("0.6")
        self.wait_for_step("core", white=0.6)
        self.put_white("0.9")
        self.wait_for_step("core", white=0.9)
        page.get_by_test_id("revision").click()
        rows = page.get_by_label("Revisions").locator("[data-revision]")
        self.wait_for_count(rows, 4)
        rows.nth(0).get_by_text("white 0.6 to 0.9").wait_for()
        second = page.locator("[data-revision='3']")
        second.get_by_role("button").first.click()
        second.get_by_text("core: white 0.6 to 0.9").wait_for()
        # Any two are told apart, too.
        second.get_by_role("combobox", name="Compare revision 3 with").click()
        page.get_by_role("option", name="1 Shot started").click()
        second.get_by_text("core deleted").wait_for()
        name = second.get_by_label("Name of revision 3")
        name.fill("the soft one")
        name.press("Enter")
        second.get_by_text("the soft one", exact=True).wait_for()
        second.get_by_role("button", name="Beside the present").click()
        page.get_by_text("Pin: core").wait_for()
        self.comes_to(lambda: page.get_by_role("dialog").count(), 0)
        page.get_by_test_id("revision").click()
        page.locator("[data-revision='3']").get_by_role("button").first.click()
        page.locator("[data-revision='3']").get_by_role("button", name="Restore").click()
        self.wait_for_step("core", white=0.6)
        self.wait_for(lambda: self.recipe_head().number == 5)
        self.assertEqual(self.recipe_head().sentence, "Revision 3, the soft one restored")
        self.wait_for_page(page, lambda: self.white().input_value() == "0.600", "the setting of then")
        # Undo leads back to before.
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Undo").click()
        self.wait_for_step("core", white=0.9)

    def test_what_others_did_while_one_was_away(self) -> None:
        page = self.page
        fern = User.objects.create_user("fern", password=PASSWORD, first_name="Fern")
        self.project.memberships.create(user=fern, role=Role.VIEWER)
        theirs = self.sign_in(fern)
        self.open_shot(theirs)
        theirs.goto(f"{self.live_server_url}/projects")
        self.put_white("0.6")
        self.wait_for_step("core", white=0.6)
        self.open_shot(theirs)
        theirs.get_by_role("button", name="a change by Mira while you were away").click()
        theirs.locator("[data-revision='3']").get_by_text("while you were away").wait_for()
        self.assertEqual(self.violations(theirs), [])
        theirs.keyboard.press("Escape")
        self.comes_to(lambda: theirs.get_by_text("while you were away").count(), 0)
        theirs.reload()
        theirs.get_by_label("Lineage").wait_for()
        self.assertEqual(theirs.get_by_text("while you were away").count(), 0)
        self.assertEqual(page.get_by_text("while you were away").count(), 0)

    def test_where_one_is_signed_in(self) -> None:
        page = self.page
        other = self.sign_in(self.user, "/projects")
        page.goto(f"{self.live_server_url}/projects")
        page.get_by_role("button", name="Mira").click()
        places = page.get_by_role("region", name="Where you are signed in")
        places.get_by_text("this one").wait_for()
        self.assertEqual(self.violations(page), [])
        places.get_by_role("button", name="Sign out there").click()
        self.wait_for_count(places.get_by_role("listitem"), 1)
        other.reload()
        other.get_by_role("button", name="Sign in").wait_for()

    def test_ones_own_name_and_password(self) -> None:
        page = self.page
        page.get_by_role("button", name="More", exact=True).click()
        page.get_by_role("menuitem", name="Your name and password").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Your name").fill("Orla of the Lamps")
        dialog.get_by_role("button", name="Keep").click()
        dialog.get_by_text("Your name is changed").wait_for()
        fields = [dialog.get_by_label(label) for label in ("Password until now", "New password", "The new one again")]
        for field, text in zip(fields, ("wrong", "moonlit panes", "moonlit pane"), strict=True):
            field.fill(text)
        change = dialog.get_by_role("button", name="Change the password")
        self.comes_to(lambda: change.is_disabled(), True)
        fields[2].fill("moonlit panes")
        change.click()
        dialog.get_by_text("that is not your password").wait_for()
        fields[0].fill(PASSWORD)
        change.click()
        dialog.get_by_text("Your password is changed").wait_for()
        page.keyboard.press("Escape")
        # Still signed in here; the name stands on the other pages, and in what is done from now on.
        self.put_white("0.8")
        self.wait_for_step("core", white=0.8)
        page.goto(f"{self.live_server_url}/projects")
        page.get_by_role("button", name="Orla of the Lamps").wait_for()
        self.user.refresh_from_db()
        self.assertTrue(self.user.check_password("moonlit panes"))

    def recipe_head(self):
        self.shot.refresh_from_db()
        assert self.shot.head
        return self.shot.head

    def test_a_reload_and_a_crashed_tab_bring_unsaved_work_back(self) -> None:
        page = self.page
        page.on("dialog", lambda dialog: dialog.accept())
        self.refuse_saves_of(page)
        self.put_white("0.6")
        page.get_by_role("button", name="Try again").wait_for()
        page.reload()
        page.get_by_text("unsaved work found").wait_for()
        self.comes_to(lambda: self.white().input_value(), "0.600")
        self.assertEqual(self.step("core")["set"]["white"], 0.25)
        # The tab is gone without a word; another one opens the shot.
        other = page.context.new_page()
        page.close(run_before_unload=False)
        self.open_shot(other, "?item=core")
        # A tab that takes long to be gone is waited for.
        try:
            other.get_by_text("unsaved work found").wait_for(timeout=90_000)
        except Error:
            pages = other.evaluate("() => navigator.locks.query()")
            self.fail(f"nothing was found; {pages}; here {self.white(other).input_value()}, {self.step('core')}")
        self.wait_for_step("core", white=0.6)

    def test_work_of_a_page_that_goes_later_is_taken_up_by_one_that_stays(self) -> None:
        page = self.page
        page.on("dialog", lambda dialog: dialog.accept())
        self.refuse_saves_of(page)
        self.put_white("0.6")
        page.get_by_role("button", name="Try again").wait_for()
        other = page.context.new_page()
        self.open_shot(other, "?item=core")
        self.white(other).wait_for()
        self.assertEqual(self.white(other).input_value(), "0.250")
        page.reload()
        page.get_by_text("unsaved work found").wait_for()
        other.wait_for_timeout(3500)
        self.assertEqual(self.white(other).input_value(), "0.250")
        page.close(run_before_unload=False)
        self.wait_for_page(other, lambda: self.white(other).input_value() == "0.600", seconds=90)
        self.wait_for_step("core", white=0.6)

    def test_work_is_taken_up_that_was_begun_later_and_came_back_under_another_name(self) -> None:
        page = self.page
        page.on("dialog", lambda dialog: dialog.accept())
        other = page.context.new_page()
        self.open_shot(other, "?item=core")
        self.white(other).wait_for()
        self.refuse_saves_of(page)
        self.put_white("0.6")
        page.get_by_role("button", name="Try again").wait_for()
        # As where the former document is slower to be gone than the new one is to come.
        page.evaluate("sessionStorage.removeItem('nexal-page')")
        page.reload()
        page.get_by_text("unsaved work found").wait_for()
        page.close(run_before_unload=False)
        self.wait_for_page(other, lambda: self.white(other).input_value() == "0.600", seconds=90)
        self.wait_for_step("core", white=0.6)

    def refuse_saves_of(self, page) -> None:
        """
        Until the end, and by the server: what the browser holds back for a test may get through as its page closes.
        """
        page.set_extra_http_headers({"X-Refused": "saves"})
        plainly = ContentSecurityPolicy.__call__

        def answer(self: ContentSecurityPolicy, request: HttpRequest) -> HttpResponse:
            refused = "X-Refused" in request.headers and request.path.endswith("/revisions")
            return HttpResponse(status=503) if refused else plainly(self, request)

        self.enterContext(mock.patch.object(ContentSecurityPolicy, "__call__", answer))

    def test_a_shot_that_is_deleted_while_it_is_open_says_so(self) -> None:
        page = self.page
        self.put_white("0.5")
        self.wait_for_step("core", white=0.5)
        shot = Shot.objects.filter(pk=self.shot.pk)
        shot.update(deleted=timezone.now())
        page.get_by_text("it was deleted").wait_for()
        page.get_by_role("link", name="To the project").wait_for()
        shot.update(deleted=None)
        page.get_by_role("button", name="Look again").click()
        self.white().wait_for()
        self.comes_to(lambda: self.white().input_value(), "0.500")

    def test_kept_work_meets_a_newer_revision_with_a_choice(self) -> None:
        page = self.page
        page.on("dialog", lambda dialog: dialog.accept())
        page.route("**/revisions", lambda route: route.abort())
        self.put_white("0.6")
        page.get_by_role("button", name="Try again").wait_for()
        self.shot.refresh_from_db()
        assert self.shot.head
        steps = [
            step | {"set": step["set"] | {"white": 0.7, "black": 0.01}} if step["name"] == "core" else step
            for step in self.shot.head.recipe["steps"]
        ]
        theirs = {**self.shot.head.recipe, "steps": steps[:3]}
        save(self.shot, self.user.pk, self.shot.head.number, parse_recipe(theirs))
        page.unroute("**/revisions")
        page.reload()
        dialog = page.get_by_role("dialog")
        dialog.get_by_text("while your change waited in this browser").wait_for()
        dialog.get_by_text("core: white").wait_for()
        dialog.get_by_role("button", name="Keep mine there").click()
        # Mine where both changed one value, theirs where only they did.
        self.wait_for_step("core", white=0.6, black=0.01)
        self.comes_to(lambda: len(self.recipe()["steps"]), 3)

    def test_leaving_by_a_link_saves_first_or_says_what_is_not_saved(self) -> None:
        page = self.page
        self.put_white("0.5")
        page.get_by_role("link", name="Night Conservatory").click()
        page.wait_for_url("**/projects/*")
        self.wait_for_step("core", white=0.5)
        page.go_back()
        self.white().wait_for()
        page.route("**/revisions", lambda route: route.abort())
        self.put_white("0.6")
        page.get_by_role("button", name="Try again").wait_for()
        page.get_by_role("link", name="Night Conservatory").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_text("kept in this browser").wait_for()
        dialog.get_by_role("button", name="Stay").click()
        dialog.wait_for(state="hidden")
        self.comes_to(lambda: self.white().input_value(), "0.600")
        page.get_by_role("link", name="Night Conservatory").click()
        dialog.get_by_role("button", name="Leave").click()
        page.wait_for_url("**/projects/*")
        page.unroute("**/revisions")
        page.go_back()
        self.wait_for_step("core", white=0.6)

    def test_undo_takes_back_the_last_change_while_the_one_before_is_on_its_way(self) -> None:
        page = self.page
        held: list[Route] = []
        page.route("**/revisions", lambda route: held.append(route))
        self.put_white("0.4")
        self.wait_for_page(page, lambda: len(held) == 1, "the first save is on its way")
        self.put_white("0.9")
        page.keyboard.press("Control+z")
        self.wait_for_page(page, lambda: self.white().input_value() == "0.400", "the last change is taken back")
        held[0].continue_()
        page.unroute("**/revisions")
        self.wait_for_step("core", white=0.4)
        page.get_by_test_id("revision").get_by_text("rev 3").wait_for()
        self.comes_to(lambda: (self.white().input_value(), self.shot.revisions.count()), ("0.400", 3))

    def test_a_second_change_of_the_address_keeps_the_first(self) -> None:
        page = self.page
        # Two clicks before the page is drawn anew, as on a busy machine.
        page.evaluate(
            """() => {
              const benches = [...document.querySelectorAll('[aria-label="Benches"] button')];
              document.querySelector('[data-item="pull"]').click();
              benches.find((button) => button.innerText === "Deliver").click();
            }"""
        )
        page.get_by_role("button", name="New deliverable").wait_for()
        self.assertIn("item=pull", page.url)
        self.assertIn("bench=deliver", page.url)

    def test_what_is_delivered_is_saved_first(self) -> None:
        page = self.page
        held: list[Route] = []
        page.route("**/revisions", lambda route: held.append(route))
        self.put_white("0.4")
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="New deliverable").click()
        render = page.get_by_role("dialog").get_by_role("button", name="Render", exact=True)
        render.click()
        page.wait_for_timeout(500)
        self.assertFalse(Deliverable.objects.exists())
        held.pop().abort()
        page.get_by_role("dialog").get_by_text("not saved yet").wait_for()
        self.assertFalse(Deliverable.objects.exists())
        page.unroute("**/revisions")
        for route in held:
            route.continue_()
        render.click()
        self.downloaded("core.exr")
        self.comes_to(lambda: Render.objects.get().revision.recipe["steps"][1]["set"]["white"], 0.4)

    def test_benches_are_opened_a_second_time_and_left(self) -> None:
        page = self.page
        benches = page.get_by_label("Benches")
        for _ in range(2):
            for name in ("Edges", "Mattes", "Packing", "Passes", "Deliver"):
                benches.get_by_role("button", name=name).click()
                page.wait_for_timeout(150)
        page.get_by_role("link", name="Night Conservatory").click()
        page.wait_for_url("**/projects/*")
        page.go_back()
        benches.get_by_role("button", name="Edges").click()
        page.get_by_label("Lineage").wait_for()

    def test_a_page_that_fails_says_so_and_brings_the_work_back(self) -> None:
        page = self.page
        page.on("dialog", lambda dialog: dialog.accept())
        page.route("**/revisions", lambda route: route.abort())
        self.put_white("0.6")
        page.get_by_role("button", name="Try again").wait_for()
        self.expected_console = ("Failed to load resource", "TypeError", "%o", "React Router caught", "Error")
        # What a description should never be: the page stumbles over it.
        page.route("**/inspect", lambda route: route.fulfill(json=[None]))
        self.put_white("0.65")
        page.get_by_role("heading", name="This page stopped").wait_for()
        page.get_by_text("kept in this browser").wait_for()
        page.unroute("**/inspect")
        page.unroute("**/revisions")
        page.get_by_role("button", name="Open it again").click()
        self.wait_for_step("core", white=0.65)
        self.complaints.clear()

    def test_fifteen_steps_as_fast_as_the_finder_takes_them(self) -> None:
        page = self.page
        self.choose_item(page, "comp")
        # Nothing is told of the new steps until all are there.
        held: list[Route] = []
        page.route("**/inspect", lambda route: held.append(route))
        for number in range(15):
            self.add_step(page, "blur" if number % 2 else "grade")
        self.wait_for(lambda: len(self.recipe()["steps"]) == 20)
        for route in held:
            route.continue_()
        page.unroute("**/inspect")
        for before, step in itertools.pairwise(self.recipe()["steps"][4:]):
            self.assertEqual(next(iter(step["in"].values())), before["name"])

    def test_the_finder_keeps_the_focus_however_soon_it_is_opened_again(self) -> None:
        page = self.page
        self.choose_item(page, "comp")
        # The key comes in the very moment in which the finder of before goes: no hand waits for what was added.
        page.evaluate(
            """() => {
              let shown = false;
              const watch = new MutationObserver(() => {
                const there = document.querySelector("[aria-controls=found-steps]") !== null;
                if (shown && !there) {
                  watch.disconnect();
                  document.body.dispatchEvent(new KeyboardEvent("keydown", { key: "/", bubbles: true }));
                }
                shown = there;
              });
              watch.observe(document.body, { childList: true, subtree: true });
            }"""
        )
        page.keyboard.press("/")
        page.get_by_role("combobox", name="Add a step by name or by need").fill("grade")
        page.keyboard.press("Enter")
        self.wait_for_step("grade")
        page.wait_for_timeout(300)
        page.wait_for_timeout(300)
        self.assertIn("combobox", page.evaluate("document.activeElement.outerHTML"))
        page.keyboard.type("blur")
        page.keyboard.press("Enter")
        self.wait_for_step("blur")
        self.comes_to(lambda: self.step("blur")["in"], {"from": "grade"})
