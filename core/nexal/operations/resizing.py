"""A picture in another size."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Literal

from nexal.operations.base import Port, Scene, Settings, register, setting
from nexal.operations.mixing import MixingOperation
from nexal.picture import Description, Plane, Window

if TYPE_CHECKING:
    from nexal.kernels.resizing import Taps

ResizeFilter = Literal["auto", "area", "lanczos", "nearest"]
OVERSHOOT = "Lanczos may go beyond the pixels that it is made of: crisper, with dark or bright seams"
LARGEST = 8192
"""The longest side of a texture."""


class ResizeSettings(Settings):
    width: int = setting(1024, "New width", ge=1, le=32768, unit="px")
    height: int = setting(1024, "New height", ge=1, le=32768, unit="px")
    filter: ResizeFilter = setting(
        "auto", "auto: areas where it shrinks, Lanczos where it grows; ids keep single samples in any case"
    )
    overshoot: bool = setting(False, OVERSHOOT)


class Resampled(MixingOperation):
    """An operation that resamples one input so that its display window becomes a rectangle that it gives (`target`)."""

    def target(self, inputs: Mapping[str, Description], settings: Any) -> Window:
        """Where the display window of the input comes to lie, in full-resolution pixels of the result."""
        raise NotImplementedError

    def describe(self, inputs: Mapping[str, Description], settings: Any) -> Description:
        given, target = inputs[self.mixes], self.target(inputs, settings)
        across, down = target.width / given.display.width, target.height / given.display.height
        window = given.window
        x, y = math.floor(target.x + window.x * across), math.floor(target.y + window.y * down)
        right, bottom = math.ceil(target.x + window.right * across), math.ceil(target.y + window.bottom * down)
        return given.changed(
            display=Window(0, 0, target.width, target.height), window=Window(x, y, right - x, bottom - y)
        )

    def effort(self, settings: Any, scene: Scene) -> float:
        given, target = scene.descriptions[self.mixes].display, self.target(scene.descriptions, settings)
        down, across = max(1.0, given.height / target.height), max(1.0, given.width / target.width)
        return 6 + (1 if settings.filter in ("area", "nearest") else 6) * down * across

    def _taps(self, region: Window, scene: Scene, settings: Any, *, single: bool) -> tuple[Taps, Taps]:
        """Rows and columns that a region is made of. The display window of the input begins at 0, 0."""
        from nexal.kernels.resizing import taps

        given, target = scene.descriptions[self.mixes], self.target(scene.descriptions, settings)
        # An opaque picture ends where its data does; what has an alpha, or is coverage, is 0 outside of it.
        opaque = bool(given.colour) and not given.has_alpha
        held = given.window if opaque and not given.window.empty else given.display.union(given.window)
        old = held.scaled(scene.scale)
        kind = "nearest" if single else settings.filter
        down, across = given.display.height / target.height, given.display.width / target.width
        return (
            taps(region.y - scene.pixels(target.y), region.height, down, (old.y, old.bottom), kind),
            taps(region.x - scene.pixels(target.x), region.width, across, (old.x, old.right), kind),
        )

    def input_region(self, port: str, region: Window, scene: Scene, settings: Any) -> Window:
        rows, columns = self._taps(region, scene, settings, single=False)
        return Window(columns.first, rows.first, columns.last - columns.first + 1, rows.last - rows.first + 1)

    def _filtered(self, plane: Plane, settings: Any, scene: Scene, *, single: bool) -> Plane:
        from nexal.kernels.resizing import resized

        reach = self.input_region(self.mixes, scene.region, scene, settings)
        rows, columns = self._taps(scene.region, scene, settings, single=single)
        return resized(plane, reach.y, reach.x, rows, columns, settings.overshoot)

    def affects(self, channel: str, description: Description, settings: Any, scene: Scene) -> bool:
        return bool(settings.filter != "nearest")

    def average(self, plane: Plane, settings: Any, scene: Scene, prepared: None) -> Plane:
        return self._filtered(plane, settings, scene, single=False)

    def single(self, plane: Plane, settings: Any, scene: Scene) -> Plane:
        return self._filtered(plane, settings, scene, single=True)


@register
class Resize(Resampled):
    """A picture in another size: its display window becomes `width` x `height`, nothing is cropped.

    plane or picture -> the same. Along each axis by itself: the mean of the exact area of a new pixel (`area`, where
    it shrinks), or Lanczos with three lobes (`lanczos`, where it grows; widened where it shrinks), which is held by the
    least and the largest of the pixels that weigh unless it may `overshoot`; beyond its edge the picture goes on as its
    last pixel. Colour is averaged as premultiplied light, so that no colour comes in from where nothing covers; depth
    and positions over what holds something. Channels of ids are never mixed: each new pixel is the nearest old one
    (`nearest`).
    References: C. E. Duchon, *Lanczos Filtering in One and Two Dimensions*, J. Appl. Meteorology 1979.
    """

    name = "resize"
    family = "packing"
    makes = "same"
    needs = "scale, another size, resample, texture size, power of two"
    ports = (Port("from", "any", "What is resized"),)
    mixes = "from"
    Settings = ResizeSettings

    def target(self, inputs: Mapping[str, Description], settings: ResizeSettings) -> Window:
        return Window(0, 0, settings.width, settings.height)
