"""Neighbourhood filters: Gaussian and box blur."""

from __future__ import annotations

import math

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane
from nexal.work import check

PIECE = 500_000_000
"""Weights times samples between two looks whether the result is still wanted: about a tenth of a second."""


def gaussian_reach(sigma: float) -> int:
    """Whole pixels beyond which the kernel of `sigma` pixels (0 or more) is cut: four sigma leave out less than 7e-5 of
    the weight."""
    return math.ceil(4 * sigma)


def box_reach(radius: float) -> int:
    """Whole pixels that a box of `radius` pixels (0 or more, fractions allowed) reaches to each side."""
    return math.ceil(radius)


def gaussian_weights(sigma: float) -> NDArray[np.float32]:
    """Sampled Gaussian of `sigma` pixels (above 0), cut at `gaussian_reach`: 2 reach + 1 weights that add up to 1,
    exp(-i^2 / (2 sigma^2)), from left to right.
    """
    reach = gaussian_reach(sigma)
    weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
    return (weights / weights.sum()).astype(np.float32)


def box_weights(radius: float) -> NDArray[np.float32]:
    """A box `2 * radius + 1` pixels wide (0 or more): 2 reach + 1 weights that add up to 1, from left to right.

    Its two end pixels count by the part of them that it covers.
    """
    reach = box_reach(radius)
    weights = np.clip(radius + 1 - np.abs(np.arange(-reach, reach + 1)), 0, 1)
    return (weights / weights.sum()).astype(np.float32)


def blur(plane: Plane, weights: NDArray[np.float32]) -> Plane:
    """Separable filter of a plane H x W (any values; NaN spreads); H x W again.

    `weights`: an odd number of them, symmetric, adding up to 1; along rows first, then along columns. Beyond its edges
    the plane goes on as its last pixel.
    """
    plane = np.ascontiguousarray(plane)
    if plane.size * len(weights) < PIECE:
        return cv2.sepFilter2D(plane, cv2.CV_32F, weights, weights, borderType=cv2.BORDER_REPLICATE)
    # Rows first, then columns, in bands, so that given up it ends.
    one = np.ones(1, np.float32)
    across, result = np.empty_like(plane), np.empty_like(plane)
    height, width = plane.shape
    for rows in _bands(height, width * len(weights)):
        check()
        across[rows] = cv2.sepFilter2D(plane[rows], cv2.CV_32F, weights, one, borderType=cv2.BORDER_REPLICATE)
    for columns in _bands(width, height * len(weights)):
        check()
        band = np.ascontiguousarray(across[:, columns])
        result[:, columns] = cv2.sepFilter2D(band, cv2.CV_32F, one, weights, borderType=cv2.BORDER_REPLICATE)
    return result


def _bands(length: int, each: int) -> list[slice]:
    """A length cut into bands of about `PIECE` steps, `each` for one of it; whole cache lines wide."""
    size = max(16, -(-PIECE // each) // 16 * 16)
    return [slice(start, start + size) for start in range(0, length, size)]
