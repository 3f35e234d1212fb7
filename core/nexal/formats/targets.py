"""What an output is written as: format, depth, alpha, colour, every default decided."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from nexal.colour import check_space
from nexal.errors import FormatError, nearest
from nexal.picture import (
    Alpha,
    Window,
)
from nexal.recipe import Output

EXR_COMPRESSIONS = ("zip", "zips", "piz", "rle", "none", "pxr24", "b44", "b44a", "dwaa", "dwab")


@dataclass(frozen=True)
class Format:
    """What a file format can hold."""

    suffixes: tuple[str, ...]
    depths: tuple[str, ...]
    alpha: Alpha
    """The state its standard wants; none where it has no alpha."""
    compressions: tuple[str, ...] = ()


FORMATS: dict[str, Format] = {
    "exr": Format((".exr",), ("half", "float"), Alpha.PREMULTIPLIED, EXR_COMPRESSIONS),
    "png": Format((".png",), ("8", "16"), Alpha.STRAIGHT),
    "tiff": Format((".tif", ".tiff"), ("16", "8", "float"), Alpha.PREMULTIPLIED, ("lzw", "zip", "none")),
    "tga": Format((".tga",), ("8",), Alpha.STRAIGHT),
    "dpx": Format((".dpx",), ("10", "8", "16"), Alpha.NONE),
    "jpeg": Format((".jpg", ".jpeg"), ("8",), Alpha.NONE),
    "hdr": Format((".hdr",), ("float",), Alpha.NONE),
}
"""Formats that are written; the first depth is the default."""


@dataclass(frozen=True)
class Target:
    """A checked output: every default decided."""

    format: str
    depth: str
    alpha: Alpha
    colour: str
    compression: str
    dither: str = "none"

    @property
    def integer(self) -> bool:
        return self.depth.isdigit()

    @property
    def most(self) -> int:
        """The largest code of an integer depth; 10 bit are written from 16."""
        return 255 if self.depth == "8" else 65535


def target_of(output: Output) -> Target:
    """Format, depth, alpha and colour of an output. Raises FormatError for what the format cannot hold."""
    suffix = Path(output.file).suffix.lower()
    by_suffix = next((name for name, known in FORMATS.items() if suffix in known.suffixes), None)
    name = output.format or by_suffix
    if name is None:
        raise FormatError(
            f"'{output.file}' does not say which format is meant",
            where="'file'",
            remedy="give a format or a file name that ends in " + ", ".join(f.suffixes[0] for f in FORMATS.values()),
        )
    if by_suffix not in (None, name):
        raise FormatError(
            f"'{output.file}' ends like a file of {by_suffix}, and {name} would be written into it",
            where="'file'",
            remedy=f"let the name end in {FORMATS[name].suffixes[0]}, or choose {by_suffix} for the format",
        )
    known = FORMATS[name]
    depth = str(output.depth or known.depths[0])
    if depth not in known.depths:
        raise FormatError(f"{name} has no depth '{depth}'", where="'depth'", remedy="use " + " or ".join(known.depths))
    alpha = Alpha(output.alpha) if output.alpha else known.alpha
    if known.alpha is Alpha.NONE and alpha is not Alpha.NONE:
        raise FormatError(f"{name} has no alpha", where="'alpha'", remedy="use none, or another format")
    compression = (output.compression or "").lower()
    if compression and compression not in known.compressions:
        remedy = nearest(compression, known.compressions) if known.compressions else "leave it out"
        raise FormatError(f"{name} has no compression '{compression}'", where="'compression'", remedy=remedy)
    if output.dither != "none" and depth != "8":
        raise FormatError("dither is for 8 bit", where="'dither'", remedy="leave it out, or write 8 bit")
    check_space(output.colour)
    return Target(name, depth, alpha, output.colour, compression, output.dither)


def written_window(picture_window: Window, display: Window, target: Target) -> Window:
    """The full-resolution region that goes into a file: EXR keeps the data window, others hold the display window."""
    return picture_window if target.format == "exr" and not picture_window.empty else display
