"""What knows the space of a picture: fog, and mattes of balls, boxes and slabs."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import model_validator

from nexal.camera import Camera, camera_of
from nexal.errors import RecipeError, SettingError
from nexal.kernels.pointmath import safe_divide, smoothstep
from nexal.operations.base import Operation, PointOperation, Port, Scene, Settings, register, setting
from nexal.operations.depths import COVERAGE, DEPTH, Profile, covered_depth
from nexal.operations.geometry import axes_of, places_of
from nexal.operations.keying import rgb_names
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane, Window

Point = tuple[float, float, float]


class SpaceMatteSettings(Settings):
    shape: Literal["ball", "box", "slab"] = setting("ball", "What is cut out of space")
    centre: Point = setting((0.0, 0.0, 0.0), "Its middle, in the world", widget="place")
    size: Point = setting(
        (1.0, 1.0, 1.0), "Ball: its radius (the first); box: half its sides; slab: half its thickness (the third)",
        widget="sizes",
    )  # fmt: skip
    rotation: Point = setting(
        (0.0, 0.0, 0.0), "Turns about x, then y, then z", widget="triple", low=-180, high=180, step=1
    )
    softness: float = setting(0.25, "How far inwards it rises", ge=0, low=0, high=5, step=0.01)
    profile: Profile = setting("smooth", "How it rises")
    invert: bool = setting(False, "All but the shape")

    @model_validator(mode="after")
    def _sized(self) -> SpaceMatteSettings:
        if min(self.size) <= 0:
            raise SettingError("a size is above 0", where="setting 'size'", remedy="make it larger")
        return self


def turned_axes(rotation: Point) -> NDArray[np.float64]:
    """Rows are the shape's axes in the world, after turns by degrees about x, then y, then z."""
    x, y, z = (math.radians(angle) for angle in rotation)
    about_x = np.array([[1, 0, 0], [0, math.cos(x), -math.sin(x)], [0, math.sin(x), math.cos(x)]])
    about_y = np.array([[math.cos(y), 0, math.sin(y)], [0, 1, 0], [-math.sin(y), 0, math.cos(y)]])
    about_z = np.array([[math.cos(z), -math.sin(z), 0], [math.sin(z), math.cos(z), 0], [0, 0, 1]])
    made: NDArray[np.float64] = (about_z @ about_y @ about_x).T
    return made


@register
class SpaceMatte(PointOperation):
    """A matte of what lies in a ball, a box or a slab of space: it sticks to the set, wherever the camera goes.

    picture of positions H x W -> plane of data, in units of the world; with P the pixel's position, L the same in the
    shape's own axes, c the curve 0..1 (straight, or 3t^2 - 2t^3), s the softness:
        ball: c((r - abs(P - centre)) / s)    box: c(min(h - abs(L)) / s)    slab: c((h - abs(L_z)) / s)
    Nothing there gives 0, inverted too. `coverage` multiplies, so that edges are as soft as the picture's.
    """

    name = "space_matte"
    family = "space"
    makes = "plane"
    needs = "position matte, pool of light, world space mask, sphere, garbage matte in space"
    ports = (Port("position", "picture", "World positions"), COVERAGE)
    nanoseconds = 12
    Settings = SpaceMatteSettings

    def describe(self, inputs: Mapping[str, Description], settings: SpaceMatteSettings) -> Description:
        position = inputs["position"]
        axes_of(position, "position")
        return Description((), position.display, position.window, origin=position.origin).as_plane(data=True)

    def wants(
        self, channels: object, inputs: Mapping[str, Description], settings: SpaceMatteSettings
    ) -> dict[str, tuple[str, ...]]:
        wanted: dict[str, tuple[str, ...]] = {"position": axes_of(inputs["position"], "position")}
        return wanted | ({"coverage": inputs["coverage"].channels} if "coverage" in inputs else {})

    def express(self, values: Mapping[str, Any], settings: SpaceMatteSettings, scene: Scene) -> dict[str, Any]:
        places, there = places_of(values, scene, "position")
        away = [place - np.float32(middle) for place, middle in zip(places, settings.centre, strict=True)]
        if settings.shape == "ball":
            inwards = np.float32(settings.size[0]) - np.sqrt(away[0] ** 2 + away[1] ** 2 + away[2] ** 2)
        else:
            own = [
                np.abs(sum(np.float32(part) * value for part, value in zip(axis, away, strict=True)))
                for axis in turned_axes(settings.rotation)
            ]
            rooms = [np.float32(size) - value for size, value in zip(settings.size, own, strict=True)]
            inwards = rooms[2] if settings.shape == "slab" else np.minimum(np.minimum(rooms[0], rooms[1]), rooms[2])
        matte = curve(inwards, settings.softness, settings.profile)
        matte = np.float32(1) - matte if settings.invert else matte
        matte = np.where(there, matte, np.float32(0))
        return {PLANE_NAME: matte * values["coverage"][PLANE_NAME] if "coverage" in values else matte}


