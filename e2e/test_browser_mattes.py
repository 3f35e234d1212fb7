"""The Mattes bench by hand: marks and scout, ends, touch-up, shapes, warnings, slow work, comparing."""

from __future__ import annotations

import numpy as np
from browser_support import HEIGHT, RECIPE, WIDTH, BrowserTest, code, plate
from django.contrib.auth import get_user_model
from playwright.sync_api import Locator, Page, Route
from server_support import PASSWORD, exr_bytes

from nexal.recipe import parse_recipe
from projects.models import Membership, Role
from recipes.services import save
from stage.services import engine


def grainy() -> dict[str, np.ndarray]:
    """The plate with noise, as it would be filmed."""
    random = np.random.default_rng(2)
    noise = {name: 0.004 * random.standard_normal((HEIGHT, WIDTH)) for name in "RGB"}
    return {name: (plane + noise[name]).astype(np.float16) for name, plane in plate().items()}


class MattesTest(BrowserTest):
    def bench(self) -> Locator:
        return self.page.get_by_label("Bench")

    def click_at(self, x: float, y: float, **options: object) -> None:
        self.page.mouse.move(*self.spot(self.page, x, y))
        modifier = options.get("modifier")
        if modifier:
            self.page.keyboard.down(str(modifier))
        self.page.mouse.down()
        self.page.mouse.up()
        if modifier:
            self.page.keyboard.up(str(modifier))

    def drag(self, *points: tuple[float, float]) -> None:
        self.page.mouse.move(*self.spot(self.page, *points[0]))
        self.page.mouse.down()
        for point in points[1:]:
            self.page.mouse.move(*self.spot(self.page, *point), steps=6)
        self.page.mouse.up()

    def marks(self) -> list[dict]:
        self.shot.refresh_from_db()
        return self.shot.marks

    def open_with(self, name: str, planes: dict[str, np.ndarray], steps: list[dict], query: str) -> Page:
        """Another shot with one picture of the stage's usual size."""
        recipe = {"nexal": 1, "sources": {"plate": {"files": "plate.exr"}}, "steps": steps}
        self.shot = self.make_shot(name, recipe, {"plate.exr": exr_bytes(planes)})
        return self.open_shot(query=query)


