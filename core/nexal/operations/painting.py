"""Touch-up: strokes of a brush, stored as points and painted in order."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator

from nexal.errors import SettingError
from nexal.operations.base import Operation, Port, Scene, Settings, register, setting
from nexal.picture import Description, Plane, Trait, Window, is_alpha

STROKES_TOGETHER = 32
MAX_STROKES = 20_000
MAX_POINTS = 20_000
CROWD = 70
"""Pixels within which the segments of a stroke are compared with each other, by what painting was seen to take."""
Coordinate = Annotated[float, Field(ge=-1e6, le=1e6)]


class Stroke(BaseModel):
    """One stroke. `value` is one number for every channel, or red, green, blue for those."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    points: list[list[Coordinate]] = Field(min_length=1, max_length=MAX_POINTS)
    radius: float = Field(gt=0, le=10_000)
    hardness: float = Field(1.0, ge=0, le=1)
    opacity: float = Field(1.0, ge=0, le=1)
    value: float | list[float] = 1.0
    channels: list[str] = []

    @field_validator("points")
    @classmethod
    def _pairs(cls, value: list[list[float]]) -> list[list[float]]:
        for point in value:
            if len(point) not in (2, 3):
                raise ValueError("a point is [x, y] or [x, y, pressure]")
            if len(point) == 3 and not 0 <= point[2] <= 1:
                raise ValueError("a pressure lies in 0 to 1")
        return value

    @field_validator("value")
    @classmethod
    def _colour(cls, value: float | list[float]) -> float | list[float]:
        if isinstance(value, list) and len(value) != 3:
            raise ValueError("one number, or red, green and blue are wanted")
        return value

    def number(self, channel: str) -> float:
        if not isinstance(self.value, list):
            return self.value
        return self.value["RGB".find(channel.rpartition(".")[2])]

    def chosen(self, description: Description) -> Sequence[str]:
        if self.channels and not description.is_plane:
            return self.channels
        if isinstance(self.value, list):
            return [name for name in description.channels if name.rpartition(".")[2] in ("R", "G", "B")]
        return description.channels


def reached(stroke: Stroke, scene: Scene) -> Window:
    """What a stroke can reach of a scene's region."""
    reach = scene.pixels(stroke.radius) + 1
    xs = [scene.pixels(point[0]) for point in stroke.points]
    ys = [scene.pixels(point[1]) for point in stroke.points]
    x, y = math.floor(min(xs) - reach), math.floor(min(ys) - reach)
    around = Window(x, y, math.ceil(max(xs) + reach) - x, math.ceil(max(ys) + reach) - y)
    return around.intersect(scene.region)


def covered(stroke: Stroke, part: Window, scene: Scene) -> Plane:
    """Coverage of a stroke over a part of a scene: the largest of its dabs."""
    from nexal.kernels.strokes import stroke_coverage

    points = np.ones((len(stroke.points), 3), np.float32)
    for row, point in zip(points, stroke.points, strict=True):
        row[: len(point)] = point
    points[:, :2] *= np.float32(float(scene.scale))
    return stroke_coverage(
        (part.height, part.width), points, scene.pixels(stroke.radius), stroke.hardness, (part.x, part.y)
    )


def painting_effort(strokes: Sequence[Stroke], scene: Scene) -> float:
    """Nanoseconds that painting takes for each sample of a scene's region."""
    swept = 0.0
    for stroke in strokes:
        count = max(1, len(stroke.points) - 1)
        xs = [scene.pixels(point[0]) for point in stroke.points]
        ys = [scene.pixels(point[1]) for point in stroke.points]
        # Segments that lie as close together as the parts of a picture that are swept at a time are all compared.
        crowded = count * min(1.0, CROWD**2 / max(1.0, (max(xs) - min(xs)) * (max(ys) - min(ys))))
        swept += reached(stroke, scene).area * (15 + 0.0045 * count + 8 * crowded)
    return swept / max(1, scene.region.area)


class TouchUpSettings(Settings):
    strokes: list[Stroke] = setting(list, "Strokes, painted in this order", widget="strokes")

    @field_validator("strokes")
    @classmethod
    def _bounded(cls, value: list[Stroke]) -> list[Stroke]:
        if len(value) > MAX_STROKES:
            raise ValueError(f"at most {MAX_STROKES} strokes are kept in one step; start another")
        return value


@register
class TouchUp(Operation):
    """Paint by hand: on a matte, on alpha alone, on colour alone, or on all.

    plane or picture -> the same. For each stroke, in order: v + (value - v) * coverage * opacity on its channels (all
    when none is named), coverage being the largest of its dabs: 1 up to hardness * radius, 0 from radius on,
    smoothstep between. Pressure scales the radius. Positions and radius in full-resolution pixels; scene values.
    Painting stays inside the data window; ids are painted
    whole or not at all. Raises SettingError where a stroke names a channel that is not there.
    """

    name = "touch_up"
    family = "mattes"
    makes = "same"
    needs = "paint, brush, clean up by hand, erase"
    ports = (Port("matte", "any", "Matte or picture"),)
    Settings = TouchUpSettings

    def unfold(self, settings: TouchUpSettings) -> Sequence[TouchUpSettings]:
        strokes = settings.strokes
        return [
            TouchUpSettings.model_construct(strokes=strokes[start : start + STROKES_TOGETHER])
            for start in range(0, max(1, len(strokes)), STROKES_TOGETHER)
        ]

    def describe(self, inputs: Mapping[str, Description], settings: TouchUpSettings) -> Description:
        description = inputs["matte"]
        for index, stroke in enumerate(settings.strokes):
            for name in stroke.chosen(description):
                if name in description.channels:
                    continue
                remedy = f"there is {', '.join(description.channels[:8])}"
                what = f"there is no channel '{name}'"
                if is_alpha(name):
                    what, remedy = "the picture has no alpha", "give it one with attach_alpha first"
                raise SettingError(what, where=f"setting 'strokes', stroke {index + 1}", remedy=remedy)
        return description

    def effort(self, settings: TouchUpSettings, scene: Scene) -> float:
        return 2 + painting_effort(settings.strokes, scene)

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: TouchUpSettings
    ) -> tuple[str, str] | None:
        painted = any(channel in stroke.chosen(inputs["matte"]) for stroke in settings.strokes)
        return None if painted else ("matte", channel)

    def trait(
        self, channel: str, inputs: Mapping[str, Description], settings: TouchUpSettings, description: Description
    ) -> Trait:
        return inputs["matte"].trait(channel)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: TouchUpSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.strokes import lay

        description = scene.descriptions["matte"]
        result = {name: np.array(inputs["matte"][name], description.sample_type(name), order="C") for name in channels}
        for stroke in settings.strokes:
            scene.work.check()
            names = [name for name in channels if name in stroke.chosen(description)]
            part = reached(stroke, scene)
            if not names or part.empty:
                continue
            coverage = covered(stroke, part, scene)
            for name in names:
                laid, opacity = coverage, stroke.opacity
                if description.trait(name).is_label:
                    # Ids are painted whole or not at all.
                    laid, opacity = (coverage * np.float32(opacity) >= 0.5).astype(np.float32), 1.0
                lay(result[name][part.within(scene.region)], laid, stroke.number(name), opacity)
        return result
