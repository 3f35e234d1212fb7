"""Following and steadiness against known motion; frames by many processes."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import unittest
from pathlib import Path

import cv2
import numpy as np
from core_support import CoreTest, MemorySource, workers_by_hand, write_exr

from nexal.analysis.follow import follow, movement_of, outline_of
from nexal.analysis.run import run_recipe
from nexal.analysis.steady import steady, summary
from nexal.cli import main
from nexal.engine import Engine, Plan
from nexal.errors import RenderError
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
        recipe = parse_recipe(
            {
                "nexal": 1,
                "sources": {"s": {"files": "s"}, "m": {"files": "m"}},
                "steps": [
                    {"name": "cut", "op": "attach_alpha", "in": {"picture": "s", "alpha": "m.M"}},
                    {"name": "matte", "op": "copy_channel", "in": {"from": "cut.A"}},
                ],
            }
        )
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
        plans = lambda frame: Plan(recipe, frame, sources[frame])  # noqa: E731
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
