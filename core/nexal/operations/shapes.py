"""Mattes drawn as closed curves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from nexal.keyed import MOST_KEYS, Interpolation, is_keyed, value_at
from nexal.operations.base import Operation, Scene, register, setting
from nexal.operations.making import LIKE, SizedSettings, sized
from nexal.operations.movement import Movement, is_affine, local_scale, moved
from nexal.picture import PLANE_NAME, Description, Plane

if TYPE_CHECKING:
    from nexal.kernels.coverage import Outline

Coordinate = Annotated[float, Field(ge=-1e6, le=1e6)]
Points = list[list[Coordinate]]
MAX_PATHS = 2000
MAX_POINTS = 5000


def check_points(points: Points) -> None:
    """Raises ValueError where a point is neither a corner, nor a curve point, nor one with its own feather."""
    if len(points) > MAX_POINTS:
        raise ValueError(f"a path has at most {MAX_POINTS} points")
    for point in points:
        if len(point) not in (2, 6, 8):
            raise ValueError(
                "a point is [x, y], [x, y, in_x, in_y, out_x, out_y], or these six with feather inward and outward"
            )
        if len(point) == 8 and min(point[6:]) < 0:
            raise ValueError("a feather is not below 0")


class Path(BaseModel):
    """One closed curve, or one for each key frame."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    name: str = Field("", max_length=80)
    points: Points | None = None
    keys: list[tuple[float, Points] | tuple[float, Points, Interpolation]] | None = Field(None, max_length=MOST_KEYS)
    movement: Movement | None = None
    mode: Literal["add", "cut"] = "add"
    opacity: float = Field(1.0, ge=0, le=1)
    feather: (
        Annotated[float, Field(ge=0, le=10_000)]
        | tuple[Annotated[float, Field(ge=0, le=10_000)], Annotated[float, Field(ge=0, le=10_000)]]
    ) = 0.0

    @model_validator(mode="before")
    @classmethod
    def _keyed(cls, value: Any) -> Any:
        """Points that are `{"keys": ...}`, as everything else that moves, are the path's keys."""
        if isinstance(value, dict) and is_keyed(value.get("points")):
            return {name: own for name, own in value.items() if name != "points"} | value["points"]
        return value

    @model_validator(mode="after")
    def _one(self) -> Path:
        if (self.points is None) == (self.keys is None):
            raise ValueError("give either points or keys")
        if self.points is not None:
            check_points(self.points)
        if self.keys is not None:
            if not self.keys:
                raise ValueError("at least one key is wanted")
            for key in self.keys:
                check_points(key[1])
            if len({len(key[1]) for key in self.keys}) > 1:
                raise ValueError("every key of a path has the same number of points")
            if len({key[0] for key in self.keys}) < len(self.keys):
                raise ValueError("two keys of a path stand at the same frame")
        return self

    def at(self, frame: float) -> Path:
        """The path with its points at a frame, going over between keys as they say, held before the first and after
        the last; and with its movement's matrix at that frame alone, if it is not at rest."""
        changed: dict[str, Any] = {}
        if self.keys is not None:
            widest = max(len(point) for key in self.keys for point in key[1]) if self.keys[0][1] else 2
            keys = [[key[0], full_points(key[1], self.feathers)[:, :widest].tolist(), *key[2:]] for key in self.keys]
            points = value_at(keys, frame) if self.keys[0][1] else []
            changed |= {"points": points, "keys": None}
        if self.movement is not None:
            changed["movement"] = self.movement.single(frame)
        return self.model_copy(update=changed) if changed else self

    def outline(self, scale: float) -> Outline:
        """The outline at a proxy's scale, of a path as it is at a frame (`at`): where its movement takes the curve,
        feathers as many times wider as the picture is there larger."""
        from nexal.kernels.coverage import flatten

        lines = flatten(full_points(self.points or [], self.feathers))
        if self.movement is not None:
            matrix = self.movement.at(0)
            lines = divided(lines) if not is_affine(matrix) else lines
            lines[:, 2:] *= local_scale(lines[:, :2], matrix)[:, None]
            lines[:, :2] = moved(lines[:, :2], matrix)
        return lines * scale

    @property
    def feathers(self) -> tuple[float, float]:
        return self.feather if isinstance(self.feather, tuple) else (self.feather, self.feather)


def full_points(points: Points, feathers: tuple[float, float] = (0.0, 0.0)) -> NDArray[np.float64]:
    """Points as N x 8; corners have tangents of no length, points without their own feather that of the path."""
    rows = np.zeros((len(points), 8))
    rows[:, 6:] = feathers
    for row, point in zip(rows, points, strict=True):
        row[: len(point)] = point
    return rows


def divided(lines: Outline, parts: int = 16) -> Outline:
    """The lines of an outline in parts: feathers along them do not change evenly under a perspective."""
    t = (np.arange(parts) / parts)[None, :, None]
    return (lines[:, None] * (1 - t) + np.roll(lines, -1, axis=0)[:, None] * t).reshape(-1, lines.shape[1])


class ShapeSettings(SizedSettings):
    paths: list[Path] = setting(list, "Closed curves, from the lowest on", widget="paths", max_length=MAX_PATHS)


@register
class Shape(Operation):
    """Draw a matte as closed curves.

    -> plane of data, in the display window of `like`, else of the settings. Each path is filled with exact area
    coverage (where it crosses itself: what it winds round), or, where it has a feather, rises by smoothstep from 0
    at `feather` px outside of the curve to 1 at `feather` px inside; [inward, outward] gives two widths, a point may
    have its own. Then, in order: add takes the larger of what is there and coverage * opacity, cut multiplies by
    1 - coverage * opacity. Fewer than three corners, or curves without area, cover nothing.
    Points are [x, y] or [x, y, in_x, in_y, out_x, out_y] with tangents relative to their point, in full-resolution
    pixels. `keys` are [frame, points, way]: every number goes over to the next key by itself, as that way says. A
    `movement` takes the curve and its feathers where it says that the points of its frame `from` lie.
    """

    name = "shape"
    family = "mattes"
    makes = "plane"
    needs = "draw, garbage matte, mask by hand, keep or throw away an area"
    ports = (LIKE,)
    Settings = ShapeSettings

    def at_frame(self, settings: ShapeSettings, frame: int) -> ShapeSettings:
        return settings.model_copy(update={"paths": [path.at(frame) for path in settings.paths]})

    def describe(self, inputs: Mapping[str, Description], settings: ShapeSettings) -> Description:
        return sized(inputs, settings).as_plane(data=True)

    def effort(self, settings: ShapeSettings, scene: Scene) -> float:
        soft = sum(20 * len(path.points or ()) for path in settings.paths if any(path.feathers))
        return 3 + 6 * len(settings.paths) + soft

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: ShapeSettings
    ) -> dict[str, tuple[str, ...]]:
        return {}

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: ShapeSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.coverage import feathered_coverage

        shape = (scene.region.height, scene.region.width)
        result = np.zeros(shape, np.float32)
        for path in settings.paths:
            scene.work.check()
            if not path.points:
                continue
            outline = path.outline(float(scene.scale))
            outline[:, :2] -= (scene.region.x, scene.region.y)
            coverage = feathered_coverage(shape, outline) * np.float32(path.opacity)
            if path.mode == "add":
                np.maximum(result, coverage, out=result)
            else:
                result *= 1 - coverage
        return {PLANE_NAME: result}