class Scouting(MattesTest):
    def mark(self) -> None:
        self.bench().get_by_role("button", name="Subject").click()
        self.click_at(160, 90)
        self.click_at(140, 70)
        self.bench().get_by_role("button", name="Background").click()
        self.click_at(40, 40)
        self.click_at(290, 150)

    def rows(self) -> Locator:
        return self.page.get_by_role("listbox", name="Candidates").get_by_role("option")

    def test_a_coloured_screen_is_recognised_and_its_whole_matte_is_one_click(self) -> None:
        page = self.open_shot(query="?item=moth")
        note = page.get_by_role("group", name="Coloured screen")
        note.get_by_text("Before a green screen").wait_for()
        note.get_by_text("of it bare").wait_for()
        note.get_by_role("button", name="Whole matte").click()
        self.wait_for_step("cut_2")
        made = [self.step(name)["op"] for name in ("plate", "matte_2", "spill", "cut_2")]
        self.assertEqual(made, ["screen_plate", "screen_solve", "screen_solve", "recover_colour"])
        self.comes_to(lambda: self.step("matte_2")["in"], {"picture": "moth", "clean": "plate"})
        self.choose_item(page, "matte_2")
        # Computed in the background, like every slow step; what comes out is the core's to test.
        page.get_by_text("Computing").first.wait_for()
        self.choose_item(page, "core")
        note.wait_for(state="hidden")

    def test_a_whole_matte_of_marks_is_told_more_with_two_brushes(self) -> None:
        page = self.open_shot(query="?item=moth")
        self.mark()
        self.wait_for(lambda: len(self.marks()) == 4)
        page.get_by_label("Scout", exact=True).get_by_role("button", name="Whole matte").click()
        self.wait_for_step("cut_2")
        self.comes_to(
            lambda: [self.step(name)["op"] for name in ("matte_2", "cut_2")], ["mark_solve", "recover_colour"]
        )
        self.choose_item(page, "matte_2")
        self.assert_pixel(page, 160, 60, [255] * 3)
        self.assert_pixel(page, 30, 150, [0] * 3)
        # Not what is seen roughly: the matte itself.
        page.get_by_text("Computing matte_2").wait_for(state="hidden", timeout=90_000)
        # What it is told is a stroke of the recipe, and counts.
        page.get_by_role("button", name="Drop", exact=True).click()
        for key in "--------":
            page.keyboard.press(key)
        page.mouse.click(*self.spot(page, 130, 70))
        self.wait_for(lambda: len(self.step("matte_2")["set"]["strokes"]) == 5)
        self.comes_to(lambda: self.step("matte_2")["set"]["strokes"][-1]["value"], 0)
        self.assert_pixel(page, 130, 70, [0] * 3)
        page.get_by_role("button", name="Keep", exact=True).click()
        page.mouse.click(*self.spot(page, 30, 150))
        self.wait_for(lambda: len(self.step("matte_2")["set"]["strokes"]) == 6)
        self.assert_pixel(page, 30, 150, [255] * 3)
        page.get_by_label("Strokes").get_by_text("Keep 6").wait_for()
        page.keyboard.down("Alt")
        page.mouse.click(*self.spot(page, 30, 150))
        page.keyboard.up("Alt")
        self.wait_for(lambda: len(self.step("matte_2")["set"]["strokes"]) == 5)
        self.assert_pixel(page, 30, 150, [0] * 3)
        # The brush is put down where there is nothing to tell.
        self.choose_item(page, "house")
        page.get_by_role("button", name="Keep", exact=True).wait_for(state="hidden")
        self.comes_to(lambda: page.get_by_test_id("overlay").count(), 0)

    def test_where_a_whole_matte_is_unsure_is_gone_through_with_a_key(self) -> None:
        strokes = [
            {"points": [[160, 90]], "radius": 9, "value": 1},
            {"points": [[20, 20]], "radius": 9, "value": 0},
        ]
        step = {"name": "whole", "op": "mark_solve", "in": {"picture": "moth"}, "set": {"strokes": strokes, "band": 8}}
        save(self.shot, self.user.pk, 2, parse_recipe(RECIPE | {"steps": [step]}))
        page = self.open_shot(query="?item=whole")
        self.assert_pixel(page, 160, 60, [255] * 3)
        note = page.get_by_role("group", name="Unsure places")
        note.get_by_role("button", name="Unsure places").click()
        note.get_by_text("of the picture").wait_for()
        boxes = page.locator("[data-unsure]")
        self.wait_for_page(page, lambda: boxes.count() > 1, "several places")
        page.keyboard.press("u")
        page.locator("[data-unsure=here]").wait_for()
        note.get_by_text(f"1 of {boxes.count()}").wait_for()
        page.keyboard.press("Shift+U")
        note.get_by_text(f"{boxes.count()} of {boxes.count()}").wait_for()
        # They are tinted, until that is turned off; what is sure is not.
        page.keyboard.press("f")
        row = range(60, 261, 4)

        def tinted() -> int:
            return sum(len(set(self.pixel(page, x, 90)[:3])) > 1 for x in row)

        self.wait_for_page(page, lambda: tinted() > 0, "a tint where the matte is unsure")
        self.assert_pixel(page, 20, 150, [0] * 3)
        note.get_by_role("button", name="Tint").click()
        self.wait_for_page(page, lambda: tinted() == 0, "no tint")

    def test_a_matte_is_put_to_the_proof(self) -> None:
        ports = {"picture": "moth"}
        step = {"name": "whole", "op": "screen_solve", "in": ports, "set": {"screen": "green"}}
        self.shot = self.make_shot("044 proof", RECIPE | {"steps": [step]}, {"moth.exr": exr_bytes(grainy())})
        page = self.open_shot(query="?item=whole")
        self.assert_pixel(page, 160, 90, [255] * 3)
        proof = page.get_by_role("group", name="Proof")
        proof.get_by_role("button", name="Proof").click()
        proof.get_by_text("of the noise").wait_for()
        proof.get_by_role("button", name="Rebuilt").click()
        page.get_by_text("Preview: shot rebuilt from whole").wait_for()
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)], near=8)
        self.assert_pixel(page, 20, 20, [code(0.125), code(0.5 + 20 / 2048), code(0.0625)], near=8)
        proof.get_by_role("button", name="Off by").click()
        page.get_by_text("Preview: off by times the noise").wait_for()
        # Far from any edge it is off by less than two of six.
        self.wait_for_page(page, lambda: max(self.pixel(page, 30, 150)[:3]) < 85, "little noise")
        proof.get_by_role("button", name="By hand").click()
        page.get_by_text("Pin: by_hand").wait_for()
        self.assert_pixel(page, 160, 90, [255] * 3)
        proof.get_by_role("button", name="By hand").click()
        page.get_by_text("Pin: by_hand").wait_for(state="hidden")
        self.comes_to(lambda: [each["name"] for each in self.recipe()["steps"]], ["whole"])
        page.get_by_role("button", name="How it works").click()
        told = page.get_by_role("dialog")
        told.get_by_text("are a palette of 16").wait_for()
        pictures = "[...document.querySelectorAll('[role=dialog] img')].map((each) => each.naturalWidth)"
        self.wait_for_page(page, lambda: page.evaluate(pictures) == [720, 720], "both pictures")
        page.keyboard.press("Escape")
        told.wait_for(state="hidden")

    def test_mark_rank_preview_and_take(self) -> None:
        page = self.open_shot(query="?item=moth")
        self.assert_pixel(page, 20, 20, [code(0.125), code(0.5 + 20 / 2048), code(0.0625)])
        self.mark()
        self.wait_for(lambda: len(self.marks()) == 4)
        self.assertEqual([m["side"] for m in self.marks()], ["subject"] * 2 + ["background"] * 2)
        self.assertAlmostEqual(self.marks()[0]["x"], 160, delta=1)
        self.rows().first.wait_for()
        self.bench().get_by_text("tried").wait_for()
        self.assertGreaterEqual(self.rows().count(), 4)
        self.assertIn("separation 100.0", self.rows().first.get_attribute("aria-label") or "")
        # Hover previews on the stage, and makes no revision.
        self.rows().nth(1).hover()
        page.get_by_text("Preview: ").wait_for()
        self.assert_pixel(page, 180, 100, [255] * 3)
        self.assert_pixel(page, 250, 30, [0] * 3)
        page.mouse.move(*self.spot(page, 300, 170))
        page.get_by_text("Preview: ").wait_for(state="hidden")
        self.shot.refresh_from_db()
        self.assertEqual(self.shot.head.number, 2)
        # Keys walk the board; Enter takes the row as named steps.
        page.get_by_role("listbox", name="Candidates").focus()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        self.wait_for(
            lambda: any(step["op"] == "stretch" and step["name"] != "core" for step in self.recipe()["steps"])
        )
        taken = next(step for step in self.recipe()["steps"] if step["op"] == "stretch" and step["name"] != "core")
        page.locator(f'[data-item="{taken["name"]}"][aria-current="true"]').wait_for()
        self.assert_pixel(page, 180, 100, [255] * 3)
        self.assert_pixel(page, 250, 30, [0] * 3)

    def test_marks_are_kept_moved_and_taken_away(self) -> None:
        page = self.open_shot(query="?item=moth")
        self.mark()
        # Left at once: what waits to be kept goes along.
        page.reload()
        self.wait_for(lambda: len(self.marks()) == 4)
        page.reload()
        page.locator("[data-mark=subject]").first.wait_for()
        self.wait_for_count(page.locator("[data-mark]"), 4)
        self.bench().get_by_role("button", name="Background").click()
        self.drag((40, 40), (60, 150))
        self.wait_for(lambda: abs(self.marks()[2]["y"] - 150) < 2)
        self.assertAlmostEqual(self.marks()[2]["x"], 60, delta=2)
        self.click_at(290, 150, modifier="Alt")
        self.wait_for(lambda: len(self.marks()) == 3)
        page.keyboard.press("=")
        page.keyboard.press("=")
        self.click_at(290, 20)
        self.wait_for(lambda: len(self.marks()) == 4 and self.marks()[3]["radius"] > self.marks()[0]["radius"] * 1.2)
        self.bench().get_by_role("button", name="clear").click()
        self.wait_for(lambda: self.marks() == [])
        self.bench().get_by_text("Mark a few spots").wait_for()

    def test_skylines_of_the_marks_and_a_turned_matte(self) -> None:
        page = self.open_shot(query="?item=core")
        page.locator("[data-skyline=whole]").first.wait_for()
        self.mark()
        page.locator("[data-skyline=background]").first.wait_for()
        # `core` is white where the backing is: with marks, that is known to be the wrong way round.
        warning = self.bench().get_by_role("listitem").filter(has_text="wrong way round")
        warning.get_by_role("button", name="Turn it round").click()
        self.wait_for_step("turned")
        self.comes_to(lambda: self.step("turned")["in"], {"from": "core"})
        self.assert_pixel(page, 180, 100, [255] * 3)
        self.bench().get_by_role("button", name="Feed from turned").click()
        self.wait_for(lambda: self.step("matte")["in"]["from"] == "turned")

    def test_a_board_of_modes_for_a_chosen_pair(self) -> None:
        page = self.open_shot(query="?item=pull")
        self.bench().get_by_role("button", name="All modes side by side").click()
        modes = self.bench().get_by_role("group", name="Modes").get_by_role("button")
        self.wait_for_count(modes, 16)
        lighten = modes.filter(has_text="lighten")
        lighten.hover()
        self.assert_pixel(page, 160, 90, [round(255 * 0.75)] * 3)
        lighten.click()
        self.wait_for_step("pull", mode="lighten")
        self.assert_pixel(page, 160, 90, [round(255 * 0.75)] * 3)

    def test_a_viewer_looks_and_cannot_mark(self) -> None:
        viewer = get_user_model().objects.create_user("wim", password=PASSWORD)
        Membership.objects.create(project=self.project, user=viewer, role=Role.VIEWER)
        self.page = self.sign_in(viewer)
        self.open_shot(self.page, query="?item=moth")
        button = self.bench().get_by_role("button", name="Subject")
        button.wait_for()
        self.comes_to(lambda: button.is_disabled(), True)
        self.page.keyboard.press("t")
        self.assertEqual(self.page.get_by_test_id("overlay").count(), 0)


