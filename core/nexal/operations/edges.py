"""Operations on alpha, and pictures upon pictures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np

from nexal.kernels.blending import composite, composite_alpha
from nexal.kernels.pointmath import Value, unpremultiplied
from nexal.operations.base import (
    Channels,
    PointOperation,
    Port,
    Scene,
    Settings,
    no_alpha,
    register,
    setting,
)
from nexal.operations.channels import BlendMode
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, main_channels

StackMode = Literal["over", "under", "in", "out", "atop", "xor", "plus", BlendMode]


class AttachAlphaSettings(Settings):
    state: Literal["straight", "premultiply", "premultiplied"] = setting(
        "straight", "Colour stays straight, is multiplied by the alpha, or is premultiplied already"
    )
    invert: bool = setting(False, "Take the alpha turned round")


@register
class AttachAlpha(PointOperation):
    """Give a picture an alpha.

    picture, plane -> the picture with channel A (the plane, or 1 - plane with `invert`), over the picture's windows.
    straight: colour untouched. premultiply: colour times alpha. premultiplied: untouched, and said to be so already.
    """

    name = "attach_alpha"
    family = "edges"
    needs = "use a matte as alpha, cut out"
    ports = (Port("picture", "picture", "Picture"), Port("alpha", "plane", "Its new alpha"))
    Settings = AttachAlphaSettings

    def describe(self, inputs: Mapping[str, Description], settings: AttachAlphaSettings) -> Description:
        picture = inputs["picture"]
        names = tuple(name for name in picture.channels if name != ALPHA_NAME)
        return picture.changed(
            channels=(*names, ALPHA_NAME),
            data=picture.data | {ALPHA_NAME},
            alpha=Alpha.STRAIGHT if settings.state == "straight" else Alpha.PREMULTIPLIED,
            is_plane=False,
        )

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: AttachAlphaSettings
    ) -> dict[str, tuple[str, ...]]:
        colour = tuple(name for name in channels if name != ALPHA_NAME)
        wanted = {"picture": colour} if colour else {}
        if ALPHA_NAME in channels or settings.state == "premultiply":
            wanted["alpha"] = (PLANE_NAME,)
        return wanted

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: AttachAlphaSettings
    ) -> tuple[str, str] | None:
        if channel == ALPHA_NAME:
            return None if settings.invert else ("alpha", PLANE_NAME)
        multiplied = settings.state == "premultiply" and channel not in inputs["picture"].data
        return None if multiplied else ("picture", channel)

    def express(self, values: Mapping[str, Channels], settings: AttachAlphaSettings, scene: Scene) -> Channels:
        result = dict(values.get("picture", {}))
        if "alpha" in values:
            alpha = values["alpha"][PLANE_NAME]
            alpha = np.float32(1) - alpha if settings.invert else alpha
            if settings.state == "premultiply":
                data = scene.descriptions["picture"].data
                result = {name: value if name in data else value * alpha for name, value in result.items()}
            result[ALPHA_NAME] = alpha
        return result


class _ByAlpha(PointOperation):
    """Colour channels against the alpha that belongs to each."""

    ports = (Port("picture", "picture", "Picture with alpha"),)
    becomes: Alpha

    def change(self, colour: Value, alpha: Value) -> Value:
        raise NotImplementedError

    def describe(self, inputs: Mapping[str, Description], settings: Settings) -> Description:
        picture = inputs["picture"]
        if not any(picture.alpha_of(name) for name in picture.colour):
            raise no_alpha("picture")
        return picture.changed(alpha=self.becomes)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Settings
    ) -> dict[str, tuple[str, ...]]:
        picture = inputs["picture"]
        wanted = {*channels, *(picture.alpha_of(name) for name in channels if name in picture.colour)}
        return {"picture": tuple(name for name in picture.channels if name in wanted)}

    def untouched(self, channel: str, inputs: Mapping[str, Description], settings: Settings) -> tuple[str, str] | None:
        picture = inputs["picture"]
        return None if channel in picture.colour and picture.alpha_of(channel) else ("picture", channel)

    def express(self, values: Mapping[str, Channels], settings: Settings, scene: Scene) -> Channels:
        picture, description = values["picture"], scene.descriptions["picture"]
        result = dict(picture)
        for name in description.colour:
            alpha = description.alpha_of(name)
            if name in picture and alpha:
                result[name] = self.change(picture[name], picture[alpha])
        return result


@register
class Premultiply(_ByAlpha):
    """Multiply colour by alpha: c a. Each layer by its own alpha, else by the picture's."""

    name = "premultiply"
    family = "edges"
    needs = "associate alpha"
    becomes = Alpha.PREMULTIPLIED

    def change(self, colour: Value, alpha: Value) -> Value:
        return colour * alpha


