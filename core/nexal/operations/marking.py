"""Whole mattes of any picture, from marks on its subject and its background."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from nexal.errors import SettingError
from nexal.kernels.pointmath import encode
from nexal.kernels.shelf import Shelf, key_of
from nexal.operations.base import Port, Scene, register, setting
from nexal.operations.wholes import SIDES, SidedPicture, SidedSettings, colour_of, reporting, sides_of
from nexal.picture import PLANE_NAME, Plane

BAND_SHARE = 1 / 96
"""The band of `auto`, in the picture's longer side."""


class MarkSolveSettings(SidedSettings):
    band: Annotated[int, Field(ge=1, le=300)] | Literal["auto"] = setting(
        "auto", "Width on both sides of the outline that is left open for hair; auto: a 96th of the longer side",
        unit="px",
    )  # fmt: skip
    gives: Literal["matte", "doubt"] = setting("matte", "Alpha, or how unsure it is: its standard deviation")


@register
class MarkSolve(SidedPicture):
    """The whole matte of a picture before anything, from marks on its subject and its background.

    picture(, clean background, planes `keep` and `drop`) -> plane of data. What `strokes` paint with 1, or `keep`
    covers, is subject, with 0, or `drop`, background. The marked colours, display-encoded, become two mixtures of eight
    Gaussians; their ratio seeds a graph cut. Its parts that bear a mark, or are like their side as a whole, are sure,
    but for `band` px along the outline, where alpha is found by closed-form matting in scene-linear light. With a clean
    background nothing has to be marked: background is what shows it within the noise, subject what lies deeper than
    twice the band in the rest and is not like it, and all between is open. `doubt`: sqrt of a variance of alpha
    that was fitted to known truth: in the band 0.026 + 0.2 a (1 - a) + 0.13 d, elsewhere (0.12 + 0.53 n) d + 0.026 n,
    d = (a - likeness)^2, n falling from 1 at the band. Eight composites (hair, veil, leaves, blur; plants and rooms;
    mean error of 640 x 360): 12.5, with a clean background 10.7; best crossing of two channels 30. Computed in full
    resolution, whatever is looked at. Raises SettingError where a side is not marked. References: Rother, Kolmogorov,
    Blake, ACM TOG 23, 2004; Levin, Lischinski, Weiss, IEEE TPAMI 30, 2008.
    """

    name = "mark_solve"
    makes = "plane"
    needs = "whole matte of any picture, cut out by marks, scribbles, subject without a screen, hair, rotoscope"
    ports = (
        Port("picture", "picture", "Picture"),
        Port("clean", "picture", "The background without the subject", required=False),
        *SIDES,
    )
    nanoseconds = 6000
    Settings = MarkSolveSettings

    def scratch(self, settings: MarkSolveSettings, scene: Scene) -> float:
        from nexal.kernels.matting import memory_needed

        return 160 + memory_needed(scene.region.height, scene.region.width) / max(1, scene.region.area)

    def compute(
        self,
        inputs: Mapping[str, Mapping[str, Plane]],
        channels: Sequence[str],
        settings: MarkSolveSettings,
        scene: Scene,
    ) -> Mapping[str, Plane]:
        from nexal.kernels.parting import doubt_of

        shot = colour_of(inputs, scene, "picture")
        clean = colour_of(inputs, scene, "clean") if "clean" in inputs else None
        sides = sides_of(inputs, settings, scene)
        nothing = np.zeros(shot.shape[1:], np.float32)
        keep, drop = (sides.get(side, nothing) for side in ("keep", "drop"))
        subject, background = keep > 0.5, (drop > 0.5) & (keep <= 0.5)
        band = round(BAND_SHARE * max(subject.shape)) if settings.band == "auto" else round(scene.pixels(settings.band))
        # The doubt is asked for after the matte, and the other way round.
        key = key_of(shot, clean, subject, background, band)
        found = _shelf.take(key) or _solved(shot, clean, subject, background, max(1, band), reporting(scene))
        _shelf.put(key, found, sum(plane.nbytes for plane in found))
        return {PLANE_NAME: doubt_of(*found, subject | background) if settings.gives == "doubt" else found[0]}


_shelf = Shelf[tuple[Plane, Plane, Plane]]()


def _solved(
    shot: NDArray[np.float32],
    clean: NDArray[np.float32] | None,
    subject: NDArray[np.bool_],
    background: NDArray[np.bool_],
    band: int,
    report: Callable[[float], None],
) -> tuple[Plane, Plane, Plane]:
    """Alpha, how like the subject each pixel is, and the trimap."""
    from nexal.kernels.denoising import noise_of
    from nexal.kernels.matting import LOOSER, closed_form
    from nexal.kernels.parting import against, parted, same_as

    report(0.0)
    seen = np.clip(encode(shot), 0, 1).astype(np.float32)
    if clean is not None:
        same = same_as(shot, clean, noise_of(shot).variance(shot))
        try:
            trimap, alike = against(seen, same, subject, background, band)
        except ValueError as error:
            raise SettingError(
                str(error), where="port 'clean'", remedy="feed the background of this shot, or mark the subject"
            ) from None
    else:
        for mask, side in ((subject, "the subject"), (background, "the background")):
            if not mask.any():
                raise SettingError(
                    f"nothing is marked as {side}",
                    where="setting 'strokes'",
                    remedy="paint over a part of the subject with 1, and over a part of what is behind it with 0",
                )
        trimap, alike = parted(seen, subject, background, band)
    report(0.2)
    colour = np.ascontiguousarray(np.moveaxis(shot, 0, -1))
    alpha = closed_form(colour, trimap, lambda done: report(0.2 + 0.8 * done), LOOSER)
    return alpha, alike, trimap
