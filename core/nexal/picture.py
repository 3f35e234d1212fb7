"""Windows, and what a picture is made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import SourceError

Plane = NDArray[np.float32]


@dataclass(frozen=True, slots=True)
class Window:
    """A rectangle of whole pixels: `x`, `y` of its first pixel, row 0 at the top."""

    x: int
    y: int
    width: int
    height: int

    @property
    def right(self) -> int:
        """One past the last column."""
        return self.x + self.width

    @property
    def bottom(self) -> int:
        """One past the last row."""
        return self.y + self.height

    @property
    def empty(self) -> bool:
        return self.width <= 0 or self.height <= 0

    @property
    def area(self) -> int:
        return 0 if self.empty else self.width * self.height

    def intersect(self, other: Window) -> Window:
        x, y = max(self.x, other.x), max(self.y, other.y)
        right, bottom = min(self.right, other.right), min(self.bottom, other.bottom)
        return Window(x, y, max(0, right - x), max(0, bottom - y))

    def union(self, other: Window) -> Window:
        if self.empty:
            return other
        if other.empty:
            return self
        x, y = min(self.x, other.x), min(self.y, other.y)
        return Window(x, y, max(self.right, other.right) - x, max(self.bottom, other.bottom) - y)

    def grow(self, pixels: int) -> Window:
        return Window(self.x - pixels, self.y - pixels, self.width + 2 * pixels, self.height + 2 * pixels)

    def shift(self, x: int, y: int) -> Window:
        return Window(self.x + x, self.y + y, self.width, self.height)

    def contains(self, other: Window) -> bool:
        return other.empty or self.intersect(other) == other

    def scaled(self, scale: Fraction) -> Window:
        """The window at a proxy scale 1/n: every block of n x n pixels that it touches, blocks anchored at 0, 0."""
        if scale == 1:
            return self
        divisor = scale.denominator
        x, y = self.x // divisor, self.y // divisor
        return Window(x, y, -(-self.right // divisor) - x, -(-self.bottom // divisor) - y)

    def within(self, outer: Window) -> tuple[slice, slice]:
        """Rows and columns of this window in an array that covers `outer`."""
        return (
            slice(self.y - outer.y, self.bottom - outer.y),
            slice(self.x - outer.x, self.right - outer.x),
        )

    def as_list(self) -> list[int]:
        return [self.x, self.y, self.width, self.height]


class Alpha(StrEnum):
    """How the colour of a picture relates to its alpha."""

    NONE = "none"
    STRAIGHT = "straight"
    PREMULTIPLIED = "premultiplied"


ALPHA_NAME = "A"
PLANE_NAME = "Y"
INKS = ("C", "M", "Y", "K")
"""Channels of a picture in ink; 1 is full ink."""
_COLOUR_NAMES = frozenset({"r", "g", "b", "y", "red", "green", "blue"})


def split_channel(name: str) -> tuple[str, str]:
    """Layer and last segment of a channel name: `diffuse.key.R` is (`diffuse.key`, `R`)."""
    layer, _, last = name.rpartition(".")
    return layer, last


def is_alpha(name: str) -> bool:
    return split_channel(name)[1] in ("A", "a", "alpha", "Alpha")


@dataclass(frozen=True)
class InkProfile:
    """An ICC profile of inks, by the name that it gives itself; read when it is needed."""

    name: str
    path: Path

    def read(self) -> bytes:
        """Raises SourceError where it is not there."""
        try:
            return self.path.read_bytes()
        except FileNotFoundError:
            raise SourceError(
                f"the profile {self.name} is not unpacked yet", where="source", remedy="wait until the import is done"
            ) from None


@dataclass(frozen=True)
class Description:
    """What is known of a picture before any pixel is computed.

    Windows are relative to the origin of the display window (so pictures of different origin line up);
    `origin` is that display window's own corner, kept for files that store it. `data` names the channels
    that are not colour: they are never encoded. Alpha channels always belong to them. `labels` are those of them that
    hold ids, of which there is no mean. `inks` is the profile that the picture's C, M, Y and K are meant for.
    """

    channels: tuple[str, ...]
    display: Window
    window: Window
    alpha: Alpha = Alpha.NONE
    data: frozenset[str] = frozenset()
    labels: frozenset[str] = frozenset()
    is_plane: bool = False
    origin: tuple[int, int] = (0, 0)
    metadata: Mapping[str, Any] = field(default_factory=dict)
    inks: InkProfile | None = None

    @property
    def colour(self) -> tuple[str, ...]:
        """Names of the channels that hold colour."""
        return tuple(name for name in self.channels if name not in self.data)

    @property
    def all_data(self) -> bool:
        return not self.colour

    def alpha_of(self, channel: str) -> str | None:
        """The alpha that belongs to a channel: of its own layer, else of the picture."""
        if self.is_plane:
            return None
        layer, _ = split_channel(channel)
        for name in (f"{layer}.{ALPHA_NAME}" if layer else ALPHA_NAME, ALPHA_NAME):
            if name in self.channels and name != channel:
                return name
        return None

    @property
    def has_alpha(self) -> bool:
        return ALPHA_NAME in self.channels and not self.is_plane

    def changed(self, **values: Any) -> Description:
        return replace(self, **values)

    def as_plane(self, *, data: bool) -> Description:
        """The description of a one-channel result over the same windows."""
        return replace(
            self,
            channels=(PLANE_NAME,),
            data=frozenset({PLANE_NAME}) if data else frozenset(),
            labels=frozenset(),
            alpha=Alpha.NONE,
            is_plane=True,
        )


def named_as_colour(channel: str) -> bool:
    """Whether the last segment of a channel's name is that of a colour."""
    return split_channel(channel)[1].lower() in _COLOUR_NAMES


@dataclass(frozen=True)
class Picture:
    """Evaluated planes over `region` (relative to the display origin, at `scale`)."""

    description: Description
    region: Window
    scale: Fraction
    planes: Mapping[str, Plane]