class Ends(MattesTest):
    def test_thin_parts_are_counted_and_shown_as_they_vanish(self) -> None:
        plane = np.zeros((HEIGHT, WIDTH), np.float32)
        plane[60:120, 40:120] = 1
        for row in (70, 90, 110):
            plane[row, 180:280] = 0.5
        step = {"name": "ends", "op": "stretch", "in": {"from": "plate.M"}, "set": {"black": 0, "white": 1}}
        page = self.open_with("030 rigging", {"M": plane}, [step], "?item=ends")
        self.bench().get_by_text("3 thin parts kept").wait_for()
        field = self.bench().get_by_label("Black value", exact=True)
        field.fill("0.4")
        field.press("Enter")
        self.bench().get_by_text("3 thin parts lost").wait_for()
        self.wait_for_count(page.get_by_label("Lost or unexplained").locator("rect"), 3)
        self.assert_pixel(page, 230, 90.5, [round(255 / 6)] * 3)
        page.keyboard.press("Control+z")
        self.bench().get_by_text("3 thin parts kept").wait_for()
        self.comes_to(lambda: page.get_by_label("Lost or unexplained").locator("rect").count(), 0)

    def test_ends_are_picked_from_the_picture(self) -> None:
        page = self.open_shot(query="?item=core")
        self.bench().get_by_role("button", name="Pick White from the picture").click()
        page.get_by_text("Click in the picture").wait_for()
        self.click_at(300.5, 20.5)
        wanted = 0.5 + 300 / 2048 - 0.125
        self.wait_for(lambda: abs(self.step("core")["set"]["white"] - wanted) < 0.002)

    def test_a_reference_is_sampled_for_a_screen_pull(self) -> None:
        page = self.open_shot(query="?item=moth")
        self.add_step(page, "screen pull")
        self.wait_for_step("screen_pull")
        self.bench().get_by_role("button", name="Pick from the picture").click()
        self.click_at(20.5, 20.5)
        self.wait_for(lambda: "reference" in self.step("screen_pull").get("set", {}))
        self.assertAlmostEqual(self.step("screen_pull")["set"]["reference"][0], 0.125, 4)
        self.assert_pixel(page, 21, 21, [0] * 3, near=3)
        self.assert_pixel(page, 160, 90, [255] * 3)


