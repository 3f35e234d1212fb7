"""Alpha of an uncertain band by closed-form matting.

Reference: A. Levin, D. Lischinski, Y. Weiss, *A Closed-Form Solution to Natural Image Matting*, IEEE TPAMI 30, 2008.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane

TOLERANCE = 1e-7


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


def closed_form(image: NDArray[np.float64], trimap: Plane, report: Callable[[float], None]) -> Plane:
    """Alpha where the trimap lies between 0 and 1, the trimap elsewhere.

    `image` is H x W x 3 in linear light. Each connected part of the band is solved on its own crop: parts that are
    further apart than a window of the matting Laplacian do not touch each other's equations. `report` is called with
    the share done and may raise to stop.
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
        alpha[crop][own] = _solve(image[crop], trimap[crop], own, _Share(report, done / total, area / total).report)
        done += area
    report(1.0)
    return alpha


class _Share:
    """Reports the progress of a part as that of the whole."""

    def __init__(self, report: Callable[[float], None], start: float, share: float) -> None:
        self._report, self._start, self._share = report, start, share

    def report(self, done: float) -> None:
        self._report(self._start + self._share * done)


def _solve(
    image: NDArray[np.float64], trimap: Plane, unknown: NDArray[np.bool_], report: Callable[[float], None]
) -> NDArray[np.float32]:
    """Alpha of the unknown pixels: L_U x = -R m, with the Laplacian split into unknown and known parts."""
    from pymatting.laplacian.cf_laplacian import cf_laplacian
    from pymatting.preconditioner.ichol import ichol
    from pymatting.solver.cg import cg

    report(0.0)
    free = unknown.ravel()
    laplacian = cf_laplacian(np.ascontiguousarray(image), is_known=~free)
    report(0.1)
    rows = laplacian[free]
    known = (trimap >= 1).ravel()[~free].astype(np.float64)
    matrix = rows[:, free]
    right = -rows[:, ~free].dot(known)
    preconditioner = ichol(matrix)
    report(0.2)

    def follow(a: object, x: object, b: object, norm_b: float, r: object, norm_r: float) -> None:
        gone = math.log(max(norm_r, 1e-300) / max(norm_b, 1e-300)) / math.log(TOLERANCE)
        report(0.2 + 0.8 * min(1.0, max(0.0, gone)))

    solved = cg(matrix, right, M=preconditioner, rtol=TOLERANCE, callback=follow)
    return np.clip(solved, 0, 1).astype(np.float32)
