"""What a command takes from its start to its end, against a start of the libraries that it cannot do without."""

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from benchmarks.measure import best, report

LIBRARIES = "import numpy, pydantic, cv2, OpenEXR"
WIDTH, HEIGHT = 960, 540


def main() -> None:
    import OpenEXR

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        random = np.random.default_rng(1)
        channels = {channel: random.random((HEIGHT, WIDTH)).astype(np.float16) for channel in "RGB"}
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        with OpenEXR.File(header, channels) as file:
            file.write(str(folder / "moth.exr"))
        recipe = {
            "nexal": 1,
            "sources": {"moth": {"files": "moth.exr"}},
            "steps": [{"name": "pull", "op": "cross", "in": {"a": "moth.G", "b": "moth.R"}}],
            "outputs": {"pull": {"from": "pull", "file": "pull.exr"}},
        }
        (folder / "pull.json").write_text(json.dumps(recipe))

        # As where it was installed: what Python made of the source is kept from one start to the next.
        environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
        environment["PYTHONPYCACHEPREFIX"] = str(folder / "bytecode")

        def run(*arguments: str) -> None:
            subprocess.run([sys.executable, *arguments], check=True, stdout=subprocess.DEVNULL, env=environment)

        seconds = best(
            {
                "libraries": lambda: run("-c", LIBRARIES),
                "help": lambda: run("-m", "nexal", "--help"),
                "run": lambda: run("-m", "nexal", "run", str(folder / "pull.json"), "--out", str(folder / "out")),
            },
            rounds=7,
        )
    report(
        f"a command's start and end, a still of {WIDTH} x {HEIGHT}",
        [
            f"{title}: {seconds[name] / seconds['libraries']:.2f} of loading numpy, pydantic, OpenCV and OpenEXR; "
            f"here {seconds[name]:.2f} s (aim {aim})"
            for title, name, aim in (("nexal --help", "help", 0.15), ("nexal run of a still", "run", 0.6))
        ],
    )
