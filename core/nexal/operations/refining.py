"""Edges of mattes found again in the picture."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from nexal.errors import SettingError
from nexal.kernels.bounds import bounded
from nexal.operations.base import Operation, Port, Scene, Settings, joined_window, register, setting
from nexal.operations.keying import rgb_names
from nexal.operations.wholes import LEAST_SIDE, reporting
from nexal.picture import PLANE_NAME, Description, Plane, Window

Band = Annotated[int, Field(ge=0, le=300)]
HARD_BAND = 12
"""The band of a matte without a soft edge of its own."""
SOFT_BAND, LEAST_BAND = 8, 2
"""The band of a soft matte, less its softness, which lies in it anyway: wider ones only add errors (measured on known
truth: hairs before a plain and a textured ground, mattes that are good, blurred, or hard)."""


class FineEdgeSettings(Settings):
    band: Band | Literal["auto"] = setting(
        12,
        "Width on both sides of the rough edge that is found anew; 0: the matte is a trimap; auto: by the matte's "
        "own soft edge",
        unit="px",
    )
    noise: bool = setting(False, "Take the picture's noise out first, by its own model: else it is taken for hair")
    guard: bool = setting(False, "Change the matte only as far as that explains the picture better")


def band_of(matte: Plane, settings: FineEdgeSettings, scale: float = 1.0) -> int:
    """The band that a matte is refined in, in pixels of its own scale."""
    from nexal.kernels.matting import soft_band

    if settings.band != "auto":
        return settings.band and max(1, round(settings.band * scale))
    soft = soft_band(matte)
    band = HARD_BAND * scale if soft is None else max(LEAST_BAND, SOFT_BAND * scale - 2 * soft)
    return max(1, round(band))


@register
class FineEdge(Operation):
    """Refine hair and other fine edges from a rough matte.

    picture, plane -> plane of data. Surely inside: matte > 0.99, shrunk by `band`; surely outside: matte < 0.01, shrunk
    likewise; in the band between alpha is found by closed-form matting on scene-linear colour. With `band` 0 the matte
    is a ready trimap (0, between, 1). With `auto` it is 12 px for a matte without soft edge, else max(2, 8 - 2 w), w
    being the distance from the sure to the middle of that edge (for nine in ten of it). `noise`: the picture is freed
    of it as `denoise` does. `guard`: with F and B the nearest sure colours and c the square of I - a F - (1 - a) B by
    noise and spread, the new alpha weighs c_old^2 / (c_old^2 + 4 c_new^2) against the old one, and nothing where that
    explains the picture within its noise. Eight scenes before screens (mean error of 640 x 360) from a good, a blurred
    and a hard matte of 1.2, 5.2, 7.3: plain 5.5, 7.9, 6.7; `noise` 3.0, 5.9, 5.6; both 1.8, 4.6, 5.0. Computed in full
    resolution, whatever is looked at.
    Raises SettingError where nothing is surely inside, or nothing surely outside.
    References: Levin, Lischinski, Weiss, IEEE TPAMI 30, 2008.
    """

    name = "fine_edge"
    family = "mattes"
    makes = "plane"
    needs = "refine hair, fur, fine edge from a rough matte, trimap, matting"
    ports = (Port("picture", "picture", "Picture"), Port("matte", "plane", "Rough matte or trimap"))
    slow = True
    roughly = True
    nanoseconds = 3000
    whole = True
    Settings = FineEdgeSettings

    def describe(self, inputs: Mapping[str, Description], settings: FineEdgeSettings) -> Description:
        rgb_names(inputs["picture"], "picture")
        return inputs["picture"].changed(window=joined_window(inputs)).as_plane(data=True)

    def wants(
        self, channels: Sequence[str], inputs: Mapping[str, Description], settings: FineEdgeSettings
    ) -> dict[str, tuple[str, ...]]:
        return {"picture": rgb_names(inputs["picture"], "picture"), "matte": (PLANE_NAME,)}

    def effort(self, settings: FineEdgeSettings, scene: Scene) -> float:
        return self.nanoseconds + 2500 * settings.noise + 300 * settings.guard

    def scratch(self, settings: FineEdgeSettings, scene: Scene) -> float:
        from nexal.kernels.matting import memory_needed

        own = memory_needed(scene.region.height, scene.region.width) / max(1, scene.region.area)
        return own + 60 * settings.noise + 120 * settings.guard

    def input_region(self, port: str, region: Window, scene: Scene, settings: FineEdgeSettings) -> Window:
        return region

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: FineEdgeSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.denoising import SEARCH, STRENGTH, averaged, noise_of
        from nexal.kernels.guarding import guarded
        from nexal.kernels.matting import closed_form, trimap_of

        matte = inputs["matte"][PLANE_NAME]
        trimap = trimap_of(matte, band_of(matte, settings, float(scene.scale)))
        for value, place in ((1, "inside"), (0, "outside")):
            if not np.any(trimap == value):
                raise SettingError(
                    f"nothing is surely {place} the matte",
                    where="setting 'band'",
                    remedy="narrow the band, or feed a matte that reaches 0 and 1",
                )
        names = rgb_names(scene.descriptions["picture"], "picture")
        planes = bounded(np.stack([inputs["picture"][name] for name in names]))
        small = min(planes.shape[1:]) < LEAST_SIDE
        wanted = (settings.noise or settings.guard) and not small
        variance = noise_of(planes).variance(planes) if wanted else np.zeros_like(planes)
        clean = planes
        if settings.noise and not small:
            clean, _ = averaged(planes, variance, SEARCH, STRENGTH, reporting(scene, 0.0, 0.3))
        colour = np.ascontiguousarray(np.moveaxis(clean, 0, -1))
        alpha = closed_form(colour, trimap, reporting(scene, 0.3 if settings.noise else 0.0))
        if settings.guard:
            seen = np.ascontiguousarray(np.moveaxis(planes, 0, -1))
            alpha = guarded(seen, np.moveaxis(variance, 0, -1), trimap, matte, alpha)
        return {PLANE_NAME: alpha}
