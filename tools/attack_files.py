"""Mutated picture files against the decode worker: what it must never do is escape, hang, or take the machine along.

    ./run attack files [COUNT] [SEED]

Each file is unpacked by the worker's own code in a process of its own, forked from one that has everything loaded, so
that thousands can be tried. A worker that crashes has failed safely: the import is told so.
"""

from __future__ import annotations

import collections
import os
import random
import shutil
import signal
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "core"), str(ROOT / "core" / "tests")]

from core_support import write_exr, write_raster  # noqa: E402

from nexal.formats import worker  # noqa: E402
from tools.mutating import damaged  # noqa: E402

MOST_SECONDS = 10.0
MOST_BYTES = 2 << 30


def sound_files(folder: Path) -> list[Path]:
    """Small files of every format that is read, with what makes readers work: layers, parts, alpha, compressions."""
    import OpenEXR

    random_ = np.random.default_rng(1)
    noise = random_.random((24, 32, 4)).astype(np.float32)
    codes = (noise * 255).astype(np.uint8)
    made = []
    for name in ("NO", "RLE", "ZIP", "ZIPS", "PIZ", "PXR24", "B44", "B44A", "DWAA", "DWAB"):
        kind = getattr(OpenEXR, f"{name}_COMPRESSION", None)
        if kind is not None:
            planes = {channel: noise[..., index].astype(np.float16) for index, channel in enumerate("RGBA")}
            more = {"depth.Z": noise[..., 0], "id": (noise[..., 0] * 99).astype(np.uint32), "diffuse.R": noise[..., 1]}
            made.append(write_exr(folder / f"{name}.exr", planes | more, {"compression": kind}))
    parts = [OpenEXR.Part({"type": OpenEXR.scanlineimage}, {"R": noise[..., n]}, name=f"part{n}") for n in range(3)]
    with OpenEXR.File(parts) as file:
        file.write(str(folder / "parts.exr"))
    made.append(folder / "parts.exr")
    for suffix in ("png", "tif", "tga", "webp", "bmp", "dpx"):
        made.append(write_raster(folder / f"rgba.{suffix}", codes, ["R", "G", "B", "A"]))
    made.append(write_raster(folder / "grey.png", (noise[..., :1] * 65535).astype(np.uint16), ["Y"]))
    made.append(write_raster(folder / "float.tif", noise, ["R", "G", "B", "A"]))
    made.append(write_raster(folder / "rgb.jpg", codes[..., :3], ["R", "G", "B"]))
    made.append(write_raster(folder / "light.hdr", noise[..., :3], ["R", "G", "B"]))
    return made


def attacked(count: int, chance: random.Random) -> Iterator[tuple[str, float, int, int]]:
    """Name, seconds, bytes at the most and exit status of each try."""
    with tempfile.TemporaryDirectory(prefix="nexal-attack-") as place:
        folder = Path(place)
        contents = [(path.suffix, path.read_bytes()) for path in sound_files(folder)]
        for number in range(count):
            suffix, content = chance.choice(contents)
            path, store = folder / f"try{number}{suffix}", folder / f"store{number}"
            path.write_bytes(damaged(content, chance))
            store.mkdir()
            began = time.monotonic()
            child = os.fork()
            if child == 0:
                os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
                signal.alarm(int(MOST_SECONDS) + 1)
                try:
                    code = worker.main([str(path), str(store), str(os.getppid())])
                except BaseException:
                    code = 1
                os._exit(code)
            _, status, used = os.wait4(child, 0)
            yield path.name, time.monotonic() - began, used.ru_maxrss * 1024, status
            shutil.rmtree(store)
            path.unlink()


def main(count: int = 10_000, seed: int = 0) -> int:
    ends: collections.Counter[str] = collections.Counter()
    slowest, largest, wrong = 0.0, 0, 0
    for name, seconds, size, status in attacked(count, random.Random(seed)):
        slowest, largest = max(slowest, seconds), max(largest, size)
        bad = seconds > MOST_SECONDS or size > MOST_BYTES or os.waitstatus_to_exitcode(status) == -signal.SIGALRM
        wrong += bad
        code = os.waitstatus_to_exitcode(status)
        ends["read or told" if code == 0 else f"ended by signal {-code}" if code < 0 else "ended by a fault"] += 1
        if bad:
            print(f"{name}: {seconds:.1f} s, {size / 1e9:.2f} GB, status {code}")
    told = ", ".join(f"{count} {how}" for how, count in ends.most_common())
    print(f"{count} files (seed {seed}): {told}; {wrong} wrong")
    print(f"slowest {slowest:.1f} s, most memory {largest / 1e9:.2f} GB")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main(*(int(word) for word in sys.argv[1:])))
