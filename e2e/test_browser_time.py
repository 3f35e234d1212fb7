"""Time in the browser: sequences dropped, the timeline, playback, keys, curves that move, ranges delivered."""

from __future__ import annotations

import io
import tempfile
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
from browser_support import BrowserTest, code
from django.core.files.base import ContentFile
from django.test import override_settings
from playwright.sync_api import Locator, Page, Route
from server_support import exr_bytes

from deliveries.models import Render
from deliveries.services import frame_path
from nexal.recipe import parse_recipe
from projects.models import Shot
from recipes.services import first_revision, save
from sources.models import Source
from sources.sequences import add_frame, create

WIDTH, HEIGHT = 320, 180


def red(number: int) -> float:
    """Of frame `number`: each is another one."""
    return number / 16


def frame_planes(number: int) -> dict[str, np.ndarray]:
    return {
        "R": np.full((HEIGHT, WIDTH), red(number), np.float16),
        "G": np.full((HEIGHT, WIDTH), 0.25, np.float16),
        "B": np.full((HEIGHT, WIDTH), 0.0625, np.float16),
    }


class TimeTest(BrowserTest):
    def moving_shot(self, planes: Any = frame_planes, numbers: range = range(1, 9), **more: Any) -> Shot:
        """A shot with a sequence in it, and a blur of it."""
        shot = Shot.objects.create(
            project=self.project, name="050 moving", first_frame=numbers[0], last_frame=numbers[-1]
        )
        revision = first_revision(shot, self.user.pk)
        with override_settings(NEXAL_JOBS="inline"):
            source = create(shot, "flight.%04d.exr")
            for number in numbers:
                add_frame(source, number, ContentFile(exr_bytes(planes(number)), name="x.exr"))
        recipe = {
            "nexal": 1,
            "sources": {"flight": {"files": "flight.%04d.exr"}},
            "steps": [
                {"name": "soft", "op": "blur", "in": {"from": "flight"}, "set": {"radius": 2}},
                {"name": "lit", "op": "grade", "in": {"picture": "flight"}},
                *more.get("steps", []),
            ],
        }
        save(shot, self.user.pk, revision.number, parse_recipe(recipe))
        return shot

    def open_moving(self, item: str = "flight", **more: Any) -> Page:
        self.shot = self.moving_shot(**more)
        return self.open_shot(query=f"?item={item}")

    def timeline(self) -> Locator:
        return self.page.get_by_label("Timeline", exact=True)

    def frame(self) -> int:
        return int(self.timeline().get_attribute("data-frame") or 0)

    def go_to(self, frame: int) -> None:
        field = self.timeline().get_by_label("Frame", exact=True)
        field.fill(str(frame))
        field.press("Enter")
        self.wait_for(lambda: self.frame() == frame)
        # What is pressed next is meant for the page.
        field.evaluate("element => element.blur()")

    def assert_frame_seen(self, number: int) -> None:
        self.assert_pixel(self.page, 160, 90, [code(red(number)), code(0.25), code(0.0625)])


