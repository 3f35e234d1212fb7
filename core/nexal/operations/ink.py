"""Ink separations and back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np

from nexal.errors import RecipeError
from nexal.kernels.pointmath import Value, clip, decode, encode, maximum, minimum, safe_divide
from nexal.operations.base import Channels, PointOperation, Port, Scene, Settings, register, setting
from nexal.operations.keying import rgb_names
from nexal.picture import ALPHA_NAME, Description

INKS = ("C", "M", "Y", "K")


class InkSettings(Settings):
    profile: Literal["simple"] = setting("simple", "How colour becomes ink: full grey-component replacement")


def separated(seen: Sequence[Value]) -> dict[str, Value]:
    """Cyan, magenta, yellow and black of display-encoded red, green and blue, by full grey-component replacement."""
    r, g, b = (clip(value, 0, 1) for value in seen)
    light = maximum(maximum(r, g), b)
    inks = {ink: safe_divide(light - value, light) for ink, value in zip(INKS, (r, g, b), strict=False)}
    return inks | {"K": np.float32(1) - light}


def _alpha(description: Description) -> tuple[str, ...]:
    return (ALPHA_NAME,) if description.has_alpha else ()


@register
class InkSplit(PointOperation):
    """Separate a picture into cyan, magenta, yellow and black, 1 being full ink.

    picture -> picture of data C, M, Y, K (and A where there is one). On display-encoded values held in 0..1:
        K = 1 - max(R, G, B); C = (1 - R - K) / (1 - K), M and Y likewise; 0 where K = 1
    """

    name = "ink_split"
    family = "channels"
    needs = "CMYK, separations, cyan magenta yellow black"
    ports = (Port("picture", "picture", "Picture with red, green and blue"),)
    Settings = InkSettings

    def describe(self, inputs: Mapping[str, Description], settings: InkSettings) -> Description:
        picture = inputs["picture"]
        rgb_names(picture, "picture")
        channels = (*INKS, *_alpha(picture))
        return picture.changed(channels=channels, data=frozenset(channels), is_plane=False)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: InkSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"picture": (*rgb_names(inputs["picture"], "picture"), *_alpha(inputs["picture"]))}

    def express(self, values: Mapping[str, Channels], settings: InkSettings, scene: Scene) -> Channels:
        picture = values["picture"]
        names = rgb_names(scene.descriptions["picture"], "picture")
        return separated([encode(picture[name]) for name in names]) | {
            name: picture[name] for name in _alpha(scene.descriptions["picture"])
        }


@register
class InkJoin(PointOperation):
    """Red, green and blue from cyan, magenta, yellow and black.

    picture with C, M, Y, K -> scene-linear picture. Encoded R = (1 - C)(1 - K), G and B likewise; the inverse of
    `ink_split`.
    """

    name = "ink_join"
    family = "channels"
    needs = "RGB from CMYK, ink picture to colour"
    ports = (Port("picture", "picture", "Picture with C, M, Y and K"),)
    Settings = InkSettings

    def describe(self, inputs: Mapping[str, Description], settings: InkSettings) -> Description:
        picture = inputs["picture"]
        missing = [ink for ink in INKS if ink not in picture.channels]
        if missing:
            raise RecipeError(
                f"there is no channel {missing[0]}",
                where="port 'picture'",
                remedy="feed a picture with channels C, M, Y and K",
            )
        alpha = _alpha(picture)
        return picture.changed(channels=("R", "G", "B", *alpha), data=frozenset(alpha), is_plane=False)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: InkSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"picture": (*INKS, *_alpha(inputs["picture"]))}

    def express(self, values: Mapping[str, Channels], settings: InkSettings, scene: Scene) -> Channels:
        picture = values["picture"]
        one = np.float32(1)
        light = one - minimum(picture["K"], one)
        result = {
            name: decode((one - minimum(picture[ink], one)) * light) for name, ink in zip("RGB", INKS, strict=False)
        }
        return result | {name: picture[name] for name in _alpha(scene.descriptions["picture"])}