class ByHand(MattesTest):
    def strokes(self, name: str = "touch_up") -> list[dict]:
        return self.step(name).get("set", {}).get("strokes", [])

    def test_paint_erase_change_and_undo(self) -> None:
        page = self.open_shot(query="?item=matte")
        self.assert_pixel(page, 40, 40, [0] * 3)
        page.keyboard.press("t")
        self.drag((30, 40), (60, 40))
        self.wait_for(lambda: len(self.strokes()) == 1)
        page.locator('[data-item="touch_up"][aria-current="true"]').wait_for()
        self.assert_pixel(page, 45, 40, [255] * 3)
        self.live(page).wait_for(state="detached")
        self.assert_pixel(page, 45, 40, [255] * 3)
        # Black, harder and smaller, over the subject.
        value = self.bench().get_by_label("Value value", exact=True)
        value.fill("0")
        value.press("Enter")
        page.keyboard.press("-")
        self.drag((150, 90), (170, 90))
        self.wait_for(lambda: len(self.strokes()) == 2)
        self.assertLess(self.strokes()[1]["radius"], self.strokes()[0]["radius"])
        self.assert_pixel(page, 160, 90, [0] * 3)
        # Changed later: half as strong.
        self.bench().get_by_role("button", name="Stroke 2", exact=False).first.click()
        opacity = self.bench().get_by_role("group", name="Stroke 2").get_by_label("Opacity value")
        opacity.fill("0.5")
        opacity.press("Enter")
        self.assert_pixel(page, 160, 90, [128] * 3, near=3)
        # Erased, then brought back stroke by stroke.
        self.click_at(160, 90, modifier="Alt")
        self.wait_for(lambda: len(self.strokes()) == 1)
        self.assert_pixel(page, 160, 90, [255] * 3)
        for count in (2, 2, 1):
            page.keyboard.press("Control+z")
            self.wait_for(lambda count=count: len(self.strokes()) == count)
        page.keyboard.press("Control+z")
        self.wait_for(lambda: not self.step("touch_up"))
        page.locator('[data-item="matte"][aria-current="true"]').wait_for()
        self.assert_pixel(page, 45, 40, [0] * 3)

    def live(self, page: Page) -> Locator:
        """The stage for as long as it shows strokes that are not computed yet."""
        return page.locator('canvas[data-pane="main"][data-strokes="live"]')

    def hold(self, *spots: tuple[float, float]) -> None:
        """Press at the first of them, go by the others, and hold on."""
        for number, spot in enumerate(spots):
            self.page.mouse.move(*self.spot(self.page, *spot))
            if not number:
                self.page.mouse.down()

    def go_on_and_let_go(self) -> None:
        self.page.mouse.move(*self.spot(self.page, 220, 130), steps=4)
        self.page.mouse.up()
        self.page.mouse.move(*self.spot(self.page, 250, 60), steps=4)

    def test_a_stroke_is_given_up_and_the_brush_stays(self) -> None:
        page = self.open_shot(query="?item=matte")
        live = self.live(page)
        page.keyboard.press("t")
        self.hold((30, 40), (60, 40), (90, 40))
        live.wait_for()
        page.keyboard.press("Escape")
        live.wait_for(state="detached")
        self.go_on_and_let_go()
        self.assertEqual(live.count(), 0)
        # So it is by another tool, taken in the middle of it: nothing of it comes back.
        self.hold((30, 40), (60, 40))
        live.wait_for()
        page.get_by_role("button", name="Draw shapes").press("Enter")
        live.wait_for(state="detached")
        self.go_on_and_let_go()
        page.keyboard.press("Escape")
        page.keyboard.press("t")
        self.go_on_and_let_go()
        self.assertEqual(live.count(), 0)
        self.drag((150, 90), (170, 90))
        self.wait_for(lambda: len(self.strokes()) == 1)
        first = self.strokes()[0]["points"][0]
        self.assertAlmostEqual(first[0], 150, delta=1)
        self.assertEqual([step["op"] for step in self.recipe()["steps"]].count("shape"), 0)
        # The brush is put down by Escape alone.
        page.keyboard.press("Escape")
        page.get_by_test_id("overlay").wait_for(state="hidden")

    def test_marks_of_a_drag_are_given_up_together(self) -> None:
        self.open_shot(query="?item=moth")
        self.bench().get_by_role("button", name="Subject").click()
        self.click_at(160, 90)
        self.wait_for(lambda: len(self.marks()) == 1)
        self.hold((40, 40), (90, 40), (140, 40), (190, 40))
        self.bench().get_by_role("button", name="Subject").get_by_text("5").wait_for()
        self.page.keyboard.press("Escape")
        self.bench().get_by_role("button", name="Subject").get_by_text("1").wait_for()
        self.go_on_and_let_go()
        # One that is there and is moved goes back to its place.
        self.hold((160, 90), (200, 120))
        self.page.keyboard.press("Escape")
        self.go_on_and_let_go()
        self.click_at(290, 150)
        self.wait_for(lambda: len(self.marks()) == 2)
        self.assertEqual([round(mark["x"]) for mark in self.marks()], [160, 290])

    def test_the_point_in_hand_is_given_up_and_the_curve_goes_on(self) -> None:
        page = self.open_shot(query="?item=matte")
        page.get_by_role("button", name="Draw shapes").click()
        for spot in ((60, 40), (200, 40), (200, 140)):
            self.click_at(*spot)
        self.hold((260, 90), (280, 120))
        page.keyboard.press("Escape")
        self.go_on_and_let_go()
        page.keyboard.press("Enter")
        self.wait_for(lambda: bool(self.step("shape")))
        (path,) = self.step("shape")["set"]["paths"]
        self.assertEqual(len(path["points"]), 3)
        # A point of it that is moved when another tool is taken goes back, and nothing is left unsaved.
        page.locator('[data-item="shape"][aria-current="true"]').wait_for()
        self.hold((60, 40), (90, 60), (100, 70))
        page.keyboard.press("t")
        self.go_on_and_let_go()
        page.wait_for_timeout(500)
        self.assertEqual(page.get_by_role("banner").first.get_by_text("not saved").count(), 0)
        page.reload()
        page.locator('[data-item="shape"]').wait_for()
        self.assertEqual(page.get_by_text("unsaved work found").count(), 0)
        self.assertEqual(self.step("shape")["set"]["paths"][0]["points"], path["points"])

    def test_the_ring_at_the_pointer(self) -> None:
        page = self.open_shot(query="?item=matte")
        page.mouse.move(*self.spot(page, 160, 90))
        page.keyboard.press("t")
        page.keyboard.down("t")
        ring = page.get_by_label("Brush settings")
        ring.wait_for()
        x, y = self.spot(page, 160, 90)
        page.mouse.move(x + 40, y)
        for _ in range(3):
            page.mouse.wheel(0, -100)
        ring.get_by_text(f"{24 * 1.1**3:.1f} px").wait_for()
        page.mouse.move(x, y + 40)
        page.mouse.wheel(0, 100)
        ring.get_by_text("0.95").wait_for()
        page.mouse.down()
        page.mouse.up()
        page.keyboard.up("t")
        ring.wait_for(state="hidden")
        self.click_at(160, 90)
        self.wait_for(lambda: len(self.strokes()) == 1)
        stroke = self.strokes()[0]
        self.assertEqual((stroke["value"], stroke["opacity"]), (0, 0.95))
        self.assertAlmostEqual(stroke["radius"], 31.9, delta=0.15)

    def test_what_is_found_of_a_screen_moves_nothing_under_the_hand(self) -> None:
        held: list[Route] = []
        self.page.route("**/screen", lambda route: held.append(route))
        page = self.open_shot(query="?item=moth")
        page.keyboard.press("t")
        alpha = self.bench().get_by_role("group", name="Works on").get_by_role("button", name="alpha")
        alpha.wait_for()
        self.wait_for_page(page, lambda: len(held) == 1)
        page.wait_for_timeout(500)
        before = alpha.bounding_box()
        held[0].continue_()
        self.bench().get_by_role("group", name="Coloured screen").wait_for()
        self.assertEqual(alpha.bounding_box(), before)

    def test_what_is_told_late_of_a_source_moves_nothing_under_the_hand(self) -> None:
        page = self.page
        held: list[Route] = []
        late = True
        for path in ("inspect", "sources", "sources/*"):
            page.route(f"**/{path}", lambda route: held.append(route) if late else route.continue_())
        self.open_shot(page, "?item=moth")
        lines = (self.bench().get_by_text("Colour", exact=True), self.bench().get_by_role("button", name="Touch up"))
        places = [line.bounding_box() for line in lines]
        self.wait_for_count(self.bench().get_by_text("…", exact=True), 7)
        late = False
        for route in held:
            route.continue_()
        self.wait_for_count(self.bench().get_by_text("…", exact=True), 0)
        self.bench().get_by_text("none: opaque").wait_for()
        self.assertEqual([line.bounding_box() for line in lines], places)

    def test_alpha_alone_while_all_is_shown(self) -> None:
        page = self.open_shot(query="?item=moth")
        page.keyboard.press("t")
        works = self.bench().get_by_role("group", name="Works on")
        works.get_by_role("button", name="alpha").click()
        self.bench().get_by_text("moth has no alpha").wait_for()
        self.drag((150, 90), (170, 90))
        page.get_by_text("has no alpha to paint on").wait_for()
        self.assertFalse(any(step["op"] == "touch_up" for step in self.recipe()["steps"]))
        self.bench().get_by_role("button", name="Add an alpha").click()
        self.wait_for_step("moth_alpha")
        page.locator('[data-item="moth_alpha"][aria-current="true"]').wait_for()
        self.bench().get_by_label("Value value", exact=True).fill("0")
        page.keyboard.press("Enter")
        self.drag((150, 90), (170, 90))
        self.wait_for(lambda: len(self.strokes()) == 1)
        self.assertEqual(self.strokes()[0]["channels"], ["A"])
        page.keyboard.press("v")
        # On black the erased spot is black, and the colour under it comes back when seen alone.
        self.assert_pixel(page, 160, 90, [0] * 3)
        page.keyboard.press("1")
        self.assert_pixel(page, 160, 90, [code(0.75)] * 3)

    def test_draw_move_cut_and_delete_a_shape(self) -> None:
        page = self.open_shot(query="?item=moth")
        self.bench().get_by_role("button", name="Draw shapes").click()
        for point in ((60, 40), (140, 40), (140, 140), (60, 140)):
            self.click_at(*point)
        page.keyboard.press("Enter")
        self.wait_for_step("shape")
        page.locator('[data-item="shape"][aria-current="true"]').wait_for()
        self.comes_to(lambda: self.step("shape")["in"], {"like": "moth"})
        self.assert_pixel(page, 100, 90, [255] * 3)
        self.assert_pixel(page, 200, 90, [0] * 3)
        # One point moved, then the whole.
        self.drag((140, 140), (220, 140))
        self.assert_pixel(page, 170, 130, [255] * 3)
        self.drag((100, 60), (110, 70))
        self.wait_for(lambda: abs(self.step("shape")["set"]["paths"][0]["points"][0][0] - 70) < 2)
        # A second one that cuts a hole.
        for point in ((90, 70), (120, 70), (120, 100), (90, 100)):
            self.click_at(point[0] + 150, point[1])
        page.keyboard.press("Enter")
        self.wait_for(lambda: len(self.step("shape")["set"]["paths"]) == 2)
        self.assert_pixel(page, 255, 85, [255] * 3)
        self.bench().get_by_role("group", name="Does").get_by_role("button", name="cut").click()
        self.wait_for(lambda: self.step("shape")["set"]["paths"][1].get("mode") == "cut")
        self.assert_pixel(page, 255, 85, [0] * 3)
        # A hole inside of the first begins with Alt.
        self.click_at(110, 90, modifier="Alt")
        for point in ((140, 90), (140, 110), (110, 110)):
            self.click_at(*point)
        page.keyboard.press("Enter")
        self.wait_for(lambda: len(self.step("shape")["set"]["paths"]) == 3)
        self.bench().get_by_role("group", name="Does").get_by_role("button", name="cut").click()
        self.assert_pixel(page, 125, 100, [0] * 3)
        self.bench().get_by_role("button", name="Take away curve 3").click()
        self.wait_for(lambda: len(self.step("shape")["set"]["paths"]) == 2)
        self.bench().get_by_role("button", name="Take away curve 2").click()
        self.wait_for(lambda: len(self.step("shape")["set"]["paths"]) == 1)
        self.bench().get_by_label("Curves").get_by_role("button", name="Curve 1").first.click()
        field = self.bench().get_by_label("Feather out value")
        field.fill("20")
        field.press("Enter")
        self.wait_for(lambda: self.step("shape")["set"]["paths"][0].get("feather") == [0, 20])

    def test_curves_and_points_on_a_line(self) -> None:
        page = self.open_shot(query="?item=moth")
        self.bench().get_by_role("button", name="Draw shapes").click()
        self.click_at(60, 60)
        self.click_at(200, 60)
        self.drag((200, 140), (170, 160))
        self.click_at(60, 60)
        self.wait_for_step("shape")
        page.locator('[data-item="shape"][aria-current="true"]').wait_for()
        points = self.step("shape")["set"]["paths"][0]["points"]
        self.assertEqual([len(point) for point in points], [2, 2, 6])
        self.assertAlmostEqual(points[2][4], -30, delta=2)
        self.assertAlmostEqual(points[2][2], 30, delta=2)
        page.mouse.dblclick(*self.spot(page, 130, 60))
        self.wait_for(lambda: len(self.step("shape")["set"]["paths"][0]["points"]) == 4)
        page.keyboard.press("Delete")
        self.wait_for(lambda: len(self.step("shape")["set"]["paths"][0]["points"]) == 3)

    def test_a_painted_matte_is_delivered(self) -> None:
        page = self.open_shot(query="?item=matte")
        page.keyboard.press("t")
        self.drag((30, 40), (60, 40))
        self.wait_for(lambda: len(self.strokes()) == 1)
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="New deliverable").click()
        page.get_by_role("dialog").get_by_role("button", name="Render", exact=True).click()
        path = self.downloaded("touch_up.exr")
        import OpenEXR

        with OpenEXR.File(str(path), separate_channels=True) as file:
            matte = file.channels()["Y"].pixels
        self.assertEqual((float(matte[40, 45]), float(matte[90, 160]), float(matte[170, 300])), (1, 1, 0))


