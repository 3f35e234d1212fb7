"""Windows, and what a picture is made of."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from fractions import Fraction
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import SourceError

Plane = NDArray[np.float32]
Span = tuple[float, float]
LABEL_TYPE = np.float64
"""What ids are computed in: every whole number up to 2**53 and every float32 keeps its value in it."""
NOTHING_FROM = 1e7
"""From here on a depth or position stands for nothing: renderers write such numbers where no surface is."""


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


def inside(window: Window, region: Window) -> Plane:
    """1 where a region lies in a window, 0 elsewhere: H x W of the region."""
    inner = region.intersect(window)
    mask = np.zeros((region.height, region.width), np.float32)
    if not inner.empty:
        mask[inner.within(region)] = 1
    return mask


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


def _no_span() -> Span | None:
    return None


@dataclass(frozen=True, slots=True)
class Trait:
    """What one channel holds.

    `role` is colour, light, alpha, coverage, mask, ink, depth, position, normal, uv, motion, id or unknown; `unit` what
    its numbers count in, where that is known; `samples` the type that it was stored in (half, float, uint, uint8,
    uint16), empty for what was computed. `span` gives the values to be shown as black and white, None for 0 to 1; it
    is asked only when somebody looks, since it may stand in a file.
    """

    role: str = "unknown"
    unit: str = ""
    samples: str = ""
    span: Callable[[], Span | None] = _no_span

    @property
    def is_label(self) -> bool:
        """Whether its numbers are names: they are never mixed, and keep every digit."""
        return self.role == "id"

    @property
    def may_be_empty(self) -> bool:
        """Whether some of its samples may stand for nothing, and are left out when neighbours are averaged."""
        return self.role in ("depth", "position", "normal", "uv", "motion")


ROLE_COLOUR, ROLE_ALPHA, ROLE_MASK = Trait("colour"), Trait("alpha"), Trait("mask")


@dataclass(frozen=True)
class Description:
    """What is known of a picture before any pixel is computed.

    Windows are relative to the origin of the display window (so pictures of different origin line up);
    `origin` is that display window's own corner, kept for files that store it. `data` names the channels
    that are not colour: they are never encoded. Alpha channels always belong to them. `traits` tell of each channel
    what it holds. `inks` is the profile that the picture's C, M, Y and K are meant for.
    """

    channels: tuple[str, ...]
    display: Window
    window: Window
    alpha: Alpha = Alpha.NONE
    data: frozenset[str] = frozenset()
    traits: Mapping[str, Trait] = field(default_factory=dict)
    is_plane: bool = False
    origin: tuple[int, int] = (0, 0)
    metadata: Mapping[str, Any] = field(default_factory=dict)
    inks: InkProfile | None = None

    @property
    def colour(self) -> tuple[str, ...]:
        """Names of the channels that hold colour."""
        return tuple(name for name in self.channels if name not in self.data)

    @property
    def labels(self) -> frozenset[str]:
        """Names of the channels that hold ids, of which there is no mean."""
        return frozenset(name for name in self.channels if name in self.traits and self.traits[name].is_label)

    def trait(self, channel: str) -> Trait:
        """What a channel holds; where nobody said, what its name and place tell."""
        known = self.traits.get(channel)
        if known is not None:
            return known
        if is_alpha(channel):
            return ROLE_ALPHA
        return ROLE_MASK if channel in self.data else ROLE_COLOUR

    def sample_type(self, channel: str) -> type[np.floating[Any]]:
        """What planes of a channel are computed in: float32, or for ids what keeps all their digits."""
        known = self.traits.get(channel)
        return LABEL_TYPE if known is not None and known.is_label else np.float32

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
        """The same but for some fields. Raises TypeError for what is none."""
        if not values.keys() <= self.__dict__.keys():
            raise TypeError(f"a description has no {', '.join(sorted(values.keys() - self.__dict__.keys()))}")
        # What `dataclasses.replace` does, in a fraction of its time: a plan makes three of them for each step.
        made = object.__new__(Description)
        made.__dict__.update(self.__dict__)
        made.__dict__.update(values)
        return made

    def as_plane(self, *, data: bool, trait: Trait | None = None) -> Description:
        """The description of a one-channel result over the same windows."""
        return self.changed(
            channels=(PLANE_NAME,),
            data=frozenset({PLANE_NAME}) if data else frozenset(),
            traits={PLANE_NAME: trait} if trait else {},
            alpha=Alpha.NONE,
            is_plane=True,
        )


def named_as_colour(channel: str) -> bool:
    """Whether the last segment of a channel's name is that of a colour."""
    return split_channel(channel)[1].lower() in _COLOUR_NAMES


def main_channels(description: Description) -> list[str]:
    """The channels of the picture itself: those without a layer, else those of the first layer."""
    return [*main_channels_of(description.channels)]


@lru_cache(256)
def main_channels_of(channels: tuple[str, ...]) -> tuple[str, ...]:
    """`main_channels` of names; what a plan asks for each channel of each step, mostly of the same names."""
    top = tuple(name for name in channels if "." not in name)
    if top:
        return top
    layer = channels[0].rpartition(".")[0]
    return tuple(name for name in channels if name.rpartition(".")[0] == layer)


@dataclass(frozen=True)
class Picture:
    """Evaluated planes over `region` (relative to the display origin, at `scale`)."""

    description: Description
    region: Window
    scale: Fraction
    planes: Mapping[str, Plane]
