"""Colour encodings of what is read and written; working colour is scene-linear with Rec.709 primaries."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from nexal.errors import SettingError, nearest
from nexal.kernels.pointmath import decode, encode
from nexal.picture import Plane

if TYPE_CHECKING:
    import PyOpenColorIO as ocio

OCIO_CONFIG = "cg-config-v2.1.0_aces-v1.3_ocio-v2.3"
OCIO_WORKING = "Linear Rec.709 (sRGB)"

REC709 = (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)
"""Chromaticities of R, G, B and white, x and y each, in OpenEXR's order."""

LUMINANCE = {"R": 0.2126, "G": 0.7152, "B": 0.0722}
"""Rec.709 luminance weights."""

BUILT_IN = ("auto", "data", "srgb", "linear")


@lru_cache(1)
def _config() -> ocio.Config:
    import PyOpenColorIO as ocio

    return ocio.Config.CreateFromBuiltinConfig(OCIO_CONFIG)


def spaces() -> list[str]:
    """Every name accepted where a colour space is asked for."""
    return [*BUILT_IN, *_config().getColorSpaceNames()]


def check_space(name: str) -> None:
    """Raises SettingError where `name` is no colour space."""
    if name in BUILT_IN:
        return
    if _config().getColorSpace(name) is None:
        raise SettingError(f"'{name}' is not a colour space", where="colour", remedy=nearest(name, spaces()))


@lru_cache(32)
def _processor(source: str, target: str) -> Any:
    return _config().getProcessor(source, target).getDefaultCPUProcessor()


def _convert(rgb: Sequence[Plane], source: str, target: str) -> list[Plane]:
    packed = np.ascontiguousarray(np.stack(rgb, axis=-1), dtype=np.float32)
    _processor(source, target).applyRGB(packed)
    return [np.ascontiguousarray(packed[..., index]) for index in range(3)]


def to_working(rgb: Sequence[Plane], space: str) -> list[Plane]:
    """Three planes in `space` (not `auto`) to working colour."""
    if space in ("data", "linear"):
        return list(rgb)
    if space == "srgb":
        return [decode(plane) for plane in rgb]
    check_space(space)
    return _convert(rgb, space, OCIO_WORKING)


def from_working(rgb: Sequence[Plane], space: str) -> list[Plane]:
    """Three planes of working colour to `space` (not `auto`)."""
    if space in ("data", "linear"):
        return list(rgb)
    if space == "srgb":
        return [encode(plane) for plane in rgb]
    check_space(space)
    return _convert(rgb, OCIO_WORKING, space)


def rgb_to_xyz(chromaticities: Sequence[float]) -> NDArray[np.float64]:
    """3 x 3 matrix from linear RGB to XYZ (SMPTE RP 177-1993) with white at Y = 1."""
    xy = np.asarray(chromaticities, np.float64).reshape(4, 2)
    columns = np.stack([xy[:, 0], xy[:, 1], 1 - xy.sum(axis=1)]) / xy[:, 1]
    primaries, white = columns[:, :3], columns[:, 3]
    return primaries * np.linalg.solve(primaries, white)


def primaries_matrix(chromaticities: Sequence[float]) -> NDArray[np.float32] | None:
    """3 x 3 matrix from linear RGB of `chromaticities` to Rec.709, None where they are the same.

    White is adapted by the Bradford transform where it differs.
    """
    if np.allclose(chromaticities, REC709, atol=1e-4):
        return None
    bradford = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])
    here, there = rgb_to_xyz(chromaticities), rgb_to_xyz(REC709)
    cones_here, cones_there = bradford @ here.sum(axis=1), bradford @ there.sum(axis=1)
    adapt = np.linalg.inv(bradford) @ np.diag(cones_there / cones_here) @ bradford
    return (np.linalg.inv(there) @ adapt @ here).astype(np.float32)
