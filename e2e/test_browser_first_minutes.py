"""The first minutes: an empty project and an empty shot say what to do next, and hints can be put away."""

from __future__ import annotations

from browser_support import PASSWORD, BrowserTest, plate
from server_support import exr_bytes

from accounts.models import User
from projects.models import Project, Role, Shot
from recipes.services import first_revision


class FirstMinutes(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.empty = Project.objects.create(name="Empty house")
        self.empty.memberships.create(user=self.user, role=Role.OWNER)

    def test_from_an_empty_project_to_the_first_step(self) -> None:
        page = self.page
        page.goto(f"{self.live_server_url}/projects/{self.empty.pk}")
        page.get_by_role("region", name="First steps").wait_for()
        self.assertEqual(self.violations(page), [])
        page.get_by_role("button", name="Start the first shot").click()
        page.get_by_role("textbox", name="Name", exact=True).fill("010 door")
        page.keyboard.press("Enter")
        steps = page.get_by_role("region", name="First steps")
        steps.get_by_text("A matte from the channels").wait_for()
        self.assertEqual(self.violations(page), [])
        for bench, told in (("Passes", "The passes of a render"), ("Space", "Depth, positions"), ("Packing", "Masks,")):
            page.get_by_role("button", name=bench, exact=True).click()
            steps.get_by_text(told).wait_for()
        page.get_by_role("button", name="More", exact=True).first.click()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Edges", exact=True).click()
        steps.get_by_role("button", name="More", exact=True).click()
        page.get_by_role("article", name="Edges").wait_for()
        page.keyboard.press("Escape")
        with page.expect_file_chooser() as chooser:
            steps.get_by_role("button", name="Add pictures…").click()
        chooser.value.set_files({"name": "moth.exr", "mimeType": "image/x-exr", "buffer": exr_bytes(plate())})
        steps.wait_for(state="detached")
        # Hints stand at the controls until something was made, or somebody puts them away.
        page.get_by_role("button", name="Mattes", exact=True).click()
        hints = page.get_by_role("note")
        self.wait_for_count(hints, 2)
        self.assertEqual(self.violations(page), [])
        page.get_by_role("button", name="Hide all hints").first.click()
        self.comes_to(lambda: hints.count(), 0)
        page.reload()
        page.get_by_role("button", name="Channel moth.G").wait_for()
        self.assertEqual(hints.count(), 0)
        page.get_by_role("button", name="More", exact=True).click()
        page.get_by_role("menuitem", name="Show hints").click()
        self.wait_for_count(hints, 2)

    def test_a_viewer_is_offered_nothing_that_they_may_not_do(self) -> None:
        fern = User.objects.create_user("fern", password=PASSWORD)
        self.empty.memberships.create(user=fern, role=Role.VIEWER)
        theirs = self.sign_in(fern)
        theirs.goto(f"{self.live_server_url}/projects/{self.empty.pk}")
        theirs.get_by_text("Its artists will start them").wait_for()
        shot = Shot.objects.create(project=self.empty, name="010 door")
        first_revision(shot, self.user.pk)
        self.open_shot(theirs, shot=shot)
        theirs.get_by_text("Its artists will add pictures").wait_for()
        self.assertEqual(theirs.get_by_role("button", name="Add pictures").count(), 0)
        self.assertEqual(self.violations(theirs), [])
