"""All pictures of the Night Conservatory written into a folder.

python -m demo.night.generate FOLDER
"""

from __future__ import annotations

import multiprocessing
import sys
from collections.abc import Callable, Collection, Mapping
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from demo.night.drawing import blur
from nexal.files import written_whole

Box = tuple[int, int, int, int]
"""x, y, width, height."""


def _header(display: Box | None = None, data: Box | None = None) -> dict[str, Any]:
    import OpenEXR

    header: dict[str, Any] = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    for name, box in (("displayWindow", display), ("dataWindow", data)):
        if box:
            x, y, width, height = box
            header[name] = (np.array([x, y], np.int32), np.array([x + width - 1, y + height - 1], np.int32))
    return header


def _whole(channels: Mapping[str, NDArray[Any]]) -> dict[str, NDArray[Any]]:
    # The library writes strided arrays wrong.
    return {name: np.ascontiguousarray(plane) for name, plane in channels.items()}


def _write_exr(
    path: Path,
    channels: Mapping[str, NDArray[Any]],
    display: Box | None = None,
    data: Box | None = None,
    more: Mapping[str, Any] | None = None,
) -> None:
    """One part; the planes cover the data window, which is the display window unless given. Whole or not at all."""
    import OpenEXR

    with (
        written_whole(path) as part,
        OpenEXR.File(_header(display, data) | dict(more or {}), _whole(channels)) as file,
    ):
        file.write(str(part))


def _write_parts(path: Path, parts: Mapping[str, Mapping[str, NDArray[Any]]], display: Box) -> None:
    """A part for each layer, each with the data window that it needs."""
    import OpenEXR

    made = []
    for name, channels in parts.items():
        box = _used(sum(np.abs(plane) for plane in channels.values()), grow=0) if name != "rgba" else display
        cut = {channel: _cut(plane, box) for channel, plane in channels.items()}
        made.append(OpenEXR.Part(_header(display, box), _whole(cut), name))
    with written_whole(path) as part, OpenEXR.File(made) as file:
        file.write(str(part))


def _used(plane: NDArray[Any], grow: int) -> Box:
    """The box of what is not 0, larger on all sides by some pixels."""
    rows, columns = (np.flatnonzero(plane.any(axis=axis)) for axis in (1, 0))
    top, left = max(0, rows[0] - grow), max(0, columns[0] - grow)
    bottom, right = min(plane.shape[0], rows[-1] + 1 + grow), min(plane.shape[1], columns[-1] + 1 + grow)
    return int(left), int(top), int(right - left), int(bottom - top)


def _cut(plane: NDArray[Any], box: Box) -> NDArray[Any]:
    x, y, width, height = box
    return plane[y : y + height, x : x + width]


def _rgb(colour: NDArray[np.float32], layer: str = "") -> dict[str, NDArray[Any]]:
    prefix = f"{layer}." if layer else ""
    return {f"{prefix}{name}": colour[..., index].astype(np.float16) for index, name in enumerate("RGB")}


def write_moth(folder: Path) -> None:
    """The moth before its screen, the screen alone, and its true colour and alpha."""
    from demo.night.moth import make_moth

    moth = make_moth()
    _write_exr(folder / "backing.exr", _rgb(moth.backing))
    _write_exr(folder / "moth_true.exr", _rgb(moth.colour) | {"A": moth.alpha})
    _write_exr(folder / "moth.exr", _rgb(moth.plate))


def write_small(folder: Path) -> None:
    """The lace, the fern and the fireflies."""
    from demo.night.fern import make_fern
    from demo.night.fireflies import make_fireflies
    from demo.night.lace import make_lace
    from nexal.kernels.pointmath import encode

    lace = make_lace()
    _write_exr(folder / "lace.exr", _rgb(lace.plate))
    _write_exr(folder / "lace_true.exr", _rgb(lace.colour) | {"A": lace.alpha})
    cv2.imwrite(str(folder / "fern.png"), _codes(encode(make_fern()))[..., ::-1])
    flies = make_fireflies()
    _write_exr(folder / "fireflies.exr", _rgb(flies) | {"A": flies[..., 3].astype(np.float16)})


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


