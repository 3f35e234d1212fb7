"""Passes of a render: added up again, and compared with the render's own full picture."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from nexal.errors import RecipeError, SettingError
from nexal.kernels.pointmath import Value, absolute, weighted_sum
from nexal.operations.base import (
    Channels,
    Kind,
    PointOperation,
    Port,
    Scene,
    Settings,
    joined_window,
    register,
    setting,
)
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, is_alpha, main_channels, split_channel


def pass_channels(description: Description) -> dict[str, str]:
    """The colour of a pass: R, G and B (a plane counts as grey, `Y`) and the channels behind them. No alpha."""
    if description.is_plane:
        return {PLANE_NAME: description.channels[0]}
    found = {split_channel(name)[1]: name for name in main_channels(description) if not is_alpha(name)}
    return {name: found[name] for name in ("R", "G", "B", PLANE_NAME) if name in found} or found


class Balance(BaseModel):
    """How one pass goes into the sum."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    stops: float = Field(0.0, ge=-40, le=40)
    tint: tuple[float, float, float] = (1.0, 1.0, 1.0)
    mute: bool = False
    solo: bool = False
    times: str | None = None

    @property
    def gains(self) -> tuple[float, float, float]:
        r, g, b = (2.0**self.stops * part for part in self.tint)
        return r, g, b


UNTOUCHED = Balance.model_validate({})


class SumPassesSettings(Settings):
    passes: list[Balance] = setting(list, "For each pass, in order: stops, tint, mute, solo, times", widget="passes")


@register
class SumPasses(PointOperation):
    """Add light passes up, each with its exposure and tint, and close the sum with one alpha.

    pictures(, plane) -> premultiplied picture, scene-linear, over the windows of all. Each colour channel is the sum of
    pass * 2**stops * tint (* the same channel of `times`, for lighting x colour) over the passes that sound: those
    with `solo` where there are any, else all but those with `mute`. A plane counts as grey. The passes' own alphas are
    left aside; alpha is `alpha_from` alone, and without it the sum has none.
    Raises SettingError where more passes are set than fed.
    """

    name = "sum_passes"
    family = "passes"
    needs = "rebuild a render, add light passes, rebalance lights, mute, solo, exposure of a light"
    ports = (
        Port("passes", "picture", "Light passes", many=True),
        Port("alpha_from", "plane", "The one alpha of the sum", required=False),
    )
    Settings = SumPassesSettings

    def references(self, settings: SumPassesSettings) -> dict[str, str]:
        return {f"times.{index}": each.times for index, each in enumerate(settings.passes) if each.times}

    def referenced_kind(self, port: str) -> Kind:
        return "picture"

    def sounding(self, count: int, settings: SumPassesSettings) -> list[tuple[int, Balance]]:
        """The passes that are heard, by their places: the soloed ones, else all that are not muted."""
        balances = [settings.passes[i] if i < len(settings.passes) else UNTOUCHED for i in range(count)]
        soloed = any(each.solo for each in balances)
        return [(i, each) for i, each in enumerate(balances) if (each.solo if soloed else not each.mute)]

    @staticmethod
    def _count(inputs: Mapping[str, Any]) -> int:
        return sum(port.startswith("passes.") for port in inputs)

    def describe(self, inputs: Mapping[str, Description], settings: SumPassesSettings) -> Description:
        count = self._count(inputs)
        if len(settings.passes) > count:
            raise SettingError(
                f"{len(settings.passes)} passes are set, and {count} are fed",
                where="setting 'passes'",
                remedy="take out what is too much, or feed more",
            )
        names = list(
            dict.fromkeys(
                n for port, given in inputs.items() if port.startswith("passes.") for n in pass_channels(given)
            )
        )
        if PLANE_NAME in names and len(names) > 1:
            names.remove(PLANE_NAME)
        alpha = "alpha_from" in inputs
        plane = names == [PLANE_NAME] and not alpha
        first = inputs["passes.0"]
        return first.changed(
            channels=(*names, ALPHA_NAME) if alpha else tuple(names),
            window=joined_window(inputs),
            data=frozenset({ALPHA_NAME} if alpha else ()),
            alpha=Alpha.PREMULTIPLIED if alpha else Alpha.NONE,
            is_plane=plane,
        )

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: SumPassesSettings
    ) -> dict[str, tuple[str, ...]]:
        wanted: dict[str, tuple[str, ...]] = {}
        colour = [name for name in channels if name != ALPHA_NAME or "alpha_from" not in inputs]
        for index, each in self.sounding(self._count(inputs), settings):
            for port in (f"passes.{index}", *([f"times.{index}"] if each.times else [])):
                own = pass_channels(inputs[port])
                chosen = {own.get(name, own.get(PLANE_NAME)) for name in colour}
                found = tuple(name for name in inputs[port].channels if name in chosen)
                if found:
                    wanted[port] = found
        if ALPHA_NAME in channels and "alpha_from" in inputs:
            wanted["alpha_from"] = (PLANE_NAME,)
        return wanted

    def express(self, values: Mapping[str, Channels], settings: SumPassesSettings, scene: Scene) -> Channels:
        inputs = scene.descriptions
        description = self.describe(inputs, settings)
        heard = [
            (
                each,
                self._channels(values, inputs, f"passes.{index}"),
                self._channels(values, inputs, f"times.{index}"),
            )
            for index, each in self.sounding(self._count(inputs), settings)
        ]
        result: dict[str, Value] = {}
        for name in description.channels:
            if name == ALPHA_NAME and "alpha_from" in inputs:
                if "alpha_from" in values:
                    result[name] = values["alpha_from"][PLANE_NAME]
                continue
            lights: list[Value] = []
            gains: list[float] = []
            for each, own, times in heard:
                light = own.get(name, own.get(PLANE_NAME))
                if light is None:
                    continue
                if each.times:
                    light = light * times.get(name, times.get(PLANE_NAME, np.float32(0)))
                lights.append(light)
                gains.append(each.gains["RGB".find(name)] if name in ("R", "G", "B") else 2.0**each.stops)
            result[name] = weighted_sum(lights, gains)
        return result

    @staticmethod
    def _channels(values: Mapping[str, Channels], inputs: Mapping[str, Description], port: str) -> Channels:
        """The colour of a pass by its plain names."""
        given = values.get(port, {})
        own = pass_channels(inputs[port]).items() if port in inputs else ()
        return {name: given[channel] for name, channel in own if channel in given}


