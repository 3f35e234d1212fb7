"""Cures of edges: backing colour cleared, edges melted, colour carried outward and recovered."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from nexal.errors import RecipeError
from nexal.kernels.bounds import bounded, covering
from nexal.kernels.pointmath import Value, clip, decode, encode, lerp, maximum, uncovered, unpremultiplied
from nexal.operations.base import (
    Channels,
    Operation,
    PointOperation,
    Port,
    Scene,
    Settings,
    no_alpha,
    register,
    setting,
)
from nexal.operations.keying import rgb_names
from nexal.operations.mixing import MixingOperation
from nexal.operations.neighbourhood import edge_extended
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane, Window, inside


def _with_alpha(description: Description) -> Description:
    """Raises RecipeError where a picture has no red, green, blue or alpha."""
    rgb_names(description, "picture")
    if not description.has_alpha:
        raise no_alpha("picture")
    return description


def _all_or_none(channels: Sequence[str], description: Description, *, alpha: bool = True) -> tuple[str, ...]:
    """The channels that the asked ones depend on: colour needs red, green, blue and alpha together."""
    names = rgb_names(description, "picture")
    wanted = {*channels}
    if wanted & {*names, *([ALPHA_NAME] if alpha else [])}:
        wanted |= {*names, ALPHA_NAME}
    return tuple(name for name in description.channels if name in wanted)


class ClearBackingSettings(Settings):
    colour: tuple[float, float, float] = setting(
        (0.0, 0.0, 0.0), "Colour of the backing, in the values of the mixing", widget="colour", sampled=True
    )
    result: Literal["straight", "premultiplied"] = setting("straight", "What the colour becomes")
    encoding: Literal["scene", "display"] = setting("scene", "Values that were mixed: linear light, or encoded")
    clamp: bool = setting(True, "No colour below 0")


@register
class ClearBacking(PointOperation):
    """Take the backing's colour out of a picture that was matted over it.

    picture with alpha(, backing picture) -> picture; colour and alpha are taken as stored, whatever is said of them.
        straight = (c - b (1 - a)) / a where a > 0, else 0; not below 0 with `clamp`; times a for premultiplied
    b is `colour`, or the picture `backing` pixel by pixel. Where the mixing was done in display-encoded values
    (`encoding` display), c and a backing picture are encoded first and the result decoded, and `colour` is given in
    encoded values.
    """

    name = "clear_backing"
    family = "edges"
    needs = "remove halo, fringe, unmatte, matted with a colour, remove black, remove background colour"
    ports = (
        Port("picture", "picture", "Picture with alpha"),
        Port("backing", "picture", "The backing alone, where it is not one colour", required=False),
    )
    Settings = ClearBackingSettings

    def describe(self, inputs: Mapping[str, Description], settings: ClearBackingSettings) -> Description:
        if "backing" in inputs:
            rgb_names(inputs["backing"], "backing")
        state = Alpha.STRAIGHT if settings.result == "straight" else Alpha.PREMULTIPLIED
        return _with_alpha(inputs["picture"]).changed(alpha=state)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: ClearBackingSettings
    ) -> dict[str, tuple[str, ...]]:
        wanted = {"picture": _all_or_none(channels, inputs["picture"], alpha=False)}
        if "backing" in inputs and {*channels} & {*rgb_names(inputs["picture"], "picture")}:
            wanted["backing"] = rgb_names(inputs["backing"], "backing")
        return wanted

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: ClearBackingSettings
    ) -> tuple[str, str] | None:
        return None if channel in rgb_names(inputs["picture"], "picture") else ("picture", channel)

    def express(self, values: Mapping[str, Channels], settings: ClearBackingSettings, scene: Scene) -> Channels:
        result = dict(values["picture"])
        names = rgb_names(scene.descriptions["picture"], "picture")
        if not all(name in result for name in names):
            return result
        alpha = result[ALPHA_NAME]
        backings: list[Value] = [np.float32(part) for part in settings.colour]
        encoded = settings.encoding == "display"
        if "backing" in values:
            own = rgb_names(scene.descriptions["backing"], "backing")
            backings = [encode(values["backing"][name]) if encoded else values["backing"][name] for name in own]
        for name, backing in zip(names, backings, strict=True):
            colour = encode(result[name]) if encoded else result[name]
            straight = uncovered(colour, alpha, backing)
            straight = maximum(straight, np.float32(0)) if settings.clamp else straight
            straight = decode(straight) if encoded else straight
            result[name] = straight if settings.result == "straight" else straight * alpha
        return result


class EdgeMeltSettings(Settings):
    width: float = setting(8.0, "Band round the edge that melts", ge=0, le=500, low=0, high=60, step=0.1, unit="px")
    radius: float = setting(3.0, "Sigma of the blur", ge=0, le=200, low=0, high=30, step=0.1, unit="px")
    amount: float = setting(1.0, "How much of it", ge=0, le=1, low=0, high=1, step=0.01)


TILE = 512
"""Columns of a picture that melt, or do not, together."""


@register
class EdgeMelt(MixingOperation):
    """Soften an edge with its colour, in a band round it only.

    picture with alpha -> the same, in the state it came in. Colour and alpha are blurred together, premultiplied, by a
    Gaussian of `radius`; the blurred is mixed in by
        amount * Gaussian(dilation(4 a (1 - a), width / 2), width / 4)
    (dilation by a disc), held within 0..1. Edges of the data window extend outward.
    """

    name = "edge_melt"
    family = "edges"
    needs = "soften the edge, blur an edge without a halo, blend in"
    ports = (Port("picture", "picture", "Picture with alpha"),)
    mixes = "picture"
    Settings = EdgeMeltSettings

    def describe(self, inputs: Mapping[str, Description], settings: EdgeMeltSettings) -> Description:
        return _with_alpha(inputs["picture"])

    def _melted(self, description: Description) -> set[str]:
        return {*rgb_names(description, "picture"), ALPHA_NAME}

    def beside(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: EdgeMeltSettings
    ) -> dict[str, tuple[str, ...]]:
        # Where the edge is, alpha tells, whatever is asked for.
        return {"picture": (ALPHA_NAME,)} if self._melted(inputs["picture"]) & {*channels} else {}

    def affects(self, channel: str, description: Description, settings: EdgeMeltSettings, scene: Scene) -> bool:
        return channel in self._melted(description) and settings.radius > 0 and settings.amount > 0

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: EdgeMeltSettings
    ) -> tuple[str, str] | None:
        idle = settings.radius == 0 or settings.amount == 0
        return ("picture", channel) if idle or channel not in self._melted(inputs["picture"]) else None

    def effort(self, settings: EdgeMeltSettings, scene: Scene) -> float:
        return 12 + 1.5 * scene.pixels(settings.width + settings.radius)

    def input_region(self, port: str, region: Window, scene: Scene, settings: EdgeMeltSettings) -> Window:
        band = math.ceil(scene.pixels(settings.width) / 2) + math.ceil(scene.pixels(settings.width))
        return region.grow(max(band, math.ceil(4 * scene.pixels(settings.radius))) + 1)

    def prepared(self, inputs: Mapping[str, Mapping[str, Plane]], settings: EdgeMeltSettings, scene: Scene) -> Plane:
        """How much of the blurred is mixed in, over the scene's region."""
        from nexal.kernels.filters import blur, gaussian_weights
        from nexal.kernels.morphology import grow

        if ALPHA_NAME not in inputs.get("picture", {}):
            return np.zeros((scene.region.height, scene.region.width), np.float32)
        given = self.input_region("picture", scene.region, scene, settings)
        held = np.clip(edge_extended(inputs["picture"][ALPHA_NAME], given, scene), 0, 1)
        band = 4 * held * (1 - held)
        width = scene.pixels(settings.width)
        if width > 0:
            band = blur(grow(band, width / 2, round_element=True), gaussian_weights(max(width / 4, 1e-3)))
        share: Plane = np.clip(band, 0, 1) * np.float32(settings.amount)
        return share[scene.region.within(given)]

    def average(self, plane: Plane, settings: EdgeMeltSettings, scene: Scene, prepared: Plane) -> Plane:
        from nexal.kernels.filters import blur, gaussian_weights

        given = self.input_region("picture", scene.region, scene, settings)
        rows, columns = scene.region.within(given)
        extended = edge_extended(plane, given, scene)
        weights = gaussian_weights(scene.pixels(settings.radius))
        reach = len(weights) // 2
        result = np.ascontiguousarray(extended[rows, columns])
        # Mostly there is an edge in few places: the rest is not blurred.
        for left in range(0, result.shape[1], TILE):
            share = prepared[:, left : left + TILE]
            if not share.any():
                continue
            part = slice(columns.start + left - reach, columns.start + left + share.shape[1] + reach)
            around = extended[rows.start - reach : rows.stop + reach, part]
            blurred = blur(around, weights)[reach : reach + share.shape[0], reach : reach + share.shape[1]]
            melted = result[:, left : left + TILE]
            # Outside of the band nothing changes, whatever lies beside it.
            np.copyto(melted, lerp(melted, blurred, share), where=share > 0)
        return result

    def single(self, plane: Plane, settings: EdgeMeltSettings, scene: Scene) -> Plane:
        return plane[scene.region.within(self.input_region("picture", scene.region, scene, settings))]


