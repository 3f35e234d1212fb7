"""Following and steadiness against known motion; frames by many processes."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import unittest
from contextlib import redirect_stdout
from pathlib import Path

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, workers_by_hand, write_exr
from flicker_scenes import KINDS, MATTE_BEFORE_PICTURE, scene, told_of

from nexal.analysis.follow import follow, movement_of, outline_of
from nexal.analysis.run import run_recipe
from nexal.analysis.steady import steady, summary
from nexal.cli import main
from nexal.engine import Engine, Plan
from nexal.errors import RenderError
from nexal.kernels.flow import gains, movement
from nexal.kernels.following import apply
from nexal.operations.movement import Movement
from nexal.picture import Window
from nexal.recipe import parse_recipe

WIDTH, HEIGHT = 480, 300
REGION = Window(150, 100, 120, 90)


def texture(seed: int) -> np.ndarray:
    random = np.random.default_rng(seed)
    result = np.zeros((HEIGHT, WIDTH), np.float32)
    for size in (2, 4, 8, 16):
        rough = random.random((HEIGHT // size, WIDTH // size)).astype(np.float32)
        result += cv2.resize(rough, (WIDTH, HEIGHT), interpolation=cv2.INTER_CUBIC) * np.float32(size**0.5)
    return result / 9


FRONT, BACK = texture(1), texture(2) * 0.6


def truth(model: str, frame: int) -> np.ndarray:
    """Where the front lies at a frame, 0 being the start."""
    t = frame / 23
    matrix = np.eye(3)
    if model == "shift":
        matrix[:2, 2] = (90 * np.sin(t * 3), 30 * t)
        return matrix
    turn, size = 0.4 * np.sin(t * 4), 1 + 0.3 * t
    turned = size * np.array([[np.cos(turn), -np.sin(turn)], [np.sin(turn), np.cos(turn)]])
    if model != "similarity":
        turned = turned @ np.array([[1, 0.1 * t], [0, 1 - 0.1 * t]])
    centre = np.array([210.0, 145.0])
    matrix[:2, :2] = turned
    matrix[:2, 2] = centre - turned @ centre + (60 * t, 15 * np.sin(t * 5))
    if model == "perspective":
        there = np.eye(3)
        there[:2, 2] = centre
        bent = np.eye(3)
        bent[2, :2] = (5e-4 * t, -4e-4 * t)
        matrix = matrix @ there @ bent @ np.linalg.inv(there)
    return matrix


def picture(model: str, frame: int, hidden: bool = False) -> np.ndarray:
    half = np.eye(3)
    half[:2, 2] = 0.5
    matrix = np.linalg.inv(half) @ truth(model, frame) @ half
    matte = np.zeros((HEIGHT, WIDTH), np.float32)
    cv2.fillPoly(matte, [outline_of(REGION).astype(int)], 1.0)
    front, matte = (
        cv2.warpPerspective(plane, matrix, (WIDTH, HEIGHT), flags=cv2.INTER_CUBIC) for plane in (FRONT, matte)
    )
    # The light changes while it moves.
    seen = BACK * (1 - matte) + front * matte * np.float32(1 + 0.3 * np.sin(frame / 3))
    if hidden:
        seen[:, 60:430] = 0.4
    return seen + np.random.default_rng(frame).normal(0, 0.01, seen.shape).astype(np.float32)


def seen_of(model: str, hidden: range = range(0)):
    def seen(frame: int, window: Window | None) -> tuple[np.ndarray, Window]:
        whole = Window(0, 0, WIDTH, HEIGHT)
        own = whole if window is None else window.intersect(whole)
        return picture(model, frame, frame in hidden)[own.y : own.bottom, own.x : own.right], own

    return seen


class Following(CoreTest):
    inside = np.array([(x, y) for x in np.linspace(155, 265, 5) for y in np.linspace(105, 185, 5)])

    def error(self, model: str, matrix: np.ndarray, frame: int) -> float:
        off = apply(matrix, self.inside) - apply(truth(model, frame), self.inside)
        return float(np.linalg.norm(off, axis=1).mean())

    def test_every_model_finds_its_own_motion_within_a_fifth_of_a_pixel(self) -> None:
        for model in ("shift", "similarity", "affine", "perspective"):
            rows = list(follow(seen_of(model), outline_of(REGION), 0, range(1, 24), model))
            with self.subTest(model):
                self.assertEqual([row.frame for row in rows if row.matrix is not None], list(range(1, 24)))
                errors = [self.error(model, row.matrix, row.frame) for row in rows]
                self.assertLess(np.mean(errors), 0.2)
                self.assertGreater(min(row.sure for row in rows), 0.6)

    def test_what_is_hidden_is_said_to_be_hidden(self) -> None:
        hidden = range(8, 13)
        rows = list(follow(seen_of("similarity", hidden), outline_of(REGION), 0, range(1, 24), "similarity"))
        self.assertEqual(rows[-1].frame, 8, "it stops where it is lost")
        self.assertIsNone(rows[-1].matrix)
        rows = list(
            follow(seen_of("similarity", hidden), outline_of(REGION), 0, range(1, 24), "similarity", search=True)
        )
        self.assertEqual([row.frame for row in rows if row.matrix is None], list(hidden))
        found = [row for row in rows if row.matrix is not None]
        self.assertLess(np.mean([self.error("similarity", row.matrix, row.frame) for row in found]), 0.2)
        movement = Movement.model_validate(movement_of(0, rows))
        self.assertLess(self.error("similarity", movement.at(17), 17), 0.3)
        self.assertEqual(movement.sure[8], rows[7].sure)

    def test_it_goes_on_from_a_corrected_frame_against_the_start(self) -> None:
        wrong = truth("similarity", 10).copy()
        wrong[:2, 2] += (6, -5)
        rows = list(
            follow(seen_of("similarity"), outline_of(REGION), 0, range(11, 15), "similarity", from_matrix=wrong)
        )
        for row in rows:
            self.assertLess(self.error("similarity", row.matrix, row.frame), 0.2)

    def test_a_region_with_nothing_in_it_is_refused(self) -> None:
        def flat(frame: int, window: Window | None) -> tuple[np.ndarray, Window]:
            own = window or Window(0, 0, WIDTH, HEIGHT)
            return np.full((own.height, own.width), 0.5, np.float32), own

        self.assert_refused(
            lambda: list(follow(flat, outline_of(REGION), 0, range(1, 3))), "too little that can be told apart"
        )

    def test_on_the_command_line_forward_and_back(self) -> None:
        folder = self.folder()
        for frame in range(6):
            value = np.clip(picture("shift", frame), 0, 1).astype(np.float16)
            write_exr(folder / f"s.{frame:03d}.exr", dict.fromkeys("RGB", value))
        region = ",".join(str(n) for n in (REGION.x, REGION.y, REGION.width, REGION.height))
        command = ["follow", str(folder / "s.%03d.exr"), "--model", "shift", "--json", "--region"]
        answer = self.answer([*command, region, "--frames", "0-5", "--start", "0"])
        self.assertEqual((answer["from"], answer["model"], answer["lost"]), (0, "shift", []))
        for row in answer["frames"]:
            self.assertLess(self.error("shift", np.array(row["matrix"]).reshape(3, 3), row["frame"]), 0.2)
        x, y = (truth("shift", 5)[:2, 2] + (REGION.x, REGION.y)).round().astype(int)
        back = self.answer([*command, f"{x},{y},120,90", "--frames", "2-5", "--start", "5"])
        shift = np.array(back["frames"][0]["matrix"]).reshape(3, 3)[:2, 2]
        wanted = (truth("shift", 2) - truth("shift", 5))[:2, 2]
        np.testing.assert_allclose(shift, wanted, atol=0.3)
        self.assertEqual(main([*command, region, "--frames", "4-9"]), 2, "beyond the files")

    def answer(self, command: list[str]) -> dict:
        import contextlib
        import io

        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            self.assertEqual(main(command), 0)
        return json.loads(out.getvalue())


class Steadiness(CoreTest):
    def test_change_counts_where_the_picture_stood_still_and_the_worst_frame_is_named(self) -> None:
        random = np.random.default_rng(5)
        base = texture(3)[:120, :160]
        sources = {}
        for frame in range(1, 9):
            seen = base + random.normal(0, 0.004, base.shape).astype(np.float32)
            matte = np.full(base.shape, 0.5, np.float32)
            # The right third moves on: what changes there is not counted.
            seen[:, 110:] = np.roll(seen[:, 110:], 5 * frame, axis=0)
            matte[:, 115:] = frame % 2
            matte[:, :100] += 0.01 if frame % 2 else 0
            if frame == 5:
                matte[:, :100] += 0.2
            sources[frame] = {
                "s": MemorySource(dict.fromkeys("RGB", seen), name=f"s{frame}"),
                "m": MemorySource({"M": matte}, name=f"m{frame}"),
            }
        plans = lambda frame: Plan(MATTE_BEFORE_PICTURE, frame, sources[frame])  # noqa: E731
        rows = list(steady(Engine(threads=2), plans, "matte", range(1, 9)))
        self.assertIsNone(rows[0].change)
        for row in rows[1:]:
            self.assertGreater(row.still, 0.5)
            self.assertLess(row.still, 0.9)
            usual = 0.2 if row.frame in (5, 6) else 0.01
            self.assertAlmostEqual(row.change, usual * 100 / 110, delta=usual * 0.35)
        found = summary(rows)
        self.assertEqual(sorted(found["worst"]), [5, 6])
        self.assertAlmostEqual(found["frames"][0]["coverage"], float(sources[1]["m"].planes["M"].mean()), places=6)


class Flicker(CoreTest):
    """Verdicts on scenes whose flicker is known; `tools/flicker.py` judges many more of them."""

    def test_made_events_are_found_and_movement_drift_and_noise_are_none(self) -> None:
        found = events = false = calm = 0
        for number, kind in enumerate(KINDS):
            made = scene(kind, 40 + number)
            told = told_of(made.pictures, made.mattes)
            for row, size in zip(told["frames"][1:], made.made[1:], strict=True):
                flickers = row["verdict"] == "flickers"
                events, found = events + (size > 0.01), found + (size > 0.01 and flickers)
                calm, false = calm + (size < 0.002), false + (size < 0.002 and flickers)
                if size > 0.01:
                    # What neighbours share is about as large as the event.
                    self.assertGreater(row["common"], 0.7 * size)
                    self.assertLess(row["common"], 1.6 * size)
            self.assertEqual(told["verdict"], "steady" if kind == "none" else "flickers")
        self.assertGreaterEqual(found / events, 0.9, f"{found} of {events}")
        self.assertLessEqual(false / calm, 0.01, f"{false} of {calm}")

    def test_a_matte_that_flickers_all_the_time_is_not_called_steady(self) -> None:
        made = scene("none", 44)
        flickering = [matte * np.float32(0.9 if at % 2 else 1) for at, matte in enumerate(made.mattes)]
        told = told_of(made.pictures, flickering)
        self.assertEqual({row["verdict"] for row in told["frames"][1:]}, {"flickers"})

    def test_what_cannot_be_told_is_said(self) -> None:
        dice = np.random.default_rng(3)
        made = scene("none", 45)
        cuts = [scene("none", 50 + at).pictures[2] for at in range(4)]
        told = told_of(cuts, made.mattes[:4])
        self.assertEqual([row["verdict"] for row in told["frames"]], [None, *["cannot_tell"] * 3])
        self.assertEqual(told["verdict"], "cannot_tell")
        self.assertEqual(told_of(cuts[:1], made.mattes[:1])["verdict"], "cannot_tell")
        # One that is made of nothing that moves: whether it should is not known.
        ramp = {"name": "ramp", "op": "ramp", "set": {"start": [0, 0], "end": [40, 0], "width": 40, "height": 8}}
        plan = Plan(parse_recipe({"nexal": 1, "steps": [ramp]}), 1, {})
        rows = list(steady(Engine(threads=2), lambda frame: plan, "ramp", [1, 2, 3]))
        self.assertEqual(summary(rows)["verdict"], "cannot_tell")
        pictures = [dice.random((60, 80, 3)).astype(np.float32)]
        # Where nothing moves and there is no edge at all, a matte that stays is steady, one that comes and goes is not.
        still = [pictures[0]] * 4
        self.assertEqual(told_of(still, [np.ones((60, 80), np.float32)] * 4)["verdict"], "steady")
        turned = [np.full((60, 80), at % 2, np.float32) for at in range(4)]
        told = told_of(still, turned)
        self.assertEqual(told["verdict"], "flickers")
        self.assertTrue(
            all(0 <= row[name] <= 1 for row in told["frames"][1:] for name in ("flicker", "common", "judged"))
        )

    def test_a_hard_matte_is_judged_by_its_edges(self) -> None:
        picture = scene("none", 45).pictures[0]
        hard = np.zeros(picture.shape[:2], np.float32)
        hard[40:90, 60:160] = 1
        larger = hard.copy()
        larger[38:92, 58:162] = 1
        told = told_of([picture] * 5, [hard, hard, larger, hard, hard])
        self.assertEqual([row["verdict"] for row in told["frames"]], [None, "steady", "flickers", "flickers", "steady"])

    def test_what_is_no_number_or_endless_harms_nothing(self) -> None:
        made = scene("none", 46)
        pictures = [picture.copy() for picture in made.pictures[:5]]
        pictures[2][10, 10:14] = np.nan, np.inf, -np.inf
        told = told_of(pictures, made.mattes[:5])
        self.assertEqual(told["verdict"], "steady")

    def test_the_command_line_says_it_in_words_and_figures(self) -> None:
        place = self.folder()
        seen = texture(7)[:60, :80]
        for frame in range(1, 7):
            level = np.full(seen.shape, 0.7 if frame == 4 else 0.5, np.float32)
            write_exr(place / f"s.{frame:04d}.exr", dict.fromkeys("RGB", seen) | {"A": level})
        step = {"name": "matte", "op": "copy_channel", "in": {"from": "s.A"}}
        recipe = {"nexal": 1, "sources": {"s": {"files": "s.%04d.exr"}}, "steps": [step]}
        (place / "r.json").write_text(json.dumps(recipe))
        words, answer = (io.StringIO() for _ in range(2))
        with redirect_stdout(words):
            self.assertEqual(main(["steady", str(place / "r.json"), "--only", "matte"]), 0)
        with redirect_stdout(answer):
            self.assertEqual(main(["steady", str(place / "r.json"), "--only", "matte", "--json"]), 0)
        lines = words.getvalue().splitlines()
        self.assertRegex(lines[3], r"^ +4  coverage 0.7\d+  change 0.2\d+  flicker 0.2\d+  judged [01].\d+  flickers$")
        self.assertTrue(lines[-1].startswith("flickers; mean change 0.0"))
        told = json.loads(answer.getvalue())
        self.assertEqual(
            [row["verdict"] for row in told["frames"]], [None, *["steady"] * 2, *["flickers"] * 2, "steady"]
        )
        self.assertEqual(sorted(told["worst"]), [4, 5])


class Levelling(CoreTest):
    def test_movement_is_found_whatever_the_light_does(self) -> None:
        before = scene("none", 47).pictures[8]
        shift = np.float32([[1, 0, 2.5], [0, 1, -1.5]])
        after = cv2.warpAffine(before, shift, before.shape[1::-1], borderMode=cv2.BORDER_REFLECT)
        x = np.linspace(0.7, 1.6, before.shape[1], dtype=np.float32)[None, :, None]
        lit = after * x * np.float32([1.2, 1, 0.8])
        inner = (slice(20, -20), slice(20, -20))
        for seen in (after, lit):
            found = movement(before, seen)
            self.assertLess(np.abs(found.field[inner] - [-2.5, 1.5]).mean(), 0.1)
            self.assertGreater((found.missed[inner] < 1).mean(), 0.97)
        measured = gains(before, lit, movement(before, lit).field)
        self.assertLess(np.abs(measured / (x * np.float32([1.2, 1, 0.8])) - 1)[inner].mean(), 0.06)

    def test_large_and_tiny_pictures_are_measured_in_their_own_pixels(self) -> None:
        dice = np.random.default_rng(1)
        large = cv2.resize(dice.random((68, 128, 3)).astype(np.float32), (2560, 1360), interpolation=cv2.INTER_CUBIC)
        moved = np.roll(large, 8, axis=1)
        found = movement(large, moved)
        self.assertEqual(found.field.shape, (1360, 2560, 2))
        self.assertLess(np.abs(found.field[100:-100, 100:-100] - [-8, 0]).mean(), 0.3)
        for size in ((1, 1), (3, 50), (5, 7)):
            tiny = dice.random((*size, 3)).astype(np.float32)
            self.assertEqual(movement(tiny, tiny).missed.shape, size)


class ManyProcesses(CoreTest):
    def setUp(self) -> None:
        self.place = self.folder()
        for frame in range(1, 7):
            write_exr(
                self.place / f"s.{frame:04d}.exr", {name: np.full((24, 32), frame / 8, np.float16) for name in "RGB"}
            )
        self.recipe = parse_recipe(
            {
                "nexal": 1,
                "sources": {"s": {"files": "s.%04d.exr"}},
                "steps": [
                    {"name": "b", "op": "blur", "in": {"from": "s"}, "set": {"radius": {"keys": [[1, 1], [6, 3]]}}}
                ],
                "outputs": {"o": {"from": "b", "file": "o.%04d.exr"}},
            }
        )

    def run_all(self, **options: object) -> list[Path]:
        self.told: list[str] = []
        self.runs = getattr(self, "runs", 0) + 1
        out = self.place / f"out{self.runs}"
        return run_recipe(self.recipe, self.place, {}, out, warn=self.told.append, **options)

    def test_the_same_files_whatever_the_number_of_workers(self) -> None:
        one = self.run_all()
        code, out, err = self.by_command("out_two", "--workers", "2")
        self.assertEqual(code, 0, err)
        two = [Path(line) for line in out.split()]
        self.assertEqual([file.name for file in one], [file.name for file in two])
        for a, b in zip(one, two, strict=True):
            self.assertEqual(a.read_bytes(), b.read_bytes())
        self.recipe.sources["s"].missing = "error"
        (self.place / "s.0004.exr").unlink()
        code, _, err = self.by_command("out_three", "--workers", "2")
        self.assertEqual(code, 2)
        self.assertIn("number 4 is missing, at frame 4", err)

    def by_command(self, out: str, *more: str) -> tuple[int, str, str]:
        """In a process of its own: tests that run side by side may have no children."""
        (self.place / "r.json").write_text(json.dumps(self.recipe.as_json()))
        command = [sys.executable, "-m", "nexal", "run", str(self.place / "r.json"), "--out", str(self.place / out)]
        environment = os.environ | {"PYTHONPATH": str(Path(__file__).parent.parent)}
        done = subprocess.run([*command, *more], capture_output=True, text=True, env=environment, timeout=180)
        return done.returncode, done.stdout, done.stderr

    def test_resume_leaves_what_is_whole_and_makes_the_rest(self) -> None:
        out = self.place / "resumed"
        files = run_recipe(self.recipe, self.place, {}, out)
        whole = files[0].read_bytes()
        times = {file: file.stat().st_mtime_ns for file in files}
        files[1].unlink()
        files[2].write_bytes(whole[: len(whole) // 2])
        files[3].write_bytes(b"")
        told: list[str] = []
        made = run_recipe(self.recipe, self.place, {}, out, resume=True, warn=told.append)
        self.assertEqual(made, files[1:4])
        self.assertEqual(len([text for text in told if "there and whole" in text]), 3)
        for file in (files[0], *files[4:]):
            self.assertEqual(file.stat().st_mtime_ns, times[file])

    def test_by_a_scheduler_and_two_workers_started_by_hand(self) -> None:
        address = workers_by_hand(self, self.place, 2)
        there, here = self.run_all(scheduler=address), self.run_all()
        self.assertEqual([a.read_bytes() for a in there], [b.read_bytes() for b in here])

    def test_a_scheduler_that_is_not_there_is_told(self) -> None:
        with self.assertRaises(RenderError) as caught:
            self.run_all(scheduler="tcp://127.0.0.1:9")
        self.assertIn("does not answer", str(caught.exception))


if __name__ == "__main__":
    unittest.main()