def curve(inwards: Any, softness: float, profile: Profile) -> Any:
    """From 0 at an edge to 1 so far inside of it; without softness a step."""
    if softness <= 0:
        return (inwards >= 0).astype(np.float32)
    if profile == "smooth":
        return smoothstep(0, softness, inwards)
    return np.clip(inwards * np.float32(1 / softness), 0, 1)


class FogSettings(Settings):
    law: Literal["linear", "exponential", "squared", "low"] = setting("exponential", "How it thickens with distance")
    start: float = setting(1.0, "Where it begins", low=0, high=50, step=0.1)
    end: float = setting(20.0, "Where it is whole (linear)", low=1, high=200, step=0.5)
    density: float = setting(0.1, "How thick a unit of it is (other laws)", ge=0, low=0, high=1, step=0.005)
    height: float = setting(0.0, "Height at which low fog is as thick as `density` says", low=-5, high=20, step=0.1)
    falloff: float = setting(1.0, "Height over which low fog thins to a third", gt=0, low=0.1, high=20, step=0.1)
    colour: Point = setting((0.5, 0.55, 0.6), "Its colour, scene-linear", widget="colour")
    opacity: float = setting(1.0, "How much of all behind it can hide", ge=0, le=1, low=0, high=1, step=0.01)
    noise: float = setting(0.0, "How far it is broken up", ge=0, le=2, low=0, high=2, step=0.05)
    noise_scale: float = setting(
        1.0, "Size of its clouds: world units, or pixels in the picture", gt=0, low=0.1, high=50
    )
    noise_seed: int = setting(1, "Another number gives other clouds", ge=0, le=1_000_000)
    noise_in: Literal["world", "picture"] = setting("world", "What the clouds stick to; world needs positions")
    noise_drift: Point = setting(
        (0.0, 0.0, 0.0), "How far the clouds have moved", widget="triple", low=-5, high=5, step=0.05
    )
    texture_amount: float = setting(1.0, "How far `texture` takes it away", ge=0, le=1, low=0, high=1, step=0.01)
    behind: Literal["fog", "keep"] = setting("keep", "Where nothing covers: fill with fog, or keep it clear")

    @model_validator(mode="after")
    def _apart(self) -> FogSettings:
        if self.law == "linear" and self.end <= self.start:
            raise SettingError("fog ends before it starts", where="setting 'end'", remedy="put it behind `start`")
        return self


OCTAVES = 4


