"""Following what a region holds from its first picture into another one.

Always the start's own picture, drawn as the present estimate says, is compared with the new one: errors do not add
up. Points by Shi and Tomasi, *Good Features to Track*, CVPR 1994; displacement by the pyramidal method of Lucas and
Kanade (Bouguet 2001), there and back (Kalal et al., *Forward-Backward Error*, ICPR 2010); models by RANSAC and least
squares over the points that agree.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from nexal.kernels.bounds import bounded
from nexal.picture import Plane, Window

Model = Literal["shift", "similarity", "affine", "perspective"]
Points = NDArray[np.float64]
"""N x 2 continuous positions, full-resolution pixels."""
Matrix3 = NDArray[np.float64]

NEEDED: dict[Model, int] = {"shift": 2, "similarity": 3, "affine": 4, "perspective": 6}
"""Points that have to agree before a model is believed."""
MOST_POINTS = 240
AGREES = 1.5
"""Pixels that a point may lie off the model, and off itself there and back."""
ALIKE = 0.75
"""Correlation that what is round a point has to have with what was round it at the start."""
SEARCHED = 2048
"""Longest side of a picture that is searched as a whole."""
CLOSE = 1.0
"""Pixels that an estimate may lie off the guess that the start was drawn by; beyond it is drawn once more."""
PATCH = 13
LOCAL = 35
"""Side, in pixels, of the neighbourhood whose mean and contrast are taken out, so that brightness may change."""


@dataclass(frozen=True)
class Found:
    """Where the region lies: a matrix from the start's positions, how sure (0 to 1), and the points that agree."""

    matrix: Matrix3
    sure: float
    points: Points


def apply(matrix: Matrix3, points: Points) -> Points:
    homogeneous = points @ matrix[:, :2].T + matrix[:, 2]
    return np.asarray(homogeneous[:, :2] / homogeneous[:, 2:])


def levelled(picture: Plane) -> NDArray[np.uint8]:
    """A picture without its own brightness and contrast, as bytes: (v - mean) / deviation of the neighbourhood."""
    clean = np.clip(bounded(picture), -4, 4)
    mean = cv2.blur(clean, (LOCAL, LOCAL))
    square = cv2.blur(clean * clean, (LOCAL, LOCAL))
    deviation = np.sqrt(np.maximum(square - mean * mean, 0))
    floor = max(1e-3, 0.25 * float(np.median(deviation)))
    return np.clip((clean - mean) / (deviation + floor) * 42 + 128, 0, 255).astype(np.uint8)


class Region:
    """What a closed outline holds at its start, ready to be found in other pictures."""

    def __init__(self, picture: Plane, window: Window, outline: Points, model: Model) -> None:
        """`picture` covers `window`, which holds the outline (N x 2, full-resolution positions)."""
        self.model = model
        self.outline = outline
        self._picture = bounded(picture)
        self._origin = np.array([window.x, window.y], np.float64)
        mask = np.zeros(picture.shape, np.uint8)
        cv2.fillPoly(mask, [np.round(outline - self._origin - 0.5).astype(np.int32)], 255)
        found = cv2.goodFeaturesToTrack(
            levelled(picture), MOST_POINTS, 0.01, max(2.0, np.sqrt(mask.sum() / 255 / MOST_POINTS) * 0.7), mask=mask
        )
        corners = np.zeros((0, 2)) if found is None else found[:, 0].astype(np.float64)
        self.points: Points = corners + 0.5 + self._origin
        self._spread = _spread(self.points)

    @property
    def followable(self) -> bool:
        """Whether there is enough in it that can be told apart."""
        return len(self.points) >= 2 * NEEDED[self.model]

    def bounds(self, matrix: Matrix3) -> tuple[Points, Points]:
        placed = apply(matrix, self.outline)
        return placed.min(axis=0), placed.max(axis=0)

    def find(self, picture: Plane, window: Window, guess: Matrix3, rounds: int = 2) -> Found | None:
        """The region in a picture that covers `window`, near to where `guess` puts it; None where nothing agrees."""
        origin = np.array([window.x, window.y], np.float64)
        seen = levelled(picture)
        found = None
        for _ in range(rounds):
            found = self._once(seen, origin, guess)
            if found is None:
                return None
            if np.linalg.norm(apply(found.matrix, self.outline) - apply(guess, self.outline), axis=1).max() < CLOSE:
                break
            guess = found.matrix
        return found

    def _once(self, seen: NDArray[np.uint8], origin: Points, guess: Matrix3) -> Found | None:
        to_window = _shift(-origin) @ guess @ _shift(self._origin)
        # Pixels of arrays count from the centre of the first one.
        centred = _shift(np.array([-0.5, -0.5])) @ to_window @ _shift(np.array([0.5, 0.5]))
        height, width = seen.shape
        drawn = cv2.warpPerspective(
            self._picture, centred, (width, height), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
        )
        template = levelled(drawn)
        before = (apply(guess, self.points) - origin - 0.5).astype(np.float32)
        after, back, good = _there_and_back(template, seen, before)
        good &= np.linalg.norm(back - before, axis=1) < AGREES / 2
        good &= (after > -0.5).all(axis=1) & (after[:, 0] < width - 0.5) & (after[:, 1] < height - 0.5)
        good &= _likeness(template, seen, before, after) > ALIKE
        places = after.astype(np.float64) + 0.5 + origin
        if good.sum() < NEEDED[self.model]:
            return None
        matrix = fitted(self.points[good], places[good], self.model)
        if matrix is None:
            return None
        off = np.linalg.norm(apply(matrix, self.points) - places, axis=1)
        agree = good & (off < AGREES)
        if agree.sum() < NEEDED[self.model]:
            return None
        share = float(agree.mean())
        spread = min(1.0, _spread(self.points[agree]) / self._spread) if self._spread > 0 else 0.0
        return Found(matrix / matrix[2, 2], share * np.sqrt(spread), places[agree])

    def search(self, picture: Plane, window: Window) -> Matrix3 | None:
        """Where the region may be in a whole picture, by its own features (SIFT, Lowe 2004); None if nowhere."""
        make: Any = cv2.SIFT_create  # type: ignore[attr-defined]
        sift = make(2000)
        if not hasattr(self, "_features"):
            mask = np.zeros(self._picture.shape, np.uint8)
            cv2.fillPoly(mask, [np.round(self.outline - self._origin - 0.5).astype(np.int32)], 255)
            self._features = sift.detectAndCompute(levelled(self._picture), mask)
        own, told = self._features
        # Features are the same in a smaller picture: what is searched is bounded, however large the picture is.
        part = min(1.0, SEARCHED / max(picture.shape))
        seen = picture if part == 1 else cv2.resize(picture, None, fx=part, fy=part, interpolation=cv2.INTER_AREA)
        there, descriptors = sift.detectAndCompute(levelled(seen), None)
        if told is None or descriptors is None or len(descriptors) < 2 or len(told) < NEEDED[self.model]:
            return None
        pairs = [pair for pair in cv2.BFMatcher().knnMatch(told, descriptors, k=2) if len(pair) == 2]
        close = [near for near, second in pairs if near.distance < 0.75 * second.distance]
        if len(close) < max(6, NEEDED[self.model]):
            return None
        here = np.array([own[each.queryIdx].pt for each in close]) + 0.5 + self._origin
        places = (np.array([there[each.trainIdx].pt for each in close]) + 0.5) / part + (window.x, window.y)
        return fitted(here, places, self.model, off=4.0 / part)


