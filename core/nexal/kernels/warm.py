"""Compiling and loading of the kernels, ahead of their first use."""

from __future__ import annotations

import numpy as np


def warm() -> None:
    """Run every compiled kernel once on a few pixels."""
    from nexal.kernels.halves import to_halves
    from nexal.kernels.resampling import FILTER_SUPPORT, resample

    pixels = np.ones((4, 4), np.float32)
    to_halves(pixels)
    for kind in FILTER_SUPPORT:
        resample(pixels, (2, 2), (0.5, 0.5), (1.0, 0.0, 0.0, 1.0), kind)