@register
class Unpremultiply(_ByAlpha):
    """Divide colour by alpha: c / a where a > 0; elsewhere the colour stays as it is."""

    name = "unpremultiply"
    family = "edges"
    needs = "straight colour from premultiplied"
    becomes = Alpha.STRAIGHT

    def change(self, colour: Value, alpha: Value) -> Value:
        return unpremultiplied(colour, alpha)


class StackSettings(Settings):
    mode: StackMode = setting("over", "How the upper picture meets the lower", widget="modes")
    opacity: float = setting(1.0, "Of the upper picture", ge=0, le=1, low=0, high=1, step=0.01)
    invert_matte: bool = setting(False, "Show the upper picture where the matte removes")


@register
class Stack(PointOperation):
    """Lay a picture over another, by an operator or a blend function, in linear light.

    two pictures (, plane) -> premultiplied picture with alpha, in the display window of `under`. Display origins are
    lined up; outside its data window a picture has alpha 0. A picture without alpha is opaque inside its window.
    The upper picture and its alpha are multiplied by `matte` (1 - matte with `invert_matte`) and `opacity` first. A
    plane counts as grey.

    References: Porter, Duff, SIGGRAPH 1984; W3C, *Compositing and Blending Level 1* (group formula).
    """

    name = "stack"
    family = "edges"
    needs = "over, composite, merge, put on a backdrop"
    ports = (
        Port("under", "picture", "Lower picture"),
        Port("over", "picture", "Upper picture"),
        Port("matte", "plane", "Where the upper picture shows", required=False),
    )
    Settings = StackSettings

    def _colour(self, description: Description) -> list[str]:
        return [name for name in main_channels(description) if name != ALPHA_NAME]

    def describe(self, inputs: Mapping[str, Description], settings: StackSettings) -> Description:
        under, over = inputs["under"], inputs["over"]
        names = list(dict.fromkeys([*self._colour(under), *self._colour(over)]))
        if PLANE_NAME in names and len(names) > 1:
            names.remove(PLANE_NAME)
        data = {
            name
            for name in names
            if all(name in item.data for item in (under, over) if name in item.channels)
            and any(name in item.channels for item in (under, over))
        }
        return under.changed(
            channels=(*names, ALPHA_NAME),
            window=under.window.union(over.window),
            data=frozenset(data | {ALPHA_NAME}),
            alpha=Alpha.PREMULTIPLIED,
            is_plane=False,
        )

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: StackSettings
    ) -> dict[str, tuple[str, ...]]:
        wanted: dict[str, tuple[str, ...]] = {}
        for port in ("under", "over"):
            description = inputs[port]
            # PLANE_NAME stands for every colour channel of a grey picture.
            names = {*channels, ALPHA_NAME, PLANE_NAME}
            chosen = tuple(name for name in description.channels if name in names)
            wanted[port] = chosen or description.channels[:1]
        if "matte" in inputs:
            wanted["matte"] = (PLANE_NAME,)
        return wanted

    def express(self, values: Mapping[str, Channels], settings: StackSettings, scene: Scene) -> Channels:
        under_alpha, over_alpha = (self._alpha(values[port], scene, port) for port in ("under", "over"))
        strength: Value = np.float32(settings.opacity)
        if "matte" in values:
            matte = values["matte"][PLANE_NAME]
            strength = strength * (np.float32(1) - matte if settings.invert_matte else matte)
        description = self.describe(scene.descriptions, settings)
        shown_alpha = over_alpha * strength
        result = {}
        for name in description.channels[:-1]:
            lower = self._premultiplied(name, values["under"], under_alpha, scene.descriptions["under"])
            upper = self._premultiplied(name, values["over"], over_alpha, scene.descriptions["over"]) * strength
            result[name] = composite(settings.mode, lower, under_alpha, upper, shown_alpha)
        result[ALPHA_NAME] = composite_alpha(settings.mode, under_alpha, shown_alpha)
        return result

    @staticmethod
    def _alpha(values: Channels, scene: Scene, port: str) -> Value:
        description = scene.descriptions[port]
        if description.has_alpha:
            return values[ALPHA_NAME]
        window = description.window.scaled(scene.scale)
        if window.contains(scene.region):
            return np.float32(1)
        step = 1 / float(scene.scale)
        across = (scene.x > window.x * step) & (scene.x < window.right * step)
        down = (scene.y > window.y * step) & (scene.y < window.bottom * step)
        return (across & down).astype(np.float32)

    @staticmethod
    def _premultiplied(name: str, values: Channels, alpha: Value, description: Description) -> Value:
        chosen = name if name in values else PLANE_NAME
        if chosen not in values:
            return np.float32(0)
        value = values[chosen]
        return value * alpha if description.alpha is Alpha.STRAIGHT and description.has_alpha else value