def fitted(here: Points, there: Points, model: Model, off: float = AGREES) -> Matrix3 | None:
    """The matrix of a model that takes most points from here to there, by least squares over those that agree."""
    matrix = np.eye(3)
    if model == "shift":
        steps = there - here
        middle = np.median(steps, axis=0)
        for _ in range(4):
            agree = np.linalg.norm(steps - middle, axis=1) < off
            if not agree.any():
                return None
            middle = steps[agree].mean(axis=0)
        matrix[:2, 2] = middle
        return matrix
    # Numbers near to 0 keep their digits.
    centre = here.mean(axis=0)
    a, b = (here - centre).astype(np.float64), (there - centre).astype(np.float64)
    if model == "perspective":
        found, _ = cv2.findHomography(a, b, cv2.RANSAC, off, maxIters=1000, confidence=0.999)
        if found is None:
            return None
        matrix = found
    else:
        estimate: Any = cv2.estimateAffinePartial2D if model == "similarity" else cv2.estimateAffine2D
        found, _ = estimate(a, b, method=cv2.RANSAC, ransacReprojThreshold=off, maxIters=1000, confidence=0.999)
        if found is None:
            return None
        matrix[:2] = found
    matrix = _shift(centre) @ matrix @ _shift(-centre)
    return matrix if abs(np.linalg.det(matrix)) > 1e-6 and abs(matrix[2, 2]) > 1e-9 else None


def _there_and_back(
    template: NDArray[np.uint8], seen: NDArray[np.uint8], before: NDArray[np.float32]
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.bool_]]:
    options: dict[str, Any] = {
        "winSize": (21, 21),
        "maxLevel": 4,
        "criteria": (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 30, 0.005),
    }
    after, one, _ = cv2.calcOpticalFlowPyrLK(template, seen, before[:, None], None, **options)
    back, two, _ = cv2.calcOpticalFlowPyrLK(seen, template, after, None, **options)
    return after[:, 0], back[:, 0], (one[:, 0] == 1) & (two[:, 0] == 1)


def _likeness(
    template: NDArray[np.uint8], seen: NDArray[np.uint8], before: NDArray[np.float32], after: NDArray[np.float32]
) -> NDArray[np.float64]:
    """Correlation of what is round each point with what is round it in the other picture."""
    side = np.arange(PATCH, dtype=np.float32) - PATCH // 2
    patches = []
    for picture, points in ((template, before), (seen, after)):
        held = np.clip(bounded(points), -1e4, 3e4)
        across = np.broadcast_to(held[:, 0, None, None] + side[None, None, :], (len(held), PATCH, PATCH))
        down = np.broadcast_to(held[:, 1, None, None] + side[None, :, None], (len(held), PATCH, PATCH))
        maps = [np.ascontiguousarray(part.reshape(-1, PATCH)) for part in (across, down)]
        found = cv2.remap(picture, maps[0], maps[1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        rows = found.reshape(len(held), -1).astype(np.float32)
        patches.append(rows - rows.mean(axis=1, keepdims=True))
    one, two = patches
    scale = np.sqrt((one * one).sum(axis=1) * (two * two).sum(axis=1))
    return np.where(scale > 0, (one * two).sum(axis=1) / np.where(scale > 0, scale, 1), 0)


def _spread(points: Points) -> float:
    """How much of the plane points take up: the root of the area of their scatter."""
    if len(points) < 3:
        return 0.0
    return float(np.sqrt(max(np.linalg.det(np.cov(points.T)), 0)))


def _shift(by: Points) -> Matrix3:
    matrix = np.eye(3)
    matrix[:2, 2] = by
    return matrix