class ResidualSettings(Settings):
    gain: float = setting(1.0, "How strongly the difference is shown", gt=0, low=1, high=100, step=1)


@register
class Residual(PointOperation):
    """The absolute difference of two pictures' colour: abs(full - rebuilt) * gain.

    two pictures -> picture of their common colour channels, scene-linear, over both windows; alpha is left aside.
    """

    name = "residual"
    family = "passes"
    needs = "compare a rebuilt sum with the full picture, difference"
    ports = (Port("full", "picture", "The render's own picture"), Port("rebuilt", "picture", "What was added up"))
    Settings = ResidualSettings

    def _common(self, inputs: Mapping[str, Description]) -> list[str]:
        full, rebuilt = (pass_channels(inputs[port]) for port in ("full", "rebuilt"))
        return [name for name in full if name in rebuilt]

    def describe(self, inputs: Mapping[str, Description], settings: ResidualSettings) -> Description:
        names = self._common(inputs)
        if not names:
            raise RecipeError(
                "the two have no colour channel in common", where="port 'rebuilt'", remedy="feed two pictures of a kind"
            )
        return inputs["full"].changed(
            channels=tuple(names),
            window=joined_window(inputs),
            data=frozenset(),
            alpha=Alpha.NONE,
            is_plane=names == [PLANE_NAME],
        )

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: ResidualSettings
    ) -> dict[str, tuple[str, ...]]:
        wanted = {}
        for port, description in inputs.items():
            own = {pass_channels(description)[name] for name in channels}
            wanted[port] = tuple(name for name in description.channels if name in own)
        return wanted

    def express(self, values: Mapping[str, Channels], settings: ResidualSettings, scene: Scene) -> Channels:
        full, rebuilt = (pass_channels(scene.descriptions[port]) for port in ("full", "rebuilt"))
        result = {}
        for name in self._common(scene.descriptions):
            if full[name] in values["full"]:
                gap = absolute(values["full"][full[name]] - values["rebuilt"][rebuilt[name]])
                result[name] = gap if settings.gain == 1 else gap * np.float32(settings.gain)
        return result
