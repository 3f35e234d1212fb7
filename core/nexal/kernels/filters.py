"""Neighbourhood filters: Gaussian and box blur.

Reference for blurs of reduced pictures: Burt, Adelson, *The Laplacian Pyramid as a Compact Image Code*, IEEE
Transactions on Communications 31, 1983.
"""

from __future__ import annotations

import math

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.memory import empty
from nexal.picture import Plane, Window
from nexal.work import check

PIECE = 1_000_000_000
"""Weights times samples between two looks whether the result is still wanted: about a fifth of a second."""


WIDE = 30.0
"""Sigma in pixels from which on a Gaussian is made of a reduced picture."""
FINEST = 11.0
"""Sigma that it has there at the least: the result is then within 1e-3 of the span of what is blurred."""


def reduction(sigma: float) -> int:
    """By how much a picture is reduced, along each side, to be blurred by `sigma` pixels: a power of two."""
    return 1 << int(math.log2(sigma / FINEST)) if sigma >= WIDE else 1


def gaussian_reach(sigma: float) -> int:
    """Whole pixels beyond which the kernel of `sigma` pixels (0 or more) is cut: four sigma leave out less than 7e-5 of
    the weight; of a wide one a few pixels more, since the cells of the reduced picture lie where they lie."""
    return math.ceil(4 * sigma) + (4 * reduction(sigma) if sigma >= WIDE else 0)


def box_reach(radius: float) -> int:
    """Whole pixels that a box of `radius` pixels (0 or more, fractions allowed) reaches to each side."""
    return math.ceil(radius)


def gaussian_weights(sigma: float) -> NDArray[np.float32]:
    """Sampled Gaussian of `sigma` pixels (above 0), cut at four of them: 2 reach + 1 weights that add up to 1,
    exp(-i^2 / (2 sigma^2)), from left to right.
    """
    reach = math.ceil(4 * sigma)
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
    result = empty(plane.shape)
    if plane.size * len(weights) < PIECE:
        return cv2.sepFilter2D(plane, cv2.CV_32F, weights, weights, result, borderType=cv2.BORDER_REPLICATE)
    # Rows first, then columns, in bands, so that given up it ends.
    one = np.ones(1, np.float32)
    across = empty(plane.shape)
    height, width = plane.shape
    for rows in _bands(height, width * len(weights)):
        check()
        cv2.sepFilter2D(plane[rows], cv2.CV_32F, weights, one, across[rows], borderType=cv2.BORDER_REPLICATE)
    for columns in _bands(width, height * len(weights)):
        check()
        band = np.ascontiguousarray(across[:, columns])
        result[:, columns] = cv2.sepFilter2D(band, cv2.CV_32F, one, weights, borderType=cv2.BORDER_REPLICATE)
    return result


_HALVING = np.array([1, 3, 3, 1], np.float32) / 8
"""Weights of four pixels for one of half the size: they leave every centre of mass where it is."""


def wide_gaussian(plane: Plane, sigma: float, given: Window, wanted: Window) -> Plane:
    """Gaussian of `sigma` pixels (at least `WIDE`) of a plane H x W that covers `given`, over the window `wanted`.

    Beyond its edges the plane goes on as its last pixel. It is halved a few times, into cells that lie at whole
    multiples of their side n, so that every part of a picture is blurred alike; the cells are blurred, and lines are
    drawn between them. Halving spreads by (n^2 - 1) / 4 pixels squared, and the lines by n^2 / 6 + 1 / 12; the Gaussian
    gives that much less.
    """
    n = reduction(sigma)
    # Two cells more on each side hold nothing but what lies beyond the edges, so that the last one goes on, too.
    left, top = given.x // n - 2, given.y // n - 2
    right, bottom = -(-given.right // n) + 2, -(-given.bottom // n) + 2
    pads = (given.y - top * n, bottom * n - given.bottom, given.x - left * n, right * n - given.right)
    cells = cv2.copyMakeBorder(plane, *pads, cv2.BORDER_REPLICATE)
    for _ in range(n.bit_length() - 1):
        check()
        cells = cv2.sepFilter2D(cells, cv2.CV_32F, _HALVING, _HALVING, anchor=(1, 1), borderType=cv2.BORDER_REPLICATE)
        cells = cells[::2, ::2]
    weights = gaussian_weights(math.sqrt((sigma**2 + 1 / 6) / n**2 - 5 / 12))
    reach = len(weights) // 2 + 1
    # Cells that are wanted, with one to draw lines to, and those that they take from.
    x, y = wanted.x // n - 1, wanted.y // n - 1
    inner = Window(x, y, -(-wanted.right // n) + 1 - x, -(-wanted.bottom // n) + 1 - y)
    around = inner.grow(reach)
    rows = np.clip(np.arange(around.y, around.bottom), top, bottom - 1) - top
    columns = np.clip(np.arange(around.x, around.right), left, right - 1) - left
    check()
    cells = cells[np.ix_(rows, columns)]
    cells = cv2.sepFilter2D(cells, cv2.CV_32F, weights, weights, borderType=cv2.BORDER_REPLICATE)
    cells = np.ascontiguousarray(cells[reach:-reach, reach:-reach])
    check()
    fine = cv2.resize(cells, (inner.width * n, inner.height * n), interpolation=cv2.INTER_LINEAR)
    x, y = wanted.x - inner.x * n, wanted.y - inner.y * n
    return fine[y : y + wanted.height, x : x + wanted.width]


def _bands(length: int, each: int) -> list[slice]:
    """A length cut into bands of about `PIECE` steps, `each` for one of it; whole cache lines wide."""
    size = max(16, -(-PIECE // each) // 16 * 16)
    return [slice(start, start + size) for start in range(0, length, size)]
