"""Operations that make a picture from nothing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np
from pydantic import field_validator, model_validator

from nexal.errors import SettingError
from nexal.kernels.pointmath import clip
from nexal.operations.base import Channels, Operation, PointOperation, Port, Scene, Settings, register, setting
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane, Window

LIKE = Port("like", "any", "Picture whose size is taken", required=False)


class SizedSettings(Settings):
    width: int = setting(1920, "Width where no picture gives one", ge=1, le=32768, unit="px")
    height: int = setting(1080, "Height where no picture gives one", ge=1, le=32768, unit="px")


def sized(inputs: Mapping[str, Description], settings: SizedSettings) -> Description:
    """An empty description of the size of `like`, else of the settings."""
    if "like" in inputs:
        like = inputs["like"]
        return Description((), like.display, like.display, origin=like.origin)
    window = Window(0, 0, settings.width, settings.height)
    return Description((), window, window)


class ConstantSettings(SizedSettings):
    colour: list[float] = setting(
        lambda: [0.0, 0.0, 0.0], "One value, red green blue, or red green blue alpha; scene-linear", widget="colour"
    )

    @field_validator("colour")
    @classmethod
    def _count(cls, value: list[float]) -> list[float]:
        if len(value) not in (1, 3, 4):
            raise ValueError("one, three or four numbers are wanted")
        return value


@register
class Constant(PointOperation):
    """One colour all over: one number gives a plane of data, three RGB, four RGBA (straight). Scene-linear."""

    name = "constant"
    family = "channels"
    needs = "a plain colour, a solid, a fill"
    ports = (LIKE,)
    Settings = ConstantSettings

    def describe(self, inputs: Mapping[str, Description], settings: ConstantSettings) -> Description:
        base = sized(inputs, settings)
        count = len(settings.colour)
        if count == 1:
            return base.as_plane(data=True)
        alpha = count == 4
        return base.changed(
            channels=("R", "G", "B", ALPHA_NAME)[:count],
            data=frozenset({ALPHA_NAME}) if alpha else frozenset(),
            alpha=Alpha.STRAIGHT if alpha else Alpha.NONE,
        )

    def wants(self, channels: object, inputs: object, settings: ConstantSettings) -> dict[str, tuple[str, ...]]:
        return {}

    def express(self, values: Mapping[str, Channels], settings: ConstantSettings, scene: Scene) -> Channels:
        names = (PLANE_NAME,) if len(settings.colour) == 1 else ("R", "G", "B", ALPHA_NAME)
        return {name: np.float32(number) for name, number in zip(names, settings.colour, strict=False)}


class RampSettings(SizedSettings):
    start: tuple[float, float] = setting((0.0, 0.0), "Where it is 0; the middle of a radial ramp", widget="point")
    end: tuple[float, float] = setting((1920.0, 0.0), "Where it is 1", widget="point")
    profile: Literal["linear", "smooth", "radial"] = setting("linear", "How it rises")

    @model_validator(mode="after")
    def _apart(self) -> RampSettings:
        if self.start == self.end:
            raise SettingError("start and end are the same point", where="setting 'end'", remedy="move them apart")
        return self


@register
class Ramp(PointOperation):
    """A ramp from 0 at `start` to 1 at `end`, held outside. -> plane of data.

    linear: t = projection of the pixel centre on the line from start to end; smooth: 3t^2 - 2t^3;
    radial: distance from start over the distance between start and end. Positions in full-resolution pixels.
    """

    name = "ramp"
    family = "channels"
    makes = "plane"
    needs = "gradient, wipe, falloff"
    ports = (LIKE,)
    Settings = RampSettings

    def describe(self, inputs: Mapping[str, Description], settings: RampSettings) -> Description:
        return sized(inputs, settings).as_plane(data=True)

    def wants(self, channels: object, inputs: object, settings: RampSettings) -> dict[str, tuple[str, ...]]:
        return {}

    def express(self, values: Mapping[str, Channels], settings: RampSettings, scene: Scene) -> Channels:
        dx, dy = settings.end[0] - settings.start[0], settings.end[1] - settings.start[1]
        x, y = scene.x - np.float32(settings.start[0]), scene.y - np.float32(settings.start[1])
        length = dx * dx + dy * dy
        if settings.profile == "radial":
            t = clip(np.sqrt(x * x + y * y) * np.float32(length**-0.5), 0, 1)
        else:
            t = clip(x * np.float32(dx / length) + y * np.float32(dy / length), 0, 1)
        if settings.profile == "smooth":
            t = t * t * (np.float32(3) - np.float32(2) * t)
        return {PLANE_NAME: t}


class NoiseSettings(SizedSettings):
    seed: int = setting(1, "Another number gives another noise", ge=0, le=1_000_000)
    scale: float = setting(100.0, "Length of the largest features", gt=0, low=2, high=500, step=1, unit="px")
    octaves: int = setting(4, "How many finer layers, each half as large and strong", ge=1, le=10)
    contrast: float = setting(1.0, "Spread about the middle", ge=0, low=0, high=4, step=0.05)


@register
class Noise(Operation):
    """Soft clouds of gradient noise. -> plane of data in 0..1, the same at every scale and region.

    clamp(0.5 + contrast * n / 2, 0, 1), n in -1..1 being the octaves' weighted sum at the pixel's centre.
    References: K. Perlin, *Improving Noise*, SIGGRAPH 2002.
    """

    name = "noise"
    family = "channels"
    makes = "plane"
    needs = "clouds, grain, break up, texture"
    ports = (LIKE,)
    Settings = NoiseSettings

    def describe(self, inputs: Mapping[str, Description], settings: NoiseSettings) -> Description:
        return sized(inputs, settings).as_plane(data=True)

    def effort(self, settings: NoiseSettings, scene: Scene) -> float:
        return 5 + 200 * settings.octaves

    def wants(self, channels: object, inputs: object, settings: NoiseSettings) -> dict[str, tuple[str, ...]]:
        return {}

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: NoiseSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.clouds import clouds

        shape = (scene.region.height, scene.region.width)
        start = (float(scene.x[0, 0]), float(scene.y[0, 0]))
        value = clouds(shape, start, 1 / float(scene.scale), settings.scale, settings.octaves, settings.seed)
        return {PLANE_NAME: clip(np.float32(0.5) + value * np.float32(settings.contrast / 2), 0, 1)}
