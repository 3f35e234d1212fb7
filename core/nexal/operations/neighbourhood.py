"""Operations that look at more than one pixel of their input: blur, sharpen, and what moves a picture."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np

from nexal.kernels.pointmath import lerp
from nexal.operations.base import Port, Scene, Settings, register, setting
from nexal.operations.channels import check_channels, meant_channels
from nexal.operations.mixing import MixingOperation
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane, Window


def edge_extended(plane: Plane, given: Window, scene: Scene, port: str = "picture") -> Plane:
    """A plane over `given` whose values beyond the input's data window are those of its edge, instead of 0."""
    inside = given.intersect(scene.descriptions[port].window.scaled(scene.scale))
    pad = ((inside.y - given.y, given.bottom - inside.bottom), (inside.x - given.x, given.right - inside.right))
    return np.pad(plane[inside.within(given)], pad, mode="edge") if np.any(pad) and not inside.empty else plane


TAP_NS = 0.8
"""Nanoseconds of one weight of a separable filter."""


class BlurSettings(Settings):
    radius: float = setting(
        4.0, "Sigma of the Gaussian, or half the box", ge=0, le=1000, low=0, high=100, step=0.1, unit="px"
    )
    filter: Literal["gaussian", "box"] = setting("gaussian", "Shape of the blur")
    channels: list[str] = setting(list, "Channels to blur; all when none is named", widget="channels")
    invert_matte: bool = setting(False, "Blur where the matte removes")


@register
class Blur(MixingOperation):
    """Blur by a Gaussian (radius = sigma) or a box (2 radius + 1 wide), in full-resolution pixels.

    plane or picture(, plane) -> the same, same windows; edges of the data window extend outward. Through a matte the
    blurred value is mixed in by it: v + (blurred - v) matte, or 1 - matte with `invert_matte`. Colour is blurred as
    premultiplied light, whatever its state; colour without its alpha among `channels` spreads under the alpha as it is.
    Depth and positions are averaged over what holds something; ids stay.
    """

    name = "blur"
    family = "mattes"
    makes = "same"
    needs = "soften, feather, smooth"
    ports = (Port("from", "any", "What is blurred"), Port("matte", "plane", "Where it is blurred", required=False))
    mixes = "from"
    Settings = BlurSettings

    def describe(self, inputs: Mapping[str, Description], settings: BlurSettings) -> Description:
        if not inputs["from"].is_plane:
            check_channels(settings.channels, inputs["from"], "channels")
        return inputs["from"]

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: BlurSettings
    ) -> tuple[str, str] | None:
        left = settings.channels and not inputs["from"].is_plane and channel not in settings.channels
        return ("from", channel) if left or settings.radius == 0 else None

    def effort(self, settings: BlurSettings, scene: Scene) -> float:
        return 8 + TAP_NS * 2 * (2 * self._reach(settings, scene) + 1)

    def _reach(self, settings: BlurSettings, scene: Scene) -> int:
        return math.ceil((4 if settings.filter == "gaussian" else 1) * scene.pixels(settings.radius))

    def input_region(self, port: str, region: Window, scene: Scene, settings: BlurSettings) -> Window:
        return region if port == "matte" else region.grow(self._reach(settings, scene))

    def affects(self, channel: str, description: Description, settings: BlurSettings, scene: Scene) -> bool:
        return description.is_plane or not settings.channels or channel in settings.channels

    def beside(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: BlurSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"matte": (PLANE_NAME,)} if "matte" in inputs else {}

    def prepared(self, inputs: Mapping[str, Mapping[str, Plane]], settings: BlurSettings, scene: Scene) -> Plane | None:
        if "matte" not in inputs:
            return None
        matte = inputs["matte"][PLANE_NAME]
        return np.float32(1) - matte if settings.invert_matte else matte

    def average(self, plane: Plane, settings: BlurSettings, scene: Scene, prepared: Plane | None) -> Plane:
        from nexal.kernels import filters

        size = scene.pixels(settings.radius)
        reach = self._reach(settings, scene)
        if reach == 0:
            return self.single(plane, settings, scene)
        given = scene.region.grow(reach)
        weights = (filters.gaussian_weights if settings.filter == "gaussian" else filters.box_weights)(size)
        blurred = filters.blur(edge_extended(plane, given, scene, "from"), weights)[scene.region.within(given)]
        return blurred if prepared is None else lerp(self.single(plane, settings, scene), blurred, prepared)

    def single(self, plane: Plane, settings: BlurSettings, scene: Scene) -> Plane:
        return plane[scene.region.within(scene.region.grow(self._reach(settings, scene)))]


