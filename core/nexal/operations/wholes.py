"""What operations have in common that have to see all of a picture, and what is told to them with a brush."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import field_validator

from nexal.errors import SettingError
from nexal.kernels.bounds import bounded, share
from nexal.kernels.pointmath import safe_divide
from nexal.operations.base import Operation, Port, Scene, Settings, setting
from nexal.operations.keying import rgb_names
from nexal.operations.painting import MAX_STROKES, Stroke, covered, painting_effort, reached
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane, Window

LEAST_SIDE = 16
"""Pixels: in smaller pictures neither noise nor a screen can be told."""


def seen_names(description: Description, port: str) -> tuple[str, ...]:
    """A picture's own red, green and blue, and its alpha if it has one."""
    return (*rgb_names(description, port), *((ALPHA_NAME,) if description.has_alpha else ()))


def colour_of(
    inputs: Mapping[str, Mapping[str, Plane]], scene: Scene, port: str, state: Alpha = Alpha.STRAIGHT
) -> NDArray[np.float32]:
    """3 x H x W of a picture's own red, green and blue, straight or premultiplied; what is not finite is bounded.

    Raises SettingError where it is too small to tell anything from.
    """
    if min(scene.region.height, scene.region.width) < LEAST_SIDE:
        raise SettingError(
            f"is {scene.region.width} x {scene.region.height} pixels: too small to tell noise from picture",
            where=f"port '{port}'",
            remedy=f"feed a picture of {LEAST_SIDE} x {LEAST_SIDE} pixels at least",
        )
    description = scene.descriptions[port]
    planes = [inputs[port][name] for name in rgb_names(description, port)]
    if description.has_alpha and description.alpha is not state:
        alpha = inputs[port][ALPHA_NAME]
        planes = [safe_divide(plane, alpha) if state is Alpha.STRAIGHT else plane * alpha for plane in planes]
    return bounded(np.stack(planes))


def reporting(scene: Scene, low: float = 0.0, high: float = 1.0) -> Callable[[float], None]:
    """Tells how much is done, of a part of the work from `low` to `high`, and stops what was given up."""

    def report(done: float) -> None:
        scene.work.check()
        scene.work.report(low + (high - low) * done)

    return report


class WholePicture(Operation):
    """An operation that has to see all of a picture in full resolution, and answers for its data window."""

    whole = True
    slow = True
    roughly = True
    family = "mattes"

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: object
    ) -> dict[str, tuple[str, ...]]:
        return {
            port: (PLANE_NAME,) if description.is_plane else seen_names(description, port)
            for port, description in inputs.items()
        }

    def input_region(self, port: str, region: Window, scene: Scene, settings: object) -> Window:
        return region


SIDES = (Port("keep", "plane", "Surely subject", required=False), Port("drop", "plane", "Surely not", required=False))


class SidedSettings(Settings):
    """Strokes that say what is surely subject, and what is surely not."""

    strokes: list[Stroke] = setting(
        list, "What is surely subject (painted with 1) and surely not (painted with 0)", widget="strokes"
    )

    @field_validator("strokes")
    @classmethod
    def _bounded(cls, value: list[Stroke]) -> list[Stroke]:
        if len(value) > MAX_STROKES:
            raise ValueError(f"at most {MAX_STROKES} strokes are kept in one step")
        for stroke in value:
            if stroke.channels or not isinstance(stroke.value, float | int):
                raise ValueError("a stroke says one thing of the whole picture: a value from 0 to 1, no channels")
        return value


class SidedPicture(WholePicture):
    """What is told by strokes what is surely subject."""

    def effort(self, settings: SidedSettings, scene: Scene) -> float:
        return self.nanoseconds + painting_effort(settings.strokes, scene)

    def describe(self, inputs: Mapping[str, Description], settings: SidedSettings) -> Description:
        for port in ("picture", "clean", "held"):
            if port in inputs:
                rgb_names(inputs[port], port)
        return inputs["picture"].as_plane(data=True)


def sides_of(inputs: Mapping[str, Mapping[str, Plane]], settings: SidedSettings, scene: Scene) -> dict[str, Plane]:
    """`keep` and `drop`, H x W from 0 to 1, where something is surely subject or surely not; without a key where
    nothing is said. What is painted later counts, and more than what is fed in."""
    shape = (scene.region.height, scene.region.width)
    sides = {port: share(inputs[port][PLANE_NAME]).astype(np.float32) for port in ("keep", "drop") if port in inputs}
    for stroke in settings.strokes:
        scene.work.check()
        part = reached(stroke, scene)
        if part.empty:
            continue
        laid = covered(stroke, part, scene) * np.float32(stroke.opacity)
        place = part.within(scene.region)
        own, other = ("keep", "drop") if stroke.number(PLANE_NAME) >= 0.5 else ("drop", "keep")
        if own not in sides:
            sides[own] = np.zeros(shape, np.float32)
        sides[own][place] = np.maximum(sides[own][place], laid)
        if other in sides:
            sides[other][place] *= 1 - laid
    return sides
