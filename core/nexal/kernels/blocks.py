"""Textures in blocks of 4 x 4 texels with two endpoints, as graphics hardware reads them: packed and unpacked again.

Reference: Khronos, *Data Format Specification* 1.3, S3TC (BC1, here always with four colours) and RGTC (BC4). How the
endpoints are chosen is the encoder's own affair: here the line of the block's largest variance, then least squares.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane

EDGE = 4
TEXELS = EDGE * EDGE
REFINEMENTS = 3

Texels = NDArray[np.float64]


@numba.njit(cache=True, nogil=True)
def _to_565(colour: Texels, result: Texels) -> None:
    """The nearest colour of 5, 6 and 5 bits, each expanded to 8 bits by repeating its upper ones."""
    for channel in range(3):
        bits = 6 if channel == 1 else 5
        most = (1 << bits) - 1
        code = int(np.floor(min(max(colour[channel], 0.0), 1.0) * most + 0.5))
        result[channel] = ((code << (8 - bits)) | (code >> (2 * bits - 8))) / 255.0


@numba.njit(cache=True, nogil=True)
def _principal(texels: Texels, mean: Texels, axis: Texels) -> None:
    """Direction of the largest variance, by power iteration."""
    covariance = np.zeros((3, 3))
    for texel in range(TEXELS):
        for i in range(3):
            for j in range(3):
                covariance[i, j] += (texels[texel, i] - mean[i]) * (texels[texel, j] - mean[j])
    # The row of the largest variance is never at right angles to the direction that is sought.
    start = 0
    for i in range(1, 3):
        if covariance[i, i] > covariance[start, start]:
            start = i
    axis[:] = covariance[start]
    for _ in range(8):
        x = covariance[0, 0] * axis[0] + covariance[0, 1] * axis[1] + covariance[0, 2] * axis[2]
        y = covariance[1, 0] * axis[0] + covariance[1, 1] * axis[1] + covariance[1, 2] * axis[2]
        z = covariance[2, 0] * axis[0] + covariance[2, 1] * axis[1] + covariance[2, 2] * axis[2]
        length = np.sqrt(x * x + y * y + z * z)
        if length < 1e-20:
            return
        axis[0], axis[1], axis[2] = x / length, y / length, z / length


@numba.njit(cache=True, nogil=True)
def _assigned(texels: Texels, a: Texels, b: Texels, weights: Texels) -> float:
    """The place of each texel on the line from a to b in thirds (`weights`, 0 at a), and the squared error."""
    total = 0.0
    for texel in range(TEXELS):
        best, chosen = 1e30, 0
        for third in range(4):
            t = third / 3.0
            error = 0.0
            for channel in range(3):
                gap = texels[texel, channel] - (a[channel] + (b[channel] - a[channel]) * t)
                error += gap * gap
            if error < best:
                best, chosen = error, third
        weights[texel] = chosen / 3.0
        total += best
    return total


@numba.njit(cache=True, nogil=True)
def _least_squares(texels: Texels, weights: Texels, a: Texels, b: Texels) -> bool:
    """The endpoints that suit the given places best; False where the places leave them open."""
    aa = bb = ab = 0.0
    for texel in range(TEXELS):
        t = weights[texel]
        aa += (1 - t) * (1 - t)
        bb += t * t
        ab += t * (1 - t)
    determinant = aa * bb - ab * ab
    if abs(determinant) < 1e-9:
        return False
    for channel in range(3):
        left = right = 0.0
        for texel in range(TEXELS):
            left += (1 - weights[texel]) * texels[texel, channel]
            right += weights[texel] * texels[texel, channel]
        a[channel] = (left * bb - right * ab) / determinant
        b[channel] = (right * aa - left * ab) / determinant
    return True


@numba.njit(cache=True, nogil=True)
def _colour_block(texels: Texels) -> None:
    """16 x 3 texels in 0..1, replaced by what four colours on a line between two of 5:6:5 bits make of them."""
    mean, axis = np.zeros(3), np.zeros(3)
    for channel in range(3):
        for texel in range(TEXELS):
            mean[channel] += texels[texel, channel] / TEXELS
    _principal(texels, mean, axis)
    low, high = 1e30, -1e30
    for texel in range(TEXELS):
        along = 0.0
        for channel in range(3):
            along += (texels[texel, channel] - mean[channel]) * axis[channel]
        low, high = min(low, along), max(high, along)
    a, b = np.empty(3), np.empty(3)
    ends = np.empty((2, 3))
    best_ends = np.empty((2, 3))
    weights, best_weights = np.empty(TEXELS), np.empty(TEXELS)
    for channel in range(3):
        a[channel] = mean[channel] + axis[channel] * low
        b[channel] = mean[channel] + axis[channel] * high
    best = 1e30
    for _ in range(REFINEMENTS):
        _to_565(a, ends[0])
        _to_565(b, ends[1])
        error = _assigned(texels, ends[0], ends[1], weights)
        if error >= best:
            break
        best = error
        best_ends[:] = ends
        best_weights[:] = weights
        if not _least_squares(texels, weights, a, b):
            break
    for texel in range(TEXELS):
        for channel in range(3):
            first = best_ends[0, channel]
            texels[texel, channel] = first + (best_ends[1, channel] - first) * best_weights[texel]


@numba.njit(cache=True, nogil=True)
def _plane_block(texels: Texels) -> None:
    """16 x 1 texels in 0..1, replaced by what eight values between two of 8 bits make of them."""
    low, high = 1e30, -1e30
    for texel in range(TEXELS):
        low, high = min(low, texels[texel, 0]), max(high, texels[texel, 0])
    first = np.floor(low * 255.0 + 0.5) / 255.0
    step = (np.floor(high * 255.0 + 0.5) / 255.0 - first) / 7.0
    for texel in range(TEXELS):
        place = 0.0 if step == 0.0 else np.floor((texels[texel, 0] - first) / step + 0.5)
        texels[texel, 0] = first + min(max(place, 0.0), 7.0) * step


@numba.njit(cache=True, nogil=True)
def _pack_rows(planes: NDArray[np.float32], top: int, bottom: int, result: NDArray[np.float32]) -> None:
    count, height, width = planes.shape
    texels = np.empty((TEXELS, count))
    for block_y in range(top, bottom, EDGE):
        for block_x in range(0, width, EDGE):
            for texel in range(TEXELS):
                # Beyond the edge a block is filled up with the picture's last row and column.
                y = min(block_y + texel // EDGE, height - 1)
                x = min(block_x + texel % EDGE, width - 1)
                for channel in range(count):
                    value = planes[channel, y, x]
                    texels[texel, channel] = min(max(value, 0.0), 1.0) if value == value else 0.0
            if count == 3:
                _colour_block(texels)
            else:
                _plane_block(texels)
            for texel in range(TEXELS):
                y, x = block_y + texel // EDGE, block_x + texel % EDGE
                if y < height and x < width:
                    for channel in range(count):
                        result[channel, y, x] = texels[texel, channel]


def packed_rows(planes: NDArray[np.float32], top: int, bottom: int, result: NDArray[np.float32]) -> None:
    """Rows `top` to `bottom` (`top` a multiple of 4) of 3 or 1 planes in blocks and out again, into `result`.

    planes and result: count x H x W. Three share each block's line of colours; one has a line of eight values alone.
    """
    _pack_rows(planes, top, bottom, result)


def block_means(plane: Plane, edge: int, offset: tuple[int, int]) -> Plane:
    """Each block of `edge` x `edge` pixels replaced by its mean; `offset` is where in its block the first pixel lies.

    Blocks that reach over an edge are the means of what lies inside.
    """
    height, width = plane.shape
    y, x = offset
    rows = np.unique(np.maximum(np.arange(-y, height, edge), 0))
    columns = np.unique(np.maximum(np.arange(-x, width, edge), 0))
    sums = np.add.reduceat(np.add.reduceat(plane, rows, axis=0, dtype=np.float64), columns, axis=1)
    heights, widths = np.diff([*rows, height]), np.diff([*columns, width])
    means = (sums / (heights[:, None] * widths[None, :])).astype(np.float32)
    return np.repeat(np.repeat(means, heights, axis=0), widths, axis=1)
