"""Depth: its range, its unit, its edges, and slices of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
from pydantic import model_validator

from nexal.errors import SettingError
from nexal.kernels.nowhere import is_nothing
from nexal.operations.base import Operation, Port, Scene, Settings, register, setting
from nexal.picture import PLANE_NAME, Description, Plane, Trait, Window, inside

DEPTH = Port("depth", "plane", "Depth")
COVERAGE = Port("coverage", "plane", "How much of each pixel there is: alpha, or coverage of ids", required=False)
Profile = Literal["linear", "smooth"]
NEAR_SHARE, FAR_SHARE = 0.5, 99.5
"""Percentiles of what there is that `auto` takes for the ends."""


def depth_of(inputs: Mapping[str, Mapping[str, Plane]], scene: Scene, region: Window) -> Plane:
    """The depth over a region, infinite where nothing is: where renderers write so, and outside of the data window."""
    depth = inputs["depth"][PLANE_NAME]
    window = scene.descriptions["depth"].window.scaled(scene.scale)
    nothing = is_nothing(depth)
    if not window.contains(region):
        nothing |= inside(window, region) == 0
    return np.where(nothing, np.float32(np.inf), depth)


def covered_depth(inputs: Mapping[str, Mapping[str, Plane]], scene: Scene, region: Window, cover: Plane) -> Plane:
    """The depth over `scene.region`, given over a region one pixel larger all around.

    Where something covers a pixel but its centre missed it, its depth is that of the nearest of its neighbours.
    """
    from nexal.kernels.depths import grown

    depth = depth_of(inputs, scene, region)
    return grown(depth, cover)


def plane_of_data(inputs: Mapping[str, Description]) -> Description:
    """A plane over the same windows; with the header, which tells the camera that depth and positions go by."""
    depth = inputs["depth"]
    plane = Description((), depth.display, depth.window, origin=depth.origin, metadata=depth.metadata)
    return plane.as_plane(data=True)


class _OfDepth(Operation):
    """An operation on a depth plane that gives a plane of data."""

    family = "space"
    makes = "plane"

    def describe(self, inputs: Mapping[str, Description], settings: Any) -> Description:
        return plane_of_data(inputs)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Any
    ) -> dict[str, tuple[str, ...]]:
        return {port: given.channels for port, given in inputs.items() if given.is_plane}


class DepthRangeSettings(Settings):
    near: float | Literal["auto"] = setting("auto", "The depth that becomes 1")
    far: float | Literal["auto"] = setting("auto", "The depth that becomes 0")
    invert: bool = setting(False, "White far away instead of near")

    @model_validator(mode="after")
    def _apart(self) -> DepthRangeSettings:
        if self.near == self.far and self.near != "auto":
            raise SettingError("near and far are the same depth", where="setting 'far'", remedy="move them apart")
        return self


@register
class DepthRange(_OfDepth):
    """Depth between two ends as a plane of 0 to 1: near is white.

    plane H x W -> plane of data: clip((far - v) / (far - near), 0, 1). The ends are values as they are stored, in
    either order: where near is the larger number, the depth is turned round. `auto`: percentiles 0.5 and 99.5 of what
    there is, near being small or large as the depth's slopes say (see `nexal depth`).
    Nothing there (not finite, beyond 1e7, outside of the data window) gives 0.
    """

    name = "depth_range"
    needs = "normalise depth, near and far, depth as a matte"
    ports = (DEPTH,)
    whole = True
    nanoseconds = 10
    Settings = DepthRangeSettings

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: DepthRangeSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        depth = depth_of(inputs, scene, scene.region)
        near, far = _ends(depth, settings)
        with np.errstate(all="ignore"):
            value = np.clip((np.float32(far) - depth) * np.float32(1 / (far - near)), 0, 1)
        value = np.where(np.isfinite(depth), value, np.float32(0))
        return {PLANE_NAME: np.float32(1) - value if settings.invert else value}


def _ends(depth: Plane, settings: DepthRangeSettings) -> tuple[float, float]:
    near, far = settings.near, settings.far
    if "auto" in (near, far):
        from nexal.kernels.depths import near_is_large

        there = depth[np.isfinite(depth)]
        low, high = np.percentile(there, (NEAR_SHARE, FAR_SHARE)) if there.size else (0.0, 1.0)
        turned = (
            near_is_large(depth) if near == far else (near != "auto" and near > high) or (far != "auto" and far < low)
        )
        low, high = (high, low) if turned else (low, high)
        near = float(low) if near == "auto" else near
        far = float(high) if far == "auto" else far
    near, far = float(near), float(far)
    return near, far if far != near else near + 1e-6


class DepthUnitSettings(Settings):
    kind: Literal["distance", "inverse", "normalised"] = setting("normalised", "What the numbers are")
    near: float = setting(1.0, "Distance of what is stored as `near_value`", gt=0, low=0.1, high=100, step=0.1)
    far: float = setting(100.0, "Distance of what is stored as `far_value`", gt=0, low=1, high=1000, step=1)
    near_value: float = setting(0.0, "The number at the near end", low=0, high=1, step=0.01)
    far_value: float = setting(1.0, "The number at the far end", low=0, high=1, step=0.01)

    @model_validator(mode="after")
    def _apart(self) -> DepthUnitSettings:
        if self.near_value == self.far_value:
            raise SettingError("both ends are the same number", where="setting 'far_value'", remedy="move them apart")
        if self.near == self.far:
            raise SettingError("near and far are the same distance", where="setting 'far'", remedy="move them apart")
        return self


@register
class DepthUnit(_OfDepth):
    """Depth of any kind as distance along the view, in units of the world.

    plane H x W -> plane of data. With t = (v - near_value) / (far_value - near_value), not held:
        distance, normalised: near + t (far - near)
        inverse: 1 / (1/near + t (1/far - 1/near)), infinite where that is not above 0
    Nothing there stays nothing (infinite).
    """

    name = "depth_unit"
    needs = "world units, metres, linear depth, invert depth, disparity"
    ports = (DEPTH,)
    nanoseconds = 8
    Settings = DepthUnitSettings

    def trait(self, channel: str, inputs: object, settings: object, description: object) -> Trait:
        return Trait("depth", "units")

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: DepthUnitSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        depth = depth_of(inputs, scene, scene.region)
        with np.errstate(all="ignore"):
            t = (depth - np.float32(settings.near_value)) * np.float32(1 / (settings.far_value - settings.near_value))
            if settings.kind == "inverse":
                near, far = 1 / settings.near, 1 / settings.far
                inverse = np.float32(near) + t * np.float32(far - near)
                found = np.where(inverse > 0, np.float32(1) / inverse, np.float32(np.inf))
            else:
                found = np.float32(settings.near) + t * np.float32(settings.far - settings.near)
        return {PLANE_NAME: np.where(np.isfinite(depth), found, np.float32(np.inf))}


class DepthEdgesSettings(Settings):
    mend: Literal["snap", "part"] = setting(
        "snap", "snap: the surface that a pixel mostly shows; part: a picture of near, far and the share of near"
    )
    step: float = setting(
        0.05, "Smallest difference of two surfaces, as a part of their distance", gt=0, low=0.01, high=0.5, step=0.01
    )


PARTS = ("near", "far", "share")


@register
class DepthEdges(Operation):
    """Depth whose edges were averaged, mended: a pixel between two surfaces is neither's.

    plane H x W -> plane (`snap`), or picture of data `near`, `far`, `share` (`part`: share of the nearer, 1 where a
    pixel is whole). A pixel is taken for an average where, along one of four lines through it, a smooth surface ends
    before it and another begins behind it, more than `step` apart in log depth, and it lies clear (2 %) of both, each
    continued straight; the share is measured in the depth itself, where a renderer averages.
    For mattes and fog use both: share f(near) + (1 - share) f(far).
    """

    name = "depth_edges"
    family = "space"
    makes = "plane"
    needs = "antialiased depth, averaged depth, wrong edges, fringe in depth"
    ports = (DEPTH,)
    nanoseconds = 60
    scratch_bytes = 24
    Settings = DepthEdgesSettings
    REACH = 4

    def describe(self, inputs: Mapping[str, Description], settings: DepthEdgesSettings) -> Description:
        plane = plane_of_data(inputs)
        if settings.mend == "snap":
            return plane
        return plane.changed(is_plane=False, channels=PARTS, data=frozenset(PARTS))

    def wants(
        self, channels: object, inputs: Mapping[str, Description], settings: object
    ) -> dict[str, tuple[str, ...]]:
        return {"depth": inputs["depth"].channels}

    def trait(self, channel: str, inputs: object, settings: object, description: object) -> Trait:
        return Trait("mask" if channel == "share" else "depth")

    def input_region(self, port: str, region: Window, scene: Scene, settings: DepthEdgesSettings) -> Window:
        return region.grow(self.REACH)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: DepthEdgesSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.depths import parted

        depth = depth_of(inputs, scene, scene.region.grow(self.REACH))
        near, far, share = parted(depth, settings.step)
        cut = slice(self.REACH, -self.REACH), slice(self.REACH, -self.REACH)
        near, far, share = near[cut], far[cut], share[cut]
        if settings.mend == "snap":
            return {PLANE_NAME: np.where(share >= 0.5, near, far)}
        return {name: plane for name, plane in zip(PARTS, (near, far, share), strict=True) if name in channels}


class DepthSliceSettings(Settings):
    near: float = setting(1.0, "Where it is whole from", low=0, high=100, step=0.1)
    far: float = setting(10.0, "Where it is whole to", low=0, high=100, step=0.1)
    feather_near: float = setting(0.5, "How far before it begins to rise", ge=0, low=0, high=20, step=0.1)
    feather_far: float = setting(0.5, "How far behind it has fallen", ge=0, low=0, high=20, step=0.1)
    profile: Profile = setting("smooth", "How it rises and falls")
    invert: bool = setting(False, "All but the slice")

    @model_validator(mode="after")
    def _ordered(self) -> DepthSliceSettings:
        if self.near > self.far:
            raise SettingError("near lies behind far", where="setting 'near'", remedy="exchange the two")
        return self


@register
class DepthSlice(_OfDepth):
    """A matte of what lies between two depths.

    plane H x W -> plane of data. It rises over [near - feather_near, near], is 1 to far, and falls over
    [far, far + feather_far], straight or by 3t^2 - 2t^3. Nothing there is infinitely far. With `coverage` it is
    multiplied by it, so that edges are as soft as the picture's; where something covers a pixel whose centre missed
    it, its neighbours' nearest depth is taken.
    """

    name = "depth_slice"
    needs = "matte by depth, layer of depth, foreground, background"
    ports = (DEPTH, COVERAGE)
    nanoseconds = 10
    Settings = DepthSliceSettings

    def input_region(self, port: str, region: Window, scene: Scene, settings: DepthSliceSettings) -> Window:
        return region.grow(1) if port == "depth" and "coverage" in scene.descriptions else region

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: DepthSliceSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.depths import sliced

        cover = inputs["coverage"][PLANE_NAME] if "coverage" in inputs else None
        if cover is None:
            depth = depth_of(inputs, scene, scene.region)
        else:
            depth = covered_depth(inputs, scene, scene.region.grow(1), cover)
        ends = (settings.near - settings.feather_near, settings.near, settings.far, settings.far + settings.feather_far)
        matte = sliced(depth, ends, smooth=settings.profile == "smooth")
        if settings.invert:
            matte = np.float32(1) - matte
        return {PLANE_NAME: matte if cover is None else matte * cover}
