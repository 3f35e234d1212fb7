"""Colour to ink and back through an ICC profile."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from nexal.errors import SettingError
from nexal.kernels.bounds import share
from nexal.picture import Plane

Intent = Literal["relative", "perceptual", "absolute"]

_PER_CENT = np.float32(100)
"""The library counts ink in per cent where it computes in floating point."""


def to_ink(colour: Sequence[Plane], profile: bytes, intent: Intent) -> list[Plane]:
    """C, M, Y, K (1 = full ink) that print display-encoded sRGB, held in 0..1. Raises SettingError."""
    held = [share(plane) for plane in colour]
    inks = _transformed(held, _srgb(), profile, ("rgb", "cmyk"), intent)
    return [np.clip(inks[..., index] / _PER_CENT, 0, 1) for index in range(4)]


def to_colour(inks: Sequence[Plane], profile: bytes, intent: Intent) -> list[Plane]:
    """Display-encoded sRGB, held in 0..1, of C, M, Y, K (1 = full ink, held in 0..1). Raises SettingError."""
    held = [share(plane) * _PER_CENT for plane in inks]
    colour = _transformed(held, profile, _srgb(), ("cmyk", "rgb"), intent)
    return [np.clip(colour[..., index], 0, 1) for index in range(3)]


def _srgb() -> bytes:
    import imagecodecs

    made: bytes = imagecodecs.cms_profile("srgb")
    return made


def _transformed(
    planes: Sequence[Plane], given: bytes, wanted: bytes, spaces: tuple[str, str], intent: Intent
) -> NDArray[np.float32]:
    """Values by the tables of two profiles, in floating point.

    Reference: ICC.1:2022, *Image technology colour management*; the black points are brought together for `relative`
    by ISO 18619, as Little CMS does it.
    """
    import imagecodecs

    stacked = np.stack(np.broadcast_arrays(*planes), axis=-1).astype(np.float32, copy=False)
    intents = imagecodecs.CMS.INTENT
    chosen = {
        "relative": intents.RELATIVE_COLORIMETRIC,
        "perceptual": intents.PERCEPTUAL,
        "absolute": intents.ABSOLUTE_COLORIMETRIC,
    }[intent]
    flags: dict[str, Any] = {"flags": imagecodecs.CMS.FLAGS.BLACKPOINTCOMPENSATION} if intent == "relative" else {}
    try:
        made: NDArray[np.float32] = imagecodecs.cms_transform(
            stacked.reshape(1, -1, stacked.shape[-1]),
            given,
            wanted,
            colorspace=spaces[0],
            outcolorspace=spaces[1],
            outdtype=np.float32,
            intent=chosen,
            **flags,
        )
    except imagecodecs.CmsError:
        way = "from ink to colour" if spaces[0] == "cmyk" else "from colour to ink"
        raise SettingError(
            f"the profile has no way {way}", where="setting 'profile'", remedy="choose another profile, or simple"
        ) from None
    return made.reshape(*stacked.shape[:-1], -1)
