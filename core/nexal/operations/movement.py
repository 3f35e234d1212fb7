"""Movements: a matrix for each frame, which tells where the points of one frame lie at the others."""

from __future__ import annotations

from bisect import bisect_right
from typing import Annotated, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

Matrix3 = NDArray[np.float64]
"""3 x 3: takes the position (x, y, 1) to (x', y', w'), that is to (x' / w', y' / w')."""

Element = Annotated[float, Field(ge=-1e9, le=1e9)]
MOST_FRAMES = 20_000


class Movement(BaseModel):
    """Where a point p of frame `from` lies at other frames: at M p, homogeneous, in full-resolution pixels."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    start: int = Field(alias="from", description="The frame that the positions are of")
    matrices: dict[int, list[Element]] = Field(
        min_length=1,
        max_length=MOST_FRAMES,
        description="For each frame nine numbers, row by row; frames between are interpolated",
    )
    sure: dict[int, Annotated[float, Field(ge=0, le=1)]] = Field(
        default_factory=dict, max_length=MOST_FRAMES, description="How sure each frame is, where it was followed"
    )

    @model_validator(mode="after")
    def _turns_back(self) -> Self:
        for frame, numbers in self.matrices.items():
            if len(numbers) != 9:
                raise ValueError(f"the matrix at frame {frame} has {len(numbers)} numbers, not nine")
            matrix = np.array(numbers).reshape(3, 3)
            if abs(numbers[8]) < 1e-9 or abs(np.linalg.det(matrix / numbers[8])) < 1e-9:
                raise ValueError(f"the matrix at frame {frame} flattens the picture, and can't be turned back")
        return self

    def at(self, frame: float) -> Matrix3:
        """The matrix at a frame, its last element 1: interpolated element by element, the nearest beyond the ends."""
        frames = sorted(self.matrices)
        index = bisect_right(frames, frame)
        after = self._normalised(frames[min(index, len(frames) - 1)])
        if index in (0, len(frames)):
            return after
        start, end = frames[index - 1], frames[index]
        here = self._normalised(start)
        return here + (after - here) * ((frame - start) / (end - start))

    def single(self, frame: float) -> Movement | None:
        """The movement as it is at a frame, by itself (`at` any); None where nothing moves there."""
        matrix = self.at(frame)
        if np.array_equal(matrix, np.eye(3)):
            return None
        return Movement.model_validate({"from": 0, "matrices": {0: matrix.ravel().tolist()}})

    def _normalised(self, frame: int) -> Matrix3:
        matrix = np.array(self.matrices[frame], np.float64).reshape(3, 3)
        return matrix / matrix[2, 2]


NEAREST_W, LARGEST_SCALE = 1e-6, 100.0
"""What lies beyond the horizon of a perspective has w <= 0: it is kept before it, and nothing grows without end."""


def moved(points: NDArray[np.float64], matrix: Matrix3) -> NDArray[np.float64]:
    """Positions (N x 2) under a matrix."""
    homogeneous = points @ matrix[:, :2].T + matrix[:, 2]
    return homogeneous[:, :2] / np.maximum(homogeneous[:, 2:], NEAREST_W)


def local_scale(points: NDArray[np.float64], matrix: Matrix3) -> NDArray[np.float64]:
    """How many times larger what lies at the positions (N x 2) becomes, 100 at the most: the root of the area that
    the matrix makes of it there, |det M| / w^3."""
    w = np.maximum(points @ matrix[2, :2] + matrix[2, 2], NEAREST_W)
    return np.minimum(np.sqrt(abs(float(np.linalg.det(matrix))) / w**3), LARGEST_SCALE)


def is_affine(matrix: Matrix3) -> bool:
    return bool(np.abs(matrix[2, :2]).max() < 1e-12)
