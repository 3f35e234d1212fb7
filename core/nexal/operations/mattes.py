"""Operations that turn channels into mattes."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from nexal.errors import SettingError
from nexal.kernels.pointmath import Value, clip, decode, encode, signed_power, smoothstep, unpremultiplied
from nexal.operations.base import (
    Channels,
    Domain,
    Operation,
    PointOperation,
    Port,
    Scene,
    Settings,
    no_alpha,
    register,
    setting,
)
from nexal.operations.channels import in_domain
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane, Trait, Window, is_alpha, main_channels


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
    The colour of a picture is encoded before and decoded after in the display domain, and stays scene-linear;
    premultiplied colour is divided by alpha first (where alpha > 0) and multiplied after.
    Raises SettingError where black equals white.
    """

    name = "stretch"
    family = "mattes"
    makes = "same"
    needs = "pull the ends in; black point, white point, contrast of a matte"
    ports = (Port("from", "any", "Matte or picture"),)
    judges = ("from",)
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

    def trait(
        self, channel: str, inputs: Mapping[str, Description], settings: StretchSettings, description: Description
    ) -> Trait:
        trait = super().trait(channel, inputs, settings, description)
        if channel not in description.data or is_alpha(channel):
            return trait
        ends = sorted((settings.out_black, settings.out_white))
        return Trait("mask", span=lambda: (ends[0], ends[1]) if ends[0] < ends[1] and ends != [0, 1] else None)

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
    makes = "plane"
    needs = "hard matte, two values only"
    ports = (Port("from", "plane", "Matte or channel"),)
    Settings = ThresholdSettings

    def describe(self, inputs: Mapping[str, Description], settings: ThresholdSettings) -> Description:
        return inputs["from"].as_plane(data=True)

    def express(self, values: Mapping[str, Channels], settings: ThresholdSettings, scene: Scene) -> Channels:
        value = in_domain(values["from"][PLANE_NAME], scene.descriptions["from"], settings.domain)
        half = settings.softness / 2
        return {PLANE_NAME: smoothstep(settings.level - half, settings.level + half, value)}


class GrowSettings(Settings):
    distance: float = setting(
        1.0, "Outward, or inward where below 0", ge=-500, le=500, low=-20, high=20, step=0.1, unit="px"
    )
    shape: Literal["round", "square"] = setting("round", "Form of the element")


@register
class Grow(Operation):
    """Grow or shrink a matte by fractions of a pixel.

    plane -> plane of data; with `picture`, that picture with the grown matte as its alpha: its colour is divided by the
    alpha it had, carried outward from where that was above 0 (as `bleed` does), and multiplied again where it was
    premultiplied. Grey dilation (distance > 0) or erosion (< 0) with a flat disc or square; the fractional
    part blends between the results of the two whole sizes. The border of the data window neither grows nor shrinks; a
    sample that is no number is passed over, and stays none where no number is within reach.
    References: Serra, *Image Analysis and Mathematical Morphology*, 1982.
    """

    name = "grow"
    family = "mattes"
    makes = "plane"
    needs = "dilate, erode, choke, spread, shrink the edge"
    ports = (
        Port("matte", "plane", "Matte"),
        Port("picture", "picture", "Picture whose alpha the grown matte becomes", required=False),
    )
    Settings = GrowSettings

    def _colour(self, description: Description) -> list[str]:
        return [name for name in main_channels(description) if name not in description.data]

    def describe(self, inputs: Mapping[str, Description], settings: GrowSettings) -> Description:
        picture = inputs.get("picture")
        if picture is None:
            return inputs["matte"].as_plane(data=True)
        if not picture.has_alpha:
            raise no_alpha("picture")
        return picture.changed(channels=(*self._colour(picture), ALPHA_NAME), data=frozenset({ALPHA_NAME}))

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: GrowSettings
    ) -> dict[str, tuple[str, ...]]:
        wanted: dict[str, tuple[str, ...]] = {"matte": (PLANE_NAME,)}
        if "picture" in inputs and any(name != ALPHA_NAME for name in channels):
            wanted["picture"] = (*self._colour(inputs["picture"]), ALPHA_NAME)
        return wanted

    def effort(self, settings: GrowSettings, scene: Scene) -> float:
        distance = scene.pixels(abs(settings.distance))
        runs = min(12, 3 + 0.25 * math.ceil(distance)) if settings.shape == "round" else 2 * math.log2(2 * distance + 2)
        between = 0 if distance.is_integer() else 4 + 0.1 * runs
        return 4 + runs + between + (80 if "picture" in scene.descriptions else 0)

    def input_region(self, port: str, region: Window, scene: Scene, settings: GrowSettings) -> Window:
        around = region.grow(math.ceil(scene.pixels(abs(settings.distance))) + (8 if port == "picture" else 0))
        return around.intersect(scene.descriptions[port].window.scaled(scene.scale)).union(region)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: GrowSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.morphology import grow

        given = self.input_region("matte", scene.region, scene, settings)
        grown = grow(
            inputs["matte"][PLANE_NAME], scene.pixels(settings.distance), round_element=settings.shape == "round"
        )
        matte = grown[scene.region.within(given)]
        if "picture" not in scene.descriptions:
            return {PLANE_NAME: matte}
        made = {ALPHA_NAME: matte}
        if "picture" in inputs:
            made |= self._carried(inputs["picture"], matte, settings, scene)
        return {name: made[name] for name in channels}

    def _carried(
        self, picture: Mapping[str, Plane], matte: Plane, settings: GrowSettings, scene: Scene
    ) -> dict[str, Plane]:
        """Colour for the grown alpha, in the state of the picture."""
        from nexal.kernels.nearest import carried

        description = scene.descriptions["picture"]
        cut = scene.region.within(self.input_region("picture", scene.region, scene, settings))
        names = self._colour(description)
        alpha = picture[ALPHA_NAME]
        premultiplied = description.alpha is Alpha.PREMULTIPLIED
        planes = [picture[name] for name in names]
        if premultiplied:
            planes = [unpremultiplied(plane, alpha) for plane in planes]
        reach = scene.pixels(abs(settings.distance)) + 2
        planes = [plane[cut] for plane in carried(planes, alpha > 0, reach, scene.pixels(1.0))]
        return {name: plane * matte if premultiplied else plane for name, plane in zip(names, planes, strict=True)}


