"""A picture in another size."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Literal

from nexal.kernels.pointmath import unpremultiplied
from nexal.kernels.resizing import Taps, resized, taps
from nexal.operations.base import Operation, Port, Scene, Settings, register, setting
from nexal.picture import Alpha, Description, Plane, Window

ResizeFilter = Literal["auto", "area", "lanczos", "nearest"]
LARGEST = 8192
"""The longest side of a texture."""


class ResizeSettings(Settings):
    width: int = setting(1024, "New width", ge=1, le=32768, unit="px")
    height: int = setting(1024, "New height", ge=1, le=32768, unit="px")
    filter: ResizeFilter = setting(
        "auto", "auto: areas where it shrinks, Lanczos where it grows; ids keep single samples in any case"
    )


@register
class Resize(Operation):
    """A picture in another size: its display window becomes `width` x `height`, nothing is cropped.

    plane or picture -> the same. Along each axis by itself: the mean of the exact area of a new pixel (`area`, where
    it shrinks), or Lanczos with three lobes (`lanczos`, where it grows; widened where it shrinks); beyond its edge the
    picture goes on as its last pixel. Straight colour counts by its alpha, so that no colour comes in from where
    nothing covers. Channels of ids are never mixed: each new pixel is the nearest old one (`nearest`).
    References: C. E. Duchon, *Lanczos Filtering in One and Two Dimensions*, J. Appl. Meteorology 1979.
    """

    name = "resize"
    family = "packing"
    needs = "scale, another size, resample, texture size, power of two"
    ports = (Port("from", "any", "What is resized"),)
    Settings = ResizeSettings

    def describe(self, inputs: Mapping[str, Description], settings: ResizeSettings) -> Description:
        given = inputs["from"]
        across, down = settings.width / given.display.width, settings.height / given.display.height
        window = given.window
        x, y = math.floor(window.x * across), math.floor(window.y * down)
        right, bottom = math.ceil(window.right * across), math.ceil(window.bottom * down)
        return given.changed(
            display=Window(0, 0, settings.width, settings.height), window=Window(x, y, right - x, bottom - y)
        )

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: ResizeSettings
    ) -> dict[str, tuple[str, ...]]:
        given = inputs["from"]
        alphas = {given.alpha_of(name) for name in channels if self._counts_by_alpha(name, given)}
        return {"from": tuple(name for name in given.channels if name in channels or name in alphas)}

    @staticmethod
    def _counts_by_alpha(name: str, given: Description) -> bool:
        return given.alpha is Alpha.STRAIGHT and name in given.colour and given.alpha_of(name) is not None

    def _taps(self, region: Window, scene: Scene, settings: ResizeSettings, *, single: bool) -> tuple[Taps, Taps]:
        """Rows and columns that a region is made of. The display window begins at 0, 0 before and after."""
        given = scene.descriptions["from"]
        old = given.display.scaled(scene.scale)
        kind = "nearest" if single else settings.filter
        down, across = given.display.height / settings.height, given.display.width / settings.width
        return (
            taps(region.y, region.height, down, old.height, kind),
            taps(region.x, region.width, across, old.width, kind),
        )

    def input_region(self, port: str, region: Window, scene: Scene, settings: ResizeSettings) -> Window:
        rows, columns = self._taps(region, scene, settings, single=False)
        return Window(columns.first, rows.first, columns.last - columns.first + 1, rows.last - rows.first + 1)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: ResizeSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        given = scene.descriptions["from"]
        reach = self.input_region("from", scene.region, scene, settings)
        mixed = self._taps(scene.region, scene, settings, single=False)
        single = self._taps(scene.region, scene, settings, single=True)
        planes = inputs["from"]

        def made(plane: Plane, rows_and_columns: tuple[Taps, Taps] = mixed) -> Plane:
            return resized(plane, reach.y, reach.x, *rows_and_columns)

        result = {}
        for name in channels:
            alpha = given.alpha_of(name)
            if name in given.labels:
                result[name] = made(planes[name], single)
            elif self._counts_by_alpha(name, given) and alpha is not None:
                result[name] = unpremultiplied(made(planes[name] * planes[alpha]), made(planes[alpha]))
            else:
                result[name] = made(planes[name])
        return result
