"""How far a picture that was rebuilt from its parts lies from the one that was filmed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from nexal.operations.base import Port, Scene, Settings, register
from nexal.operations.keying import rgb_names
from nexal.operations.wholes import WholePicture, colour_of
from nexal.picture import PLANE_NAME, Alpha, Description, Plane, Span, Trait

MOST_SEEN = 6.0
"""Times the noise that is shown as white."""


def _span() -> Span:
    return (0.0, MOST_SEEN)


@register
class NoiseResidual(WholePicture):
    """The difference of two pictures, in units of the noise of the first.

    picture I, picture R -> plane of data: sqrt of the mean over red, green and blue of (I - R)^2 / variance,
    premultiplied scene-linear light; the variance is base + slope x signal of I's own noise, found as `denoise` does.
    About 0.8 is what noise alone gives; above 3 something is wrong. For a matte: R is its picture's colour, found
    without the background (`recover_colour` without `clean`), over the background; where alpha is wrong, the two cannot
    agree. Four scenes before screens: 0.5 % of the picture lies above 3 with the true alpha (7 % behind a veil), 2 to
    22 % with blotches of 0.25, hardened, or blurred by 2 px. Computed in full resolution, whatever is looked at.
    """

    name = "noise_residual"
    makes = "plane"
    needs = "difference in units of noise, proof of a matte, compare the rebuilt shot"
    ports = (Port("picture", "picture", "The shot"), Port("rebuilt", "picture", "What was rebuilt"))
    nanoseconds = 250
    scratch_bytes = 60

    def describe(self, inputs: Mapping[str, Description], settings: Settings) -> Description:
        for port in ("picture", "rebuilt"):
            rgb_names(inputs[port], port)
        return inputs["picture"].as_plane(data=True)

    def trait(self, channel: str, inputs: object, settings: object, description: object) -> Trait:
        return Trait("unknown", "noise", span=_span)

    def compute(
        self, inputs: Mapping[str, Mapping[str, Plane]], channels: Sequence[str], settings: Settings, scene: Scene
    ) -> Mapping[str, Plane]:
        from nexal.kernels.denoising import noise_of

        shot = colour_of(inputs, scene, "picture", Alpha.PREMULTIPLIED)
        away = shot - colour_of(inputs, scene, "rebuilt", Alpha.PREMULTIPLIED)
        square = away * away / noise_of(shot).variance(shot)
        return {PLANE_NAME: np.sqrt(square.mean(axis=0))}