def _axes(vectors: NDArray[np.float32], layer: str, kind: type[np.floating[Any]]) -> dict[str, NDArray[Any]]:
    return {f"{layer}.{axis}": vectors[..., index].astype(kind) for index, axis in enumerate("XYZ")}


def write_pendant(folder: Path) -> None:
    """The swinging lantern in one part, in many parts, and with a file for each light and for the alpha."""
    from demo.night.pendant import make_pendant

    pendant = make_pendant()
    height, width = pendant.alpha.shape
    alpha = {"A": pendant.alpha.astype(np.float16)}
    layers = {name: _rgb(light, name) for name, light in pendant.passes.items()}
    layers["albedo"] = _rgb(pendant.albedo, "albedo")
    layers["lighting"] = _rgb(pendant.lighting, "lighting")
    layers["depth"] = {"depth.Z": pendant.depth}
    layers["normal"] = _axes(pendant.normal, "normal", np.float16)
    layers["id"] = {"id.object": pendant.ids}
    full = _rgb(pendant.full) | alpha
    _write_exr(folder / "pendant.exr", full | {n: plane for layer in layers.values() for n, plane in layer.items()})
    parts = {"rgba": full} | {
        name: {channel.rpartition(".")[2]: plane for channel, plane in layer.items()} for name, layer in layers.items()
    }
    _write_parts(folder / "pendant_parts.exr", parts, (0, 0, width, height))
    for name, light in pendant.passes.items():
        _write_exr(folder / f"pendant_{name}.exr", _rgb(light))
    _write_exr(folder / "pendant_alpha.exr", alpha)


def write_cloche(folder: Path) -> None:
    """The glass at three indices of refraction, each with a data window of its own; alpha, plate and position apart."""
    from demo.night.cloche import OVERSCAN, make_cloche

    cloche = make_cloche()
    height, width = cloche.alpha.shape
    display = (0, 0, width, height)
    for grow, (name, render) in zip((4, 12, 24), cloche.renders.items(), strict=True):
        box = _used(cloche.alpha, grow)
        cut = {channel: _cut(plane, box) for channel, plane in _rgb(render).items()}
        _write_exr(folder / f"cloche_{name}.exr", cut, display, box)
    _write_exr(folder / "cloche_alpha.exr", {"A": cloche.alpha.astype(np.float16)})
    _write_exr(folder / "cloche_plate.exr", _rgb(cloche.plate))
    overscan = (-OVERSCAN, -OVERSCAN, width + 2 * OVERSCAN, height + 2 * OVERSCAN)
    _write_exr(folder / "cloche_position.exr", _axes(cloche.position, "position", np.float32), display, overscan)


TEAL, GREY = (0.05, 0.4, 0.4), (0.5, 0.5, 0.5)
"""Backings of the pods, in the values of the mixing."""


def write_pods(folder: Path) -> None:
    """The drifting pods in every state: linear EXR and encoded 8-bit PNG, as one file and as picture and alpha."""
    from demo.night.pods import make_pods
    from demo.night.states import mixed
    from nexal.kernels.pointmath import encode

    pods = make_pods()
    alpha = {"A": pods.alpha.astype(np.float16)}
    _write_exr(folder / "pods_true.exr", {n: pods.colour[..., i] for i, n in enumerate("RGB")} | {"A": pods.alpha})
    _write_exr(folder / "pods_straight.exr", _rgb(pods.colour) | alpha)
    _write_exr(folder / "pods_premultiplied.exr", _rgb(pods.premultiplied) | alpha)
    _write_exr(folder / "pods_teal.exr", _rgb(mixed(pods.colour, pods.alpha, TEAL, "scene")) | alpha)
    cover = _codes(pods.alpha)[..., None]
    for name, backing in (("black", (0.0, 0.0, 0.0)), ("teal", TEAL), ("grey", GREY)):
        codes = _codes(encode(mixed(pods.colour, pods.alpha, backing, "display")))[..., ::-1]
        cv2.imwrite(str(folder / f"pods_{name}.png"), np.concatenate([codes, cover], axis=-1))
        if name == "grey":
            cv2.imwrite(str(folder / "pods_picture.png"), codes)
    cv2.imwrite(str(folder / "pods_alpha.png"), cover)


