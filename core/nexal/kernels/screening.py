"""How much of a coloured screen there is in a colour."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from nexal.kernels.pointmath import lerp, maximum

SCREENS: dict[str, tuple[int, int, int]] = {"red": (0, 1, 2), "green": (1, 0, 2), "blue": (2, 0, 1)}
"""Places of the screen's own channel and of the two others in red, green, blue."""


def screen_difference(rgb: Sequence[Any], screen: str, balance: float) -> Any:
    """The screen's channel minus a mixture of the larger and the mean of the two others, in linear light."""
    own, first, second = (rgb[index] for index in SCREENS[screen])
    others = maximum(first, second)
    if balance:
        others = lerp(others, (first + second) * np.float32(0.5), np.float32(balance))
    return own - others