class Together(MattesTest):
    def test_mattes_in_a_list_and_a_formula(self) -> None:
        page = self.open_shot(query="?item=matte")
        self.add_step(page, "union")
        self.wait_for_step("logic")
        self.comes_to(lambda: self.step("logic")["in"], {"mattes": ["matte"]})
        self.bench().get_by_role("button", name="One more: not fed").click()
        page.get_by_label("Find an address for One more").fill("core")
        page.keyboard.press("Enter")
        self.wait_for(lambda: self.step("logic")["in"]["mattes"] == ["matte", "core"])
        self.assert_pixel(page, 20, 20, [255] * 3)
        self.choose_item(page, "moth")
        self.add_step(page, "formula")
        self.wait_for_step("formula")
        text = self.bench().get_by_label("Formula for Y")
        text.fill("a.g - a.q")
        text.press("Enter")
        self.bench().get_by_role("alert").get_by_text("at character 7").wait_for()
        text.fill("a.g - max(a.r, a.b)")
        text.press("Enter")
        self.assert_pixel(page, 20, 20, [round(255 * (0.5 + 20 / 2048 - 0.125))] * 3)

    def test_blink_and_difference_against_the_pin(self) -> None:
        page = self.open_shot(query="?item=moth")
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        page.keyboard.press("p")
        page.keyboard.press("d")
        self.assert_pixel(page, 160, 90, [0, 0, 0])
        self.choose_item(page, "comp")
        # Outside the subject the composite is blue: |plate - blue|.
        plate = [code(0.125), code(0.5 + 300 / 2048), code(0.0625)]
        self.assert_pixel(page, 300, 20, [plate[0], plate[1], 255 - plate[2]])
        page.keyboard.press("j")
        seen: set[tuple[int, ...]] = set()
        blue, green = (0, 0, 255), tuple(plate)

        def both() -> bool:
            seen.add(tuple(self.pixel(page, 300, 20)[:3]))
            return {blue, green} <= seen

        self.wait_for_page(page, both, f"blue and green in turns, seen {seen}")

    def test_step_opacity_and_pixel_alpha_are_told_apart(self) -> None:
        page = self.open_shot(query="?item=comp")
        field = self.bench().get_by_label("Opacity value", exact=True)
        field.fill("0.5")
        field.press("Enter")
        self.wait_for_step("comp", opacity=0.5)
        page.mouse.move(*self.spot(page, 160.5, 90.5))
        probe = page.get_by_test_id("probe")
        probe.get_by_text("step opacity 0.50").wait_for()
        probe.get_by_text("A 1.0000").wait_for()

    def set_band(self, width: str) -> None:
        self.bench().get_by_role("button", name="auto").click()
        field = self.bench().get_by_label("Band", exact=True)
        field.fill(width)
        field.press("Enter")

    def test_a_slow_step_is_computed_in_the_background(self) -> None:
        engine().cache.clear()
        page = self.open_shot(query="?item=matte")
        self.assert_pixel(page, 160, 90, [255] * 3)
        self.add_step(page, "refine hair")
        self.wait_for_step("fine_edge", band="auto")
        self.set_band("40")
        page.get_by_text("Computing fine_edge").wait_for()
        # The stage is not blocked: another item is shown at once.
        self.choose_item(page, "moth")
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        self.choose_item(page, "fine_edge")
        page.get_by_text("Computing fine_edge").wait_for(state="hidden", timeout=90_000)
        self.assert_pixel(page, 160, 90, [255] * 3)
        self.assert_pixel(page, 20, 20, [0] * 3)

    def test_a_refusal_of_slow_work_is_told(self) -> None:
        page = self.open_shot(query="?item=matte")
        self.add_step(page, "refine hair")
        self.wait_for_step("fine_edge", band="auto")
        self.set_band("150")
        page.get_by_label("Stage", exact=True).get_by_text("nothing is surely").wait_for()
