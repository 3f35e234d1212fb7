"""Mattes pulled from a picture: by a coloured screen, by hue, by luminance, by difference from a clean plate."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any, Literal

import numpy as np
from pydantic import model_validator

from nexal.colour import LUMINANCE
from nexal.errors import RecipeError, SettingError
from nexal.kernels.oklab import oklab_ab
from nexal.kernels.pointmath import Value, absolute, clip, encode, maximum, safe_divide, smoothstep, where
from nexal.kernels.screening import screen_difference
from nexal.operations.base import (
    Channels,
    Domain,
    PointOperation,
    Port,
    Scene,
    Settings,
    joined_window,
    register,
    setting,
)
from nexal.picture import ALPHA_NAME, PLANE_NAME, Description, main_channels, main_channels_of

Screen = Literal["green", "blue", "red"]
Rgb = tuple[float, float, float]


def rgb_names(description: Description, port: str) -> tuple[str, str, str]:
    """Names of the picture's own red, green and blue channels. Raises RecipeError where one is missing."""
    found = _rgb_of(description.channels)
    if found is None:
        raise RecipeError(
            f"red, green and blue are wanted, and there is {', '.join(main_channels(description)[:6])}",
            where=f"port '{port}'",
            remedy="feed a picture with channels R, G and B",
        )
    return found


@lru_cache(256)
def _rgb_of(channels: tuple[str, ...]) -> tuple[str, str, str] | None:
    own = main_channels_of(channels)
    r, g, b = (next((name for name in own if name.rpartition(".")[2] == wanted), None) for wanted in "RGB")
    return None if r is None or g is None or b is None else (r, g, b)


class _Pull(PointOperation):
    """A plane of data from the red, green and blue of the port `picture` and, where fed, of `clean`."""

    judges = ("picture", "clean")

    def describe(self, inputs: Mapping[str, Description], settings: Any) -> Description:
        for port, description in inputs.items():
            rgb_names(description, port)
        return inputs["picture"].changed(window=joined_window(inputs)).as_plane(data=True)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Any
    ) -> dict[str, tuple[str, ...]]:
        return {port: rgb_names(description, port) for port, description in inputs.items()}

    @staticmethod
    def rgb(values: Mapping[str, Channels], scene: Scene, port: str) -> list[Value]:
        return [values[port][name] for name in rgb_names(scene.descriptions[port], port)]


class ScreenPullSettings(Settings):
    screen: Screen = setting("green", "Colour of the screen")
    balance: float = setting(
        0.0, "Measured against the larger of the two other channels (0) or their mean (1)", ge=0, le=1, step=0.01
    )
    reference: Rgb | None = setting(
        None, "Scene-linear colour of the screen, where no clean plate is fed", widget="colour", sampled=True
    )
    black: float = setting(0.0, "What becomes fully removed", low=0, high=1, step=0.001, widget="level")
    white: float = setting(1.0, "What becomes fully kept", low=0, high=1, step=0.001, widget="level")

    @model_validator(mode="after")
    def _apart(self) -> ScreenPullSettings:
        if self.black == self.white:
            raise SettingError("black and white are the same value", where="setting 'white'", remedy="move them apart")
        return self


@register
class ScreenPull(_Pull):
    """Pull a matte off a green, blue or red screen.

    picture(, clean picture) -> plane of data. In linear light, S being the screen's channel, o1 and o2 the others:
        d = S - lerp(max(o1, o2), (o1 + o2) / 2, balance); d0 the same for the reference
        alpha = 1 - clamp(d / d0, 0, 1), then stretched from black..white to 0..1 and clipped
    `clean` gives d0 for each pixel, so that the screen's own unevenness cancels; else `reference` does; without
    either d0 is 1. Where the clean plate does not show the screen (d0 <= 0) all is kept.
    Raises SettingError where the reference is not of the screen's colour.
    """

    name = "screen_pull"
    family = "mattes"
    makes = "plane"
    needs = "key a green screen, blue screen; matte from a coloured backing; clean plate"
    ports = (
        Port("picture", "picture", "Picture before a coloured screen"),
        Port("clean", "picture", "The screen without the subject", required=False),
    )
    Settings = ScreenPullSettings

    def describe(self, inputs: Mapping[str, Description], settings: ScreenPullSettings) -> Description:
        if "clean" not in inputs and self._constant(settings) <= 0:
            raise SettingError(
                f"this colour is not {settings.screen}: its screen channel is not above the others",
                where="setting 'reference'",
                remedy="pick it from the bare screen, or choose the other screen",
            )
        return super().describe(inputs, settings)

    @staticmethod
    def _constant(settings: ScreenPullSettings) -> float:
        if settings.reference is None:
            return 1.0
        return float(screen_difference(settings.reference, settings.screen, settings.balance))

    def express(self, values: Mapping[str, Channels], settings: ScreenPullSettings, scene: Scene) -> Channels:
        d = screen_difference(self.rgb(values, scene, "picture"), settings.screen, settings.balance)
        if "clean" in values:
            d0 = screen_difference(self.rgb(values, scene, "clean"), settings.screen, settings.balance)
            share = where(d0 > 0, safe_divide(d, d0), np.float32(0))
        else:
            share = d * np.float32(1 / self._constant(settings))
        alpha = np.float32(1) - clip(share, 0, 1)
        if (settings.black, settings.white) != (0, 1):
            alpha = clip((alpha - np.float32(settings.black)) * np.float32(1 / (settings.white - settings.black)), 0, 1)
        return {PLANE_NAME: alpha}


