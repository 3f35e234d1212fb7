"""The stage: zoom, pan, exposure, backdrops, mattes over pictures, pins, panes, probe, keys."""

from __future__ import annotations

from browser_support import BrowserTest, code
from playwright.sync_api import Route


class Stage(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.open_shot(query="?item=moth")
        self.assert_pixel(self.page, 160, 90, [code(0.75), code(0.5), code(0.25)])

    def test_zoom_at_the_pointer_keeps_the_point_pan_moves_it_and_z_comes_back(self) -> None:
        page = self.page
        box = self.pane(page).bounding_box()
        assert box
        # The left edge of the square lies at x = 110: put the pointer one pixel inside it.
        x, y = self.spot(page, 111.5, 90.5)
        page.mouse.move(x, y)
        for _ in range(6):
            page.mouse.wheel(0, -200)
        page.wait_for_timeout(400)
        at = [x - box["x"], y - box["y"]]
        warm, green = [code(0.75), code(0.5), code(0.25)], [code(0.125), code(0.5 + 105 / 2048), code(0.0625)]
        self.wait_for_page(page, lambda: self.screen_pixel(page, *at)[0] == warm[0])
        self.wait_for_page(page, lambda: abs(self.screen_pixel(page, at[0] - 60, at[1])[0] - green[0]) <= 2)
        page.mouse.down()
        page.mouse.move(x + 120, y, steps=4)
        page.mouse.up()
        self.wait_for_page(page, lambda: self.screen_pixel(page, at[0] + 125, at[1])[0] == warm[0])
        self.wait_for_page(page, lambda: abs(self.screen_pixel(page, at[0] + 60, at[1])[0] - green[0]) <= 2)
        page.keyboard.press("z")
        page.get_by_text("fit ").wait_for()
        self.assert_pixel(page, 160, 90, warm)
        page.keyboard.press("z")
        page.get_by_role("button", name="100 %", exact=True).wait_for()

    def test_above_eight_times_pixels_are_separate_with_a_grid(self) -> None:
        page = self.page
        x, y = self.spot(page, 160.5, 90.5)
        page.mouse.move(x, y)
        for _ in range(20):
            page.mouse.wheel(0, -200)
        page.get_by_role("button", name="6400 %").wait_for()
        box = self.pane(page).bounding_box()
        assert box
        # The middle of a pixel in its own colour, and 32 screen pixels away the line round it.
        row = lambda: [self.screen_pixel(page, x - box["x"] + n, y - box["y"])[0] for n in range(40)]  # noqa: E731
        self.wait_for_page(page, lambda: abs(row()[4] - code(0.75)) <= 2 and min(row()[28:37]) < code(0.75) - 10)

    def test_exposure_in_stops(self) -> None:
        field = self.page.get_by_label("Exposure")
        field.fill("-1")
        field.press("Enter")
        self.assert_pixel(self.page, 160, 90, [code(0.375), code(0.25), code(0.125)])
        field.fill("1.5")
        field.press("Enter")
        self.assert_pixel(self.page, 160, 90, [255, 255, code(0.25 * 2**1.5)])

    def test_a_look_that_changes_while_a_picture_is_on_its_way_is_how_it_is_seen(self) -> None:
        page = self.page
        exposure = page.get_by_label("Exposure")

        def expose(stops: str) -> None:
            exposure.fill(stops)
            exposure.press("Enter")

        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        held: list[Route] = []
        page.route("**/view", lambda route: held.append(route))
        self.choose_item(page, "cut")
        self.wait_for_page(page, lambda: held, "the picture is on its way")
        expose("-1")
        self.set_choice("Backdrop", "white")
        for route in held:
            route.continue_()
        page.unroute("**/view")
        self.assert_pixel(page, 160, 90, [code(0.375), code(0.25), code(0.125)])
        self.assert_pixel(page, 300, 20, [255, 255, 255])
        # And back, to what it came painted as, whose picture is gone by now; over another item, and back from there.
        expose("0")
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        for backdrop, wanted in (("house", [0, 0, 255]), ("black", [0, 0, 0])):
            self.set_choice("Backdrop", backdrop)
            self.assert_pixel(page, 300, 20, wanted)
            self.choose_item(page, "moth")
            self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
            self.choose_item(page, "cut")
            self.assert_pixel(page, 300, 20, wanted)

    def test_backdrops_behind_a_cut_out(self) -> None:
        page = self.page
        self.choose_item(page, "cut")
        # The backing of the plate is fully removed at its right end.
        for backdrop, wanted in (("black", [0, 0, 0]), ("white", [255, 255, 255]), ("house", [0, 0, 255])):
            self.set_choice("Backdrop", backdrop)
            self.assert_pixel(page, 300, 20, wanted)
            self.assert_pixel(page, 160, 90, [code(0.75), code(0.5), code(0.25)])
        self.set_choice("Backdrop", "own colour")
        page.get_by_label("Own backdrop colour").fill("#336699")
        self.assert_pixel(page, 300, 20, [0x33, 0x66, 0x99])
        page.get_by_label("Lineage").click(position={"x": 5, "y": 100})
        page.keyboard.press("v")
        page.get_by_role("combobox", name="Backdrop").get_by_text("weave").wait_for()
        self.wait_for_page(page, lambda: len({tuple(self.pixel(page, 300 + n / 4, 20)) for n in range(40)}) >= 2)

    def test_partial_alpha_is_composited_in_linear_light(self) -> None:
        self.page.goto(f"{self.live_server_url}/shots/{self.shot.pk}?item=core")
        white = self.page.get_by_label("White value", exact=True)
        white.fill("1")
        white.press("Enter")
        self.wait_for_step("core", white=1)
        self.choose_item(self.page, "cut")
        self.set_choice("Backdrop", "white")
        alpha = 1 - (0.5 + 20 / 2048 - 0.125)
        wanted = [code(value * alpha + 1 - alpha) for value in (0.125, 0.5 + 20 / 2048, 0.0625)]
        self.assert_pixel(self.page, 20, 20, wanted, near=3)

    def test_a_matte_alone_as_hatching_and_as_a_contour(self) -> None:
        page = self.page
        self.choose_item(page, "matte")
        self.assert_pixel(page, 160, 90, [255, 255, 255])
        page.keyboard.press("m")
        page.get_by_text("hatched where").wait_for()
        warm = [code(0.75), code(0.5), code(0.25)]
        self.assert_pixel(page, 160, 90, warm)
        green = (code(0.125), code(0.5 + 300 / 2048), code(0.0625))

        def row() -> set[tuple[int, ...]]:
            return {tuple(self.pixel(page, 280 + n / 3, 20)[:3]) for n in range(40)}

        # Lines and the picture between them where the matte removes, and none where it keeps.
        self.wait_for_page(
            page,
            lambda: len(row()) > 2 and any(max(abs(a - b) for a, b in zip(p, green, strict=True)) <= 2 for p in row()),
        )
        self.assertEqual({tuple(self.pixel(page, 150 + n / 3, 90)[:3]) for n in range(40)}, {tuple(warm)})
        page.keyboard.press("m")
        page.get_by_text("contour of").wait_for()
        edge = lambda: [self.pixel(page, 106 + n / 4, 90)[:3] for n in range(32)]  # noqa: E731
        self.wait_for_page(page, lambda: len({tuple(p) for p in edge()}) >= 3)
        page.keyboard.press("m")
        self.assert_pixel(page, 160, 90, [255, 255, 255])

    def test_pin_split_swap_and_two_panes(self) -> None:
        page = self.page
        page.keyboard.press("p")
        self.choose_item(page, "comp")
        page.keyboard.press("h")
        # Left of the split the composite, right of it the pinned plate.
        self.assert_pixel(page, 20, 20, [code(0.125 * 0), code(0), 255], near=255)
        self.assert_pixel(page, 40, 20, [self.pixel(page, 40, 20)[0]] + self.pixel(page, 40, 20)[1:3])
        self.assert_pixel(page, 310, 20, [code(0.125), code(0.5 + 310 / 2048), code(0.0625)])
        blue = self.pixel(page, 20, 20)[2]
        self.assertGreater(blue, 200)
        line = page.get_by_role("slider", name="Split position")
        line.focus()
        for _ in range(30):
            page.keyboard.press("ArrowLeft")
        self.assert_pixel(page, 40, 20, [code(0.125), code(0.5 + 40 / 2048), code(0.0625)])
        page.keyboard.press("x")
        page.locator('[data-item="moth"][aria-current="true"]').wait_for()
        page.get_by_role("button", name="Two").click()
        self.assert_pixel(page, 300, 20, [code(0.125), code(0.5 + 300 / 2048), code(0.0625)], "main")
        self.assert_pixel(page, 300, 20, [0, 0, 255], "other")
        page.get_by_role("button", name="Two").click()
        page.keyboard.press("p")
        self.comes_to(lambda: page.get_by_role("button", name="Split").is_disabled(), True)

    def test_the_probe_shows_exact_numbers(self) -> None:
        page = self.page
        page.mouse.move(*self.spot(page, 200.5, 20.5))
        probe = page.get_by_test_id("probe")
        probe.get_by_text("x 200 y 20").wait_for()
        for number in ("0.1250", f"{0.5 + 200 / 2048:.4f}", "0.0625"):
            probe.get_by_text(number).wait_for()
        self.set_choice("Probe square", "9×9")
        page.mouse.move(*self.spot(page, 110.5, 90.5))
        mean = (4 * 0.125 + 5 * 0.75) / 9
        probe.get_by_text(f"{mean:.4f}").wait_for()

    def test_two_channels_together(self) -> None:
        page = self.page
        page.get_by_role("button", name="Channel moth.R").click()
        page.get_by_role("button", name="Channel moth.B").click(modifiers=["Shift"])
        self.assert_pixel(page, 160, 90, [code(0.75), code(0.25), 0])

    def test_the_help_page_is_searched(self) -> None:
        page = self.page
        page.keyboard.press("?")
        search = page.get_by_label("Search the help")
        search.fill("next backdrop")
        self.wait_for_count(page.get_by_role("dialog").locator("dt"), 1)
        self.assertEqual(self.violations(page), [])
        # Jobs of the README with their pictures, and steps with their formulas, go by by the keys.
        search.fill("scout")
        page.get_by_role("article", name="Scout").get_by_role("img", name="The scout board").wait_for()
        self.assertEqual(self.violations(page), [])
        search.fill("stretch")
        page.get_by_role("article", name="Stretch").wait_for()
        search.press("ArrowDown")
        page.get_by_role("article", name="Stretch").wait_for(state="detached")
        page.keyboard.press("Escape")
        page.get_by_role("dialog").wait_for(state="hidden")

    def test_one_step_leads_from_a_setting_to_its_page(self) -> None:
        page = self.page
        self.choose_item(page, "core")
        settings = page.locator("[data-settings]")
        settings.get_by_role("slider", name="Middle").focus()
        page.keyboard.press("F1")
        about = page.get_by_role("article", name="Stretch")
        about.get_by_text("Middle", exact=True).wait_for()
        page.keyboard.press("Escape")
        about.wait_for(state="detached")
        settings.get_by_role("button", name="About black", exact=True).click()
        about.wait_for()
        self.assertEqual(self.violations(page), [])

    def test_the_wall_lists_channels_with_range_and_filter(self) -> None:
        page = self.page
        wall = page.get_by_label("Channels")
        wall.get_by_text(".13–.75").first.wait_for()
        page.get_by_label("Filter channels or roles").fill("moth.g")
        self.wait_for_count(wall.get_by_role("button", name="Channel"), 1)
        page.get_by_label("Filter channels or roles").fill("nothing")
        wall.get_by_text("No channel has this").wait_for()
