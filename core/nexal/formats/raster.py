"""PNG, JPEG, TIFF, TGA, HDR, DPX, WebP and whatever else OpenImageIO reads.

The library would premultiply PNG, TIFF and TGA and turn ink into RGB on its own; it is told not to. Samples keep the
file's type. Orientation tags are honoured: rows and columns come as the picture is meant to be seen.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import FormatError
from nexal.formats.decoded import Decoded, DecodedPart, Limits, plain, tagged
from nexal.formats.ink_profiles import carried, is_profile, read_profile
from nexal.picture import INKS, Window

_STRAIGHT_BY_STANDARD = frozenset({"png", "webp", "gif", "bmp", "ico", "psd", "jpegxl", "dds"})
_FORMAT_NAMES = {"targa": "tga"}
_READ_AS = {
    "uint8": "uint8",
    "int8": "uint8",
    "uint16": "uint16",
    "int16": "uint16",
    "half": "half",
    "float": "float",
    "double": "float",
    "uint32": "uint",
    "uint": "uint",
    "int32": "uint",
    "int": "uint",
}
_TURNS: dict[int, Callable[[NDArray[Any]], NDArray[Any]]] = {
    2: lambda a: a[:, ::-1],
    3: lambda a: a[::-1, ::-1],
    4: lambda a: a[::-1],
    5: lambda a: a.swapaxes(0, 1),
    6: lambda a: a.swapaxes(0, 1)[:, ::-1],
    7: lambda a: a[::-1, ::-1].swapaxes(0, 1),
    8: lambda a: a.swapaxes(0, 1)[::-1],
}
"""What brings stored rows and columns to how the picture is meant, by Exif orientation."""


def read_raster(path: Path, limits: Limits) -> Decoded:
    """Every subimage of a picture file. Raises FormatError for what is damaged, unknown or beyond limits."""
    import OpenImageIO as oiio

    oiio.attribute("limits:imagesize_MB", int(limits.decoded_bytes >> 20))
    oiio.attribute("limits:resolution", limits.side)
    oiio.attribute("limits:channels", limits.channels)
    oiio.attribute("threads", 2)
    config = oiio.ImageSpec()
    config.attribute("oiio:UnassociatedAlpha", 1)
    config.attribute("oiio:RawColor", 1)
    opened = oiio.ImageInput.open(str(path), config)
    if opened is None:
        reason = oiio.geterror().strip().splitlines()
        raise FormatError(
            f"is not a picture that can be read ({reason[0] if reason else 'unknown format'})",
            remedy="give an EXR, PNG, JPEG, TIFF, TGA, HDR, DPX or WebP file that other programs can open",
        )
    try:
        if opened.format_name() == "jpeg" and (ink := _read_ink_jpeg(path, limits)):
            return ink
        return _read_all(opened, path, limits)
    finally:
        opened.close()


def _read_ink_jpeg(path: Path, limits: Limits) -> Decoded | None:
    """A CMYK JPEG as C, M, Y, K with 1 for full ink, None where it holds RGB or grey.

    The picture library makes RGB of it whatever it is told, so these are read with Pillow.
    """
    from PIL import Image

    Image.MAX_IMAGE_PIXELS = None
    with Image.open(path) as image:
        if image.mode != "CMYK":
            return None
        width, height = image.size
        limits.check(width, height, 4, 1, path.stat().st_size)
        try:
            pixels = np.asarray(image)
            profile, name = carried(image.info.get("icc_profile"))
        except OSError as error:
            raise FormatError(f"is damaged ({error})", remedy="save or copy the file again") from None
    window = Window(0, 0, width, height)
    channels = {name: np.ascontiguousarray(pixels[..., index]) for index, name in enumerate(INKS)}
    parts = [DecodedPart("", window, window, channels)]
    return Decoded("jpeg", parts, "none", "srgb", ink_profile=profile, ink_name=name)


def _read_all(opened: Any, path: Path, limits: Limits) -> Decoded:
    kind = opened.format_name()
    parts: list[DecodedPart] = []
    warnings: list[str] = []
    index = 0
    spec = opened.spec()
    while True:
        try:
            parts.append(_read_part(opened, index, path, limits))
        except FormatError as error:
            if not parts:
                raise
            warnings.append(f"picture {index + 1} left out: {error.message}")
        index += 1
        if index >= 64 or not opened.seek_subimage(index, 0):
            break
    names = {name for part in parts for name in part.channels}
    profile, profile_name = carried(_own_profile(spec)) if {*INKS} <= names else (None, None)
    sample = next(iter(parts[0].channels.values()))
    return Decoded(
        _FORMAT_NAMES.get(kind, kind),
        parts,
        _alpha_state(kind, spec) if "A" in names else "none",
        "data" if _note(spec, DATA_NOTE) is True else "srgb" if sample.dtype in (np.uint8, np.uint16) else "linear",
        {item.name: plain(item.value) for item in spec.extra_attribs if item.name not in ("Orientation", "ICCProfile")},
        warnings,
        attributes={
            item.name: value
            for item in spec.extra_attribs
            if isinstance(item.value, (str, float)) and (value := tagged(item.value)) is not None
        },
        ink_profile=profile,
        ink_name=profile_name,
    )


def _own_profile(spec: Any) -> bytes | None:
    found = spec.getattribute("ICCProfile")
    return None if found is None else np.asarray(found, np.uint8).tobytes()


def _alpha_state(kind: str, spec: Any) -> str:
    if kind in _STRAIGHT_BY_STANDARD or spec.get_int_attribute("oiio:UnassociatedAlpha", 0):
        return "straight"
    return "premultiplied"


def _read_part(opened: Any, index: int, path: Path, limits: Limits) -> DecodedPart:
    spec = opened.spec()
    read_as = _READ_AS.get(str(spec.format))
    if read_as is None or spec.depth > 1:
        raise FormatError(
            f"holds samples of type {spec.format}, which are not read", remedy="save it as 16 bit or float"
        )
    limits.check(spec.width, spec.height, spec.nchannels, spec.format.size(), path.stat().st_size)
    pixels = opened.read_image(index, 0, 0, spec.nchannels, read_as)
    if pixels is None or opened.has_error:
        reason = opened.geterror().strip().splitlines()
        raise FormatError(
            f"is damaged ({reason[0] if reason else 'its pixels cannot be read'})", remedy="save or copy the file again"
        )
    pixels = np.asarray(pixels).reshape(spec.height, spec.width, spec.nchannels)
    orientation = spec.get_int_attribute("Orientation", 1)
    pixels = _TURNS[orientation](pixels) if orientation in _TURNS else pixels
    height, width = pixels.shape[:2]
    turned = (height, width) != (spec.height, spec.width)
    full = Window(spec.full_x, spec.full_y, spec.full_width or width, spec.full_height or height)
    data = Window(spec.x, spec.y, width, height)
    if turned or orientation != 1 or full.empty:
        full, data = Window(0, 0, width, height), Window(0, 0, width, height)
    names = _channel_names(_noted_names(spec) or [str(name) for name in spec.channelnames])
    return DecodedPart(
        f"page{index + 1}" if index else "",
        full,
        data,
        {name: np.ascontiguousarray(pixels[..., number]) for number, name in enumerate(names)},
        spec.get_string_attribute("compression", ""),
    )


CHANNELS_NOTE = "nexal.channels"
"""Where a file's description names the samples that its format has no names for."""
DATA_NOTE = "nexal.data"
"""Where a file's description says that nothing in it is colour."""


