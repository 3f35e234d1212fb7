"""Notes of two people about one shot: left at a place, read, answered, and marked done."""

from __future__ import annotations

from browser_support import PASSWORD, BrowserTest
from playwright.sync_api import Page

from accounts.models import User
from notes.models import Note
from projects.models import Membership, Role


class Notes(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.fern = User.objects.create_user("fern", password=PASSWORD, first_name="Fern")
        Membership.objects.create(project=self.project, user=self.fern, role=Role.VIEWER)

    def open_notes(self, page: Page) -> None:
        page.keyboard.press("b")
        page.get_by_role("complementary", name="Notes").wait_for()

    def test_a_viewer_says_where_and_an_artist_answers(self) -> None:
        theirs, page = self.sign_in(self.fern), self.page
        self.open_shot(page)
        self.open_shot(theirs)
        self.open_notes(theirs)
        theirs.get_by_text("Nothing is open").wait_for()
        theirs.get_by_role("button", name="A place…").click()
        theirs.mouse.click(*self.spot(theirs, 40, 20))
        theirs.get_by_label("New note").fill("<b>the rim</b> is green here")
        theirs.keyboard.press("Control+Enter")
        theirs.locator("[data-note]").wait_for()
        note = Note.objects.get()
        self.assertLess(abs(note.x - 40) + abs(note.y - 20), 2)
        self.assertEqual(self.violations(theirs), [])

        # The other one is told within seconds, and is led from the picture to the words.
        page.locator("[data-pin]").click()
        page.get_by_text("<b>the rim</b> is green here").wait_for()
        self.assertEqual(self.violations(page), [])
        page.get_by_role("button", name="Answer", exact=True).click()
        page.get_by_label("Answer", exact=True).fill("mended, see cut")
        page.get_by_role("button", name="Answer", exact=True).last.click()
        theirs.get_by_text("mended, see cut").wait_for()
        self.assertEqual(theirs.get_by_role("button", name="What to do with the answer").count(), 0)
        page.get_by_role("button", name="Done", exact=True).click()
        theirs.locator("[data-pin]").wait_for(state="detached")
        theirs.get_by_role("button", name="Done: 1").click()
        theirs.get_by_text("done, says").wait_for()
        self.assertEqual(self.violations(theirs), [])

    def test_words_that_could_not_be_sent_stay(self) -> None:
        page = self.page
        self.open_shot(page)
        self.open_notes(page)
        page.route("**/notes", lambda route: route.abort() if route.request.method == "POST" else route.continue_())
        page.get_by_label("New note").fill("look at the feelers")
        page.get_by_role("button", name="Leave the note").click()
        page.get_by_role("alert").wait_for()
        self.comes_to(lambda: page.get_by_label("New note").input_value(), "look at the feelers")
        page.unroute("**/notes")
        page.get_by_role("button", name="Leave the note").click()
        page.locator("[data-note]").wait_for()
        self.comes_to(lambda: page.get_by_label("New note").input_value(), "")
        # By the keys a place begins in the middle of the picture, and its numbers move it.
        place = page.get_by_role("button", name="A place…")
        place.focus()
        page.keyboard.press("Enter")
        across = page.get_by_label("Place of the note, x")
        across.fill("50")
        across.press("Enter")
        page.get_by_test_id("written").wait_for()
        self.assertEqual(self.violations(page), [])
        page.get_by_label("New note").fill("and here")
        page.keyboard.press("Control+Enter")
        page.locator("[data-pin]").wait_for()
        self.comes_to(lambda: Note.objects.get(text="and here").x, 50.5)
        page.get_by_test_id("written").wait_for(state="detached")
        self.wait_for_count(page.get_by_role("button", name="What to do with the note"), 2)
        Note.objects.filter(text="and here").delete()
        page.reload()
        page.get_by_label("Lineage").wait_for()
        self.open_notes(page)
        page.get_by_role("button", name="What to do with the note").click()
        page.get_by_role("menuitem", name="Change the words").click()
        page.get_by_label("Words of the note").fill("look at the left feeler")
        page.keyboard.press("Control+Enter")
        page.get_by_text("look at the left feeler").wait_for()
        page.get_by_role("button", name="What to do with the note").click()
        page.get_by_role("menuitem", name="Take away").click()
        page.get_by_text("Nothing is open").wait_for()
