"""A light set into a picture after it was rendered."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np
from pydantic import model_validator

from nexal.camera import Camera
from nexal.errors import SettingError
from nexal.kernels.bounds import bounded
from nexal.operations.base import Operation, Port, Scene, Settings, register, setting
from nexal.operations.geometry import axes_of, places_of
from nexal.operations.keying import rgb_names
from nexal.operations.space import Point, eye_needed
from nexal.picture import ALPHA_NAME, Alpha, Description, Plane, Trait

LIGHT = ("R", "G", "B")


class RelightSettings(Settings):
    light: Literal["point", "sun", "ambient"] = setting(
        "point", "A lamp at a place, light from a direction, or light from all around"
    )
    at: Point = setting((0.0, 2.0, 0.0), "Where the lamp is, in the world", widget="place")
    direction: Point = setting((0.5, 1.0, -0.5), "Towards the sun", widget="triple", low=-1, high=1, step=0.01)
    colour: Point = setting((1.0, 0.85, 0.6), "Its colour, scene-linear", widget="colour")
    intensity: float = setting(1.0, "Times its colour", ge=0, low=0, high=10, step=0.05)
    size: float = setting(0.5, "Distance at which a lamp has half its strength", gt=0, low=0.05, high=10, step=0.05)
    reach: float = setting(0.0, "Distance at which a lamp ends; 0: never", ge=0, low=0, high=50, step=0.1)
    wrap: float = setting(0.0, "How far light goes round", ge=0, le=1, low=0, high=1, step=0.01)
    shadow: float = setting(0.0, "How much of it what stands before takes away", ge=0, le=1, low=0, high=1, step=0.01)
    shadow_length: float = setting(
        5.0, "How far shadows are followed", gt=0, low=0.1, high=20, step=0.1, beside="shadow"
    )
    thickness: float = setting(
        1.0, "How thick things are taken to be behind what is seen", gt=0, low=0.1, high=5, step=0.1, beside="shadow"
    )
    occlusion: float = setting(0.0, "How much what lies around takes away", ge=0, le=1, low=0, high=1, step=0.01)
    occlusion_radius: float = setting(
        0.5, "How far what takes away is looked for", gt=0, low=0.05, high=5, step=0.05, beside="occlusion"
    )

    @model_validator(mode="after")
    def _pointed(self) -> RelightSettings:
        if self.light == "sun" and not any(self.direction):
            raise SettingError("points nowhere", where="setting 'direction'", remedy="give it a length")
        return self

    @property
    def looks_around(self) -> bool:
        return self.shadow > 0 or self.occlusion > 0


@register
class Relight(Operation):
    """Light from a lamp or a sun on what is seen, by its positions and normals: a pass to be added to the others.

    pictures of positions and normals H x W(, albedo) -> picture R, G, B, without alpha: colour x intensity x albedo x
        max(0, (n.l + wrap) / (1 + wrap)); a lamp times s^2 / (d^2 + s^2) (1 - (d / reach)^4)^2, s its `size`
    Light from all around (`ambient`) is the same on all that is seen, but for `occlusion`; where `around` is fed, it
    has the mean light of that picture, such as the shot's own. `shadow`: less of it where, on the way to the light,
    what is seen stands before by less than `thickness`; `occlusion`: less of it by the share of the hemisphere that is
    hidden within `occlusion_radius`. Both know only what the picture shows, take the whole of it, and need the camera
    of the file's header. Nothing there gives 0.
    An approximation, good for a grade: no light bounces, and what is not seen throws no shadow.
    References: see `kernels/relighting.py`.
    """

    name = "relight"
    family = "space"
    makes = "picture"
    needs = "add a light, lamp, sun, shadow, ambient occlusion, normals"
    ports = (
        Port("position", "picture", "World positions"),
        Port("normals", "picture", "World normals"),
        Port("albedo", "picture", "Colour of the surfaces, without light", required=False),
        Port("around", "picture", "What the light from all around is the mean of", required=False),
    )
    whole = True
    nanoseconds = 40
    scratch_bytes = 48
    Settings = RelightSettings

    def describe(self, inputs: Mapping[str, Description], settings: RelightSettings) -> Description:
        position = inputs["position"]
        axes_of(position, "position")
        axes_of(inputs["normals"], "normals")
        for port in ("albedo", "around"):
            if port in inputs:
                rgb_names(inputs[port], port)
        if settings.looks_around:
            _camera(position)
        return Description(LIGHT, position.display, position.window, alpha=Alpha.NONE, origin=position.origin)

    def trait(self, channel: str, inputs: object, settings: object, description: object) -> Trait:
        return Trait("light")

    def effort(self, settings: RelightSettings, scene: Scene) -> float:
        return self.nanoseconds + (800 if settings.shadow > 0 else 0) + (900 if settings.occlusion > 0 else 0)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: RelightSettings
    ) -> dict[str, tuple[str, ...]]:
        wanted: dict[str, tuple[str, ...]] = {port: axes_of(inputs[port], port) for port in ("position", "normals")}
        if "albedo" in inputs:
            names = rgb_names(inputs["albedo"], "albedo")
            wanted["albedo"] = tuple(name for own, name in zip(LIGHT, names, strict=True) if own in channels)
            if inputs["albedo"].alpha is Alpha.STRAIGHT:
                wanted["albedo"] += (ALPHA_NAME,)
        if "around" in inputs and settings.light == "ambient":
            around = inputs["around"]
            wanted["around"] = (*rgb_names(around, "around"), *((ALPHA_NAME,) if around.has_alpha else ()))
        return wanted

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: RelightSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels import relighting

        places, there = places_of(inputs, scene, "position")
        normals = [bounded(inputs["normals"][name]) for name in axes_of(scene.descriptions["normals"], "normals")]
        point, ambient = settings.light == "point", settings.light == "ambient"
        light = np.array(settings.at if point else settings.direction, float)
        light = light if point or ambient else light / np.linalg.norm(light)
        shade = there.astype(np.float32) if ambient else relighting.lit(
            places, normals, there, point=point, light=light.tolist(), size=settings.size, reach=settings.reach,
            wrap=settings.wrap,
        )  # fmt: skip
        if settings.looks_around:
            camera = _camera(scene.descriptions["position"])
            away = np.full_like(places[0], camera.matrix[2, 3])
            for part, place in zip(camera.matrix[2, :3], places, strict=True):
                away += np.float32(part) * place
            if settings.shadow > 0 and not ambient:
                scene.work.check()
                clear = relighting.shadowed(
                    places, normals, there, away, camera.matrix, point=point, light=light.tolist(),
                    length=settings.shadow_length, thickness=settings.thickness,
                    corner=(scene.region.x, scene.region.y), scale=float(scene.scale),
                )  # fmt: skip
                shade = shade * (1 - np.float32(settings.shadow) * (1 - clear))
            if settings.occlusion > 0:
                scene.work.check()
                right, up = _picture_axes(camera)
                open_ = relighting.openness(
                    places, normals, there, away, camera.eye, right, up, scene.pixels(camera.focal),
                    settings.occlusion_radius,
                )  # fmt: skip
                shade = shade * (1 - np.float32(settings.occlusion) * (1 - open_))
        albedo = rgb_names(scene.descriptions["albedo"], "albedo") if "albedo" in inputs else None
        mean = _mean(inputs["around"], scene.descriptions["around"]) if ambient and "around" in inputs else (1, 1, 1)
        result = {}
        for index, name in enumerate(LIGHT):
            if name in channels:
                plane = shade * np.float32(settings.colour[index] * settings.intensity * mean[index])
                result[name] = plane * inputs["albedo"][albedo[index]] if albedo else plane
                if albedo and scene.descriptions["albedo"].alpha is Alpha.STRAIGHT:
                    # As light, so that it can be added.
                    cover = inputs["albedo"][ALPHA_NAME]
                    result[name] = np.where(cover > 0, result[name] * cover, np.float32(0))
        return result


def _mean(planes: Mapping[str, Plane], description: Description) -> tuple[float, ...]:
    """The mean light of what a picture covers."""
    cover = planes[ALPHA_NAME] if description.has_alpha else np.float32(1)
    straight = description.has_alpha and description.alpha is Alpha.STRAIGHT
    names = rgb_names(description, "around")
    light = (bounded(planes[name] * (cover if straight else 1)) for name in names)
    share = max(float(np.mean(cover)), 1e-6)
    return tuple(float(np.mean(plane, dtype=np.float64)) / share for plane in light)


def _picture_axes(camera: Camera) -> tuple[np.ndarray, np.ndarray]:
    """Right and up of the picture in the world, each of length 1."""
    view = camera.forward
    right = camera.matrix[0, :3] - (camera.matrix[0, :3] @ view) * view
    down = camera.matrix[1, :3] - (camera.matrix[1, :3] @ view) * view
    return right / np.linalg.norm(right), -down / np.linalg.norm(down)


def _camera(position: Description) -> Camera:
    return eye_needed(position, "shadow and occlusion need", "leave both at 0")
