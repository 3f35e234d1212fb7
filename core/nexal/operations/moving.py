"""What puts the samples of a picture elsewhere, by a matrix: the base class, and `place`."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from nexal.operations.base import Port, Scene, Settings, register, setting
from nexal.operations.mixing import MixingOperation
from nexal.operations.movement import Matrix3, Movement, is_affine, local_scale, moved
from nexal.picture import ALPHA_NAME, Alpha, Description, Plane, Window


def affine(a: float, b: float, c: float, d: float, x: float, y: float) -> Matrix3:
    """The matrix that takes the position (u, v) to (a u + b v + x, c u + d v + y)."""
    return np.array([[a, b, x], [c, d, y], [0, 0, 1]], np.float64)


def inverse(matrix: Matrix3) -> Matrix3:
    """The matrix that turns another one back; for an affine one exact where it can be."""
    if not is_affine(matrix):
        return np.asarray(np.linalg.inv(matrix), np.float64)
    (a, b, x), (c, d, y) = (matrix / matrix[2, 2])[:2]
    determinant = a * d - b * c
    ia, ib, ic, id_ = d / determinant, -b / determinant, -c / determinant, a / determinant
    return affine(ia, ib, ic, id_, -(ia * x + ib * y), -(ic * x + id_ * y))


def stretch(backward: Matrix3, window: Window) -> float:
    """How many times smaller things become at the most in a window, by the matrix that leads back from it; at least 1,
    and under a perspective at most what its kernel takes (it grows without end towards the horizon)."""
    from nexal.kernels.warping import MOST_STRETCH

    area = abs(float(np.linalg.det(backward)))
    if is_affine(backward):
        return max(1.0, math.sqrt(area / abs(backward[2, 2]) ** 3))
    w = float((corners(window) @ backward[2, :2] + backward[2, 2]).min())
    return MOST_STRETCH if w <= 1e-6 else min(MOST_STRETCH, max(1.0, math.sqrt(area / w**3)))


def corners(window: Window) -> Any:
    return np.array([(x, y) for x in (window.x, window.right) for y in (window.y, window.bottom)], np.float64)


class Moving(MixingOperation):
    """An operation that puts the samples of one input elsewhere, by a matrix that it gives (`forward`).

    What falls on whole samples is exact; in between it is found by `kind`.
    """

    mixes = "picture"

    def forward(self, display: Window, settings: Any) -> Matrix3:
        """Matrix that takes a full-resolution position of the input to its place."""
        raise NotImplementedError

    def kind(self, settings: Any) -> str:
        return "linear"

    def overshoots(self, settings: Any) -> bool:
        """Whether a filter may make values beyond those that it makes them of."""
        return False

    def backward(self, display: Window, settings: Any) -> Matrix3:
        return inverse(self.forward(display, settings))

    @staticmethod
    def bounds(window: Window, matrix: Matrix3) -> tuple[float, float, float, float] | None:
        """The rectangle that a window comes to lie in; None where part of it lies beyond a horizon."""
        points = corners(window)
        if (points @ matrix[2, :2] + matrix[2, 2]).min() <= 1e-3:
            return None
        placed = moved(points, matrix)
        (left, top), (right, bottom) = placed.min(axis=0).tolist(), placed.max(axis=0).tolist()
        return left, top, right, bottom

    def affects(self, channel: str, description: Description, settings: Any, scene: Scene) -> bool:
        matrix = self._scaled(description.display, settings, scene)
        turn, step = matrix[:2, :2], matrix[:2, 2]
        whole = is_affine(matrix) and set(np.abs(turn).ravel()) == {0.0, 1.0}
        return self.kind(settings) != "nearest" and not (whole and all(float(part).is_integer() for part in step))

    def reach(self, settings: Any, backward: Matrix3, window: Window) -> float:
        """How far the filter looks round a sample of the window, in samples of the input: the kernel's support times
        how many times smaller things become there."""
        from nexal.kernels.warping import FILTER_SUPPORT

        return FILTER_SUPPORT[self.kind(settings)] * stretch(backward, window)

    def effort(self, settings: Any, scene: Scene) -> float:
        backward = self._scaled(scene.descriptions[self.mixes].display, settings, scene)
        from nexal.kernels.warping import FILTER_SUPPORT, LEAST_STRETCH

        reach = self.reach(settings, backward, scene.region)
        if reach < FILTER_SUPPORT[self.kind(settings)] * LEAST_STRETCH:
            return 8 if backward[0, 1] == backward[1, 0] == 0 and is_affine(backward) else 20
        return 40 + 8 * (2 * reach) ** 2

    def input_region(self, port: str, region: Window, scene: Scene, settings: Any) -> Window:
        given = scene.descriptions[self.mixes]
        backward = self._scaled(given.display, settings, scene)
        found = self.bounds(region, backward)
        if found is None:
            return given.window.scaled(scene.scale)
        left, top, right, bottom = found
        reach = math.ceil(self.reach(settings, backward, region)) + 1
        x0, y0 = math.floor(left) - reach, math.floor(top) - reach
        return Window(x0, y0, math.ceil(right) + reach - x0, math.ceil(bottom) + reach - y0)

    def _scaled(self, display: Window, settings: Any, scene: Scene) -> Matrix3:
        """`backward`, from and to positions at the scene's scale."""
        matrix = self.backward(display, settings).copy()
        matrix[:2, 2] *= float(scene.scale)
        matrix[2, :2] /= float(scene.scale)
        return matrix

    def _sampled(self, plane: Plane, kind: str, settings: Any, scene: Scene) -> Plane:
        from nexal.kernels.warping import resample, resample_projective

        matrix = self._scaled(scene.descriptions[self.mixes].display, settings, scene)
        given = self.input_region(self.mixes, scene.region, scene, settings)
        shape = (scene.region.height, scene.region.width)
        column, row = scene.region.x + 0.5, scene.region.y + 0.5
        free = self.overshoots(settings)
        if is_affine(matrix):
            (a, b, x), (c, d, y) = matrix[:2].tolist()
            start = (a * column + b * row + x - given.x, c * column + d * row + y - given.y)
            return resample(plane, shape, start, (a, b, c, d), kind, free)
        local = affine(1, 0, 0, 1, -given.x, -given.y) @ matrix @ affine(1, 0, 0, 1, column, row)
        return resample_projective(plane, shape, local, kind, free)

    def average(self, plane: Plane, settings: Any, scene: Scene, prepared: None) -> Plane:
        return self._sampled(plane, self.kind(settings), settings, scene)

    def single(self, plane: Plane, settings: Any, scene: Scene) -> Plane:
        return self._sampled(plane, "nearest", settings, scene)


