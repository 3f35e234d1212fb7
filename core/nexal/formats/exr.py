"""OpenEXR files, read whole with the format's own library.

Data and display windows are kept as they are; samples stay half, float or uint bit for bit. A picture's alpha is
premultiplied by the standard. The library drops damaged parts of a multi-part file without an error, so the parts
read are compared with those of the header.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from nexal.errors import FormatError
from nexal.formats.decoded import Decoded, DecodedPart, Limits, plain, tagged
from nexal.picture import Window, is_alpha

MAGIC = b"\x76\x2f\x31\x01"
MULTI_PART = 1 << 12
"""The bit of the version field that tells of several parts."""
OWN_ATTRIBUTES = frozenset(
    {
        "channels",
        "compression",
        "dataWindow",
        "displayWindow",
        "lineOrder",
        "type",
        "tiles",
        "chunkCount",
        "name",
        "screenWindowCenter",
        "screenWindowWidth",
        "chromaticities",
        "version",
        "preview",
    }
)
"""Header values that say how this file is stored."""
_PARTS_OWN = frozenset({"view", "multiView"})
"""What tells parts apart: a delivered file has one part, whose channels carry the parts' names."""


def _window(box: Any) -> Window:
    (x0, y0), (x1, y1) = box
    return Window(int(x0), int(y0), int(x1) - int(x0) + 1, int(y1) - int(y0) + 1)


def _check_header(headers: list[dict[str, Any]], limits: Limits, size: int) -> None:
    if not headers:
        raise FormatError("is damaged: it holds no part", remedy="save the file again")
    for header in headers:
        if "deep" in str(header.get("type", "")):
            raise FormatError(
                "holds deep samples, which are not read", remedy="render or flatten it to one sample a pixel"
            )
        box = _window(header["dataWindow"])
        limits.check(box.width, box.height, len(header["channels"]), 2, size)
        display = _window(header["displayWindow"])
        if display.empty or max(display.width, display.height) > limits.side:
            raise FormatError(
                f"its header claims a display window of {display.width} x {display.height}", remedy="check the file"
            )


def _stored_compressions(path: Path) -> list[int]:
    """The compression that each part's header names, as the number that stands there.

    The library takes a number that it does not know for ZIP, without a word. Layout by the OpenEXR file format:
    attributes are a name, a type and a size before their value; an empty name ends a header, another one all headers.
    """
    found: list[int] = []

    def text() -> bytes:
        letters = bytearray()
        while (letter := file.read(1)) not in (b"", b"\0") and len(letters) < 256:
            letters += letter
        return bytes(letters)

    with path.open("rb") as file:
        version = int.from_bytes(file.read(8)[4:], "little")
        several = bool(version & MULTI_PART)
        inside = False
        while True:
            name = text()
            if not name:
                if not several or not inside:
                    return found
                inside = False
                continue
            inside = True
            text()
            size = int.from_bytes(file.read(4), "little")
            if name == b"compression":
                found.append(int.from_bytes(file.read(size), "little"))
            else:
                file.seek(size, 1)


def _check_compressions(path: Path) -> None:
    import OpenEXR

    known = {int(value) for value in OpenEXR.Compression.__members__.values()}
    known.discard(int(OpenEXR.NUM_COMPRESSION_METHODS))
    for number in _stored_compressions(path):
        if number not in known:
            raise FormatError(
                f"its header names compression {number}, which is unknown",
                remedy="save it again with a compression of the standard, such as ZIP",
            )


def read_exr(path: Path, limits: Limits) -> Decoded:
    """Every part and channel of an OpenEXR file. Raises FormatError for what is damaged, deep or beyond limits."""
    import OpenEXR

    size = path.stat().st_size
    try:
        headers = [part.header for part in OpenEXR.File(str(path), header_only=True).parts]
    except Exception as error:
        raise FormatError(f"is damaged: {error}", remedy="save the file again") from None
    _check_header(headers, limits, size)
    _check_compressions(path)
    OpenEXR.set_global_thread_count(2)
    try:
        parts = OpenEXR.File(str(path), separate_channels=True).parts
    except Exception as error:
        raise FormatError(f"is damaged: {error}", remedy="save the file again") from None
    decoded = [_part(part) for part in parts if len(part.channels)]
    if not decoded:
        raise FormatError("is damaged: its pixels cannot be read to the end", remedy="save or copy the file again")
    warnings = []
    if len(decoded) < len(headers):
        missing = {str(header.get("name", "")) for header in headers} - {part.name for part in decoded}
        warnings.append(f"damaged part{'s' if len(missing) > 1 else ''} left out: {', '.join(sorted(missing))}")
    first = headers[0]
    chromaticities = first.get("chromaticities")
    return Decoded(
        "exr",
        decoded,
        "premultiplied" if any(is_alpha(name) for part in decoded for name in part.channels) else "none",
        "linear",
        dict(_described(name, value) for name, value in first.items() if name not in OWN_ATTRIBUTES),
        warnings,
        [float(value) for value in np.ravel(chromaticities)] if chromaticities is not None else None,
        {
            name: value
            for name, given in first.items()
            if name not in OWN_ATTRIBUTES | _PARTS_OWN and (value := tagged(given)) is not None
        },
    )


def _described(name: str, value: Any) -> tuple[str, Any]:
    """A header attribute as JSON can hold it; of types that have no such form, a text under another name."""
    known = isinstance(value, (str, int, float, list, tuple, np.ndarray, np.generic))
    return (name if known else f"{name}:text"), plain(value)


def _part(part: Any) -> DecodedPart:
    header = part.header
    data = _window(header["dataWindow"])
    channels = {}
    for name, channel in part.channels.items():
        pixels = channel.pixels
        if pixels.shape != (data.height, data.width):
            # Chroma of luminance-chroma pictures is stored at every second pixel.
            pixels = np.repeat(np.repeat(pixels, channel.ySampling, 0), channel.xSampling, 1)
            pixels = pixels[: data.height, : data.width]
        channels[name] = pixels
    compression = str(header["compression"]).split(".")[-1].removesuffix("_COMPRESSION").split(":")[0].lower()
    return DecodedPart(str(header.get("name", "")), _window(header["displayWindow"]), data, channels, compression)
