"""Operations on the frame of a picture: turned over, cut, fitted to another picture's size."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Literal

from nexal.errors import SettingError
from nexal.operations.base import Port, Settings, register, setting
from nexal.operations.movement import Matrix3
from nexal.operations.moving import Moving, affine
from nexal.operations.resizing import OVERSHOOT, Resampled, ResizeFilter
from nexal.picture import Description, Window


class MirrorSettings(Settings):
    across: bool = setting(True, "Left becomes right")
    down: bool = setting(False, "Top becomes bottom")


@register
class Mirror(Moving):
    """Turn a picture over within its display window W x H: pixel (x, y) comes from (W - 1 - x, y) with `across`, from
    (x, H - 1 - y) with `down`.

    plane or picture -> the same; the data window is turned over too, the display window stays. Samples are exact.
    Directions that channels hold (normals, motion, positions) are values like others: they are not turned.
    """

    name = "mirror"
    family = "edges"
    makes = "same"
    needs = "flip, flop, turn over, mirror, left for right"
    ports = (Port("picture", "any", "What is turned over"),)
    Settings = MirrorSettings

    def forward(self, display: Window, settings: MirrorSettings) -> Matrix3:
        return affine(
            -1.0 if settings.across else 1.0,
            0.0,
            0.0,
            -1.0 if settings.down else 1.0,
            2.0 * display.x + display.width if settings.across else 0.0,
            2.0 * display.y + display.height if settings.down else 0.0,
        )

    def describe(self, inputs: Mapping[str, Description], settings: MirrorSettings) -> Description:
        given = inputs["picture"]
        bounds = self.bounds(given.window, self.forward(given.display, settings))
        assert bounds is not None
        left, top, right, bottom = map(round, bounds)
        return given.changed(window=Window(left, top, right - left, bottom - top))


class CutWindowSettings(Settings):
    x: int = setting(0, "Its left edge, in pixels of the picture", ge=-100000, le=100000, low=0, high=4096, unit="px")
    y: int = setting(0, "Its upper edge", ge=-100000, le=100000, low=0, high=4096, unit="px")
    width: int = setting(1920, "Its width", ge=1, le=32768, low=1, high=4096, unit="px")
    height: int = setting(1080, "Its height", ge=1, le=32768, low=1, high=4096, unit="px")
    cuts: Literal["both", "data", "display"] = setting(
        "both", "data: pixels beyond go, the picture's size stays; display: the size becomes that, pixels beyond stay"
    )


@register
class CutWindow(Moving):
    """Cut a picture to a rectangle of whole pixels, counted from the upper left corner of its display window.

    plane or picture -> the same; no sample is changed. `data`: the data window is cut to the rectangle, the display
    window stays. `display`: the display window becomes the rectangle, and begins at 0, 0 again; data beyond it stays,
    as overscan. `both`: both. Raises SettingError where no pixel would be left.
    """

    name = "cut_window"
    family = "edges"
    makes = "same"
    needs = "crop, cut, trim a picture, region of interest, overscan"
    ports = (Port("picture", "any", "What is cut"),)
    Settings = CutWindowSettings

    def forward(self, display: Window, settings: CutWindowSettings) -> Matrix3:
        moved = settings.cuts != "data"
        return affine(1.0, 0.0, 0.0, 1.0, -float(settings.x) * moved, -float(settings.y) * moved)

    def describe(self, inputs: Mapping[str, Description], settings: CutWindowSettings) -> Description:
        given = inputs["picture"]
        cut = Window(settings.x, settings.y, settings.width, settings.height)
        window = given.window if settings.cuts == "display" else given.window.intersect(cut)
        if window.empty and not given.window.empty:
            size = f"{given.window.width} x {given.window.height} at {given.window.x}, {given.window.y}"
            raise SettingError(
                "leaves no pixel of the picture", where="settings x, y, width, height", remedy=f"its data is {size}"
            )
        if settings.cuts == "data":
            return given.changed(window=window)
        return given.changed(
            display=Window(0, 0, cut.width, cut.height),
            window=window.shift(-cut.x, -cut.y),
            origin=(given.origin[0] + cut.x, given.origin[1] + cut.y),
        )


class FitToSettings(Settings):
    how: Literal["contain", "cover", "stretch", "centre"] = setting(
        "contain",
        "contain: all of it is seen; cover: all is filled; stretch: sides by themselves; centre: as large as it is",
    )
    filter: ResizeFilter = setting(
        "auto", "auto: areas where it shrinks, Lanczos where it grows; ids keep single samples in any case"
    )
    overshoot: bool = setting(False, OVERSHOOT)


@register
class FitTo(Resampled):
    """Fit a picture of w x h into the display window W x H of another, about the middle.

    plane or picture, any -> the first in the display window of `like`. It is resampled as `resize` does to a rectangle
    of whole pixels: scaled by s = min(W/w, H/h) (`contain`), max(W/w, H/h) (`cover`), each side by itself (`stretch`),
    or not at all (`centre`); sides are round(w s) x round(h s), at least 1, and begin at floor((W - side) / 2). What
    falls outside of the window is cut; where the picture does not reach it has no data (nothing, alpha 0).
    """

    name = "fit_to"
    family = "edges"
    makes = "same"
    needs = "fit, fill, match size, conform, reformat, letterbox, same resolution"
    ports = (Port("picture", "any", "What is fitted"), Port("like", "any", "Picture whose size is taken"))
    mixes = "picture"
    Settings = FitToSettings

    def target(self, inputs: Mapping[str, Description], settings: FitToSettings) -> Window:
        given, wanted = inputs["picture"].display, inputs["like"].display
        across, down = wanted.width / given.width, wanted.height / given.height
        match settings.how:
            case "contain":
                across = down = min(across, down)
            case "cover":
                across = down = max(across, down)
            case "centre":
                across = down = 1.0
        width, height = (max(1, math.floor(side + 0.5)) for side in (given.width * across, given.height * down))
        return Window((wanted.width - width) // 2, (wanted.height - height) // 2, width, height)

    def describe(self, inputs: Mapping[str, Description], settings: FitToSettings) -> Description:
        like = inputs["like"]
        fitted = super().describe(inputs, settings)
        return fitted.changed(display=like.display, window=fitted.window.intersect(like.display), origin=like.origin)
