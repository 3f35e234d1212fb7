"""Operations that move, combine and weigh channels."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from nexal.colour import LUMINANCE
from nexal.errors import SettingError, nearest
from nexal.kernels.blending import BLENDS
from nexal.kernels.pointmath import Value, clip, encode, lerp, maximum, minimum, power
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
    without_alpha,
)
from nexal.picture import (
    ALPHA_NAME,
    PLANE_NAME,
    Alpha,
    Description,
    Span,
    Trait,
    is_alpha,
    named_as_colour,
)

BlendMode = Literal[
    "normal",
    "multiply",
    "screen",
    "overlay",
    "darken",
    "lighten",
    "color-dodge",
    "color-burn",
    "hard-light",
    "soft-light",
    "difference",
    "exclusion",
    "add",
    "subtract",
    "divide",
    "average",
]


def in_domain(value: Value, description: Description, domain: Domain) -> Value:
    """A plane's values as a matte operation sees them: colour encoded for `display`, data as it is."""
    return encode(value) if domain == "display" and not description.all_data else value


class RoutedChannel(BaseModel):
    """What one destination channel of `route` is made of."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    source: str | None = Field(None, alias="from")
    value: float | None = None
    invert: bool = False

    @model_validator(mode="after")
    def _one(self) -> RoutedChannel:
        if (self.source is None) == (self.value is None):
            raise ValueError("give either an address (from) or a number (value)")
        return self


class RouteSettings(Settings):
    to: dict[str, RoutedChannel] = setting(dict, "What each channel of the result is made of", widget="routes")
    keep: bool = setting(True, "Other channels of the base stay")

    @field_validator("to")
    @classmethod
    def _named(cls, value: dict[str, RoutedChannel]) -> dict[str, RoutedChannel]:
        for name in value:
            if not name or name != name.strip() or any(not part for part in name.split(".")):
                raise ValueError(f"'{name}' is not a channel name")
        return value


@register
class Route(PointOperation):
    """Put any channel anywhere, from any picture; or a number, or a channel turned round.

    Windows: that of the base and of everything routed in; outside its own a channel is 0. Nothing is encoded or
    premultiplied on the way. The alpha state is the base's, else that of the picture that alpha is routed from.
    """

    name = "route"
    family = "channels"
    needs = "swap, shuffle, merge or assemble channels; put an extra channel into a picture"
    ports = (Port("base", "picture", "Picture whose channels are replaced or added to", required=False, role=""),)
    Settings = RouteSettings

    def references(self, settings: RouteSettings) -> dict[str, str]:
        return {f"to.{name}": feed.source for name, feed in settings.to.items() if feed.source is not None}

    def describe(self, inputs: Mapping[str, Description], settings: RouteSettings) -> Description:
        if not inputs:
            raise SettingError(
                "nothing gives this picture a size", where="port 'base'", remedy="feed a base or route one channel in"
            )
        first = next(iter(inputs.values()))
        base = inputs.get("base")
        kept = base.channels if base and settings.keep else ()
        channels = tuple(dict.fromkeys([*kept, *settings.to]))
        if not channels:
            raise SettingError("leaves no channel", where="setting 'to'", remedy="name a channel to make")
        data = set(base.data) if base and settings.keep else set()
        for name, _feed in settings.to.items():
            data.discard(name)
            source = inputs.get(f"to.{name}")
            if is_alpha(name) or (source.all_data if source else not named_as_colour(name)):
                data.add(name)
        donor = inputs.get(f"to.{ALPHA_NAME}")
        states = [item.alpha for item in (base, donor) if item and item.alpha is not Alpha.NONE]
        result = first.changed(
            channels=channels,
            data=frozenset(data),
            window=joined_window(inputs),
            alpha=states[0] if states else Alpha.STRAIGHT,
            is_plane=False,
        )
        return without_alpha(result)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: RouteSettings
    ) -> dict[str, tuple[str, ...]]:
        wanted: dict[str, tuple[str, ...]] = {
            f"to.{name}": (PLANE_NAME,) for name in channels if f"to.{name}" in inputs
        }
        kept = tuple(name for name in channels if name not in settings.to)
        if kept:
            wanted["base"] = kept
        return wanted

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: RouteSettings
    ) -> tuple[str, str] | None:
        feed = settings.to.get(channel)
        if feed is None:
            return "base", channel
        return (f"to.{channel}", PLANE_NAME) if feed.source is not None and not feed.invert else None

    def express(self, values: Mapping[str, Channels], settings: RouteSettings, scene: Scene) -> Channels:
        result = dict(values.get("base", {}))
        for name, feed in settings.to.items():
            port = f"to.{name}"
            if port in values or feed.value is not None:
                value = values[port][PLANE_NAME] if port in values else np.float32(feed.value or 0)
                result[name] = np.float32(1) - value if feed.invert else value
        return result


@register
class CopyChannel(PointOperation):
    """A channel as a step of its own, by its own name: v.

    plane -> the same plane, sample for sample. Needed rarely: a channel can be named by its address wherever it is
    wanted.
    """

    name = "copy_channel"
    family = "channels"
    makes = "plane"
    needs = "copy the channel, duplicate a channel, keep a channel as a step"
    ports = (Port("from", "plane", "The channel"),)

    def describe(self, inputs: Mapping[str, Description], settings: Settings) -> Description:
        return inputs["from"]

    def untouched(self, channel: str, inputs: Mapping[str, Description], settings: Settings) -> tuple[str, str] | None:
        return "from", channel

    def express(self, values: Mapping[str, Channels], settings: Settings, scene: Scene) -> Channels:
        return values["from"]


class CrossSettings(Settings):
    mode: BlendMode = setting("multiply", "How the two channels meet", widget="modes")
    invert_a: bool = setting(False, "Turn the first channel round before")
    invert_b: bool = setting(False, "Turn the second channel round before")
    mix: float = setting(1.0, "How much of the crossing replaces the first channel", low=0, high=1, step=0.01)
    domain: Domain = setting("display", "Judge colour as it is seen (display) or as light (scene)")


@register
class Cross(PointOperation):
    """Cross two channels with a blend function: the start of a matte.

    two planes H x W -> plane of data. In the chosen domain, each inverted (1 - v) first where asked for:
        lerp(a, B(a, b), mix), a being the backdrop and b the source of B
    References: W3C, *Compositing and Blending Level 1*.
    """

    name = "cross"
    family = "channels"
    makes = "plane"
    needs = "start a matte from two channels; blend channels"
    ports = (Port("a", "plane", "Backdrop"), Port("b", "plane", "Laid upon it"))
    Settings = CrossSettings

    def describe(self, inputs: Mapping[str, Description], settings: CrossSettings) -> Description:
        return inputs["a"].changed(window=joined_window(inputs)).as_plane(data=True)

    def express(self, values: Mapping[str, Channels], settings: CrossSettings, scene: Scene) -> Channels:
        a, b = (in_domain(values[port][PLANE_NAME], scene.descriptions[port], settings.domain) for port in ("a", "b"))
        one = np.float32(1)
        a = one - a if settings.invert_a else a
        b = one - b if settings.invert_b else b
        crossed = BLENDS[settings.mode](a, b)
        return {PLANE_NAME: crossed if settings.mix == 1 else lerp(a, crossed, np.float32(settings.mix))}


_ARITHMETIC: dict[str, Callable[[Value, Value], Value]] = {
    "add": lambda value, number: value + number,
    "subtract": lambda value, number: value - number,
    "multiply": lambda value, number: value * number,
    "divide": lambda value, number: value / number,
    "power": power,
    "minimum": minimum,
    "maximum": maximum,
}


class ArithmeticSettings(Settings):
    op: Literal["add", "subtract", "multiply", "divide", "power", "minimum", "maximum"] = setting(
        "add", "What is done with each channel"
    )
    values: dict[str, float] = setting(dict, "The number for each channel", widget="channel_numbers")
    clamp: bool = setting(False, "Hold the result in 0 to 1")


@register
class Arithmetic(PointOperation):
    """Add, subtract, multiply, divide, raise or limit channels by numbers; channels without a number stay.

    plane or picture -> the same; scene values.
    """

    name = "arithmetic"
    family = "channels"
    makes = "same"
    needs = "add, subtract, multiply, divide, offset or gain a channel"
    ports = (Port("from", "any", "What is changed"),)
    Settings = ArithmeticSettings

    def describe(self, inputs: Mapping[str, Description], settings: ArithmeticSettings) -> Description:
        description = inputs["from"]
        self._numbers(description, settings)
        return description

    def _numbers(self, description: Description, settings: ArithmeticSettings) -> dict[str, float]:
        if settings.op == "divide" and 0 in settings.values.values():
            raise SettingError("division by 0", where="setting 'values'", remedy="give a number other than 0")
        if description.is_plane and len(settings.values) == 1:
            return {PLANE_NAME: next(iter(settings.values.values()))}
        check_channels(settings.values, description, "values")
        return settings.values

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: ArithmeticSettings
    ) -> tuple[str, str] | None:
        return None if channel in self._numbers(inputs["from"], settings) else ("from", channel)

    def trait(
        self, channel: str, inputs: Mapping[str, Description], settings: ArithmeticSettings, description: Description
    ) -> Trait:
        number = self._numbers(inputs["from"], settings).get(channel)
        if number is None:
            return inputs["from"].trait(channel)
        apply = _ARITHMETIC[settings.op]
        return changed_trait(inputs["from"].trait(channel), lambda end: float(apply(np.float64(end), number)))

    def express(self, values: Mapping[str, Channels], settings: ArithmeticSettings, scene: Scene) -> Channels:
        apply = _ARITHMETIC[settings.op]
        result = dict(values["from"])
        for name, number in self._numbers(scene.descriptions["from"], settings).items():
            if name in result:
                result[name] = apply(result[name], np.float32(number))
                if settings.clamp:
                    result[name] = clip(result[name], 0, 1)
        return result


def check_channels(names: Sequence[str] | Mapping[str, Any], description: Description, where: str) -> None:
    """Raises SettingError where a setting names a channel that the picture has not."""
    for name in names:
        if name not in description.channels:
            raise SettingError(
                f"there is no channel '{name}'", where=f"setting '{where}'", remedy=nearest(name, description.channels)
            )


def meant_channels(description: Description, named: Sequence[str]) -> Sequence[str]:
    """The channels that an operation means: of a plane its one, else those named, else all colour; where there is no
    colour, all but alpha."""
    if description.is_plane:
        return description.channels
    return named or description.colour or [name for name in description.channels if not is_alpha(name)]


def changed_trait(trait: Trait, change: Callable[[float], float], unit: str = "") -> Trait:
    """The trait of a channel whose every value was changed alike: its span goes along, an id is an id no more."""

    def span() -> Span | None:
        ends = trait.span()
        low, high = sorted(change(end) for end in (ends or (0.0, 1.0)))
        if (low, high) == (0, 1) or not (np.isfinite(low) and np.isfinite(high) and low < high):
            return None
        return low, high

    if trait.role in ("alpha", "colour", "light"):
        return Trait(trait.role)
    return Trait("mask" if trait.is_label else trait.role, unit, "", span)


class WeighSettings(Settings):
    weights: dict[str, float] = setting(lambda: dict(LUMINANCE), "The weight of each channel", widget="channel_numbers")
    offset: float = setting(0.0, "Added to the sum", low=-1, high=1, step=0.01)
    normalise: bool = setting(False, "Divide by the sum of the weights")


@register
class Weigh(PointOperation):
    """Weigh the channels of a picture into one: luminance by default.

    picture -> plane, sum of weight x channel + offset on scene values; colour unless all of its channels are data.
    Default weights: Rec. ITU-R BT.709 luminance.
    """

    name = "weigh"
    family = "channels"
    makes = "plane"
    needs = "luminance, greyscale, mix channels into one"
    ports = (Port("from", "picture", "Picture to weigh", role=""),)
    Settings = WeighSettings

    def describe(self, inputs: Mapping[str, Description], settings: WeighSettings) -> Description:
        description = inputs["from"]
        check_channels(settings.weights, description, "weights")
        if not settings.weights:
            raise SettingError("names no channel", where="setting 'weights'", remedy="give one channel a weight")
        if settings.normalise and abs(sum(settings.weights.values())) < 1e-12:
            raise SettingError(
                "the weights add up to 0", where="setting 'weights'", remedy="change a weight or turn normalise off"
            )
        return description.as_plane(data=all(name in description.data for name in settings.weights))

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: WeighSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"from": tuple(settings.weights)}

    def express(self, values: Mapping[str, Channels], settings: WeighSettings, scene: Scene) -> Channels:
        scale = 1 / sum(settings.weights.values()) if settings.normalise else 1
        total: Value = np.float32(settings.offset)
        for name, weight in settings.weights.items():
            total = total + values["from"][name] * np.float32(weight * scale)
        return {PLANE_NAME: total}


class InvertSettings(Settings):
    channels: list[str] = setting(list, "Channels to turn round; all colour when none is named", widget="channels")


@register
class Invert(PointOperation):
    """Turn round: 1 - v.

    plane or picture -> the same. All colour channels unless some are named; alpha only if named. Premultiplied colour
    is divided by alpha first (where alpha > 0) and multiplied after.
    """

    name = "invert"
    family = "channels"
    makes = "same"
    needs = "turn a matte round, negate"
    ports = (Port("from", "any", "What is turned round"),)
    judges = ("from",)
    Settings = InvertSettings

    def describe(self, inputs: Mapping[str, Description], settings: InvertSettings) -> Description:
        check_channels(meant_channels(inputs["from"], settings.channels), inputs["from"], "channels")
        return inputs["from"]

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: InvertSettings
    ) -> tuple[str, str] | None:
        return None if channel in meant_channels(inputs["from"], settings.channels) else ("from", channel)

    def trait(
        self, channel: str, inputs: Mapping[str, Description], settings: InvertSettings, description: Description
    ) -> Trait:
        trait = inputs["from"].trait(channel)
        if channel not in meant_channels(inputs["from"], settings.channels):
            return trait
        return changed_trait(trait, lambda end: 1 - end)

    def express(self, values: Mapping[str, Channels], settings: InvertSettings, scene: Scene) -> Channels:
        chosen = meant_channels(scene.descriptions["from"], settings.channels)
        return {name: np.float32(1) - value if name in chosen else value for name, value in values["from"].items()}


class ClampSettings(Settings):
    low: float = setting(0.0, "Nothing goes below", low=-1, high=1, step=0.01)
    high: float = setting(1.0, "Nothing goes above", low=0, high=2, step=0.01)

    @model_validator(mode="after")
    def _ordered(self) -> ClampSettings:
        if self.low > self.high:
            raise SettingError("low is above high", where="setting 'low'", remedy="lower it, or raise high")
        return self


@register
class Clamp(PointOperation):
    """Hold every value between low and high. plane or picture -> the same."""

    name = "clamp"
    family = "channels"
    makes = "same"
    needs = "limit values, cut off above 1 and below 0"
    ports = (Port("from", "any", "What is limited"),)
    Settings = ClampSettings

    def describe(self, inputs: Mapping[str, Description], settings: ClampSettings) -> Description:
        return inputs["from"]

    def trait(
        self, channel: str, inputs: Mapping[str, Description], settings: ClampSettings, description: Description
    ) -> Trait:
        trait = inputs["from"].trait(channel)
        return changed_trait(trait, lambda end: min(max(end, settings.low), settings.high), unit=trait.unit)

    def express(self, values: Mapping[str, Channels], settings: ClampSettings, scene: Scene) -> Channels:
        return {name: clip(value, settings.low, settings.high) for name, value in values["from"].items()}
