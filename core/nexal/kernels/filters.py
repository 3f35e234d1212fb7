"""Neighbourhood filters: Gaussian and box blur."""

from __future__ import annotations

import math

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane


def gaussian_reach(sigma: float) -> int:
    """Pixels beyond which the kernel is cut: four sigma leave out less than 7e-5 of the weight."""
    return math.ceil(4 * sigma)


def box_reach(radius: float) -> int:
    return math.ceil(radius)


def gaussian_weights(sigma: float) -> NDArray[np.float32]:
    """Sampled Gaussian, cut at `gaussian_reach`, normalised to a sum of 1."""
    reach = gaussian_reach(sigma)
    weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
    return (weights / weights.sum()).astype(np.float32)


def box_weights(radius: float) -> NDArray[np.float32]:
    """A box `2 * radius + 1` pixels wide; its two end pixels count by the part of them that it covers."""
    reach = box_reach(radius)
    weights = np.clip(radius + 1 - np.abs(np.arange(-reach, reach + 1)), 0, 1)
    return (weights / weights.sum()).astype(np.float32)


def blur(plane: Plane, weights: NDArray[np.float32]) -> Plane:
    """Separable filter of a plane with symmetric `weights`; the plane's edges extend outward."""
    return cv2.sepFilter2D(np.ascontiguousarray(plane), cv2.CV_32F, weights, weights, borderType=cv2.BORDER_REPLICATE)