class BleedSettings(Settings):
    distance: float | Literal["all"] = setting("all", "How far colour is carried, or all", unit="px")


@register
class Bleed(Operation):
    """Carry colour outward under the alpha, so that filtering and smaller levels find no foreign colour there.

    picture with alpha -> straight picture, alpha unchanged. Where alpha is 0, colour is that of the nearest pixel
    (Euclidean) whose alpha is above 0, within `distance`, smoothed by a Gaussian of 2 px; further away it stays.
    """

    name = "bleed"
    family = "edges"
    needs = "dilate colour, edge padding, texture fringe, colour under alpha"
    ports = (Port("picture", "picture", "Picture with alpha"),)
    whole = True
    nanoseconds = 60
    scratch_bytes = 12
    Settings = BleedSettings

    def describe(self, inputs: Mapping[str, Description], settings: BleedSettings) -> Description:
        return _with_alpha(inputs["picture"]).changed(alpha=Alpha.STRAIGHT)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: BleedSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"picture": _all_or_none(channels, inputs["picture"], alpha=False)}

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: BleedSettings
    ) -> tuple[str, str] | None:
        return None if channel in rgb_names(inputs["picture"], "picture") else ("picture", channel)

    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: BleedSettings, scene: Scene
    ) -> Mapping[str, Plane]:
        from nexal.kernels.nearest import carried

        result = dict(inputs["picture"])
        names = [name for name in rgb_names(scene.descriptions["picture"], "picture") if name in channels]
        if names:
            alpha = result[ALPHA_NAME]
            planes = [result[name] for name in names]
            if scene.descriptions["picture"].alpha is Alpha.PREMULTIPLIED:
                planes = [unpremultiplied(plane, alpha) for plane in planes]
            far = math.inf if settings.distance == "all" else scene.pixels(settings.distance)
            result |= dict(zip(names, carried(planes, alpha > 0, far, scene.pixels(2.0)), strict=True))
        return {name: result[name] for name in channels}


