"""Whole mattes before coloured screens, the empty screen, and pictures without their noise."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from nexal.errors import SettingError
from nexal.kernels.pointmath import safe_divide
from nexal.operations.base import Port, Scene, Settings, register, setting
from nexal.operations.keying import rgb_names
from nexal.operations.wholes import (
    SIDES,
    SidedPicture,
    SidedSettings,
    WholePicture,
    colour_of,
    reporting,
    seen_names,
    sides_of,
)
from nexal.picture import ALPHA_NAME, PLANE_NAME, Alpha, Description, Plane

Wanted = Literal["auto", "green", "blue", "red"]


def screen_of(shot: NDArray[np.float32], wanted: str) -> str:
    """The screen's colour, as wanted or found. Raises SettingError where there is none."""
    from nexal.kernels.screens import commonest_screen

    found = commonest_screen(shot) if wanted == "auto" else wanted
    if found is None:
        raise SettingError("no green, blue or red screen is seen", where="setting 'screen'", remedy="choose its colour")
    return found


class DenoiseSettings(Settings):
    strength: float = setting(
        0.3, "How unlike may be what is averaged: more takes more detail along", gt=0, le=4, low=0.05, high=1, step=0.01
    )
    search: int = setting(5, "How far away like pixels are looked for", ge=1, le=10, low=1, high=10, step=1, unit="px")
    noise: float = setting(
        1.0, "How much stronger the noise is than it was found to be", gt=0, le=8, low=0.25, high=4, step=0.05
    )
    gives: Literal["picture", "deviation"] = setting(
        "picture", "The picture, or the standard deviation of the noise that is left in it"
    )


@register
class Denoise(WholePicture):
    """Take the noise out of a picture by the noise's own model.

    picture H x W -> the same, or a plane of data. The variance of the noise is found as base + slope x signal, from
    the medians of second differences in bins of signal. Each pixel becomes the mean of those within `search` whose
    patches of 3 x 3 agree within that noise: with D the mean of difference^2 / (sum of both variances), each weighs
    exp(-max(0, D - 1) / strength). `deviation`: sqrt of the variance that is left, mean of the channels. Only red,
    green and blue of the picture itself are changed. Computed in full resolution, whatever is looked at. References:
    Immerkaer, CVIU 64, 1996; Buades, Coll, Morel, CVPR 2005. Before a plain pull of the test scenes it takes a
    fifth of the error and more.
    """

    name = "denoise"
    makes = "picture"
    needs = "remove grain, noise, clean the picture before a pull, degrain"
    ports = (Port("picture", "picture", "Noisy picture"),)
    nanoseconds = 2500
    scratch_bytes = 40
    Settings = DenoiseSettings

    def describe(self, inputs: Mapping[str, Description], settings: DenoiseSettings) -> Description:
        picture = inputs["picture"]
        rgb_names(picture, "picture")
        return picture.as_plane(data=True) if settings.gives == "deviation" else picture

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: object
    ) -> dict[str, tuple[str, ...]]:
        names = rgb_names(inputs["picture"], "picture")
        others = [name for name in channels if name in inputs["picture"].channels and name not in names]
        seen = seen_names(inputs["picture"], "picture") if len(others) < len(channels) else ()
        return {"picture": (*seen, *(name for name in others if name not in seen))}

    def untouched(
        self, channel: str, inputs: Mapping[str, Description], settings: DenoiseSettings
    ) -> tuple[str, str] | None:
        changed = settings.gives == "deviation" or channel in rgb_names(inputs["picture"], "picture")
        return None if changed else ("picture", channel)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: DenoiseSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.denoising import averaged, noise_of

        names = rgb_names(scene.descriptions["picture"], "picture")
        result = {name: inputs["picture"][name] for name in channels if name not in names and name != PLANE_NAME}
        if len(result) == len(channels):
            return result
        description = scene.descriptions["picture"]
        colour = colour_of(inputs, scene, "picture", Alpha.PREMULTIPLIED)
        variance = noise_of(colour).variance(colour) * np.float32(settings.noise**2)
        search = max(1, round(scene.pixels(settings.search)))
        clean, factor = averaged(colour, variance, search, settings.strength, reporting(scene))
        if settings.gives == "deviation":
            return {PLANE_NAME: np.sqrt(variance.mean(axis=0) * factor)}
        planes: Iterable[Plane] = clean
        if description.has_alpha and description.alpha is Alpha.STRAIGHT:
            alpha = inputs["picture"][ALPHA_NAME]
            kept = (inputs["picture"][name] for name in names)
            planes = (
                np.where(alpha > 0, safe_divide(light, alpha), old) for light, old in zip(clean, kept, strict=True)
            )
        return result | {name: plane for name, plane in zip(names, planes, strict=True) if name in channels}


