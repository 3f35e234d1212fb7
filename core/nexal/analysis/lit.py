"""A packed texture on a lit object: what an outside renderer would make of it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from nexal.analysis.view import ViewPlanes
from nexal.engine import Cancellation, Engine, Plan
from nexal.engine.evaluate import SCALES
from nexal.engine.plan import Feed
from nexal.errors import RecipeError
from nexal.kernels.pointmath import encode
from nexal.kernels.rasterising import surface
from nexal.kernels.shading import AreaLight, Material, Surroundings, shade
from nexal.kernels.wrapping import bent, finished, sampled
from nexal.operations.packing import PORTS, Meaning, PackSettings
from nexal.picture import Description, Picture, Plane, Window, main_channels, split_channel

FAR = 4.0
"""From the object's middle to a light."""
SHOULDER = 0.8
"""Light above this is bent so that highlights keep a shape."""
BACKGROUND = 0.028
RGB = ("R", "G", "B")
PLAIN = {"base": 0.6, "roughness": 0.6, "metallic": 0.0, "occlusion": 1.0, "coat": 0.0}
"""What the object is made of where no channel says otherwise."""


@dataclass(frozen=True)
class ObjectPose:
    """How the object stands and where its lights are.

    `turn`: yaw and pitch in degrees. `key`, `fill`: the direction of each light as seen from the eye, a place in the
    unit circle whose middle is the eye itself; x right, y down.
    """

    object: str = "tin"
    turn: tuple[float, float] = (0.0, 8.0)
    key: tuple[float, float] = (-0.55, -0.45)
    fill: tuple[float, float] = (0.75, 0.1)
    size: int = 640


def _direction(place: tuple[float, float]) -> tuple[float, float, float]:
    x, y = place
    length = math.hypot(x, y)
    if length > 0.98:
        x, y = x * 0.98 / length, y * 0.98 / length
    return x, -y, math.sqrt(1 - x * x - y * y)


def lights_of(standing: ObjectPose) -> list[AreaLight]:
    """A tall warm key and a broad cool fill."""
    key, fill = (_at(place) for place in (standing.key, standing.fill))
    return [
        AreaLight(key, 1.1, 2.6, (13.0, 11.2, 9.0), 2, 4),
        AreaLight(fill, 1.8, 1.8, (1.9, 2.5, 3.4), 2, 2),
    ]


def _at(place: tuple[float, float]) -> tuple[float, float, float]:
    x, y, z = _direction(place)
    return x * FAR, y * FAR, z * FAR


SURROUNDINGS = Surroundings((0.21, 0.215, 0.225), (0.17, 0.18, 0.2))


@dataclass(frozen=True)
class Textures:
    """What the object is wrapped in: its base colour, a packed texture (whose channels mean what its pack step says),
    a normal map; each may be left out."""

    base: Feed | None = None
    packed: Feed | None = None
    normal: Feed | None = None


def meanings_of(feed: Feed) -> dict[str, Meaning]:
    """What the channels of a packed texture stand for, as its pack step says; nothing for other items."""
    node = feed.node
    while node.operation is None or node.operation.name in ("mip", "blocks"):
        if not node.feeds:
            return {}
        node = next(iter(node.feeds.values())).node
    if not isinstance(node.settings, PackSettings):
        return {}
    return {PORTS[port]: meaning for port, meaning in node.settings.meanings.items()}


def lit(
    engine: Engine, plan: Plan, textures: Textures, standing: ObjectPose, cancellation: Cancellation | None = None
) -> ViewPlanes:
    """The object with its textures, as finished display values R, G, B of size x size pixels.

    Textures are taken at the proxy scale that suits the size. Raises RecipeError for a base colour without red, green
    and blue, or a normal map without three channels.
    """
    seen = surface(standing.object, *(math.radians(angle) for angle in standing.turn), standing.size)
    wanted = _Wanted(engine, plan, standing.size, cancellation)
    known = _known(textures)
    painted, bending = wanted.of(textures.base, RGB, "base colour"), wanted.vectors(textures.normal)
    planes = {("packed", name): plane for name, plane in wanted.channels(textures.packed, list(known)).items()}
    planes |= painted
    values = dict(zip(planes, sampled(list(planes.values()), seen), strict=True))

    def plain(value: float) -> NDArray[np.float32]:
        return np.full(seen.places.size, value, np.float32)

    parts = {name: plain(value) for name, value in PLAIN.items() if name != "base"}
    for channel, meaning in known.items():
        value = values["packed", channel]
        parts[meaning.meaning] = np.float32(1) - value if meaning.inverted else value
    base = [values[key] for key in painted] or [plain(PLAIN["base"])] * 3
    normals = bent(seen, bending) if bending else seen.normals
    light = shade(seen, normals, Material(base, **parts), lights_of(standing), SURROUNDINGS)
    window = Window(0, 0, standing.size, standing.size)
    colours = dict(zip(RGB, finished(light, seen, BACKGROUND, _curve), strict=True))
    picture = Picture(Description(RGB, window, window), window, Fraction(1), colours)
    return ViewPlanes(picture, [None] * 3, finished=True)


def _known(textures: Textures) -> dict[str, Meaning]:
    """The channels of the packed texture that mean something to light, with what they mean."""
    if textures.packed is None:
        return {}
    given = meanings_of(textures.packed)
    return {name: each for name, each in given.items() if each.meaning in PLAIN and each.meaning != "base"}


def _curve(light: Plane) -> Plane:
    """Display values of light, with a soft shoulder above SHOULDER."""
    rest = np.float32(1 - SHOULDER)
    bright = np.maximum(light - np.float32(SHOULDER), 0)
    return encode(np.minimum(light, np.float32(SHOULDER)) + rest * (1 - np.exp(-bright / rest)))


class _Wanted:
    """Textures, whole, at the scale that suits the size of the picture."""

    def __init__(self, engine: Engine, plan: Plan, size: int, cancellation: Cancellation | None) -> None:
        self._engine, self._plan, self._size, self._cancellation = engine, plan, size, cancellation

    def of(self, feed: Feed | None, lasts: Sequence[str], what: str) -> dict[tuple[str, str], Plane]:
        """The red, green and blue of a picture, by what it is for and their names."""
        if feed is None:
            return {}
        names = {split_channel(name)[1]: name for name in main_channels(feed.description)}
        if any(last not in names for last in lasts):
            raise RecipeError(
                f"{feed.node.item} has no red, green and blue", where=what, remedy="choose a picture that has"
            )
        planes = self.channels(feed, [names[last] for last in lasts])
        return {(what, last): planes[names[last]] for last in lasts}

    def vectors(self, feed: Feed | None) -> list[Plane]:
        """Packed directions: the numbers of the file are meant, also where it is read as encoded colour."""
        if feed is None:
            return []
        planes = self.of(feed, RGB, "normal map")
        colour = {split_channel(name)[1] for name in main_channels(feed.description) if name in feed.description.colour}
        return [encode(plane) if last in colour else plane for (_, last), plane in planes.items()]

    def channels(self, feed: Feed | None, names: Sequence[str]) -> dict[str, Plane]:
        if feed is None or not names:
            return {}
        display = feed.description.display
        # Texels about as fine as pixels: finer ones would flicker as the object turns.
        fitting = [scale for scale in SCALES if min(display.width, display.height) * scale >= 0.8 * self._size]
        scale = fitting[-1] if fitting else SCALES[0]
        picture = self._engine.evaluate(
            feed,
            self._plan,
            scale=scale,
            region=display.scaled(scale),
            channels=names,
            looked_at=True,
            patient=False,
            cancellation=self._cancellation,
        )
        return dict(picture.planes)