def _note(spec: Any, name: str) -> Any:
    """What one of our own files notes under a name; None where there is nothing."""
    try:
        return json.loads(spec.get_string_attribute("ImageDescription", ""))[name]
    except (ValueError, KeyError, TypeError):
        return None


def _noted_names(spec: Any) -> list[str] | None:
    """The channels' names as our own files note them, where they fit."""
    names = _note(spec, CHANNELS_NOTE)
    fits = isinstance(names, list) and len(names) == spec.nchannels and len({*map(str, names)}) == len(names)
    return [str(name)[:200] for name in names] if fits else None


def _channel_names(names: list[str]) -> list[str]:
    """Names without blanks and, where a file repeats one, with a number behind."""
    result: list[str] = []
    for number, name in enumerate(names):
        plain_name = name.strip().replace(" ", "_") or f"channel{number + 1}"
        if plain_name in ("I", "gray", "grey", "luminance") and len(names) <= 2:
            plain_name = "Y"
        while plain_name in result:
            plain_name = f"{plain_name}_{number + 1}"
        result.append(plain_name)
    return result


def read_picture(path: Path, limits: Limits) -> Decoded:
    """A picture file of any format that is read. Raises FormatError, without a place."""
    from nexal.formats.exr import MAGIC, read_exr

    size = path.stat().st_size
    if size == 0:
        raise FormatError("is empty", remedy="save or copy the file again")
    with path.open("rb") as file:
        start = file.read(64)
    if start.startswith(MAGIC):
        return read_exr(path, limits)
    if path.suffix.lower() == ".exr":
        raise FormatError("is not an EXR file, whatever its name says", remedy="give the file that was rendered")
    if is_profile(start):
        return read_profile(path, limits)
    if path.suffix.lower() in (".icc", ".icm"):
        raise FormatError("is not an ICC profile, whatever its name says", remedy="copy the profile again")
    return read_raster(path, limits)
