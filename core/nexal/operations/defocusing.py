"""Defocus by depth."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np
from pydantic import field_validator, model_validator

from nexal.errors import RecipeError, SettingError
from nexal.kernels.bounds import MOST_LIGHT, bounded
from nexal.kernels.pointmath import lerp, safe_divide, smoothstep
from nexal.operations.base import Operation, Port, Scene, Settings, register, setting
from nexal.operations.depths import DEPTH, depth_of
from nexal.operations.keying import rgb_names
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane, Window, inside

LARGEST, MOST = 100.0, 400.0
"""Radius in pixels of the full picture that no circle goes beyond, unless the radius at infinity does; and what none
goes beyond."""
SHARP, SOFT = 0.5, 3.0
"""Circles in pixels between which highlights and grain of what is out of focus come in."""


class DefocusSettings(Settings):
    focus: float = setting(5.0, "Distance of what is sharp", gt=0, low=0.1, high=50, step=0.05)
    range: tuple[float, float] = setting(
        (0.0, 0.0), "How far before and behind the focus it stays sharp", widget="sizes"
    )
    radius: float = setting(
        12.0, "Radius of what is infinitely far, or at `radius_at`", ge=0, le=MOST, low=0, high=100, step=0.5, unit="px"
    )
    radius_at: float = setting(0.0, "Distance at which the radius is meant; 0: infinitely far", ge=0, low=0, high=100)
    blades: int = setting(0, "Blades of the iris: none for a disc, or 5 to 9", ge=0, le=9, low=0, high=9, step=1)
    roundness: float = setting(0.0, "From straight blades to a circle", ge=0, le=1, low=0, high=1, step=0.01)
    turn: float = setting(0.0, "How far the iris is turned", low=-90, high=90, step=1, unit="°")
    highlight: float = setting(
        0.0, "How much brighter highlights out of focus are", ge=0, le=20, low=0, high=5, step=0.05
    )
    threshold: float = setting(1.0, "From where on they are highlights", ge=0, low=0, high=10, step=0.05)
    grain: float = setting(0.0, "Grain for what was blurred, standard deviation", ge=0, low=0, high=0.1, step=0.001)
    grain_mono: bool = setting(False, "The same grain in red, green and blue")

    @field_validator("blades")
    @classmethod
    def _blades(cls, value: int) -> int:
        if 0 < value < 5:
            raise ValueError("none, or 5 to 9 are wanted")
        return value

    @model_validator(mode="after")
    def _around(self) -> DefocusSettings:
        if min(self.range) < 0 or self.range[0] >= self.focus:
            raise SettingError(
                "reaches behind the lens or the wrong way",
                where="setting 'range'",
                remedy="give two lengths, the first below `focus`",
            )
        if self.radius_at and self.sharp[0] <= self.radius_at <= self.sharp[1]:
            raise SettingError(
                "lies where all is sharp", where="setting 'radius_at'", remedy="give a distance out of focus"
            )
        return self

    @property
    def sharp(self) -> tuple[float, float]:
        return self.focus - self.range[0], self.focus + self.range[1]


def circles(depth: Plane, settings: DefocusSettings) -> Plane:
    """Signed radius in pixels of the full picture of what lies at a depth (infinite: nothing), below 0 nearer than the
    focus.

    Far: R (1 - f/d). Near: -R (f/d - f/n); n..f is what is sharp (n = f: the thin lens). Not above 0 is infinitely far.
    """
    near, far = settings.sharp
    radius = settings.radius
    if settings.radius_at:
        at = far / settings.radius_at
        radius /= abs(1 - at) if settings.radius_at > far else abs(at - far / near)
    with np.errstate(all="ignore"):
        inverse = np.where(depth > 0, np.float32(far) / depth, np.float32(0))
    behind, before = np.maximum(1 - inverse, 0), np.minimum(np.float32(far / near) - inverse, 0)
    found: Plane = np.float32(radius) * (behind + before)
    most = min(max(LARGEST, radius), MOST)
    return np.clip(found, -most, most)


@register
class Defocus(Operation):
    """A picture, or a matte of it, as a lens sees it that is focused at a distance.

    picture or plane H x W, depth along the view in any unit(, `spared`: what stays sharp) -> the same, state kept. A
    matte is spread as light of an opaque picture is, without highlights and grain, and so fits the picture that went
    through the same lens. Circles of
    confusion (radius in full-resolution px): far R (1 - f/d), near R (f/d - f/n), n..f being focus less and plus
    `range`; R is `radius`, or what gives it at `radius_at`. Each pixel is spread over the iris (energy kept), from near
    to far, each surface before the next; what an edge hides is filled from the farther side, and pixels that hold two
    surfaces are parted. Highlights v = max(r, g, b) above the threshold are multiplied before by
    (t + (v - t)(1 + highlight s)) / v, s = smoothstep of the circle from 0.5 to 3 px; grain comes after, where s is.
    What `spared` covers takes no part and is laid back; glow and smoke that the depth does not know are spared so.
    Nothing there, and depths not above 0, are infinitely far. Depth has to be unfiltered (see `depth_edges`).
    Against a lens of 4,096 points, radius 20: see the figures in the architecture notes.
    """

    name = "defocus"
    family = "space"
    makes = "same"
    needs = "depth of field, bokeh, blur by depth, focus, rack focus"
    ports = (
        Port("picture", "any", "Picture or matte"),
        DEPTH,
        Port("spared", "plane", "What stays as it is", required=False),
    )
    whole = True
    nanoseconds = 220
    scratch_bytes = 100
    Settings = DefocusSettings

    def timed(self, settings: DefocusSettings) -> bool:
        return settings.grain > 0

    def describe(self, inputs: Mapping[str, Description], settings: DefocusSettings) -> Description:
        picture = inputs["picture"]
        if picture.is_plane:
            trait = picture.trait(picture.channels[0])
            if trait.is_label or trait.may_be_empty:
                raise RecipeError(
                    f"{trait.role} is no light: a lens does not spread it",
                    where="port 'picture'",
                    remedy="feed a picture or a matte",
                )
        else:
            rgb_names(picture, "picture")
        return picture.changed(window=self._window(picture, settings))

    @staticmethod
    def _window(picture: Description, settings: DefocusSettings) -> Window:
        """Where the result has data: what has an alpha is spread beyond its own window, as far as it is seen."""
        if not picture.has_alpha or picture.window.empty:
            return picture.window
        # Twice: what is clear around it has to be known as far as a circle reaches from where it ends.
        spread = picture.window.grow(2 * math.ceil(min(MOST, settings.radius)) + 2)
        return picture.window.union(spread.intersect(picture.display))

    @staticmethod
    def _names(picture: Description) -> list[str]:
        if picture.is_plane:
            return list(picture.channels)
        return [*rgb_names(picture, "picture"), *([ALPHA_NAME] if picture.has_alpha else [])]

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: DefocusSettings
    ) -> dict[str, tuple[str, ...]]:
        picture = inputs["picture"]
        names = self._names(picture)
        changed = any(name in names for name in channels)
        wanted = {
            "picture": tuple(name for name in picture.channels if name in channels or (changed and name in names))
        }
        if not changed:
            return wanted
        wanted["depth"] = inputs["depth"].channels
        return wanted | ({"spared": inputs["spared"].channels} if "spared" in inputs else {})

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: DefocusSettings
    ) -> tuple[str, str] | None:
        return None if channel in self._names(inputs["picture"]) else ("picture", channel)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: DefocusSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        picture, given = inputs["picture"], scene.descriptions["picture"]
        names = self._names(given)
        result = {name: picture[name] for name in channels if name not in names}
        if len(result) == len(channels):
            return result
        # An opaque picture ends where its data does: nothing is spread into what lies beyond.
        window = self._window(given, settings).scaled(scene.scale).intersect(scene.region)
        made = self._seen(inputs, window, settings, scene) if not window.empty else []
        for name, plane in zip(names, made, strict=False):
            if name in channels:
                whole = np.zeros((scene.region.height, scene.region.width), np.float32)
                whole[window.within(scene.region)] = plane
                result[name] = whole
        return result

    def _seen(
        self, inputs: Mapping[str, Mapping[str, Plane]], window: Window, settings: DefocusSettings, scene: Scene
    ) -> list[Plane]:
        """The picture's channels over its data window."""
        given, cut = scene.descriptions["picture"], window.within(scene.region)
        planes = [bounded(inputs["picture"][name][cut]) for name in self._names(given)]
        if given.is_plane:
            planes *= 3
            settings = settings.model_copy(update={"highlight": 0.0, "grain": 0.0})
        opaque = not given.has_alpha or bool((planes[3] >= 1).all())
        alpha = planes[3] if given.has_alpha else np.ones_like(planes[0])
        straight = given.alpha is Alpha.STRAIGHT
        light = [plane * alpha if straight else plane for plane in planes[:3]]
        depth = depth_of(inputs, scene, scene.region)[cut]
        spread = circles(depth, settings) * np.float32(scene.scale)
        spared = None
        if "spared" in inputs:
            held = scene.descriptions["spared"].window.scaled(scene.scale)
            spared = np.clip(inputs["spared"][PLANE_NAME] * inside(held, scene.region), 0, 1)[cut]
            spread = np.where(spared >= 0.5, np.float32(0), spread)
        soft = smoothstep(scene.pixels(SHARP), scene.pixels(SOFT), np.abs(spread))
        blurred = self._spread([*_boosted(light, soft, settings), alpha], spread, settings, opaque=opaque)
        if settings.grain > 0:
            blurred = _grained(blurred, soft, settings, scene)
        if spared is not None:
            blurred = [lerp(new, old, spared) for new, old in zip(blurred, [*light, alpha], strict=True)]
        cover = np.clip(blurred[3], 0, 1)
        colour = [safe_divide(plane, cover) for plane in blurred[:3]] if straight else blurred[:3]
        return [*colour, cover]

    @staticmethod
    def _spread(planes: list[Plane], spread: Plane, settings: DefocusSettings, *, opaque: bool) -> list[Plane]:
        from nexal.kernels.defocusing import ALIGN, defocused
        from nexal.kernels.iris import Iris

        reach = float(np.abs(spread).max())
        if reach <= SHARP:
            return planes
        height, width = spread.shape
        room = ((0, -height % ALIGN), (0, -width % ALIGN))
        whole = [np.pad(plane, room, mode="edge") if any(map(sum, room)) else plane for plane in (*planes, spread)]
        iris = Iris(settings.blades, settings.roundness, settings.turn)
        made = defocused(whole[:-1], whole[-1], reach * 1.001, 0, iris, opaque=opaque)
        return [plane[:height, :width] for plane in made]


def _boosted(light: list[Plane], soft: Plane, settings: DefocusSettings) -> list[Plane]:
    if settings.highlight == 0:
        return light
    value = np.maximum(np.maximum(light[0], light[1]), light[2])
    above = np.maximum(value - np.float32(settings.threshold), 0)
    gain = 1 + safe_divide(above * np.float32(settings.highlight) * soft, np.maximum(value, np.float32(1e-6)))
    return [np.minimum(plane * gain, MOST_LIGHT) for plane in light]


def _grained(planes: list[Plane], soft: Plane, settings: DefocusSettings, scene: Scene) -> list[Plane]:
    """Grain of its own in each frame; at smaller scales as weak as the mean of so many pixels is."""
    random = np.random.default_rng((scene.frame & 0xFFFFFFFF, 5))
    amount = np.float32(settings.grain * float(scene.scale)) * soft * planes[3]
    shared = random.standard_normal(soft.shape, np.float32) if settings.grain_mono else None
    grains = [shared if shared is not None else random.standard_normal(soft.shape, np.float32) for _ in range(3)]
    return [*(plane + amount * grain for plane, grain in zip(planes[:3], grains, strict=True)), planes[3]]