KNOWN_SHARE = np.float32(0.03)
"""Noise of a shot and its clean plate against the error of the estimation, as variances: the least error in soft pixels
lies between 0.01 and 0.1, on textured plates and green screens, with an exact matte and one of 0.02 noise."""


@register
class RecoverColour(Operation):
    """Find the foreground's own colour without what showed through.

    picture, plane(, picture) -> straight picture R, G, B, A; alpha is the matte. Multi-level estimation on scene-linear
    colour, in full resolution. With the clean plate C (the same without the subject) the estimate F of the shot I under
    the matte a is led to what explains the shot:
        F + a (I - a F - (1 - a) C) / (a^2 + 0.03), not below 0 where the shot and its plate are not
    It takes two fifths off the error in soft pixels. Where the plate has no data it is not used. With the `spill` s of
    a whole matte before a screen, a F is freed of s C: over another background there is no screen left in it. Without,
    the result over C gives the shot back.
    References: Germer, Uelwer, Conrad, Harmeling, *Fast multi-level foreground estimation*, ICPR 2020.
    """

    name = "recover_colour"
    family = "edges"
    needs = "foreground estimation, colour decontamination, remove what shows through"
    ports = (
        Port("picture", "picture", "Picture"),
        Port("matte", "plane", "Its matte"),
        Port("clean", "picture", "The same without the subject", required=False),
        Port("spill", "plane", "Light of the clean plate that lies on the subject", required=False),
    )
    whole = True
    nanoseconds = 300
    scratch_bytes = 48
    slow = True
    roughly = True

    def describe(self, inputs: Mapping[str, Description], settings: Settings) -> Description:
        names = rgb_names(inputs["picture"], "picture")
        if "spill" in inputs and "clean" not in inputs:
            raise RecipeError(
                "is a share of a clean plate that is not fed",
                where="port 'spill'",
                remedy="feed 'clean' with it",
            )
        return inputs["picture"].changed(
            channels=(*names, ALPHA_NAME),
            data=frozenset({ALPHA_NAME}),
            window=inputs["picture"].window.union(inputs["matte"].window),
            alpha=Alpha.STRAIGHT,
        )

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: Settings
    ) -> dict[str, tuple[str, ...]]:
        wanted = {"picture": rgb_names(inputs["picture"], "picture"), "matte": (PLANE_NAME,)}
        if "clean" in inputs:
            wanted["clean"] = rgb_names(inputs["clean"], "clean")
        if "spill" in inputs:
            wanted["spill"] = (PLANE_NAME,)
        return wanted

    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: Settings, scene: Scene
    ) -> Mapping[str, Plane]:
        from pymatting.foreground.estimate_foreground_ml import estimate_foreground_ml

        names = rgb_names(scene.descriptions["picture"], "picture")
        matte = covering(inputs["matte"][PLANE_NAME])
        alpha: Plane = clip(matte, 0, 1)
        scene.work.check()
        planes = [bounded(inputs["picture"][name]) for name in names]
        # The estimation holds its result within 0..1: brighter light is scaled into it and back.
        peak = max(1.0, *(float(plane.max(initial=0)) for plane in planes))
        image = np.stack(planes, axis=-1).astype(np.float32) / np.float32(peak)
        scene.work.report(0.1)
        found = estimate_foreground_ml(image, alpha.astype(np.float32)) * np.float32(peak)
        scene.work.check()
        if "clean" in inputs:
            clean = np.stack(
                [inputs["clean"][name] for name in rgb_names(scene.descriptions["clean"], "clean")], axis=-1
            )
            window = scene.descriptions["clean"].window.scaled(scene.scale)
            known = (inside(window, scene.region)[..., None] > 0) & ~np.isnan(clean)
            clean = np.where(known, bounded(clean), 0)
            found = _explained(found, image * np.float32(peak), clean, alpha[..., None], known)
            if "spill" in inputs:
                lying = np.clip(covering(inputs["spill"][PLANE_NAME]), 0, alpha)[..., None]
                found = _freed(found, clean, lying, alpha[..., None])
        result = {name: np.ascontiguousarray(found[..., index]) for index, name in enumerate(names)}
        return {name: matte if name == ALPHA_NAME else result[name] for name in channels}


def _freed(colour: Plane, clean: Plane, spill: Plane, alpha: Plane) -> Plane:
    """Colour without the share of a plate's light that lies on it; colours H x W x 3, the others H x W x 1."""
    share = np.divide(spill, alpha, out=np.zeros_like(alpha), where=alpha > 0)
    return np.maximum(colour - share * clean, np.minimum(colour, 0))


def _explained(found: Plane, shot: Plane, clean: Plane, alpha: Plane, known: NDArray[np.bool_]) -> Plane:
    """Estimated colour led to what explains the shot before a known background; all H x W x 3, alpha H x W x 1."""
    left = shot - alpha * found - (1 - alpha) * clean
    led = found + alpha * left / (alpha * alpha + KNOWN_SHARE)
    floor = np.minimum(np.minimum(shot, clean), 0)
    return np.where(known, np.maximum(led, floor), found)
