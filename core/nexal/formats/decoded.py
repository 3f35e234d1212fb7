"""What every reader returns, and the limits it keeps."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import FormatError
from nexal.formats.timecodes import Timecode
from nexal.picture import Window

SAMPLE_TYPES = {"float16": "half", "float32": "float", "uint32": "uint", "uint8": "uint8", "uint16": "uint16"}


MEMORY = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
"""Bytes of this machine's memory. Unpacking takes up to three times what a file holds."""


@dataclass(frozen=True)
class Limits:
    """Bounds on what a file may make us do."""

    pixels: int = 1 << 28
    side: int = 65_536
    channels: int = 4_096
    decoded_bytes: int = min(12 << 30, MEMORY // 4)
    ratio: int = 128
    small_bytes: int = 512 << 20
    admit: Callable[[int, int], None] | None = None
    """Told how many bytes and channels a sound header will unpack to, before they are read."""

    def check(self, width: int, height: int, channels: int, sample_bytes: int, file_bytes: int) -> int:
        """Bytes it will unpack to. Raises FormatError where a header asks for more than is sound."""
        if width <= 0 or height <= 0 or width > self.side or height > self.side or width * height > self.pixels:
            raise FormatError(
                f"its header claims {width} x {height} pixels, beyond what can be opened",
                remedy=f"check the file; the limit is {self.side} a side and {self.pixels // 1_000_000} million pixels",
            )
        if channels > self.channels:
            raise FormatError(
                f"its header claims {channels} channels", remedy=f"check the file; the limit is {self.channels}"
            )
        decoded = width * height * channels * sample_bytes
        if decoded > self.decoded_bytes or (decoded > self.small_bytes and decoded > self.ratio * file_bytes):
            raise FormatError(
                f"it would unpack from {file_bytes / 1e6:.1f} MB to {decoded / 1e9:.1f} GB",
                remedy="if the picture is really this large, save it uncompressed or in smaller parts",
            )
        if self.admit:
            self.admit(decoded, channels)
        return decoded


@dataclass(frozen=True)
class DecodedPart:
    """One part of a file. Windows are the file's own (absolute); channels are named as in the file."""

    name: str
    display: Window
    data: Window
    channels: dict[str, NDArray[Any]]
    compression: str = ""


@dataclass
class Decoded:
    """A file's contents as stored: samples of the file's own type, nothing encoded or premultiplied."""

    format: str
    parts: list[DecodedPart]
    alpha: str
    encoding: str
    metadata: dict[str, Any] = field(default_factory=dict)
    warnings: list[str] = field(default_factory=list)
    chromaticities: list[float] | None = None
    attributes: dict[str, dict[str, Any]] = field(default_factory=dict)
    """What is carried into delivered EXRs: header values, `tagged` with their types."""
    ink_profile: bytes | None = None
    """The ICC profile of its inks, called `ink_name`."""
    ink_name: str | None = None


Tagged = dict[str, Any]
RATE, TIMECODE = "framesPerSecond", "timeCode"
"""The header values of OpenEXR's standard that say when a picture is seen."""


def storable(text: str) -> str:
    """A text of a file's header as any store can hold it.

    Readers hand on bytes that are not UTF-8 as lone surrogates. They are Latin-1 then: PNG's own rule for its texts,
    and what TIFFs and JPEGs of older programs hold.
    """
    try:
        raw = text.encode("utf-8", "surrogateescape")
    except UnicodeEncodeError:
        # Halves of letters that no bytes stand for.
        raw = text.encode("utf-8", "replace")
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("latin-1")


def rate_tag(rate: Fraction) -> Tagged:
    """A ratio as a header value."""
    return {"fraction": [rate.numerator, rate.denominator]}


def timecode_tag(code: Timecode) -> Tagged | None:
    """A timecode as a header value; None for what no header can hold, as of more than 60 frames a second."""
    if code.hours >= 24 or max(code.minutes, code.seconds, code.frames) >= 60:
        return None
    return {"timecode": [code.hours, code.minutes, code.seconds, code.frames, int(code.drops)]}


def timing_notes(attributes: Mapping[str, Tagged]) -> dict[str, str]:
    """The rate and the timecode that a picture's header values hold, as texts."""
    notes = {}
    if rate := attributes.get(RATE, {}).get("fraction"):
        notes[RATE] = f"{rate[0]}/{rate[1]}"
    if code := attributes.get(TIMECODE, {}).get("timecode"):
        hours, minutes, seconds, frames, drops = code
        notes[TIMECODE] = str(Timecode(hours, minutes, seconds, frames, bool(drops)))
    return notes


def tagged(value: Any) -> Tagged | None:
    """A header value with its type, as JSON can hold it; None for types that have no such form."""
    if isinstance(value, bool):
        return None
    if isinstance(value, Fraction):
        return rate_tag(value)
    if type(value).__name__ == "TimeCode":
        # OpenEXR's own; what a person may have put into its spare bits stays behind.
        return timecode_tag(Timecode(value.hours, value.minutes, value.seconds, value.frame, bool(value.dropFrame)))
    if isinstance(value, np.ndarray):
        return {"array": value.tolist(), "type": str(value.dtype)} if np.isfinite(value).all() else None
    if isinstance(value, np.generic):
        return tagged(value.item())
    if isinstance(value, list) and value and all(isinstance(item, str) for item in value):
        return {"texts": [storable(item) for item in value]}
    if isinstance(value, str):
        return {"text": storable(value)}
    for name, kind in (("int", int), ("float", float)):
        if isinstance(value, kind):
            return {name: value} if kind is not float or np.isfinite(value) else None
    return None


def untagged(value: Tagged) -> Any:
    """The value of `tagged`."""
    if "array" in value:
        return np.array(value["array"], dtype=value["type"])
    if "fraction" in value:
        return Fraction(*value["fraction"])
    if "timecode" in value:
        import OpenEXR

        return OpenEXR.TimeCode(*value["timecode"], *[0] * 13)
    return next(iter(value.values()))


def plain(value: Any) -> Any:
    """A header value as JSON can hold it; what has no such form becomes its text."""
    if isinstance(value, str):
        return storable(value)
    if isinstance(value, (bool, int, float)) or value is None:
        return value if not isinstance(value, float) or np.isfinite(value) else str(value)
    if isinstance(value, np.generic):
        return plain(value.item())
    if isinstance(value, np.ndarray):
        return [plain(item) for item in value.ravel().tolist()]
    if isinstance(value, bytes):
        return storable(value.decode("utf-8", "surrogateescape"))
    if isinstance(value, (list, tuple)):
        return [plain(item) for item in value]
    return storable(str(value))
