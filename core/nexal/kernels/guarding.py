"""How well alphas explain a picture, and which of two does it better: so that refining a matte does not harm it.

A pixel is explained by alpha where I = alpha F + (1 - alpha) B within noise and what colours vary; F and B are the
nearest colours that are surely subject or surely not.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.picture import Plane

REACHES = (2, 4, 8, 16, 32)
"""Standard deviations of the averages that carry sure colours into the band, in pixels; the nearest is taken."""
KNOWN = 0.02
"""Share of an average that has to be sure."""
SUBJECT_VARIES, GROUND_VARIES = 0.05, 0.02
"""Standard deviations of the colours about what was carried, as shares of them."""
FOUND_WEIGHT = 4.0
"""How much better what is new has to explain a pixel, in squares of squares, to weigh as much as what was there."""
EXPLAINED, UNEXPLAINED = 3.0, 9.0
"""Sum of the squares over the channels, by their variances, up to which the matte that was there is left, and from
which all may be changed."""


def carried(image: NDArray[np.float32], sure: NDArray[np.bool_]) -> NDArray[np.float32]:
    """The colours (H x W x 3) where it is `sure`, averaged and carried to where it is not; 0 out of reach."""
    weight = sure.astype(np.float32)
    held = image * weight[..., None]
    made = np.zeros_like(image)
    open_ = np.ones(sure.shape, np.bool_)
    for reach in REACHES:
        share = cv2.GaussianBlur(weight, (0, 0), reach)
        near = open_ & (share > KNOWN)
        if near.any():
            made[near] = cv2.GaussianBlur(held, (0, 0), reach)[near] / share[near][:, None]
            open_ &= ~near
        if not open_.any():
            break
    return made


def guarded(
    image: NDArray[np.float32], variance: NDArray[np.float32], trimap: Plane, found: Plane, made: Plane
) -> Plane:
    """The alpha that was `made` in the open band of a trimap, as far as it explains the picture better than the one
    that was `found` there. `image` and `variance` of its noise: H x W x 3, scene-linear; planes H x W.

    With c the cost of an alpha, sum((I - a F - (1 - a) B)^2 / (variance + 0.05^2 F^2 a + 0.02^2 B^2)), averaged over
    neighbours, the new one weighs c_found^2 / (c_found^2 + 4 c_made^2), and nothing where c_found is below 3.
    """
    # What was no number was nothing to hold to.
    found = np.where(np.isfinite(found), found, made)
    subject, ground = carried(image, trimap >= 1), carried(image, trimap <= 0)

    def cost(alpha: Plane) -> Plane:
        a = np.clip(alpha, 0, 1)[..., None]
        rest = image - a * subject - (1 - a) * ground
        vary = variance + (SUBJECT_VARIES * subject) ** 2 * a + (GROUND_VARIES * ground) ** 2 + np.float32(1e-8)
        averaged: Plane = cv2.GaussianBlur((rest * rest / vary).sum(axis=-1), (0, 0), 1.0)
        return averaged

    before, after = np.minimum(cost(found), 1e8), np.minimum(cost(made), 1e8)
    share = np.clip((before - EXPLAINED) / (UNEXPLAINED - EXPLAINED), 0, 1)
    weight = before**2 / (before**2 + FOUND_WEIGHT * after**2 + 1e-12) * share * share * (3 - 2 * share)
    held = np.clip(found, 0, 1)
    open_ = (trimap > 0) & (trimap < 1)
    return np.where(open_, held + weight * (made - held), made).astype(np.float32)