@register
class Fog(Operation):
    """Fog between the eye and what is seen, by depth.

    picture H x W, depth -> picture, state kept. With d the depth, rho the density, o the opacity, f = o law:
        linear: clip((d - start) / (end - start), 0, 1)        exponential: 1 - e^(-rho max(d - start, 0))
        squared: 1 - e^(-(rho max(d - start, 0))^2)
        low (needs `position` and a camera in its header): 1 - e^-tau, tau = rho |P - eye| e^(-(y_eye - height)/falloff)
        (1 - e^-D)/D, D = (y_P - y_eye)/falloff
    `noise` n (-1..1, four octaves of gradient noise; in space those finer than a pixel fade out): f clip(1 + amount n);
    `texture` t: f lerp(1, t, texture_amount). On premultiplied light c with alpha a:
        keep: c (1 - f) + a f colour, alpha a           fog: + (1 - a) o colour, alpha a + (1 - a) o
    Nothing there is infinitely far: law 1. Where alpha covers a pixel whose centre missed, its nearest neighbour's
    depth holds. References: K. Perlin, *Improving Noise*, SIGGRAPH 2002; height fog is the integral of an exponential
    atmosphere along the ray.
    """

    name = "fog"
    family = "space"
    makes = "picture"
    needs = "mist, haze, aerial perspective, depth cue, atmosphere, ground fog"
    ports = (
        Port("picture", "picture", "Picture"),
        DEPTH,
        Port("position", "picture", "World positions, for low fog and clouds that stick to the set", required=False),
        Port("texture", "plane", "What breaks it up", required=False),
    )
    nanoseconds = 60
    scratch_bytes = 40
    Settings = FogSettings

    def describe(self, inputs: Mapping[str, Description], settings: FogSettings) -> Description:
        picture = inputs["picture"]
        rgb_names(picture, "picture")
        if settings.law == "low" or (settings.noise > 0 and settings.noise_in == "world"):
            if "position" not in inputs:
                what = "low fog" if settings.law == "low" else "noise in the world"
                raise RecipeError(
                    f"{what} needs positions", where="port 'position'", remedy="make them by position_from_depth"
                )
            axes_of(inputs["position"], "position")
        if settings.law == "low":
            _camera_of(inputs["position"])
        if settings.behind == "fog" and picture.has_alpha:
            # Fog is everywhere, not only where the picture has data.
            return picture.changed(window=picture.window.union(picture.display))
        return picture

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: FogSettings
    ) -> dict[str, tuple[str, ...]]:
        picture = inputs["picture"]
        own = [*channels, *([ALPHA_NAME] if picture.has_alpha else [])]
        wanted = {"picture": tuple(name for name in picture.channels if name in own)}
        if not self._changed(channels, picture, settings):
            return wanted
        wanted["depth"] = inputs["depth"].channels
        if "position" in inputs and (settings.law == "low" or settings.noise > 0):
            wanted["position"] = axes_of(inputs["position"], "position")
        if "texture" in inputs:
            wanted["texture"] = inputs["texture"].channels
        return wanted

    @staticmethod
    def _changed(channels: Sequence[str], picture: Description, settings: FogSettings) -> list[str]:
        names = list(rgb_names(picture, "picture"))
        if picture.has_alpha and settings.behind == "fog":
            names.append(ALPHA_NAME)
        return [name for name in names if name in channels]

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: FogSettings
    ) -> tuple[str, str] | None:
        changed = self._changed([channel], inputs["picture"], settings)
        return None if changed else ("picture", channel)

    def input_region(self, port: str, region: Window, scene: Scene, settings: FogSettings) -> Window:
        return region.grow(1) if port in ("depth", "position") else region

    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: FogSettings, scene: Scene
    ) -> Mapping[str, Plane]:
        picture, given = inputs["picture"], scene.descriptions["picture"]
        changed = self._changed(channels, given, settings)
        result = {name: picture[name] for name in channels if name not in changed}
        if not changed:
            return result
        shape = (scene.region.height, scene.region.width)
        alpha = picture[ALPHA_NAME] if given.has_alpha else np.ones(shape, np.float32)
        depth = covered_depth(inputs, scene, scene.region.grow(1), alpha)
        share = np.float32(settings.opacity) * self._law(inputs, depth, settings, scene)
        filled = np.float32(settings.opacity) if settings.behind == "fog" else np.float32(0)
        cover = alpha + (1 - alpha) * filled
        straight = given.alpha is Alpha.STRAIGHT
        for name, colour in zip(rgb_names(given, "picture"), settings.colour, strict=True):
            if name not in changed:
                continue
            light = picture[name] * alpha if straight else picture[name]
            light = light * (1 - share) + (alpha * share + (1 - alpha) * filled) * np.float32(colour)
            result[name] = np.where(cover > 0, safe_divide(light, cover), picture[name]) if straight else light
        if ALPHA_NAME in changed:
            result[ALPHA_NAME] = cover
        return result

    def _law(
        self, inputs: Mapping[str, Mapping[str, Plane]], depth: Plane, settings: FogSettings, scene: Scene
    ) -> Plane:
        from nexal.kernels.space import clouds_in_space, low_fog

        nothing = ~np.isfinite(depth)
        far = np.where(nothing, np.float32(0), depth)
        way = np.maximum(far - np.float32(settings.start), 0)
        if settings.law == "linear":
            law = np.minimum(way * np.float32(1 / (settings.end - settings.start)), 1)
        elif settings.law == "low":
            places, there = places_of(inputs, scene, "position")
            nothing = ~there[1:-1, 1:-1]
            inner = [np.ascontiguousarray(place[1:-1, 1:-1]) for place in places]
            law = low_fog(
                inner,
                _camera_of(scene.descriptions["position"]).eye,
                settings.density,
                settings.height,
                settings.falloff,
            )
        else:
            thick = way * np.float32(settings.density)
            law = -np.expm1(-(thick * thick if settings.law == "squared" else thick))
        if settings.noise > 0:
            if settings.noise_in == "world":
                places, there = places_of(inputs, scene, "position")
                noise = clouds_in_space(
                    places, there, settings.noise_scale, OCTAVES, settings.noise_seed, settings.noise_drift
                )
            else:
                noise = _clouds_in_picture(settings, scene)
            law = law * np.clip(1 + np.float32(settings.noise) * noise, 0, 2)
        law = np.where(nothing, np.float32(1), np.minimum(law, 1))
        if "texture" in inputs:
            amount = np.float32(settings.texture_amount)
            law = law * (1 + amount * (np.clip(inputs["texture"][PLANE_NAME], 0, 1) - 1))
        return law


def _clouds_in_picture(settings: FogSettings, scene: Scene) -> Plane:
    from nexal.kernels.clouds import clouds

    x, y, _ = settings.noise_drift
    start = (float(scene.x[0, 0]) - x, float(scene.y[0, 0]) - y)
    shape = (scene.region.height, scene.region.width)
    return clouds(shape, start, 1 / float(scene.scale), settings.noise_scale, OCTAVES, settings.noise_seed)


def eye_needed(position: Description, what: str, remedy: str) -> Camera:
    """The camera in the header of a position pass. Raises RecipeError: `what` needs to know where the eye is."""
    found = camera_of(position)
    if found is None:
        raise RecipeError(
            f"{what} to know where the eye is, and its file has no camera in its header (worldToNDC)",
            where="port 'position'",
            remedy=f"take positions of a file with its camera, or {remedy}",
        )
    return found


def _camera_of(position: Description) -> Camera:
    return eye_needed(position, "low fog needs", "another law")