class ScreenPlateSettings(Settings):
    screen: Wanted = setting("auto", "Colour of the screen; auto: what covers most")
    gives: Literal["plate", "doubt"] = setting(
        "plate", "The empty screen, or how unsure it is, as a share of its light"
    )


@register
class ScreenPlate(WholePicture):
    """The empty screen, estimated from the shot itself: a clean plate where none was filmed.

    picture(, plane: what is surely not screen, pictures `others`) -> picture R, G, B, or a plane of data. Bare screen
    is where the share of the screen's colour, (S - max(o1, o2)) / S, lies within 0.05 of its purest large peak, shrunk
    by 2 px. Through it go a cubic surface (Tukey's weights) and what that misses, carried into the gaps by masked
    averages of sigma 3, 7, 16, 36, 80 px, the finest with enough known pixels; differences above 12 % are no screen.
    `doubt`: 0.006 where bare screen is near, up to 0.036 where none is. What a frame hides is taken from `others` that
    show it, brought to its light by the ratio of the two on what is bare in both; what they show too is screen, however
    it differs. For a pull it is as good as the true plate. Computed in full resolution, whatever is looked at. Raises
    SettingError where there is no screen, or hardly any of it is bare.
    """

    name = "screen_plate"
    makes = "picture"
    needs = "clean plate from the shot, empty green screen, empty blue screen, background plate"
    ports = (
        Port("picture", "picture", "Picture before a coloured screen"),
        Port("matte", "plane", "What is surely not screen", required=False),
        Port("others", "picture", "The shot at other frames, the camera standing still", required=False, many=True),
    )
    nanoseconds = 400
    scratch_bytes = 60
    Settings = ScreenPlateSettings

    def describe(self, inputs: Mapping[str, Description], settings: ScreenPlateSettings) -> Description:
        picture = inputs["picture"]
        names = rgb_names(picture, "picture")
        if settings.gives == "doubt":
            return picture.as_plane(data=True)
        traits = {name: trait for name, trait in picture.traits.items() if name in names}
        return picture.changed(channels=names, alpha=Alpha.NONE, data=picture.data & set(names), traits=traits)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: ScreenPlateSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.screens import bare_screen, estimated, joined

        shot = colour_of(inputs, scene, "picture")
        screen = screen_of(shot, settings.screen)
        bare = bare_screen(shot, screen)
        if "matte" in inputs:
            bare &= inputs["matte"][PLANE_NAME] < 0.5
        check_bare(bare)
        others = [colour_of(inputs, scene, port) for port in inputs if port.startswith("others.")]
        more = bare
        if others:
            shot, more = joined(shot, bare, others, screen)
        # Frames that were all left out tell nothing more.
        plate, doubt = estimated(shot, more, joined=bool((more & ~bare).any()))
        if settings.gives == "doubt":
            return {PLANE_NAME: doubt}
        names = rgb_names(scene.descriptions["picture"], "picture")
        return {name: plane for name, plane in zip(names, plate, strict=True) if name in channels}


