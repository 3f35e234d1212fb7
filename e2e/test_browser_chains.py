"""Kept chains: steps kept under a name on one shot, and put to use on another with the same pixels."""

from __future__ import annotations

from browser_support import HEIGHT, WIDTH, BrowserTest, plate
from playwright.sync_api import Page
from server_support import exr_bytes

from chains.models import Chain


class Chains(BrowserTest):
    def test_kept_here_and_put_to_use_there(self) -> None:
        page = self.page
        self.open_shot(page, "?item=cut")
        page.get_by_role("button", name="More for cut").click()
        page.get_by_role("menuitem", name="Keep as a chain").click()
        dialog = page.get_by_role("dialog", name="Keep cut as a chain")
        dialog.get_by_role("textbox", name="Name", exact=True).fill("Green to a cut")
        dialog.get_by_role("button", name="Black of core", exact=True).click()
        self.assertEqual(self.violations(page), [])
        dialog.get_by_role("button", name="Keep", exact=True).click()
        dialog.wait_for(state="detached")
        self.comes_to(lambda: Chain.objects.get().first, [["core", "black"]])

        files = {"leaf.exr": exr_bytes(plate())}
        other = self.make_shot("050 leaf", {"nexal": 1, "sources": {"leaf": {"files": "leaf.exr"}}}, files)
        self.open_shot(page, "?item=leaf", other)
        page.keyboard.press("/")
        finder = page.get_by_role("combobox", name="Add a step by name or by need")
        finder.fill("green to a cut")
        page.get_by_role("option", name="Green to a cut").wait_for()
        self.assertEqual(self.violations(page), [])
        finder.press("Enter")
        dialog = page.get_by_role("dialog", name="Green to a cut")
        dialog.get_by_role("button", name="Put to use").wait_for()
        # The stroke that chose the chain has not pressed what came up.
        self.comes_to(lambda: dialog.is_visible(), True)
        page.keyboard.press("Enter")
        dialog.wait_for(state="detached")
        first = page.get_by_role("group", name="First settings of Green to a cut")
        first.get_by_role("slider", name="Black").wait_for()
        self.assertEqual(self.violations(page), [])

        # The same pixels, number by number, of both shots.
        def numbers(shot: int) -> list[float]:
            body = {"addresses": ["cut"], "x": WIDTH // 2, "y": HEIGHT // 2, "size": 17}
            headers = {"X-CSRFToken": self.cookie(page, "csrftoken"), "Referer": self.live_server_url}
            answer = page.request.post(f"{self.live_server_url}/api/shots/{shot}/probe", data=body, headers=headers)
            self.assertEqual(answer.status, 200)
            return answer.json()

        self.wait_for(lambda: bool(other.revisions.last().recipe.get("steps")))
        self.assertEqual(numbers(other.pk), numbers(self.shot.pk))

    def cookie(self, page: Page, name: str) -> str:
        return next(each["value"] for each in page.context.cookies() if each["name"] == name)

    def test_several_steps_together(self) -> None:
        page = self.page
        self.open_shot(page, "?item=core")
        lineage = page.get_by_label("Lineage")
        lineage.locator('[data-item="comp"]').click(modifiers=["Control"])
        lineage.get_by_role("button", name="core, stretch of pull, taken with others").wait_for()
        lineage.get_by_role("button", name="comp, stack of house, cut, taken with others").wait_for()
        self.assertEqual(self.violations(page), [])
        page.get_by_role("button", name="More for comp").click()
        page.get_by_role("menuitem", name="Keep as a chain").click()
        dialog = page.get_by_role("dialog", name="Keep core, comp as a chain")
        dialog.get_by_role("textbox", name="Name", exact=True).fill("Both")
        dialog.get_by_role("checkbox", name="matte").click()
        dialog.get_by_role("button", name="Keep", exact=True).click()
        dialog.wait_for(state="detached")
        self.comes_to(lambda: [step["name"] for step in Chain.objects.get().steps], ["pull", "core", "cut", "comp"])
        # A plain click takes one again.
        lineage.locator('[data-item="cut"]').click()
        self.wait_for_count(page.locator("[aria-label*='taken with others']"), 0)
        # By the keys, too.
        lineage.locator('[data-item="pull"]').focus()
        page.keyboard.press("Control+Enter")
        self.wait_for_count(page.locator("[aria-label*='taken with others']"), 2)
        lineage.locator('[data-item="cut"]').click()
        self.wait_for_count(page.locator("[aria-label*='taken with others']"), 0)

    def test_renamed_and_kept_no_longer(self) -> None:
        step = {"name": "turned", "op": "invert", "in": {"from": "plate.G"}}
        Chain.objects.create(project=self.project, name="Turned", steps=[step])
        Chain.objects.create(project=self.project, name="Other", steps=[step])
        page = self.page
        self.open_shot(page)
        page.get_by_role("button", name="More", exact=True).click()
        page.get_by_role("menuitem", name="Kept chains").click()
        turned = page.locator('[data-chain="Turned"]')
        turned.get_by_role("button", name="Rename").click()
        page.get_by_label("Name of the chain").fill("Other")
        page.keyboard.press("Enter")
        page.get_by_text("there is a chain 'Other' already").wait_for()
        page.get_by_label("Name of the chain").fill("Turned round")
        page.keyboard.press("Enter")
        turned = page.locator('[data-chain="Turned round"]')
        turned.wait_for()
        self.assertEqual(self.violations(page), [])
        turned.get_by_role("button", name="Keep no longer").click()
        self.comes_to(lambda: Chain.objects.count(), 2)
        turned.get_by_role("button", name="Really, for everybody").click()
        turned.wait_for(state="detached")
        self.comes_to(lambda: [chain.name for chain in Chain.objects.all()], ["Other"])