class HuePullSettings(Settings):
    colour: Rgb = setting((0.1, 0.4, 0.1), "Scene-linear colour to remove", widget="colour", sampled=True)
    tolerance: float = setting(0.04, "Distance up to which it is 0", ge=0, low=0, high=0.3, step=0.001)
    softness: float = setting(0.06, "Width of the passage from 0 to 1", ge=0, low=0, high=0.3, step=0.001)


@register
class HuePull(_Pull):
    """Remove a hue, however light or dark it is.

    picture -> plane of data. Distance of the pixel from `colour` in the a, b plane of OKLab, from scene-linear
    Rec.709: 0 within `tolerance`, 1 beyond `tolerance + softness`, smoothstep between.
    References: B. Ottosson, *A perceptual color space for image processing*, 2020.
    """

    name = "hue_pull"
    family = "mattes"
    makes = "plane"
    needs = "key by hue, matte from a colour, chroma distance"
    ports = (Port("picture", "picture", "Picture"),)
    Settings = HuePullSettings

    def express(self, values: Mapping[str, Channels], settings: HuePullSettings, scene: Scene) -> Channels:
        a, b = oklab_ab(*self.rgb(values, scene, "picture"))
        a0, b0 = oklab_ab(*(np.float32(number) for number in settings.colour))
        distance = np.sqrt((a - a0) ** 2 + (b - b0) ** 2)
        return {PLANE_NAME: smoothstep(settings.tolerance, settings.tolerance + settings.softness, distance)}


class LumaPullSettings(Settings):
    low: float = setting(0.5, "Darkest that is kept", low=0, high=1, step=0.001, widget="level")
    high: float = setting(1.0, "Brightest that is kept", low=0, high=1, step=0.001, widget="level")
    low_softness: float = setting(0.1, "Passage below the darkest", ge=0, low=0, high=0.5, step=0.001)
    high_softness: float = setting(0.0, "Passage above the brightest", ge=0, low=0, high=0.5, step=0.001)
    domain: Domain = setting("display", "Judge colour as it is seen (display) or as light (scene)")

    @model_validator(mode="after")
    def _ordered(self) -> LumaPullSettings:
        if self.low > self.high:
            raise SettingError("low is above high", where="setting 'low'", remedy="lower it, or raise high")
        return self


@register
class LumaPull(PointOperation):
    """A matte by luminance: 1 inside a band.

    picture or plane -> plane of data. v = Rec.709 luminance of R, G, B (or the plane itself), encoded in the display
    domain; smoothstep(low - low_softness, low, v) (1 - smoothstep(high, high + high_softness, v)), both ends inside.
    """

    name = "luma_pull"
    family = "mattes"
    makes = "plane"
    needs = "key by brightness, highlights, shadows"
    ports = (Port("picture", "any", "Picture or channel"),)
    judges = ("picture",)
    Settings = LumaPullSettings

    def _names(self, description: Description) -> tuple[str, ...]:
        colour = [name for name in main_channels(description) if name.rpartition(".")[2] != ALPHA_NAME]
        return tuple(colour) if len(colour) == 1 else rgb_names(description, "picture")

    def describe(self, inputs: Mapping[str, Description], settings: LumaPullSettings) -> Description:
        self._names(inputs["picture"])
        return inputs["picture"].as_plane(data=True)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: LumaPullSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"picture": self._names(inputs["picture"])}

    def express(self, values: Mapping[str, Channels], settings: LumaPullSettings, scene: Scene) -> Channels:
        description = scene.descriptions["picture"]
        names = self._names(description)
        planes = [values["picture"][name] for name in names]
        weights = list(LUMINANCE.values()) if len(planes) == 3 else [1.0]
        value: Value = sum(plane * np.float32(weight) for plane, weight in zip(planes, weights, strict=True))
        if settings.domain == "display" and not all(name in description.data for name in names):
            value = encode(value)
        # At the ends themselves the band holds: a passage of no width is a step that includes its end.
        matte = smoothstep(settings.low - settings.low_softness, settings.low, value)
        upper = (
            smoothstep(settings.high, settings.high + settings.high_softness, value)
            if settings.high_softness
            else where(value > np.float32(settings.high), np.float32(1), np.float32(0))
        )
        return {PLANE_NAME: matte * (np.float32(1) - upper)}


class DifferencePullSettings(Settings):
    tolerance: float = setting(0.02, "Difference up to which it is 0", ge=0, low=0, high=0.5, step=0.001)
    softness: float = setting(0.08, "Width of the passage from 0 to 1", ge=0, low=0, high=0.5, step=0.001)


@register
class DifferencePull(_Pull):
    """A matte of what differs from a clean plate.

    two pictures -> plane of data. The largest difference of R, G, B in linear light, then
    smoothstep(tolerance, tolerance + softness).
    """

    name = "difference_pull"
    family = "mattes"
    makes = "plane"
    needs = "difference from a clean plate, what has changed"
    ports = (Port("picture", "picture", "Picture"), Port("clean", "picture", "The same without the subject"))
    Settings = DifferencePullSettings

    def express(self, values: Mapping[str, Channels], settings: DifferencePullSettings, scene: Scene) -> Channels:
        pairs = zip(self.rgb(values, scene, "picture"), self.rgb(values, scene, "clean"), strict=True)
        r, g, b = (absolute(one - other) for one, other in pairs)
        largest = maximum(maximum(r, g), b)
        return {PLANE_NAME: smoothstep(settings.tolerance, settings.tolerance + settings.softness, largest)}
