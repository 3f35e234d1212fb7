"""Ink separations and back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from nexal.errors import RecipeError, SettingError
from nexal.kernels.inking import Intent, to_colour, to_ink
from nexal.kernels.pointmath import Value, clip, decode, encode, maximum, minimum, safe_divide
from nexal.operations.base import Channels, Kind, PointOperation, Port, Scene, Settings, register, setting
from nexal.operations.keying import rgb_names
from nexal.picture import ALPHA_NAME, INKS, Alpha, Description, InkProfile, Trait


class FromSource(BaseModel):
    """The profile that an item carries, by the item's name."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    source: str = Field(alias="from", min_length=1)


class InkSettings(Settings):
    profile: Literal["simple"] | FromSource = setting(
        "simple",
        "How colour becomes ink: simple (full grey-component replacement), or by the ICC profile of a source",
        widget="ink_profile",
    )
    intent: Intent = setting(
        "relative",
        "Colours that cannot be printed, by a profile: relative to paper and black, perceptual or absolute",
        beside="profile",
    )


PROFILE = "profile"
"""Port that an item with a profile comes in by."""


class _Inked(PointOperation):
    """What both ways have in common: the profile, fed by a setting."""

    Settings = InkSettings

    def effort(self, settings: InkSettings, scene: Scene) -> float:
        return 15 if settings.profile == "simple" else 400

    def references(self, settings: InkSettings) -> dict[str, str]:
        return {} if settings.profile == "simple" else {PROFILE: settings.profile.source}

    def referenced_kind(self, port: str) -> Kind:
        return "any"

    @staticmethod
    def _profile(inputs: Mapping[str, Description]) -> InkProfile | None:
        """None for the simple way. Raises SettingError where an item carries none."""
        if PROFILE not in inputs:
            return None
        found = inputs[PROFILE].inks
        if found is None:
            raise SettingError(
                "what it is taken from carries no ink profile",
                where="setting 'profile'",
                remedy="import a CMYK profile (.icc), or a picture that carries one",
            )
        return found


def separated(seen: Sequence[Value]) -> dict[str, Value]:
    """Cyan, magenta, yellow and black of display-encoded red, green and blue, by full grey-component replacement."""
    r, g, b = (clip(value, 0, 1) for value in seen)
    light = maximum(maximum(r, g), b)
    inks = {ink: safe_divide(light - value, light) for ink, value in zip(INKS, (r, g, b), strict=False)}
    return inks | {"K": np.float32(1) - light}


def joined(inks: Sequence[Value]) -> list[Value]:
    """Display-encoded red, green and blue of cyan, magenta, yellow and black: the inverse of `separated`."""
    one = np.float32(1)
    light = one - minimum(inks[3], one)
    return [(one - minimum(ink, one)) * light for ink in inks[:3]]


def _alpha(description: Description) -> tuple[str, ...]:
    return (ALPHA_NAME,) if description.has_alpha else ()


@register
class InkSplit(_Inked):
    """Separate a picture into cyan, magenta, yellow and black, 1 being full ink.

    picture -> picture of data C, M, Y, K (and A where there is one). On display-encoded values held in 0..1, `simple`:
        K = 1 - max(R, G, B); C = (1 - R - K) / (1 - K), M and Y likewise; 0 where K = 1
    or by the tables of an ICC profile that a source holds (`{"from": source}`), from sRGB with the given intent.
    Raises SettingError where the source has none, or one without a way from colour to ink.
    """

    name = "ink_split"
    family = "channels"
    needs = "CMYK, separations, cyan magenta yellow black"
    ports = (Port("picture", "picture", "Picture with red, green and blue"),)
    judges = ("picture",)

    def describe(self, inputs: Mapping[str, Description], settings: InkSettings) -> Description:
        picture = inputs["picture"]
        rgb_names(picture, "picture")
        channels = (*INKS, *_alpha(picture))
        inks = self._profile(inputs)
        # Inks are those of the colour itself, whatever alpha it was multiplied by.
        alpha = Alpha.STRAIGHT if picture.has_alpha else Alpha.NONE
        return picture.changed(channels=channels, data=frozenset(channels), alpha=alpha, is_plane=False, inks=inks)

    def trait(self, channel: str, inputs: object, settings: object, description: object) -> Trait:
        return Trait("ink" if channel in INKS else "alpha")

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: InkSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"picture": (*rgb_names(inputs["picture"], "picture"), *_alpha(inputs["picture"]))}

    def express(self, values: Mapping[str, Channels], settings: InkSettings, scene: Scene) -> Channels:
        picture = values["picture"]
        names = rgb_names(scene.descriptions["picture"], "picture")
        seen = [encode(picture[name]) for name in names]
        profile = self._profile(scene.descriptions)
        inks = (
            dict(zip(INKS, to_ink(seen, profile.read(), settings.intent), strict=True)) if profile else separated(seen)
        )
        return inks | {name: picture[name] for name in _alpha(scene.descriptions["picture"])}


@register
class InkJoin(_Inked):
    """Red, green and blue from cyan, magenta, yellow and black.

    picture with C, M, Y, K -> scene-linear picture. Encoded, `simple`: R = (1 - C)(1 - K), G and B likewise, the
    inverse of `ink_split`; or by the tables of an ICC profile that a source holds (`{"from": source}`), to sRGB with
    the given intent. Raises SettingError where the source has none.
    """

    name = "ink_join"
    family = "channels"
    needs = "RGB from CMYK, ink picture to colour"
    ports = (Port("picture", "picture", "Picture with C, M, Y and K", role="ink"),)

    def describe(self, inputs: Mapping[str, Description], settings: InkSettings) -> Description:
        picture = inputs["picture"]
        missing = [ink for ink in INKS if ink not in picture.channels]
        if missing:
            raise RecipeError(
                f"there is no channel {missing[0]}",
                where="port 'picture'",
                remedy="feed a picture with channels C, M, Y and K",
            )
        self._profile(inputs)
        alpha = _alpha(picture)
        return picture.changed(channels=("R", "G", "B", *alpha), data=frozenset(alpha), is_plane=False, inks=None)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: InkSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"picture": (*INKS, *_alpha(inputs["picture"]))}

    def express(self, values: Mapping[str, Channels], settings: InkSettings, scene: Scene) -> Channels:
        picture = values["picture"]
        profile = self._profile(scene.descriptions)
        inks = [picture[ink] for ink in INKS]
        seen = to_colour(inks, profile.read(), settings.intent) if profile else joined(inks)
        result = {name: decode(value) for name, value in zip("RGB", seen, strict=True)}
        return result | {name: picture[name] for name in _alpha(scene.descriptions["picture"])}