def check_bare(bare: NDArray[np.bool_]) -> None:
    """Raises SettingError where too little of a screen is bare to tell it from."""
    from nexal.kernels.solving import LEAST_BARE

    if bare.sum() < LEAST_BARE:
        raise SettingError(
            "hardly any bare screen is seen", where="port 'picture'", remedy="choose its colour, or feed a clean plate"
        )


class ScreenSolveSettings(SidedSettings):
    screen: Wanted = setting("auto", "Colour of the screen; auto: what covers most")
    veils: bool = setting(True, "Whether thin cloth, glass and smoke are told from what is solid")
    gives: Literal["matte", "doubt", "spill"] = setting(
        "matte", "Alpha; how unsure it is: its standard deviation; or the screen's light on the subject"
    )


@register
class ScreenSolve(SidedPicture):
    """The whole matte before a coloured screen, in one step, from nothing but the shot; and how unsure it is.

    picture(, clean plate, planes `keep` and `drop`, picture `held`) -> plane of data. With I the shot and B the screen,
    J = I - B, freed of noise as `denoise` does it, is a (F - B). Neighbours whose J is parallel lie on one ray: where
    they all lie at its end the subject is solid, where they are spread along it alpha is between. The solids' colours
    are a palette of 16 and four greys, with weights where they were seen; with `veils` colours that lean to the screen
    and whose rays have no end are taken for thin. Alpha is the mean over 21 values of what noise, screen and palette
    leave likely, neighbours being the prior. `clean` is brought to the shot's light; without it the screen is estimated
    (`screen_plate`), twice. What `keep` or `drop` covers, or `strokes` paint, is surely subject, or surely screen, and
    tells its neighbours so. With `held`, a source that stands still at one frame, the palette is that frame's: over a
    range it does not change. `spill` is d(I - (1 - a) B) / d(B), from 0 to a, with d = S - max(o1, o2), the screen's
    channel and the two others: what of the screen's own light is seen on the subject, fading to none where it is 0.08
    to 0.16 of it all around: the subject's own colour. Test scenes (hair, veil, leaves, blur; green and blue; mean
    error of 640 x 360): 1.2 with a plate and without, where a plain pull has 6.3. Unsure: veils of the screen's
    opposite colour, soft veils over bodies. Computed in full resolution, whatever is looked at. Raises SettingError
    where there is no screen.
    """

    name = "screen_solve"
    makes = "plane"
    needs = "whole matte, key a green screen or blue screen by itself, hair, veil, one step, automatic"
    ports = (
        Port("picture", "picture", "Picture before a coloured screen"),
        Port("clean", "picture", "The screen without the subject", required=False),
        *SIDES,
        Port("held", "picture", "The shot, held at a frame, whose colours of the subject are kept", required=False),
    )
    nanoseconds = 6000
    scratch_bytes = 320
    Settings = ScreenSolveSettings

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: ScreenSolveSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.screens import bare_screen, excess
        from nexal.kernels.solving import solve

        shot = colour_of(inputs, scene, "picture")
        plate = colour_of(inputs, scene, "clean") if "clean" in inputs else None
        screen = screen_of(shot if plate is None else plate, settings.screen)
        sides = sides_of(inputs, settings, scene)
        if plate is None:
            check_bare(bare_screen(shot, screen) | (sides["drop"] > 0.5 if "drop" in sides else False))
        elif np.mean(excess(plate, screen) > 0) < 0.05:
            raise SettingError(
                f"the clean plate shows no {screen} screen", where="port 'clean'", remedy="feed the empty screen"
            )
        held = colour_of(inputs, scene, "held") if "held" in inputs else None
        found = solve(shot, screen, plate, reporting(scene), veils=settings.veils, held=held, **sides)
        given = {"matte": found.alpha, "doubt": found.doubt, "spill": found.spill}
        return {PLANE_NAME: given[settings.gives]}
