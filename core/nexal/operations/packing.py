"""Channels of a texture: each built in a bay of its own, then packed together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from nexal.errors import RecipeError, SettingError
from nexal.kernels.blending import BLENDS
from nexal.kernels.pointmath import Value, clip
from nexal.operations.base import Channels, PointOperation, Port, Scene, Settings, Size, register, setting
from nexal.operations.channels import BlendMode
from nexal.operations.making import LIKE
from nexal.operations.resizing import LARGEST, OVERSHOOT, ResizeFilter
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Window

ONE = np.float32(1)


class Bar(BaseModel):
    """One layer of a bay: a value or a plane, laid in where its mask covers."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True, allow_inf_nan=False)

    source: str | None = Field(None, alias="from")
    value: float | None = Field(None, ge=0, le=1)
    mask: str | None = None
    invert_mask: bool = False
    mode: BlendMode = "normal"
    opacity: float = Field(1.0, ge=0, le=1)
    on: bool = True

    @model_validator(mode="after")
    def _one(self) -> Bar:
        if (self.source is None) == (self.value is None):
            raise ValueError("give either an address (from) or a number (value)")
        return self


class BaySettings(Settings):
    base: float = setting(0.0, "What the channel is filled with below all bars", ge=0, le=1, low=0, high=1, step=0.01)
    layers: list[Bar] = setting(
        list, "Bars over the base, bottom first: a value or a plane, laid in by a mask", widget="bars", max_length=64
    )
    fit: Literal["align", "scale"] = setting(
        "align", "Bars of another size: put at the top left corner as they are, or scaled to the bay"
    )
    width: int = setting(1024, "Width where nothing gives one", ge=1, le=LARGEST, unit="px")
    height: int = setting(1024, "Height where nothing gives one", ge=1, le=LARGEST, unit="px")


def largest(inputs: Mapping[str, Description]) -> Window | None:
    """The display window with the most pixels, the first of several; None where there is none."""
    windows = [description.display for description in inputs.values()]
    return max(windows, key=lambda window: window.area, default=None)


@register
class Bay(PointOperation):
    """Build one channel of a texture: a base value, and bars laid in over it, bottom first.

    -> plane of data. A bar lays B(below, v) over what is below, v being its value or its plane, by its coverage c, the
    mask held in 0..1 (or 1 - mask) times opacity:
        below (1 - c) + B(below, v) c
    A bar without a mask covers all; one that is off does nothing. The size is that of `like`, else of the largest
    plane laid in, else `width` x `height`. Bars of another size lie at the top left corner, 0 outside of their own;
    with `fit` scale they are scaled to the bay (areas when shrinking, Lanczos when growing, ids by single samples).
    References: W3C, *Compositing and Blending Level 1*.
    """

    name = "bay"
    family = "packing"
    makes = "plane"
    needs = "texture channel, roughness, metallic, occlusion, base fill in per cent, lay a mask in, cut a decal out"
    ports = (LIKE,)
    Settings = BaySettings

    def effort(self, settings: BaySettings, scene: Scene) -> float:
        return 3 + 12 * len(settings.layers)

    def references(self, settings: BaySettings) -> dict[str, str]:
        found = {}
        for index, bar in enumerate(settings.layers):
            for key, address in (("from", bar.source), ("mask", bar.mask)):
                if address is not None:
                    found[f"layers.{index}.{key}"] = address
        return found

    @staticmethod
    def _size(inputs: Mapping[str, Description], settings: BaySettings) -> Window:
        if "like" in inputs:
            return inputs["like"].display
        return largest(inputs) or Window(0, 0, settings.width, settings.height)

    def sizes(self, inputs: Mapping[str, Description], settings: BaySettings) -> dict[str, Size]:
        if settings.fit == "align":
            return {}
        window = self._size(inputs, settings)
        size = Size(window.width, window.height)
        return {port: size for port, given in inputs.items() if port != "like" and not size.fits(given)}

    def describe(self, inputs: Mapping[str, Description], settings: BaySettings) -> Description:
        window = self._size(inputs, settings)
        first = next(iter(inputs.values()), Description((), window, window))
        return first.changed(display=window, window=window).as_plane(data=True)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: BaySettings
    ) -> dict[str, tuple[str, ...]]:
        on = {f"layers.{index}" for index, bar in enumerate(settings.layers) if bar.on and bar.opacity > 0}
        return {port: (PLANE_NAME,) for port in inputs if port.rpartition(".")[0] in on}

    def express(self, values: Mapping[str, Channels], settings: BaySettings, scene: Scene) -> Channels:
        below: Value = np.float32(settings.base)
        for index, bar in enumerate(settings.layers):
            if not bar.on or bar.opacity == 0:
                continue
            laid = values[f"layers.{index}.from"][PLANE_NAME] if bar.source else np.float32(bar.value or 0)
            blended = BLENDS[bar.mode](below, laid)
            if bar.mask is None and bar.opacity == 1:
                below = blended
                continue
            coverage: Value = np.float32(bar.opacity)
            if bar.mask is not None:
                mask = clip(values[f"layers.{index}.mask"][PLANE_NAME], 0, 1)
                coverage = coverage * (ONE - mask if bar.invert_mask else mask)
            # In this form both ends are exact: what nothing covers stays, what is covered whole is the bar.
            below = below * (ONE - coverage) + blended * coverage
        return {PLANE_NAME: below}


