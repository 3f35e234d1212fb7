"""People added by an administrator, let into a project, and what each role is given to do."""

from __future__ import annotations

from browser_support import PASSWORD, BrowserTest

from accounts.models import User


class People(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        User.objects.filter(pk=self.user.pk).update(is_staff=True)

    def test_added_let_in_and_at_work(self) -> None:
        page = self.page
        page.goto(f"{self.live_server_url}/people")
        page.get_by_role("button", name="Add a person").click()
        page.get_by_label("Name to sign in with").fill("fern frond")
        page.get_by_label("Name, as others see it").fill("Fern of the Frond")
        page.keyboard.press("Enter")
        page.get_by_text("cannot be signed in by").wait_for()
        self.assertEqual(self.violations(page), [])
        page.get_by_label("Name to sign in with").fill("fern")
        page.get_by_role("button", name="Add", exact=True).click()
        page.get_by_role("dialog", name="A link for Fern of the Frond").wait_for()
        link = page.get_by_role("textbox", name="Link", exact=True).input_value()
        page.keyboard.press("Escape")
        page.get_by_text("has to choose a password").wait_for()
        self.assertEqual(self.violations(page), [])

        theirs = self.new_page()
        theirs.goto(link)
        theirs.get_by_text("You sign in as fern").wait_for()
        self.assertEqual(self.violations(theirs), [])
        theirs.get_by_label("Password, 8 letters").fill(PASSWORD)
        theirs.get_by_label("Once more").fill(PASSWORD)
        theirs.keyboard.press("Enter")
        theirs.get_by_text("You have no project yet").wait_for()
        again = self.new_page()
        again.goto(link)
        again.get_by_text("this link was used").wait_for()

        page.goto(f"{self.live_server_url}/projects/{self.project.pk}")
        page.get_by_role("button", name="Members").click()
        page.get_by_label("Let somebody in").fill("fern")
        page.get_by_role("combobox", name="Role", exact=True).click()
        page.get_by_role("option", name="Viewer").click()
        page.get_by_role("button", name="Let in").click()
        page.get_by_text("Fern of the Frond").wait_for()
        self.assertEqual(self.violations(page), [])

        theirs.reload()
        theirs.get_by_role("link", name="Night Conservatory").click()
        theirs.get_by_text("040 moth").wait_for()
        self.assertEqual(theirs.get_by_role("button", name="New shot").count(), 0)
        self.assertEqual(theirs.get_by_role("link", name="People").count(), 0)
        page.get_by_role("combobox", name="Role of Fern of the Frond").click()
        page.get_by_role("option", name="Artist").click()
        self.wait_for(lambda: self.project.memberships.get(user__username="fern").role == "artist")
        theirs.reload()
        theirs.get_by_role("button", name="New shot").wait_for()

        page.get_by_role("button", name="Leave").click()
        page.get_by_text("a project needs an owner").wait_for()
        theirs.get_by_role("button", name="Members").click()
        theirs.get_by_role("button", name="Leave").click()
        theirs.get_by_text("You have no project yet").wait_for()

    def test_turned_off_in_the_middle_of_work(self) -> None:
        fern = User.objects.create_user("fern", password=PASSWORD, first_name="Fern")
        theirs = self.sign_in(fern, "/projects")
        page = self.page
        page.goto(f"{self.live_server_url}/people")
        page.get_by_role("button", name="What to do about Fern").click()
        page.get_by_role("menuitem", name="Turn off").click()
        page.get_by_text("turned fern off").wait_for()
        theirs.reload()
        theirs.get_by_role("button", name="Sign in").wait_for()
        theirs.goto(f"{self.live_server_url}/people")
        theirs.get_by_role("button", name="Sign in").wait_for()