class PlaceSettings(Settings):
    x: float = setting(0.0, "To the right", low=-1000, high=1000, step=0.1, unit="px")
    y: float = setting(0.0, "Downward", low=-1000, high=1000, step=0.1, unit="px")
    scale: float = setting(1.0, "Size", ge=1e-6, le=100, low=0.1, high=4, step=0.01)
    rotate: float = setting(0.0, "Turn, clockwise", low=-180, high=180, step=0.1, unit="°")
    filter: Literal["cubic", "linear", "nearest"] = setting("cubic", "How pixels in between are found")
    overshoot: bool = setting(
        False, "A cubic filter may go beyond the pixels that it is made of: crisper, with dark or bright seams"
    )
    movement: Movement | None = setting(None, "What was followed, that it sticks to", widget="movement")
    steady: bool = setting(False, "Hold the picture still against the movement", beside="movement")


@register
class Place(Moving):
    """Move a picture about its display window: scaled and rotated about the window's middle, then shifted; then as
    the points of a movement's frame `from` move (a matrix M for each frame, interpolated in between).

    picture -> picture; the data window follows, the display window stays. Outside the data window all is 0. With
    `steady` the movement is turned back first, by the inverse of M: what was followed stays where it was at `from`.
    Filters: cubic (Catmull-Rom), linear (tent), nearest; widened where the picture shrinks. Without `overshoot` no
    value of a cubic filter lies beyond the least and the largest of the 4 x 4 samples that it is made of. Whole-pixel
    shifts are exact. Colour moves as premultiplied light, whatever its state. A picture in colour without an alpha gets
    one (straight): it no longer covers all. Depth and positions are averaged over what holds something; ids keep single
    samples.
    """

    name = "place"
    family = "edges"
    needs = "move, scale, rotate, position a picture, stick to what moves, steady, stabilise"
    ports = (Port("picture", "any", "What is moved"),)
    Settings = PlaceSettings

    def at_frame(self, settings: PlaceSettings, frame: int) -> PlaceSettings:
        if settings.movement is None:
            return settings
        return settings.model_copy(update={"movement": settings.movement.single(frame)})

    def gains_alpha(self, description: Description) -> bool:
        return bool(description.colour) and not description.is_plane and not description.has_alpha

    def forward(self, display: Window, settings: PlaceSettings) -> Matrix3:
        turn = math.radians(settings.rotate)
        c, s = settings.scale * math.cos(turn), settings.scale * math.sin(turn)
        if settings.rotate % 90 == 0:
            c, s = float(round(c / settings.scale)) * settings.scale, float(round(s / settings.scale)) * settings.scale
        middle_x, middle_y = display.x + display.width / 2, display.y + display.height / 2
        placed = affine(
            c,
            -s,
            s,
            c,
            middle_x - c * middle_x + s * middle_y + settings.x,
            middle_y - s * middle_x - c * middle_y + settings.y,
        )
        if settings.movement is None:
            return placed
        movement = settings.movement.at(0)
        return placed @ inverse(movement) if settings.steady else movement @ placed

    def kind(self, settings: PlaceSettings) -> str:
        return settings.filter

    def overshoots(self, settings: PlaceSettings) -> bool:
        return settings.overshoot

    def describe(self, inputs: Mapping[str, Description], settings: PlaceSettings) -> Description:
        description = inputs["picture"]
        matrix = self.forward(description.display, settings)
        display = description.display
        # Towards the horizon of a perspective it reaches as far as one likes: as far as another picture beside.
        near = display.grow(max(display.width, display.height))
        if self.bounds(description.window, matrix) is None:
            window = near
        else:
            window = self._softened(description.window, matrix, settings)
            window = window if is_affine(matrix) else window.intersect(near)
        placed = description.changed(window=window)
        if not self.gains_alpha(description):
            return placed
        return placed.changed(
            channels=(*placed.channels, ALPHA_NAME), data=placed.data | {ALPHA_NAME}, alpha=Alpha.STRAIGHT
        )

    def _softened(self, given: Window, matrix: Matrix3, settings: PlaceSettings) -> Window:
        """Where a window comes to lie, with what the filter spreads round it: its support where it shrinks, as many
        times more as it grows."""
        from nexal.kernels.warping import FILTER_SUPPORT

        found = self.bounds(given, matrix)
        assert found is not None
        left, top, right, bottom = found
        grown = max(1.0, float(local_scale(corners(given), matrix).max()))
        soft = 0 if settings.filter == "nearest" else FILTER_SUPPORT[settings.filter] * grown - 0.5
        x, y = math.floor(left - soft + 1e-6), math.floor(top - soft + 1e-6)
        return Window(x, y, math.ceil(right + soft - 1e-6) - x, math.ceil(bottom + soft - 1e-6) - y)