PORTS = {"r": "R", "g": "G", "b": "B", "a": ALPHA_NAME}


class Meaning(BaseModel):
    """What a channel of a packed texture stands for; `inverted` where it holds 1 - v of it, as gloss does."""

    model_config = ConfigDict(extra="forbid")

    meaning: str = Field(min_length=1, max_length=40)
    inverted: bool = False


class PackSettings(Settings):
    width: int | None = setting(None, "Width; of the largest where none is given", ge=1, le=LARGEST, unit="px")
    height: int | None = setting(None, "Height; of the largest where none is given", ge=1, le=LARGEST, unit="px")
    filter: ResizeFilter = setting(
        "auto", "How channels of another size are resampled: areas when shrinking, Lanczos when growing, ids singly"
    )
    overshoot: bool = setting(False, OVERSHOOT)
    layout: str = setting("", "Name of the layout, kept in the metadata", max_length=60)
    meanings: dict[Literal["r", "g", "b", "a"], Meaning] = setting(
        dict, "What each channel stands for, by its layout", widget="meanings"
    )


@register
class Pack(PointOperation):
    """Pack planes into the channels R, G, B and A of one texture.

    one to four planes -> picture of data with the channels that are fed (never encoded, never multiplied by its alpha),
    of the size given, else of the largest of the planes. Planes of another size are resampled, none is cropped: along
    each axis the mean of areas where it shrinks, Lanczos where it grows; ids keep single samples. The layout's name
    goes into the metadata.
    """

    name = "pack"
    family = "packing"
    needs = "channel packing, put masks into red green blue alpha, texture, occlusion roughness metallic"
    ports = (
        Port("r", "plane", "Red", required=False),
        Port("g", "plane", "Green", required=False),
        Port("b", "plane", "Blue", required=False),
        Port("a", "plane", "Alpha", required=False),
    )
    Settings = PackSettings

    @staticmethod
    def _size(inputs: Mapping[str, Description], settings: PackSettings) -> Size:
        window = largest(inputs)
        assert window is not None
        width, height = settings.width, settings.height
        if width and not height:
            height = max(1, round(window.height * width / window.width))
        if height and not width:
            width = max(1, round(window.width * height / window.height))
        return Size(width or window.width, height or window.height, settings.filter, settings.overshoot)

    def sizes(self, inputs: Mapping[str, Description], settings: PackSettings) -> dict[str, Size]:
        if not inputs:
            return {}
        size = self._size(inputs, settings)
        return {port: size for port, given in inputs.items() if not size.fits(given)}

    def describe(self, inputs: Mapping[str, Description], settings: PackSettings) -> Description:
        if not inputs:
            raise RecipeError("no channel is fed", where="port 'r'", remedy="feed one channel at least")
        for port in settings.meanings:
            if port not in inputs:
                raise SettingError(
                    f"a meaning is given to '{port}', which is not fed",
                    where="setting 'meanings'",
                    remedy="feed it, or take its meaning out",
                )
        size = self._size(inputs, settings)
        window = Window(0, 0, size.width, size.height)
        channels = tuple(PORTS[port] for port in PORTS if port in inputs)
        first = next(inputs[port] for port in PORTS if port in inputs)
        layout = {"layout": {"text": settings.layout}} if settings.layout else {}
        return first.changed(
            channels=channels,
            display=window,
            window=window,
            data=frozenset(channels),
            alpha=Alpha.STRAIGHT if ALPHA_NAME in channels else Alpha.NONE,
            is_plane=False,
            metadata={**first.metadata, **layout},
        )

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: PackSettings
    ) -> dict[str, tuple[str, ...]]:
        return {port: (PLANE_NAME,) for port in inputs if PORTS[port] in channels}

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: PackSettings
    ) -> tuple[str, str] | None:
        port = next(port for port, name in PORTS.items() if name == channel)
        return port, PLANE_NAME

    def express(self, values: Mapping[str, Channels], settings: PackSettings, scene: Scene) -> Channels:
        return {PORTS[port]: planes[PLANE_NAME] for port, planes in values.items()}
