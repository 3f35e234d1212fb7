"""Alpha of an uncertain band by closed-form matting.

Reference: A. Levin, D. Lischinski, Y. Weiss, *A Closed-Form Solution to Natural Image Matting*, IEEE TPAMI 30, 2008.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from importlib import import_module
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane

TOLERANCE, LOOSER = 1e-7, 1e-5
"""Residual at which the equations are solved; the looser one takes two thirds of the time and is off by 0.03 at the
most, 1e-4 in the mean."""
DISCARDED = 1e-3
"""What the preconditioner leaves out: the same solution as with 1e-4 (within 2e-4), in 0.7 of the time."""
MOST_STEPS = 2000
LARGE = 250_000
"""Pixels of a connected band, and of the crop round it, up to which it is solved in one go."""
BLOCK = 256
AROUND = 40
"""How far a block's equations reach beyond it."""
BYTES_PER_PIXEL = 1400
"""What solving takes at the most for each pixel of a crop: its Laplacian, the parts of that, the decomposition."""


def memory_needed(height: int, width: int) -> int:
    """Bytes that `closed_form` takes at the most besides its input, whatever its band: one crop being solved, and some
    planes of the whole picture at full and at half size (trimap, labels, alpha, the smaller picture)."""
    return min(LARGE, height * width) * BYTES_PER_PIXEL + height * width * 40


def trimap_of(matte: Plane, band: int) -> Plane:
    """0, 0.5, 1: outside (matte < 0.01) and inside (> 0.99), both shrunk by `band` pixels, and the band between.

    With a band of 0 the matte is taken as a ready trimap: 0, anything between, 1.
    """
    if band == 0:
        return np.where(matte <= 0, 0, np.where(matte >= 1, 1, 0.5)).astype(np.float32)
    element = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * band + 1, 2 * band + 1))
    inside, outside = (
        cv2.erode(mask.astype(np.uint8), element, borderType=cv2.BORDER_CONSTANT, borderValue=1)
        for mask in (matte > 0.99, matte < 0.01)
    )
    return np.where(inside == 1, 1, np.where(outside == 1, 0, 0.5)).astype(np.float32)


def soft_band(matte: Plane) -> int | None:
    """Pixels from the surely inside (> 0.99) or outside (< 0.01) of a matte to the middle of its soft edge, for nine in
    ten of it, at least 1. None where the matte has no soft edge, and so says nothing of its width.
    """
    soft = (matte >= 0.01) & (matte <= 0.99)
    inside = (matte > 0.5).astype(np.uint8)
    edge = np.count_nonzero(cv2.dilate(inside, np.ones((3, 3), np.uint8)) - inside)
    if np.count_nonzero(soft) < max(16, 0.2 * edge):
        return None
    far = cv2.distanceTransform(soft.astype(np.uint8), cv2.DIST_L2, 3)
    # The ridge of the distance is the middle of the band: there it is as large as anything near.
    ridge = soft & (far >= cv2.dilate(far, np.ones((3, 3), np.uint8)))
    width = float(np.percentile(far[ridge], 90))
    return max(1, math.ceil(width))


def closed_form(
    image: NDArray[Any], trimap: Plane, report: Callable[[float], None], tolerance: float = TOLERANCE
) -> Plane:
    """Alpha where the trimap lies between 0 and 1, the trimap elsewhere.

    `image` is H x W x 3 in linear light, float32 or float64. Each connected part of the band is solved on its own
    crop: parts that are further apart than a window of the matting Laplacian do not touch each other's equations. A
    part whose crop has more than `LARGE` pixels (a thin outline of a large subject too) is solved at half the size
    first, then in blocks whose surroundings are held at that coarse alpha, as the paper's own coarse-to-fine scheme
    does, so that neither time nor memory run away: see `memory_needed`. `report` is called with the share done and
    may raise to stop.
    """
    unknown = (trimap > 0) & (trimap < 1)
    near = cv2.dilate(unknown.astype(np.uint8), np.ones((3, 3), np.uint8))
    count, labels, statistics, _ = cv2.connectedComponentsWithStats(near, connectivity=8)
    alpha = np.array(trimap, np.float32)
    done, total = 0, max(1, int(statistics[1:, cv2.CC_STAT_AREA].sum()))
    for label in range(1, count):
        x, y, width, height, area = (int(number) for number in statistics[label])
        crop = (slice(max(0, y - 1), y + height + 1), slice(max(0, x - 1), x + width + 1))
        own = unknown[crop] & (labels[crop] == label)
        share = _Share(report, done / total, area / total)
        solve = _solve if own.size <= LARGE else _solve_in_blocks
        alpha[crop][own] = solve(image[crop], trimap[crop], own, share.report, tolerance)
        done += area
    report(1.0)
    return alpha


