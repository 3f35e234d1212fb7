"""Colour corrected: grade through a matte, and spill taken away."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np
from pydantic import field_validator

from nexal.colour import LUMINANCE
from nexal.errors import RecipeError
from nexal.kernels.pointmath import Value, lerp, maximum, power, where
from nexal.kernels.screening import SCREENS
from nexal.operations.base import (
    Channels,
    PointOperation,
    Port,
    Scene,
    Settings,
    register,
    setting,
)
from nexal.operations.keying import Screen, rgb_names
from nexal.picture import PLANE_NAME, Description, main_channels

Triple = list[float]


def _triple(default: float, text: str, low: float, high: float) -> Triple:
    triple: Triple = setting(lambda: [default] * 3, text, widget="triple", low=low, high=high, step=0.01)
    return triple


class GradeSettings(Settings):
    exposure: float = setting(0.0, "Gain in powers of two", low=-4, high=4, step=0.05, unit="stops")
    slope: Triple = _triple(1.0, "Factor for red, green, blue", 0, 4)
    offset: Triple = _triple(0.0, "Added to red, green, blue", -0.5, 0.5)
    power: Triple = _triple(1.0, "Exponent of red, green, blue", 0.1, 4)
    saturation: float = setting(1.0, "0 is grey, 1 as it is", ge=0, low=0, high=2, step=0.01)
    invert_matte: bool = setting(False, "Work where the matte removes")

    @field_validator("slope", "offset", "power", mode="before")
    @classmethod
    def _three(cls, value: object) -> object:
        numbers = [value] * 3 if isinstance(value, (int, float)) else value
        if not isinstance(numbers, (list, tuple)) or len(numbers) != 3:
            raise ValueError("one number or three are wanted")
        return list(numbers)

    @field_validator("power")
    @classmethod
    def _positive(cls, value: Triple) -> Triple:
        if min(value) <= 0:
            raise ValueError("a power is above 0")
        return value


@register
class Grade(PointOperation):
    """Correct colour, where asked for through a matte only.

    picture(, plane) -> picture, on scene-linear R, G, B of the picture itself; other channels stay.
        v = 2**exposure * c * slope + offset; v**power where v > 0, else v; then
        luma + saturation (v - luma), luma by Rec.709
        out = lerp(c, v, matte), or 1 - matte with `invert_matte`
    Premultiplied colour is divided by alpha first (where alpha > 0) and multiplied after.
    References: ASC Color Decision List 1.2, without its clamp.
    """

    name = "grade"
    family = "edges"
    needs = "colour correct, exposure, brighten, saturation, slope offset power"
    ports = (Port("picture", "picture", "Picture"), Port("matte", "plane", "Where it works", required=False))
    judges = ("picture",)
    Settings = GradeSettings

    def _names(self, description: Description) -> tuple[str, ...]:
        names = [name for name in main_channels(description) if name not in description.data]
        return rgb_names(description, "picture") if len(names) > 1 else tuple(names)

    def describe(self, inputs: Mapping[str, Description], settings: GradeSettings) -> Description:
        if not self._names(inputs["picture"]):
            raise RecipeError("holds no colour", where="port 'picture'", remedy="feed a picture, not data")
        return inputs["picture"]

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: GradeSettings
    ) -> dict[str, tuple[str, ...]]:
        picture = inputs["picture"]
        names = self._names(picture)
        wanted = {*channels}
        if wanted & {*names}:
            wanted |= {*names}
        result = {"picture": tuple(name for name in picture.channels if name in wanted)}
        if "matte" in inputs and wanted & {*names}:
            result["matte"] = (PLANE_NAME,)
        return result

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: GradeSettings
    ) -> tuple[str, str] | None:
        return None if channel in self._names(inputs["picture"]) else ("picture", channel)

    def express(self, values: Mapping[str, Channels], settings: GradeSettings, scene: Scene) -> Channels:
        picture, description = values["picture"], scene.descriptions["picture"]
        names = self._names(description)
        result = dict(picture)
        if not all(name in picture for name in names):
            return result
        for name, done in zip(names, self._graded([picture[name] for name in names], settings), strict=True):
            result[name] = done
            if "matte" in values:
                matte = values["matte"][PLANE_NAME]
                result[name] = lerp(picture[name], done, np.float32(1) - matte if settings.invert_matte else matte)
        return result

    @staticmethod
    def _graded(planes: Sequence[Value], settings: GradeSettings) -> list[Value]:
        graded = []
        for index, plane in enumerate(planes):
            gain = np.float32(2**settings.exposure * settings.slope[index])
            value = plane * gain + np.float32(settings.offset[index])
            if settings.power[index] != 1:
                value = where(value > 0, power(maximum(value, np.float32(0)), settings.power[index]), value)
            graded.append(value)
        if settings.saturation != 1 and len(graded) == 3:
            luma: Value = sum(np.float32(w) * v for w, v in zip(LUMINANCE.values(), graded, strict=True))
            graded = [lerp(luma, value, np.float32(settings.saturation)) for value in graded]
        return graded


class DespillSettings(Settings):
    screen: Screen = setting("green", "Colour that spilled")
    limit: Literal["average", "max"] = setting("average", "What the screen's channel is held to")
    amount: float = setting(1.0, "How much of the spill goes", ge=0, le=1, low=0, high=1, step=0.01)
    keep_luminance: float = setting(
        0.0, "How much of the luminance that goes is given back as grey", ge=0, le=1, low=0, high=1, step=0.01
    )


@register
class Despill(PointOperation):
    """Take the screen's light off the subject.

    picture -> picture, in linear light; premultiplied or straight alike.
        S' = S - amount max(0, S - limit), limit being the mean or the larger of the two other channels
    `keep_luminance` adds that part of the lost Rec.709 luminance to all three channels.
    """

    name = "despill"
    family = "edges"
    needs = "spill suppression, green edge, remove the screen's colour"
    ports = (Port("picture", "picture", "Picture"),)
    Settings = DespillSettings

    def describe(self, inputs: Mapping[str, Description], settings: DespillSettings) -> Description:
        rgb_names(inputs["picture"], "picture")
        return inputs["picture"]

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: DespillSettings
    ) -> dict[str, tuple[str, ...]]:
        names = rgb_names(inputs["picture"], "picture")
        wanted = {*channels, *names} if {*channels} & {*names} else {*channels}
        return {"picture": tuple(name for name in inputs["picture"].channels if name in wanted)}

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: DespillSettings
    ) -> tuple[str, str] | None:
        return None if channel in rgb_names(inputs["picture"], "picture") else ("picture", channel)

    def express(self, values: Mapping[str, Channels], settings: DespillSettings, scene: Scene) -> Channels:
        result = dict(values["picture"])
        names = rgb_names(scene.descriptions["picture"], "picture")
        if not all(name in result for name in names):
            return result
        own, first, second = SCREENS[settings.screen]
        a, b = result[names[first]], result[names[second]]
        limit = maximum(a, b) if settings.limit == "max" else (a + b) * np.float32(0.5)
        spill = maximum(result[names[own]] - limit, np.float32(0)) * np.float32(settings.amount)
        result[names[own]] = result[names[own]] - spill
        if settings.keep_luminance:
            weight = list(LUMINANCE.values())[own]
            back = spill * np.float32(weight * settings.keep_luminance)
            for name in names:
                result[name] = result[name] + back
        return result
