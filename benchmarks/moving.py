"""Time: unpacking many frames, a range by one worker and by two, following."""

from __future__ import annotations

import os
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import cv2
import numpy as np

from benchmarks.measure import report
from nexal.analysis.follow import follow, outline_of
from nexal.analysis.run import run_recipe
from nexal.formats.decoding import decode_file
from nexal.picture import Window
from nexal.recipe import parse_recipe

WIDTH, HEIGHT = 2048, 1152
CORES = min(2, os.cpu_count() or 1)


def decoded(path: Path) -> None:
    import OpenEXR

    OpenEXR.set_global_thread_count(1)
    OpenEXR.File(str(path), separate_channels=True)


def write_frames(folder: Path, count: int) -> None:
    import OpenEXR

    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    grain = np.random.default_rng(1).random((HEIGHT, WIDTH), np.float32) * 0.01
    names = ("R", "G", "B", "A", "key.R", "key.G", "key.B", "Z")
    for frame in range(1, count + 1):
        planes = {
            name: ((x + 3 * frame + (index + 1) * y) / 8192 % 1 + grain).astype(np.float16)
            for index, name in enumerate(names)
        }
        header = {"type": OpenEXR.scanlineimage, "compression": OpenEXR.ZIP_COMPRESSION}
        with OpenEXR.File(header, planes) as file:
            file.write(str(folder / f"s.{frame:04d}.exr"))


def unpacking(folder: Path, count: int) -> None:
    files = [folder / f"s.{frame:04d}.exr" for frame in range(1, count + 1)]
    with ProcessPoolExecutor(CORES, mp_context=get_context("spawn")) as pool:
        list(pool.map(decoded, files[:CORES]))
        start = time.perf_counter()
        list(pool.map(decoded, files))
        library = time.perf_counter() - start
    with ThreadPoolExecutor(CORES) as pool:
        list(pool.map(lambda at: decode_file(files[at], folder / f"warm{at}", lean=True), range(CORES)))
        start = time.perf_counter()
        list(pool.map(lambda at: decode_file(files[at], folder / f"store{at}", lean=True), range(count)))
        ours = time.perf_counter() - start
    report(
        f"unpacking of {count} frames of {WIDTH} x {HEIGHT}, 8 half channels, {CORES} at once",
        [f"{ours / library:.2f} of what the EXR library takes with as many processes (aim: 1.3)"],
    )


def rendering(folder: Path, count: int) -> None:
    recipe = parse_recipe(
        {
            "nexal": 1,
            "sources": {"s": {"files": "s.%04d.exr"}},
            "steps": [
                {"name": "pull", "op": "screen_pull", "in": {"picture": "s"}, "set": {"reference": [0.1, 0.6, 0.1]}},
                {"name": "soft", "op": "blur", "in": {"from": "pull"}, "set": {"radius": {"keys": [[1, 1], [48, 6]]}}},
                {"name": "unspilled", "op": "despill", "in": {"picture": "s"}},
                {"name": "cut", "op": "attach_alpha", "in": {"picture": "unspilled", "alpha": "soft"}},
                {"name": "lit", "op": "grade", "in": {"picture": "cut"}, "set": {"exposure": 0.5}},
            ],
            "outputs": {"o": {"from": "lit", "file": "o.%04d.exr"}},
        }
    )
    took = {}
    for workers in (1, 2):
        start = time.perf_counter()
        run_recipe(recipe, folder, {}, folder / f"out{workers}", frames=range(1, count + 1), workers=workers)
        took[workers] = time.perf_counter() - start
    report(
        f"{count} frames of 2K through five steps",
        [
            f"two workers take {took[2] / took[1]:.2f} of the time of one, starting them included (aim: 0.55)",
            f"here: one {took[1] / count * 1000:.0f} ms a frame, two {took[2] / count * 1000:.0f} ms",
        ],
    )


def following(count: int = 48) -> None:
    random = np.random.default_rng(2)
    rough = random.random((HEIGHT // 6, WIDTH // 6)).astype(np.float32)
    base = cv2.resize(rough, (WIDTH, HEIGHT), interpolation=cv2.INTER_CUBIC)

    def picture(frame: int) -> np.ndarray:
        turn = cv2.getRotationMatrix2D((1000, 600), 0.4 * frame, 1 + 0.002 * frame)
        turn[:, 2] += (4.3 * frame, 1.7 * frame)
        return cv2.warpAffine(base, turn, (WIDTH, HEIGHT), flags=cv2.INTER_CUBIC)

    pictures = [picture(frame) for frame in range(count)]

    def seen(frame: int, window: Window | None) -> tuple[np.ndarray, Window]:
        own = Window(0, 0, WIDTH, HEIGHT) if window is None else window.intersect(Window(0, 0, WIDTH, HEIGHT))
        return pictures[frame][own.y : own.bottom, own.x : own.right], own

    for model in ("shift", "similarity", "perspective"):
        start = time.perf_counter()
        rows = list(follow(seen, outline_of(Window(850, 450, 300, 300)), 0, range(1, count), model))  # type: ignore[arg-type]
        took = time.perf_counter() - start
        report(f"following 300 x 300 pixels of 2K by {model}", [f"{len(rows) / took:.0f} frames a second (aim: 8)"])


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_frames(folder, 48)
        unpacking(folder, 48)
        rendering(folder, 48)
    following()


if __name__ == "__main__":
    main()
