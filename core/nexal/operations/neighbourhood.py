"""Operations that look at more than one pixel of their input: blur and sharpen."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal

import numpy as np

from nexal.kernels.pointmath import lerp
from nexal.operations.base import Port, Scene, Settings, register, setting
from nexal.operations.channels import check_channels, meant_channels
from nexal.operations.mixing import MixingOperation
from nexal.picture import PLANE_NAME, Description, Plane, Window


def edge_extended(plane: Plane, given: Window, scene: Scene, port: str = "picture") -> Plane:
    """A plane over `given` whose values beyond the input's data window are those of its edge, instead of 0."""
    inside = given.intersect(scene.descriptions[port].window.scaled(scene.scale))
    pad = ((inside.y - given.y, given.bottom - inside.bottom), (inside.x - given.x, given.right - inside.right))
    return np.pad(plane[inside.within(given)], pad, mode="edge") if np.any(pad) and not inside.empty else plane


TAP_NS = 0.15
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
    Depth and positions are averaged over what holds something; ids stay. A Gaussian of 30 pixels or more is made of a
    halved picture (Burt, Adelson, *The Laplacian Pyramid as a Compact Image Code*, 1983): within 1e-3 of the span.
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
        from nexal.kernels.filters import reduction

        taps = 2 * (2 * self._reach(settings, scene) + 1)
        n = reduction(scene.pixels(settings.radius)) if settings.filter == "gaussian" else 1
        return 8 + TAP_NS * taps / n**3

    def _reach(self, settings: BlurSettings, scene: Scene) -> int:
        from nexal.kernels.filters import box_reach, gaussian_reach

        return (gaussian_reach if settings.filter == "gaussian" else box_reach)(scene.pixels(settings.radius))

    def input_region(self, port: str, region: Window, scene: Scene, settings: BlurSettings) -> Window:
        if port == "matte":
            return region
        # Beyond the data window its edge goes on: there is nothing to fetch.
        around = region.grow(self._reach(settings, scene))
        return around.intersect(scene.descriptions["from"].window.scaled(scene.scale)).union(region)

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
        if self._reach(settings, scene) == 0:
            return self.single(plane, settings, scene)
        given = self.input_region("from", scene.region, scene, settings)
        inside = given.intersect(scene.descriptions["from"].window.scaled(scene.scale))
        if settings.filter == "gaussian" and size >= filters.WIDE and not inside.empty:
            blurred = filters.wide_gaussian(plane[inside.within(given)], size, inside, scene.region)
        else:
            weights = (filters.gaussian_weights if settings.filter == "gaussian" else filters.box_weights)(size)
            blurred = filters.blur(edge_extended(plane, given, scene, "from"), weights)[scene.region.within(given)]
        return blurred if prepared is None else lerp(self.single(plane, settings, scene), blurred, prepared)

    def single(self, plane: Plane, settings: BlurSettings, scene: Scene) -> Plane:
        return plane[scene.region.within(self.input_region("from", scene.region, scene, settings))]


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

    def finished(self, samples: Callable[[], Plane], averaged: Plane, settings: Any) -> Plane:
        plane = samples()
        with np.errstate(invalid="ignore", over="ignore"):
            sharp = plane + np.float32(settings.amount) * (plane - averaged)
        return sharp if np.isfinite(sharp).all() else np.where(np.isfinite(sharp), sharp, plane)
