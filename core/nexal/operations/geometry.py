"""What follows from positions: depth, and the way that surfaces face."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from nexal.camera import camera_of
from nexal.kernels.depths import is_nowhere
from nexal.operations.base import Operation, Port, Scene, Settings, register
from nexal.operations.space import AXES, CameraSettings, axes_of, camera_at, places_of
from nexal.picture import PLANE_NAME, Description, Plane, Trait, Window

POSITION = Port("position", "picture", "World positions")


class _FromPosition(Operation):
    """An operation on a position pass."""

    family = "space"
    ports = (POSITION,)

    def wants(
        self, channels: object, inputs: Mapping[str, Description], settings: object
    ) -> dict[str, tuple[str, ...]]:
        return {"position": axes_of(inputs["position"], "position")}


@register
class DepthFromPosition(_FromPosition):
    """Depth from positions and the camera that they were seen by.

    picture of positions H x W -> plane of data, in units of the world: (P - eye) . forward, or abs(P - eye) with
    `radial`. The camera is that of the header (OpenEXR's worldToNDC, worldToCamera), or of a field of view and a
    matrix. Nothing there is infinitely far. Raises RecipeError where the header has no camera.
    """

    name = "depth_from_position"
    makes = "plane"
    needs = "depth pass from world positions, distance, camera"
    nanoseconds = 8
    Settings = CameraSettings

    def describe(self, inputs: Mapping[str, Description], settings: CameraSettings) -> Description:
        position = inputs["position"]
        axes_of(position, "position")
        camera_at(position, settings, "position")
        return position.as_plane(data=True, trait=Trait("depth", "units"))

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: CameraSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        camera = camera_at(scene.descriptions["position"], settings, "position")
        places, there = places_of(inputs, scene, "position")
        away = [place - np.float32(start) for place, start in zip(places, camera.eye, strict=True)]
        if settings.radial:
            depth = np.sqrt(away[0] ** 2 + away[1] ** 2 + away[2] ** 2)
        else:
            depth = sum(np.float32(part) * plane for part, plane in zip(camera.forward, away, strict=True))
        return {PLANE_NAME: np.where(there, depth, np.float32(np.inf)).astype(np.float32)}


class NormalSettings(Settings):
    pass


@register
class NormalsFromPosition(_FromPosition):
    """The way that surfaces face, from positions: flat within each facet, as no shading smooths it.

    picture of positions H x W -> picture of data X, Y, Z, of length 1: the cross product of the ways to the nearer of
    the two neighbours across and of the two neighbours down, which keeps edges between surfaces. It faces the eye where
    the header has a camera, else as in a right-handed world. Nothing there, or nothing beside it, gives 0.
    """

    name = "normals_from_position"
    makes = "picture"
    needs = "normal pass from world positions, facing, relight without normals"
    nanoseconds = 40
    scratch_bytes = 60
    Settings = NormalSettings

    def describe(self, inputs: Mapping[str, Description], settings: NormalSettings) -> Description:
        position = inputs["position"]
        axes_of(position, "position")
        return Description(
            AXES, position.display, position.window, data=frozenset(AXES), origin=position.origin,
            metadata=position.metadata,
        )  # fmt: skip

    def trait(self, channel: str, inputs: object, settings: object, description: object) -> Trait:
        return Trait("normal")

    def input_region(self, port: str, region: Window, scene: Scene, settings: object) -> Window:
        return region.grow(1)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: NormalSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        description = scene.descriptions["position"]
        places = np.stack([inputs["position"][name] for name in axes_of(description, "position")]).astype(np.float32)
        there = ~is_nowhere(places)
        across, down = (_nearer(places, there, axis) for axis in (2, 1))
        normal = np.cross(down, across, axis=0)
        size = np.sqrt((normal * normal).sum(axis=0))
        found = there[1:-1, 1:-1] & np.isfinite(size) & (size > 0)
        normal = np.where(found, normal / np.where(found, size, 1), np.float32(0))
        camera = camera_of(description)
        if camera is not None:
            middle = np.where(found, places[:, 1:-1, 1:-1], np.float32(0))
            towards = camera.eye.astype(np.float32)[:, None, None] - middle
            normal = np.where((normal * towards).sum(axis=0) < 0, -normal, normal)
        return {axis: plane for axis, plane in zip(AXES, normal.astype(np.float32), strict=True) if axis in channels}


def _nearer(places: NDArray[Any], there: NDArray[np.bool_], axis: int) -> NDArray[Any]:
    """3 x (H - 2) x (W - 2): the way along an axis of the picture, taken from the nearer of both neighbours; 0 where
    there is neither."""

    def cut(stack: NDArray[Any], by: int) -> NDArray[Any]:
        parts = [slice(1, -1), slice(1, -1)]
        length = stack.shape[-2:][axis - 1]
        parts[axis - 1] = slice(1 + by, length - 1 + by)
        made: NDArray[Any] = stack[..., parts[0], parts[1]]
        return made

    middle = cut(places, 0)
    with np.errstate(all="ignore"):
        after, before = cut(places, 1) - middle, middle - cut(places, -1)
        sizes = [np.where(cut(there, by), (way * way).sum(axis=0), np.inf) for way, by in ((after, 1), (before, -1))]
        chosen = np.where(sizes[0] <= sizes[1], after, before)
    return np.where(np.isfinite(np.minimum(*sizes)), chosen, np.float32(0))
