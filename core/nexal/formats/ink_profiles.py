"""ICC profiles of inks: in files of their own, and carried along by pictures."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path

import numpy as np

from nexal.errors import FormatError
from nexal.formats.decoded import Decoded, DecodedPart, Limits
from nexal.picture import INKS, Window

SIGNATURE = (36, b"acsp")
"""Where every profile says that it is one."""
LARGEST = 32 << 20
PATCH_WIDTH, PATCH_HEIGHT, STEPS = 24, 16, 11
WEDGES = ("C", "M", "Y", "K", "CM", "MY", "CY", "CMY", "CMYK")
"""Rows of the chart: inks that grow together from left to right."""


def profile_name(profile: bytes) -> str:
    """The name that an ink profile gives itself. Raises FormatError for what is damaged or no profile of CMYK."""
    from PIL import ImageCms

    try:
        opened = ImageCms.ImageCmsProfile(BytesIO(profile)).profile
        space, name = opened.xcolor_space.strip(), (opened.profile_description or "").strip()
    except (OSError, ValueError):
        raise FormatError("is a damaged profile", remedy="copy the profile again") from None
    if space != "CMYK":
        raise FormatError(
            f"is a profile of {space or 'nothing known'}, not of inks",
            remedy="give the CMYK profile of a printing press",
        )
    return name[:200] or "ink profile without a name"


def carried(profile: bytes | None) -> tuple[bytes | None, str | None]:
    """A picture's own profile and its name, where it is a sound one of inks."""
    if not profile or len(profile) > LARGEST:
        return None, None
    try:
        return profile, profile_name(profile)
    except FormatError:
        return None, None


def is_profile(start: bytes) -> bool:
    place, words = SIGNATURE
    return start[place : place + len(words)] == words


def read_profile(path: Path, limits: Limits) -> Decoded:
    """A profile, as a chart of its inks: wedges of each and of several together, from none at the left to full ink.

    Raises FormatError for what is damaged, too large or no profile of inks.
    """
    size = path.stat().st_size
    if size > LARGEST:
        raise FormatError(f"is a profile of {size / 1e6:.0f} MB", remedy=f"the limit is {LARGEST >> 20} MB")
    profile = path.read_bytes()
    name = profile_name(profile)
    width, height = PATCH_WIDTH * STEPS, PATCH_HEIGHT * len(WEDGES)
    limits.check(width, height, 4, 1, size)
    wedge = np.repeat(np.round(np.linspace(0, 255, STEPS)).astype(np.uint8), PATCH_WIDTH)
    channels = {
        ink: np.concatenate([np.tile(wedge * np.uint8(ink in inks), (PATCH_HEIGHT, 1)) for inks in WEDGES])
        for ink in INKS
    }
    window = Window(0, 0, width, height)
    parts = [DecodedPart("", window, window, channels)]
    return Decoded("icc", parts, "none", "data", {"profile": name}, ink_profile=profile, ink_name=name)