def write_tin(folder: Path) -> None:
    """The tea tin's textures, each in the depth and size that such files come in."""
    from demo.night.tin import make_tin
    from nexal.kernels.pointmath import encode

    tin = make_tin()
    deep = [np.floor(plane * 65535 + 0.5).astype(np.uint16) for plane in (tin.template, tin.metal)]
    emblem = np.concatenate([_codes(encode(tin.emblem)), _codes(tin.emblem_alpha)[..., None]], axis=-1)
    cv2.imwrite(str(folder / "tin_base.png"), _codes(encode(tin.base))[..., ::-1])
    cv2.imwrite(str(folder / "tin_template.png"), deep[0][..., ::-1])
    cv2.imwrite(str(folder / "tin_occlusion.png"), _codes(tin.occlusion))
    cv2.imwrite(str(folder / "tin_metal.png"), deep[1])
    cv2.imwrite(str(folder / "emblem.png"), emblem[..., [2, 1, 0, 3]])


SEQUENCES = {"flight.%04d.exr": 48, "swing.%04d.exr": 36}
"""The sequences that move, with their frames."""


def generate_sequence(folder: Path, files: str) -> None:
    """Write what is missing of a sequence."""
    from demo.night.flight import write_flight
    from demo.night.lantern import write_swing

    folder.mkdir(parents=True, exist_ok=True)
    if files.startswith("flight"):
        write_flight(folder, lambda path, pixels: _write_exr(path, _rgb(pixels)))
    else:
        write_swing(folder, lambda path, channels, header: _write_exr(path, channels, more=header))


LIGHTS = ("key", "fill", "rim", "lantern", "reflection", "glow")
PODS = (
    "straight.exr",
    "premultiplied.exr",
    "teal.exr",
    "black.png",
    "teal.png",
    "grey.png",
    "picture.png",
    "alpha.png",
)
DRAWN: dict[Callable[[Path], None], tuple[str, ...]] = {
    write_house: ("house.exr", "interior.exr"),
    write_moth: ("moth.exr", "backing.exr", "moth_true.exr"),
    write_hard_plates: ("frond.png", "wing.exr", "print.tif", "frond_true.exr", "wing_true.exr", "print_true.exr"),
    write_small: ("lace.exr", "fern.png", "fireflies.exr", "lace_true.exr"),
    write_pendant: (
        "pendant.exr",
        "pendant_parts.exr",
        "pendant_alpha.exr",
        *(f"pendant_{name}.exr" for name in LIGHTS),
    ),
    write_cloche: tuple(f"cloche_{name}.exr" for name in ("low", "middle", "high", "alpha", "plate", "position")),
    write_pods: (*(f"pods_{name}" for name in PODS), "pods_true.exr"),
    write_tin: ("tin_base.png", "tin_template.png", "tin_occlusion.png", "tin_metal.png", "emblem.png"),
}
"""What is drawn together, with the files that come of it; what takes longest first."""
TRUTH = tuple(name for names in DRAWN.values() for name in names if Path(name).stem.endswith("_true"))
"""True alpha (of the moth its straight colour too), for tests."""
PICTURES = tuple(name for names in DRAWN.values() for name in names if name not in TRUTH)


def generate(folder: Path, wanted: Collection[str] = (*PICTURES, *TRUTH)) -> None:
    """Write what is missing of some pictures, two at a time, each in a process of its own."""
    folder.mkdir(parents=True, exist_ok=True)
    missing = {name for name in wanted if not (folder / name).is_file()}
    work = [write for write, names in DRAWN.items() if missing & {*names}]
    if not work:
        return
    with ProcessPoolExecutor(2, multiprocessing.get_context("spawn")) as pool:
        for drawn in [pool.submit(write, folder) for write in work]:
            drawn.result()


if __name__ == "__main__":
    generate(Path(sys.argv[1]))
    for name in SEQUENCES:
        generate_sequence(Path(sys.argv[1]), name)