Area = Annotated[float, Field(ge=0)]
MOST_SPECK = 100.0
"""Pixels below which anything may be a speck, where that is found from the matte."""


class DespeckleSettings(Settings):
    islands: Area | Literal["auto"] = setting(
        20.0, "Specks smaller than this go; auto spares what is long and thin", unit="px²"
    )
    holes: Area | Literal["auto"] = setting(
        20.0, "Holes smaller than this are filled; auto spares what is long and thin", unit="px²"
    )
    level: float = setting(0.5, "From here on a pixel belongs to the matte", low=0, high=1, step=0.01, widget="level")


@register
class Despeckle(Operation):
    """Drop specks and fill holes by their size.

    plane -> plane of data. Connected areas (8-way) at or above `level` that are smaller than `islands` become 0, those
    below it that are smaller than `holes` become 1; everything else keeps its greys. Sizes in full-resolution px². With
    `auto` a size is 100 px², or that of the smallest area that is long and thin (its longer side at least 8 px, at most
    two fifths of the square on it), whichever is less, so that hairs and the gaps between them stay.
    """

    name = "despeckle"
    family = "mattes"
    makes = "plane"
    needs = "remove specks, dust, fill holes, clean a matte"
    ports = (Port("matte", "plane", "Matte"),)
    whole = True
    nanoseconds = 40
    scratch_bytes = 12
    Settings = DespeckleSettings

    def describe(self, inputs: Mapping[str, Description], settings: DespeckleSettings) -> Description:
        return inputs["matte"].as_plane(data=True)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: DespeckleSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.morphology import small_areas

        matte = inputs["matte"][PLANE_NAME]
        mask = matte >= np.float32(settings.level)
        islands, holes = (
            limit_of(part, size, float(scene.scale))
            for part, size in ((mask, settings.islands), (~mask, settings.holes))
        )
        result = np.where(small_areas(mask, islands), np.float32(0), matte)
        return {PLANE_NAME: np.where(small_areas(~mask, holes), np.float32(1), result)}


def limit_of(mask: NDArray[np.bool_], size: float | Literal["auto"], scale: float) -> float:
    """Pixels of this scale below which an area of a mask H x W is taken for a speck."""
    from nexal.kernels.morphology import speck_limit

    return speck_limit(mask, MOST_SPECK * scale**2) if size == "auto" else size * scale**2