class Dropped(TimeTest):
    def files(self) -> list[Path]:
        place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        files = []
        for number in (1, 2, 3, 5):
            content = exr_bytes(frame_planes(number))
            for name in (f"moth.{number:04d}.exr", f"leaf_{number}.exr"):
                path = place / name
                path.write_bytes(content[: len(content) // 3] if name == "leaf_2.exr" else content)
                files.append(path)
        return files

    def test_two_sequences_in_one_drop_a_gap_and_a_damaged_frame(self) -> None:
        self.shot = self.make_shot("060 dropped", {}, {})
        page = self.open_shot()
        files = self.files()
        page.get_by_test_id("picture-files").set_input_files(files)
        self.wait_for(lambda: set(self.recipe().get("sources", {})) == {"moth", "leaf"}, what=str(self.recipe()))
        self.comes_to(
            lambda: {spec["files"] for spec in self.recipe()["sources"].values()}, {"moth.%04d.exr", "leaf_%d.exr"}
        )
        page.get_by_text("frame 2: ", exact=False).first.wait_for()
        self.choose_item(page, "moth")
        panel = page.get_by_label("Source", exact=True)
        panel.get_by_text("4 frames, numbered 1–3, 5").wait_for()
        panel.get_by_text("missing: 4").wait_for()
        self.timeline().wait_for()
        self.go_to(3)
        self.assert_frame_seen(3)
        # What stands for the missing number is as one chooses.
        self.go_to(4)
        self.assert_frame_seen(3)
        self.set_choice("For missing numbers", "black")
        self.assert_pixel(page, 160, 90, [0, 0, 0])
        # Of the other sequence only the damaged frame can't be seen.
        self.choose_item(page, "leaf")
        self.go_to(2)
        page.get_by_label("Stage", exact=True).get_by_text("in its frame 2").wait_for()
        self.go_to(5)
        self.assert_frame_seen(5)
        self.shot.refresh_from_db()
        self.assertEqual((self.shot.first_frame, self.shot.last_frame), (1, 5))

    def test_numbers_below_0_are_numbers(self) -> None:
        self.shot = self.make_shot("061 early", {}, {})
        page = self.open_shot()
        place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        numbers = (-3, -2, -1, 0, 1, 2)
        for number in numbers:
            (place / f"moth.{str(number).zfill(4)}.exr").write_bytes(exr_bytes(frame_planes(number + 4)))
        page.get_by_test_id("picture-files").set_input_files(sorted(place.iterdir()))
        self.comes_to(lambda: self.recipe().get("sources"), {"moth": {"files": "moth.%04d.exr"}})
        self.choose_item(page, "moth")
        page.get_by_label("Source", exact=True).get_by_text("6 frames, numbered -3–2").wait_for()
        self.comes_to(lambda: [self.shot.refresh_from_db(), self.shot.first_frame, self.shot.last_frame][1:], [-3, 2])
        self.timeline().wait_for()
        for number in (-3, 2, -1, 0):
            self.go_to(number)
            self.assert_frame_seen(number + 4)
        # Opened again at number 0 it is there.
        self.wait_for_page(page, lambda: "frame=0" in page.url)
        page.reload()
        self.comes_to(self.frame, 0)

    def test_files_that_belong_to_a_sequence_are_asked_about(self) -> None:
        page = self.open_moving()
        place = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for number in (8, 9, 10):
            (place / f"flight.{number:04d}.exr").write_bytes(exr_bytes(frame_planes(number)))
        page.get_by_test_id("picture-files").set_input_files(sorted(place.iterdir()))
        dialog = page.get_by_role("dialog", name="3 numbered files")
        dialog.get_by_text("8 is there and compared: what differs becomes version 2", exact=False).wait_for()
        dialog.get_by_role("button", name="Add to flight.%04d.exr").click()
        source = Source.objects.get(shot=self.shot)
        self.wait_for(lambda: source.frames.filter(state="ready").count() == 10)
        page.get_by_text("2 new, 1 equal").wait_for()
        self.go_to(10)
        self.assert_frame_seen(10)
        self.comes_to(lambda: list(self.recipe()["sources"]), ["flight"])


class Repaired(TimeTest):
    """A frame that was rendered again comes back in."""

    def again(self, number: int, red: float, name: str = "flight") -> Path:
        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / f"{name}.{number:04d}.exr"
        planes = frame_planes(number) | {"R": np.full((HEIGHT, WIDTH), red, np.float16)}
        path.write_bytes(exr_bytes(planes))
        return path

    def taken(self, files: list[Path], title: str) -> None:
        self.page.get_by_test_id("picture-files").set_input_files(files)
        dialog = self.page.get_by_role("dialog", name=title)
        dialog.get_by_role("button", name="Add to flight.%04d.exr").click()

    def test_only_what_was_made_of_it_is_rendered_again(self) -> None:
        page = self.open_moving("lit")
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="New deliverable").click()
        page.get_by_role("dialog").get_by_role("button", name="Render", exact=True).click()
        frames = page.get_by_role("group", name="Frames of lit")
        frames.get_by_text("8 of 8 frames").wait_for()
        first = Render.objects.get(deliverable__shot=self.shot)
        self.comes_to(lambda: Render.objects.get(pk=first.pk).state, "done")
        made = {frame.frame: (frame_path(frame).stat().st_mtime_ns) for frame in first.frames.all()}
        # Dropped alone, a frame with the pattern of a source is known as one of it.
        page.get_by_label("Benches").get_by_role("button", name="Mattes").click()
        self.taken([self.again(3, 0.9)], "A numbered file")
        page.get_by_text("1 differs", exact=True).wait_for()
        page.get_by_text("version 2 is read now; undo takes it back").wait_for()
        self.comes_to(lambda: self.recipe()["sources"]["flight"].get("version"), 2)
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        frames.get_by_text("1 made from older frames: 3").wait_for()
        frames.get_by_role("button", name="Older ones again").click()
        frames.get_by_text("made from older frames").wait_for(state="hidden")
        self.comes_to(lambda: Render.objects.filter(deliverable__shot=self.shot).count(), 2)
        second = Render.objects.filter(deliverable__shot=self.shot).first()
        assert second
        self.comes_to(lambda: Render.objects.get(pk=second.pk).state, "done")
        files = [
            {frame.frame: frame_path(frame).read_bytes() for frame in each.frames.all()} for each in (first, second)
        ]
        self.assertEqual([number for number in files[0] if files[0][number] != files[1][number]], [3])
        self.assertEqual({frame.frame: frame_path(frame).stat().st_mtime_ns for frame in first.frames.all()}, made)

    def test_undo_and_the_version_that_is_chosen_say_which_frames_are_seen(self) -> None:
        page = self.open_moving()
        self.go_to(3)
        self.assert_frame_seen(3)
        # Whatever it is called before its number, on the source it is meant for it.
        page.get_by_test_id("frames-file").set_input_files(
            [self.again(3, 0.9, "retouched"), self.again(4, red(4), "flight")]
        )
        self.page.get_by_role("dialog").get_by_role("button", name="Add to flight.%04d.exr").click()
        page.get_by_text("1 differs, 1 equal").wait_for()
        self.assert_pixel(page, 160, 90, [code(0.9), code(0.25), code(0.0625)])
        panel = page.get_by_label("Source", exact=True)
        panel.get_by_role("combobox", name="Version").get_by_text("2: 3 newer").wait_for()
        page.get_by_role("button", name="Undo", exact=True).click()
        self.assert_frame_seen(3)
        self.set_choice("Version", "2: 3 newer")
        self.assert_pixel(page, 160, 90, [code(0.9), code(0.25), code(0.0625)])
        self.comes_to(lambda: self.recipe()["sources"]["flight"].get("version"), 2)
        self.set_choice("Version", "1: the first frames")
        self.assert_frame_seen(3)
        self.comes_to(lambda: self.recipe()["sources"]["flight"].get("version"), 1)

    def test_a_drop_that_broke_off_is_taken_up_by_the_next_one(self) -> None:
        page = self.open_moving()
        self.go_to(3)
        files = [self.again(number, 0.9) for number in (3, 4, 5, 6)]
        sent: list[Route] = []

        def broken(route: Route) -> None:
            sent.append(route)
            if len(sent) > 1:
                route.abort()
            else:
                route.continue_()

        page.route("**/frames", broken)
        self.taken(files, "4 numbered files")
        page.get_by_text("the connection broke").wait_for()
        source = Source.objects.get(shot=self.shot)
        self.comes_to(lambda: source.frames.filter(version=2).count(), 1)
        self.assertNotIn("version", self.recipe()["sources"]["flight"])
        page.unroute("**/frames")
        # One is equal now to what came, and it is that which is meant.
        self.taken(files, "4 numbered files")
        page.get_by_text("differ").first.wait_for()
        self.comes_to(lambda: self.recipe()["sources"]["flight"].get("version", 1) > 1, True)
        for number in (3, 4, 5, 6):
            self.go_to(number)
            self.assert_pixel(page, 160, 90, [code(0.9), code(0.25), code(0.0625)])
        # All there already, and read by nobody: dropped once more, they are read.
        self.set_choice("Version", "1: the first frames")
        self.comes_to(lambda: self.recipe()["sources"]["flight"].get("version"), 1)
        self.taken(files, "4 numbered files")
        page.get_by_text("4 equal").wait_for()
        self.comes_to(lambda: self.recipe()["sources"]["flight"].get("version", 1) > 1, True)

    def test_a_file_that_looks_like_a_frame_may_be_a_picture_of_its_own(self) -> None:
        page = self.open_moving()
        page.get_by_test_id("picture-files").set_input_files([self.again(3, 0.9)])
        page.get_by_role("dialog", name="A numbered file").get_by_role("button", name="A picture by itself").click()
        self.comes_to(lambda: sorted(self.recipe()["sources"]), ["flight", "flight_0003"])
        self.assertEqual(Source.objects.get(shot=self.shot, numbered=True).version, 1)

    def test_a_frame_that_is_dropped_on_its_source_is_taken_for_it(self) -> None:
        page = self.open_moving()
        content = list(self.again(5, 0.9, "anything").read_bytes())
        transfer = page.evaluate_handle(
            """content => {
                const transfer = new DataTransfer();
                transfer.items.add(new File([new Uint8Array(content)], "anything.0005.exr"));
                return transfer;
            }""",
            content,
        )
        page.locator("[data-cell=flight]").dispatch_event("drop", {"dataTransfer": transfer})
        page.get_by_role("dialog", name="A numbered file").get_by_role("button", name="Add to").click()
        page.get_by_text("1 differs", exact=True).wait_for()
        self.comes_to(lambda: self.recipe()["sources"]["flight"].get("version"), 2)


class Timeline(TimeTest):
    def test_every_view_follows_the_frame_and_it_stands_in_the_address(self) -> None:
        page = self.open_moving()
        self.assert_frame_seen(1)
        page.keyboard.press(".")
        page.keyboard.press(".")
        self.assert_frame_seen(3)
        self.comes_to(lambda: self.frame(), 3)
        self.wait_for_page(page, lambda: "frame=3" in page.url)
        # Pressed again and again, with and without the address keeping up, no press is lost.
        for pause in (0, 130, 260, 90, 20):
            page.keyboard.press(".")
            page.wait_for_timeout(pause)
        self.comes_to(lambda: self.frame(), 8)
        self.go_to(3)
        # A pin keeps its own frame.
        page.keyboard.press("p")
        page.keyboard.press(",")
        page.keyboard.press("d")
        self.assert_pixel(page, 160, 90, [code(red(3)) - code(red(2)), 0, 0])
        page.keyboard.press("d")
        # Dragged along the ruler, each frame is seen.
        box = self.timeline().get_by_role("slider", name="Playhead").bounding_box()
        assert box
        for number in (5, 8):
            x = box["x"] + box["width"] * (number - 0.5) / 8
            page.mouse.move(x, box["y"] + 14)
            page.mouse.down()
            self.assert_frame_seen(number)
        page.mouse.up()
        self.wait_for_page(page, lambda: "frame=8" in page.url)
        page.reload()
        self.assert_frame_seen(8)
        page.goto(page.url.replace("frame=8", "frame=6"))
        self.assert_frame_seen(6)
        # Thumbnails too: red is brighter with every frame.
        self.go_to(2)
        self.assertEqual(self.violations(page), [])

    def test_what_plays_is_the_frame_that_its_number_names(self) -> None:
        page = self.open_moving()
        self.assert_frame_seen(1)
        page.keyboard.press("g")
        seen: dict[int, set[int]] = {}

        def look() -> bool:
            number, value = page.evaluate(
                """() => {
                  const canvas = document.querySelector('canvas[data-pane="main"]');
                  const at = [Math.round(canvas.width / 2), Math.round(canvas.height / 2), 1, 1];
                  const number = document.querySelector('[aria-label="Timeline"]').dataset.frame;
                  return [Number(number), canvas.getContext("2d").getImageData(...at).data[0]];
                }"""
            )
            seen.setdefault(number, set()).add(value)
            return len(seen) == 8

        self.wait_for_page(page, look, what=str(seen))
        page.keyboard.press("g")
        stopped = self.frame()
        self.assert_frame_seen(stopped)
        for number, values in seen.items():
            self.assertEqual(len(values), 1, f"frame {number} showed {values}")
            self.assertLessEqual(abs(values.pop() - code(red(number))), 2)
        self.wait_for_page(page, lambda: f"frame={stopped}" in page.url or stopped == 1)

    def test_the_range_that_is_played_and_delivered(self) -> None:
        page = self.open_moving()
        box = self.timeline().get_by_role("slider", name="Playhead").bounding_box()
        assert box
        at = [box["x"] + box["width"] * (number - 0.5) / 8 for number in (3, 6)]
        page.keyboard.down("Shift")
        page.mouse.move(at[0], box["y"] + 14)
        page.mouse.down()
        page.mouse.move(at[1], box["y"] + 14, steps=4)
        page.mouse.up()
        page.keyboard.up("Shift")

        def kept() -> tuple[int, int]:
            self.shot.refresh_from_db()
            return self.shot.first_frame, self.shot.last_frame

        self.wait_for(lambda: kept() == (3, 6))
        last = self.timeline().get_by_label("Last frame")
        last.fill("4")
        last.press("Enter")
        self.wait_for(lambda: kept() == (3, 4))
        # It was set; by a click it is that of the sources again, and goes with them.
        self.timeline().get_by_role("button", name="Follow the sources").click()
        self.wait_for(lambda: kept() == (1, 8))
        self.comes_to(last.input_value, "8")
        self.wait_for_count(self.timeline().get_by_role("button", name="Follow the sources"), 0)


class Keys(TimeTest):
    def radius(self) -> Any:
        return self.step("soft")["set"]["radius"]

    def test_a_setting_moves_by_its_notch_and_by_being_changed_at_another_frame(self) -> None:
        page = self.open_moving("soft")
        panel = page.get_by_label("Step", exact=True)
        panel.get_by_role("button", name="Make a key of radius at frame 1").click()
        self.wait_for(lambda: self.radius() == {"keys": [[1, 2]]})
        self.go_to(5)
        field = panel.get_by_label("Radius value")
        field.fill("10")
        field.press("Enter")
        self.wait_for(lambda: self.radius() == {"keys": [[1, 2], [5, 10]]})
        # In between it is in between, on the panel and on the server.
        self.go_to(3)
        self.wait_for_page(page, lambda: field.input_value() == "6.00")
        course = panel.get_by_role("group", name="Course of radius, 2 keys")
        course.get_by_role("button", name="Key of radius at frame 1, linear").focus()
        page.keyboard.press("Enter")
        self.wait_for_page(page, lambda: self.frame() == 1)
        course.get_by_role("button", name="Key of radius at frame 1").click()
        panel.get_by_role("button", name="hold", exact=True).click()
        self.wait_for(lambda: self.radius() == {"keys": [[1, 2, "hold"], [5, 10]]})
        # Moved in time by the arrow keys, taken away with Delete, brought back by undo.
        course.get_by_role("button", name="Key of radius at frame 5").focus()
        page.keyboard.press("ArrowRight")
        self.wait_for(lambda: self.radius() == {"keys": [[1, 2, "hold"], [6, 10]]})
        course.get_by_role("button", name="Key of radius at frame 6").focus()
        page.keyboard.press("Delete")
        self.wait_for(lambda: self.radius() == {"keys": [[1, 2, "hold"]]})
        page.keyboard.press("Control+z")
        self.wait_for(lambda: self.radius() == {"keys": [[1, 2, "hold"], [6, 10]]})
        # The notch on the timeline goes there; K makes a key of all that moves.
        self.timeline().get_by_role("button", name="Keys of soft at frame 6").click()
        self.wait_for_page(page, lambda: self.frame() == 6)
        self.go_to(3)
        page.keyboard.press("k")
        self.wait_for(lambda: [key[0] for key in self.radius()["keys"]] == [1, 3, 6])
        page.keyboard.press("k")
        self.wait_for(lambda: [key[0] for key in self.radius()["keys"]] == [1, 6])

    def test_colours_move_too_and_what_stands_still_is_left_alone(self) -> None:
        page = self.open_moving("lit")
        panel = page.get_by_label("Step", exact=True)
        panel.get_by_role("button", name="Make a key of slope at frame 1").click()
        self.go_to(8)
        panel.get_by_label("Slope 1").fill("0.5")
        panel.get_by_label("Slope 1").press("Enter")
        self.wait_for(lambda: self.step("lit")["set"]["slope"] == {"keys": [[1, [1, 1, 1]], [8, [0.5, 1, 1]]]})
        field = panel.get_by_label("Exposure value")
        field.fill("-1")
        field.press("Enter")
        self.wait_for(lambda: self.step("lit")["set"].get("exposure") == -1)
        self.assert_pixel(page, 160, 90, [code(red(8) / 4), code(0.125), code(0.03125)])
        self.go_to(1)
        self.assert_pixel(page, 160, 90, [code(red(1) / 2), code(0.125), code(0.03125)])

    def test_a_curve_moves_point_by_point(self) -> None:
        square = [[100, 50], [200, 50], [200, 130], [100, 130]]
        shape = {"name": "hole", "op": "shape", "in": {"like": "flight"}, "set": {"paths": [{"points": square}]}}
        page = self.open_moving("hole", steps=[shape])
        panel = page.get_by_label("Step", exact=True)
        self.assert_pixel(page, 150, 90, [255] * 3)
        panel.get_by_role("list", name="Curves").get_by_role("button", name="Curve 1 add").click()
        panel.get_by_role("button", name="Make a key of points at frame 1").click()
        self.wait_for(lambda: "keys" in self.step("hole")["set"]["paths"][0].get("points", {}))
        self.go_to(5)
        page.get_by_role("button", name="Draw shapes").click()
        panel.get_by_role("list", name="Curves").get_by_role("button", name="Curve 1 add").click()
        x, y = self.spot(page, 100, 50)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(*self.spot(page, 60, 30), steps=4)
        page.mouse.up()
        self.wait_for(lambda: len(self.step("hole")["set"]["paths"][0]["points"]["keys"]) == 2)
        (_, before), (frame, after) = self.step("hole")["set"]["paths"][0]["points"]["keys"]
        self.assertEqual((before, frame, after[1:]), (square, 5, square[1:]))
        np.testing.assert_allclose(after[0], [60, 30], atol=1)
        self.go_to(3)
        panel.get_by_role("button", name="Ghosts").click()
        self.wait_for_count(page.locator('[data-path="ghost"]'), 2)
        self.assert_pixel(page, 84, 44, [255] * 3)
        self.assert_pixel(page, 62, 32, [0] * 3)


class Following(TimeTest):
    random = np.random.default_rng(3)
    base = random.random((HEIGHT, WIDTH)).astype(np.float32) * 0.5

    def planes(self, number: int) -> dict[str, np.ndarray]:
        seen = np.roll(self.base, (2 * (number - 1), 3 * (number - 1)), axis=(0, 1)).astype(np.float16)
        return dict.fromkeys("RGB", seen)

    def test_a_curve_follows_what_it_surrounds(self) -> None:
        square = [[100, 50], [200, 50], [200, 130], [100, 130]]
        shape = {"name": "hole", "op": "shape", "in": {"like": "flight"}, "set": {"paths": [{"points": square}]}}
        page = self.open_moving("hole", planes=self.planes, steps=[shape])
        panel = page.get_by_label("Step", exact=True)
        self.assert_pixel(page, 150, 90, [255] * 3)
        panel.get_by_role("list", name="Curves").get_by_role("button", name="Curve 1 add").click()
        follow = panel.get_by_role("group", name="Follow")
        self.set_choice("Model of its movement", "shift")
        follow.get_by_role("button", name="on", exact=True).click()

        def movement() -> dict[str, Any]:
            return self.step("hole")["set"]["paths"][0].get("movement", {"matrices": {}})

        self.wait_for(lambda: len(movement()["matrices"]) == 8)
        for number in (2, 5, 8):
            matrix = movement()["matrices"][str(number)]
            np.testing.assert_allclose([matrix[2], matrix[5]], [3 * (number - 1), 2 * (number - 1)], atol=0.15)
            self.assertGreater(movement()["sure"][str(number)], 0.45)
        self.comes_to(lambda: self.frame(), 8)
        # The matte went along: its left edge lies at 121 now.
        self.assert_pixel(page, 110, 90, [0] * 3)
        self.assert_pixel(page, 130, 90, [255] * 3)
        # A picture may move as the curve does.
        self.add_step(page, "place")
        self.set_choice("Movement", "hole, curve 1")
        self.wait_for(lambda: "place" in [step["op"] for step in self.recipe()["steps"]])
        placed = next(step for step in self.recipe()["steps"] if step["op"] == "place")
        self.wait_for_step(placed["name"], movement=movement())

    def steadiness(self, odd: float) -> Locator:
        """The panel of a matte over a picture that stands still; at frame 5 it has another level."""

        def planes(number: int) -> dict[str, np.ndarray]:
            seen = self.base.astype(np.float16)
            level = np.full((HEIGHT, WIDTH), odd if number == 5 else 0.5, np.float16)
            return {"R": seen, "G": seen, "B": seen, "A": level}

        matte = {"name": "matte", "op": "copy_channel", "in": {"from": "flight.A"}}
        page = self.open_moving("flight", planes=planes, steps=[matte])
        self.choose_item(page, "matte")
        return page.get_by_label("Step", exact=True).get_by_role("group", name="Steadiness")

    def test_how_steady_a_matte_is(self) -> None:
        judged = self.steadiness(0.7)
        page = self.page
        judged.get_by_role("button", name="Judge frames 1 to 8").click()
        judged.get_by_role("button", name="Judge again").wait_for()
        judged.get_by_text("Flickers at").wait_for()
        self.assertEqual(judged.get_by_role("button").all_inner_texts()[1:], ["5", "6"])
        judged.get_by_role("button", name="5", exact=True).click()
        self.wait_for_page(page, lambda: self.frame() == 5)

    def test_steadiness_says_nothing_before_the_range_is_done(self) -> None:
        judged = self.steadiness(0.5)
        page = self.page
        waiting: list[Route] = []
        page.route("**/steadiness", lambda route: waiting.append(route))
        judged.get_by_role("button", name="Judge frames 1 to 8").click()
        self.wait_for_page(page, lambda: bool(waiting))
        self.assertEqual(judged.get_by_role("status").inner_text(), "judged 8 of 8 frames")
        waiting[0].continue_()
        judged.get_by_text("Steady:").wait_for()
        # Given up, it says so.
        page.unroute("**/steadiness")
        page.route("**/steady", lambda route: waiting.append(route))
        judged.get_by_role("button", name="Judge again").click()
        judged.get_by_role("button", name="Stop").click()
        judged.get_by_role("button", name="Judge frames 1 to 8").wait_for()
        self.assertEqual(judged.get_by_role("status").count(), 0)


class Others(TimeTest):
    def test_a_fader_of_the_desk_moves(self) -> None:
        total = {"name": "sum", "op": "sum_passes", "in": {"passes": ["flight", "soft"]}}
        page = self.open_moving("sum", steps=[total])
        page.keyboard.press("Shift+2")
        desk = page.get_by_label("Desk")
        number = desk.get_by_label("Stops of soft, number")
        number.fill("1")
        number.press("Enter")
        desk.get_by_role("button", name="Make a key of stops of soft at frame 1").click()
        self.go_to(5)
        number.fill("0")
        number.press("Enter")
        self.wait_for_step("sum", passes=[{}, {"stops": {"keys": [[1, 1], [5, 0]]}}])
        self.go_to(3)
        self.wait_for(lambda: float(number.input_value()) == 0.5, what=number.input_value())
        # K beside a fader is its notch; of the other one it is the first key.
        desk.get_by_role("slider", name="Stops of flight").focus()
        page.keyboard.press("k")
        self.wait_for_step("sum", passes=[{"stops": {"keys": [[3, 0]]}}, {"stops": {"keys": [[1, 1], [5, 0]]}}])

    def test_keys_follow_the_pointer_over_as_many_frames_as_it_goes(self) -> None:
        steps = [
            {"name": "softer", "op": "blur", "in": {"from": "flight"}, "set": {"radius": {"keys": [[1, 2], [5, 10]]}}}
        ]
        page = self.open_moving("softer", steps=steps)
        panel = page.get_by_label("Step", exact=True)
        course = panel.get_by_role("group", name="Course of radius")
        ruler = self.timeline().get_by_role("slider", name="Playhead")
        # The course has its first and last frame a little inside of its ends.
        for key, line, width, later in (
            (self.timeline().get_by_role("button", name="Keys of softer at frame 5"), ruler, 8, (8, 2, 6)),
            (course.get_by_role("button", name="Key of radius at frame 6"), course, 7.4, (8, 2, 5)),
        ):
            count = self.revisions_at_rest(page)
            start = self.step("softer")["set"]["radius"]["keys"][1][0]
            box, across = key.bounding_box(), line.bounding_box()
            assert box
            assert across
            x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
            page.mouse.move(x, y)
            page.mouse.down()
            for frame in later:
                page.mouse.move(x + (frame - start) * across["width"] / width, y, steps=8)
                self.wait_for_page(
                    page, lambda n=frame: self.timeline().get_by_role("button", name=f"at frame {n}").count() == 1
                )
            page.mouse.up()
            self.wait_for_step("softer", radius={"keys": [[1, 2], [later[-1], 10]]})
            self.comes_to(lambda: self.shot.revisions.count(), count + 1)
            # The playhead stays where it was, and knows nothing of it afterwards.
            page.mouse.move(x - 30, y)
            self.assertEqual(self.frame(), 1)

    def test_keys_of_several_settings_are_taken_together(self) -> None:
        moves = {"keys": [[1, 0], [4, 1], [7, 0.5]]}
        steps = [{"name": "nearer", "op": "place", "in": {"picture": "flight"}, "set": {"x": moves, "y": moves}}]
        page = self.open_moving("nearer", steps=steps)

        def keys(frame: int) -> Locator:
            return self.timeline().get_by_role("button", name=f"Keys of nearer at frame {frame}", exact=True)

        keys(1).click(modifiers=["Shift"])
        keys(4).click(modifiers=["Shift"])
        self.comes_to(lambda: keys(4).get_attribute("aria-pressed"), "true")
        keys(4).focus()
        page.keyboard.press("ArrowRight")
        both = {"keys": [[2, 0], [5, 1], [7, 0.5]]}
        self.wait_for_step("nearer", x=both, y=both)
        # What stands in the way of one stops all of them.
        page.keyboard.press("ArrowRight")
        page.keyboard.press("ArrowRight")
        both = {"keys": [[3, 0], [6, 1], [7, 0.5]]}
        self.wait_for_step("nearer", x=both, y=both)
        keys(6).focus()
        page.keyboard.press("Delete")
        self.wait_for_step("nearer", x={"keys": [[7, 0.5]]}, y={"keys": [[7, 0.5]]})

    def test_a_revision_of_somebody_else_comes_in_by_itself(self) -> None:
        page = self.open_moving("lit")
        self.assert_frame_seen(1)
        self.shot.refresh_from_db()
        recipe = self.recipe()
        recipe["steps"][1]["set"] = {"exposure": -1}
        save(self.shot, self.user.pk, 2, parse_recipe(recipe))
        page.get_by_text("revision 3 by Mira came in").wait_for()
        self.assert_pixel(page, 160, 90, [code(red(1) / 2), code(0.125), code(0.03125)])
        # What one does next is done upon it.
        page.get_by_role("button", name="revision 3 by Mira").click()
        field = page.get_by_label("Step", exact=True).get_by_label("Exposure value")
        field.fill("0")
        field.press("Enter")
        self.wait_for_step("lit", exposure=0)
        page.get_by_text("came in").wait_for(state="hidden")


class Delivered(TimeTest):
    def test_a_range_with_a_cell_for_each_frame_and_all_as_one_archive(self) -> None:
        page = self.open_moving("lit")
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="New deliverable").click()
        page.get_by_role("dialog").get_by_role("button", name="Render", exact=True).click()
        cells = page.get_by_role("group", name="Frames of lit")
        self.wait_for_count(cells.locator('[data-state="done"]'), 8)
        cells.get_by_text("8 of 8 frames").wait_for()
        with page.expect_download() as waiting:
            page.get_by_role("link", name="8 files").click()
        with zipfile.ZipFile(io.BytesIO(Path(waiting.value.path()).read_bytes())) as archive:
            self.assertEqual(archive.namelist(), [f"lit.{number:04d}.exr" for number in range(1, 9)])
        # A movie of them, which plays in the page.
        cells.get_by_role("button", name="Review movie").click()
        movie = page.get_by_label("Review movie of lit")
        movie.wait_for()
        self.wait_for_page(page, lambda: movie.evaluate("movie => movie.videoWidth") == WIDTH)
        cells.get_by_role("button", name="Review", exact=True).click()
        # Fewer frames, every other one; a failed one is told and made again alone.
        frames = page.get_by_role("group", name="Frames to render")
        for label, value in (("First frame to render", "2"), ("Step between frames", "3")):
            frames.get_by_label(label).fill(value)
            frames.get_by_label(label).press("Enter")
        frame = Source.objects.get(shot=self.shot).frames.get(number=5)
        Path(frame.original.path).write_bytes(b"")
        frame.state, frame.problem = (
            "failed",
            {"code": "format", "message": "is empty", "where": "", "remedy": "send it"},
        )
        frame.save()
        page.get_by_role("button", name="Render", exact=True).click()
        cells.get_by_text("2 of 3 frames").wait_for()
        cells.get_by_text("is empty", exact=False).first.wait_for()
        Path(frame.original.path).write_bytes(exr_bytes(frame_planes(5)))
        frame.state, frame.problem = "ready", {}
        frame.save()
        cells.get_by_role("button", name="Render frame 5 again").click()
        cells.get_by_text("3 of 3 frames").wait_for()
        self.assertEqual(self.violations(page), [])

    def test_several_mattes_as_channels_of_one_file(self) -> None:
        mattes = [
            {"name": name, "op": "invert", "in": {"from": f"flight.{channel}"}}
            for name, channel in (("leaf", "R"), ("stem", "G"))
        ]
        page = self.open_moving("leaf", steps=mattes)
        page.get_by_label("Benches").get_by_role("button", name="Deliver").click()
        page.get_by_role("button", name="New deliverable").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Each as a channel").click()
        dialog.get_by_label("One channel more", exact=False).click()
        page.get_by_role("button", name="stem", exact=True).click()
        # Two channels of one name are none.
        second = dialog.get_by_label("Name of channel 2")
        second.fill("leaf")
        self.comes_to(lambda: dialog.get_by_role("button", name="Render", exact=True).is_disabled(), True)
        second.fill("mask.stem")
        dialog.get_by_role("button", name="Render", exact=True).click()
        cells = page.get_by_role("group", name="Frames of leaf")
        cells.get_by_text("8 of 8 frames").wait_for()
        with page.expect_download() as waiting:
            page.get_by_role("link", name="8 files").click()
        with zipfile.ZipFile(io.BytesIO(Path(waiting.value.path()).read_bytes())) as archive:
            file = Path(archive.extract("leaf.0003.exr", self.enterContext(tempfile.TemporaryDirectory())))
        with OpenEXR.File(str(file), separate_channels=True) as opened:
            planes = {name: channel.pixels for name, channel in opened.channels().items()}
        self.assertEqual(set(planes), {"leaf", "mask.stem"})
        self.assertAlmostEqual(float(planes["leaf"].mean()), 1 - red(3), 3)
        self.assertAlmostEqual(float(planes["mask.stem"].mean()), 0.75, 3)
        # It is opened again as it was made.
        page.get_by_role("button", name="More for the deliverable leaf").click()
        page.get_by_role("menuitem", name="Edit").click()
        self.comes_to(lambda: dialog.get_by_label("Name of channel 2").input_value(), "mask.stem")
        self.assertEqual(self.violations(page), [])
