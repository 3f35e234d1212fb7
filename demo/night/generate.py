"""All pictures of the Night Conservatory written into a folder.

python -m demo.night.generate FOLDER
"""

from __future__ import annotations

import multiprocessing
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from demo.night.drawing import blur

PICTURES = (
    "moth.exr",
    "backing.exr",
    "fern.png",
    "frond.png",
    "wing.exr",
    "print.tif",
    "house.exr",
    "interior.exr",
)
TRUTH = ("moth_true.exr", "frond_true.exr", "wing_true.exr", "print_true.exr")
"""True alpha (of the moth its straight colour too), for tests."""


def _write_exr(path: Path, channels: Mapping[str, NDArray[Any]]) -> None:
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with OpenEXR.File(header, {name: np.ascontiguousarray(plane) for name, plane in channels.items()}) as file:
        file.write(str(path))


def _rgb(colour: NDArray[np.float32], layer: str = "") -> dict[str, NDArray[Any]]:
    prefix = f"{layer}." if layer else ""
    return {f"{prefix}{name}": colour[..., index].astype(np.float16) for index, name in enumerate("RGB")}


def write_plates(folder: Path) -> None:
    """The moth with everything that belongs to it, and the fern."""
    from demo.night.fern import make_fern
    from demo.night.moth import make_moth
    from nexal.kernels.pointmath import encode

    moth = make_moth()
    _write_exr(folder / "moth.exr", _rgb(moth.plate))
    _write_exr(folder / "backing.exr", _rgb(moth.backing))
    _write_exr(folder / "moth_true.exr", _rgb(moth.colour) | {"A": moth.alpha})
    cv2.imwrite(str(folder / "fern.png"), _codes(encode(make_fern()))[..., ::-1])
    write_hard_plates(folder)


def write_hard_plates(folder: Path) -> None:
    """The frond, the wing and the print, with their true alpha."""
    from PIL import Image

    from demo.night.plates import make_frond, make_print, make_wing
    from nexal.kernels.pointmath import encode

    frond, wing, ink = make_frond(), make_wing(), make_print()
    cv2.imwrite(str(folder / "frond.png"), _codes(encode(frond.pixels))[..., ::-1])
    _write_exr(folder / "wing.exr", _rgb(wing.pixels))
    Image.fromarray(_codes(ink.pixels), "CMYK").save(folder / "print.tif", compression="tiff_lzw")
    for name, plate in (("frond", frond), ("wing", wing), ("print", ink)):
        _write_exr(folder / f"{name}_true.exr", {"A": plate.alpha})


def _codes(values: NDArray[np.float32]) -> NDArray[np.uint8]:
    return np.floor(np.clip(values, 0, 1) * 255 + 0.5).astype(np.uint8)


def write_house(folder: Path) -> None:
    """The glasshouse with its passes, and a soft interior made from it for backdrops."""
    from demo.night.house import make_house

    house = make_house()
    full = house.full
    channels = _rgb(full) | {"A": np.ones(full.shape[:2], np.float16)}
    for name, light in house.groups.items():
        channels |= _rgb(light, name)
    channels["depth.Z"] = house.depth
    for index, axis in enumerate("XYZ"):
        channels[f"position.{axis}"] = house.position[..., index]
        channels[f"normal.{axis}"] = house.normal[..., index].astype(np.float16)
    channels["id.object"] = house.ids
    _write_exr(folder / "house.exr", channels)
    large = cv2.resize(full, (1920, 1080), interpolation=cv2.INTER_CUBIC).clip(0)
    soft = np.stack([blur(np.ascontiguousarray(large[..., c]), 9) for c in range(3)], axis=-1)
    _write_exr(folder / "interior.exr", _rgb(soft))


def generate(folder: Path) -> None:
    """Write what is missing. The plates are drawn in a process of their own while the glasshouse is rendered."""
    folder.mkdir(parents=True, exist_ok=True)
    if all((folder / name).is_file() for name in (*PICTURES, *TRUTH)):
        return
    plates = multiprocessing.get_context("spawn").Process(target=write_plates, args=(folder,))
    plates.start()
    try:
        write_house(folder)
    finally:
        plates.join()
    if plates.exitcode:
        raise RuntimeError(f"drawing the plates failed with exit code {plates.exitcode}")


if __name__ == "__main__":
    generate(Path(sys.argv[1]))
