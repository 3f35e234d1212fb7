"""Import of a 4096 x 2160, 40-channel half EXR up to the first tile, against the EXR library's own decoding."""

import tempfile
import threading
import time
from fractions import Fraction
from pathlib import Path

import numpy as np

from benchmarks.measure import report
from nexal.formats.decoding import decode_file
from nexal.formats.reading import DefaultSpec, StoredSource
from nexal.formats.stored import StoredFile
from nexal.picture import Window


def main() -> None:
    import OpenEXR

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        path = folder / "forty.exr"
        y, x = np.mgrid[0:2160, 0:4096].astype(np.float32)
        random = np.random.default_rng(1)
        grain = random.random((2160, 4096), np.float32) * 0.01
        channels = {
            f"layer{number // 4}.{'RGBA'[number % 4]}": ((x + number * y) / 8192 % 1 + grain).astype(np.float16)
            for number in range(40)
        }
        with OpenEXR.File({"type": OpenEXR.scanlineimage, "compression": OpenEXR.ZIP_COMPRESSION}, channels) as file:
            file.write(str(path))
        OpenEXR.set_global_thread_count(2)
        decodes, firsts, wholes = [], [], []
        for turn in range(2):
            start = time.perf_counter()
            OpenEXR.File(str(path), separate_channels=True)
            decodes.append(time.perf_counter() - start)
            store = folder / f"store{turn}"
            start = time.perf_counter()
            worker = threading.Thread(target=decode_file, args=(path, store))
            worker.start()
            stored = StoredFile(store)
            while not (stored.started and stored.ready("layer0.R")):
                time.sleep(0.005)
            StoredSource(stored, DefaultSpec(), "").read(["layer0.R"], Fraction(1, 8), Window(0, 0, 512, 270))
            firsts.append(time.perf_counter() - start)
            worker.join()
            wholes.append(time.perf_counter() - start)
        decode, first, whole = min(decodes), min(firsts), min(wholes)
        report(
            "import of a 4096 x 2160 half EXR with 40 channels",
            [
                f"first tile after {first / decode:.2f} decodes (aim: at most 2.5), all after {whole / decode:.2f}",
                f"here: decode {decode:.2f} s, first tile {first:.2f} s, whole {whole:.2f} s",
            ],
        )
