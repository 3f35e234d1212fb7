"""The wall of shots: found, grouped, renamed, duplicated, put aside, deleted and recovered."""

from __future__ import annotations

import tempfile
from pathlib import Path

from browser_support import BrowserTest
from django.test import override_settings
from playwright.sync_api import Page

from accounts.models import User
from projects.models import Membership, Project, Role, Shot
from recipes.services import first_revision
from wall import coming


class Wall(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        for name in ("050 lantern", "051 wing"):
            first_revision(Shot.objects.create(project=self.project, name=name), self.user.pk)
        self.open()

    def open(self) -> None:
        self.page.goto(f"{self.live_server_url}/projects/{self.project.pk}")
        self.page.get_by_text("040 moth").wait_for()

    def choose(self, shot: str, choice: str, page: Page | None = None) -> None:
        page = page or self.page
        page.get_by_role("button", name=f"What to do with {shot}", exact=True).click()
        page.get_by_role("menuitem", name=choice).click()

    def shown(self) -> list[str]:
        return self.page.locator("li a span.font-medium").all_inner_texts()

    def test_found_grouped_and_come_back_to(self) -> None:
        page = self.page
        self.choose("051 wing", "Say that it is done")
        self.wait_for(lambda: Shot.objects.get(name="051 wing").state == "done")
        page.get_by_role("combobox", name="Groups").click()
        page.get_by_role("option", name="By state").click()
        self.comes_to(lambda: page.locator("section h2").all_inner_texts(), ["to do", "done"])
        self.assertEqual(self.violations(page), [])
        page.get_by_label("Find shots by name or tag").fill("05 wing")
        self.wait_for_page(page, lambda: self.shown() == ["051 wing"])
        page.get_by_role("link", name="051 wing").click()
        page.get_by_label("Lineage").wait_for()
        page.go_back()
        self.wait_for_page(page, lambda: self.shown() == ["051 wing"])
        page.get_by_label("Find shots by name or tag").fill("nothing like it")
        page.get_by_text("No shot is called anything like").wait_for()

    def test_shots_that_are_still_drawn_are_told_and_come_by_themselves(self) -> None:
        self.enterContext(override_settings(VAR=Path(self.enterContext(tempfile.TemporaryDirectory()))))
        coming.tell(self.project.pk, [("110 glasshouse", 0.4), ("115 fireflies", 0)])
        self.open()
        place = self.page.get_by_role("region", name="Being drawn")
        place.get_by_text("2 shots are still being drawn").wait_for()
        self.assertEqual([row.split("\n") for row in place.get_by_role("listitem").all_inner_texts()],
                         [["110 glasshouse", "40 % drawn"], ["115 fireflies", "to come"]])  # fmt: skip
        self.assertEqual(self.violations(self.page), [])
        first_revision(Shot.objects.create(project=self.project, name="110 glasshouse"), self.user.pk)
        coming.tell(self.project.pk, [("115 fireflies", 1)])
        self.page.get_by_role("link", name="110 glasshouse").wait_for()
        place.get_by_text("drawn", exact=True).wait_for()
        coming.tell(self.project.pk, [])
        place.wait_for(state="hidden")

    def test_renamed_duplicated_and_put_aside(self) -> None:
        page = self.page
        self.choose("040 moth", "Rename")
        page.get_by_role("textbox", name="Name", exact=True).fill("050 lantern")
        page.keyboard.press("Enter")
        page.get_by_text("there is a shot '050 lantern' already").wait_for()
        page.get_by_role("textbox", name="Name", exact=True).fill("041 moth")
        page.keyboard.press("Enter")
        page.get_by_role("dialog").wait_for(state="hidden")
        self.choose("041 moth", "Duplicate")
        self.comes_to(lambda: page.get_by_role("textbox", name="Name", exact=True).input_value(), "041 moth (2)")
        page.keyboard.press("Enter")
        page.get_by_role("link", name="041 moth (2)").wait_for()
        page.get_by_role("img", name="Shot 041 moth (2)").wait_for()
        self.choose("041 moth (2)", "Put aside")
        page.get_by_role("link", name="041 moth (2)").wait_for(state="hidden")
        page.get_by_role("button", name="Put aside, 1").click()
        self.wait_for_page(page, lambda: self.shown() == ["041 moth (2)"])
        self.choose("041 moth (2)", "Bring back")
        page.get_by_text("All shots are put aside").wait_for(state="hidden")

    def test_deleted_under_somebodys_eyes_and_recovered(self) -> None:
        page = self.page
        orla = User.objects.create_user("orla", password="fern-frond-lantern", first_name="Orla")
        Membership.objects.create(project=self.project, user=orla, role=Role.ARTIST)
        theirs = self.sign_in(orla)
        self.open_shot(theirs)
        self.choose("040 moth", "Delete")
        page.get_by_text("With it go 2 revisions, 2 sources").wait_for()
        self.assertEqual(self.violations(page), [])
        page.get_by_role("button", name="Delete", exact=True).click()
        page.get_by_role("link", name="040 moth").wait_for(state="hidden")
        theirs.reload()
        theirs.get_by_text("not").first.wait_for()
        page.get_by_role("button", name="Deleted").click()
        self.assertEqual(self.violations(page), [])
        page.get_by_role("button", name="Recover 040 moth").click()
        page.get_by_text("Nothing was deleted").wait_for()
        page.keyboard.press("Escape")
        page.get_by_role("link", name="040 moth").wait_for()
        theirs.reload()
        theirs.get_by_label("Lineage").wait_for()

    def test_moved_to_another_project(self) -> None:
        page = self.page
        self.choose("040 moth", "Move")
        page.get_by_text("There is no other project").wait_for()
        page.keyboard.press("Escape")
        other = Project.objects.create(name="Day Conservatory")
        Membership.objects.create(project=other, user=self.user, role=Role.ARTIST)
        page.reload()
        self.choose("040 moth", "Move")
        page.get_by_role("button", name="Move").click()
        page.get_by_role("link", name="040 moth").wait_for(state="hidden")
        page.goto(f"{self.live_server_url}/projects/{other.pk}")
        page.get_by_role("link", name="040 moth").wait_for()

    def test_a_viewer_is_given_nothing_to_change(self) -> None:
        self.project.memberships.update(role=Role.VIEWER)
        self.open()
        self.assertEqual(self.page.get_by_role("button", name="What to do with").count(), 0)
        self.page.get_by_role("button", name="Deleted").click()
        self.page.get_by_text("Nothing was deleted").wait_for()

    def test_projects_side_by_side(self) -> None:
        page = self.page
        self.project.memberships.create(user=User.objects.create_user("fern", first_name="Fern"), role=Role.VIEWER)
        page.goto(f"{self.live_server_url}/projects")
        page.get_by_role("img", name="Shot 040 moth").wait_for()
        page.get_by_text("Mira, Fern").wait_for()
        self.assertEqual(self.violations(page), [])
        page.get_by_role("button", name="New project").click()
        page.get_by_role("textbox", name="Name", exact=True).fill("Day Conservatory")
        page.keyboard.press("Enter")
        page.get_by_text("No shots yet").wait_for()
        page.get_by_role("link", name="Projects", exact=True).click()
        page.get_by_role("button", name="What to do with Day Conservatory").click()
        page.get_by_role("menuitem", name="Put aside").click()
        page.get_by_role("button", name="Put aside, 1").click()
        page.get_by_role("link", name="Day Conservatory").wait_for()
        page.get_by_role("button", name="What to do with Day Conservatory").click()
        page.get_by_role("menuitem", name="Bring back from aside").click()
        page.get_by_text("None is put aside").wait_for()
        page.get_by_role("button", name="Put aside, 0").click()

        page.get_by_role("button", name="What to do with Night Conservatory").click()
        page.get_by_role("menuitem", name="Delete").click()
        page.get_by_text("With it go 3 shots, 4 revisions, 2 sources").wait_for()
        self.assertEqual(self.violations(page), [])
        page.get_by_role("button", name="Delete", exact=True).click()
        page.get_by_role("link", name="Night Conservatory").wait_for(state="detached")
        page.get_by_role("button", name="Deleted").click()
        page.get_by_role("button", name="Recover Night Conservatory").click()
        page.get_by_text("Nothing was deleted").wait_for()
        page.keyboard.press("Escape")
        page.get_by_role("link", name="Night Conservatory").click()
        page.get_by_text("040 moth").wait_for()

    def test_tagged_and_grouped(self) -> None:
        page = self.page
        page.goto(f"{self.live_server_url}/projects/{self.project.pk}")
        page.get_by_role("button", name="What to do with 040 moth").click()
        page.get_by_role("menuitem", name="Tags").click()
        page.get_by_label("Tags, parted by commas").fill("moths, night work")
        page.keyboard.press("Enter")
        page.get_by_text("moths, night work").wait_for()
        page.get_by_role("combobox", name="Groups").click()
        page.get_by_role("option", name="By tag").click()
        page.get_by_role("region", name="night work").get_by_text("040 moth").wait_for()
        page.get_by_label("Find shots by name or tag").fill("moths")
        self.wait_for_count(page.get_by_role("link", name="040 moth"), 2)
        page.get_by_role("button", name="What to do with 040 moth").first.click()
        page.get_by_role("menuitem", name="Tags").click()
        page.get_by_role("group", name="Tags of this project").get_by_role("button", name="moths").click()
        self.comes_to(lambda: page.get_by_label("Tags, parted by commas").input_value(), "night work")
        self.assertEqual(self.violations(page), [])
