"""Operations that turn channels into mattes."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
from pydantic import model_validator

from nexal.errors import SettingError
from nexal.kernels.pointmath import Value, clip, decode, encode, signed_power, smoothstep
from nexal.operations.base import Channels, Domain, PointOperation, Port, Scene, Settings, register, setting
from nexal.operations.channels import in_domain
from nexal.picture import PLANE_NAME, Description, is_alpha


class StretchSettings(Settings):
    black: float = setting(0.0, "What becomes the lower end", low=0, high=1, step=0.001, widget="level")
    white: float = setting(1.0, "What becomes the upper end", low=0, high=1, step=0.001, widget="level")
    middle: float = setting(
        0.5, "Where, between black and white, the half comes from", gt=0, lt=1, low=0.01, high=0.99, step=0.001
    )
    out_black: float = setting(0.0, "The lower end of the result", low=0, high=1, step=0.01)
    out_white: float = setting(1.0, "The upper end of the result", low=0, high=1, step=0.01)
    clip: bool = setting(True, "Hold what lies outside at the ends")
    domain: Domain = setting("display", "Judge colour as it is seen (display) or as light (scene)")

    @model_validator(mode="after")
    def _apart(self) -> StretchSettings:
        if self.black == self.white:
            raise SettingError("black and white are the same value", where="setting 'white'", remedy="move them apart")
        return self


@register
class Stretch(PointOperation):
    """Map a range of values onto another: black point, white point, middle.

    plane H x W -> plane of data; picture -> picture, alpha as it is. Values in the chosen domain, unitless.
        t = (v - black) / (white - black), clipped when `clip`
        out = out_black + sign(t) abs(t)**(log 0.5 / log middle) * (out_white - out_black)
    The colour of a picture is encoded before and decoded after in the display domain, and stays scene-linear.
    Raises SettingError where black equals white.
    """

    name = "stretch"
    family = "mattes"
    needs = "pull the ends in; black point, white point, contrast of a matte"
    ports = (Port("from", "any", "Matte or picture"),)
    Settings = StretchSettings

    def describe(self, inputs: Mapping[str, Description], settings: StretchSettings) -> Description:
        description = inputs["from"]
        return description.as_plane(data=True) if description.is_plane else description

    def express(self, values: Mapping[str, Channels], settings: StretchSettings, scene: Scene) -> Channels:
        description = scene.descriptions["from"]
        if description.is_plane:
            return {
                PLANE_NAME: self._curve(in_domain(values["from"][PLANE_NAME], description, settings.domain), settings)
            }
        result = dict(values["from"])
        for name, value in result.items():
            if is_alpha(name):
                continue
            if settings.domain == "display" and name not in description.data:
                result[name] = decode(self._curve(encode(value), settings))
            else:
                result[name] = self._curve(value, settings)
        return result

    @staticmethod
    def _curve(value: Value, settings: StretchSettings) -> Value:
        span = settings.white - settings.black
        t = (value - np.float32(settings.black)) * np.float32(1 / span)
        if settings.clip:
            t = clip(t, 0, 1)
        exponent = 1.0 if settings.middle == 0.5 else math.log(0.5) / math.log(settings.middle)
        t = signed_power(t, exponent)
        if (settings.out_black, settings.out_white) == (0, 1):
            return t
        return np.float32(settings.out_black) + t * np.float32(settings.out_white - settings.out_black)


class ThresholdSettings(Settings):
    level: float = setting(0.5, "From here on it is 1", low=0, high=1, step=0.001, widget="level")
    softness: float = setting(0.0, "Width of the passage from 0 to 1", ge=0, low=0, high=0.5, step=0.001)
    domain: Domain = setting("display", "Judge colour as it is seen (display) or as light (scene)")


@register
class Threshold(PointOperation):
    """A hard matte: 1 where v >= level, or a smooth passage of width `softness` around it.

    plane H x W -> plane of data.
        v >= level, or smoothstep(level - softness/2, level + softness/2, v)
    """

    name = "threshold"
    family = "mattes"
    needs = "hard matte, two values only"
    ports = (Port("from", "plane", "Matte or channel"),)
    Settings = ThresholdSettings

    def describe(self, inputs: Mapping[str, Description], settings: ThresholdSettings) -> Description:
        return inputs["from"].as_plane(data=True)

    def express(self, values: Mapping[str, Channels], settings: ThresholdSettings, scene: Scene) -> Channels:
        value = in_domain(values["from"][PLANE_NAME], scene.descriptions["from"], settings.domain)
        half = settings.softness / 2
        return {PLANE_NAME: smoothstep(settings.level - half, settings.level + half, value)}
