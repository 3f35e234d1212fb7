"""Pictures brought in by hand: PNG, JPEG, TIFF, EXR, and what is none; viewers; accessibility."""

from __future__ import annotations

import contextlib
import tempfile
from pathlib import Path

import numpy as np
from browser_support import BrowserTest, code
from core_support import write_raster
from playwright.sync_api import TimeoutError as Late
from server_support import PASSWORD, exr_bytes

from accounts.models import User
from projects.models import Membership, Role

DROP = """async ([name, bytes]) => {
  const data = new DataTransfer();
  data.items.add(new File([new Uint8Array(bytes)], name));
  const target = document.querySelector("main");
  for (const kind of ["dragenter", "dragover", "drop"])
    target.dispatchEvent(new DragEvent(kind, { dataTransfer: data, bubbles: true, cancelable: true }));
}"""


class Imports(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.open_shot()

    def codes(self, channels: int = 3) -> np.ndarray:
        return np.tile(np.array([200, 100, 50, 255], np.uint8)[:channels], (90, 160, 1))

    def test_pictures_of_four_formats_are_added_by_picking(self) -> None:
        page = self.page
        files = [
            write_raster(self.place / "leaf.png", self.codes(4), ["R", "G", "B", "A"]),
            write_raster(self.place / "leaf.jpg", self.codes(), ["R", "G", "B"], Compression="jpeg:98"),
            write_raster(self.place / "leaf.tif", self.codes().astype(np.uint16) * 257, ["R", "G", "B"]),
        ]
        (self.place / "Leaf 2.exr").write_bytes(exr_bytes({"R": np.full((90, 160), 0.5, np.float16)}))
        page.get_by_test_id("picture-files").set_input_files([*files, self.place / "Leaf 2.exr"])
        self.wait_for_page(page, lambda: len(self.recipe()["sources"]) == 6, "six sources")
        self.comes_to(lambda: list(self.recipe()["sources"])[2:], ["leaf", "leaf_2", "leaf_3", "leaf_2_2"])
        for name in ("leaf", "leaf_2", "leaf_3"):
            self.choose_item(page, name)
            page.get_by_role("button", name=f"Channel {name}.R").wait_for()
            box = self.pane(page).bounding_box()
            assert box
            self.wait_for_page(
                page,
                lambda b=box: all(
                    abs(a - b_) <= 3
                    for a, b_ in zip(
                        self.screen_pixel(page, b["width"] / 2, b["height"] / 2), [200, 100, 50], strict=False
                    )
                ),
                name,
            )

    def test_a_picture_is_dropped(self) -> None:
        content = exr_bytes({"G": np.full((90, 160), 0.25, np.float16)})
        self.page.evaluate(DROP, ["drop.exr", list(content)])
        self.wait_for_page(self.page, lambda: "drop" in self.recipe()["sources"], "the dropped source")
        self.choose_item(self.page, "drop")
        self.assert_pixel(self.page, 160, 90, [code(0.25)] * 3)

    def test_files_that_are_no_pictures_are_told_and_leave_the_shot_alone(self) -> None:
        page = self.page
        before = self.recipe()
        whole = exr_bytes({"G": np.random.default_rng(1).random((64, 64)).astype(np.float16)})
        for name, content, word in (
            ("text.exr", b"no picture", "is not an EXR file"),
            ("half.exr", whole[: len(whole) // 2], "damaged"),
            ("empty.png", b"", "empty"),
        ):
            (self.place / name).write_bytes(content)
            page.get_by_test_id("picture-files").set_input_files(self.place / name)
            alert = page.get_by_label("Channels").get_by_role("alert").filter(has_text=name)
            alert.get_by_text(word).first.wait_for()
            alert.get_by_role("button", name="Put away").click()
        self.assertEqual(self.recipe(), before)
        page.reload()
        page.get_by_role("button", name="Channel moth.R").wait_for()

    def test_values_that_are_not_finite_are_shown_and_told(self) -> None:
        page = self.page
        plane = np.full((90, 160), 0.25, np.float32)
        plane[40:50, 70:90] = np.nan
        (self.place / "nan.exr").write_bytes(exr_bytes({"R": plane}))
        page.get_by_test_id("picture-files").set_input_files(self.place / "nan.exr")
        self.wait_for_page(page, lambda: "nan" in self.recipe()["sources"])
        self.choose_item(page, "nan")
        box = self.pane(page).bounding_box()
        assert box
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.get_by_test_id("probe").get_by_text("not finite").wait_for()

    def test_what_was_removed_can_be_used_again(self) -> None:
        page = self.page
        self.menu_remove("house")
        page.get_by_role("button", name="Remove", exact=True).click()
        page.get_by_role("button", name="Use", exact=True).click()
        self.wait_for(lambda: "house" in self.recipe()["sources"])

    def test_what_is_not_in_the_recipe_is_deleted_after_asking(self) -> None:
        page = self.page
        self.menu_remove("house")
        page.get_by_role("button", name="Remove", exact=True).click()
        page.get_by_role("button", name="Delete house.exr").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_text("cannot be undone").wait_for()
        dialog.get_by_role("button", name="Keep it").click()
        dialog.wait_for(state="hidden")
        page.get_by_role("button", name="Delete house.exr").click()
        dialog.get_by_role("button", name="Delete", exact=True).click()
        dialog.wait_for(state="hidden")
        page.get_by_role("button", name="Delete house.exr").wait_for(state="hidden")
        self.assertEqual([row.files for row in self.shot.sources.all()], ["moth.exr"])

    def test_a_source_that_could_not_be_read_is_read_again(self) -> None:
        page = self.page
        problem = {"code": "given_up", "message": "its unpacking was cut off", "where": "moth.exr", "remedy": "again"}
        self.shot.sources.filter(files="moth.exr").update(state="failed", problem=problem)
        page.reload()
        self.choose_item(page, "moth")
        panel = page.get_by_label("Source", exact=True)
        panel.get_by_text("its unpacking was cut off").wait_for()
        panel.get_by_role("button", name="Read it again").click()
        panel.get_by_text("its unpacking was cut off").wait_for(state="hidden")
        self.wait_for(lambda: self.shot.sources.get(files="moth.exr").state == "ready")
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])

    def test_any_of_many_layers_is_told_what_it_is(self) -> None:
        layers = [f"pass{number:02}" for number in range(60)]
        planes = {f"{layer}.{name}": np.full((4, 4), 0.5, np.float16) for layer in layers for name in "RGB"}
        recipe = {"nexal": 1, "sources": {"many": {"files": "many.exr"}}}
        self.shot = self.make_shot("120 many", recipe, {"many.exr": exr_bytes(planes)})
        page = self.open_shot(query="?item=many")
        table = page.get_by_role("table", name="Layers")
        table.get_by_text("60 layers").wait_for()
        self.comes_to(lambda: table.get_attribute("aria-rowcount"), "61")
        # Those in sight are there, and what is turned to has its words.
        self.assertLess(table.get_by_role("row").count(), 25)
        table.get_by_role("combobox", name="pass00 is").focus()
        for layer in layers[1:]:
            page.keyboard.press("Tab")
            self.comes_to(lambda: page.evaluate("document.activeElement.ariaLabel"), f"{layer} is")
        last = table.get_by_role("combobox", name="pass59 is")
        self.assertTrue(last.evaluate("node => node === document.activeElement"))
        page.keyboard.press("Enter")
        page.get_by_role("option", name="mask", exact=True).click()
        self.wait_for(lambda: self.recipe()["sources"]["many"]["roles"] == {"pass59": "mask"})
        # Typed on its own, closed as it is: the word that begins so.
        last.focus()
        page.keyboard.type("dep")
        self.wait_for(lambda: self.recipe()["sources"]["many"]["roles"] == {"pass59": "depth"})

    def menu_remove(self, item: str) -> None:
        self.page.get_by_role("button", name=f"More for {item}").click()
        self.page.get_by_role("menuitem", name="Remove").click()

    def test_how_a_source_is_read_can_be_changed(self) -> None:
        page = self.page
        self.choose_item(page, "moth")
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        page.get_by_role("combobox", name="Colour is read").click()
        page.get_by_role("option", name="sRGB-encoded").click()
        self.wait_for(lambda: self.recipe()["sources"]["moth"].get("colour") == "srgb")
        self.assert_pixel(page, 160, 90, [191, 128, 64])


class Viewer(BrowserTest):
    def test_a_viewer_looks_and_cannot_change(self) -> None:
        viewer = User.objects.create_user("visitor", password=PASSWORD)
        Membership.objects.create(project=self.project, user=viewer, role=Role.VIEWER)
        page = self.open_shot(self.sign_in(viewer), "?item=core")
        page.get_by_text("view only").wait_for()
        self.assert_pixel(page, 20, 20, [255] * 3)
        for name in ("Undo", "Add pictures", "add /", "Turn round"):
            self.assertEqual(page.get_by_role("button", name=name).count(), 0, name)
        page.keyboard.press("n")
        page.keyboard.press("/")
        page.wait_for_timeout(300)
        self.assertEqual(page.get_by_role("dialog").count(), 0)
        self.assertEqual(len(self.recipe()["steps"]), 5)

    def test_a_shot_that_is_not_ones_own_is_not_there(self) -> None:
        page = self.sign_in(User.objects.create_user("stranger", password=PASSWORD), "/projects")
        page.get_by_text("You have no project yet").wait_for()
        page.goto(f"{self.live_server_url}/shots/{self.shot.pk}")
        page.get_by_role("alert").get_by_text("not yours to see").wait_for()


class Access(BrowserTest):
    def test_no_serious_violation_on_any_screen_in_either_theme(self) -> None:
        page = self.page
        screens = {
            "projects": ("/projects", "Night Conservatory"),
            "shots": (f"/projects/{self.project.pk}", "040 moth"),
            "mattes": (f"/shots/{self.shot.pk}?item=core", "core"),
            "source": (f"/shots/{self.shot.pk}?item=moth", "moth"),
            "passes": (f"/shots/{self.shot.pk}?item=moth&bench=passes", "Nothing is added up yet"),
            "edges": (f"/shots/{self.shot.pk}?item=cut&bench=edges", "Edge profile"),
            "deliver": (f"/shots/{self.shot.pk}?bench=deliver", "Nothing is delivered yet"),
        }
        signed_out = self.new_page()
        signed_out.goto(f"{self.live_server_url}/sign-in")
        signed_out.get_by_label("Password").wait_for()
        self.assertEqual(self.violations(signed_out), [], "sign-in")
        found: list[str] = []
        page.goto(f"{self.live_server_url}/projects")
        for theme in ("dark", "bright"):
            page.evaluate(f"localStorage.setItem('nexal-theme', '{theme}')")
            for name, (path, text) in screens.items():
                page.goto(f"{self.live_server_url}{path}")
                page.get_by_text(text).first.wait_for()
                page.wait_for_timeout(500)
                found += [f"{name}, {theme}: {row}" for row in self.violations(page)]
            page.keyboard.press("/")
            found += [f"finder, {theme}: {row}" for row in self.violations(page)]
            page.keyboard.press("Escape")
            page.keyboard.press("?")
            page.get_by_role("dialog").wait_for()
            found += [f"keys, {theme}: {row}" for row in self.violations(page)]
            page.keyboard.press("Escape")
        self.assertEqual(found, [])

    def test_nothing_is_cut_off_at_1024_by_700(self) -> None:
        page = self.open_shot(query="?item=core")
        page.set_viewport_size({"width": 1024, "height": 700})
        page.wait_for_timeout(300)
        wide = page.evaluate("document.documentElement.scrollWidth")
        self.assertLessEqual(wide, 1024)
        box = page.get_by_label("Lineage").bounding_box()
        assert box
        self.assertLessEqual(box["y"] + box["height"], 700.5)


class Beginnings(BrowserTest):
    def name_shot(self, name: str) -> None:
        self.page.get_by_role("button", name="New shot").click()
        self.page.get_by_role("dialog").get_by_label("Name").fill(name)
        self.page.keyboard.press("Enter")

    def test_a_project_and_a_shot_from_nothing(self) -> None:
        page = self.page
        page.goto(f"{self.live_server_url}/projects")
        page.get_by_role("button", name="New project").click()
        page.get_by_role("dialog").get_by_label("Name").fill("Second house")
        page.keyboard.press("Enter")
        page.get_by_text("No shots yet").wait_for()
        self.name_shot("010 door")
        page.get_by_label("Lineage").wait_for()
        page.get_by_text("No pictures yet").wait_for()
        page.go_back()
        self.name_shot("010 door")
        page.get_by_role("dialog").get_by_role("alert").get_by_text("already").wait_for()

    def test_an_unknown_address_says_so(self) -> None:
        page = self.page
        page.goto(f"{self.live_server_url}/nowhere/at/all")
        page.get_by_text("there is no page at this address").wait_for()
        page.goto(f"{self.live_server_url}/shots/999999")
        page.get_by_role("alert").wait_for()

    def test_the_theme_is_chosen_and_kept(self) -> None:
        page = self.open_shot()
        page.get_by_role("button", name="More", exact=True).click()
        page.get_by_role("menuitem", name="Bright or dark").click()
        theme = "document.documentElement.dataset.theme"
        self.comes_to(lambda: page.evaluate(theme), "bright")
        page.reload()
        page.get_by_label("Lineage").wait_for()
        self.comes_to(lambda: page.evaluate(theme), "bright")

    def test_a_failed_render_says_why(self) -> None:
        page = self.open_shot(query="?item=cut&bench=deliver")
        page.get_by_role("button", name="New deliverable").click()
        page.get_by_role("dialog").get_by_role("button", name="Render").click()
        page.get_by_role("link", name="cut.exr").wait_for()
        page.get_by_role("button", name="More for cut").click()
        page.get_by_role("menuitem", name="Rename").click()
        page.get_by_role("dialog").get_by_label("Name").fill("cutout")
        page.keyboard.press("Enter")
        # It goes along with the name of what it is made of.
        page.get_by_role("cell", name="cutout", exact=True).wait_for()
        page.get_by_role("button", name="More for cutout").click()
        page.get_by_role("menuitem", name="Delete").click()
        # Enter deletes nothing as the dialog opens: it is pressed by who means it.
        page.get_by_role("dialog").wait_for()
        page.keyboard.press("Enter")
        page.get_by_role("dialog").get_by_role("button", name="Delete only").click()
        page.get_by_text("cutout is gone").wait_for()
        page.get_by_role("button", name="Render", exact=True).click()
        page.get_by_role("alert").get_by_text("cut").first.wait_for()
        page.get_by_role("button", name="More for the deliverable cut").click()
        page.get_by_role("menuitem", name="Remove").click()
        page.get_by_text("Nothing is delivered yet").wait_for()

    def test_a_thousand_channels_scroll_and_are_found(self) -> None:
        planes = {f"group{n // 10:02d}.c{n % 10}": np.full((16, 16), n / 1000, np.float16) for n in range(1000)}
        recipe = {"nexal": 1, "sources": {"many": {"files": "many.exr"}}}
        shot = self.make_shot("900 many", recipe, {"many.exr": exr_bytes(planes)})
        page = self.open_shot(shot=shot)
        page.get_by_role("button", name="Channel many.group00.c0").wait_for()
        wall = page.get_by_label("Channels")
        self.assertLess(wall.get_by_role("button", name="Channel many").count(), 40)
        wall.locator("div.overflow-y-auto").last.evaluate("element => element.scrollTo(0, element.scrollHeight)")
        page.get_by_role("button", name="Channel many.group99.c9").wait_for()
        page.get_by_label("Filter channels or roles").fill("group73")
        page.get_by_role("button", name="Channel many.group73.c4").click()
        page.get_by_text("many · group73.c4").wait_for()

    def test_when_the_server_is_gone_the_change_is_kept_and_sent_later(self) -> None:
        page = self.open_shot(query="?item=core")
        page.get_by_label("White value", exact=True).wait_for()
        page.route("**/revisions", lambda route: route.abort())
        page.get_by_label("White value", exact=True).fill("0.6")
        page.keyboard.press("Enter")
        page.get_by_role("status").get_by_text("not saved").wait_for()
        self.comes_to(lambda: self.step("core")["set"]["white"], 0.25)
        page.unroute("**/revisions")
        # By then it may have been sent by itself.
        with contextlib.suppress(Late):
            page.get_by_role("button", name="Try again").click(timeout=3000)
        self.wait_for_step("core", white=0.6)

    def test_the_stage_bar_is_one_line_at_1280_and_whole_at_1024(self) -> None:
        page = self.open_shot(query="?item=comp")
        zoom = page.get_by_role("button", name="fit")
        pin = page.get_by_role("button", name="Pin", exact=True)
        zoom.wait_for()
        here, there = zoom.bounding_box(), pin.bounding_box()
        assert here
        assert there
        self.assertLess(abs(here["y"] + here["height"] / 2 - there["y"] - there["height"] / 2), 4)
        page.set_viewport_size({"width": 1024, "height": 700})
        page.wait_for_timeout(300)
        box, bench = zoom.bounding_box(), page.get_by_label("Bench", exact=True).bounding_box()
        assert box
        assert bench
        self.assertLessEqual(box["x"] + box["width"], bench["x"])
