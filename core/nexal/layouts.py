"""What the channels of packed textures stand for, and sets of values that make a finish.

Layouts and finishes that come with the program; projects keep their own beside them, checked by the same models.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Annotated, Any, Literal, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from nexal.errors import SettingError
from nexal.recipe import from_validation

Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]
Share = Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)]
PortName = Literal["r", "g", "b", "a"]
IN_ORDER: tuple[PortName, ...] = ("r", "g", "b", "a")
MEANINGS = ("occlusion", "roughness", "metallic", "coat")
"""Meanings that light knows; a layout may have others, such as a mask's."""


class LayoutChannel(BaseModel):
    """One channel of a layout: what it stands for and what it holds where nothing is laid in.

    `inverted`: it holds 1 - v of its meaning, as gloss does of roughness. Channels are linear data in any case.
    """

    model_config = ConfigDict(extra="forbid")

    port: PortName
    meaning: Name
    inverted: bool = False
    default: Share = 0.0


class Layout(BaseModel):
    """A named order of meanings."""

    model_config = ConfigDict(extra="forbid")

    name: Name
    title: str = Field(min_length=1, max_length=60)
    channels: list[LayoutChannel] = Field(min_length=3, max_length=4)

    @model_validator(mode="after")
    def _apart(self) -> Layout:
        ports = [channel.port for channel in self.channels]
        if ports != [*IN_ORDER[: len(ports)]]:
            raise ValueError("a layout has the channels r, g, b and, where it is wanted, a, in that order")
        meanings = [channel.meaning for channel in self.channels]
        twice = next((meaning for meaning in meanings if meanings.count(meaning) > 1), None)
        if twice:
            raise ValueError(f"'{twice}' stands in two channels")
        return self


class Finish(BaseModel):
    """A named set of values, one for each meaning that it settles; other meanings stay as they are."""

    model_config = ConfigDict(extra="forbid")

    name: Name
    title: str = Field(min_length=1, max_length=60)
    values: dict[Name, Share] = Field(min_length=1, max_length=16)


def _layout(name: str, title: str, *channels: tuple[str, float]) -> Layout:
    return Layout(
        name=name,
        title=title,
        channels=[
            LayoutChannel(port=port, meaning=meaning, default=default)
            for port, (meaning, default) in zip(IN_ORDER, channels, strict=False)
        ],
    )


def _finish(name: str, title: str, **values: float) -> Finish:
    return Finish(name=name, title=title, values=values)


LAYOUTS = (
    _layout("orm", "occlusion · roughness · metallic", ("occlusion", 1.0), ("roughness", 0.6), ("metallic", 0.0)),
    _layout("mrc", "metallic · roughness · coat", ("metallic", 0.0), ("roughness", 0.6), ("coat", 0.0)),
    _layout("masks", "four masks", ("mask_1", 0.0), ("mask_2", 0.0), ("mask_3", 0.0), ("mask_4", 1.0)),
)
"""The order of the open glTF 2.0 format, one with a coat of varnish, and plain masks."""

FINISHES = (
    _finish("bare_brass", "bare brass", metallic=0.95, roughness=0.28, coat=0.0),
    _finish("enamel", "enamel", metallic=0.0, roughness=0.22, coat=0.85),
    _finish("wax", "wax", metallic=0.0, roughness=0.52, coat=0.15),
    _finish("chalk", "chalk", metallic=0.0, roughness=0.92, coat=0.0),
)


def default_of(meaning: str) -> float:
    """What a channel of this meaning holds where nothing is laid in, by the layouts that come with the program."""
    channels = (channel for layout in LAYOUTS for channel in layout.channels)
    return next((channel.default for channel in channels if channel.meaning == meaning), 0.0)


Kind = TypeVar("Kind", Layout, Finish)


def checked(kind: type[Kind], rows: Iterable[Mapping[str, Any]], built_in: Iterable[Kind]) -> list[Kind]:
    """A project's own layouts or finishes. Raises SettingError for wrong ones and for names that are taken."""
    taken = {each.name for each in built_in}
    result: list[Kind] = []
    for number, row in enumerate(rows):
        where = f"{kind.__name__.lower()} {row.get('name') or number + 1}"
        try:
            each = kind.model_validate(row)
        except ValidationError as error:
            fault = from_validation(error, kind, row, where)
            raise SettingError(fault.message, where=fault.where, remedy=fault.remedy) from None
        if each.name in taken:
            raise SettingError(f"the name '{each.name}' is taken", where=where, remedy="choose another name")
        taken.add(each.name)
        result.append(each)
    return result
