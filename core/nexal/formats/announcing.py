"""What a file will hold, in one line: told before it is written, and kept beside it afterwards."""

from __future__ import annotations

from dataclasses import dataclass

from nexal.formats.targets import Target, target_of, written_window
from nexal.formats.writing import written_channels
from nexal.picture import ALPHA_NAME, Alpha, Description, split_channel
from nexal.recipe import Output

_NAMES = {
    "exr": "OpenEXR",
    "png": "PNG",
    "tiff": "TIFF",
    "tga": "TGA",
    "dpx": "DPX",
    "jpeg": "JPEG",
    "hdr": "Radiance HDR",
}
_FLOATS = {"half": "half floats", "float": "32-bit floats"}
MOST_CHANNELS = 12
"""Names that are told; of more, how many there are."""


@dataclass(frozen=True)
class Announcement:
    """What one file of an output will hold."""

    format: str
    depth: str
    encoding: str
    alpha: str
    channels: tuple[str, ...]
    width: int
    height: int

    def line(self) -> str:
        """All of it in words, separated by semicolons."""
        names = ", ".join(self.channels[:MOST_CHANNELS])
        if len(self.channels) > MOST_CHANNELS:
            names += f" and {len(self.channels) - MOST_CHANNELS} more channels"
        parts = [f"{self.format}, {self.depth}", self.encoding, self.alpha, names, f"{self.width} x {self.height}"]
        return "; ".join(part for part in parts if part)


def announced(output: Output, description: Description) -> Announcement:
    """What a file of an output holds that is made of a picture of this description.

    Raises FormatError where the format cannot hold it.
    """
    target = target_of(output)
    window = written_window(description.window, description.display, target)
    names = written_channels(description, target)
    return Announcement(
        _NAMES[target.format],
        _depth(output, target),
        _encoding(target, description, names),
        _alpha(target, description, names),
        tuple(_name_in_file(name, target) for name in names),
        window.width,
        window.height,
    )


def _depth(output: Output, target: Target) -> str:
    if output.depth is None and output.split:
        return "each channel in the type that it came in, or the deepest of the format"
    if output.depth is None and target.format == "exr":
        return "half floats; channels that nothing changed as their source has them"
    return f"{target.depth} bit" if target.integer else _FLOATS[target.depth]


def _encoding(target: Target, description: Description, names: list[str]) -> str:
    if not any(name in description.colour for name in names):
        return "values as they are"
    space = target.colour
    if space == "auto":
        space = "srgb" if target.integer else "linear"
    clipped = ", clipped to 0 to 1" if target.integer else ""
    words = {"srgb": "sRGB-encoded", "linear": "linear light", "data": "values as they are"}
    return words.get(space, f"in {space}") + clipped


def _alpha(target: Target, description: Description, names: list[str]) -> str:
    if description.has_alpha and ALPHA_NAME not in names:
        return "without its alpha"
    if not any(name in description.colour and description.alpha_of(name) in names for name in names):
        return ""
    return "straight alpha" if target.alpha is Alpha.STRAIGHT else "premultiplied alpha"


def _name_in_file(name: str, target: Target) -> str:
    return name if target.format == "exr" else split_channel(name)[1]
