"""Where things are: positions from depth, depth from positions, and the way that surfaces face."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from nexal.camera import Camera, camera_of, camera_of_view
from nexal.errors import RecipeError, SettingError
from nexal.kernels.nowhere import is_nowhere
from nexal.operations.base import Operation, Port, Scene, Settings, register, setting
from nexal.operations.depths import DEPTH, depth_of
from nexal.picture import PLANE_NAME, Description, Plane, Trait, Window, split_channel

Row = Annotated[list[float], Field(min_length=4, max_length=4)]
AXES = ("X", "Y", "Z")


def axes_of(description: Description, port: str) -> tuple[str, str, str]:
    """The channels of a position or normal pass, by their last parts. Raises RecipeError where there are none."""
    for ends in (AXES, ("x", "y", "z"), ("R", "G", "B"), ("r", "g", "b")):
        found = [next((name for name in description.channels if split_channel(name)[1] == end), None) for end in ends]
        if all(found):
            return (str(found[0]), str(found[1]), str(found[2]))
    raise RecipeError(
        "has no three axes", where=f"port '{port}'", remedy="feed a layer with channels X, Y and Z, or R, G and B"
    )


def places_of(
    inputs: Mapping[str, Mapping[str, Plane]], scene: Scene, port: str
) -> tuple[list[Plane], NDArray[np.bool_]]:
    """The three axes of a position pass, 0 where nothing is, and where something is.

    See `is_nowhere`.
    """
    planes = [inputs[port][name] for name in axes_of(scene.descriptions[port], port)]
    nothing = is_nowhere(planes)
    return [np.where(nothing, np.float32(0), plane) for plane in planes], ~nothing


class CameraSettings(Settings):
    camera: Literal["file", "view"] = setting("file", "file: the one in the file's header; view: the settings below")
    fov_x: float = setting(
        50.0, "How wide the picture is seen", gt=1, lt=179, low=10, high=120, step=1, unit="°", beside="camera"
    )
    camera_to_world: list[Row] = setting(
        lambda: [[1.0, 0.0, 0.0, 0.0], [0.0, 1.0, 0.0, 0.0], [0.0, 0.0, 1.0, 0.0], [0.0, 0.0, 0.0, 1.0]],
        "Four rows; column vectors, the camera looks along -z, y up",
        widget="rows",
        beside="camera",
    )
    radial: bool = setting(False, "Depth is the way to the eye, not the distance along the view")

    @model_validator(mode="after")
    def _four(self) -> CameraSettings:
        if len(self.camera_to_world) != 4:
            raise SettingError("four rows are wanted", where="setting 'camera_to_world'", remedy="give a 4 x 4 matrix")
        return self


def camera_at(description: Description, settings: CameraSettings, port: str) -> Camera:
    """The camera that a step works with. Raises RecipeError or SettingError where there is none."""
    width, height = description.display.width, description.display.height
    if settings.camera == "view":
        return camera_of_view(settings.camera_to_world, settings.fov_x, width, height)
    found = camera_of(description)
    if found is None:
        raise RecipeError(
            "its file has no camera in its header (worldToNDC)",
            where=f"port '{port}'",
            remedy="set `camera` to view and give the field of view",
        )
    return found


@register
class PositionFromDepth(Operation):
    """Where each pixel lies in the world, from its depth and the camera.

    plane H x W -> picture of data X, Y, Z, in units of the depth: P = eye + d A (x, y, 1), with A the inverse of the
    camera's left 3 x 3 and (x, y) the pixel's centre; `radial`: d divided by the length of A (x, y, 1). The camera is
    that of the header (OpenEXR's worldToNDC, worldToCamera), or of a field of view and a matrix. Nothing there gives 0.
    Raises RecipeError where the header has no camera.
    """

    name = "position_from_depth"
    family = "space"
    makes = "picture"
    needs = "world position, point position, camera, unproject"
    ports = (DEPTH,)
    nanoseconds = 14
    Settings = CameraSettings

    def describe(self, inputs: Mapping[str, Description], settings: CameraSettings) -> Description:
        depth = inputs["depth"]
        camera_at(depth, settings, "depth")
        return Description(
            AXES, depth.display, depth.window, data=frozenset(AXES), origin=depth.origin, metadata=depth.metadata
        )

    def trait(self, channel: str, inputs: object, settings: object, description: object) -> Trait:
        return Trait("position", "units")

    def wants(
        self, channels: object, inputs: Mapping[str, Description], settings: object
    ) -> dict[str, tuple[str, ...]]:
        return {"depth": inputs["depth"].channels}

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: CameraSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        camera = camera_at(scene.descriptions["depth"], settings, "depth")
        depth = depth_of(inputs, scene, scene.region)
        there = np.isfinite(depth)
        steps = [_step(row, scene) for row in camera.steps]
        if settings.radial:
            depth = depth / np.sqrt(steps[0] ** 2 + steps[1] ** 2 + steps[2] ** 2)
        held = np.where(there, depth, np.float32(0))
        found = {}
        for axis, step, start in zip(AXES, steps, camera.eye, strict=True):
            if axis in channels:
                found[axis] = np.where(there, np.float32(start) + step * held, np.float32(0))
        return found


def _step(row: NDArray[np.float64], scene: Scene) -> Plane:
    made: Plane = np.float32(row[0]) * scene.x + (np.float32(row[1]) * scene.y + np.float32(row[2]))
    return made


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

    def describe(self, inputs: Mapping[str, Description], settings: Settings) -> Description:
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
        settings: Settings,
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