class SharpenSettings(BlurSettings):
    radius: float = setting(
        1.5, "Of the blur that it is compared with", ge=0, le=1000, low=0, high=20, step=0.1, unit="px"
    )
    amount: float = setting(0.5, "How much of the difference is added", ge=0, le=20, low=0, high=3, step=0.01)
    channels: list[str] = setting(list, "Channels to sharpen; all colour when none is named", widget="channels")
    invert_matte: bool = setting(False, "Sharpen where the matte removes")


@register
class Sharpen(Blur):
    """Sharpen by what a blur takes away: v + amount (v - G(v)), G being what `blur` makes of v.

    plane or picture(, plane) -> the same, same windows. Colour that belongs to an alpha is sharpened without it: G is
    the mean of the light that is there, G(c a) / G(a), so that no rim appears along an edge. The alpha stays unless it
    is named. Through a matte the difference is multiplied by it, or by 1 - matte with `invert_matte`. Nothing is
    clamped. A sample that is no number, or beside one, stays.
    """

    name = "sharpen"
    family = "edges"
    needs = "sharpen, crisp, unsharp, detail, clarity"
    ports = (Port("from", "any", "What is sharpened"), Port("matte", "plane", "Where it is sharpened", required=False))
    Settings = SharpenSettings

    def untouched(self, channel: str, inputs: Mapping[str, Description], settings: Any) -> tuple[str, str] | None:
        left = (
            settings.amount == 0
            or settings.radius == 0
            or channel not in meant_channels(inputs["from"], settings.channels)
        )
        return ("from", channel) if left else None

    def affects(self, channel: str, description: Description, settings: Any, scene: Scene) -> bool:
        return channel in meant_channels(description, settings.channels)

    def finished(self, plane: Plane, averaged: Plane, settings: Any) -> Plane:
        with np.errstate(invalid="ignore", over="ignore"):
            sharp = plane + np.float32(settings.amount) * (plane - averaged)
        return sharp if np.isfinite(sharp).all() else np.where(np.isfinite(sharp), sharp, plane)


Matrix = tuple[float, float, float, float, float, float]
"""a, b, c, d, x, y: the position (a u + b v + x, c u + d v + y) for the position u, v."""


class Moving(MixingOperation):
    """An operation that puts the samples of one input elsewhere, by a matrix that it gives (`forward`).

    What falls on whole samples is exact; in between it is found by `kind`.
    """

    mixes = "picture"

    def forward(self, display: Window, settings: Any) -> Matrix:
        """Matrix and offset that take a full-resolution position of the input to its place."""
        raise NotImplementedError

    def kind(self, settings: Any) -> str:
        return "linear"

    def shrinks(self, settings: Any) -> float:
        """How many times larger the input is than what becomes of it; 1 where it does not shrink."""
        return 1.0

    def backward(self, display: Window, settings: Any) -> Matrix:
        a, b, c, d, x, y = self.forward(display, settings)
        determinant = a * d - b * c
        ia, ib, ic, id_ = d / determinant, -b / determinant, -c / determinant, a / determinant
        return ia, ib, ic, id_, -(ia * x + ib * y), -(ic * x + id_ * y)

    @staticmethod
    def bounds(window: Window, matrix: Matrix) -> tuple[float, float, float, float]:
        a, b, c, d, x, y = matrix
        corners = [(px, py) for px in (window.x, window.right) for py in (window.y, window.bottom)]
        xs = [a * px + b * py + x for px, py in corners]
        ys = [c * px + d * py + y for px, py in corners]
        return min(xs), min(ys), max(xs), max(ys)

    def affects(self, channel: str, description: Description, settings: Any, scene: Scene) -> bool:
        a, b, c, d, x, y = self.backward(description.display, settings)
        whole = {abs(a), abs(b), abs(c), abs(d)} == {0.0, 1.0}
        steps = (scene.pixels(x), scene.pixels(y))
        return self.kind(settings) != "nearest" and not (whole and all(float(step).is_integer() for step in steps))

    def reach(self, settings: Any) -> float:
        from nexal.kernels.warping import FILTER_SUPPORT

        return FILTER_SUPPORT[self.kind(settings)] * self.shrinks(settings)

    def effort(self, settings: Any, scene: Scene) -> float:
        return 10 + 32 * (2 * self.reach(settings)) ** 2

    def input_region(self, port: str, region: Window, scene: Scene, settings: Any) -> Window:
        left, top, right, bottom = self.bounds(region, self._scaled(scene, settings))
        reach = math.ceil(self.reach(settings)) + 1
        x0, y0 = math.floor(left) - reach, math.floor(top) - reach
        return Window(x0, y0, math.ceil(right) + reach - x0, math.ceil(bottom) + reach - y0)

    def _scaled(self, scene: Scene, settings: Any) -> Matrix:
        a, b, c, d, x, y = self.backward(scene.descriptions["picture"].display, settings)
        return a, b, c, d, scene.pixels(x), scene.pixels(y)

    def _sampled(self, plane: Plane, kind: str, settings: Any, scene: Scene) -> Plane:
        from nexal.kernels.warping import resample

        a, b, c, d, x, y = self._scaled(scene, settings)
        given = self.input_region("picture", scene.region, scene, settings)
        column, row = scene.region.x + 0.5, scene.region.y + 0.5
        start = (a * column + b * row + x - given.x, c * column + d * row + y - given.y)
        return resample(plane, (scene.region.height, scene.region.width), start, (a, b, c, d), kind)

    def average(self, plane: Plane, settings: Any, scene: Scene, prepared: None) -> Plane:
        return self._sampled(plane, self.kind(settings), settings, scene)

    def single(self, plane: Plane, settings: Any, scene: Scene) -> Plane:
        return self._sampled(plane, "nearest", settings, scene)