def _solve_in_blocks(
    image: NDArray[Any], trimap: Plane, unknown: NDArray[np.bool_], report: Callable[[float], None], tolerance: float
) -> NDArray[np.float32]:
    height, width = trimap.shape
    held = trimap.copy()
    held[unknown] = _coarse(image, trimap, _Share(report, 0, 0.2).report, tolerance)[unknown]
    result = held.copy()
    corners = [(y, x) for y in range(0, height, BLOCK) for x in range(0, width, BLOCK)]
    corners = [(y, x) for y, x in corners if unknown[y : y + BLOCK, x : x + BLOCK].any()]
    for index, (y, x) in enumerate(corners):
        top, left = max(0, y - AROUND), max(0, x - AROUND)
        part = (slice(top, min(height, y + BLOCK + AROUND)), slice(left, min(width, x + BLOCK + AROUND)))
        free = unknown[part].copy()
        # The outermost two pixels stay at the coarse alpha: no window reaches over them.
        free[: 2 * (top > 0)] = False
        free[:, : 2 * (left > 0)] = False
        if part[0].stop < height:
            free[-2:] = False
        if part[1].stop < width:
            free[:, -2:] = False
        if free.any():
            solved = held[part].copy()
            share = _Share(report, 0.2 + 0.8 * index / len(corners), 0.8 / len(corners))
            solved[free] = _solve(image[part], held[part], free, share.report, tolerance, held[part][free])
            inside = (slice(y - top, y - top + BLOCK), slice(x - left, x - left + BLOCK))
            result[y : y + BLOCK, x : x + BLOCK] = solved[inside]
    return result[unknown]


def _coarse(image: NDArray[Any], trimap: Plane, report: Callable[[float], None], tolerance: float) -> Plane:
    """Alpha found at half the size, brought back to full size."""
    height, width = trimap.shape
    size = ((width + 1) // 2, (height + 1) // 2)
    small = cv2.resize(image, size, interpolation=cv2.INTER_AREA)
    rough = cv2.resize(trimap, size, interpolation=cv2.INTER_AREA)
    rough = np.where(rough > 0.999, 1, np.where(rough < 0.001, 0, 0.5)).astype(np.float32)
    found = closed_form(np.ascontiguousarray(small.reshape(size[1], size[0], 3)), rough, report, tolerance)
    return cv2.resize(found, (width, height), interpolation=cv2.INTER_LINEAR).clip(0, 1)


class _Share:
    """Reports the progress of a part as that of the whole."""

    def __init__(self, report: Callable[[float], None], start: float, share: float) -> None:
        self._report, self._start, self._share = report, start, share

    def report(self, done: float) -> None:
        self._report(self._start + self._share * done)


def _solve(
    image: NDArray[Any],
    trimap: Plane,
    unknown: NDArray[np.bool_],
    report: Callable[[float], None],
    tolerance: float,
    start: NDArray[np.float32] | None = None,
) -> NDArray[np.float32]:
    """Alpha of the unknown pixels: L_U x = -R m, with the Laplacian split into unknown and known parts.

    The known pixels' alpha m is what the trimap holds there. From `start`, an alpha that is near already, fewer steps
    lead to the same.
    """
    from pymatting.solver.cg import cg

    from nexal.kernels.colour_lines import matting_laplacian

    report(0.0)
    free = unknown.ravel()
    rows = matting_laplacian(image, unknown)
    report(0.1)
    known = trimap.ravel()[~free].astype(np.float64)
    matrix = rows[:, free]
    right = -rows[:, ~free].dot(known)
    if not right.any():
        # Nothing but 0 lies around: the solver would divide by it.
        return np.zeros(len(right), np.float32)
    preconditioner = _preconditioner(matrix)
    report(0.2)
    latest = np.zeros(len(right))

    def follow(a: object, x: NDArray[np.float64], b: object, norm_b: float, r: object, norm_r: float) -> None:
        if np.isfinite(x).all():
            latest[:] = x
        gone = math.log(max(norm_r, 1e-300) / max(norm_b, 1e-300)) / math.log(tolerance)
        report(0.2 + 0.8 * min(1.0, max(0.0, gone)))

    try:
        with np.errstate(all="ignore"):
            first = None if start is None else start.astype(np.float64)
            solved = cg(matrix, right, first, M=preconditioner, rtol=tolerance, maxiter=MOST_STEPS, callback=follow)
    except ValueError:
        # Where hardly anything is known the equations converge slowly; where they got to is near enough.
        solved = latest
    if not np.isfinite(solved).all():
        # Where parts of the equations hang on nothing that is known, it divides by 0 once the others are solved.
        solved = latest
    return np.clip(solved, 0, 1).astype(np.float32)


def _preconditioner(matrix: Any) -> Any:
    """An incomplete Cholesky decomposition; the diagonal alone where none can be found."""
    from pymatting.preconditioner.jacobi import jacobi

    library: Any = import_module("pymatting.preconditioner.ichol")
    # It speaks on standard output, where answers belong; its own word for that is taken away, nobody else's.
    library.print = lambda *_: None
    try:
        return library.ichol(matrix, discard_threshold=DISCARDED)
    except ValueError:
        return jacobi(matrix)
