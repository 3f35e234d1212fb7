"""The matting Laplacian: how alpha has to vary where colours of small windows lie on lines.

Reference: Levin, Lischinski and Weiss, *A Closed-Form Solution to Natural Image Matting*, PAMI 2008, equation 12, with
windows of 3 x 3 pixels.
"""

from __future__ import annotations

import math
from typing import Any

import numba
import numpy as np
import scipy.sparse
from numpy.typing import NDArray

from nexal.kernels.bounds import bounded

EPSILON = 1e-7
"""How far the colours of a window may lie from their line, as the sum of their squares."""
SIDE = 5
"""Pixels that share a window with one lie in a square of so many to each side."""


@numba.njit(cache=True, nogil=True)
def _fill(
    image: NDArray[np.float64],
    rows: NDArray[np.int64],
    values: NDArray[np.float64],
    columns: NDArray[np.int32],
) -> None:
    """The rows of the Laplacian, `SIDE` x `SIDE` values each, of the pixels that `rows` gives one to, -1 elsewhere."""
    height, width, _ = image.shape
    for y in range(height):
        for x in range(width):
            row = rows[y, x]
            if row >= 0:
                for k in range(SIDE * SIDE):
                    beside_y, beside_x = y + k // SIDE - 2, x + k % SIDE - 2
                    there = 0 <= beside_y < height and 0 <= beside_x < width
                    columns[row, k] = beside_y * width + beside_x if there else y * width + x
    colours = np.empty((12, 3))
    for y in range(1, height - 1):
        for x in range(1, width - 1):
            wanted = False
            for k in range(9):
                wanted = wanted or rows[y + k // 3 - 1, x + k % 3 - 1] >= 0
            if not wanted:
                continue
            _straighten(image, y, x, colours)
            for k in range(9):
                row = rows[y + k // 3 - 1, x + k % 3 - 1]
                if row < 0:
                    continue
                for other in range(9):
                    alike = 1 / 9
                    for channel in range(3):
                        alike += colours[k, channel] * colours[other, channel]
                    place = (other // 3 - k // 3 + 2) * SIDE + other % 3 - k % 3 + 2
                    values[row, place] += (1.0 if other == k else 0.0) - alike


@numba.njit(cache=True, nogil=True)
def _straighten(image: NDArray[np.float64], y: int, x: int, colours: NDArray[np.float64]) -> None:
    """An orthonormal basis of what is linear in the colours of the window round a pixel, less their mean: its pixels'
    rows, and below them what the spread is widened by. The scalar products of two pixels' rows are those that the
    inverse of the covariance gives, of which at the edge of a light nothing but rounding errors would be left."""
    for channel in range(3):
        mean = 0.0
        for k in range(9):
            mean += image[y + k // 3 - 1, x + k % 3 - 1, channel]
        mean /= 9
        for k in range(9):
            colours[k, channel] = image[y + k // 3 - 1, x + k % 3 - 1, channel] - mean
        for k in range(9, 12):
            colours[k, channel] = math.sqrt(EPSILON) if k - 9 == channel else 0.0
    for channel in range(3):
        for other in range(channel):
            along = 0.0
            for k in range(12):
                along += colours[k, other] * colours[k, channel]
            for k in range(12):
                colours[k, channel] -= along * colours[k, other]
        length = 0.0
        for k in range(12):
            length += colours[k, channel] ** 2
        for k in range(12):
            colours[k, channel] /= math.sqrt(length)


def matting_laplacian(image: NDArray[Any], free: NDArray[np.bool_]) -> scipy.sparse.csr_matrix:
    """The rows of the matting Laplacian of an image H x W x 3 that belong to its F `free` pixels (H x W): F x HW.

    Colour that is no number counts as none, and light as `bounded` has it.
    """
    height, width = free.shape
    count = np.count_nonzero(free)
    rows = np.full(free.shape, -1, np.int64)
    rows[free] = np.arange(count)
    values, columns = np.zeros((count, SIDE * SIDE)), np.empty((count, SIDE * SIDE), np.int32)
    _fill(bounded(image, np.float64), rows, values, columns)
    starts = np.arange(0, values.size + 1, SIDE * SIDE)
    found = scipy.sparse.csr_matrix((values.ravel(), columns.ravel(), starts), (count, height * width))
    found.sum_duplicates()
    return found
