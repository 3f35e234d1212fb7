"""Mattes put together."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import reduce
from typing import Literal

import numpy as np

from nexal.kernels.pointmath import Value, clip, maximum, minimum
from nexal.operations.base import Channels, PointOperation, Port, Scene, Settings, joined_window, register, setting
from nexal.picture import PLANE_NAME, Description

LOGIC: dict[str, Callable[[Value, Value], Value]] = {
    "union": maximum,
    "intersect": minimum,
    "subtract": lambda a, b: a * (np.float32(1) - b),
    "exclude": lambda a, b: a + b - np.float32(2) * a * b,
    "add": lambda a, b: clip(a + b, 0, 1),
    "multiply": lambda a, b: a * b,
}


class LogicSettings(Settings):
    mode: Literal["union", "intersect", "subtract", "exclude", "add", "multiply"] = setting(
        "union", "How the mattes meet, from the first on"
    )


@register
class Logic(PointOperation):
    """Put several mattes together, from the first on.

    planes -> plane of data over the windows of all; outside its own a matte is 0.
    union max(a, b); intersect min(a, b); subtract a (1 - b); exclude a + b - 2ab; add min(1, a + b) held in 0..1;
    multiply ab.
    """

    name = "logic"
    family = "mattes"
    makes = "plane"
    needs = "union, intersect, subtract, combine mattes; core and edge matte together"
    ports = (Port("mattes", "plane", "Mattes", many=True),)
    Settings = LogicSettings

    def describe(self, inputs: Mapping[str, Description], settings: LogicSettings) -> Description:
        return inputs["mattes.0"].changed(window=joined_window(inputs)).as_plane(data=True)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: LogicSettings
    ) -> dict[str, tuple[str, ...]]:
        return dict.fromkeys(inputs, (PLANE_NAME,))

    def express(self, values: Mapping[str, Channels], settings: LogicSettings, scene: Scene) -> Channels:
        planes = [values[port][PLANE_NAME] for port in scene.descriptions]
        return {PLANE_NAME: reduce(LOGIC[settings.mode], planes)}