class PlaceSettings(Settings):
    x: float = setting(0.0, "To the right", low=-1000, high=1000, step=0.1, unit="px")
    y: float = setting(0.0, "Downward", low=-1000, high=1000, step=0.1, unit="px")
    scale: float = setting(1.0, "Size", gt=0, le=100, low=0.1, high=4, step=0.01)
    rotate: float = setting(0.0, "Turn, clockwise", low=-180, high=180, step=0.1, unit="°")
    filter: Literal["cubic", "linear", "nearest"] = setting("cubic", "How pixels in between are found")


@register
class Place(Moving):
    """Move a picture about its display window: scaled and rotated about the window's middle, then shifted.

    picture -> picture; the data window follows, the display window stays. Outside the data window all is 0.
    Filters: cubic (Catmull-Rom), linear (tent), nearest; widened where the picture shrinks. Whole-pixel shifts are
    exact. Colour moves as premultiplied light, whatever its state. A picture in colour without an alpha gets one
    (straight): it no longer covers all. Depth and positions are averaged over what holds something; ids keep single
    samples.
    """

    name = "place"
    family = "edges"
    needs = "move, scale, rotate, position a picture"
    ports = (Port("picture", "any", "What is moved"),)
    Settings = PlaceSettings

    def gains_alpha(self, description: Description) -> bool:
        return bool(description.colour) and not description.is_plane and not description.has_alpha

    def forward(self, display: Window, settings: PlaceSettings) -> Matrix:
        turn = math.radians(settings.rotate)
        c, s = settings.scale * math.cos(turn), settings.scale * math.sin(turn)
        if settings.rotate % 90 == 0:
            c, s = float(round(c / settings.scale)) * settings.scale, float(round(s / settings.scale)) * settings.scale
        middle_x, middle_y = display.x + display.width / 2, display.y + display.height / 2
        return (
            c,
            -s,
            s,
            c,
            middle_x - c * middle_x + s * middle_y + settings.x,
            middle_y - s * middle_x - c * middle_y + settings.y,
        )

    def kind(self, settings: PlaceSettings) -> str:
        return settings.filter

    def shrinks(self, settings: PlaceSettings) -> float:
        return max(1.0, 1 / settings.scale)

    def describe(self, inputs: Mapping[str, Description], settings: PlaceSettings) -> Description:
        description = inputs["picture"]
        left, top, right, bottom = self.bounds(description.window, self.forward(description.display, settings))
        soft = 0 if settings.filter == "nearest" else self.reach(settings) * settings.scale - 0.5
        x, y = math.floor(left - soft + 1e-6), math.floor(top - soft + 1e-6)
        placed = description.changed(
            window=Window(x, y, math.ceil(right + soft - 1e-6) - x, math.ceil(bottom + soft - 1e-6) - y)
        )
        if not self.gains_alpha(description):
            return placed
        return placed.changed(
            channels=(*placed.channels, ALPHA_NAME), data=placed.data | {ALPHA_NAME}, alpha=Alpha.STRAIGHT
        )
